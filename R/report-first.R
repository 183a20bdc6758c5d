# The first screen of a report: what was asked, what was found, and five verdicts on how carefully.

report_first <- function(parts) {
  if (!is.null(parts$question)) return(other_first(parts))
  effect <- headline_effect(parts)
  list(question = question_sentence(parts),
       answer = if (!is.null(effect)) answer_sentence(effect) else contrasts_answer(parts),
       rule = headline_rule(parts), figure = first_figure(parts), verdicts = report_verdicts(parts))
}

# Where no single effect leads, what the first set of contrasts of arms says.
contrasts_answer <- function(parts) {
  effects <- first_contrasts(parts)
  if (!is.null(effects)) sprintf("By %s: %s.", effect_method(effects$effects[[1L]]), contrast_list(effects))
}

first_contrasts <- function(parts) Find(are_contrasts, several_effects(parts$effects))

question_sentence <- function(parts) {
  study <- parts$study
  measured <- if (length(parts$outcomes) > 0L) parts$outcomes else study$roles$outcome
  outcome <- if (is.null(parts$headline)) measured else headline_effect(parts)$outcome
  if (!is.null(parts$panel)) {
    return(sprintf("What did %s do to %s, for those treated, in the periods since?", treatment_of(study),
                   and_list(outcome)))
  }
  if (!is.null(study$arms)) {
    return(sprintf("What did each of %s (%s) do to %s, against \"%s\", for %s?", and_list(names(study$arms)[-1L]),
                   study$roles$treatment, and_list(outcome), names(study$arms)[1L],
                   estimands[[study$estimand]]$of_arms))
  }
  sprintf("What did %s being \"%s\" rather than \"%s\" do to %s, for %s?", study$roles$treatment,
          study$levels[["treated"]], study$levels[["control"]], and_list(outcome), estimands[[study$estimand]]$words)
}

answer_sentence <- function(effect) if (inherits(effect, "twin_did")) did_sentence(effect) else effect_sentence(effect)

# The name of the effect that the report leads with: the one asked for, or the first that adjusts, or the first there
# is. NULL without effects of one number.
headline_name <- function(effects, asked) {
  if (!is.null(asked)) return(asked)
  single <- Filter(is_one_number, effects)
  if (length(single) == 0L) return(NULL)
  c(names(Filter(Negate(is_first_look), single)), names(single))[1L]
}

is_one_number <- function(effect) {
  !inherits(effect, "twin_effects") && (!inherits(effect, "twin_did") || effect$over %in% c("cells", "all", "single"))
}

# Nothing adjusted; over time, a weighted mix of effects.
is_first_look <- function(effect) {
  if (inherits(effect, "twin_did")) !is.null(did_estimator_of(effect)$mean) else is_unadjusted(effect)
}

headline_effect <- function(parts) if (!is.null(parts$headline)) parts$effects[[parts$headline]]

check_headline <- function(headline, effects, call = rlang::caller_env()) {
  check_string(headline, null = TRUE, arg = "headline", call = call)
  if (is.null(headline)) return(invisible(headline))
  single <- names(Filter(is_one_number, effects))
  if (headline %in% single) return(invisible(headline))
  abort_input(c("{.arg headline} must name an effect that is one number: one outcome, not by group or period.",
                x = "It is {.val {headline}}; there {cli::qty(length(single))}{?are none/is/are} {.val {single}}."),
              call = call)
}

# By which rule the headline was chosen.
headline_rule <- function(parts) {
  if (is.null(parts$headline)) return(NULL)
  others <- length(parts$effects) - 1L
  if (others == 0L) return(sprintf("This is \"%s\", the only effect measured.", parts$headline))
  effect <- headline_effect(parts)
  chosen <- if (parts$headline_asked) "named as the headline" else if (is_first_look(effect))
    "the first one measured, since none adjusts and none was named" else if (inherits(effect, "twin_did"))
      "the first that is no mix of effects by a two-way regression, since none was named" else
        "the first one that adjusts, since none was named"
  sprintf("This is \"%s\", %s; %s below.", parts$headline, chosen,
          if (others == 1L) "the other one stands" else paste("the other", others, "stand"))
}

# All effects on the headline's outcome, side by side.
first_figure <- function(parts) {
  comparison <- headline_comparison(parts)
  if (is.null(comparison)) return(NULL)
  comparison_figure(parts, comparison)
}

headline_comparison <- function(parts) {
  if (is.null(parts$headline)) return(NULL)
  Find(function(comparison) parts$headline %in% names(comparison$effects), parts$comparisons)
}

# tone: "good", "care" or "open" (not done, or nothing to judge by); at: the section that says more.
new_verdict <- function(what, word, number = "", at = NULL, tone = "open") {
  stopifnot(tone %in% c("good", "care", "open"))
  list(what = what, word = word, number = number, at = at, tone = tone)
}

report_verdicts <- function(parts) {
  if (is.null(parts$panel)) {
    return(list(overlap_verdict(parts), balance_verdict(parts), opened_verdict(parts), agreement_verdict(parts),
                bias_verdict(parts)))
  }
  list(before_verdict(parts), weights_verdict(parts), opened_verdict(parts), agreement_verdict(parts),
       bias_verdict(parts))
}

# The design behind the headline, or the first of all.
headline_design <- function(parts) {
  design <- design_behind(headline_effect(parts))
  if (!is.null(design)) design else if (length(parts$designs) > 0L) parts$designs[[1L]]
}

# Thin where treatment can nearly be told by the covariates, partial where more than 5% of whom the estimand speaks of
# have no counterpart.
overlap_verdict <- function(parts) {
  of_arms <- Find(function(judged) !is.null(judged$overlap), parts$arms)$overlap
  if (!is.null(of_arms)) return(arms_overlap_verdict(of_arms))
  scored <- headline_design(parts)
  if (is.null(scored$score)) scored <- parts$scored
  if (is.null(scored)) return(new_verdict("Overlap", "not judged", "no propensity score"))
  overlap <- assess_overlap(scored)
  rows <- overlap$rows[overlap$rows$sample == "before", ]
  arms <- c("control", "treated")[1L + seeking_arms(parts$study$estimand)]
  outside <- max(rows$share_outside[rows$arm %in% arms])
  thin <- overlap$auc > 0.85
  new_verdict("Overlap", if (thin) "thin" else if (outside > 0.05) "partial" else "good",
              sprintf("%s of %s without counterpart", share_text(outside), if (length(arms) > 1L) "an arm" else
                c(treated = "the treated", control = "the controls")[[arms]]), "score",
              if (thin || outside > 0.05) "care" else "good")
}

arms_overlap_verdict <- function(overlap) {
  share <- generics::glance(overlap)$share_outside
  new_verdict("Overlap", if (share > 0.05) "partial" else "good",
              sprintf("%s beyond what every arm reaches", share_text(share)), "score",
              if (share > 0.05) "care" else "good")
}

balance_verdict <- function(parts) {
  balance <- headline_balance(parts)
  effect <- headline_effect(parts)
  if (is.null(balance) && is.null(effect)) return(new_verdict("Balance", "not judged", "no design"))
  if (is.null(balance)) {
    if (is.na(effect$worst_smd)) return(new_verdict("Balance", "not judged", "no covariate tells"))
    missed <- is_unbalanced(effect)
    return(new_verdict("Balance", if (missed) "not reached" else "reached",
                       sprintf("worst |SMD| %s", beyond_text(effect$worst_smd, standard_limit())), "effects",
                       if (missed) "care" else "good"))
  }
  s <- summary(balance)
  new_verdict("Balance", if (s$balanced) "reached" else "not reached",
              sprintf("%s of %s rows, worst |SMD| %s", s$passing, s$rows, number_text(s$worst_smd)), "balance",
              if (s$balanced) "good" else "care")
}

# The balance of the design that the headline stands on.
headline_balance <- function(parts) {
  design <- headline_design(parts)
  if (is.null(design) || is.null(design$hash)) return(NULL)
  at <- Position(function(other) identical(other$hash, design$hash), parts$designs)
  if (!is.na(at)) parts$balances[[at]]
}

opened_verdict <- function(parts) {
  book <- summary(logbook(parts$study))
  if (!is.null(parts$panel)) {
    return(new_verdict("Ways to estimate it", count_text(book$before + book$after), "tried in all", "logbook"))
  }
  if (is.na(book$opened)) {
    return(new_verdict("Outcome", "sealed", sprintf("%s tried so far", were_tried(book$before)), "logbook", "good"))
  }
  new_verdict("Designs after opening", if (book$after == 0L) "none" else count_text(book$after),
              sprintf("%d before the outcome was opened", book$before), "logbook",
              if (book$after == 0L) "good" else "care")
}

# Estimates that answer the same question by other means.
agreement_verdict <- function(parts) {
  comparison <- headline_comparison(parts)
  if (is.null(comparison) && !is.null(first_contrasts(parts))) return(contrasts_verdict(first_contrasts(parts)))
  if (is.null(comparison)) return(new_verdict("Estimates", "none", "no effect measured"))
  test <- generics::glance(comparison)
  if (test$effects < 2L) return(new_verdict("Estimates", "not tested", "a single adjusted one", "effects"))
  if (is.na(test$p.value)) return(new_verdict("Estimates", "not tested", "no joint test", "effects"))
  agree <- test$p.value >= 1 - comparison$effects[[1L]]$level
  new_verdict("Estimates", if (agree) "agree" else "differ",
              sprintf("joint p %s of %d", p_phrase(test$p.value), test$effects), "effects",
              if (agree) "good" else "care")
}

# Do arms differ at all?
contrasts_verdict <- function(effects) {
  test <- arms_test(effects, arm_families(effects)[[1L]])
  if (is.na(test[["p.value"]])) return(new_verdict("Arms", "not tested", "no joint test", "effects"))
  differ <- test[["p.value"]] < 1 - effects$effects[[1L]]$level
  new_verdict("Arms", if (differ) "differ" else "no difference found",
              sprintf("joint p %s of %s", p_phrase(test[["p.value"]]), plural(as.integer(test[["df"]]), "contrast")),
              "effects", "good")
}

# All probes on one scale where there is one for the headline's outcome, or else the first there is.
bias_verdict <- function(parts) {
  if (length(parts$probes) == 0L) return(new_verdict("Hidden bias", "not probed", "no probe was run"))
  outcome <- if (!is.null(parts$headline)) parts$effects[[parts$headline]]$outcome
  own <- Filter(function(probe) is.null(outcome) || identical(probed_outcome(probe), outcome), parts$probes)
  probe <- (if (length(own) > 0L) own else parts$probes)[[1L]]
  all <- Find(function(probe) inherits(probe, "twin_probe_effect"), own)
  if (!is.null(all)) probe <- all
  turn <- probe_entry(probe)$turn(probe)
  new_verdict("Hidden bias", turn$word, turn$number, "bias", turn$tone)
}

before_verdict <- function(parts) {
  if (is.null(parts$trends)) return(new_verdict("Before treatment", "not judged", "trends were not tested"))
  test <- generics::glance(parts$trends)
  if (is.na(test$p.value)) return(new_verdict("Before treatment", "not tested", "no joint test", "trends"))
  apart <- test$p.value < 1 - parts$trends$level
  new_verdict("Before treatment", if (apart) "trends differ" else "no difference found",
              sprintf("joint p %s", p_phrase(test$p.value)), "trends", if (apart) "care" else "good")
}

weights_verdict <- function(parts) {
  if (is.null(parts$decomposition)) return(new_verdict("Two-way number", "not taken apart", ""))
  facts <- generics::glance(parts$decomposition)
  of_dose <- is.null(facts$forbidden_weight)
  detail <- if (of_dose) sprintf("%s of weights negative", share_text(facts$negative_share)) else
    sprintf("%s against treated units", share_text(facts$forbidden_weight))
  trusted <- isTRUE(facts$trusted)
  new_verdict("Two-way number", if (trusted) "may be trusted" else "not to be trusted", detail, "decomposition",
              if (trusted) "good" else "care")
}
