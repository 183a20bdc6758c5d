# Treatment over time: the study, its balance and weights, what histories do.

#' @export
format.twin_course <- function(x, ...) {
  rlang::check_dots_empty()
  study <- x$base
  roles <- study$roles
  c(
    wrap_lines(sprintf("Study of treatment over time: what do histories of %s do to %s?", roles$treatment,
                       and_list(roles$outcome))),
    field_lines("Asked for",
                "the mean outcome of everybody after the last period, were all treated by a stated history"),
    field_lines("Units", sprintf("%s (%s), %s of %s; %s", x$roles$unit, count_text(length(x$at$names)),
                                 plural(length(x$at$periods), "period"), x$roles$time, left_text(x))),
    field_lines("Treated", treated_text(x)),
    if (length(x$steps) > 0L) field_lines("Design", question_label(x)),
    if (!is.null(x$weight)) field_lines("Effective", sprintf("%s at the end", plural(round(effective_courses(x)),
                                                                                      "unit"))),
    field_lines("Outcome", outcome_text(study, "sealed until measure_course() opens it")),
    if (length(x$roles$covariates) > 0L) field_lines("Constant", and_list(x$roles$covariates)),
    field_lines("Changing", if (length(x$roles$changing) > 0L) and_list(x$roles$changing) else "nothing"),
    field_lines("Missing", missing_text(study)),
    if (!is.null(roles$weight)) field_lines("Weight", roles$weight),
    if (!is.null(roles$cluster)) field_lines("Cluster", group_text(roles$cluster, study$cluster)),
    if (!is.null(roles$stratum)) field_lines("Stratum", group_text(roles$stratum, study$stratum)),
    wrap_lines(if (!is.null(x$weight)) "Next: assess_balance(), then measure_course()." else if (!is.null(x$score))
      "Next: weigh_units()." else "Next: score_units(), then weigh_units().")
  )
}

#' @export
print.twin_course <- function(x, ...) print_lines(x, format(x, ...))

left_text <- function(x) {
  left <- length(x$at$names) - length(last_rows(x))
  if (left == 0L) "all stay to the end" else sprintf("%s of them %s early", count_text(left),
                                                     if (left == 1L) "leaves" else
    "leave")
}

# Shares treated by period.
treated_text <- function(x) {
  z <- as.double(x$base$z)
  share <- core_sums_by(z, x$at$period, length(x$at$periods)) / tabulate(x$at$period, length(x$at$periods))
  shown <- unique(round(seq(1, length(share), length.out = min(6L, length(share)))))
  sprintf("%s is \"%s\": %s", x$base$roles$treatment, x$base$levels[["treated"]],
          paste(sprintf("%s in %s", share_text(share[shown]), x$at$periods[shown]), collapse = ", "))
}

#' @export
tidy.twin_course <- function(x, ...) { # nolint: object_name_linter. broom-style name.
  rlang::check_dots_empty()
  course_gaps(x)
}

#' @export
as.data.frame.twin_course <- function(x, ...) generics::tidy(x, ...)

#' @export
glance.twin_course <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(treatment = x$base$roles$treatment, design = question_label(x), units = length(x$at$names),
             periods = length(x$at$periods), left_early = length(x$at$names) - length(last_rows(x)),
             effective = effective_courses(x), worst_smd = worst_period_gap(x))
}

#' @export
format.twin_course_balance <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(sprintf("Balance of %s over time: %s", x$study$roles$treatment, x$design)),
    wrap_lines(course_verdict(x), 2L), "", table_lines(course_balance_table(x)), "", wrap_lines(course_balance_note(x)),
    if (!is.null(x$weights)) c("", "Weights by period:", table_lines(course_weight_lines(x))), label_lines(x$labels))
}

#' @export
print.twin_course_balance <- function(x, ...) print_lines(x, format(x, ...))

course_verdict <- function(x) {
  facts <- generics::glance(x)
  sprintf("%s of %s pass; the worst is %s in %s (%s), |SMD| %s. Effective sample at the end: %s of %s.",
          count_text(facts$passing), plural(facts$rows, "row"), facts$worst_covariate, facts$worst_period,
          facts$worst_had,
          number_text(facts$worst_smd), count_text(round(facts$effective)), plural(x$units, "unit"))
}

# One row per covariate: the worst over periods and what was had before, and how many of them pass.
course_balance_table <- function(x, number = column_text) {
  key <- row_name(x$rows$covariate, x$rows$level)
  rows <- lapply(unique(key), function(name) {
    own <- x$rows[key == name, ]
    worst <- function(sample) {
      size <- abs(own$smd[own$sample == sample])
      if (all(is.na(size))) NA_real_ else max(size, na.rm = TRUE)
    }
    last <- own[own$sample == if (x$weighted) "after" else "before", ]
    at <- which.max(abs(last$smd))
    data.frame(name = name, was = worst("before"), now = if (x$weighted) worst("after") else NA_real_,
               where = if (length(at)) sprintf("%s, %s", last$period[at], last$had[at]) else "-",
               passing = sprintf("%d of %d", sum(last$pass, na.rm = TRUE), sum(!is.na(last$pass))))
  })
  rows <- do.call(rbind, rows)
  out <- data.frame(Covariate = rows$name)
  out[[if (x$weighted) "worst |SMD| was" else "worst |SMD|"]] <- number(rows$was)
  if (x$weighted) out$now <- number(rows$now)
  out[["where now"]] <- rows$where
  out$pass <- rows$passing
  out
}

course_balance_note <- function(x) {
  sprintf(paste("Within each period those treated are compared with those not, apart for who was treated in the period",
                "before and who was not%s; SMD divides by the sd of the period. A row passes at most %s. tidy() has",
                "every period."), if (x$weighted) ", before and after the running weights" else "", format(x$limit))
}

course_weight_lines <- function(x) {
  rows <- x$weights
  data.frame(Period = rows$period, Units = count_text(rows$units), Mean = number_text(rows$mean),
             `1%` = number_text(rows$q01), Median = number_text(rows$median), `99%` = number_text(rows$q99),
             Greatest = number_text(rows$greatest), Effective = count_text(round(rows$effective)), check.names = FALSE)
}

#' @exportS3Method
table_parts.twin_course_balance <- function(x, number = column_text) { # nolint: object_name_linter. An S3 method.
  plain_parts(course_balance_table(x, number), "Covariate", sprintf("Balance over time: %s", x$design),
              paste(course_verdict(x), course_balance_note(x)))
}

#' @export
plot.twin_course_balance <- function(x, view = c("differences", "weights"), ...) {
  rlang::check_dots_empty()
  view <- check_choice(view, c("differences", "weights"))
  if (view == "weights") return(plot_course_weights(x))
  rows <- x$rows[!is.na(x$rows$smd), ]
  rows$period <- factor(rows$period, x$periods)
  rows$sample <- factor(rows$sample, c("before", "after"))
  rows$key <- row_name(rows$covariate, rows$level)
  rows$had <- factor(rows$had, c("first period", "not treated before", "treated before"))
  ggplot2::ggplot(rows, ggplot2::aes(x = abs(.data$smd), y = .data$key)) +
    ggplot2::annotate("rect", xmin = 0, xmax = x$limit, ymin = -Inf, ymax = Inf, fill = "#DCEBEA") +
    ggplot2::geom_vline(xintercept = x$limit, colour = twin_colours[["treated"]], linewidth = 0.4) +
    ggplot2::geom_point(ggplot2::aes(fill = .data$sample), shape = 21, size = 2.4, stroke = 0.8,
                        colour = twin_colours[["treated"]]) +
    ggplot2::scale_fill_manual(values = c(before = "white", after = twin_colours[["treated"]]), name = NULL) +
    ggplot2::facet_grid(had ~ period, switch = "y", scales = "free_y", space = "free_y",
                        labeller = ggplot2::label_wrap_gen(14L)) +
    ggplot2::labs(x = "absolute standardized mean difference", y = NULL,
                  title = sprintf("Balance of %s, period by period",
                                                                                        x$study$roles$treatment),
                  subtitle = course_verdict(x)) +
    twin_look() + ggplot2::theme(strip.placement = "outside")
}

# How the running weights spread over time.
plot_course_weights <- function(x) {
  if (is.null(x$weights)) abort_input("There are no weights to draw.", call = rlang::caller_env())
  rows <- x$weights
  rows$period <- factor(rows$period, x$periods)
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$period)) +
    ggplot2::geom_hline(yintercept = 1, colour = "grey45", linewidth = 0.4) +
    ggplot2::geom_linerange(ggplot2::aes(ymin = .data$q01, ymax = .data$q99), colour = twin_colours[["treated"]],
                            linewidth = 0.7) +
    ggplot2::geom_linerange(ggplot2::aes(ymin = .data$q25, ymax = .data$q75), colour = twin_colours[["treated"]],
                            linewidth = 4, alpha = 0.5) +
    ggplot2::geom_point(ggplot2::aes(y = .data$median), size = 2.6, colour = twin_colours[["treated"]]) +
    ggplot2::geom_point(ggplot2::aes(y = .data$greatest), shape = 4, colour = twin_mark) +
    ggplot2::scale_y_continuous(trans = "log2") +
    ggplot2::labs(x = x$roles$time, y = "running weight (log scale)", title = "Weights over time",
                  subtitle = sprintf("Point: median; bar: middle half; line: 1%% to 99%%; cross: greatest. %s",
                                     mean_weight_sentence(rows))) +
    twin_look()
}

mean_weight_sentence <- function(rows) {
  sprintf("Their means, near 1 where scores are right, run from %s to %s.", number_text(min(rows$mean)),
          number_text(max(rows$mean)))
}

#' @export
format.twin_course_effect <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(course_sentence(x)), "", table_lines(course_table(x)), "", "Mean under each history:",
    table_lines(course_means(x)), "", "Beside it, other ways to say the first difference:",
    table_lines(course_beside(x)), "", wrap_lines(ordinary_sentence(x)), wrap_lines(course_method(x)),
    wrap_lines(seal_sentence(summary(logbook(x)))))
}

#' @export
print.twin_course_effect <- function(x, ...) print_lines(x, format(x, ...))

course_sentence <- function(x) {
  row <- x$effects[1L, ]
  sprintf("With %s %s (%s) rather than %s (%s), %s changes by %s (%s), for everybody; estimated by %s.",
          x$study$roles$treatment, row$history, history_text(x, row$history), row$against, history_text(x, row$against),
          outcome_phrase(x), number_text(row$estimate), interval_phrase(x$level, row$conf.low, row$conf.high),
          course_words(x))
}

history_text <- function(x, name) paste(x$histories[name, ], collapse = "-")

course_words <- function(x) paste(course_estimators[[x$estimator]]$words(x$form), x$design)

course_table <- function(x, number = column_text) {
  rows <- x$effects
  out <- data.frame(History = rows$history, against = rows$against, Difference = number(rows$estimate),
                    SE = number(rows$std.error), interval = interval_text(rows$conf.low, rows$conf.high, number),
                    p = p_text(rows$p.value))
  names(out)[5L] <- paste(level_text(x$level), "interval")
  out
}

course_means <- function(x, number = column_text) {
  rows <- x$means
  out <- data.frame(History = rows$history, Mean = number(rows$estimate), SE = number(rows$std.error),
                    interval = interval_text(rows$conf.low, rows$conf.high, number),
                    followed = count_text(rows$followed))
  names(out)[4L] <- paste(level_text(x$level), "interval")
  out
}

course_beside <- function(x, number = column_text) {
  rows <- x$ways
  out <- data.frame(By = c("this estimator", rows$by[-1L]), Difference = number(rows$estimate),
                    SE = number(rows$std.error), interval = interval_text(rows$conf.low, rows$conf.high, number))
  names(out)[4L] <- paste(level_text(x$level), "interval")
  out
}

ordinary_sentence <- function(x) {
  paste("Raw leaves what decided on treatment as it is. Ordinary adjustment holds changing confounders fixed, and with",
        "them what earlier treatment did through them.")
}

course_method <- function(x) {
  missing <- x$counts[["missing"]]
  paste0(sprintf("Standard errors: %s. Worst imbalance left: |SMD| %s. %s with the outcome", x$inference,
                 number_text(x$worst), plural(x$counts[["known"]], "unit")),
         if (missing > 0L) sprintf("; %s left before or %s none", count_text(missing), if (missing == 1L) "has" else
           "have") else "", ".")
}

#' @exportS3Method
table_parts.twin_course_effect <- function(x, number = column_text) { # nolint: object_name_linter. An S3 method.
  own <- course_table(x, number)
  ways <- data.frame(History = paste(own$History[1L], "-", x$ways$by[-1L]), against = own$against[1L],
                       course_beside(x, number)[-1L, 2:4], p = p_text(x$ways$p.value[-1L]), check.names = FALSE)
  names(ways) <- names(own)
  plain_parts(rbind(own, ways), "History", sprintf("Effect of histories of %s on %s", x$study$roles$treatment,
                                                     outcome_phrase(x)),
              paste(course_sentence(x), ordinary_sentence(x), course_method(x)))
}

# The first difference by every way.
#' @export
plot.twin_course_effect <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$ways
  rows$by <- factor(c(paste0("this estimator (", x$estimator, ")"), rows$by[-1L]),
                    rev(c(paste0("this estimator (", x$estimator, ")"), rows$by[-1L])))
  rows$own <- seq_len(nrow(rows)) == 1L
  rows$text <- sprintf("%s (%s)", number_text(rows$estimate), interval_text(rows$conf.low, rows$conf.high))
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$estimate, y = .data$by, colour = .data$own)) +
    ggplot2::geom_vline(xintercept = 0, colour = "grey45", linewidth = 0.4) +
    ggplot2::geom_errorbarh(ggplot2::aes(xmin = .data$conf.low, xmax = .data$conf.high), height = 0, linewidth = 1) +
    ggplot2::geom_point(size = 3.6) +
    ggplot2::geom_text(ggplot2::aes(label = .data$text), vjust = -1.1, size = 3.8, colour = "grey15") +
    ggplot2::scale_colour_manual(values = c(`TRUE` = twin_colours[["treated"]], `FALSE` = "grey55"), guide = "none") +
    ggplot2::labs(x = sprintf("difference in %s, %s against %s", outcome_phrase(x), x$effects$history[1L],
                              x$effects$against[1L]), y = NULL,
                  title = sprintf("What histories of %s do to %s", x$study$roles$treatment, outcome_phrase(x)),
                  subtitle = paste(course_sentence(x), ordinary_sentence(x))) +
    twin_look()
}
