#' @export
format.twin_trends <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(sprintf("Before %s: did %s move in parallel with the units compared with?", treatment_of(x$panel),
                       x$outcome)),
    "", table_lines(trends_table(x), left = 2L), "", wrap_lines(trends_verdict(x)))
}

#' @export
print.twin_trends <- function(x, ...) print_lines(x, format(x, ...))

test_words <- c(joint = "all periods before", placebo = "placebo date", "last period" = "last period before",
                "cohort slope" = "trend of cohort", "all slopes" = "all cohorts' trends")

trends_table <- function(x, number = number_text) {
  tests <- x$tests
  out <- data.frame(
    Test = unname(test_words[tests$test]), ` ` = ifelse(is.na(tests$at), "", tests$at),
    Estimate = number(tests$estimate), SE = number(tests$std.error),
    interval = ifelse(is.na(tests$estimate), "-", interval_text(tests$conf.low, tests$conf.high)),
    p = p_text(tests$p.value), check.names = FALSE
  )
  names(out)[5L] <- paste(level_text(x$level), "interval")
  out
}

trends_verdict <- function(x) {
  p <- x$tests$p.value[1L]
  found <- sprintf(if (p < 1 - x$level) "The joint test speaks against parallel trends (p %s)." else
    "The joint test finds no difference (p %s), which is no proof of parallel trends.", p_phrase(p))
  power <- if (!is.na(x$power)) {
    sprintf(paste("Its power against a drift of %s per period%s is %s; a drift of %s per period would be found with",
                  "80%% power."), number_text(abs(x$slope)), if (isTRUE(x$power > 0.5)) "" else
                    ", which it would often miss,", share_text(x$power), number_text(abs(x$detectable)))
  }
  early <- x$settings$anticipation
  adjusted <- c(none = "nothing adjusted", regression = "adjusted by outcome regression",
                ipw = "adjusted by inverse weighting", augmented = "adjusted by augmented weighting")
  c(paste(found, power),
    sprintf("Group-time differences against units %s treated, %s; measured from the last period before treatment%s.",
            comparison_words[[x$settings$comparison]], adjusted[[x$settings$adjustment]],
            if (early > 0) sprintf(" and %s of anticipation", plural(early, "period")) else ""))
}

#' @export
plot.twin_trends <- function(x, ...) {
  rlang::check_dots_empty()
  table <- generics::tidy(x, part = "path")
  base <- -1 - x$settings$anticipation
  drift <- data.frame(event_time = c(table$event_time, base), mean = x$slope * c(x$path$away, 0))
  ggplot2::ggplot(table, ggplot2::aes(x = .data$event_time, y = .data$estimate)) +
    ggplot2::geom_hline(yintercept = 0, colour = "grey45", linewidth = 0.4) +
    ggplot2::geom_line(data = drift, ggplot2::aes(y = .data$mean), colour = twin_mark, linetype = "22",
                       linewidth = 0.8) +
    ggplot2::geom_linerange(ggplot2::aes(ymin = .data$conf.low, ymax = .data$conf.high), linewidth = 1,
                            colour = "#9A6A12") +
    ggplot2::geom_point(shape = 21, size = 3, stroke = 1, fill = "white", colour = "#9A6A12") +
    ggplot2::annotate("point", x = base, y = 0, shape = 4, size = 3.5, stroke = 1.2, colour = "grey25") +
    ggplot2::scale_x_continuous(breaks = function(limits) unique(round(pretty(limits, 10)))) +
    ggplot2::labs(x = sprintf("periods since treatment (%s)", x$panel$roles$time), y = "difference to the base period",
                  title = sprintf("%s before %s", x$outcome, treatment_of(x$panel)),
                  subtitle = wrapped_lines(trends_verdict(x)[1L]),
                  caption = sprintf("Cross: the base period. Dashed: a drift of %s per period.",
                                    number_text(x$slope))) +
    theme_twin()
}

#' @exportS3Method
table_parts.twin_trends <- function(x, number = number_text) { # nolint: object_name_linter.
  table <- trends_table(x, number)
  names(table)[2L] <- "at"
  plain_parts(table, "Test", sprintf("%s before %s", x$outcome, treatment_of(x$panel)),
              paste(trends_verdict(x), collapse = " "))
}
