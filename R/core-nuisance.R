# Methods, "Standard errors": what is estimated before the effect adds (mean derivative in the nuisance) . IF_nuisance
# to an influence vector. A nuisance is a list of two functions: gradient(v): v is n; the derivative of sum(v * q) in
# the parameters, q being the n quantities that the nuisance supplies (linear scores, weights); influence(u): n; each
# unit's influence on u'parameters, scaled so that estimate - truth is about its mean. Only vectors of length n and of
# the number of parameters are made, never n x p.

# v |-> the influence that the nuisance's estimation adds to an estimate whose derivative in q is v.
core_carry <- function(nuisance) function(v) nuisance$influence(nuisance$gradient(v))

# Quantities taken as known.
core_known <- function(n) list(gradient = function(v) 0, influence = function(u) numeric(n))

# q = linear predictor of a regression whose estimating equations are sum residual (1, x) = 0. x: n x p, or the list of
# its columns; residual: n; covariance: inverse of minus their derivative, (p + 1) x (p + 1). `regression`: of what it
# is made, and the slope of q in the linear predictor, for who asks of many estimates at once (core_curve_errors()).
core_regression_nuisance <- function(x, covariance, residual) {
  list(
    gradient = function(v) c(sum(v), times_columns(x, v)),
    influence = function(u) {
      direction <- drop(covariance %*% u)
      length(residual) * residual * along_columns(x, direction[-1L], direction[1L], length(residual))
    },
    regression = list(x = x, covariance = covariance, residual = residual, slope = 1)
  )
}

# x'v, and start + x d.
times_columns <- function(x, v) {
  if (is.list(x)) vapply(x, function(column) drop(crossprod(column, v)), 0, USE.NAMES = FALSE) else crossprod(x, v)
}

along_columns <- function(x, d, start, n) {
  if (is.list(x)) glue_along_columns(x, d, start, n) else start + drop(x %*% d)
}

# q = f(q of another nuisance), with the derivative `slope` (n) of f.
core_scaled <- function(nuisance, slope) {
  regression <- nuisance$regression
  if (!is.null(regression)) regression$slope <- regression$slope * slope
  list(gradient = function(v) nuisance$gradient(v * slope), influence = nuisance$influence, regression = regression)
}

# q = sum of what several nuisances supply.
core_joined <- function(nuisances) {
  list(
    gradient = function(v) lapply(nuisances, function(part) part$gradient(v)),
    influence = function(u) Reduce(`+`, Map(function(part, u) part$influence(u), nuisances, u))
  )
}

# Stabilised weights w * P(Z = z): q = P(Z = z) per unit, P(Z = 1) estimated by the share of s.
core_share_nuisance <- function(z, s) {
  share <- sum(s * z) / sum(s)
  list(
    share = ifelse(z == 1L, share, 1 - share),
    gradient = function(v) sum(v * (2 * z - 1)),
    influence = function(u) u * length(z) * s * (z - share) / sum(s)
  )
}
