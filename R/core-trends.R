# Bounds on violations of parallel trends (Methods, "Sensitivity": Rambachan & Roth 2023). The path by event time is
# `estimate` with covariance `vcov`, without its base, where it is 0; `horizon`: periods from the base, negative before;
# `target`: weights of the effects asked about, 0 before. In truth it is violation plus effect, the effect 0 before.

# Steps between neighbouring periods up to the base, one row each, as combinations of the entries.
core_path_steps <- function(horizon) {
  before <- sort(horizon[horizon < 0])
  t(vapply(seq_along(before), function(k) {
    (horizon == c(before, 0)[k + 1L]) - (horizon == before[k])
  }, numeric(length(horizon))))
}

# The same after the base.
core_later_steps <- function(horizon) {
  after <- sort(horizon[horizon > 0])
  t(vapply(seq_along(after), function(k) {
    (horizon == after[k]) - (horizon == c(0, after)[k])
  }, numeric(length(horizon))))
}

# Violations from one period to the next at most m times the largest one before, simply: theta -/+ m kappa max |step|,
# kappa the target's mean horizon. The largest step is a maximum of linear terms, so the union of the intervals of all
# of them holds the truth whichever it is. Returns c(low, high).
core_bound_magnitude <- function(path, m, quantile) {
  kappa <- sum(path$target * pmax(path$horizon, 0))
  far <- rbind(path$steps, -path$steps)
  limits <- apply(far, 1L, function(step) {
    lower <- path$target - m * kappa * step
    upper <- path$target + m * kappa * step
    se <- function(l) sqrt(max(0, sum(l * (path$vcov %*% l))))
    c(sum(lower * path$estimate) - quantile * se(lower), sum(upper * path$estimate) + quantile * se(upper))
  })
  c(min(limits[1L, ]), max(limits[2L, ]))
}

# The same by conditional tests (Andrews, Roth & Pakes 2023, as Rambachan & Roth use them). With the largest step a
# given one of given sign the violations form a polyhedron; an effect theta is kept when for some step and sign the
# data are in line with it.

# What the tests of one bound m need: per step and sign the moments a'path and the directions of the effects that theta
# leaves free. vcov may be widened for few clusters.
core_magnitude_tests <- function(path, m) {
  later <- core_later_steps(path$horizon)
  after <- path$horizon > 0
  free <- qr.Q(qr(path$target[after]), complete = TRUE)[, -1L, drop = FALSE]
  per_theta <- path$target / sum(path$target^2)
  steps <- rbind(path$steps, -path$steps)
  steps <- steps[order(-drop(steps %*% path$estimate)), , drop = FALSE]  # the most likely to keep an effect first
  lapply(split(steps, seq_len(nrow(steps))), function(step) {
    a <- rbind(later, -later) - m * matrix(step, 2L * nrow(later), length(step), byrow = TRUE)
    vcov <- a %*% path$vcov %*% t(a)
    list(moments = drop(a %*% path$estimate), per_theta = drop(a %*% per_theta),
         free = a[, after, drop = FALSE] %*% free, vcov = vcov, sd = sqrt(pmax(diag(vcov), 1e-300)))
  })
}

# Is theta kept by any of them?
core_keeps_effect <- function(tests, theta, level, solve_lp) {
  for (test in tests) if (!core_conditional_reject(test, theta, level, solve_lp)) return(TRUE)
  FALSE
}

# E[y] - free x <= 0 for some x? The least common violation eta = min over x of max (y - free x) / sd is a linear
# programme; its dual picks the moments that bind. Given those and what is independent of them eta is normal, cut to
# the values at which the same moments bind: two more linear programmes.
core_conditional_reject <- function(test, theta, level, solve_lp) {
  y <- test$moments - theta * test$per_theta
  rows <- length(y)
  wide <- ncol(test$free)
  dual <- solve_lp(objective = y, matrix = rbind(t(test$free), test$sd), sign = rep("==", wide + 1L),
                   rhs = c(numeric(wide), 1), free = FALSE, max = TRUE)
  if (is.null(dual)) return(FALSE)  # free effects can undo every violation
  eta <- dual$value
  if (eta <= 0) return(FALSE)
  gamma <- dual$solution
  spread <- drop(test$vcov %*% gamma)
  variance <- sum(gamma * spread)
  if (variance <= 1e-20) return(TRUE)
  along <- spread / variance
  rest <- y - along * eta
  edge <- function(max) {
    found <- solve_lp(objective = c(1, numeric(wide)), matrix = cbind(along - test$sd, -test$free),
                      sign = rep("<=", rows), rhs = -rest, free = TRUE, max = max)
    if (is.null(found)) if (max) Inf else -Inf else found$value
  }
  sd <- sqrt(variance)
  low <- min(edge(FALSE), eta) / sd
  high <- max(edge(TRUE), eta) / sd
  # the level quantile of a standard normal cut to [low, high], by logs of its upper tail
  tail <- stats::pnorm(low, lower.tail = FALSE, log.p = TRUE)
  top <- stats::pnorm(high, lower.tail = FALSE, log.p = TRUE)
  critical <- stats::qnorm(tail + log1p(-level * -expm1(top - tail)), lower.tail = FALSE, log.p = TRUE)
  eta / sd > max(0, critical)
}

# Linear rules under bounded changes of slope (fixed-length intervals, Rambachan & Roth 2023, section 4; Armstrong
# & Kolesar 2018). A violation is slope * horizon + bends: each row of the result is an entry of the path, each column
# the change of slope at one period.
core_path_bends <- function(horizon) {
  h <- seq(min(horizon, 0), max(horizon, 0))
  at <- h[h > min(h) & h < max(h)]
  bends <- lapply(at, function(t) if (t >= 0) pmax(horizon - t, 0) else pmax(t - horizon, 0))
  matrix(unlist(bends), length(horizon))
}

# Pairs of worst bias (per unit of m) and standard error that no other linear estimator betters in both, from the one
# that leans on few periods to the one of least variance: list(bias, se, weight (rows)). An estimator keeps the target's
# weights and adds weights on periods before, such that a straight drift cancels. solve_qp: min x'Dx/2 - d'x s.t. A'x
# >= b, the first of them an equality.
core_drift_estimators <- function(path, solve_qp) {
  before <- which(path$horizon < 0)
  bends <- core_path_bends(path$horizon)
  inner <- ncol(bends)
  size <- length(before)
  unit <- mean(diag(path$vcov))
  v <- path$vcov / unit
  steady <- sum(path$target * path$horizon)
  fixed_bend <- drop(crossprod(bends, path$target))
  own_bend <- bends[before, , drop = FALSE]
  d <- rbind(cbind(v[before, before], matrix(0, size, inner)), cbind(matrix(0, inner, size), diag(1e-8, inner)))
  constraint <- cbind(
    c(path$horizon[before], numeric(inner)),
    rbind(-own_bend, diag(inner)), rbind(own_bend, diag(inner))
  )
  bound <- c(-steady, fixed_bend, -fixed_bend)
  linear <- drop(v[before, , drop = FALSE] %*% path$target)
  weights <- lapply(c(0, exp(seq(log(1e-4), log(1e4), length.out = 120))), function(penalty) {
    found <- solve_qp(d, c(-linear, rep(-penalty, inner)), constraint, bound)
    weight <- path$target
    weight[before] <- found[seq_len(size)]
    weight
  })
  weights <- do.call(rbind, weights)
  list(weight = weights, bias = rowSums(abs(weights %*% bends)),
       se = sqrt(rowSums((weights %*% path$vcov) * weights)))
}

# The shortest interval among them under changes of slope of at most m. Returns c(low, high).
core_fixed_length <- function(path, rules, m, level, df) {
  half <- function(bias, se) se * core_folded_quantile(m * bias / se, level, df)
  lengths <- mapply(half, rules$bias, rules$se)
  best <- which.min(lengths)
  weight <- rules$weight[best, ]
  centre <- sum(weight * path$estimate)
  c(centre - lengths[best], centre + lengths[best])
}

# How much the slope changed before treatment at the least, at one place or another: the largest lower limit of the
# |second differences| of the path (base included), all together at the level (Bonferroni); 0 where none is above 0. A
# smaller bound on curvature is refuted by it.
core_least_curvature <- function(path, level) {
  before <- which(path$horizon < 0)
  horizon <- c(path$horizon[before], 0)
  middle <- horizon[(horizon - 1) %in% horizon & (horizon + 1) %in% horizon]
  if (length(middle) == 0L) return(0)
  contrast <- vapply(middle, function(h) (horizon == h - 1) - 2 * (horizon == h) + (horizon == h + 1), horizon)
  contrast <- contrast[seq_along(before), , drop = FALSE]  # the base is 0
  change <- drop(crossprod(contrast, path$estimate[before]))
  se <- sqrt(diag(crossprod(contrast, path$vcov[before, before] %*% contrast)))
  max(0, abs(change) - core_t_quantile(1 - (1 - level) / length(middle), path$df) * se)
}

# The slope of the violation changes by at most m per period: the last slope before treatment is carried on, which is
# wrong by at most m h (h + 1) / 2 after h periods.
core_carried_slope <- function(path, m, level, df) {
  weight <- path$target
  last <- which(path$horizon == -1)
  weight[last] <- weight[last] + sum(path$target * path$horizon)
  bias <- sum(abs(crossprod(core_path_bends(path$horizon), weight)))
  core_fixed_length(path, list(weight = rbind(weight), bias = bias, se = sqrt(sum(weight * (path$vcov %*% weight)))), m,
                    level, df)
}

# The level quantile of |T + b|.
core_folded_quantile <- function(b, level, df) {
  if (!is.finite(b) || b > 1e6) return(b)
  inside <- function(x) stats::pt(x - b, df) - stats::pt(-x - b, df) - level
  stats::uniroot(inside, c(0, b + core_t_quantile(level, df) + 1), tol = 1e-10)$root
}

# How far from `inner`, which some test keeps, to one side: the farthest effect that any test keeps, each test's own
# kept effects being an interval around `inner`. reach: how far to look at first, with sign; tolerance: a share of it.
core_kept_end <- function(tests, inner, reach, tolerance, level, solve_lp) {
  best <- inner
  for (test in tests) {
    keeps <- function(theta) !core_conditional_reject(test, theta, level, solve_lp)
    if (!keeps(best + tolerance * reach)) next
    outer <- best + reach
    while (keeps(outer)) outer <- outer + reach
    best <- core_edge_of(keeps, best, outer, tolerance * abs(reach))
  }
  best
}

# Where a search along a line stops being kept: `inner` is, `outer` is not.
core_edge_of <- function(keeps, inner, outer, tolerance) {
  while (abs(outer - inner) > tolerance) {
    middle <- (inner + outer) / 2
    if (keeps(middle)) inner <- middle else outer <- middle
  }
  (inner + outer) / 2
}
