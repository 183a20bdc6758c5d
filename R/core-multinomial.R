# Multinomial logit: P(arm = k) = exp(x'b_k) / sum_j exp(x'b_j), b_1 = 0; Methods, "Propensity score", more than two
# arms.

# x: n x p without intercept (one is added), independent columns; arm: codes 1..K; s: n. status: as core_climb().
# coefficients: (p + 1) x (K - 1); covariance: of vec(coefficients); fitted: n x K; linear: n x (K - 1).
core_fit_multinomial <- function(x, arm, s) {
  arms <- max(arm)
  centre <- colMeans(x)
  spread <- apply(x, 2L, stats::sd)
  standard <- cbind(1, sweep(sweep(x, 2L, centre), 2L, spread, "/"))
  q <- ncol(standard)
  found <- core_climb(multinomial_sums(standard, arm, s), numeric(q * (arms - 1L)))
  to_raw <- diag(c(1, 1 / spread), q)
  to_raw[1L, -1L] <- -centre / spread
  covariance <- if (found$status == "converged") {
    blocks <- kronecker(diag(arms - 1L), to_raw)
    blocks %*% solve(found$information) %*% t(blocks)
  }
  beta <- matrix(found$coefficients, q)
  linear <- standard %*% beta
  list(status = found$status, iterations = found$iterations, loglik = found$value, coefficients = to_raw %*% beta,
       covariance = covariance, fitted = multinomial_shares(linear), linear = linear)
}

# The sums of rows that core_climb() wants. Arms are separated along a direction when no unit prefers another arm to its
# own there.
multinomial_sums <- function(x, arm, s) {
  own <- cbind(seq_along(arm), arm)
  list(
    at = function(beta) multinomial_at(matrix(beta, ncol(x)), x, arm, s),
    reach = function(direction, by_arm) {
      linear <- cbind(0, x %*% matrix(direction, ncol(x)))
      rivals <- replace(linear, own, -Inf)
      range((linear[own] - rivals[cbind(seq_along(arm), max.col(rivals, ties.method = "first"))])[s > 0])
    }
  )
}

multinomial_shares <- function(linear) {
  top <- pmax(0, linear[cbind(seq_len(nrow(linear)), max.col(linear, ties.method = "first"))])
  odds <- exp(cbind(0, linear) - top)
  odds / rowSums(odds)
}

multinomial_at <- function(beta, x, arm, s) {
  fitted <- multinomial_shares(x %*% beta)
  q <- ncol(x)
  k <- ncol(beta)
  residual <- vapply(seq_len(k), function(j) s * ((arm == j + 1L) - fitted[, j + 1L]), numeric(length(arm)))
  information <- matrix(0, q * k, q * k)
  for (a in seq_len(k)) {
    for (b in seq_len(a)) {
      weight <- s * fitted[, a + 1L] * ((a == b) - fitted[, b + 1L])
      block <- crossprod(x * weight, x)
      information[(a - 1L) * q + seq_len(q), (b - 1L) * q + seq_len(q)] <- block
      information[(b - 1L) * q + seq_len(q), (a - 1L) * q + seq_len(q)] <- t(block)
    }
  }
  list(value = sum(s * log(fitted[cbind(seq_along(arm), arm)])), gradient = c(crossprod(x, residual)),
       information = information)
}

# q = the K - 1 linear scores of each unit: v is n x (K - 1).
core_multinomial_nuisance <- function(x, arm, s, fit) {
  residual <- vapply(seq_len(ncol(fit$coefficients)), function(j) s * ((arm == j + 1L) - fit$fitted[, j + 1L]),
                     numeric(length(arm)))
  list(
    gradient = function(v) c(rbind(colSums(v), crossprod(x, v))),
    influence = function(u) {
      direction <- matrix(fit$covariance %*% u, nrow = ncol(x) + 1L)
      length(arm) * rowSums(residual * (cbind(1, x) %*% direction))
    }
  )
}

# Whom the contrast of arm k with the reference (arm 1) speaks of: list(h, slope), h the target's weight per unit of any
# arm and slope its derivative in the linear scores (n x (K - 1); NULL where it is known). ATE: everybody; ATT, ATC:
# those in arm k, in the reference; else by the tilt.
core_arm_target <- function(e, arm, k, estimand) {
  switch(population_of(estimand),
    everybody = list(h = rep(1, length(arm))),
    treated = list(h = as.double(arm == k)),
    control = list(h = as.double(arm == 1L)),
    score = core_arm_tilt(e, k, estimand)
  )
}

# h of Methods' notation as a function of the scores, and d log h / d(linear scores).
core_arm_tilt <- function(e, k, estimand, logarithmic = FALSE) {
  pure <- estimands[[estimand]]$arms(e, k)
  list(h = pure$h, slope = if (logarithmic) pure$slope else pure$h * pure$slope)
}

# d log e_m / d eta_j = 1(m = j) - e_j; m: one arm, or each unit's.
arm_log_slope <- function(e, m) {
  vapply(seq_len(ncol(e))[-1L], function(j) (m == j) - e[, j], numeric(nrow(e)))
}

# Weights h / e(own arm) of arm k and the reference, and their derivative in the linear scores (n x (K - 1)).
core_arm_weight <- function(e, arm, k, estimand) {
  tilt <- core_arm_tilt(e, k, estimand, logarithmic = TRUE)
  weight <- tilt$h / e[cbind(seq_along(arm), arm)]
  list(weight = weight, slope = weight * (tilt$slope - arm_log_slope(e, arm)))
}
