# What may be asked of which design; each refusal names the reason and the nearest thing that is possible.

check_measured <- function(x, estimator, call = rlang::caller_env()) {
  if (!is_arms(x)) return(check_design(x, "x", call, remote = TRUE))
  if (!is.null(x$designs) || is.null(x$score)) return(invisible(x))
  entry <- if (rlang::is_string(estimator)) estimators[[estimator]]
  if (isTRUE(entry$by_score) || identical(entry$learns, "always")) return(invisible(x))
  stop_undesigned(x, call)
}

# Options that have no use with the others asked for, and values out of range.
check_options <- function(x, asked, given, call = rlang::caller_env()) {
  refuse <- function(stray, useful, with) {
    if (!useful) refuse_stray(intersect(stray, given), with, call = call)
  }
  estimator <- asked$estimator
  entry <- estimators[[estimator]]
  learnt <- entry$learns == "always" || !is.null(asked$learners)
  # functions: making such text takes longer than all checks together
  with <- function() cli::format_inline("{.code estimator = \"{estimator}\"}")
  for (option in estimator_options()) refuse(option, option %in% entry$arguments, with())
  refuse("family", !learnt, "learners, who look at the outcome themselves")
  refuse("scale_model", "heteroskedastic_probit" %in% asked$family, "other families than \"heteroskedastic_probit\"")
  refuse("folds", learnt || "folds" %in% entry$arguments, "an estimator without learners")
  reuse <- any(vapply(finished_designs(x), reuses_units, NA))
  refuse(c("correction", "neighbours", "conditional"), reuse, "designs other than matching with replacement")
  refuse("products", !reuse && is.null(asked$learners), if (reuse) "matching with replacement (see `correction`)" else
    "learners")
  way <- function() cli::format_inline("{.code inference = \"{asked$inference}\"}")
  refuse(c("draws", "interval"), asked$inference == "bootstrap", way())
  refuse(c("replicates", "replicate_scale"), asked$inference == "replicates", way())
  refuse("cluster", asked$inference != "replicates", way())
  check_option_values(asked, call)
  check_by_outcome(asked, call)
}

check_option_values <- function(asked, call) {
  check_count(asked$folds, min = 2, arg = "folds", call = call)
  check_count(asked$repeats, min = 1, arg = "repeats", call = call)
  check_flag(asked$normalise, "normalise", call)
  check_count(asked$draws, min = 2, arg = "draws", call = call)
  check_level(asked$level, arg = "level", call = call)
  check_number(asked$replicate_scale, min = 0, open = TRUE, null = TRUE, arg = "replicate_scale", call = call)
  check_seed(asked$seed, arg = "seed", call = call)
  check_count(asked$neighbours, min = 1, arg = "neighbours", call = call)
  check_flag(asked$conditional, "conditional", call)
  check_products(asked, call)
  check_string(asked$by, null = TRUE, arg = "by", call = call)
  check_flag(asked$bands, "bands", call)
  p <- asked$quantiles
  if (!is.null(p) && !(is_plain_numbers(p) && all(is.finite(p)) && all(p > 0 & p < 1) && !anyDuplicated(p))) {
    abort_input("{.arg quantiles} must be different shares between 0 and 1, such as c(0.25, 0.5, 0.75).", call = call)
  }
}

check_products <- function(asked, call) {
  products <- asked$products
  if (is.null(products)) return(invisible(products))
  if (!rlang::is_formula(products) && !(is.character(products) && length(products) > 0L && !anyNA(products))) {
    abort_input(c("{.arg products} must be {.val none}, a one-sided formula or names of covariates.",
                  x = "It is {describe_value(products)}."), call = call)
  }
  apart <- Filter(function(family) isFALSE(outcome_families[[family]]$together), as.character(unlist(asked$family)))
  if (length(apart) > 0L) {
    abort_unsupported(c("The family {.val {apart[1L]}} has a model per arm.", i = "Leave {.arg products} out."),
                      call = call)
  }
}

# One effect has nothing to be adjusted for.
check_looks <- function(blocks, asked, call = rlang::caller_env()) {
  asks <- c(adjust = asked$adjust != "none", bands = asked$bands)
  if (length(blocks) > 1L || length(asked$estimand) > 1L || !any(asks)) return(invisible(blocks))
  abort_input(c("{.arg {names(asks)[asks]}} {?has/have} no use with a single effect.",
                i = "Name several outcomes, groups ({.arg by}) or arms, or leave {cli::qty(sum(asks))}{?it/them} out."),
              call = call)
}

# model and family may be one for all outcomes, or named by outcome.
check_by_outcome <- function(asked, call) {
  if (!is.null(asked$model) && !rlang::is_formula(asked$model)) check_named_by_outcome(asked, "model", call)
  if (!is.null(names(asked$family)) || length(asked$family) > 1L) check_named_by_outcome(asked, "family", call)
  for (family in as.list(asked$family)) check_choice(family, names(outcome_families), "family", call)
}

check_named_by_outcome <- function(asked, arg, call) {
  names <- names(asked[[arg]])
  stray <- setdiff(names, asked$outcome)
  if (!is.null(names) && length(stray) == 0L) return(invisible(asked))
  abort_input(c("{.arg {arg}} must be one for all outcomes, or named by outcome.",
                x = if (length(stray) > 0L) "Not among the outcomes asked for: {.val {stray}}."), call = call)
}

check_estimator <- function(x, asked, call = rlang::caller_env()) {
  entry <- estimators[[asked$estimator]]
  entry$check(x, asked, call)
  if (reuses_units(x)) check_reuse(entry, asked$estimator, call)
  if (!asked$normalise) check_plain_inverse(x, asked$estimator, call)
  if (!is.null(asked$quantiles)) check_quantiles(x, asked, call)
  if (asked$error != "robust") check_error_kind(x, asked, call)
  if (!is.null(asked$by)) check_groups_of(x, asked$by, call)
}

check_reuse <- function(entry, estimator, call) {
  if (!is.null(entry$words_reuse)) return(invisible(entry))
  abort_unsupported(c("The {estimator} estimator has no form for matching with replacement.",
                      i = "Pair without replacement, or use {.fn weigh_units}."), call = call)
}

check_plain_inverse <- function(x, estimator, call) {
  inverse <- has_weights(x) && weighing_of(x)$sums && !isTRUE(x$weighing$stabilise)
  by_score <- estimators[[estimator]]$by_score && design_kind(x) == "raw"
  if (inverse || by_score) return(invisible(x))
  abort_unsupported(c("{.code normalise = FALSE} is for inverse weights that are not stabilised.",
                      i = "Leave it out, or use {.fn weigh_units} with its default method."), call = call)
}

check_quantiles <- function(x, asked, call) {
  if (reuses_units(x)) {
    abort_unsupported(c("No standard error of quantiles is known for matching with replacement.",
                        i = "Pair without replacement, or use {.fn weigh_units}."), call = call)
  }
  if (!asked$normalise) {
    abort_unsupported("Quantiles are those of normalised weights; leave one of both out.", call = call)
  }
  events <- study_of(x)$events[asked$outcome]
  two <- asked$outcome[!vapply(events, is.na, NA)]
  if (length(two) == 0L) return(invisible(x))
  abort_input(c("An outcome with two values has no quantiles of interest: {.val {two}}.",
                i = "Leave {.arg quantiles} out for it."), call = call)
}

# Errors for independent units without weights, on the designs they are known for.
check_error_kind <- function(x, asked, call) {
  kinds <- error_kinds[[asked$error]]$designs
  study <- study_of(x)
  if (!design_kind(x) %in% kinds || (design_kind(x) == "raw" && reuses_units(x))) {
    abort_unsupported(c("{.code error = \"{asked$error}\"} is for {error_kinds[[asked$error]]$on}.",
                        i = "Use {.code error = \"robust\"} here."), call = call)
  }
  against <- c(if (!is.null(study$s)) "sampling weights",
               if (!is.null(c(study$cluster, asked$cluster))) "clusters", if (!is.null(study$stratum)) "survey strata",
               if (!is.null(asked$quantiles)) "quantiles", if (!asked$normalise) "weights that are not normalised",
               if (asked$inference != "analytic") sprintf("inference = \"%s\"", asked$inference))
  if (length(against) == 0L) return(invisible(x))
  abort_unsupported(c("{.code error = \"{asked$error}\"} knows neither weights, clusters, survey strata nor draws.",
                      x = "Here there {?is/are} {against}.", i = "Use {.code error = \"robust\"}."), call = call)
}

# Sets of both directions have no seeker, so that a group's units would not be each other's partners.
check_groups_of <- function(x, by, call) {
  estimand <- study_of(x)$estimand
  if (groups_whole_arms(x) || (design_kind(x) == "sets" && length(seeking_arms(estimand)) == 2L)) {
    abort_unsupported(c("Sets for the {estimand} can't be divided by {.val {by}} afterwards.",
                        i = "Group with {.code exact = \"{by}\"} on a {.arg subset}, or use {.fn weigh_units}."),
                      call = call)
  }
}

check_inference <- function(x, asked, call = rlang::caller_env()) {
  if (asked$inference == "replicates") check_replicates(asked, study_of(x), call)
  if (length(asked$cluster) > 1L) check_two_clusters(x, asked, call)
  if (asked$inference == "analytic") return(invisible(x))
  if (estimators[[asked$estimator]]$own_variance) {
    abort_unsupported(c("Cross-fitting has a variance of its own, which counts the draws of folds.",
                        i = "Leave {.arg inference} out."), call = call)
  }
  if (inherits(x, "twin_design") && is_contrast_of_arms(x)) {
    abort_unsupported(c("One contrast of several arms can't be made anew without the other arms.",
                        i = "Measure all of them at once: give {.fn measure_effect} the arms themselves."),
                      call = call)
  }
  if (any(vapply(finished_designs(x), reuses_units, NA))) {
    abort_unsupported(c(
      "The {asked$inference} is wrong for nearest-neighbour matching with replacement (Abadie & Imbens 2008).",
      x = "How often a control is used does not vary among draws as it does among samples, so that its standard error
           misses the truth in samples of any size.",
      i = "Use {.code inference = \"analytic\"}."
    ), call = call)
  }
}

check_two_clusters <- function(x, asked, call) {
  if (length(asked$cluster) > 2L) abort_input("{.arg cluster} takes one or two columns.", call = call)
  if (asked$inference != "analytic") {
    abort_unsupported(c("Draws can keep one kind of cluster whole, not two.",
                        i = "Name one {.arg cluster}, or use {.code inference = \"analytic\"}."), call = call)
  }
  if (any(vapply(finished_designs(x), has_pairs, NA))) {
    abort_unsupported(c("Pairs and sets are clustered themselves; a second column makes three ways.",
                        i = "Name one {.arg cluster}."), call = call)
  }
}

# Matching with replacement has no clustered variance that is known to be right.
warn_clusters <- function(name) {
  warn_kind("clusters", c(
    "The standard error of matching with replacement takes units as independent; the clusters of {.val {name}} are not
     used.",
    i = "Pair without replacement, use {.code group_units(x, \"full\")} or {.fn weigh_units} for clustered ones."
  ), cluster = name)
  list(codes = list(), name = NULL)
}

# A machine-learned score has no influence to carry; the augmented estimator needs none to first order.
warn_known_score <- function(x) {
  if (!has_weights(x) || !weighing_of(x)$by_score || is.null(score_behind(x)$learners)) return(invisible(x))
  robust <- names(Filter(function(entry) entry$robust && entry$by_score, estimators))
  warn_kind("known_score", c(
    "The standard error takes the learners' score as known; it may be too small or too large.",
    i = "The estimators {.or {.val {robust}}} depend on the score's error in second order only."
  ))
}

check_measured_arms <- function(units, study, block, call = rlang::caller_env()) {
  where <- group_phrase(block)
  arms <- lapply(c(treated = 1L, control = 0L), function(arm) {
    inside <- units$z == arm
    y <- units$y[if (all(units$used)) inside else inside & units$used]
    list(size = length(y), range = if (length(y) > 0L) value_ends(y))
  })
  ends <- range(unlist(lapply(arms, `[[`, "range")), -Inf, Inf, finite = TRUE)
  size <- vapply(arms, `[[`, 0L, "size")
  if (any(size > 0L) && diff(ends) == 0) {
    abort_input(c(
      "The outcome {.val {block$outcome}} does not vary: it is {ends[1L]} for every unit in use{where}.",
      i = "There is no effect to measure."
    ), column = block$outcome, call = call)
  }
  if (all(size >= 2L)) return(warn_constant_arm(arms, study, block))
  arm <- names(size)[size < 2L][1L]
  abort_input(c(
    "Each arm must have at least 2 units with an outcome{where}.",
    x = "The {arm} arm ({.val {study$levels[[arm]]}}) has {size[[arm]]} in {.val {block$outcome}};
         {units$missing} value{?s} {?is/are} missing."
  ), arm = arm, call = call)
}

group_phrase <- function(block) if (is.null(block$group)) "" else sprintf(" among \"%s\"", block$group)

warn_constant_arm <- function(arms, study, block) {
  for (arm in names(arms)) {
    range <- arms[[arm]]$range
    if (range[1L] != range[2L]) next
    code <- as.integer(arm == "treated")
    warn_kind("constant_arm", c(
      "The outcome {.val {block$outcome}} is {range[1L]} for all {arms[[arm]]$size} units of {arm_name(code, study)}.",
      i = "The standard error counts no uncertainty there; ratios may be undefined."
    ), arm = code)
  }
  invisible(arms)
}

# Bounds on inverse weights are for weights that could be probabilities.
stop_no_probabilities <- function(least, call) {
  abort_unsupported(c("These weights are no inverse probabilities: the least is {number_text(least)}, below 1.",
                      i = "Use inverse weights, or weigh for ATT."), call = call)
}
