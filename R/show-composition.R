# Whether who is met changes with treatment.

#' @export
format.twin_composition <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(composition_question(x)), "", table_lines(composition_table(x)), "", wrap_lines(composition_verdict(x)),
    wrap_lines(composition_note(x)))
}

#' @export
print.twin_composition <- function(x, ...) print_lines(x, format(x, ...))

composition_question <- function(x) {
  if (x$panel$repeats) {
    return(sprintf("Does %s move the covariates that vary over time?", treatment_of(x$panel)))
  }
  sprintf("Does %s change who is met?", treatment_of(x$panel))
}

composition_table <- function(x, number = column_text) {
  rows <- x$rows
  out <- data.frame(Covariate = rows$term, before = number(rows$before), Change = number(rows$estimate),
                    SE = number(rows$std.error), interval = interval_text(rows$conf.low, rows$conf.high, number),
                    `in SD` = number(rows$standardised), p = p_text(rows$p.value), check.names = FALSE)
  names(out)[5L] <- paste(level_text(x$level), "interval")
  fit_table(out, c("before", "SE"))
}

composition_verdict <- function(x) {
  joint <- x$joint
  if (is.na(joint$p.value)) {
    return("No joint test: there are too few clusters for so many covariates, or nothing varies.")
  }
  numbers <- sprintf("F(%s, %s) = %s, p %s", few_digits(joint$df), few_digits(joint$df_below),
                     number_text(joint$statistic), p_phrase(joint$p.value))
  if (joint$p.value >= 1 - x$level) {
    return(sprintf("Verdict: no change is found (%s), which is no proof that there is none.", numbers))
  }
  advice <- if (x$panel$repeats)
    "leave out those that treatment moves: adjusting for them takes away part of its effect" else
      "effects mix the change of who is there; adjust for covariates, and look at what moved most"
  sprintf("Verdict: %s (%s): %s.", if (x$panel$repeats) "covariates move with treatment" else
    "who is met changes with treatment", numbers, advice)
}

composition_note <- function(x) {
  sprintf("Changes among the treated since before treatment, less those of %s, averaged over cohorts and periods.",
          compared_words(x$panel, x$settings$comparison))
}

#' @export
plot.twin_composition <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows
  scale <- rows$estimate / rows$standardised
  table <- data.frame(label = rows$term, estimate = rows$standardised, conf.low = rows$conf.low / scale,
                      conf.high = rows$conf.high / scale)
  forest_plot(table, "difference") +
    ggplot2::labs(x = sprintf("change in standard deviations, %s interval", level_text(x$level)), y = NULL,
                  title = composition_question(x), subtitle = composition_verdict(x), caption = composition_note(x))
}

#' @exportS3Method
table_parts.twin_composition <- function(x, number = column_text) { # nolint: object_name_linter. An S3 method.
  plain_parts(composition_table(x, number), "Covariate", sub("[?]$", "", composition_question(x)),
              paste(composition_verdict(x), composition_note(x)))
}
