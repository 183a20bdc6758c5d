# Methods, "Difference-in-differences": effects by dose (Callaway, Goodman-Bacon & Sant'Anna 2024). What each treated
# row lies above the change that the comparison foretells for it, its gap, is regressed on a spline of the dose.

# The basis of splines of `degree` (1 or more) with inner knots between both ends, n x q, or its slope in the dose.
core_dose_basis <- function(dose, spline, slope = FALSE) {
  order <- spline$degree + 1L
  if (slope) dose <- pmin(dose, spline$ends[2L] - 1e-9 * diff(spline$ends))  # at the end, that from below
  knots <- c(rep(spline$ends[1L], order), spline$knots, rep(spline$ends[2L], order))
  splines::splineDesign(knots, dose, ord = order, derivs = rep(as.integer(slope), length(dose)))
}

# gap, dose, s: n; unit: code per row; at: J doses. Returns list(estimate, shares, own, alone), of J effects, J slopes,
# the mean effect and the mean slope over the rows: shares (n x columns) is what each gap counts in it; own what the row
# contributes, the rows that a mean is taken over being drawn too, and residuals divided by the root of what their unit
# leaves to them (exact for a unit's mean, whose rows have one dose: Bell & McCaffrey 2002); alone: columns that count a
# unit which leaves nothing, the only one of its dose, and so have no error. NULL where the rows can't tell the spline.
core_dose_curve <- function(gap, dose, s, unit, spline, at) {
  psi <- core_dose_basis(dose, spline)
  slope <- core_dose_basis(dose, spline, slope = TRUE)
  solved <- core_solve_scatter(crossprod(psi, s * psi))
  if (any(solved$aliased)) return(NULL)
  mean_of <- function(columns) colSums(s * columns) / sum(s)
  targets <- cbind(t(core_dose_basis(at, spline)), t(core_dose_basis(at, spline, slope = TRUE)), mean_of(psi),
                   mean_of(slope))
  shares <- (s * psi) %*% solved$inverse %*% targets
  estimate <- colSums(shares * gap)
  beta <- drop(solved$inverse %*% crossprod(psi, s * gap))
  kept <- rowsum(s * rowSums((psi %*% solved$inverse) * psi), unit)[as.character(unit), 1L]
  lone <- kept > 1 - 1e-8
  own <- shares * (gap - drop(psi %*% beta)) / ifelse(lone, 1, sqrt(pmax(1 - kept, 1e-8)))
  alone <- colSums(abs(shares) * lone) > 1e-10 * colSums(abs(shares))
  last <- ncol(targets) - 1:0
  drawn <- cbind(drop(psi %*% beta) - estimate[last[1L]], drop(slope %*% beta) - estimate[last[2L]])
  own[, last] <- own[, last] + s / sum(s) * drawn
  list(estimate = estimate, shares = shares, own = own, alone = alone & seq_along(alone) <= 2L * length(at))
}

# Weights of a two-way regression on amounts, units x periods, balanced: its coefficient is their sum with the outcomes.
core_amount_weights <- function(amount, s) {
  total <- sum(s)
  period <- colSums(s * amount) / total
  left <- amount - rowMeans(amount) - rep(period, each = nrow(amount)) + mean(period)
  s * left / sum(s * left^2)
}
