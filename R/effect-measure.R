#' Measure the effect of the treatment on an outcome
#'
#' Opens the outcome, the first verb to do so, and estimates both potential-outcome means and their contrasts on a
#' design, with standard errors that account for the estimated score and outcome models (METHODS, "Effects" and
#' "Standard errors").
#'
#' * `estimator = "difference"` compares weighted means: the raw comparison on a bare study, the matching estimator on
#'   pairs and sets (variance clustered on the set), the weighted one on weights (Hajek: normalised by arm), the
#'   stratified one on strata, exact and coarsened sets.
#' * `estimator = "regression"` averages the predictions of one outcome model per arm over the estimand's population:
#'   regression adjustment on a bare study, on weights and on matched samples, whose weights the models are fitted with.
#'   On pairs with replacement it is the bias-corrected matching estimator (Abadie & Imbens 2011).
#' * `estimator = "augmented"` adds one outcome model per arm to the weights (inverse weights where the design has only
#'   a score); right when either the weights or the outcome models are. It needs a score or weights, and no pairs.
#'
#' With replacement the variance is Abadie & Imbens' (2006), with their (2016) adjustment when the match is on a score
#' estimated by maximum likelihood and nothing else; units are then taken as independent, and clusters can't be used.
#'
#' Clusters and strata named in the study are used without being asked. On pairs and sets with clusters the variance is
#' that of pair sums, two-way by the clusters of the treated and of the control unit, and never below that of
#' independent sets (strata are then not centred, which is conservative). With clusters, intervals use Student's t
#' with G - 1 degrees of freedom. Units whose outcome is missing are counted and left out here, with their pair if they
#' are in one (the other partners of a larger set share its weight); on weights they still take part in the score.
#'
#' @param x A `twin_study` or `twin_design`.
#' @param outcome Name of one of the study's outcomes; the first by default.
#' @param estimator `"difference"` (default), `"regression"` or `"augmented"`.
#' @param model For `"regression"` and `"augmented"`: a one-sided formula for the outcome models in the study's
#'   covariates; the study's covariates, as framed, by default.
#' @param family For `"regression"` and `"augmented"`: `"gaussian"` or `"binomial"` (logit); by default binomial for
#'   outcomes that are 0/1 and gaussian for others. On pairs with replacement always gaussian.
#' @param inference `"analytic"` (default): standard errors from influence contributions or the matching variance.
#'   `"bootstrap"` is refused: with replacement it is wrong (Abadie & Imbens 2008), elsewhere the analytic standard
#'   errors already account for every step.
#' @param cluster Name of a column of clusters, in place of the study's.
#' @param level Confidence level, default 0.95.
#' @param lonely_stratum What to do when a survey stratum is left with one cluster: `"stop"` (default) names it;
#'   `"centre"` centres it on the grand mean.
#' @return A `twin_effect`. `tidy()` gives one row per term with the columns `outcome`, `estimator`, `estimand`,
#'   `term` (`"mean_treated"`, `"mean_control"`, `"difference"`, `"ratio"` when both means are positive,
#'   `"odds_ratio"` for shares; for the difference on strata also `"stratum 1"`, ..., the difference within each),
#'   `estimate`, `std.error`, `statistic`, `p.value`, `conf.low`, `conf.high`. Differences are treated minus control.
#'   For ratios the statistic, p-value and interval are worked out on the log scale, the standard error is that of the
#'   ratio. `coef()`, `vcov()`, `confint()`, `nobs()` and `glance()` work as usual; `augment()` gives each unit's
#'   influence contribution.
#' @section Warnings: On weights from learners' scores the difference raises `twin_warning_known_score`, since no
#'   standard error accounts for their estimation. `twin_warning_clusters` when a study has clusters and its pairs are
#'   with replacement.
#' @section Errors: `twin_error_input` for unknown outcomes or too few clusters, `twin_error_unsupported` for an
#'   estimator that does not fit the design, `twin_error_separation` and `twin_error_convergence` from outcome models.
#' @references Abadie, A., Imbens, G. W. (2006). Large sample properties of matching estimators for average treatment
#'   effects. Econometrica 74. \doi{10.1111/j.1468-0262.2006.00655.x}
#'
#'   Abadie, A., Imbens, G. W. (2008). On the failure of the bootstrap for matching estimators. Econometrica 76.
#'   \doi{10.3982/ECTA6474}
#'
#'   Abadie, A., Imbens, G. W. (2011). Bias-corrected matching estimators for average treatment effects. Journal of
#'   Business & Economic Statistics 29. \doi{10.1198/jbes.2009.07333}
#'
#'   Abadie, A., Imbens, G. W. (2016). Matching on the estimated propensity score. Econometrica 84.
#'   \doi{10.3982/ECTA11293}
#'
#'   Abadie, A., Spiess, J. (2022). Robust post-matching inference. JASA 117.
#'   \doi{10.1080/01621459.2020.1840383}
#'
#'   Lunceford, J. K., Davidian, M. (2004). Stratification and weighting via the propensity score in estimation of
#'   causal treatment effects. Statistics in Medicine 23. \doi{10.1002/sim.1903}
#' @family effects
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = c("income", "sold_direct"),
#'                      covariates = ~ boat_length + crew_size + port_size, cluster = "harbour")
#' design <- study |> score_units() |> weigh_units()
#' measure_effect(design)
#' measure_effect(design, outcome = "sold_direct", estimator = "augmented")
#' @export
measure_effect <- function(x, outcome = NULL, estimator = c("difference", "regression", "augmented"), model = NULL,
                           family = NULL, inference = "analytic", cluster = NULL, level = 0.95,
                           lonely_stratum = c("stop", "centre")) {
  check_design(x)
  study <- study_of(x)
  estimator <- check_choice(estimator, c("difference", "regression", "augmented"))
  lonely_stratum <- check_choice(lonely_stratum, c("stop", "centre"))
  check_number(level, min = 0, max = 1, open = TRUE)
  outcome <- check_outcome(outcome, study)
  check_estimator(x, estimator, model, family)
  check_inference(x, inference)
  clusters <- effect_clusters(study, cluster)
  if (reuses_units(x) && !is.null(clusters$codes)) clusters <- warn_clusters(clusters$name)

  y <- open_outcome(study, outcome, "measure_effect")
  shares <- attr(y, "shares")
  units <- effect_units(x, as.double(y), study$z)
  check_measured_arms(units, study, outcome)
  check_family_outcome(family, shares, outcome)
  means <- effect_means(x, units, estimator, model, if (is.null(family)) default_family(shares) else family)
  result <- core_contrasts(means, shares)
  inference <- if (is.null(means$vcov)) {
    if (design_kind(x) == "strata" && estimator == "difference") {
      result <- with_strata(result, stratum_differences(x, units))
    }
    found <- effect_vcov(x, result$influence, units, clusters, lonely_stratum)
    if (design_kind(x) == "cells" && estimator == "difference") {
      found$vcov <- found$vcov + contrast_vcov(cell_shortfalls(x, units), result)
    }
    found
  } else {
    list(vcov = contrast_vcov(means$vcov, result), df = Inf, text = means$text)
  }
  inference$text <- paste(c(inference$text, taken_as_given(x, estimator)), collapse = ", ")
  new_effect(x, result, inference, units, list(outcome = outcome, estimator = estimator, level = level,
                                               shares = shares))
}

default_family <- function(shares) if (shares) "binomial" else "gaussian"

effect_means <- function(x, units, estimator, model, family, call = rlang::caller_env()) {
  if (reuses_units(x)) return(match_means(x, units, estimator, model, call))
  switch(estimator,
    difference = difference_means(x, units),
    regression = regression_means(x, units, model, family, call),
    augmented = augmented_means(x, units, model, family, call)
  )
}

# What small cells leave out of the variances of the two means.
cell_shortfalls <- function(x, units) {
  s <- unit_sampling(x, units)
  cell <- x$set[units$rows]
  target <- s * core_target_weight(NULL, units$z, x$study$estimand)
  diag(vapply(1:0, function(arm) core_cell_shortfall(units$y, s * (units$z == arm), target, cell), 0))
}

contrast_vcov <- function(vcov, result) {
  out <- crossprod(result$slopes, vcov %*% result$slopes)
  dimnames(out) <- list(names(result$estimate), names(result$estimate))
  out
}

with_strata <- function(result, strata) {
  list(estimate = c(result$estimate, strata$estimate), influence = cbind(result$influence, strata$influence))
}

# Which study rows carry influence (`rows`), which of them are averaged (`used`) and with which design weight (`w`), and
# their data. Units without an outcome or with sampling weight 0 leave with their pair; on weights they stay as carriers
# of the score's influence. counted: per study row, was the unit in the sample the design started from, with a known
# outcome? all_y: per study row.
effect_units <- function(x, y, z) {
  present <- !is.na(y)
  counted <- present & sampling_weight(study_of(x)) > 0
  weight <- design_weight(x)
  pairs <- if (has_pairs(x)) measured_pairs(x, counted)
  if (!is.null(pairs)) weight <- core_pair_weights(pairs, length(y))
  inside <- design_kept(x) & counted & weight > 0
  carries <- if (has_weights(x) || (design_kind(x) == "raw" && !is.null(design_score(x)))) {
    rep(TRUE, length(y))
  } else {
    inside
  }
  rows <- which(carries)
  before <- if (has_pairs(x)) x$before_pairs else design_kept(x)
  missing <- sum(design_kept(x) & !present)
  y[!present] <- 0
  list(rows = rows, used = inside[rows], w = weight[rows], y = y[rows], z = z[rows], pairs = pairs,
       counted = counted & before, all_y = y, missing = missing)
}

# Sampling weight of the units at hand, 0 for those that are not averaged.
unit_sampling <- function(x, units) sampling_weight(study_of(x))[units$rows] * units$used

difference_means <- function(x, units) {
  s <- unit_sampling(x, units)
  v <- s * units$w
  if (!has_weights(x)) return(core_weighted_means(units$y, units$z, v))
  core_weighted_means(units$y, units$z, v, s, core_carry(weight_nuisance(x)))
}

# The difference within each stratum, as further estimates beside the means.
stratum_differences <- function(x, units) {
  s <- unit_sampling(x, units)
  set <- x$set[units$rows]
  parts <- lapply(seq_len(max(set, na.rm = TRUE)), function(k) {
    inside <- s * (set %in% k)
    if (any(tapply(inside > 0, units$z, sum) == 0L)) return(NULL)  # no outcome left in one arm of it
    means <- core_weighted_means(units$y, units$z, inside)
    list(estimate = means$estimate[[1L]] - means$estimate[[2L]], influence = means$influence %*% c(1, -1))
  })
  names <- paste("stratum", seq_along(parts))
  found <- !vapply(parts, is.null, NA)
  influence <- do.call(cbind, lapply(parts[found], `[[`, "influence"))
  colnames(influence) <- names[found]
  list(estimate = stats::setNames(vapply(parts[found], `[[`, 0, "estimate"), names[found]), influence = influence)
}

arm_models <- function(x, units, weight, model, family, call) {
  study <- study_of(x)
  terms <- model_terms(study, model, call)
  matrix <- covariate_matrix(terms$columns, terms$formula)[units$rows, , drop = FALSE]
  lapply(c(treated = 1L, control = 0L), function(arm) {
    outcome_model(matrix, units$y, weight * (units$z == arm), family, arm, study, call)
  })
}

# One outcome model per arm, fitted with the design's weights, averaged over whom the estimand speaks of.
regression_means <- function(x, units, model, family, call) {
  s <- unit_sampling(x, units)
  nuisance <- if (has_weights(x)) weight_nuisance(x) else core_known(length(units$rows))
  target <- effect_target(x)
  h <- target$weight[units$rows]
  models <- arm_models(x, units, s * units$w, model, family, call)
  core_regression_means(s, h, models, units$w, core_carry(nuisance))
}

augmented_means <- function(x, units, model, family, call) {
  study <- x$study
  s <- unit_sampling(x, units)
  models <- arm_models(x, units, s, model, family, call)
  target <- effect_target(x)
  weight <- if (has_weights(x)) design_weight(x) else core_inverse_weight(x$score$fitted, study$z, study$estimand)
  nuisance <- if (has_weights(x)) weight_nuisance(x) else inverse_nuisance(x)
  core_augmented_means(units$y, study$z, s, weight, core_carry(nuisance), target$weight, core_carry(target$nuisance),
                       models)
}

# Whom the outcome models average over. Only ATO and ATM ask the score.
effect_target <- function(x) {
  study <- study_of(x)
  e <- design_score(x)$fitted
  weight <- core_target_weight(e, study$z, study$estimand)
  if (!study$estimand %in% c("ATO", "ATM")) return(list(weight = weight, nuisance = core_known(length(study$z))))
  slope <- core_target_weight_slope(e, study$z, study$estimand)
  list(weight = weight, nuisance = score_function_nuisance(x, slope))
}

# One arm's outcome model: fitted values for all rows, their slope in the linear predictor, and its carry.
outcome_model <- function(matrix, y, weight, family, arm, study, call) {
  fit <- core_fit(matrix, y, weight, family)
  name <- sprintf("the %s arm (%s)", if (arm == 1L) "treated" else "control",
                  study$levels[[if (arm == 1L) "treated" else "control"]])
  if (fit$status == "separated") {
    abort_separation(c(
      "The outcome model of {name} is separated: covariates tell its 0s from its 1s without error.",
      i = "Use {.code family = \"gaussian\"}, a smaller {.arg model}, or {.code estimator = \"difference\"}."
    ), call = call)
  }
  if (fit$status != "converged") {
    abort_convergence(c("The outcome model of {name} did not converge.", i = "Use a smaller {.arg model}."),
                      call = call)
  }
  if (length(fit$aliased) > 0L) warn_outcome_aliased(colnames(matrix)[fit$aliased], name)
  residual <- weight * (y - fit$fitted)
  list(
    fitted = fit$fitted,
    slope = if (family == "binomial") fit$fitted * (1 - fit$fitted) else rep(1, length(y)),
    carry = core_carry(core_regression_nuisance(matrix, fit$covariance, residual))
  )
}

# A column that is constant within one arm can't be estimated there; predictions for the other arm then lean on 0.
warn_outcome_aliased <- function(terms, name) {
  warn_kind("aliased", c(
    "The outcome model of {name} leaves out {.val {terms}}: the other terms explain {?it/them} there.",
    i = "Its predictions do not vary with {cli::qty(length(terms))}{?it/them}; name a smaller {.arg model} to say so."
  ), terms = terms)
}

# list(vcov, df, text): METHODS, "one currency".
effect_vcov <- function(x, influence, units, clusters, lonely, call = rlang::caller_env()) {
  study <- study_of(x)
  cluster <- clusters$codes[units$rows]
  if (!is.null(cluster)) check_cluster_count(cluster[units$used], clusters$name, call)
  if (has_pairs(x)) return(set_vcov(x, influence, units, cluster, clusters$name))
  stratum <- study$stratum[units$rows]
  out <- core_vcov(influence, cluster, stratum, units$used, lonely)
  if (!is.null(out$lonely)) stop_lonely(attr(study$stratum, "labels")[as.integer(out$lonely)], study, call)
  by <- c(if (is.null(cluster)) "robust" else sprintf("clustered by %s (%d)", clusters$name, out$clusters),
          if (!is.null(stratum)) sprintf("within %s", study$roles$stratum))
  list(vcov = out$vcov, df = if (is.null(cluster)) Inf else out$clusters - 1, text = paste(by, collapse = ", "))
}

# What the standard error takes as given, in words.
taken_as_given <- function(x, estimator) {
  if (!inherits(x, "twin_design")) return(NULL)
  method <- x$weighing$method
  by_score <- if (has_weights(x)) any(c("inverse", "strata") %in% method) else
    design_kind(x) == "raw" && estimator == "augmented"
  by_method <- c(own = "weights", strata = "strata", cells = "cells", cardinality = "sample")
  given <- c(
    if (by_score && x$score$known) "score", unname(by_method[intersect(method, names(by_method))]),
    if (trims(x)) "trimming", if (has_weights(x) && !all(x$weighing$free)) "truncation"
  )
  if (length(given) > 0L) sprintf("taking the %s as given", and_list(given))
}

effect_clusters <- function(study, cluster, call = rlang::caller_env()) {
  if (is.null(cluster)) return(list(codes = study$cluster, name = study$roles$cluster))
  check_string(cluster, call = call)
  check_columns(cluster, study$data, call = call)
  list(codes = group_codes(study$data[[cluster]][study$rows], cluster, "cluster", study$rows, call), name = cluster)
}

check_outcome <- function(outcome, study, call = rlang::caller_env()) {
  if (is.null(outcome)) return(study$roles$outcome[1L])
  check_string(outcome, call = call)
  if (outcome %in% study$roles$outcome) return(outcome)
  near <- nearest_name(outcome, study$roles$outcome)
  abort_input(c(
    "{.arg outcome} must be one of the study's outcomes.",
    x = "It is {.val {outcome}}; the study has {.val {study$roles$outcome}}.",
    i = if (is.null(near)) "Name it in {.fn frame_study}." else "Did you mean {.val {near}}?"
  ), call = call)
}

# The population of a contrast of several arms holds units of the others, for whom there are no outcome models here.
check_two_arms <- function(x, estimator, call) {
  if (is.null(study_of(x)$outside)) return(invisible(x))
  abort_unsupported(c("The {estimator} estimator works on two arms, not on contrasts of several.",
                      i = "Use {.code estimator = \"difference\"}, or frame both arms with {.arg subset}."),
                    call = call)
}

check_estimator <- function(x, estimator, model, family, call = rlang::caller_env()) {
  if (estimator == "difference") return(check_difference(x, model, family, call))
  if (!is.null(family)) check_choice(family, c("gaussian", "binomial"), "family", call)
  check_two_arms(x, estimator, call)
  if (estimator == "regression") check_regression(x, family, call) else check_augmented(x, call)
}

check_regression <- function(x, family, call) {
  if (reuses_units(x) && identical(family, "binomial")) {
    abort_unsupported(c("The bias correction of matches is linear.",
                        i = "Leave {.arg family} out, or pair without replacement."), call = call)
  }
  if (!study_of(x)$estimand %in% c("ATO", "ATM")) return(invisible(x))
  abort_unsupported(c("Outcome regression alone can't answer the {study_of(x)$estimand}, which speaks of the score.",
                      i = "Use {.code estimator = \"augmented\"}."), call = call)
}

check_augmented <- function(x, call) {
  if (has_pairs(x)) {
    abort_unsupported(c(
      "The augmented estimator works on scores and weights, not on pairs.",
      i = "Use {.code estimator = \"regression\"} here, or {.fn weigh_units} in place of
           {.fn {if (design_kind(x) == 'pairs') 'pair_units' else 'group_units'}}."
    ), call = call)
  }
  if (is.null(design_score(x)) && (!has_weights(x) || study_of(x)$estimand %in% c("ATO", "ATM"))) {
    abort_input(c("The augmented estimator needs a propensity score.", i = "Call {.fn score_units} first."),
                call = call)
  }
}

check_difference <- function(x, model, family, call) {
  if (!is.null(model) || !is.null(family)) {
    abort_input(c("{.arg model} and {.arg family} belong to {.code estimator = \"regression\"} and
                   {.code \"augmented\"}.", i = "Leave them out, or name one of those estimators."), call = call)
  }
  if (design_kind(x) == "raw" && !is.null(design_score(x))) {
    warn_kind("unadjusted", c(
      "The design has a score but neither pairs nor weights: the difference is the raw one.",
      i = "Call {.fn pair_units} or {.fn weigh_units}, or use {.code estimator = \"augmented\"}."
    ))
  }
  warn_known_score(x)
}

check_inference <- function(x, inference, call = rlang::caller_env()) {
  inference <- check_choice(inference, c("analytic", "bootstrap"), "inference", call)
  if (inference == "analytic") return(invisible(inference))
  if (reuses_units(x)) {
    abort_unsupported(c(
      "The bootstrap is wrong for nearest-neighbour matching with replacement (Abadie & Imbens 2008).",
      x = "How often a control is used does not vary among draws as it does among samples, so that the bootstrap's
           standard error misses the truth in samples of any size.",
      i = "Use {.code inference = \"analytic\"}."
    ), call = call)
  }
  abort_unsupported(c("Standard errors here are analytic: they account for every step of the design.",
                      i = "Leave {.arg inference} out."), call = call)
}

# Matching with replacement has no clustered variance that is known to be right.
warn_clusters <- function(name) {
  warn_kind("clusters", c(
    "The standard error of matching with replacement takes units as independent; the clusters of {.val {name}} are not
     used.",
    i = "Pair without replacement, use {.code group_units(x, \"full\")} or {.fn weigh_units} for clustered ones."
  ), cluster = name)
  list(codes = NULL, name = NULL)
}

# A machine-learned score has no influence to carry; the augmented estimator needs none to first order.
warn_known_score <- function(x) {
  learnt <- has_weights(x) && !is.null(x$score$learners) && x$weighing$method %in% c("inverse", "strata")
  if (!learnt) return(invisible(x))
  warn_kind("known_score", c(
    "The standard error takes the learners' score as known; it may be too small or too large.",
    i = "{.code estimator = \"augmented\"} depends on the score's error in second order only."
  ))
}

check_family_outcome <- function(family, shares, outcome, call = rlang::caller_env()) {
  if (!identical(family, "binomial") || shares) return(invisible(family))
  abort_input(c("{.code family = \"binomial\"} needs an outcome of 0 and 1.",
                x = "The values of {.val {outcome}} are other numbers.",
                i = "Use {.code family = \"gaussian\"}."), column = outcome, call = call)
}

check_measured_arms <- function(units, study, outcome, call = rlang::caller_env()) {
  if (any(units$used) && diff(range(units$y[units$used])) == 0) {
    abort_input(c(
      "The outcome {.val {outcome}} does not vary: it is {units$y[units$used][1L]} for every unit in use.",
      i = "There is no effect to measure."
    ), column = outcome, call = call)
  }
  size <- c(treated = sum(units$used & units$z == 1L), control = sum(units$used & units$z == 0L))
  if (all(size >= 2L)) return(invisible(units))
  arm <- names(size)[size < 2L][1L]
  abort_input(c(
    "Each arm must have at least 2 units with an outcome.",
    x = "The {arm} arm ({.val {study$levels[[arm]]}}) has {size[[arm]]} in {.val {outcome}};
         {units$missing} value{?s} {?is/are} missing."
  ), arm = arm, call = call)
}

check_cluster_count <- function(cluster, name, call) {
  count <- length(unique(cluster))
  if (count < 2L) {
    abort_input(c("A clustered standard error needs at least 2 clusters.",
                  x = "{.val {name}} has {count} among the units in use."), call = call)
  }
  if (count < 20L) {
    warn_kind("few_clusters", c(
      "Only {count} clusters in {.val {name}}: clustered standard errors tend to be too small.",
      i = "Intervals use t with {count - 1} degrees of freedom; read them with care."
    ))
  }
}

stop_lonely <- function(strata, study, call) {
  abort_input(c(
    "A survey stratum must keep at least 2 clusters.",
    x = "{.val {study$roles$stratum}}: only one is left in {.val {strata}}.",
    i = "Merge strata, or use {.code lonely_stratum = \"centre\"} to centre it on the grand mean."
  ), strata = strata, call = call)
}
