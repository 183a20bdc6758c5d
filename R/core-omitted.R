# Methods, "Sensitivity", omitted variable (Cinelli & Hazlett 2020), for a linear regression of the outcome on the
# treatment and covariates, and the regressions with and without covariates that coefficient stability compares (Oster
# 2019). All follow from cross-products of the columns, centred and scaled.

# x: n x p; v: weights, 0 for rows that take no part. Returns what core_treatment_fit() finds and influence (n).
core_treatment_regression <- function(y, z, x, v) {
  products <- core_treatment_products(y, z, x, v)
  fit <- core_treatment_fit(products$gram, products$n)
  own <- fit$kept + 1L
  last <- ncol(products$columns)
  sides <- c(1L, last)
  slopes <- solve_gram(products$gram[own, own, drop = FALSE], products$gram[own, sides, drop = FALSE])
  left <- products$columns[, sides, drop = FALSE] - products$columns[, own, drop = FALSE] %*% slopes
  influence <- numeric(length(v))
  influence[v > 0] <- length(v) * left[, 1L] * (left[, 2L] - fit$estimate * left[, 1L]) / fit$spread
  c(fit, list(influence = influence))
}

# From sums: gram as of core_treatment_products(), n rows. Returns list(gram: cross-products of treatment (1),
# covariates that count and outcome (last), kept: columns of x that are not explained by others, estimate, se
# (classical), df, n, spread: what covariates leave of the treatment's sum of squares).
core_treatment_fit <- function(gram, n) {
  covariates <- seq_len(nrow(gram))[-c(1L, nrow(gram))]
  kept <- which(!core_solve_scatter(gram[covariates, covariates, drop = FALSE])$aliased)
  inside <- c(1L, kept + 1L, nrow(gram))
  gram <- gram[inside, inside, drop = FALSE]
  left <- core_residual_gram(gram, c(1L, length(inside)), seq_along(kept) + 1L)
  estimate <- left[1L, 2L] / left[1L, 1L]
  rss <- max(0, left[2L, 2L] - estimate * left[1L, 2L])
  df <- n - length(kept) - 2L
  list(gram = gram, kept = kept, estimate = estimate, se = sqrt(rss / df / left[1L, 1L]), df = df, n = n,
       spread = left[1L, 1L])
}

# Cross-products of some columns after the part explained by others is taken out.
core_residual_gram <- function(gram, of, on) {
  slopes <- solve_gram(gram[on, on, drop = FALSE], gram[on, of, drop = FALSE])
  gram[of, of, drop = FALSE] - gram[of, on, drop = FALSE] %*% slopes
}

solve_gram <- function(gram, b) if (length(gram) == 0L) b else solve(gram, b)

# How much a group of covariates (places in x) explains of what the others leave: of the treatment, and of the outcome
# when the treatment is held fixed too.
core_group_strength <- function(fit, group) {
  inside <- which(fit$kept %in% group) + 1L
  own <- seq_along(fit$kept) + 1L
  last <- length(fit$kept) + 2L
  if (length(inside) == 0L) return(c(treatment = 0, outcome = 0))
  others <- setdiff(own, inside)
  share <- function(of, with, without) {
    1 - core_residual_gram(fit$gram, of, with)[1L] / core_residual_gram(fit$gram, of, without)[1L]
  }
  c(treatment = share(1L, own, others), outcome = share(last, c(1L, own), c(1L, others)))
}

# t: statistic; df: residual degrees of freedom. f^2 = t^2 / df is the treatment's partial f2 with the outcome.
core_partial_r2 <- function(t, df) t^2 / (t^2 + df)

# Robustness value: the partial R2 with treatment and outcome alike that moves the estimate to 0 (critical 0), or its t
# to `critical`. inflation: robust over classical standard error, which multiplies the critical value throughout. The
# second form is for estimates so large that less than all of that strength on the outcome moves t most.
core_robustness_value <- function(t, df, critical = 0, inflation = 1) {
  f <- abs(t) / sqrt(df)
  needed <- inflation * critical / sqrt(df - 1)
  left <- f - needed
  if (left <= 0) return(0)
  if (needed > 0 && f > 1 / needed) return((f^2 - needed^2) / (1 + f^2))
  (sqrt(left^4 + 4 * left^2) - left^2) / 2
}

# What is left of an estimate when a confounder with these partial R2 is added that pulls towards 0 (or away from it):
# estimate and standard error.
core_adjusted_estimate <- function(estimate, se, df, treatment, outcome, towards = TRUE, inflation = 1) {
  bias <- se * sqrt(df) * sqrt(outcome * treatment / (1 - treatment))
  list(estimate = estimate - sign(estimate) * bias * if (towards) 1 else -1,
       se = inflation * se * sqrt((1 - outcome) / (1 - treatment) * df / (df - 1)))
}

# Partial R2 of a confounder `times` as strong as a group of covariates (Cinelli & Hazlett 2020, section 4.4): NA where
# nothing can be that strong; the outcome's is cut at 1.
core_times_as_strong <- function(strength, times) {
  r2 <- strength[["treatment"]]
  treatment <- times * r2 / (1 - r2)
  possible <- treatment < 1 & times * r2 < 1
  shared <- ifelse(possible, times * r2^2 / ((1 - pmin(times * r2, 1)) * (1 - r2)), Inf)
  possible <- possible & shared < 1
  shared <- pmin(shared, 1)
  outcome <- ((sqrt(times) + sqrt(shared)) / sqrt(1 - shared))^2 * strength[["outcome"]] / (1 - strength[["outcome"]])
  list(treatment = ifelse(possible, treatment, NA_real_), outcome = ifelse(possible, pmin(outcome, 1), NA_real_))
}

# The share of what is left of the treatment that a confounder must explain, when it explains the share `outcome` of
# what is left of the outcome, to move the estimate to 0.
core_treatment_needed <- function(t, df, outcome) {
  f2 <- t^2 / df
  f2 / (outcome + f2)
}

# How many times as strong as a group of covariates a confounder must be to move the estimate to 0 (critical 0), or its
# t to `critical`; infinite when none can.
core_times_needed <- function(estimate, se, df, strength, critical, inflation) {
  left <- function(times) {
    at <- core_times_as_strong(strength, times)
    if (is.na(at$treatment)) return(-1)
    adjusted <- core_adjusted_estimate(estimate, se, df, at$treatment, at$outcome, TRUE, inflation)
    sign(estimate) * adjusted$estimate - critical * adjusted$se
  }
  if (left(1e-12) <= 0) return(0)
  if (strength[["treatment"]] <= 0 || strength[["outcome"]] <= 0) return(Inf)
  most <- min(1 / strength[["treatment"]], (1 - strength[["treatment"]]) / strength[["treatment"]])
  top <- 1
  while (top < most && left(top) > 0) top <- 2 * top
  stats::uniroot(left, c(1e-12, min(top, 2 * most)), tol = 1e-9)$root
}
