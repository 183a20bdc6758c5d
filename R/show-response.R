# Doses: the study, its balance, the effect along the dose.

#' @export
format.twin_dose <- function(x, ...) {
  rlang::check_dots_empty()
  study <- x$base
  roles <- study$roles
  c(
    wrap_lines(sprintf("Study of a dose: what does %s do to %s?", roles$treatment, and_list(roles$outcome))),
    field_lines("Asked for", "the mean outcome of everybody, were all given a dose, for every dose"),
    field_lines("Dose", doses_text(x)), if (length(x$steps) > 0L) field_lines("Design", question_label(x)),
    if (!is.null(x$weight)) field_lines("Effective", sprintf("%s of %s", count_text(round(effective_units(x))),
                                                             plural(length(x$d), "unit"))),
    field_lines("Outcome", outcome_text(study, "sealed until measure_response() opens it")),
    field_lines("Covariates", covariate_text(study)),
    field_lines("Missing", missing_text(study)),
    if (!is.null(roles$weight)) field_lines("Weight", roles$weight),
    if (!is.null(roles$cluster)) field_lines("Cluster", group_text(roles$cluster, study$cluster)),
    if (!is.null(roles$stratum)) field_lines("Stratum", group_text(roles$stratum, study$stratum)),
    if (length(study$dropped) > 0L) field_lines("Left out", dropped_rows_text(study)),
    wrap_lines(dose_advice(x))
  )
}

dropped_rows_text <- function(study) paste(count_text(study$dropped), "rows,", names(study$dropped), collapse = "; ")

doses_text <- function(x) {
  q <- core_weighted_quantiles(x$d, sampling_weight(x$base), c(0.25, 0.5, 0.75))
  sprintf("%s: %s, from %s to %s, quartiles %s; %s", x$base$roles$treatment, plural(length(x$d), "unit"),
          number_text(min(x$d)), number_text(max(x$d)), and_list(number_text(q)),
          plural(length(unique(x$d)), "different value"))
}

dose_advice <- function(x) {
  if (!is.null(x$weight)) return("Next: assess_balance(), then measure_response().")
  if (!is.null(x$score)) return(sprintf("Score: %s. Next: weigh_units().", x$score$words))
  paste("Next: score_units() and weigh_units(), or weigh_units(method = \"entropy\") at once; assess_balance() shows",
        "what goes with the dose.")
}

#' @export
print.twin_dose <- function(x, ...) print_lines(x, format(x, ...))

#' @export
tidy.twin_dose <- function(x, ...) { # nolint: object_name_linter. broom-style name.
  rlang::check_dots_empty()
  dose_correlations(x)
}

#' @export
glance.twin_dose <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(dose = x$base$roles$treatment, design = question_label(x), nobs = length(x$d),
             effective = effective_units(x), worst_correlation = worst_correlation(x))
}

#' @export
as.data.frame.twin_dose <- function(x, ...) generics::tidy(x, ...)

#' @export
format.twin_dose_balance <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(sprintf("Balance of the dose %s: %s", x$dose, x$design)),
    unlist(lapply(judged_doses(x), function(sample) wrap_lines(correlation_verdict(x, sample), 2L))), "",
    table_lines(dose_balance_table(x)), "", wrap_lines(dose_balance_note(x)), label_lines(x$labels))
}

#' @export
print.twin_dose_balance <- function(x, ...) print_lines(x, format(x, ...))

correlation_verdict <- function(x, sample) {
  facts <- glance.twin_dose_balance(amend(x, several = TRUE))
  facts <- facts[facts$sample == sample, ]
  sprintf("%s%s of %s pass; the strongest correlation left is that of %s, %s. Effective sample: %s of %s.",
          if (x$several) paste0(sample, ": ") else "", count_text(facts$passing), plural(facts$rows, "row"),
          facts$worst_covariate, number_text(facts$worst_correlation), count_text(round(facts$effective)),
          plural(length(x$study$z), "unit"))
}

dose_balance_table <- function(x, number = column_text) {
  samples <- unique(x$rows$sample)
  of <- function(sample) x$rows[x$rows$sample == sample, ]
  last <- of(samples[length(samples)])
  out <- data.frame(Covariate = row_name(last$covariate, last$level))
  if (!x$several) out$Mean <- value_text(last$mean, last$kind, number)
  headings <- if (x$several) samples else c(before = "correlation was", after = "now")[samples]
  if (length(samples) == 1L) headings <- "correlation"
  for (k in seq_along(samples)) {
    out[[if (x$several && k == 1L) "was" else headings[k]]] <- number(of(samples[k])$correlation)
  }
  if (!is.null(x$imputed)) out$worst <- number(last$correlation_worst)
  out$pass <- pass_text(Reduce(`&`, lapply(judged_doses(x), function(sample) of(sample)$pass)))
  out
}

dose_balance_note <- function(x) {
  paste0(
    sprintf("Correlations of each row with the dose; under weights that work there is none. A row passes at most %s%s.",
            format(x$limit), if (x$several) " in every design" else ""),
    if (!is.null(x$imputed)) sprintf(" Means over %s; worst: the strongest of any; a row passes when it does in each.",
                                     plural(x$imputed, "imputed data set"))
  )
}

#' @exportS3Method
table_parts.twin_dose_balance <- function(x, number = column_text) { # nolint: object_name_linter. An S3 method.
  verdicts <- vapply(judged_doses(x), function(sample) correlation_verdict(x, sample), "")
  plain_parts(dose_balance_table(x, number), "Covariate", sprintf("Balance of the dose: %s", x$design),
              paste(c(verdicts, dose_balance_note(x)), collapse = " "))
}

#' @export
plot.twin_dose_balance <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows[!is.na(x$rows$correlation), ]
  rows$row <- labelled_rows(rows, x$labels)
  before <- rows[rows$sample == "before", ]
  rows$row <- factor(wrapped_name(rows$row, 42L),
                     levels = wrapped_name(unique(before$row[order(abs(before$correlation))]), 42L))
  rows$sample <- factor(rows$sample, levels = unique(rows$sample))
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$correlation, y = .data$row)) +
    ggplot2::annotate("rect", xmin = -x$limit, xmax = x$limit, ymin = -Inf, ymax = Inf, fill = "#DCEBEA") +
    ggplot2::geom_vline(xintercept = 0, colour = "grey45", linewidth = 0.4) +
    ggplot2::geom_line(ggplot2::aes(group = .data$row), colour = "grey65", linewidth = 0.5) +
    ggplot2::geom_point(ggplot2::aes(fill = .data$sample, shape = .data$sample), size = 2.8, stroke = 0.9,
                        colour = twin_colours[["treated"]]) +
    sample_scales(list(totals = data.frame(sample = levels(rows$sample)))) +
    ggplot2::labs(x = sprintf("correlation with %s", x$dose), y = NULL, title = "What goes with the dose",
                  subtitle = paste0("The shaded band is the limit of ", format(x$limit), ". ",
                                    correlation_verdict(x, utils::tail(judged_doses(x), 1L)))) +
    twin_look()
}

#' @export
format.twin_response <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(response_sentence(x)), "", table_lines(response_rows(x)), "", wrap_lines(flat_sentence(x)),
    wrap_lines(support_sentence(x)), wrap_lines(response_method(x)), wrap_lines(pooled_response_sentence(x)),
    wrap_lines(seal_sentence(summary(logbook(x)))))
}

#' @export
print.twin_response <- function(x, ...) print_lines(x, format(x, ...))

response_sentence <- function(x) {
  row <- x$contrasts[1L, ]
  sprintf("With %s = %s rather than %s, %s %s by %s (%s), for everybody; estimated by %s.", x$dose, dose_number(row$to),
          dose_number(row$from), outcome_phrase(x),
          if (x$weighted || !is.null(x$family)) "changes" else "differs",
          number_text(row$estimate), interval_phrase(x$level, row$conf.low, row$conf.high), response_words(x))
}

dose_number <- function(at) trimws(format(signif(at, 4)))

response_words <- function(x) {
  curve <- if (!is.null(x$family)) sprintf("%s averaged over units, and a curve of what they leave",
                                                   family_word(x$family)) else "a curve"
  sprintf("%s (%s)%s", curve, x$words, if (x$weighted) paste(" on", x$design) else ", nothing adjusted by weights")
}

response_rows <- function(x, number = column_text) {
  rows <- rbind(data.frame(Quantity = x$contrasts$contrast, x$contrasts[names(x$slope)]),
                data.frame(Quantity = "average slope", x$slope))
  out <- data.frame(Quantity = rows$Quantity, Estimate = number(rows$estimate), SE = number(rows$std.error),
                    interval = interval_text(rows$conf.low, rows$conf.high, number), p = p_text(rows$p.value))
  names(out)[4L] <- paste(level_text(x$level), "interval")
  out
}

flat_sentence <- function(x) {
  sprintf("Is the mean of %s the same with %s = %s? Joint test: p %s.", outcome_phrase(x), x$dose,
          and_list(dose_number(x$flat_doses)), p_phrase(x$flat[["p.value"]]))
}

support_sentence <- function(x) {
  doses <- x$curve$dose
  inside <- which(x$curve$supported)
  if (length(inside) == 0L) return("No dose told is supported: few units are near, or many could not have had it.")
  ends <- range(inside)
  between <- ends[2L] - ends[1L] + 1L - length(inside)
  beyond <- length(doses) - (ends[2L] - ends[1L] + 1L)
  paste0(
    if (length(inside) == 1L) sprintf("Supported by data at %s", dose_number(doses[inside])) else
      sprintf("Supported by data from %s to %s", dose_number(doses[ends[1L]]), dose_number(doses[ends[2L]])),
    if (between == 0L && beyond == 0L) ", all doses told",
    if (between > 0L) sprintf(", but for %s told between them", plural(between, "dose")),
    if (beyond > 0L) sprintf("; the rest of %s to %s is the curve carried on", dose_number(doses[1L]),
                             dose_number(doses[length(doses)])),
    "."
  )
}

response_method <- function(x) {
  missing <- x$counts[["missing"]]
  paste0(sprintf("Standard errors: %s%s. Strongest correlation left: %s. %s used%s.", x$inference,
                 if (x$weighted) ", with the estimated weights accounted for" else "", number_text(x$worst),
                 plural(x$counts[["used"]], "unit"),
                 if (missing > 0L) sprintf(", %s without the outcome left out", count_text(missing)) else ""))
}

pooled_response_sentence <- function(x) {
  if (is.null(x$pooling) || x$pooling$imputations == 1L) return(NULL)
  sprintf("Pooled over %d imputed data sets; %s of the information on %s is missing.", x$pooling$imputations,
          share_text(x$pooling$missing), x$contrasts$contrast[1L])
}

#' @exportS3Method
table_parts.twin_response <- function(x, number = column_text) { # nolint: object_name_linter. An S3 method.
  plain_parts(response_rows(x, number), "Quantity", sprintf("Effect of %s on %s", x$dose, outcome_phrase(x)),
              paste(c(response_sentence(x), flat_sentence(x), support_sentence(x), response_method(x)), collapse = " "))
}

# The curve with its band, dotted where there is no support, and below it where the units are.
#' @export
plot.twin_response <- function(x, ...) {
  rlang::check_dots_empty()
  curve <- x$curve
  inside <- curve[curve$supported, ]
  low <- min(curve$band.low, na.rm = TRUE)
  high <- max(curve$band.high, na.rm = TRUE)
  units <- dose_bars(x, low - 0.16 * (high - low), 0.12 * (high - low))
  ggplot2::ggplot(curve, ggplot2::aes(x = .data$dose, y = .data$estimate)) +
    ggplot2::geom_rect(ggplot2::aes(xmin = .data$from, xmax = .data$to, ymin = .data$foot, ymax = .data$top), units,
                       fill = "grey75", inherit.aes = FALSE) +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = .data$band.low, ymax = .data$band.high), inside, alpha = 0.12,
                         fill = twin_colours[["treated"]]) +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = .data$conf.low, ymax = .data$conf.high), inside, alpha = 0.2,
                         fill = twin_colours[["treated"]]) +
    ggplot2::geom_line(linetype = "11", colour = "grey45") +
    ggplot2::geom_line(data = inside, colour = twin_colours[["treated"]], linewidth = 1) +
    ggplot2::labs(x = x$dose, y = sprintf("mean of %s", outcome_phrase(x)),
                  title = sprintf("%s along %s", outcome_phrase(x), x$dose),
                  subtitle = paste(response_sentence(x), flat_sentence(x)),
                  caption = sprintf("Dark: %s interval of each dose; light: band of the whole curve. Bars: units.%s",
                                    level_text(x$level), if (all(curve$supported)) "" else " Dotted: no support.")) +
    twin_look()
}

dose_bars <- function(x, foot, height) {
  d <- x$source$x$d[x$used]
  ends <- range(x$curve$dose)
  breaks <- seq(ends[1L], ends[2L], length.out = 31L)
  count <- tabulate(findInterval(d[d >= ends[1L] & d <= ends[2L]], breaks, all.inside = TRUE), 30L)
  data.frame(from = breaks[-31L], to = breaks[-1L], foot = foot, top = foot + height * count / max(count))
}
