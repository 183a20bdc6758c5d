# Outcome models (Methods, "Effects"), one per arm. x, scale_x: n x p and n x q without intercept (scale_x for
# heteroskedastic_probit only); y: n; weight: n, 0 for units that don't take part. Returns list(status, aliased, fitted,
# slope, carry); fitted values stand for all n units.
core_fit_outcome <- function(x, y, weight, family, scale_x = NULL) {
  fit <- if (family == "heteroskedastic_probit") core_fit_heteroskedastic(x, scale_x, y, weight) else
    core_fit(x, y, weight, family, if (family == "poisson") c(log(sum(weight * y) / sum(weight)), numeric(ncol(x))))
  if (fit$status != "converged") return(fit["status"])
  link <- core_family_link(family)
  residual <- weight * core_link_residual(fit$linear, fit$fitted, y, link)
  nuisance <- if (family == "heteroskedastic_probit") {
    core_heteroskedastic_nuisance(x, scale_x, fit$linear, fit$scale, fit$covariance, residual)
  } else {
    core_regression_nuisance(x, fit$covariance, residual)
  }
  list(status = fit$status, aliased = fit$aliased, fitted = fit$fitted,
       slope = core_link_slope(fit$linear, fit$fitted, link), carry = core_carry(nuisance))
}

core_family_link <- function(family) {
  c(gaussian = "linear", binomial = "logit", fractional = "logit", poisson = "log", probit = "probit",
    heteroskedastic_probit = "heteroskedastic_probit", logit = "logit", cloglog = "cloglog")[[family]]
}
