#' @export
format.twin_trends <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(sprintf("Before %s: did %s move in parallel with the units compared with?", treatment_of(x$panel),
                       x$outcome)),
    "", table_lines(trends_table(x), left = 2L), "", wrap_lines(trends_verdict(x)))
}

#' @export
print.twin_trends <- function(x, ...) print_lines(x, format(x, ...))

test_words <- c(joint = "whole path", "common drift" = "drift per period", placebo = "placebo date",
                "last period" = "last period", leads = "untreated leads",
                "cohort slope" = "trend of cohort")

trends_table <- function(x, number = column_text) {
  tests <- x$tests
  out <- data.frame(
    Test = unname(test_words[tests$test]), ` ` = ifelse(is.na(tests$at), "", tests$at),
    Estimate = number(tests$estimate), SE = number(tests$std.error),
    interval = ifelse(is.na(tests$estimate), "-", interval_text(tests$conf.low, tests$conf.high, number)),
    p = p_text(tests$p.value), check.names = FALSE
  )
  names(out)[5L] <- paste(level_text(x$level), "interval")
  out
}

# One verdict, which weighs the single tests against the joint one; then power, what the test rests on, and how.
trends_verdict <- function(x) {
  c(paste(c(joint_verdict(x), other_tests(x), power_sentence(x)), collapse = " "), test_basis(x), trends_method(x))
}

joint_verdict <- function(x) {
  p <- x$tests$p.value[1L]
  if (is.na(p)) return("No joint test: nothing varies that the path before treatment could be measured by.")
  found <- x$tests[1L, ]
  numbers <- sprintf("F(%s, %s) = %s, p %s", few_digits(found$df), few_digits(found$df_below),
                     number_text(found$statistic), p_phrase(p))
  if (p < 1 - x$level) {
    return(sprintf("Verdict: the path before treatment speaks against parallel trends (%s).", numbers))
  }
  sprintf("Verdict: the path before treatment shows no difference (%s), which is no proof of parallel trends.", numbers)
}

# Single tests that say otherwise.
other_tests <- function(x) {
  others <- x$tests[-1L, ]
  failed <- others[!is.na(others$p.value) & others$p.value < 1 - x$level, ]
  joint <- x$tests$p.value[1L]
  if (nrow(failed) == 0L) {
    return(if (!is.na(joint) && joint < 1 - x$level) "No single test does so by itself." else NULL)
  }
  names <- trimws(paste(test_words[failed$test], ifelse(is.na(failed$at), "", failed$at)))
  against <- sprintf("%s of the other %s below %s", count_text(nrow(failed)), plural(nrow(others), "test"),
                     format(1 - x$level, digits = 2))
  if (!is.na(joint) && joint < 1 - x$level) return(sprintf("So do %s (%s).", against, and_list(names)))
  sprintf("%s (%s): about %s in a hundred would be so by chance, each taken alone; look at them in the picture.",
          sub("^(.)", "\\U\\1", against, perl = TRUE), and_list(names), format(100 * (1 - x$level), digits = 2))
}

power_sentence <- function(x) {
  if (is.na(x$power)) return(NULL)
  sprintf(paste("Its power against a drift of %s per period%s is %s; a drift of %s per period would be found with",
                "80%% power."), number_text(abs(x$slope)), if (isTRUE(x$power > 0.5)) "" else
                  ", which it would often miss,", share_text(x$power), number_text(abs(x$detectable)))
}

# Which periods and clusters the joint test rests on, and what stays out.
test_basis <- function(x) {
  tested <- x$path$event[x$path$tested]
  out <- x$path$event[!x$path$tested]
  alone <- x$panel$cohorts$label[x$settings$without]
  name <- attr(x$panel$cluster, "name")
  c(
    if (length(tested) > 0L) sprintf("The path is that of periods %s; it effectively rests on %s.", span_text(tested),
                                     plural(round(x$path$test$clusters), if (name == "single row") "row" else name)),
    if (length(out) > 0L) sprintf("Left out: %s %s, which fewer than half of the treated reach.",
                                  if (length(out) == 1L) "period" else "periods", span_text(out)),
    if (length(alone) == 1L) {
      sprintf("Left out: cohort %s, of a single %s and so without a variance of its own.", alone, name)
    } else if (length(alone) > 1L) {
      sprintf("Left out: cohorts %s, of a single %s each and so without a variance of their own.", and_list(alone),
              name)
    }
  )
}

# -7 to -2 where nothing is left out between, else the numbers.
span_text <- function(values) {
  if (length(values) > 2L && all(diff(values) == 1)) return(sprintf("%d to %d", min(values), max(values)))
  and_list(as.character(values))
}

few_digits <- function(x) formatC(x, digits = if (x < 10) 1 else 0, format = "f", big.mark = ",")

trends_method <- function(x) {
  early <- x$settings$anticipation
  adjusted <- c(none = "nothing adjusted", regression = "adjusted by outcome regression",
                ipw = "adjusted by inverse weighting", augmented = "adjusted by augmented weighting")
  sprintf("Group-time differences against %s, %s%s; measured from the last period before treatment%s.",
          compared_words(x$panel, x$settings$comparison), adjusted[[x$settings$adjustment]], counted_words(x$panel),
          if (early > 0) sprintf(" and %s of anticipation", plural(early, "period")) else "")
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
                  subtitle = paste(c(joint_verdict(x), power_sentence(x)), collapse = " "),
                  caption = sprintf("Cross: the base period. Dashed: a drift of %s per period.",
                                    number_text(x$slope))) +
    twin_look()
}

#' @exportS3Method
table_parts.twin_trends <- function(x, number = column_text) { # nolint: object_name_linter.
  table <- trends_table(x, number)
  names(table)[2L] <- "at"
  plain_parts(table, "Test", sprintf("%s before %s", x$outcome, treatment_of(x$panel)),
              paste(c(trends_verdict(x), caution_sentence(x)), collapse = " "))
}
