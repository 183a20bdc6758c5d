# Effects by dose.

# The number that leads, and what a little more of the dose does.
dose_sentence <- function(x) {
  table <- generics::tidy(x)
  row <- function(term) table[table$term == term, ]
  slope <- row("average slope")
  interval <- function(row) interval_phrase(x$level, row$conf.low, row$conf.high)
  sprintf(paste("%s, %s changes by %s (%s) on average over the doses that treated units have (%s), and by %s (%s) for",
                "each further unit of %s; estimated by %s."),
          treated_words(x$study), outcome_phrase(x), number_text(row("average")$estimate), interval(row("average")),
          x$estimand, number_text(slope$estimate), interval(slope), x$study$dose$name, did_method(x))
}

# One line per dose: the effect there and the slope there.
dose_table <- function(x, number = column_text) {
  table <- generics::tidy(x)
  effects <- table[table$what == "effect", ]
  slopes <- table[table$what == "slope", ]
  column <- function(rows) ifelse(is.na(rows$conf.low), "-", interval_text(rows$conf.low, rows$conf.high, number))
  out <- data.frame(
    Dose = ifelse(is.na(effects$dose), effects$term, format(effects$dose, digits = 10L, trim = TRUE)),
    Effect = number(effects$estimate), SE = number(effects$std.error), interval = column(effects),
    Slope = number(slopes$estimate), `SE ` = number(slopes$std.error), more = column(slopes), check.names = FALSE
  )
  names(out)[c(4L, 7L)] <- paste(level_text(x$level), c("interval", "interval "))
  if (!is.null(x$bands)) {
    out$band <- ifelse(is.na(effects$band.low), "", interval_text(effects$band.low, effects$band.high, number))
  }
  fit_table(out, c("band", "SE ", "SE"))
}

dose_notes <- function(x) {
  spline <- x$asked$spline
  name <- x$study$dose$name
  at <- and_list(vapply(spline$knots, number_text, ""))
  knots <- if (length(spline$knots) == 0L) " without knots" else
    sprintf(" spline with %s at %s", if (length(spline$knots) == 1L) "a knot" else "knots", at)
  curve <- if (spline$each) "straight between the doses there are" else
    paste0("a ", c("straight line", "quadratic", "cubic")[spline$degree], knots)
  c(sprintf("The curve over %s is %s.", name, curve),
    paste("An effect at a dose is that on units which have it, and needs their trends to be parallel to those of the",
          "untreated. Slopes, and one dose against another, need more: that units of all doses would gain alike from",
          "the same one; else they hold who chose which."),
    if ("before" %in% x$table$term) "\"before\" is the same of the last step before treatment, where nothing should be."
    else "No step before treatment is there to try the same on.")
}

# The curve and its slope, with the doses there are marked below.
dose_plot <- function(x) {
  table <- generics::tidy(x)
  table <- table[!is.na(table$dose), ]
  parts <- c(effect = "effect at this dose", slope = "slope at this dose")
  table$part <- factor(parts[table$what], parts)
  if (is.null(table$band.low)) table[c("band.low", "band.high")] <- NA_real_
  amount <- x$study$dose$amount[dose_units(x$study)]
  marks <- data.frame(dose = unique(stats::quantile(amount, seq(0, 1, length.out = min(length(amount), 200L)))))
  colour <- twin_colours[["treated"]]
  ggplot2::ggplot(table, ggplot2::aes(x = .data$dose, y = .data$estimate)) +
    ggplot2::geom_hline(yintercept = 0, colour = "grey45", linewidth = 0.4) +
    ggplot2::geom_ribbon(data = function(rows) rows[!is.na(rows$band.low), ], ggplot2::aes(
      ymin = .data$band.low, ymax = .data$band.high), fill = "#DCEBEA") +
    ggplot2::geom_line(colour = colour, linewidth = 0.7) +
    ggplot2::geom_linerange(data = function(rows) rows[!is.na(rows$conf.low), ], ggplot2::aes(
      ymin = .data$conf.low, ymax = .data$conf.high), colour = colour, linewidth = 0.9) +
    ggplot2::geom_point(colour = colour, size = 2.6) +
    ggplot2::geom_rug(data = marks, ggplot2::aes(x = .data$dose), inherit.aes = FALSE, sides = "b", alpha = 0.4,
                      colour = "grey25") +
    ggplot2::facet_wrap(~part, ncol = 1L, scales = "free_y") +
    ggplot2::labs(x = x$study$dose$name, y = NULL, title = did_title(x), subtitle = sprintf(
      "Lines: %s interval.%s Ticks below: doses of treated units.", level_text(x$level),
      if (is.null(x$bands)) "" else " Shaded: band that holds all effects at once."
    ), caption = did_caption(x)) +
    twin_look()
}

#' @export
format.twin_dose_decomposition <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(sprintf("The two-way coefficient of %s on %s is %s for each unit of it.", x$panel$dose$name, x$outcome,
                       number_text(x$estimate))),
    "", table_lines(dose_weight_table(x)), "", wrap_lines(decomposition_verdict(x)), wrap_lines(dose_weight_notes(x)))
}

dose_weight_table <- function(x, number = column_text) {
  rows <- x$rows
  data.frame(
    Dose = ifelse(rows$from == rows$to, format(rows$from, trim = TRUE, digits = 6L),
                  paste(format(rows$from, trim = TRUE, digits = 4L), "to", format(rows$to, trim = TRUE, digits = 4L))),
    units = count_text(rows$units), `mean effect` = number(rows$effect), weight = share_text(rows$share, number),
    adds = number(rows$adds), check.names = FALSE
  )
}

# How much of the weight is negative, and how far the coefficient lies from the mean slope.
dose_verdict <- function(x) {
  facts <- generics::glance(x)
  start <- if (facts$negative_share == 0) "None of its weights is negative" else sprintf(
    "%s of its weights (by size) are negative: effects there count against it",
    share_text(facts$negative_share)
  )
  if (is.na(facts$average_slope)) return(paste0(start, "."))
  sprintf("%s. The mean slope over treated units is %s (SE %s): %s.", start, number_text(facts$average_slope),
          number_text(facts$average_slope.error),
          if (facts$trusted) "the coefficient is near it" else "don't take the coefficient for it")
}

dose_weight_notes <- function(x) {
  facts <- generics::glance(x)
  c(x$note, if (x$covariates) "Covariates are left out: the decomposition is of the regression without them.",
    if (abs(facts$remainder) > 1e-8 * abs(x$estimate)) sprintf(
      "What differs before treatment, or has nobody untreated to be compared with, adds %s.",
      number_text(facts$remainder)
    ), "Effects are against units not yet treated; measure_did(estimator = \"dose\") gives them by dose.")
}

#' @export
plot.twin_dose_decomposition <- function(x, ...) {
  rlang::check_dots_empty()
  table <- x$rows
  table$sign <- factor(ifelse(table$weight < 0, "negative", "positive"), c("negative", "positive"))
  table$label <- factor(dose_weight_table(x)$Dose, dose_weight_table(x)$Dose)
  ggplot2::ggplot(table, ggplot2::aes(x = .data$label, y = .data$share, fill = .data$sign)) +
    ggplot2::geom_hline(yintercept = 0, colour = "grey45", linewidth = 0.4) +
    ggplot2::geom_col(width = 0.7, show.legend = FALSE) +
    ggplot2::scale_y_continuous(labels = function(v) paste0(format(100 * v, trim = TRUE), "%")) +
    ggplot2::scale_fill_manual(values = c(negative = twin_mark, positive = twin_colours[["treated"]])) +
    ggplot2::labs(x = x$panel$dose$name, y = "weight of the effects at these doses, of all by size",
                  title = sprintf("What the two-way coefficient of %s weighs", x$panel$dose$name),
                  subtitle = dose_verdict(x)) +
    twin_look()
}

#' @exportS3Method
table_parts.twin_dose_decomposition <- function(x, number = column_text) { # nolint: object_name_linter.
  plain_parts(dose_weight_table(x, number), "Dose", sprintf("The two-way coefficient of %s on %s taken apart",
                                                            x$panel$dose$name, x$outcome),
              paste(c(dose_verdict(x), dose_weight_notes(x)), collapse = " "))
}
