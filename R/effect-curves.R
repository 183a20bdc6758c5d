# Survival curves of one arm, by weights alone or augmented by a model. Each is a list of times (of its events) and two
# functions of a time: survival, the share left, and restricted, the mean time up to it; they give list(estimate,
# influence = function()).

# carry: derivatives in the weights to influence.
weighted_curve <- function(y, event, v, inside, carry) {
  curve <- core_survival_curve(y, event, v * inside)
  delayedAssign("slopes", core_survival_slopes(curve, y, event, inside))
  list(
    times = curve$times,
    survival = function(at) {
      list(estimate = core_survival_at(curve, at), influence = function() carry(slopes(at)))
    },
    restricted = function(until) {
      list(estimate = core_restricted_mean(curve, until),
           influence = function() carry(core_restricted_away(curve, y, event, inside, until)))
    },
    errors = function(at, regression, counted) {
      core_curve_errors(curve, at, y, event, inside, v, regression, counted)
    }
  )
}

# The models of the curves are taken as given in their errors: to first order they don't matter where weights or models
# are right. own: unit_weights(); inside: per arm, 1 for its units.
augmented_curves <- function(x, units, event, own, inside, model, call) {
  covariates <- hazard_covariates(x, units, model, "curve_model", call)
  target <- effect_target(x, units)
  s <- unit_sampling(x, units)
  Map(function(arm, name) {
    hazard <- core_arm_hazard(units$y, event, s * arm, covariates)
    check_arm_hazard(hazard, name, study_of(x), colnames(covariates), call)
    uncensored <- core_uncensored_before(hazard$times, units$y, event, own$v * arm)
    parts <- core_augmented_parts(hazard, uncensored)
    mean_of <- function(parts) {
      core_augmented_mean(parts$fitted + parts$residual, arm, own$v, own$nuisance, target$t, target$nuisance,
                          known_model(parts$fitted))
    }
    list(times = hazard$times, survival = function(at) mean_of(parts$survival(at)),
         restricted = function(until) mean_of(parts$restricted(until)))
  }, inside, names(inside))
}

# Curves where who is censored depends on covariates: whose time is known counts for those like it whose time is not. v:
# weights of the units; inside: per arm, 1 for its units.
censored_curves <- function(x, units, event, v, inside, model, horizon, carry, call) {
  covariates <- hazard_covariates(x, units, model, "censoring_model", call)
  time <- units$y
  s <- unit_sampling(x, units)
  Map(function(arm, name) {
    censoring <- core_censoring(time, event, s * arm, covariates)
    check_arm_hazard(censoring, name, study_of(x), colnames(covariates), call, "censoring_model")
    own <- v * arm
    mean_of <- function(value, until) {
      complete <- (time <= until & event == 1) | time >= until
      known <- pmin(time, until)
      found <- core_complete_mean(value, complete, censoring$before(known), own)
      list(estimate = found$estimate, influence = function() {
        carry(found$away) + length(time) * censoring$carried(found$slope, known)
      })
    }
    warn_rarely_seen(censoring$before(pmin(time, horizon))[own > 0], name, study_of(x))
    list(times = sort(unique(time[event == 1 & own > 0])),
         survival = function(at) mean_of(as.numeric(time > at | (event == 0 & time == at)), at),
         restricted = function(until) mean_of(pmin(time, until), until))
  }, inside, names(inside))
}

# Units who were hardly ever watched for so long carry much of the weight.
warn_rarely_seen <- function(chance, arm, study) {
  if (min(chance) >= 0.05) return(invisible(chance))
  warn_kind("weights", c(
    "In the {arm} arm ({.val {study$levels[[arm]]}}) some units had a chance of {number_text(min(chance))} of being
     watched for so long: each counts for many.", i = "An earlier {.arg horizon} leans on them less."
  ))
}

# argument: which model it is.
check_arm_hazard <- function(hazard, arm, study, columns, call, argument = "curve_model") {
  what <- c(curve_model = "curve", censoring_model = "censoring")[[argument]]
  if (length(hazard$aliased) > 0L) {
    warn_outcome_aliased(columns[hazard$aliased], sprintf("the %s arm's %s", arm, what))
  }
  if (hazard$converged) return(invisible(hazard))
  seen <- c(curve_model = "events", censoring_model = "censored times")[[argument]]
  abort_convergence(c("The model of the {arm} arm's {what} ({.val {study$levels[[arm]]}}) did not converge.",
                      i = "The arm has too few {seen} for it: use fewer covariates in {.arg {argument}}."),
                    call = call)
}
