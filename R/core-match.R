# Matching with replacement: Methods, "Standard errors" (Abadie & Imbens 2006, 2011, 2016).

# Both means and their covariance from a table of imputations, one row per unit that stands for a seeker in an arm: the
# seeker itself in its own arm, its matches in others. set: code from 1 per row, each set being one seeker's; unit:
# 1..n; treated: does it stand in the treated arm?; share: s of the unit times its weight in the set; y: outcome of the
# row (bias-corrected where asked); gap: n, a root of the conditional variance of the outcome given the covariates. With
# v the shares scaled to sum 1 by arm,
#   V = sum over sets of u u', u = the set's sums of v (y - mean) by arm,
#     + by arm sum over units of ((sum v)^2 - sum over its sets of v^2) gap^2.
# Without sampling weights this is Methods' formula for the ATT and the ATE. sets: u; reuse: n x 2, roots of the last
# sum, with the gap's sign; noise: by arm sum over units of (sum v)^2 gap^2, the variance with covariates held.
core_match_means <- function(set, unit, treated, share, y, gap) {
  side <- 2L - treated
  v <- share / core_sums_by(share, side, 2L)[side]
  means <- core_sums_by(v * y, side, 2L)
  away <- v * (y - means[side])
  n <- length(gap)
  whole <- core_sums_by(v, unit, n)
  squares <- core_sums_by(v^2, unit, n)
  own <- replace(integer(n), unit, side)
  by_arm <- function(values) vapply(1:2, function(arm) values * (own == arm), numeric(n))
  sets <- matrix(vapply(1:2, function(arm) core_sums_by(away * (side == arm), set), numeric(max(set))), ncol = 2L)
  reuse <- by_arm(sqrt(pmax(whole^2 - squares, 0)) * gap)
  list(means = stats::setNames(means, c("mean_treated", "mean_control")), vcov = crossprod(sets) + crossprod(reuse),
       noise = colSums(by_arm(whole^2 * gap^2)), sets = sets, reuse = reuse)
}

# sqrt(J / (J + 1)) (y_i - mean of its J nearest in the same arm), whose square estimates the conditional variance.
# lists: see core_nearest(), seekers being the units of one arm in the order of y. Units without a neighbour get NA.
core_conditional_gap <- function(y, lists) {
  count <- diff(lists$start)
  total <- core_sums_by(y[lists$row], rep(seq_along(y), count), length(y))
  mean <- ifelse(count > 0, total / count, NA)
  sqrt(count / (count + 1)) * (y - mean)
}

# Covariance of y and the columns of x among two units: Abadie & Imbens (2016), L = 2. first, second: rows.
core_local_covariance <- function(x, y, first, second) {
  (x[first, , drop = FALSE] - x[second, , drop = FALSE]) * (y[first] - y[second]) / 2
}

# What the estimation of the score takes from the variance of a matching estimator (Abadie & Imbens 2016, theorems 1
# and 2), as a 2 x 2 matrix for the two means: c' cov c for the ATE; c' cov c - d' cov d for the ATT (and, arms
# exchanged, the ATC). x: n x (p + 1) with a first column of 1; e, slope: score and its derivative in the linear score;
# covariance: of the score's coefficients; local: for treated and control, lists of mean (n, local mean of y in that
# arm) and cov (n x (p + 1)); gap: n, treated minus control outcome with the missing one taken from the unit nearest in
# the covariates; effect: the estimate.
core_score_adjustment <- function(x, z, e, slope, covariance, local, gap, effect, estimand) {
  if (population_of(estimand) == "everybody") {
    parts <- cbind(colMeans(local$treated$cov / e * slope), -colMeans(local$control$cov / (1 - e) * slope))
    return(core_arm_adjustment(parts, covariance))
  }
  form <- function(v) drop(crossprod(v, covariance %*% v))
  treated_ask <- seeking_arms(estimand) == 1L
  seek <- if (treated_ask) e else 1 - e
  count <- sum(z == treated_ask)
  side <- if (treated_ask) 1 else -1  # the chance to be among the seekers of the ATC falls where e rises
  own <- if (treated_ask) local$treated else local$control
  other <- if (treated_ask) local$control else local$treated
  contrast <- local$treated$mean - local$control$mean - effect
  c_vector <- colSums(x * slope * side * contrast) / count +
    colSums((own$cov + seek / (1 - seek) * other$cov) * slope) / count
  d_vector <- colSums(x * slope * side * (gap - effect)) / count
  sought <- c(!treated_ask, treated_ask)  # the mean that matching supplies
  diag(sought * (form(c_vector) - form(d_vector)))
}

# The same for the means of arms k and 1 of several over everybody, each matched on its own chance (Yang et al. 2016):
# c' cov c, c of arm m = E cov(score function, y | chance of m, arm m), the score function being (1, x)(1(m = j) - e_j)
# for j = 2, ... parts: for both arms the mean over units of that local covariance (core_local_covariance() of
# core_arm_scores()).
core_arm_adjustment <- function(parts, covariance) crossprod(parts, covariance %*% parts)

# (1, x)(1(m = j) - e_j), j = 2, ..., side by side: what a unit of arm m adds to the score function. x: n x (p + 1).
core_arm_scores <- function(x, e, m) {
  do.call(cbind, lapply(seq_len(ncol(e))[-1L], function(j) x * ((m == j) - e[, j])))
}
