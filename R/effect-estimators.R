# The register of estimators: Methods, "Effects". One entry each, with whom it fits and why not others.
# Adding one is adding its entry here, with its computation.

# words: for prints; words_reuse: the same on matches with replacement, NULL where it has no form there. arguments:
# those of measure_effect() that not all estimators take. check: function(x, asked, call) that refuses designs.
# means: function(block, units, asked, call) giving list(estimate, influence = function()) of the two means, with vcov,
# df and text where they are not had from the influence, and made: weights of its own. models: does it model the
# outcome? robust: is it right when either weights or models are, so that it depends on each in second order? by_score:
# does it weigh by the score where the design has no weights? learns: are learners of the outcome used "never", when
# "asked" for, or "always"? plain: is it the means by the design's weights alone? bounded: are bounds under weights that
# are wrong known (probe_weights())? paired: is it a mean of differences within pairs? own_variance: is its variance
# more than replicates could see? verb: who measures it; measure: function(block, asked, call) giving the effect; again:
# function(block, units, asked, terms) giving the estimates of a replicate. remote: function(rows, block, found, asked,
# call) for a table in a database, giving list(estimate, terms: see influence_words()); NULL where it needs rows.
# redraw: function(x, blocks, asked, known) for quick draws, see quick_runner(); NULL where there are none.
new_estimator <- function(words, arguments = character(), check = function(x, asked, call) invisible(x), means = NULL,
                          words_reuse = NULL, models = FALSE, robust = FALSE, by_score = FALSE, learns = "never",
                          plain = FALSE, bounded = FALSE, paired = TRUE, own_variance = FALSE,
                          verb = "measure_effect",
                          measure = function(block, asked, call) measure_block(block, asked, call),
                          again = function(block, units, asked, terms) means_again(block, units, asked, terms),
                          remote = NULL, redraw = NULL) {
  stopifnot(is.character(words), is.function(check), learns %in% c("never", "asked", "always"))
  list(words = words, arguments = arguments, check = check, means = means, words_reuse = words_reuse, models = models,
       robust = robust, by_score = by_score, learns = learns, plain = plain, bounded = bounded, paired = paired,
       own_variance = own_variance, verb = verb, measure = measure, again = again, remote = remote, redraw = redraw)
}

estimators <- list(
  difference = new_estimator(
    "difference in means", c("normalise", "quantiles", "error", "neighbours", "conditional"),
    words_reuse = "difference in means", plain = TRUE, bounded = TRUE,
    check = function(x, asked, call) check_difference(x, asked, call),
    means = function(block, units, asked, call) difference_means(block$x, units, asked),
    redraw = function(x, blocks, asked, known) redraw_difference(x, blocks, asked, known),
    remote = function(rows, block, found, asked, call) remote_difference(rows, block, found)
  ),
  regression = new_estimator(
    "outcome regression", c("model", "family", "scale_model", "products", "correction", "neighbours", "conditional"),
    models = TRUE,
    words_reuse = "bias-corrected difference in means",
    check = function(x, asked, call) check_regression(x, asked, call),
    means = function(block, units, asked, call) regression_means(block, units, asked, call),
    remote = function(rows, block, found, asked, call) remote_regression(rows, block, found, asked, call)
  ),
  augmented = new_estimator(
    "augmented weighting", c("model", "family", "scale_model", "products", "normalise", "quantiles"), models = TRUE,
    robust = TRUE, by_score = TRUE, bounded = TRUE, check = function(x, asked, call) check_augmented(x, asked, call),
    means = function(block, units, asked, call) augmented_means(block, units, asked, call),
    redraw = function(x, blocks, asked, known) redraw_augmented(x, blocks, asked, known),
    remote = function(rows, block, found, asked, call) remote_augmented(rows, block, found, asked, call)
  ),
  targeted = new_estimator(
    "targeted estimation", c("model", "family", "scale_model", "products", "learners", "folds"), models = TRUE,
    robust = TRUE, by_score = TRUE, learns = "asked", check = function(x, asked, call) check_augmented(x, asked, call),
    means = function(block, units, asked, call) targeted_means(block, units, asked, call)
  ),
  crossfit = new_estimator(
    "cross-fitted augmented weighting", c("model", "learners", "folds", "repeats"), models = TRUE, robust = TRUE,
    learns = "always", own_variance = TRUE, check = function(x, asked, call) check_crossfit(x, asked, call),
    means = function(block, units, asked, call) crossfit_means(block, units, asked, call)
  ),
  selection = new_estimator(
    "augmented weighting after double selection", c("model", "family", "folds"), models = TRUE, robust = TRUE,
    check = function(x, asked, call) check_selection(x, asked, call),
    means = function(block, units, asked, call) selection_means(block, units, asked, call)
  ),
  survival = new_estimator(
    "weighted Cox regression", c("model", "curve_model", "censoring_model"), paired = FALSE, verb = "measure_hazard",
    measure = function(block, asked, call) measure_lasting(block, asked, call),
    again = function(block, units, asked, terms) hazard_terms(block, units, asked, NULL)$estimate
  ),
  own = new_estimator(
    "own regression", paired = FALSE, models = TRUE, verb = "measure_model",
    measure = function(block, asked, call) {
      abort_unsupported(c("A regression of your own can't be run again on other data.",
                          i = "Use {.code measure_effect(estimator = \"regression\")} for this."), call = call)
    }
  )
)

# Those of measure_effect().
measure_estimators <- function() names(Filter(function(entry) entry$verb == "measure_effect", estimators))

# Every argument that belongs to some estimators only.
estimator_options <- function() unique(unlist(lapply(estimators, `[[`, "arguments")))

# Does the effect compare the arms as they are, with neither a design nor a model between them?
is_unadjusted <- function(effect) {
  entry <- estimators[[effect$estimator]]
  effect$kind == "raw" && !is.null(entry) && !entry$models && !entry$by_score && is.null(effect$source$asked$model)
}

check_difference <- function(x, asked, call) {
  if (design_kind(x) == "raw" && !is.null(design_score(x))) {
    warn_kind("unadjusted", c(
      "The design has a score but neither pairs nor weights: the difference is the raw one.",
      i = "Call {.fn pair_units} or {.fn weigh_units}, or use {.code estimator = \"augmented\"}."
    ))
  }
  warn_known_score(x)
}

check_regression <- function(x, asked, call) {
  estimand <- study_of(x)$estimand
  if (reuses_units(x) && length(setdiff(asked$family, "gaussian")) > 0L) {
    abort_unsupported(c("The bias correction of matches is linear.",
                        i = "Leave {.arg family} out, or pair without replacement."), call = call)
  }
  if (has_known_population(estimand) || !is.null(design_score(x)) || is_contrast_of_arms(x)) return(invisible(x))
  abort_unsupported(c("Outcome regression can't answer the {estimand} without a score: its population is defined by
                       it.", i = "Call {.fn score_units} first."), call = call)
}

check_augmented <- function(x, asked, call) {
  estimator <- asked$estimator
  estimand <- study_of(x)$estimand
  if (has_pairs(x) || is_matched_arms(x)) {
    abort_unsupported(c(
      "The {estimator} estimator works on scores and weights, not on pairs.",
      i = "Use {.code estimator = \"regression\"} here, or {.fn weigh_units} in place of
           {.fn {paste0(pairing_step(x)$verb, '_units')}}."
    ), call = call)
  }
  modelled_alone <- if (is.null(study_of(x)$outside)) is.null(design_score(x)) &&
    (!has_weights(x) || !has_known_population(estimand)) else !has_weights(x)
  if (modelled_alone) {
    abort_input(c("The {estimator} estimator needs a propensity score.", i = "Call {.fn score_units} first."),
                call = call)
  }
}

check_crossfit <- function(x, asked, call) {
  if (!is.null(design_responses(x))) {
    abort_unsupported(c("Cross-fitting knows no response weights.", i = "Use {.code estimator = \"augmented\"}."),
                      call = call)
  }
  if (design_kind(x) != "raw") {
    abort_unsupported(c(
      "Cross-fitting learns score and weights anew in every fold; it can't use the {design_kind(x)} of a design.",
      i = "Give it the scored study, or use {.code estimator = \"augmented\"} here."
    ), call = call)
  }
  if (is.null(asked$learners) && is.null(score_behind(x)$settings$learners)) {
    abort_input(c("Cross-fitting needs {.arg learners} of the outcome.",
                  i = "For example {.code learners = c(\"logit\", \"forest\")}."), call = call)
  }
}

difference_means <- function(x, units, asked) {
  own <- unit_weights(x, units)
  if (asked$normalise) {
    means <- core_weighted_means(units$y, units$z, own$v, own$nuisance)
    return(if (is_raw_error(asked$error)) c(means, raw_errors(units, asked$error)) else means)
  }
  target <- effect_target(x, units)
  nothing <- known_model(numeric(length(units$y)))
  core_augmented_means(units$y, units$z, own$v, own$nuisance, target$t, target$nuisance, list(nothing, nothing), FALSE)
}

# One outcome model per arm, fitted with the design's weights, averaged over whom the estimand speaks of.
regression_means <- function(block, units, asked, call) {
  own <- unit_weights(block$x, units)
  target <- effect_target(block$x, units)
  models <- arm_models(block, units, own$v, asked, call)
  core_regression_means(own$v, own$nuisance, target$t, target$nuisance, models)
}

augmented_means <- function(block, units, asked, call) {
  own <- score_weights(block$x, units)
  target <- effect_target(block$x, units)
  models <- arm_models(block, units, unit_sampling(block$x, units), asked, call)
  means <- core_augmented_means(units$y, units$z, own$v, own$nuisance, target$t, target$nuisance, models,
                                asked$normalise)
  c(means, own["made"])
}

targeted_means <- function(block, units, asked, call) {
  own <- score_weights(block$x, units)
  target <- effect_target(block$x, units)
  models <- if (is.null(asked$learners)) {
    arm_models(block, units, unit_sampling(block$x, units), asked, call)
  } else {
    learnt_models(block, units, asked, call)
  }
  range <- if (block$shares) c(0, 1) else range(units$y[units$used])
  c(core_targeted_means(units$y, units$z, own$v, own$nuisance, target$t, target$nuisance, models, range), own["made"])
}
