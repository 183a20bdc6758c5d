# METHODS, "Effects". Every estimator returns list(estimate, influence) for the two arm means; contrasts follow by
# the delta method. y, v: doubles; z: 0/1 integer; n rows, no NA.

# Weighted mean of y in each arm, v = s w. `carry`, when the weights w were estimated, turns derivatives in w into
# influence (core-nuisance.R).
core_weighted_means <- function(y, z, v, s = NULL, carry = NULL) {
  arms <- c(mean_treated = 1L, mean_control = 0L)
  estimate <- vapply(arms, function(arm) sum(v * y * (z == arm)) / sum(v * (z == arm)), 0)
  influence <- vapply(names(arms), function(name) {
    inside <- z == arms[[name]]
    away <- (y - estimate[[name]]) * inside / sum(v[inside])
    direct <- length(y) * v * away
    if (is.null(carry)) direct else direct + carry(s * away)
  }, numeric(length(y)))
  list(estimate = estimate, influence = influence)
}

# Augmented weighting. s: sampling weight; w, w_carry: design weight and what its estimation carries; h, h_carry: the
# same of the target weight; models: for treated and control, lists of fitted (n), slope (n, derivative of the fitted
# value in its own linear predictor) and carry.
core_augmented_means <- function(y, z, s, w, w_carry, h, h_carry, models) {
  n <- length(y)
  one_arm <- function(arm, model) {
    inside <- as.double(z == arm)
    target_share <- s * h / sum(s * h)
    residual_share <- s * w * inside / sum(s * w * inside)
    predicted <- sum(target_share * model$fitted)
    remainder <- sum(residual_share * (y - model$fitted))
    away_target <- (model$fitted - predicted) * s / sum(s * h)
    away_residual <- (y - model$fitted - remainder) * s * inside / sum(s * w * inside)
    list(
      estimate = predicted + remainder,
      influence = n * (h * away_target + w * away_residual) +
        h_carry(away_target) + w_carry(away_residual) +
        model$carry((target_share - residual_share) * model$slope)
    )
  }
  treated <- one_arm(1L, models$treated)
  control <- one_arm(0L, models$control)
  list(
    estimate = c(mean_treated = treated$estimate, mean_control = control$estimate),
    influence = cbind(mean_treated = treated$influence, mean_control = control$influence)
  )
}

# Outcome regression: the models' mean predictions over the target. s, h, models: as above; w, w_carry: weights the
# models were fitted with, and what their estimation carries (a unit's weight moves the coefficients by its share of
# the estimating equation).
core_regression_means <- function(s, h, models, w, w_carry) {
  n <- length(s)
  share <- s * h / sum(s * h)
  parts <- lapply(models, function(model) {
    estimate <- sum(share * model$fitted)
    fitted <- model$carry(share * model$slope)
    by_weight <- ifelse(w > 0, fitted / (n * ifelse(w > 0, w, 1)), 0)
    list(estimate = estimate, influence = n * share * (model$fitted - estimate) + fitted + w_carry(by_weight))
  })
  list(
    estimate = c(mean_treated = parts$treated$estimate, mean_control = parts$control$estimate),
    influence = cbind(mean_treated = parts$treated$influence, mean_control = parts$control$influence)
  )
}

# Difference; ratio when both means are positive; odds ratio when both are shares strictly between 0 and 1. slopes: 2 x
# k, derivatives in the two means.
core_contrasts <- function(means, shares = FALSE) {
  m1 <- means$estimate[["mean_treated"]]
  m0 <- means$estimate[["mean_control"]]
  contrasts <- list(difference = list(value = m1 - m0, slope = c(1, -1)))
  if (m1 > 0 && m0 > 0) contrasts$ratio <- list(value = m1 / m0, slope = c(1 / m0, -m1 / m0^2))
  if (shares && min(m1, m0) > 0 && max(m1, m0) < 1) {
    odds <- m1 / (1 - m1) / (m0 / (1 - m0))
    contrasts$odds_ratio <- list(value = odds, slope = odds * c(1 / (m1 * (1 - m1)), -1 / (m0 * (1 - m0))))
  }
  slopes <- vapply(contrasts, `[[`, numeric(2), "slope")
  list(
    estimate = c(means$estimate, vapply(contrasts, `[[`, 0, "value")),
    influence = cbind(means$influence, means$influence %*% slopes),
    slopes = cbind(diag(2), slopes)
  )
}
