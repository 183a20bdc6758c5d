#' Measure the effect of the treatment on how long something lasts
#'
#' For times that may be censored: the hazard ratio of a Cox regression on the treatment, weighted by the design; the
#' survival curves of both arms under the design's weights; survival and mean time up to a horizon, with their
#' differences ([Methods, "Effects"](../doc/methods.html#effects)). Standard errors come from influence contributions
#' that account for the estimated score and weights, clustered as in [measure_effect()].
#'
#' A hazard ratio compares those still there at each moment, and so changes over time even when the treatment's effect
#' does not; the difference of restricted mean times is easier to read and needs no proportional hazards.
#'
#' @param x A `twin_study` or `twin_design`; not with replacement. A `twin_arms` of [frame_arms()] gives the hazards of
#'   each comparison with the reference, see [several].
#' @param time Name of the outcome that holds times, not negative.
#' @param event Name of the outcome that says whether the event was seen (1) or the time was censored (0).
#' @param model A one-sided formula of covariates that enter the Cox regression beside the treatment; none by default.
#'   The hazard ratio then compares units with the same covariates, which differs from the one without them even where
#'   there is no confounding; curves and mean times stay those of the weights.
#' @param curve_model A one-sided formula of covariates of a Cox model in each arm, whose mean over the target
#'   population is corrected by the arm's weighted residuals; none by default. Curves and mean times (not the hazard
#'   ratio) are then augmented: they hold where the weights are right, or the models; where both are they vary less than
#'   by weights alone. Censoring must depend on nothing beyond the arm, or the models must be right. Such a curve need
#'   not fall at every step, and may leave 0 to 1 by a little. For designs with weights; the models are taken as given
#'   in standard errors (to first order they do not matter), which `inference = "bootstrap"` does not.
#' @param censoring_model A one-sided formula of covariates on which being censored depends, by a Cox model in each arm;
#'   none by default: censoring then depends on nothing beyond the arm. Given, curves and mean times are means over
#'   units whose time is known, each by the inverse of its chance of being watched so long (Robins & Finkelstein 2000).
#'   Not with `curve_model`; the hazard ratio stays as it is. Such a curve need not fall at every step. Standard errors
#'   account for the estimation of the models.
#' @param horizon Up to when; by default the earlier of the arms' last times.
#' @param inference,draws,interval,replicates,replicate_scale,cluster,level,lonely_stratum,seed As in
#'   [measure_effect()].
#' @return A `twin_effect` of the class `twin_hazard`. Its terms are `"hazard_ratio"` (treated over control; statistic
#'   and interval on the log scale), `"survival_treated"`, `"survival_control"`, `"survival_difference"` (share without
#'   the event at the horizon), `"restricted_mean_treated"`, `"restricted_mean_control"`,
#'   `"restricted_mean_difference"` (mean time up to the horizon). `tidy(x, part = "curves")` gives the curves: `arm`,
#'   `time`, `survival`, `std.error`, `conf.low`, `conf.high` (on the log-log scale). `plot()` draws them above the
#'   numbers at risk, weighted and as counted.
#' @section Errors: `twin_error_input` for unknown outcomes, negative times, an event that is not yes/no, an arm without
#'   events, or a horizon beyond an arm's last time; `twin_error_unsupported` with replacement and for augmented
#'   curves on pairs or without weights; `twin_error_convergence` where an arm has too few events.
#' @references Lin, D. Y., Wei, L. J. (1989). The robust inference for the Cox proportional hazards model. JASA 84.
#'   \doi{10.1080/01621459.1989.10478874}
#'
#'   Bai, X., Tsiatis, A. A., O'Brien, S. M. (2013). Doubly-robust estimators of treatment-specific survival
#'   distributions in observational studies with stratified sampling. Biometrics 69. \doi{10.1111/biom.12076}
#'
#'   Robins, J. M., Finkelstein, D. M. (2000). Correcting for noncompliance and dependent censoring in an AIDS clinical
#'   trial with inverse probability of censoring weighted (IPCW) log-rank tests. Biometrics 56.
#'   \doi{10.1111/j.0006-341X.2000.00779.x}
#'
#'   Satten, G. A., Datta, S. (2001). The Kaplan-Meier estimator as an inverse-probability-of-censoring weighted
#'   average. The American Statistician 55. \doi{10.1198/000313001317098185}
#'
#'   Royston, P., Parmar, M. K. B. (2013). Restricted mean survival time. BMC Medical Research Methodology 13.
#'   \doi{10.1186/1471-2288-13-152}
#' @family effects
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = c("months_afloat", "left"),
#'                      covariates = ~ boat_length + crew_size + past_income)
#' design <- study |> score_units() |> weigh_units()
#' effect <- measure_hazard(design, time = "months_afloat", event = "left")
#' effect
#' plot(effect)
#' measure_hazard(design, "months_afloat", "left", curve_model = ~ boat_length + crew_size + past_income)
#' @export
measure_hazard <- function(x, time, event, model = NULL, curve_model = NULL, censoring_model = NULL, horizon = NULL,
                           inference = c("analytic", "bootstrap", "jackknife", "replicates"),
                           interval = c("percentile", "normal"), replicates = NULL, replicate_scale = NULL,
                           cluster = NULL, lonely_stratum = c("stop", "centre"), level = 0.95, draws = 1000,
                           seed = NULL) {
  if (is_imputed(x)) return(in_each_set(x, measure_hazard, match.call()))
  if (is_arms(x)) return(in_each_part(contrasts_by_name(x), "contrast", measure_hazard, match.call()))
  given <- names(Filter(Negate(is.null), given_arguments(match.call())))
  check_design(x)
  study <- study_of(x)
  check_string(time)
  check_string(event)
  check_outcomes_asked(c(time, event), study)
  check_number(horizon, min = 0, open = TRUE, null = TRUE)
  asked <- list(
    estimator = "survival", normalise = TRUE, model = model, curve_model = curve_model,
    censoring_model = censoring_model, horizon = horizon,
    folds = 2, repeats = 1, neighbours = 2,
    conditional = FALSE,
    inference = check_choice(inference, c("analytic", "bootstrap", "jackknife", "replicates")), draws = draws,
    interval = check_choice(interval, c("percentile", "normal")), replicates = as_given(replicates),
    replicate_scale = replicate_scale, cluster = as_given(cluster), level = level, bands = FALSE,
    lonely = check_choice(lonely_stratum, c("stop", "centre")), seed = if (is.null(seed)) 1 else seed
  )
  check_options(x, asked, given)
  common <- hear_cautions(check_hazard_design(x))$cautions
  if (!is.null(curve_model)) check_augmented_curves(x)
  if (!is.null(curve_model) && !is.null(censoring_model)) {
    abort_input(c("Curves are augmented by {.arg curve_model} or weighed by {.arg censoring_model}, not both.",
                  i = "Leave one of them out."))
  }
  check_inference(x, asked)
  asked$clusters <- effect_clusters(study, asked$cluster)
  block <- hazard_block(x, time, event)
  effect <- with_cautions(measure_lasting(block, asked), common)
  log_effects(list(effect), asked)
  if (asked$inference == "analytic") return(effect)
  asked$horizon <- effect$horizon
  again <- hear_cautions(resample_effects(x, list(effect), list(block), asked))
  with_cautions(again$value$effects[[1L]], again$cautions)
}

check_hazard_design <- function(x, call = rlang::caller_env()) {
  if (reuses_units(x)) {
    abort_unsupported(c("No standard error of a hazard ratio is known for matching with replacement.",
                        i = "Pair without replacement, or use {.fn weigh_units}."), call = call)
  }
  if (design_kind(x) == "raw" && !is.null(design_score(x))) {
    warn_kind("unadjusted", c("The design has a score but neither pairs nor weights: the comparison is the raw one.",
                              i = "Call {.fn pair_units} or {.fn weigh_units}."))
  }
  warn_known_score(x)
}

check_augmented_curves <- function(x, call = rlang::caller_env()) {
  if (has_pairs(x) || is_matched_arms(x) || design_kind(x) == "raw") {
    abort_unsupported(c("Augmented curves need weights, which this design does not have.",
                        i = "Use {.fn weigh_units} or {.fn stratify_units}, or leave {.arg curve_model} out."),
                      call = call)
  }
  if (!has_known_population(study_of(x)$estimand) && is.null(design_score(x))) {
    abort_input(c("The {study_of(x)$estimand} is about a population defined by the score, and the design has none.",
                  i = "Call {.fn score_units} first."), call = call)
  }
}

hazard_block <- function(x, time, event, call = rlang::caller_env()) {
  study <- study_of(x)
  y <- open_outcome(study, time, "measure_hazard")
  happened <- open_outcome(study, event, "measure_hazard")
  if (attr(y, "shares")) {
    abort_input("{.arg time} must be an outcome of times; {.val {time}} has two values.", column = time, call = call)
  }
  if (!attr(happened, "shares")) {
    abort_input(c("{.arg event} must be an outcome that is yes or no; {.val {event}} holds other numbers.",
                  i = "Code it 1 (seen) and 0 (censored)."), column = event, call = call)
  }
  bad <- which(y < 0)
  if (length(bad) > 0L) {
    abort_input(c("Times must not be negative.",
                  x = "{.val {time}} is in {length(bad)} row{?s}; first: {first_rows(study$rows[bad])}."),
                column = time, rows = study$rows[bad], call = call)
  }
  y <- as.double(y)
  y[is.na(happened)] <- NA
  list(x = x, outcome = time, event_name = event, y = y, event = as.double(happened), shares = FALSE)
}

measure_lasting <- function(block, asked, call = rlang::caller_env()) {
  x <- block$x
  units <- effect_units(x, block$y, outcome = block$outcome)
  check_measured_arms(units, study_of(x), block, call)
  result <- hazard_terms(block, units, asked, call)
  influence <- result$influence()
  if (sums_by_unit(x)) {
    known <- hazard_terms(block, utils::modifyList(units, list(given = TRUE)), asked, call)
    influence <- set_influence(x, units, known$influence(), influence)
    result$curves <- Map(function(curve, given) c(curve, list(given = given)), result$curves, known$curves)
  }
  found <- effect_vcov(x, influence, units, asked$clusters, asked$lonely, call)
  found$given <- taken_as_given(x, asked)
  new_hazard(
    new_effect(block, list(estimate = result$estimate, influence = influence, by_unit = sums_by_unit(x)), found, units,
               asked),
    event = block$event_name, horizon = result$horizon,
    events = tapply(block$event[units$rows][units$used], units$z[units$used], sum)[c("1", "0")],
    curves = curve_table(result, curve_errors(x, result, units, asked, call)),
    at_risk = risk_table(block, units, result)
  )
}

# An effect on how long something lasts. event: name of the outcome that says what happened; horizon: time to which
# curves are followed; events: how many by arm; curves, at_risk: data frames.
new_hazard <- function(effect, event, horizon, events, curves, at_risk) {
  structure(c(unclass(effect), list(event = event, horizon = horizon, events = events, curves = curves,
                                    at_risk = at_risk)), class = c("twin_hazard", class(effect)))
}

# estimate, influence = function(), horizon and curves by arm.
hazard_terms <- function(block, units, asked, call) {
  x <- block$x
  own <- unit_weights(x, units)
  y <- units$y
  event <- block$event[units$rows]
  event[!units$used] <- 0
  check_events(event, units, own$v, study_of(x), block$event_name, call)
  inside <- list(treated = as.double(units$z == 1L), control = as.double(units$z == 0L))
  horizon <- check_horizon(asked$horizon, vapply(inside, function(arm) max(y[own$v * arm > 0]), 0), study_of(x), call)
  covariates <- hazard_covariates(x, units, asked$model, "model", call)
  cox <- core_cox(y, event, units$z, own$v, covariates)
  if (length(cox$aliased) > 0L) warn_outcome_aliased(colnames(covariates)[cox$aliased], "the hazard")
  if (!cox$converged) {
    abort_convergence(c("The hazard ratio did not converge.", i = "One arm has too few events."), call = call)
  }
  carry <- function(away) length(y) * own$v * away + core_carry(own$nuisance)(away)
  curves <- if (!is.null(asked$curve_model)) {
    augmented_curves(x, units, event, own, inside, asked$curve_model, call)
  } else if (!is.null(asked$censoring_model)) {
    censored_curves(x, units, event, own$v, inside, asked$censoring_model, horizon, carry, call)
  } else {
    lapply(inside, function(arm) weighted_curve(y, event, own$v, arm, carry))
  }
  survival <- lapply(curves, function(curve) curve$survival(horizon))
  restricted <- lapply(curves, function(curve) curve$restricted(horizon))
  estimates <- function(parts) vapply(parts, `[[`, 0, "estimate")
  estimate <- c(hazard_ratio = exp(cox$log_ratio), with_difference("survival", estimates(survival)),
                with_difference("restricted_mean", estimates(restricted)))
  influence <- function() {
    of <- function(parts) vapply(parts, function(part) part$influence(), y) %*% cbind(diag(2), c(1, -1))
    out <- cbind(estimate[[1L]] * carry(cox$away), of(survival), of(restricted))
    colnames(out) <- names(estimate)
    out
  }
  list(estimate = estimate, influence = influence, horizon = horizon, curves = curves, v = own$v,
       regression = if (is.null(c(asked$curve_model, asked$censoring_model))) own$nuisance$regression)
}

# Covariates of a Cox regression, without columns where there is no model. arg: the argument that holds the model.
hazard_covariates <- function(x, units, model, arg, call) {
  study <- study_of(x)
  if (is.null(model)) return(matrix(0, length(units$rows), 0L))
  matrix <- terms_matrix(study, model_terms(study, score_formula(model, study, call, arg), call))
  matrix[units$rows, , drop = FALSE]
}

with_difference <- function(name, values) {
  stats::setNames(c(values, values[[1L]] - values[[2L]]), paste(name, c("treated", "control", "difference"), sep = "_"))
}

check_events <- function(event, units, v, study, name, call) {
  seen <- c(treated = sum(event[units$z == 1L & v > 0]), control = sum(event[units$z == 0L & v > 0]))
  if (all(seen > 0)) return(invisible(seen))
  arm <- names(which.min(seen))
  abort_input(c(
    "Each arm must have at least one event.",
    x = "The {arm} arm ({.val {study$levels[[arm]]}}) has none in {.val {name}}: its hazard is 0, the ratio undefined.",
    i = "Is {.val {name}} coded 1 for the event and 0 for censored?"
  ), arm = arm, counts = seen, call = call)
}

# last: the last time of each arm.
check_horizon <- function(horizon, last, study, call) {
  if (is.null(horizon)) return(min(last))
  if (horizon <= min(last)) return(horizon)
  arm <- names(which.min(last))
  abort_input(c("{.arg horizon} must not lie beyond what both arms were seen for.",
                x = "It is {horizon}; the last time in the {arm} arm ({.val {study$levels[[arm]]}}) is {min(last)}."),
              call = call)
}

# A function of a curve and times that gives the standard errors of survival there. Independent units whose weights hang
# on one regression have them all from one pass; others each by its influence.
curve_errors <- function(x, result, units, asked, call) {
  plain <- !has_pairs(x) && length(asked$clusters$codes) == 0L && is.null(study_of(x)$stratum)
  if (plain && !is.null(result$regression)) {
    return(function(curve, times) curve$errors(times, result$regression, sum(units$asked)))
  }
  function(curve, times) {
    vapply(times, function(time) {
      influence <- cbind(curve$survival(time)$influence())
      if (!is.null(curve$given)) {
        influence <- set_influence(x, units, cbind(curve$given$survival(time)$influence()), influence)
      }
      sqrt(effect_vcov(x, influence, units, asked$clusters, asked$lonely, call)$vcov[1L, 1L])
    }, 0)
  }
}

# Both curves at up to 40 times up to the horizon. errors: of curve_errors().
curve_table <- function(result, errors) {
  parts <- show_progress("Curves", steps = length(result$curves), work = function(tick) {
    lapply(names(result$curves), function(name) {
      curve <- result$curves[[name]]
      times <- curve$times[curve$times <= result$horizon]
      if (length(times) > 40L) times <- unique(times[round(seq(1, length(times), length.out = 40L))])
      survival <- vapply(times, function(time) curve$survival(time)$estimate, 0)
      se <- errors(curve, times)
      tick(name)
      data.frame(arm = name, time = c(0, times, result$horizon), survival = c(1, survival, survival[length(times)]),
                 std.error = c(0, se, se[length(times)]))
    })
  })
  do.call(rbind, parts)
}

# Who is still there at round times: as counted and by weight.
risk_table <- function(block, units, result) {
  times <- pretty(c(0, result$horizon), 6)
  times <- times[times <= result$horizon]
  rows <- lapply(c(treated = 1L, control = 0L), function(arm) {
    inside <- units$z == arm & result$v > 0
    data.frame(arm = names(both_arms)[2L - arm], time = times,
               counted = vapply(times, function(t) sum(inside & units$y >= t), 0),
               weighted = vapply(times, function(t) sum(result$v[inside & units$y >= t]), 0))
  })
  out <- do.call(rbind, unname(rows))
  out$arm <- sub("mean_", "", out$arm)
  out
}

#' @export
tidy.twin_hazard <- function(x, part = c("effect", "curves"), conf.level = x$level, ...) { # nolint: object_name_linter.
  part <- check_choice(part, c("effect", "curves"))
  rlang::check_dots_empty()
  if (part == "effect") return(tidy.twin_effect(x, conf.level = conf.level))
  table <- x$curves
  inner <- table$survival > 0 & table$survival < 1
  s <- ifelse(inner, table$survival, 0.5)
  spread <- core_t_quantile(conf.level, x$df) * table$std.error / abs(s * log(s))
  table$conf.low <- ifelse(inner, s^exp(spread), table$survival)
  table$conf.high <- ifelse(inner, s^exp(-spread), table$survival)
  table
}
