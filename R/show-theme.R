# One look: deep teal for treated, amber for control, told apart in grey too; before hollow, after filled.
twin_colours <- c(treated = "#0B5F66", control = "#E3A02B")
# Before treatment hollow and ochre, under it filled and teal.
stage_colours <- c(before = "#9A6A12", "under treatment" = twin_colours[["treated"]])
stage_fills <- c(before = "white", "under treatment" = twin_colours[["treated"]])
twin_mark <- "#A8521C"  # truths and points of change
# Arms beyond two.
several_shades <- c(twin_colours[["treated"]], twin_colours[["control"]], "grey55", "#7FB2B0", "black", twin_mark)

#' The theme of our pictures
#'
#' White ground, light lines, legend above, text that wraps where the picture ends: titles, subtitles and captions are
#' measured when they are drawn, so that they fit whatever the size. Add it to pictures of your own to make them match.
#'
#' @param size Size of the text in points; 12 by default, about 9 for a column of a paper.
#' @return A ggplot2 theme.
#' @family out
#' @examples
#' library(ggplot2)
#' ggplot(crews, aes(boat_length, past_income)) +
#'   geom_point(colour = "#0B5F66", alpha = 0.3) +
#'   labs(title = "Longer boats earned more") +
#'   theme_twin(9)
#' @export
theme_twin <- function(size = 12) {
  check_number(size, min = 4, max = 40)
  ggplot2::theme_minimal(base_size = size) +
    ggplot2::theme(
      plot.background = ggplot2::element_rect(fill = "white", colour = NA),
      panel.grid.minor = ggplot2::element_blank(),
      panel.grid.major = ggplot2::element_line(colour = "grey90", linewidth = 0.3),
      plot.title = wrapping_text(face = "bold", size = ggplot2::rel(1.15)),
      plot.title.position = "plot",
      plot.subtitle = wrapping_text(colour = "grey30"),
      plot.caption = wrapping_text(colour = "grey30", hjust = 0),
      plot.caption.position = "plot",
      plot.margin = ggplot2::margin(6, 14, 6, 6),
      axis.title.x = wrapping_text(room = 0.6),
      axis.title.y = wrapping_text(room = 0.5, angle = 90),
      axis.text = ggplot2::element_text(colour = "grey20"),
      panel.spacing.x = ggplot2::unit(6, "mm"),
      strip.text = ggplot2::element_text(face = "bold", hjust = 0),
      legend.position = "top", legend.justification = "right",  # what is too wide goes over the axis
      legend.box = "vertical", legend.box.just = "right", legend.spacing.y = ggplot2::unit(0, "mm"),
      legend.margin = ggplot2::margin(1, 0, 1, 0)
    )
}

# What our pictures have: the theme, and names on axes that give way to one another.
twin_look <- function() list(theme_twin(), ggplot2::guides(x = ggplot2::guide_axis(check.overlap = TRUE)))

# Text that is broken where the room ends. ggplot2 4 has elements of another kind; its text stays as it is there.
# room: the share of the picture that is surely there, for titles of axes, which have the width of the panels.
wrapping_text <- function(..., room = 1) {
  element <- ggplot2::element_text(...)
  if (!is.list(element)) return(element)
  element$room <- room
  class(element) <- c("twin_wrapping", class(element))
  element
}

#' @exportS3Method ggplot2::element_grob
element_grob.twin_wrapping <- function(element, label = "", x = NULL, y = NULL, hjust = NULL, colour = NULL, # nolint
                                       size = NULL, margin = NULL, ...) {
  if (is.language(label)) return(NextMethod())  # formulas are drawn, not wrapped
  if (is.null(label) || length(label) != 1L || !nzchar(label)) return(ggplot2::zeroGrob())
  pick <- function(given, own) if (is.null(given)) own else given
  gp <- grid::gpar(fontsize = pick(size, element$size), col = pick(colour, element$colour),
                   fontfamily = element$family, fontface = element$face, lineheight = element$lineheight)
  grid::gTree(label = as.character(label), gp = gp, upright = identical(element$angle, 90),
              room = if (is.null(element$room)) 1 else element$room, hjust = pick(hjust, element$hjust),
              margin = pick(margin, element$margin), cl = "twin_wrapped")
}

# The label on as many lines as its width in inches asks for; words are measured in the grob's own font.
fitted_label <- function(x, width) {
  measured <- function(text) text_width(text, x$gp)
  lines <- unlist(lapply(strsplit(x$label, "\n", fixed = TRUE)[[1L]], function(line) {
    if (measured(line) <= width) return(line)
    out <- character()
    for (word in strsplit(line, " ", fixed = TRUE)[[1L]]) {
      longer <- paste(c(out[length(out)], word), collapse = " ")
      if (length(out) > 0L && measured(longer) <= width) out[length(out)] <- longer else out <- c(out, word)
    }
    out
  }))
  paste(lines, collapse = "\n")
}

side_inches <- function(x, sides) {
  sum(vapply(sides, function(side) grid::convertUnit(x$margin[side], "in", valueOnly = TRUE), 0))
}

# Titles of axes may be longer than their panels: they then reach to the left, below the names of an axis.
room_of <- function(x) {
  if (x$room == 1) return(grid::convertWidth(grid::unit(1, "npc"), "in", TRUE))
  x$room * grDevices::dev.size("in")[1L + x$upright] - 0.2
}

# How much all lines need across, with the margins beside them.
depth_of <- function(x, sides) {
  text <- grid::textGrob(fitted_label(x, room_of(x) - if (x$room == 1) 0.2 else 0), gp = x$gp)
  below <- 0.25 * x$gp$fontsize / 72
  grid::unit(grid::convertHeight(grid::grobHeight(text), "in", TRUE) + below + side_inches(x, sides), "in")
}

#' @exportS3Method grid::heightDetails
heightDetails.twin_wrapped <- function(x) { # nolint: object_name_linter. An S3 method.
  if (x$upright) grid::unit(0, "in") else depth_of(x, c(1L, 3L))
}

#' @exportS3Method grid::widthDetails
widthDetails.twin_wrapped <- function(x) { # nolint: object_name_linter. An S3 method.
  if (x$upright) depth_of(x, c(2L, 4L)) else grid::unit(0, "in")
}

#' @exportS3Method grid::makeContent
makeContent.twin_wrapped <- function(x) { # nolint: object_name_linter. An S3 method.
  side <- if (x$upright) grid::convertHeight(grid::unit(1, "npc"), "in", TRUE) else
    grid::convertWidth(grid::unit(1, "npc"), "in", TRUE)
  label <- fitted_label(x, if (x$upright) room_of(x) else max(side, room_of(x)))
  if (x$upright) x$gp$fontsize <- x$gp$fontsize * max(0.5, min(1, side / text_width(label, x$gp)))
  along <- if (text_width(label, x$gp) <= side) x$hjust else 1
  across <- grid::unit(1, "npc") - grid::unit(side_inches(x, if (x$upright) 2L else 1L), "in")
  text <- if (x$upright) {
    grid::textGrob(label, x = across - grid::unit(0.25 * x$gp$fontsize / 72, "in"), y = along, hjust = along, vjust = 0,
                   rot = 90, gp = x$gp)
  } else {
    grid::textGrob(label, x = along, y = across, hjust = along, vjust = 1, gp = x$gp)
  }
  grid::setChildren(x, grid::gList(text))
}

text_width <- function(text, gp) grid::convertWidth(grid::grobWidth(grid::textGrob(text, gp = gp)), "in", TRUE)

# A name on lines of at most so many letters.
wrapped_name <- function(text, width = 28L) {
  vapply(text, function(one) paste(strwrap(one, width), collapse = "\n"), "", USE.NAMES = FALSE)
}

# Names of rows, the smaller the more lines stand below one another.
row_names_size <- function(names, panels = 1L) {
  lines <- sum(lengths(strsplit(unique(as.character(names)), "\n", fixed = TRUE))) * ceiling(sqrt(panels))
  ggplot2::element_text(size = max(4, min(11, 140 / lines)))
}
