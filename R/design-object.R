# A design is weights: kept flags, weights and sets, one entry per study row, and the recipe that made them.

# parent: a study or a design. kind: "raw", "pairs", "sets", "cells", "weights" or "strata". kept: logical (NULL: as in
# the parent); weight: double (NULL for 1); set: integer, NA outside any set (NULL when there are none); score: what
# score_units() makes; pairs: data frame; weighing: what weight_nuisance() needs (both NULL when there are none); note:
# words on the population, added to those of the parent; responses: by outcome, see weigh_responses(); metric: what
# search_metric() makes; reason: per study row the code of why matching left it out, 0 for the others
# (unmatched_reasons; NULL where there was no matching); cautions: texts of warnings; steps: in place of the parent's
# and this one.
new_design <- function(parent, step, kind = design_kind(parent), score = design_score(parent), kept = NULL,
                       weight = NULL, set = NULL, pairs = NULL, weighing = NULL, note = character(),
                       metric = design_metric(parent), reason = NULL, steps = c(design_steps(parent), list(step))) {
  study <- study_of(parent)
  n <- length(study$z)
  stopifnot(is.null(kept) || length(kept) == n, is.null(weight) || length(weight) == n,
            is.null(set) || length(set) == n)
  before <- if (!is.null(reason)) design_kept(parent) else if (inherits(parent, "twin_design")) parent$before_pairs
  if (is.null(reason) && inherits(parent, "twin_design")) reason <- parent$reason
  if (is.null(kept) && inherits(parent, "twin_design")) kept <- parent$kept
  structure(list(
    study = study, steps = steps, kind = kind, score = score, kept = kept, weight = weight, set = set, pairs = pairs,
    weighing = weighing, metric = metric, moments = NULL, before_pairs = before, reason = reason,
    recipe = design_recipe(parent), responses = design_responses(parent),
    note = c(if (inherits(parent, "twin_design")) parent$note, note), cautions = design_cautions(parent),
    hash = rlang::hash(list(study$hash, steps))
  ), class = "twin_design")
}

#' @exportS3Method
study_of.twin_design <- function(x) x$study # nolint: object_name_linter. An S3 method.

#' @exportS3Method
over_sets.twin_design <- function(first, results) new_imputed(results) # nolint: object_name_linter. An S3 method.

# What has a recipe and cautions of its own without being a design of two arms.
other_questions <- c("twin_arms", "twin_dose", "twin_course")

design_steps <- function(x) if (inherits(x, "twin_design")) x$steps else list()
design_kind <- function(x) if (inherits(x, "twin_design")) x$kind else "raw"
design_cautions <- function(x) if (inherits(x, c("twin_design", other_questions))) x$cautions else character()
design_metric <- function(x) if (inherits(x, "twin_design")) x$metric
design_score <- function(x) if (inherits(x, "twin_design")) x$score

# Design weight per study row, without the sampling weight; 0 for units that are out.
design_weight <- function(x) {
  weight <- if (inherits(x, "twin_design")) x$weight
  if (is.null(weight)) as.double(design_kept(x)) else weight
}

design_kept <- function(x) {
  kept <- if (inherits(x, "twin_design")) x$kept
  if (is.null(kept)) rep(TRUE, length(study_of(x)$z)) else kept
}

# Sampling weights of the units still in, 0 for the others: what a further step is estimated with.
kept_weight <- function(x) sampling_weight(study_of(x)) * design_kept(x)

# Weights that answer to moments or counts; pairs and sets weigh by who is with whom.
has_weights <- function(x) design_kind(x) %in% c("weights", "strata", "cells")
has_pairs <- function(x) design_kind(x) %in% c("pairs", "sets")

# The step that made pairs or groups, NULL when there is none.
pairing_step <- function(x) {
  steps <- Filter(function(step) step$verb %in% c("pair", "group"), design_steps(x))
  if (length(steps) > 0L) steps[[length(steps)]]
}
reuses_units <- function(x) isTRUE(pairing_step(x)$replacement)

trims <- function(x) any(vapply(design_steps(x), function(step) step$verb == "trim", NA))

# Does the design differ from the sample it started from? A score alone changes nothing.
alters_sample <- function(x) {
  design_kind(x) != "raw" || (if (is_remote(x)) !is.null(x$kept_word) else !all(design_kept(x)))
}

# How a design was made, for running it anew: a list of list(verb, arguments). Not part of `steps`, whose hash says
# whether two designs are the same.
design_recipe <- function(x) if (inherits(x, c("twin_design", other_questions))) x$recipe else list()

# The arguments that a verb was given, but for x.
given_arguments <- function(call, env = rlang::caller_env()) {
  mget(setdiff(names(call)[-1L], "x"), envir = env)
}

# made is evaluated here, so that what it warns of stays with the design.
remember <- function(made, x, verb, arguments) {
  made <- with_cautions(made, design_cautions(x))
  amend(made, recipe = c(design_recipe(x), list(list(verb = verb, arguments = arguments))))
}

replay <- function(study, recipe) {
  for (step in recipe) study <- do.call(design_verbs()[[step$verb]], c(list(study), step$arguments))
  study
}

# The design or arms x made anew from another study of the same units.
# index: the units' places among those of x, where they are not the same ones.
replay_on <- function(x, study, index = NULL) {
  if (!is_arms(x)) return(replay(study, design_recipe(x)))
  replay(new_arms(study, if (is.null(index)) x$arm else x$arm[index], x$levels), design_recipe(x))
}

# The design or arms made anew on a draw of its units: list(made, index), index the study rows behind its units where
# they differ from the study's own. weight: of the units in the draw, sampling weights included; counts: how often each
# was drawn, factor: what each then stands for. Pairs need units, so that a unit drawn twice is there twice; everything
# else reads weights.
redrawn_on <- function(x, weight, counts = NULL, factor = NULL) {
  study <- amend(study_of(x), logbook = NULL)
  stopifnot(length(design_recipe(x)) > 0L || !inherits(x, "twin_design"))
  index <- NULL
  pairs <- any(vapply(finished_designs(x), function(design) has_pairs(design) || groups_whole_arms(design), NA))
  if (pairs && !is.null(counts)) {
    index <- rep(seq_along(study$z), counts)
    if (!is.null(factor)) study <- amend(study, s = sampling_weight(study) * factor)
    study <- study_rows(study, index)
  } else {
    study <- amend(study, s = weight)
    if (pairs) {
      index <- which(study$s > 0)
      study <- study_rows(study, index)
    }
  }
  list(made = replay_on(x, study, index), index = index)
}

# What draws can't estimate anew: columns of the user's own.
held_in_draws <- function(x) {
  if (is_arms(x) && !is.null(x$designs)) x <- x$designs[[1L]]
  if (!inherits(x, "twin_design")) return(NULL)
  c(if (identical(x$score$settings$source, "column")) "score",
    if (has_weights(x) && !weighing_of(x)$estimated) "weights")
}

# s * w, the weights of every mean and variance after the design.
full_weight <- function(x) {
  study <- study_of(x)
  if (is.null(study$s)) design_weight(x) else design_weight(x) * study$s
}

plain_score <- "score, no pairs or weights yet"

# The weights to compare: before the design and, when there is one, after it.
design_samples <- function(x) {
  before <- list(before = sampling_weight(study_of(x)))
  if (alters_sample(x)) c(before, list(after = full_weight(x))) else before
}

# The recipe in the user's own words, for prints and figures.
design_label <- function(x) {
  labels <- vapply(design_steps(x), `[[`, "", "label")
  if (length(labels) == 0L) return("raw sample")
  if (length(labels) > 1L) labels <- labels[labels != plain_score]  # goes without saying
  paste(labels, collapse = ", ")
}

# remote: can the verb work on a table in a database?
check_design <- function(x, arg = rlang::caller_arg(x), call = rlang::caller_env(), remote = FALSE) {
  if (!remote) refuse_remote(x, call)
  if (is_course(x)) {
    abort_unsupported(c("{.arg {arg}} is of treatment over time.",
                        i = "For it there are {.fn score_units}, {.fn weigh_units}, {.fn assess_balance} and
                             {.fn measure_course}."), call = call)
  }
  if (is_dose(x)) {
    abort_unsupported(c("{.arg {arg}} is of a dose, which has no arms.",
                        i = "For doses there are {.fn score_units}, {.fn weigh_units}, {.fn assess_balance} and
                             {.fn measure_response}."), call = call)
  }
  if (is_arms(x)) {
    abort_input(c("{.arg {arg}} must have two arms.", i = "Take them one at a time from {.fn contrasts_of}."),
                call = call)
  }
  check_class(x, c("twin_study", "twin_design"), c("frame_study", "score_units"), arg, call)
}

check_score <- function(x, verb, call = rlang::caller_env(), remote = FALSE) {
  check_design(x, "x", call, remote)
  if (!is.null(design_score(x))) return(invisible(x))
  abort_input(c("{.fn {verb}} needs a propensity score.", i = "Call {.fn score_units} first."), call = call)
}

check_undesigned <- function(x, verb, call = rlang::caller_env()) {
  if (!is.null(design_responses(x))) {
    abort_unsupported(c("{.fn {verb}} comes before {.fn weigh_responses}, which is the last step of a design.",
                        i = "Call {.fn {verb}} first."), call = call)
  }
  if (design_kind(x) == "raw") return(invisible(x))
  abort_unsupported(c(
    "{.fn {verb}} can't be put on top of a design that already has {design_kind(x)}.",
    i = "Start again from the scored study."
  ), call = call)
}

# Moments of every covariate in the sample before and, where there is one, after the design (balance_moments()). A
# design in the logbook carries its own.
design_moments <- function(x) {
  if (inherits(x, "twin_design") && !is.null(x$moments)) return(x$moments)
  if (is_remote(x)) remote_moments(x) else balance_moments(study_of(x), design_samples(x))
}

# Worst absolute standardized difference over all covariates and levels (NA when none is defined), but for levels that
# only one arm has, named by its row; after: the weights to judge in place of the design's.
worst_imbalance <- function(x, after = NULL) {
  study <- study_of(x)
  samples <- if (is.null(after)) design_moments(x) else
    balance_moments(study, utils::modifyList(design_samples(x), list(after = after)))
  worst_row(samples, study$estimand)
}

# samples: of balance_moments(), the sample before the design first and the one to judge last.
worst_row <- function(samples, estimand) {
  before <- samples$before
  after <- samples[[length(samples)]]
  reference <- core_reference_sd(before$var_treated, before$var_control, reference_arm(estimand))
  size <- abs(standardized(after$mean_treated - after$mean_control, reference))
  size[in_one_arm(before)] <- NA
  if (all(is.na(size))) return(c(none = NA_real_))
  worst <- which.max(size)
  stats::setNames(size[worst], row_name(after$covariate[worst], after$level[worst]))
}

log_design <- function(design, verb, counts, settings, seed = NA_integer_) {
  if (is.null(design$study$logbook)) return(design)  # a replicate
  if (alters_sample(design)) design <- amend(design, moments = design_moments(design))
  log_step(design$study, verb, design_label(design), counts, settings, seed,
           worst = if (alters_sample(design)) unname(worst_imbalance(design)) else NA_real_,
           design = if (design$kind != "raw") design$hash else NA_character_)
  design
}
