#' @export
format.twin_design <- function(x, ...) {
  study <- x$study
  v <- full_weight(x)
  size <- arm_sizes(v, study$z)
  c(
    sprintf("Design: %s", design_label(x)),
    field_lines("For", population_text(study$estimand, x$note)),
    arm_lines(x, size),
    if (x$kind == "pairs") field_lines("Pairs", pair_summary(x)),
    score_lines(x),
    if (x$kind != "raw") field_lines("Balance", sprintf("worst |SMD| %s; see assess_balance()",
                                                        number_text(worst_imbalance(x)))),
    design_advice(x)
  )
}

#' @export
print.twin_design <- function(x, ...) print_lines(x, format(x, ...))

population_text <- function(estimand, note) {
  paste0(estimand_words[[estimand]], " (", estimand, ")", if (length(note) > 0L) paste0(": ", note))
}

arm_lines <- function(x, size) {
  study <- x$study
  one <- function(arm, label, code) {
    inside <- study$z == code
    kept <- sum(inside & design_kept(x))
    text <- sprintf("\"%s\": %s", study$levels[[arm]], plural(sum(inside), "unit"))
    if (kept < sum(inside)) text <- paste0(text, sprintf(", %s kept, %s without a partner", count_text(kept),
                                                         count_text(sum(inside) - kept)))
    if (x$kind == "weights" || !is.null(study$s)) {
      text <- paste0(text, sprintf("; effective sample %s", count_text(round(size[[arm]]))))
    }
    field_lines(label, text)
  }
  c(one("treated", "Treated", 1L), one("control", "Control", 0L))
}

pair_summary <- function(x) {
  distance <- x$pairs$distance
  sprintf("%s; distance on the linear score: median %s, largest %s", count_text(length(distance)),
          number_text(stats::median(distance)), number_text(max(distance)))
}

score_lines <- function(x) {
  if (is.null(x$score)) return(character())
  range_of <- function(arm) interval_text(min(x$score$fitted[x$study$z == arm]), max(x$score$fitted[x$study$z == arm]))
  text <- sprintf("%s, %d terms; treated %s, control %s", x$score$link, length(x$score$coefficients) - 1L,
                  range_of(1L), range_of(0L))
  if (length(x$score$aliased) > 0L) {
    text <- paste0(text, "; left out as explained by others: ", paste(x$score$aliased, collapse = ", "))
  }
  field_lines("Score", text)
}

design_advice <- function(x) {
  if (x$kind == "raw") return("Next: assess_overlap(), then pair_units() or weigh_units().")
  "Next: assess_balance(), and measure_effect() once balance is good enough."
}

#' @export
tidy.twin_design <- function(x, ...) {
  rlang::check_dots_empty()
  if (is.null(x$score)) abort_input("The design has no score to tidy; see {.fn score_units}.")
  kept <- !names(x$score$coefficients) %in% x$score$aliased
  estimate <- ifelse(kept, x$score$coefficients, NA)
  se <- ifelse(kept, sqrt(diag(x$score$covariance)), NA)
  data.frame(term = names(x$score$coefficients), estimate = unname(estimate), std.error = unname(se),
             statistic = unname(estimate / se), p.value = unname(2 * stats::pnorm(-abs(estimate / se))))
}

#' @export
plot.twin_design <- function(x, ...) {
  rlang::check_dots_empty()
  plot(assess_overlap(x))
}

#' @export
nobs.twin_design <- function(object, ...) sum(full_weight(object) > 0)
