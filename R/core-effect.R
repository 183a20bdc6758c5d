# Methods, "Effects". Every estimator returns list(estimate, influence) for the two arm means, influence being a
# function that makes the n x 2 matrix when it is wanted; contrasts follow by the delta method. y: doubles; z: 0/1
# integer; n rows, no NA. v = s w, sampling times design weight; t = s h, the target's weight; each with a nuisance
# (core-nuisance.R), which turns derivatives in v or t into influence. models: for treated and control, lists of fitted
# (n), slope (n, derivative of the fitted value in its own linear predictor) and carry.

both_arms <- c(mean_treated = 1L, mean_control = 0L)

# one_arm: function of the arm's code, list(estimate, influence = function(), n).
core_both_means <- function(one_arm) {
  parts <- lapply(both_arms, one_arm)
  list(estimate = vapply(parts, `[[`, 0, "estimate"),
       influence = function() do.call(cbind, lapply(parts, function(part) part$influence())))
}

# Weighted mean of y in each arm.
core_weighted_means <- function(y, z, v, nuisance = core_known(length(y))) {
  sums <- core_arm_sums(y, z, v)
  means <- core_moments_of(sums)[c("mean_control", "mean_treated"), 1L]
  total <- sums[c("total_control", "total_treated"), 1L]
  core_both_means(function(arm) {
    estimate <- means[[arm + 1L]]
    list(estimate = estimate, influence = function() {
      away <- (y - estimate) * ((z == arm) / total[[arm + 1L]])
      length(y) * v * away + core_carry(nuisance)(away)
    })
  })
}

# Augmented weighting. normalised: are the residual terms divided by the sum of their own weights, or by the target's?
# With fitted values of 0 and without normalising it is the Horvitz-Thompson estimator.
core_augmented_means <- function(y, z, v, v_nuisance, t, t_nuisance, models, normalised = TRUE) {
  core_both_means(function(arm) {
    core_augmented_mean(y, as.double(z == arm), v, v_nuisance, t, t_nuisance, models[[2L - arm]], normalised)
  })
}

# The mean of one arm. inside: 1 for its units, 0 else.
core_augmented_mean <- function(y, inside, v, v_nuisance, t, t_nuisance, model, normalised = TRUE) {
  n <- length(y)
  target <- sum(t)
  whole <- if (normalised) sum(v * inside) else target
  predicted <- sum(t * model$fitted) / target
  remainder <- sum(v * inside * (y - model$fitted)) / whole
  list(estimate = predicted + remainder, influence = function() {
    away_target <- (model$fitted - predicted - if (normalised) 0 else remainder) / target
    away_residual <- (y - model$fitted - if (normalised) remainder else 0) * inside / whole
    n * (t * away_target + v * away_residual) + core_carry(t_nuisance)(away_target) +
      core_carry(v_nuisance)(away_residual) + model$carry((t / target - v * inside / whole) * model$slope)
  })
}

# Outcome regression: the models' mean predictions over the target. v: weights the models were fitted with; a unit's
# weight moves the coefficients by its share of the estimating equation.
core_regression_means <- function(v, v_nuisance, t, t_nuisance, models) {
  n <- length(v)
  target <- sum(t)
  core_both_means(function(arm) {
    model <- models[[2L - arm]]
    estimate <- sum(t * model$fitted) / target
    list(estimate = estimate, influence = function() {
      away <- (model$fitted - estimate) / target
      fitted <- model$carry(t / target * model$slope)
      by_weight <- ifelse(v > 0, fitted / (n * ifelse(v > 0, v, 1)), 0)
      n * t * away + core_carry(t_nuisance)(away) + fitted + core_carry(v_nuisance)(by_weight)
    })
  })
}

# Targeted estimation (van der Laan & Rubin 2006): the models' predictions, on the outcome's range (low, high) and held
# a little inside it, are shifted on the logit scale, by arm, until the weighted residuals of the arm sum to 0; then
# they are averaged over the target. Weighting the shift, in place of a covariate 1/e in it, keeps it small where
# weights are large.
core_targeted_means <- function(y, z, v, v_nuisance, t, t_nuisance, models, range) {
  n <- length(y)
  width <- range[2L] - range[1L]
  y <- (y - range[1L]) / width
  target <- sum(t)
  core_both_means(function(arm) {
    model <- models[[2L - arm]]
    raw <- (model$fitted - range[1L]) / width
    held <- pmin(pmax(raw, 0.005), 0.995)
    r <- v * (z == arm)
    shifted <- stats::plogis(stats::qlogis(held) + core_logit_shift(y, stats::qlogis(held), r))
    estimate <- sum(t * shifted) / target
    list(estimate = range[1L] + width * estimate, influence = function() {
      bend <- shifted * (1 - shifted)
      ratio <- sum(t * bend) / target / sum(r * bend)
      away <- (shifted - estimate) / target
      residual <- ratio * (y - shifted)
      by_model <- (t / target - ratio * r) * bend / (held * (1 - held)) * (raw == held) * model$slope / width
      width * (n * t * away + core_carry(t_nuisance)(away) + n * r * residual +
                 core_carry(v_nuisance)(residual * (z == arm)) + model$carry(by_model))
    })
  })
}

# The number a at which sum r (y - plogis(offset + a)) = 0; y between 0 and 1, not all at one end.
core_logit_shift <- function(y, offset, r) {
  inside <- r > 0
  y <- y[inside]
  offset <- offset[inside]
  r <- r[inside] / sum(r)
  at <- function(a) {
    p <- stats::plogis(offset + a)
    list(value = sum(r * (y * (offset + a) + stats::plogis(-offset - a, log.p = TRUE))), gradient = sum(r * (y - p)),
         information = as.matrix(sum(r * p * (1 - p))))
  }
  sums <- list(at = at, reach = function(direction, by_arm) c(-1, 1))
  near <- core_climb(sums, 0)$coefficients
  core_climb(sums, near)$coefficients  # to rounding: influence and its derivative checks lean on it
}

# The difference, and of the contrasts that make sense for the outcome (`allowed`) those that its means let be defined;
# or the contrasts among the terms named. "ratio" and "odds_ratio" of the means; "percent", of means in logs, by how
# many per cent the treated's geometric mean lies above the controls'. slopes: 2 x k, derivatives in the two means.
core_contrasts <- function(means, allowed = "difference", terms = defined_contrasts(means$estimate, allowed)) {
  m1 <- means$estimate[["mean_treated"]]
  m0 <- means$estimate[["mean_control"]]
  odds <- m1 / (1 - m1) / (m0 / (1 - m0))
  slopes <- list(difference = c(1, -1), ratio = c(1 / m0, -m1 / m0^2),
                 odds_ratio = odds * c(1 / (m1 * (1 - m1)), -1 / (m0 * (1 - m0))),
                 percent = 100 * exp(m1 - m0) * c(1, -1))
  slopes <- do.call(cbind, slopes[intersect(names(slopes), terms)])
  all_slopes <- cbind(diag(2), slopes)
  colnames(all_slopes) <- c(names(both_arms), colnames(slopes))
  list(
    estimate = core_contrast_values(m1, m0, c(names(both_arms), colnames(slopes)))[1L, ],
    influence = function() means$influence() %*% all_slopes,
    slopes = all_slopes
  )
}

defined_contrasts <- function(means, allowed) {
  defined <- c(ratio = min(means) > 0, odds_ratio = min(means) > 0 && max(means) < 1)
  setdiff(allowed, names(defined)[!defined])
}

# The terms asked for as functions of the two means, a row per pair of means.
core_contrast_values <- function(m1, m0, terms) {
  all <- list(mean_treated = m1, mean_control = m0, difference = m1 - m0, ratio = m1 / m0,
              odds_ratio = m1 / (1 - m1) / (m0 / (1 - m0)), percent = 100 * expm1(m1 - m0))
  do.call(cbind, all[terms])
}

# Quantiles of y by arm and their differences (Firpo 2007): the weighted distribution function's, with influence
# -(F - p) / f; f is a weighted Gaussian kernel density of the arm at the quantile. p: shares.
core_quantiles <- function(y, z, v, p, nuisance = core_known(length(y))) {
  core_quantile_terms(p, lapply(both_arms, function(arm) {
    inside <- z == arm & v > 0
    q <- core_weighted_quantiles(y[inside], v[inside], p)
    list(estimate = q, influence = function() {
      density <- core_density_at(q, y[inside], v[inside])
      vapply(seq_along(p), function(k) {
        away <- (p[k] - (y <= q[k])) * inside / sum(v[inside]) / density[k]
        length(y) * v * away + core_carry(nuisance)(away)
      }, numeric(length(y)))
    })
  }))
}

# parts: of both arms, list(estimate, influence = function()); terms by arm and their differences.
core_quantile_terms <- function(p, parts) {
  names <- function(what) sprintf("quantile_%s_%s", vapply(p, format, "", digits = 4), what)
  treated <- parts$mean_treated
  control <- parts$mean_control
  estimate <- c(treated$estimate, control$estimate, treated$estimate - control$estimate)
  terms <- c(names("treated"), names("control"), names("difference"))
  list(estimate = stats::setNames(estimate, terms), influence = function() {
    of_treated <- treated$influence()
    of_control <- control$influence()
    out <- cbind(of_treated, of_control, of_treated - of_control)
    colnames(out) <- terms
    out
  })
}

# Quantiles by a share of outcomes below that is not the plain one. y, v: of the arm; share: function(q) giving
# list(estimate, influence). A share moves in steps as q passes outcomes: within half of a common one it is met.
core_share_quantiles <- function(y, v, p, share, steps = 8L) {
  found <- lapply(p, function(one) {
    q <- core_weighted_quantiles(y, v, one)
    density <- core_density_at(q, y, v)
    reach <- diff(core_weighted_quantiles(y, v, c(0.25, 0.75)))
    for (step in seq_len(steps)) {
      now <- share(q)
      lacks <- one - now$estimate
      if (abs(lacks) <= stats::median(v) / (2 * sum(v))) break
      q <- q + sign(lacks) * min(abs(lacks) / density, max(reach, 1e-12))
      q <- min(max(q, min(y)), max(y))
    }
    list(estimate = q, influence = function() -now$influence() / core_density_at(q, y, v))
  })
  list(estimate = vapply(found, `[[`, 0, "estimate"),
       influence = function() do.call(cbind, lapply(found, function(one) one$influence())))
}

# Weighted kernel density with Silverman's bandwidth for the effective number of units.
core_density_at <- function(at, y, v) {
  v <- v / sum(v)
  mean <- sum(v * y)
  quarters <- diff(core_weighted_quantiles(y, v, c(0.25, 0.75)))
  spread <- min(sqrt(sum(v * (y - mean)^2)), if (quarters > 0) quarters / 1.34 else Inf)
  width <- 0.9 * spread * core_effective_size(v)^(-1 / 5)
  vapply(at, function(a) sum(v * stats::dnorm((y - a) / width)) / width, 0)
}
