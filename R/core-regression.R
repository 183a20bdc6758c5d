# Regressions and what their estimation adds to an influence vector. x: n x p without intercept (the kernels add
# one); y and weight: n doubles.

core_fit <- function(x, y, weight, family) {
  switch(family,
    binomial = glue_fit_logit(x, y, weight),
    gaussian = glue_fit_linear(x, y, weight)
  )
}

# METHODS, "one currency": (mean derivative in the nuisance) . IF_nuisance. `derivative`: n, the derivative of the
# estimate in each unit's linear predictor; `score_residual`: n, weight * (y - fitted); `covariance`: the inverse
# information, (p + 1) x (p + 1). Only vectors of length n are made, never n x p.
core_carry <- function(x, covariance, score_residual, derivative) {
  slope <- c(sum(derivative), crossprod(x, derivative))
  direction <- drop(covariance %*% slope)
  length(derivative) * score_residual * (direction[1L] + drop(x %*% direction[-1L]))
}
