# Strata, pairs without replacement and full matching on an estimated score (Methods, "Standard errors"): in the limit
# they are inverse weights on what is left of the outcome after its mean given arm and score. That is what their
# derivative in the score is taken of, and what clusters are summed of.

# Linear splines of the linear score with the given knots, n x (2 + knots), a constant first.
core_spline_basis <- function(linear, knots) {
  cbind(1, linear, vapply(unique(knots), function(knot) pmax(linear - knot, 0), numeric(length(linear))))
}

# Fitted values on all n units of one arm's weighted regression of y (n, or n x k) on the basis. weight: n, 0 outside
# the arm; found: of arm_decomposition().
core_arm_fit <- function(y, basis, weight, found = arm_decomposition(basis, weight)) {
  inside <- weight > 0
  root <- sqrt(weight[inside])
  y <- as.matrix(y)
  coefficients <- qr.coef(found, y[inside, , drop = FALSE] * root)
  coefficients[is.na(coefficients)] <- 0
  basis %*% coefficients
}

arm_decomposition <- function(basis, weight) {
  qr(basis[weight > 0, , drop = FALSE] * sqrt(weight[weight > 0]), tol = 1e-9)
}

# What is left of y about its fit, in the arm of each unit; 0 where weight is.
core_spline_residual <- function(y, basis, z, weight) {
  out <- numeric(length(y))
  for (arm in 0:1) {
    own <- weight * (z == arm)
    out[own > 0] <- (y - core_arm_fit(y, basis, own)[, 1L])[own > 0]
  }
  out
}

# The same for strata: about the mean of arm and stratum, and one slope on the linear score per arm.
core_cell_residual <- function(y, linear, cell, z, weight) {
  out <- numeric(length(y))
  for (arm in 0:1) {
    at <- which(weight > 0 & z == arm & !is.na(cell))
    if (length(at) == 0L) next
    w <- weight[at]
    code <- match(cell[at], unique(cell[at]))
    centred <- function(v) v - (core_sums_by(w * v, code) / core_sums_by(w, code))[code]
    r <- centred(y[at])
    l <- centred(linear[at])
    spread <- sum(w * l^2)
    out[at] <- r - if (spread > 0) l * sum(w * l * r) / spread else 0
  }
  out
}

# How the estimation of the score enters weights w that its strata or matches make. score: nuisance of the linear
# score; s: n; weight: s w; slope: d log(inverse weight) / d(linear score); residual: function of n values, one of the
# above.
core_matched_nuisance <- function(score, s, weight, slope, residual) {
  list(gradient = function(v) score$gradient(weight * slope * residual(ifelse(s > 0, v / s, 0))),
       influence = score$influence)
}

# Contributions whose part that the score explains is handed from each arm to those it stands for. influence: n x k,
# linear in the outcomes of each arm; weight: s w; target: n, weights of whom the estimand speaks of. by_leverage: does
# what is left count over one less its leverage in the fit (MacKinnon & White 1985), so that rich bases cost nothing?
core_smoothed_contributions <- function(influence, z, weight, target, basis, by_leverage = FALSE) {
  left <- influence
  handed <- 0
  for (arm in 0:1) {
    own <- weight * (z == arm)
    found <- arm_decomposition(basis, own)
    fit <- core_arm_fit(influence / ifelse(weight > 0, weight, 1), basis, own, found)
    left <- left - own * fit
    if (by_leverage) left <- left / (1 - core_leverage(found, own))
    handed <- handed + target * fit * sum(own) / sum(target)
  }
  left + handed
}

# Of such a regression, at most 0.9; 0 where the weight is.
core_leverage <- function(found, weight) {
  along <- qr.Q(found)[, seq_len(found$rank), drop = FALSE]
  replace(numeric(length(weight)), weight > 0, pmin(rowSums(along^2), 0.9))
}

# Pairs given by their sums (pairs x k) and the clusters of both units: every two pairs that share a cluster on either
# side are dependent. With T_g the sum over pairs that touch cluster g and T_gh over those that touch both, sum T_g T_g'
# - sum over g < h of T_gh T_gh' (Fafchamps & Gubert 2007).
core_vcov_dyads <- function(sums, n, first, second) {
  across <- first != second
  touch <- rowsum(rbind(sums, sums[across, , drop = FALSE]), c(first, second[across]))
  key <- core_group_codes(pmin(first, second), pmax(first, second))
  both <- rowsum(sums[across, , drop = FALSE], key[across])
  (crossprod(touch) - crossprod(both)) / n^2
}
