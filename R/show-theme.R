# One look: deep teal for treated, amber for control, told apart in grey too; before hollow, after filled.
twin_colours <- c(treated = "#0B5F66", control = "#E3A02B")
# Before treatment hollow and ochre, under it filled and teal.
stage_colours <- c(before = "#9A6A12", "under treatment" = twin_colours[["treated"]])
stage_fills <- c(before = "white", "under treatment" = twin_colours[["treated"]])
twin_mark <- "#A8521C"  # truths and points of change

theme_twin <- function() {
  ggplot2::theme_minimal(base_size = 12) +
    ggplot2::theme(
      plot.background = ggplot2::element_rect(fill = "white", colour = NA),
      panel.grid.minor = ggplot2::element_blank(),
      panel.grid.major = ggplot2::element_line(colour = "grey90", linewidth = 0.3),
      plot.title = ggplot2::element_text(face = "bold", size = 14),
      plot.title.position = "plot",
      plot.subtitle = ggplot2::element_text(colour = "grey35"),
      plot.caption = ggplot2::element_text(colour = "grey35", hjust = 0),
      plot.caption.position = "plot",
      axis.text = ggplot2::element_text(colour = "grey20"),
      panel.spacing.x = ggplot2::unit(6, "mm"),
      strip.text = ggplot2::element_text(face = "bold", hjust = 0),
      legend.position = "top", legend.justification = "left"
    )
}

# As wide as a picture of 1280 pixels.
wrapped_lines <- function(text, width = 100) paste(strwrap(text, width), collapse = "\n")
