# Outcome models (Methods, "Effects"), one per arm or one for both. x, scale_x: n x p and n x q without intercept
# (scale_x for heteroskedastic_probit only); y: n; weight: n, 0 for units that don't take part. Returns list(status,
# aliased, fitted, slope, carry); fitted values stand for all n units.
core_fit_outcome <- function(x, y, weight, family, scale_x = NULL) {
  outcome_families[[family]]$fit(x, y, weight, scale_x)
}

# One regression for both arms: an intercept per arm, and slopes that differ between the arms for `products` (n x k, k
# may be 0) alone. z: 0/1. Returns list(status, aliased (columns of x, z, products times z), treated, control), each arm
# as above; both lean on the same coefficients.
core_fit_both_arms <- function(x, products, z, y, weight, family) {
  columns_in <- function(arm) cbind(x, arm, products * arm)
  together <- columns_in(z)
  fit <- core_fit(together, y, weight, family)
  if (fit$status != "converged") return(fit["status"])
  link <- core_family_link(family)
  nuisance <- core_regression_nuisance(together, fit$covariance,
                                       weight * core_link_residual(fit$linear, fit$fitted, y, link))
  one <- function(arm) {
    own <- columns_in(rep(arm, length(y)))
    linear <- fit$coefficients[1L] + drop(own %*% fit$coefficients[-1L])
    fitted <- core_link_mean(linear, link)
    list(fitted = fitted, slope = core_link_slope(linear, fitted, link),
         carry = function(v) nuisance$influence(c(sum(v), times_columns(own, v))))
  }
  list(status = fit$status, aliased = fit$aliased, treated = one(1), control = one(0))
}

core_link_mean <- function(linear, link) {
  switch(link, linear = linear, log = exp(linear), logit = stats::plogis(linear), probit = stats::pnorm(linear),
         cloglog = -expm1(-exp(linear)))
}

core_family_link <- function(family) {
  c(gaussian = "linear", binomial = "logit", fractional = "logit", poisson = "log", probit = "probit",
    heteroskedastic_probit = "heteroskedastic_probit", logit = "logit", cloglog = "cloglog")[[family]]
}
