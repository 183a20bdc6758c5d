#' @export
format.twin_design <- function(x, ...) {
  study <- x$study
  size <- arm_sizes(full_weight(x), study$z)
  c(
    wrap_lines(sprintf("Design: %s", design_label(x))),
    field_lines("For", population_text(study$estimand, x$note)),
    arm_lines(x, size),
    if (x$kind == "pairs") field_lines("Pairs", pair_summary(x)),
    score_lines(x),
    if (!is.null(x$score$learners) && x$kind == "raw") c("", table_lines(learner_lines(x$score$learners)), ""),
    if (!is.null(x$score$steps) && x$kind == "raw") c("", table_lines(ladder_lines(x$score$steps), left = 2L), ""),
    if (x$kind == "strata") c("", table_lines(stratum_lines(x)), ""),
    if (alters_sample(x)) field_lines("Balance", sprintf("worst |SMD| %s; see assess_balance()",
                                                         number_text(worst_imbalance(x)))),
    design_advice(x)
  )
}

#' @export
print.twin_design <- function(x, ...) print_lines(x, format(x, ...))

population_text <- function(estimand, note) {
  paste0(estimand_words[[estimand]], " (", estimand, ")", if (length(note) > 0L) ": ", paste(note, collapse = "; "))
}

arm_lines <- function(x, size) {
  study <- x$study
  one <- function(arm, label, code) {
    inside <- in_arm(study, code)
    text <- paste0(sprintf("\"%s\": %s", study$levels[[arm]], plural(sum(inside), "unit")), fallen_text(x, inside))
    if (has_weights(x) || !is.null(study$s)) {
      text <- paste0(text, sprintf("; effective sample %s", count_text(round(size[[arm]]))))
    }
    field_lines(label, text)
  }
  c(one("treated", "Treated", 1L), one("control", "Control", 0L))
}

# How many of an arm are kept, and why the others are not.
fallen_text <- function(x, inside) {
  kept <- sum(inside & design_kept(x))
  if (kept == sum(inside)) return("")
  trimmed <- sum(inside & !trim_kept(x))
  alone <- sum(inside) - kept - trimmed
  paste0(sprintf(", %s kept", count_text(kept)), if (trimmed > 0L) sprintf(", %s trimmed", count_text(trimmed)),
         if (alone > 0L) sprintf(", %s without a partner", count_text(alone)))
}

# Units that trimming left in; those a pairing dropped afterwards count as left in.
trim_kept <- function(x) if (x$kind == "pairs") x$before_pairs else design_kept(x)

learner_lines <- function(table) {
  data.frame(Learner = table$learner, weight = number_text(table$weight, 3), `log-loss` = number_text(table$loss, 4),
             AUC = number_text(table$auc, 3), check.names = FALSE)
}

ladder_lines <- function(steps) {
  data.frame(Term = shorten(steps$term, 34L), kind = steps$kind, df = steps$df,
             `LR per df` = number_text(steps$statistic), `log-lik.` = number_text(steps$loglik, 1),
             added = ifelse(steps$added, "yes", "no"), check.names = FALSE)
}

stratum_lines <- function(x) {
  table <- stratum_table(x)
  data.frame(Stratum = table$stratum, score = score_range_text(table$low, table$high),
             treated = count_text(table$treated), control = count_text(table$control),
             `weight t.` = number_text(table$weight_treated),
             `weight c.` = number_text(table$weight_control), check.names = FALSE)
}

pair_summary <- function(x) {
  distance <- x$pairs$distance
  sprintf("%s; distance on the linear score: median %s, largest %s", count_text(length(distance)),
          number_text(stats::median(distance)), number_text(max(distance)))
}

score_lines <- function(x) {
  score <- x$score
  if (is.null(score)) return(character())
  inside <- kept_weight(x) > 0
  range_of <- function(arm) {
    scores <- score$fitted[inside & x$study$z == arm]
    score_range_text(min(scores), max(scores))
  }
  text <- sprintf("%s; treated %s, control %s", score_text(score), range_of(1L), range_of(0L))
  if (length(score$aliased) > 0L) {
    text <- paste0(text, "; left out as explained by others: ", paste(score$aliased, collapse = ", "))
  }
  field_lines("Score", text)
}

design_advice <- function(x) {
  if (x$kind == "raw") {
    if (alters_sample(x)) return("Next: pair_units(), weigh_units() or stratify_units().")
    return("Next: assess_overlap(), then pair_units(), weigh_units() or stratify_units().")
  }
  "Next: assess_balance(), and measure_effect() once balance is good enough."
}

#' @export
tidy.twin_design <- function(x, part = c("coefficients", "steps", "learners", "strata"), ...) {
  rlang::check_dots_empty()
  part <- check_choice(part, c("coefficients", "steps", "learners", "strata"))
  table <- switch(part,
    coefficients = if (!is.null(x$score$coefficients)) coefficient_table(x$score),
    steps = x$score$steps, learners = x$score$learners, strata = if (x$kind == "strata") stratum_table(x)
  )
  if (!is.null(table)) return(table)
  made_by <- c(coefficients = "score_units()", steps = "score_units(select = \"ladder\")", # nolint
               learners = "score_units(learners = )", strata = "stratify_units()")
  abort_input(c("The design has no {part} to tidy.", i = "They come from {.code {made_by[[part]]}}."))
}

coefficient_table <- function(score) {
  kept <- !names(score$coefficients) %in% score$aliased
  estimate <- ifelse(kept, score$coefficients, NA)
  se <- ifelse(kept, sqrt(diag(score$covariance)), NA)
  data.frame(term = names(score$coefficients), estimate = unname(estimate), std.error = unname(se),
             statistic = unname(estimate / se), p.value = unname(2 * stats::pnorm(-abs(estimate / se))))
}

#' @export
plot.twin_design <- function(x, ...) {
  rlang::check_dots_empty()
  plot(assess_overlap(x))
}

#' @export
nobs.twin_design <- function(object, ...) sum(full_weight(object) > 0)
