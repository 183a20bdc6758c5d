#' @export
format.twin_design <- function(x, ...) {
  study <- x$study
  size <- arm_sizes(full_weight(x), study$z)
  c(
    wrap_lines(sprintf("Design: %s", design_label(x))),
    field_lines("For", population_text(study$estimand, x$note)),
    arm_lines(x, size),
    score_lines(x),
    if (!is.null(x$weighing$truncation)) field_lines("Truncated", truncation_text(x$weighing$truncation)),
    response_lines(x),
    kind_lines(x),
    if (alters_sample(x)) field_lines("Balance", sprintf("worst |SMD| %s; see assess_balance()",
                                                         number_text(worst_imbalance(x)))),
    wrap_lines(design_advice(x))
  )
}

# What there is to say of each kind.
kind_lines <- function(x) {
  switch(x$kind,
    pairs = c(field_lines("Pairs", pair_summary(x)), if (reuses_units(x)) field_lines("Reuse", reuse_summary(x))),
    sets = field_lines("Sets", set_summary(x)),
    cells = field_lines("Cells", cell_summary(x)),
    strata = c("", table_lines(stratum_lines(x)), ""),
    weights = if (is_matched_arms(x)) arms_matching_lines(x),
    raw = c(
      if (!is.null(x$metric)) metric_lines(x$metric),
      if (!is.null(x$score$learners)) c("", table_lines(learner_lines(x$score$learners)), ""),
      if (!is.null(x$score$steps)) {
        c("", table_lines(ladder_lines(x$score$steps), left = 2L), "", untried_lines(x$score))
      }
    )
  )
}

#' @export
print.twin_design <- function(x, ...) print_lines(x, format(x, ...))

# arms: is it of contrasts of several arms?
population_text <- function(estimand, note, arms = FALSE) {
  paste0(estimands[[estimand]][[if (arms) "of_arms" else "words"]], " (", estimand, ")",
         if (length(note) > 0L) ": ", paste(note, collapse = "; "))
}

arm_lines <- function(x, size) {
  study <- x$study
  one <- function(arm, label, code) {
    inside <- in_arm(study, code)
    text <- paste0(sprintf("\"%s\": %s", study$levels[[arm]], plural(sum(inside), "unit")), fallen_text(x, inside))
    if (has_weights(x) || !is.null(study$s) || size[[arm]] < 0.999 * sum(inside & design_kept(x))) {
      text <- paste0(text, sprintf("; effective sample %s", count_text(round(size[[arm]]))))
    }
    field_lines(label, text)
  }
  c(one("treated", "Treated", 1L), one("control", "Control", 0L))
}

# "treated at 12.3 (4 lowered), control at 8.1 (none)".
truncation_text <- function(table) {
  moved <- function(count, word) if (count > 0L) paste(count_text(count), word)
  counted <- vapply(seq_len(nrow(table)), function(k) {
    both <- c(moved(table$raised[k], "raised"), moved(table$lowered[k], "lowered"))
    if (is.null(both)) "none" else and_list(both)
  }, "")
  limits <- paste0(ifelse(table$low > 0, paste(number_text(table$low), "and "), ""), number_text(table$high))
  paste(sprintf("%s weights at %s (%s)", table$arm, limits, counted), collapse = ", ")
}

response_lines <- function(x) {
  unlist(lapply(names(x$responses), function(name) {
    response <- x$responses[[name]]
    field_lines("Responses", sprintf("%s %s; weighed by a logit on treatment and %s%s; see assess_responses()", name,
                                     response_counts(response, x$study), response$terms$text,
                                     if (response$terms$each_arm) ", one per arm" else ""))
  }))
}

# How many of an arm are kept, and why the others are not.
fallen_text <- function(x, inside) {
  kept <- sum(inside & design_kept(x))
  if (kept == sum(inside)) return("")
  trimmed <- sum(inside & !trim_kept(x))
  why <- if (is.null(x$reason)) integer() else tabulate(x$reason[inside], length(unmatched_reasons))
  paste0(sprintf(", %s kept", count_text(kept)), if (trimmed > 0L) sprintf(", %s trimmed", count_text(trimmed)),
         paste(sprintf("; %s out: %s", count_text(why[why > 0L]), unmatched_reasons[why > 0L]), collapse = ""))
}

# Units that trimming left in; those a pairing dropped afterwards count as left in.
trim_kept <- function(x) if (is.null(x$before_pairs)) design_kept(x) else x$before_pairs

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
  sets <- length(unique(x$pairs$set))
  sprintf("%s%s; distance on the %s: median %s, largest %s, total %s", count_text(length(distance)),
          if (sets < length(distance)) sprintf(" in %s sets", count_text(sets)) else "", distance_text(x),
          number_text(stats::median(distance)), number_text(max(distance)), number_text(sum(distance)))
}

distance_text <- function(x) {
  switch(pairing_step(x)$on, score = "linear score", probability = "score", mahalanobis = "Mahalanobis scale",
         diagonal = "scaled covariates", metric = "given metric")
}

set_summary <- function(x) {
  table <- set_table_of(x)
  shapes <- table(paste0(table$treated, ":", table$control))
  shapes <- sort(shapes, decreasing = TRUE)
  shown <- utils::head(shapes, 4L)
  sprintf("%s (treated:control %s%s); distance on the %s: total %s, largest %s", count_text(nrow(table)),
          paste(sprintf("%s in %s", names(shown), count_text(as.integer(shown))), collapse = ", "),
          if (length(shapes) > 4L) sprintf(", other shapes in %s", count_text(sum(shapes[-(1:4)]))) else "",
          distance_text(x), number_text(sum(x$pairs$distance)), number_text(max(x$pairs$distance)))
}

cell_summary <- function(x) {
  table <- set_table_of(x)
  sprintf("%s with both arms; smallest arm of a cell %s, median cell %s", count_text(nrow(table)),
          plural(min(table$treated, table$control), "unit"),
          plural(round(stats::median(table$treated + table$control)), "unit"))
}

reuse_summary <- function(x) {
  table <- reuse_table(x)
  most <- table[1L, ]
  sprintf("%s partners, %s used more than once; most used: row %d, %d times", count_text(nrow(table)),
          count_text(sum(table$times > 1L)), most$row, most$times)
}

# How often each partner is used: row of the data, arm, times, weight; most used first.
reuse_table <- function(x) {
  pairs <- if (is_matched_arms(x)) matches_of(x) else x$pairs
  partner <- if (is_matched_arms(x)) pairs$partner else if (is.null(pairs$seeks)) pairs$control else partners_of(pairs)
  times <- table(partner)
  unit <- as.integer(names(times))
  weight <- rowsum(pairs$weight, partner)[, 1L]
  out <- data.frame(row = x$study$rows[unit], arm = c("control", "treated")[x$study$z[unit] + 1L],
                    times = as.integer(times), weight = unname(weight))
  out <- out[order(-out$times, out$row), ]
  rownames(out) <- NULL
  out
}

unmatched_table <- function(x) {
  refuse_remote(x)
  trimmed <- !trim_kept(x)
  reason <- if (is.null(x$reason)) integer(length(trimmed)) else x$reason
  out <- which(trimmed | reason > 0L)
  data.frame(row = x$study$rows[out], arm = c("control", "treated")[x$study$z[out] + 1L],
             reason = ifelse(trimmed[out], "trimmed", unmatched_reasons[pmax(reason[out], 1L)]))
}

# One row per trimming: the scores kept, and how many of each arm fell off.
trimming_table <- function(x) {
  steps <- Filter(function(step) step$verb == "trim", design_steps(x))
  if (length(steps) == 0L) return(NULL)
  do.call(rbind, lapply(steps, function(step) {
    data.frame(rule = step$rule, low = step$range[["low"]], high = step$range[["high"]],
               treated = step$fallen[["treated"]], control = step$fallen[["control"]])
  }))
}

# Treated, control units and weights per set; not for pairs with replacement, where a unit can be in several.
set_table_of <- function(x) {
  if (is_remote(x)) return(x$weighing$table)
  inside <- which(!is.na(x$set))
  set <- x$set[inside]
  z <- x$study$z[inside]
  weight <- x$weight[inside]
  other <- if (is.null(x$study$outside)) logical(length(set)) else x$study$outside[inside]
  table <- data.frame(set = seq_len(max(set)), treated = tabulate(set[z == 1L], max(set)),
                      control = tabulate(set[z == 0L & !other], max(set)))
  if (any(other)) table$of_other_arms <- tabulate(set[other], max(set))
  cbind(table, weight_treated = core_sums_by(weight * z, set), weight_control = core_sums_by(weight * (1 - z), set))
}

metric_lines <- function(metric) {
  worst <- shown_goal(min(metric$history$best), metric$goal)
  text <- sprintf("%s %s; %s with all weights equal (%s generations, %s candidates%s)", goal_words[[metric$goal]],
                  number_text(worst, 4), number_text(shown_goal(metric$plain, metric$goal), 4),
                  nrow(metric$history), count_text(sum(metric$history$candidates)),
                  if (metric$interrupted) "; interrupted" else "")
  table <- metric_table(metric)
  table <- table[order(-table$share), ]
  shown <- data.frame(Column = shorten(table$column, 40L), `share of the weight` = share_text(table$share),
                      check.names = FALSE)
  c(field_lines("Metric", text), "", table_lines(utils::head(shown, 12L)), "")
}

metric_table <- function(metric) {
  data.frame(column = names(metric$weights), weight = unname(metric$weights),
             share = unname(metric$scaled / sum(metric$scaled)))
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
  c(field_lines("Score", text), if (length(score$lone) > 0L) field_lines("", lone_text(x)))
}

lone_text <- function(x) {
  table <- lone_table(x$score$lone, x$study, kept_weight(x) > 0)
  sprintf("leaves out what only one arm has: %s", paste(lone_phrases(table), collapse = ", "))
}

# What the ladder could not see, since the plain term did not enter.
untried_lines <- function(score) {
  untried <- score$untried
  if (length(untried) == 0L) return(character())
  wrap_lines(sprintf("%s did not enter, so no square or product of %s was tried; second_order = \"all\" tries them.",
                     and_list(shorten(untried, 34L)), if (length(untried) == 1L) "it" else "them"))
}

design_advice <- function(x) {
  if (x$kind == "raw" && !is.null(x$metric)) {
    return("Next: pair_units(on = \"metric\"), matching as the search did.")
  }
  if (x$kind == "raw") {
    if (alters_sample(x)) return("Next: pair_units(), weigh_units() or stratify_units().")
    return("Next: assess_overlap(), then pair_units(), weigh_units() or stratify_units().")
  }
  "Next: assess_balance(), and measure_effect() once balance is good enough."
}

design_parts <- c("coefficients", "predictions", "steps", "learners", "strata", "sets", "bins", "reuse", "unmatched",
                  "trimming", "truncation", "metric", "search")

#' @export
tidy.twin_design <- function(x, part = NULL, ...) {
  rlang::check_dots_empty()
  if (is.null(part)) part <- if (is.null(x$score$coefficients) && !is.null(x$metric)) "metric" else "coefficients"
  part <- check_choice(part, design_parts)
  table <- design_part(x, part)
  if (!is.null(table)) return(table)
  made_by <- c(coefficients = "score_units()", predictions = "score_units()",
               steps = "score_units(select = \"ladder\")", # nolint
               learners = "score_units(learners = )", strata = "stratify_units()", sets = "group_units()",
               bins = "group_units(method = \"coarsened\")", reuse = "pair_units()", unmatched = "pair_units()",
               trimming = "trim_units()", truncation = "weigh_units(truncate = )", metric = "search_metric()",
               search = "search_metric()")
  abort_input(c("The design has no {part} to tidy.", i = "They come from {.code {made_by[[part]]}}."))
}

design_part <- function(x, part) {
  switch(part,
    coefficients = if (!is.null(x$score$coefficients)) coefficient_table(x$score),
    predictions = if (!is.null(x$score)) prediction_table(x), steps = x$score$steps,
    learners = x$score$learners, strata = if (x$kind == "strata") stratum_table(x),
    sets = if (x$kind %in% c("sets", "cells") || (x$kind == "pairs" && !reuses_units(x)) || groups_whole_arms(x))
      set_table_of(x),
    bins = bins_of(x), reuse = if (x$kind == "pairs" || pairs_every_arm(x)) reuse_table(x),
    unmatched = if (!is.null(x$reason) || trims(x)) unmatched_table(x),
    trimming = trimming_table(x), truncation = x$weighing$truncation,
    metric = if (!is.null(x$metric)) metric_table(x$metric), search = x$metric$history
  )
}

# One row per unit of the study: its row of the data, id, arm, scores, and what each learner predicts.
prediction_table <- function(x) {
  refuse_remote(x)
  study <- x$study
  out <- data.frame(row = study$rows, arm = c("control", "treated")[study$z + 1L])
  if (!is.null(study$roles$id)) out <- cbind(id = study$data[[study$roles$id]][study$rows], out)
  out <- cbind(out, score = x$score$fitted, linear_score = x$score$linear)
  own <- x$score$predictions
  if (is.null(own)) out else cbind(out, stats::setNames(as.data.frame(own), paste0("learner_", colnames(own))))
}

coefficient_table <- function(score) {
  kept <- !names(score$coefficients) %in% score$aliased
  estimate <- ifelse(kept, score$coefficients, NA)
  se <- ifelse(kept, sqrt(diag(score$covariance)), NA)
  data.frame(term = names(score$coefficients), estimate = unname(estimate), std.error = unname(se),
             statistic = unname(estimate / se), p.value = unname(2 * stats::pnorm(-abs(estimate / se))))
}

#' @export
nobs.twin_design <- function(object, ...) sum(full_weight(object) > 0)
