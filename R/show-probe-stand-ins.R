# How a synthetic comparison without each of its units looks.

stand_ins_table <- function(x, number = column_text) {
  rows <- x$rows
  data.frame(`Without` = rows$unit, weight = share_text(rows$weight, number), Effect = number(rows$estimate),
             change = number(rows$change), `gap before` = number(rows$gap_before), check.names = FALSE)
}

stand_ins_title <- function(x) {
  sprintf("Effect of %s on %s without each unit that stands in for the treated (with all of them %s)",
          x$facts$treatment, x$facts$outcome, number_text(x$facts$effect))
}

#' @export
format.twin_probe_stand_ins <- function(x, ...) {
  rlang::check_dots_empty()
  shown <- x
  shown$rows <- utils::head(x$rows, 12L)
  more <- nrow(x$rows) - nrow(shown$rows)
  c(wrap_lines(stand_ins_title(x)), "", table_lines(stand_ins_table(shown)),
    if (more > 0L) wrap_lines(sprintf("%s more in tidy().", plural(more, "unit"))), "", wrap_lines(probe_verdict(x)))
}

#' @exportS3Method
probe_verdict.twin_probe_stand_ins <- function(x) { # nolint: object_name_linter.
  rows <- x$rows
  worst <- rows[which.max(abs(rows$change)), ]
  turned <- sum(sign(rows$estimate) != sign(x$facts$effect))
  sprintf("%s it lies between %s and %s, and moves most without %s (by %s)%s.",
          if (nrow(rows) == 1L) "Without the one unit that weighs so much" else
            sprintf("Without any one of %s", plural(nrow(rows), "unit")),
          number_text(min(rows$estimate)), number_text(max(rows$estimate)), worst$unit, number_text(worst$change),
          if (turned == 0L) "; its sign stays" else sprintf("; without %s of them its sign turns", count_text(turned)))
}

#' @export
plot.twin_probe_stand_ins <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- utils::head(x$rows, 30L)
  rows$unit <- factor(rows$unit, levels = rev(unique(rows$unit)))
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$estimate, y = .data$unit)) +
    ggplot2::geom_vline(xintercept = 0, colour = "grey30", linewidth = 0.5) +
    ggplot2::geom_vline(xintercept = x$facts$effect, colour = twin_mark, linetype = "22", linewidth = 0.8) +
    ggplot2::geom_segment(ggplot2::aes(xend = x$facts$effect, yend = .data$unit), colour = "#9A6A12", linewidth = 0.7) +
    ggplot2::geom_point(ggplot2::aes(size = .data$weight), colour = "#9A6A12") +
    ggplot2::scale_size_area(max_size = 6, labels = share_axis, name = "weight") +
    ggplot2::labs(x = sprintf("effect on %s", x$facts$outcome), y = "left out",
                  title = "Without each unit that stands in for the treated", subtitle = subtitle_of(x),
                  caption = sprintf("Dashed: with all of them, %s. The others are weighed anew each time.",
                                    number_text(x$facts$effect))) +
    twin_look()
}

#' @exportS3Method
table_parts.twin_probe_stand_ins <- function(x, number = column_text) { # nolint: object_name_linter.
  plain_parts(stand_ins_table(x, number), "Without", stand_ins_title(x), probe_verdict(x))
}
