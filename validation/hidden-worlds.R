# Worlds in which the hidden confounder is known, for the Monte Carlo study of the probes.

# Strong enough to use up the bound: within pairs (or sets) of equal x the unit with the higher outcome is treated with
# odds gamma, and the treatment does nothing.
draw_tilted_sets <- function(seed, gamma, sets = 200L, size = 2L) {
  withr::with_seed(seed, {
    noise <- matrix(stats::rnorm(sets * size), sets)
    y <- stats::rnorm(sets) + noise
    high <- t(apply(noise, 1L, rank)) > size / 2
    treated <- apply(high, 1L, function(u) sample.int(size, 1L, prob = gamma^u))
    data.frame(set = rep(seq_len(sets), size), y = as.vector(y),
               z = as.vector(outer(treated, seq_len(size), `==`)) * 1L)
  })
}

# One covariate, and a hidden one, high or low, that multiplies the odds of treatment by lambda and predicts the
# outcome: all that is left of it, or the part `share`.
draw_hidden <- function(seed, lambda, n = 800L, effect = 1, share = 0.5) {
  withr::with_seed(seed, {
    x <- stats::rnorm(n)
    u <- stats::rbinom(n, 1L, 0.5)
    z <- stats::rbinom(n, 1L, stats::plogis(-0.3 + 0.6 * x + log(lambda) * (u - 0.5)))
    y <- 1 + x + effect * z + sqrt(share) * 2 * (u - 0.5) * 1.5 + sqrt(1 - share) * stats::rnorm(n) * 1.5
    data.frame(x, u, z, y)
  })
}

# Observed and unobserved confounding with the same selection (delta 1). Returns the data and the R2 with all of it.
draw_proportional <- function(seed, n = 2000L, effect = 1) {
  withr::with_seed(seed, {
    w1 <- stats::rnorm(n)
    w2 <- 0.8 * stats::rnorm(n)
    z <- stats::rbinom(n, 1L, stats::plogis(0.7 * (w1 + w2)))
    y <- effect * z + w1 + w2 + stats::rnorm(n)
    list(data = data.frame(w1, z, y), r_max = summary(stats::lm(y ~ z + w1 + w2))$r.squared)
  })
}

# One cohort treated from period 7 on of 9, both sides drifting apart: before by steps of at most `step`, after by m
# times as much each period.
draw_drift <- function(seed, m, step = 0.15, units = 120L) {
  withr::with_seed(seed, {
    data <- expand.grid(time = 1:9, unit = seq_len(units))
    treated <- data$unit <= units / 2
    drift <- cumsum(c(0, 0, step, -step / 2, 0, step / 2, rep(m * step, 3L)))
    data$y <- stats::rnorm(units)[data$unit] + ifelse(treated, drift[data$time] + (data$time >= 7), 0) +
      stats::rnorm(nrow(data), sd = 0.6)
    data$start <- ifelse(treated, 7, NA)
    data
  })
}

# One draw of every world: a named vector of what happened.
measure_hidden <- function(seed) {
  quiet <- function(expr) suppressMessages(suppressWarnings(expr))
  pairs <- draw_tilted_sets(seed, 2)
  d <- with(pairs, tapply(ifelse(z == 1L, y, -y), set, sum))
  p <- generics::tidy(probe_pairs(as.vector(d), gamma = c(1, 2), side = "greater"))
  sign <- generics::tidy(probe_pairs(as.vector(d), gamma = 2, side = "greater", test = "sign"))
  sets <- draw_tilted_sets(seed, 2, sets = 150L, size = 4L)
  frame <- effect_on_sets(sets)
  q <- generics::tidy(probe_pairs(frame, gamma = c(1, 2), side = "greater"))
  data <- draw_hidden(seed, 2)
  effect <- quiet(measure_effect(weigh_units(score_units(frame_study(data, "z", "y", "x", estimand = "ATE")))))
  w <- generics::tidy(quiet(probe_weights(effect, lambda = c(1, 2), draws = 200, yardstick = FALSE, seed = seed)))
  regression <- quiet(measure_effect(frame_study(data, "z", "y", "x"), estimator = "regression"))
  long <- summary(stats::lm(y ~ z + x + u, data))$coefficients["z", ]
  left <- function(formula) stats::resid(stats::lm(formula, data))
  strength <- c(treatment = stats::cor(left(z ~ x), left(u ~ x))^2,
                outcome = stats::cor(left(y ~ z + x), left(u ~ z + x))^2)
  short <- generics::glance(probe_omitted(regression))
  adjusted <- short$estimate - summary(stats::lm(y ~ z + x, data))$coefficients["z", 2L] * sqrt(short$df) *
    sqrt(strength[["outcome"]] * strength[["treatment"]] / (1 - strength[["treatment"]]))
  proportional <- draw_proportional(seed)
  moved <- probe_stability(quiet(measure_effect(frame_study(proportional$data, "z", "y", "w1"),
                                                estimator = "regression")), r_max = proportional$r_max)
  cells <- quiet(measure_did(frame_panel(draw_drift(seed, 1), outcome = "y", time = "time", unit = "unit", first_treated = "start"),
                             base = "fixed"))
  holds <- function(row, truth) row$conf.low <= truth && row$conf.high >= truth
  drift <- function(violation, m, interval) {
    holds(generics::tidy(probe_trends(cells, violation, m = m, interval = interval)), 1)
  }
  c(
    "pairs, tested at gamma 1: rejects a true null" = p$p_high[1L] <= 0.05,
    "pairs, tested at gamma 2: rejects a true null" = p$p_high[2L] <= 0.05,
    "pairs, sign test at gamma 2: rejects a true null" = sign$p_high <= 0.05,
    "sets of 4, tested at gamma 1: rejects a true null" = q$p_high[1L] <= 0.05,
    "sets of 4, tested at gamma 2: rejects a true null" = q$p_high[2L] <= 0.05,
    "weights, interval at lambda 1 holds the truth" = w$conf_low[1L] <= 1 && w$conf_high[1L] >= 1,
    "weights, interval at lambda 2 holds the truth" = w$conf_low[2L] <= 1 && w$conf_high[2L] >= 1,
    "omitted variable: adjusted less long coefficient" = adjusted - long[[1L]],
    "stability: coefficient with covariates less truth" = generics::glance(moved)$long - 1,
    "stability: adjusted at delta 1 less truth" = generics::tidy(moved)$estimate - 1,
    "trends, plain interval holds the truth" = drift("magnitude", 0, "direct"),
    "trends, conditional interval at m 1 holds the truth" = drift("magnitude", 1, "shortest"),
    "trends, direct interval at m 1 holds the truth" = drift("magnitude", 1, "direct"),
    "trends, interval of fixed length holds the truth" = drift("curvature", 0.225, "shortest")
  )
}

# Sets as an effect: grouped exactly by their number.
effect_on_sets <- function(sets) {
  sets$label <- sprintf("set %d", sets$set)
  study <- frame_study(sets, "z", "y", "set", estimand = "ATT")
  suppressMessages(suppressWarnings(measure_effect(pair_units(study, on = "mahalanobis", covariates = "set", ratio = 3,
                                                              caliper = c(set = 0.5), caliper_unit = "raw"))))
}

summarise_hidden <- function(draws) {
  data.frame(what = colnames(draws), draws = nrow(draws), mean = colMeans(draws),
             std.error = apply(draws, 2L, stats::sd) / sqrt(nrow(draws)), row.names = NULL)
}
