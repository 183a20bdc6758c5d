# Bounds on violations of parallel trends (METHODS, "Sensitivity": Rambachan & Roth 2023), in a first version whose
# intervals keep their level but need not be shortest.
# estimate: path by event time without the base, 0 there; vcov: its covariance; before: are the entries from before
# treatment?; horizon: periods from the base, negative before; weight: of the entries after in the target.

# Violations from one period to the next at most m times the largest one before: theta -/+ m kappa max |step|, kappa the
# target's mean horizon. The largest step is a maximum of linear terms, so the union of the intervals of all of them
# holds the truth whichever it is. Returns c(low, high).
core_bound_magnitude <- function(estimate, vcov, steps, target, kappa, m, quantile) {
  far <- rbind(steps, -steps)
  limits <- apply(far, 1L, function(step) {
    lower <- target - m * kappa * step
    upper <- target + m * kappa * step
    se <- function(l) sqrt(max(0, sum(l * (vcov %*% l))))
    c(sum(lower * estimate) - quantile * se(lower), sum(upper * estimate) + quantile * se(upper))
  })
  c(min(limits[1L, ]), max(limits[2L, ]))
}

# The slope of the violation changes by at most m per period: the last slope before treatment is carried on, which is
# wrong by at most m h (h + 1) / 2 after h periods; the interval allows for that bias (Armstrong & Kolesar 2018).
core_bound_curvature <- function(estimate, vcov, carried, bias, m, level, df) {
  centre <- sum(carried * estimate)
  se <- sqrt(sum(carried * (vcov %*% carried)))
  half <- se * core_folded_quantile(m * bias / se, level, df)
  c(centre - half, centre + half)
}

# The level quantile of |T + b|.
core_folded_quantile <- function(b, level, df) {
  if (!is.finite(b) || b > 1e6) return(b)
  inside <- function(x) stats::pt(x - b, df) - stats::pt(-x - b, df) - level
  stats::uniroot(inside, c(0, b + core_t_quantile(level, df) + 1), tol = 1e-10)$root
}

# Steps between neighbouring periods up to the base, one row each, as combinations of the entries.
core_path_steps <- function(horizon) {
  before <- order(horizon)[seq_len(sum(horizon < 0))]
  size <- length(horizon)
  t(vapply(seq_along(before), function(k) {
    row <- numeric(size)
    row[before[k]] <- -1
    if (k < length(before)) row[before[k + 1L]] <- 1
    row
  }, numeric(size)))
}
