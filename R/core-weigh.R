# Inverse weights: Methods, "Notation" (h / e for treated, h / (1 - e) for controls), and their derivative in e. The
# register of estimands has h.

core_inverse_weight <- function(e, z, estimand) {
  own <- abs(1 - z - e)  # e for treated, 1 - e for control units
  estimands[[estimand]]$tilt(e) / own
}

core_inverse_weight_slope <- function(e, z, estimand) {
  h <- estimands[[estimand]]$tilt(e)
  slope <- estimands[[estimand]]$slope(e)
  own <- abs(1 - z - e)
  (slope * own - (2 * z - 1) * h) / own^2
}

# Whom the model-based part of the augmented estimator averages over: Methods, "Effects" (the treated themselves
# for ATT, not their scores), and its derivative in e.
core_target_weight <- function(e, z, estimand) {
  switch(population_of(estimand), everybody = rep(1, length(z)), treated = as.double(z == 1L),
         control = as.double(z == 0L), score = estimands[[estimand]]$tilt(e))
}

core_target_weight_slope <- function(e, z, estimand) {
  if (has_known_population(estimand)) numeric(length(z)) else estimands[[estimand]]$slope(e)
}

# Methods, "Balancing weights": which arms are weighted, and towards whose moments. A named list of arms (1, 0), each
# the 0/1 indicator of its target.
core_balancing_targets <- function(z, estimand) {
  all <- rep(1, length(z))
  switch(population_of(estimand),
    treated = list(control = as.double(z == 1L)),
    control = list(treated = as.double(z == 0L)),
    everybody = list(treated = all, control = all)
  )
}

# Entropy or stable weights of one arm towards the moments of a target. x: n x p moments; s: n, 0 where a unit is out;
# arm, target: n 0/1. tolerance: p raw units for stable weights, NULL for entropy. Returns the kernel's facts with
# `weight` on all n rows (0 outside the arm).
core_balance_arm <- function(x, s, arm, target, tolerance = NULL) {
  fit <- glue_fit_balancing(x, as.double(s), as.double(arm), as.double(target), tolerance)
  fit$target <- drop(fit$target)
  fit
}

# Entropy: sum s [arm w (1, x) - target (1, x)] = 0, w = exp(b0 + x'b).
core_entropy_nuisance <- function(x, s, arm, target, fit) {
  regression <- core_regression_nuisance(x, fit$covariance, s * (target - arm * fit$weight))
  core_scaled(regression, arm * fit$weight)
}

# Stable: the same equations for the active columns, each shifted by its tolerance towards the side of its multiplier,
# w = max(0, b0 + x'b). tolerance: p; tolerance_influence: function of a p-vector u, n: the influence on u'tolerance
# (it is a multiple of an estimated sd).
core_stable_nuisance <- function(x, s, arm, target, fit, tolerance, tolerance_influence) {
  side <- sign(fit$coefficients[-1L])
  shift <- side * tolerance
  regression <- core_regression_nuisance(x, fit$covariance, s * (target - arm * fit$weight))
  n <- length(s)
  list(
    gradient = function(v) regression$gradient(v * arm * (fit$weight > 0)),
    influence = function(u) {
      direction <- drop(fit$covariance %*% u)[-1L]
      regression$influence(u) - n * s * target * sum(shift * direction) -
        sum(s * target) * tolerance_influence(side * direction)
    }
  )
}

# Marginal mean weights: Methods, "Strata". cell: stratum codes (NA outside), s: n, 0 where a unit is out.
core_stratum_weight <- function(stratum, z, s, estimand) {
  factors <- core_stratum_factors(core_cell_totals(stratum, z, s), population_of(estimand))
  weight <- ifelse(z == 1L, factors$treated[stratum], factors$control[stratum])
  weight[is.na(stratum)] <- 0
  weight
}

# From sums: the weight of each cell. ATT: treated 1, controls n_1s / n_0s; ATC its mirror; ATE n_s Pr(Z = z) / n_zs.
# total: of core_cell_totals(); a list of treated and control like it.
core_stratum_factors <- function(total, population) {
  one <- rep(1, length(total$treated))
  whole <- total$treated + total$control
  switch(population,
    treated = list(treated = one, control = total$treated / total$control),
    control = list(treated = total$control / total$treated, control = one),
    everybody = lapply(total, function(own) whole * sum(own) / sum(whole) / own)
  )
}

# Methods, exact and coarsened matching: the weights of the arm that is made to stand for the other, times (all of it
# kept / all of the other kept), so that they have mean 1.
core_scale_other_arm <- function(weight, z, s, estimand) {
  if (!population_of(estimand) %in% c("treated", "control")) return(weight)
  other <- z != seeking_arms(estimand)
  weight[other] <- weight[other] * sum(s[other]) / sum(s[!other])
  weight
}

# Parameters: the cell totals n_zs. The strata themselves are taken as given. The factor common to an arm (Pr(Z = z),
# the mean of 1) is left out: it cancels from every estimator, all of which are normalised by arm.
core_stratum_nuisance <- function(stratum, z, s, weight, estimand) {
  size <- core_cell_totals(stratum, z, s)
  own <- list(treated = z == 1L, control = z == 0L)
  by_stratum <- function(v) core_sums_by(v, stratum)
  list(
    gradient = function(v) {
      core_stratum_gradient(lapply(own, function(inside) by_stratum(v * weight * inside)), size, estimand)
    },
    influence = function(u) {
      at <- ifelse(z == 1L, u$treated[stratum], u$control[stratum])
      at[is.na(stratum)] <- 0
      length(z) * s * at - sum(u$treated * size$treated + u$control * size$control)
    }
  )
}

# From sums by cell and arm, of v w and of the sampling weights: log-derivatives of w, d log w / d n_zs.
core_stratum_gradient <- function(part, size, estimand) {
  whole <- size$treated + size$control
  switch(population_of(estimand),
    treated = list(treated = part$control / size$treated, control = -part$control / size$control),
    control = list(treated = -part$treated / size$treated, control = part$treated / size$control),
    everybody = list(treated = (part$treated + part$control) / whole - part$treated / size$treated,
                     control = (part$treated + part$control) / whole - part$control / size$control)
  )
}

# What a fit leaves of each moment's gap, weighted mean of the arm minus target.
core_moment_gaps <- function(x, s, arm, fit) {
  v <- s * arm * fit$weight
  drop(crossprod(x, v)) / sum(v) - fit$target
}

# The sd that standardizes differences in x and, as a function, each unit's influence on it: n v_i times its derivative
# in the sampling weight v_i. from: "treated", "control" or "pooled"; share: is x 0/1, with variance p (1 - p)?
core_reference_spread <- function(x, z, v, from, share) {
  arms <- switch(from, treated = 1L, control = 0L, c(1L, 0L))
  parts <- lapply(arms, function(arm) arm_variance(x, v * (z == arm), share))
  sd <- sqrt(mean(vapply(parts, `[[`, 0, "variance")))
  list(sd = sd, influence = function() {
    if (sd == 0) return(numeric(length(x)))
    Reduce(`+`, lapply(parts, function(part) part$influence())) / (2 * length(parts) * sd)
  })
}

arm_variance <- function(x, v, share) {
  total <- sum(v)
  mean <- sum(v * x) / total
  if (share) {
    return(list(variance = mean * (1 - mean), influence = function() {
      length(x) * v * (1 - 2 * mean) * (x - mean) / total
    }))
  }
  squares <- sum(v^2)
  divisor <- total - squares / total
  variance <- sum(v * (x - mean)^2) / divisor
  list(variance = variance, influence = function() {
    length(x) * v * ((x - mean)^2 - variance * (1 - 2 * v / total + squares / total^2)) / divisor
  })
}
