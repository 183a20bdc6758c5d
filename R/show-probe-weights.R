# How bounds on weighted effects look, and what pictures of bounds share.

effect_band <- "#DCEBEA"

# One line that covers estimates, another that is the null.
no_effect_line <- function() ggplot2::geom_hline(yintercept = 0, colour = "grey30", linewidth = 0.5)

subtitle_of <- function(x) paste(probe_verdict(x), collapse = " ")

weights_table <- function(x, number = column_text) {
  rows <- x$rows
  out <- data.frame(Lambda = format(rows$lambda),
                    estimate = interval_text(rows$estimate_low, rows$estimate_high, number),
                    interval = interval_text(rows$conf_low, rows$conf_high, number))
  names(out) <- c("Lambda", "effect between", paste(level_text(x$facts$level), "interval"))
  if (x$facts$draws == 0) out[1:2] else out
}

weights_title <- function(x) {
  facts <- x$facts
  sprintf("Hidden bias in weights: effect on %s (%s, %s), odds of treatment off by up to lambda%s", facts$outcome,
          facts$estimand, if (estimators[[facts$estimator]]$models) "augmented" else "weighted means",
          if (facts$draws > 0) sprintf("; intervals from %s bootstrap draws", count_text(facts$draws)) else "")
}

weights_yardstick <- function(x) {
  rows <- x$parts$covariates
  if (is.null(rows)) return(NULL)
  data.frame(`Left out` = rows$covariate, `odds change by up to (95% of units)` = number_text(rows$lambda, 2),
             `any unit` = number_text(rows$lambda_most, 2), `effect then` = number_text(rows$estimate),
             check.names = FALSE)
}

#' @export
format.twin_probe_weights <- function(x, ...) {
  rlang::check_dots_empty()
  turns <- c(x$facts$lambda_change, if (x$facts$draws > 0) x$facts$lambda_change_interval)
  table <- thin_rows(weights_table(x))
  table <- with_turns(table, ifelse(turns > 1 & turns <= 1e6, turns, NA), names(table)[-1L], rep("reaches 0", 2L))
  c(wrap_lines(weights_title(x)), table_lines(table, left = 0L),
    yardstick_lines(weights_yardstick(x)), "", wrap_lines(probe_verdict(x)))
}

#' @exportS3Method
probe_verdict.twin_probe_weights <- function(x) { # nolint: object_name_linter.
  facts <- x$facts
  if (isTRUE(facts$lambda_change_interval <= 1)) {
    return("Even without hidden bias the interval holds 0: there is no conclusion to overturn.")
  }
  reach <- function(lambda) if (lambda > 1e6) "no lambda" else paste("lambda", number_text(lambda, 2))
  sprintf(
    paste0("Estimates of 0 come within reach at %s%s: a hidden confounder would have to change the odds of treatment ",
           "by that factor, and predict the outcome almost perfectly.%s"),
    reach(facts$lambda_change),
    if (is.na(facts$lambda_change_interval)) "" else
      sprintf(", intervals that hold 0 at %s", reach(facts$lambda_change_interval)),
    weights_comparison(x)
  )
}

weights_comparison <- function(x) {
  rows <- x$parts$covariates
  if (is.null(rows)) return("")
  sprintf(" Leaving out %s changes them by up to %s for 95%% of the units.", rows$covariate[1L],
          number_text(rows$lambda[1L], 2))
}

#' @export
plot.twin_probe_weights <- function(x, ...) {
  rlang::check_dots_empty()
  marks <- x$parts$covariates
  marks <- if (!is.null(marks)) utils::head(marks[marks$lambda <= max(x$rows$lambda), ], 4L)
  change <- x$facts$lambda_change
  ends <- range(x$rows[c("estimate_low", "estimate_high", "conf_low", "conf_high")], 0, na.rm = TRUE)
  lowest <- ends[1L] - 0.3 * diff(ends)
  ggplot2::ggplot(x$rows, ggplot2::aes(x = .data$lambda)) +
    (if (x$facts$draws > 0) ggplot2::geom_ribbon(ggplot2::aes(ymin = .data$conf_low, ymax = .data$conf_high),
                                                 fill = effect_band)) +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = .data$estimate_low, ymax = .data$estimate_high),
                         fill = twin_colours[["treated"]]) +
    no_effect_line() +
    (if (is.finite(change) && change <= max(x$rows$lambda)) ggplot2::geom_vline(
      xintercept = change, linetype = "22", colour = twin_mark, linewidth = 0.8)) +
    (if (is.finite(change) && change <= max(x$rows$lambda)) ggplot2::annotate(
      "text", x = change, y = Inf, vjust = 1.5, hjust = 1.05, size = 3.6, colour = twin_mark,
      label = sprintf("0 within reach at %s", number_text(change, 2)))) +
    (if (NROW(marks) > 0L) ggplot2::geom_point(data = marks, ggplot2::aes(x = .data$lambda, y = lowest), shape = 23,
                                               size = 3, fill = twin_colours[["control"]])) +
    (if (NROW(marks) > 0L) ggplot2::geom_text(data = marks, ggplot2::aes(
      x = .data$lambda, y = lowest, label = .data$covariate), angle = 90, hjust = -0.15, size = 3.2,
      colour = "grey20", check_overlap = TRUE)) +
    ggplot2::labs(
      x = "lambda: by how much the odds of treatment may be off", y = sprintf("effect on %s", x$facts$outcome),
      title = "How wrong may the weights be?", subtitle = subtitle_of(x),
      caption = paste0("Dark: range of estimates.", if (x$facts$draws > 0) sprintf(
        " Light: %s interval around it.", level_text(x$facts$level)), if (NROW(marks) > 0L)
          " Diamonds: by how much leaving out a covariate changes the odds for 95% of the units.")
    ) +
    twin_look()
}

#' @exportS3Method
table_parts.twin_probe_weights <- function(x, number = column_text) { # nolint: object_name_linter.
  plain_parts(weights_table(x, number), "Lambda", weights_title(x), probe_verdict(x))
}

#' @exportS3Method
further_table.twin_probe_weights <- function(x) { # nolint: object_name_linter. An S3 method.
  list(title = "Without each covariate", table = weights_yardstick(x))
}
