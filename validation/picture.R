# The picture of validation/results/coverage.csv.
table <- data.table::fread("validation/results/coverage.csv", data.table = FALSE)
table$method <- paste(table$design, table$estimator, sep = ", ")
table$method <- factor(table$method, rev(unique(table$method)))
table$scenario <- factor(table$scenario, unique(table$scenario))
picture <- ggplot2::ggplot(table, ggplot2::aes(x = pmax(coverage, 0.5), y = method, shape = estimand, colour = promise)) +
  ggplot2::annotate("rect", xmin = 0.93, xmax = 0.97, ymin = -Inf, ymax = Inf, fill = "#0B5F66", alpha = 0.12) +
  ggplot2::geom_vline(xintercept = 0.95, colour = "grey50", linewidth = 0.3) +
  ggplot2::geom_point(size = 1.9, position = ggplot2::position_dodge(width = 0.6)) +
  ggplot2::facet_wrap(~scenario, nrow = 1L) +
  ggplot2::scale_colour_manual(
    values = c(yes = "#0B5F66", nearly = "#6FA8A8", overlap = "grey55", no = "#E3A02B"), name = "assumptions",
    breaks = c("yes", "nearly", "overlap", "no"),
    labels = c(yes = "hold", nearly = "nearly (matches, strata)", overlap = "overlap is poor", no = "fail")
  ) +
  ggplot2::scale_x_continuous(breaks = c(0.5, 0.75, 0.95), labels = c("50%-", "75%", "95%")) +
  ggplot2::labs(x = "share of intervals that hold the truth", y = NULL, shape = NULL,
                title = sprintf("Coverage of 95%% intervals, %d draws", max(table$draws)),
                subtitle = "Shaded: 93 to 97%. At the left end: 50% or less.") +
  ggplot2::theme_minimal(base_size = 10) +
  ggplot2::theme(legend.position = "top", legend.justification = "left", plot.title.position = "plot",
                 panel.grid.minor = ggplot2::element_blank(), plot.background = ggplot2::element_rect(fill = "white", colour = NA))
ggplot2::ggsave("validation/results/coverage.png", picture, device = ragg::agg_png, width = 1280, height = 800,
                units = "px", dpi = 108)
