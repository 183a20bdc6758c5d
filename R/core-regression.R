# Regressions. x: n x p without intercept (the kernels add one); y and weight: n doubles. family: "binomial" or "logit",
# "fractional" (the same for shares), "probit", "cloglog", "poisson" or "gaussian". start: p + 1 coefficients to begin
# from, NULL for the kernel's own.
core_fit <- function(x, y, weight, family, start = NULL) {
  glue_fit_regression(x, y, weight, core_family_link(family), start)
}

# d(fitted) / d(linear score) and the score residual d(log-likelihood) / d(linear score) per unit of weight, by link.
core_link_slope <- function(linear, e, link) {
  switch(link,
    linear = rep(1, length(e)),
    log = e,
    logit = e * (1 - e),
    probit = , heteroskedastic_probit = stats::dnorm(linear),
    cloglog = exp(linear - exp(linear))
  )
}

core_link_residual <- function(linear, e, z, link) {
  switch(link,
    linear = , log = , logit = z - e,
    probit = , heteroskedastic_probit = {
      side <- 2 * z - 1
      side * exp(stats::dnorm(linear, log = TRUE) - stats::pnorm(side * linear, log.p = TRUE))
    },
    cloglog = {
      rate <- exp(linear)
      ifelse(z == 1, ifelse(rate < 1e-8, 1 - rate / 2, rate / expm1(rate)), -rate)
    }
  )
}

# The logit whose inverse weights balance every mean of both arms: Methods, "Balancing weights", ATE.
core_fit_counterpoise <- function(x, z, weight) glue_fit_counterpoise(x, z, weight)
