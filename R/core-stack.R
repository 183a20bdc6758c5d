# Stacked scores and outcome models (van der Laan, Polley & Hubbard 2007): Methods, "Propensity score".

# Convex weights of the learners that minimise the log-loss of the mixture. Each learner's probability of what a unit
# did is a component density, so this is the likelihood of mixing proportions: sum s log(f a) - sum(s) sum(a) over a
# >= 0 has its maximum where sum(a) = 1, so only the bounds are left as constraints. probabilities: n x k within (0,
# 1).
core_stack_weights <- function(probabilities, z, s) {
  density <- z * probabilities + (1 - z) * (1 - probabilities)
  s <- s / sum(s)
  k <- ncol(density)
  objective <- function(a) sum(a) - sum(s * log(pmax(drop(density %*% a), 1e-300)))
  gradient <- function(a) 1 - drop(crossprod(density, s / pmax(drop(density %*% a), 1e-300)))
  hessian <- function(a) crossprod(density * sqrt(s) / pmax(drop(density %*% a), 1e-300))
  found <- stats::nlminb(rep(1 / k, k), objective, gradient, hessian, lower = 0,
                         control = list(iter.max = 500, eval.max = 1000, rel.tol = 1e-14, x.tol = 1e-12))
  weight <- ifelse(found$par < 1e-8, 0, found$par)
  stats::setNames(weight / sum(weight), colnames(probabilities))
}

# The same for numbers: convex weights with the least weighted squared error, by projected gradients on the simplex.
core_blend_weights <- function(predictions, y, s) {
  s <- s / sum(s)
  centre <- sum(s * y)
  away <- predictions - centre  # weights that sum to 1 leave the error as it is
  gram <- crossprod(away, s * away)
  pull <- drop(crossprod(away, s * (y - centre)))
  step <- 1 / max(eigen(gram, symmetric = TRUE, only.values = TRUE)$values, 1e-300)
  a <- ahead <- rep(1 / ncol(predictions), ncol(predictions))
  pace <- 1
  for (iteration in 1:20000) {  # accelerated (Nesterov), since predictions are nearly collinear
    new <- core_on_simplex(ahead - step * (drop(gram %*% ahead) - pull))
    next_pace <- (1 + sqrt(1 + 4 * pace^2)) / 2
    ahead <- new + (pace - 1) / next_pace * (new - a)
    done <- max(abs(new - a)) < 1e-10 && iteration > 20
    a <- new
    pace <- next_pace
    if (done) break
  }
  stats::setNames(a, colnames(predictions))
}

# The nearest point with entries that are not negative and sum to 1.
core_on_simplex <- function(x) {
  sorted <- sort(x, decreasing = TRUE)
  excess <- (cumsum(sorted) - 1) / seq_along(sorted)
  pmax(x - excess[max(which(sorted > excess))], 0)
}

# Of several repeats (lists of estimate, influence, vcov), the one whose difference is the median, the mean of two where
# their number is even; the covariance adds how far repeats lie from it, and is the median one too (Chernozhukov et al.
# 2018, definition 3.3).
core_median_repeat <- function(repeats) {
  difference <- vapply(repeats, function(one) one$estimate[[1L]] - one$estimate[[2L]], 0)
  half <- (length(repeats) + 1) / 2
  middle <- function(values) order(values)[unique(c(floor(half), ceiling(half)))]
  mean_of <- function(parts) Reduce(`+`, parts) / length(parts)
  chosen <- repeats[middle(difference)]
  estimate <- mean_of(lapply(chosen, `[[`, "estimate"))
  spread <- lapply(repeats, function(one) one$vcov + tcrossprod(one$estimate - estimate))
  variance <- vapply(spread, function(v) sum(v * c(1, -1, -1, 1)), 0)
  list(estimate = estimate, influence = mean_of(lapply(chosen, `[[`, "influence")),
       vcov = mean_of(spread[middle(variance)]))
}

core_log_loss <- function(p, z, s) -sum(s * ifelse(z == 1, log(p), log1p(-p))) / sum(s)

# Weighted share of treated-control pairs in which the treated unit has the higher score, ties counted half.
core_auc <- function(e, z, s) {
  places <- order(e, method = "radix")
  value <- e[places]
  treated <- s[places] * (z[places] == 1L)
  control <- s[places] * (z[places] == 0L)
  tie <- cumsum(c(TRUE, diff(value) > 0))
  treated <- rowsum(treated, tie)[, 1L]
  control <- rowsum(control, tie)[, 1L]
  sum(treated * (cumsum(control) - control / 2)) / (sum(treated) * sum(control))
}
