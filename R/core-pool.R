# Several completed data sets as one answer (Rubin 1987, chapter 3), with the degrees of freedom of Barnard & Rubin
# (1999).

# estimate: sets x terms; vcov: a list of terms x terms, one per set; df: of each term, were the data complete. Returns
# list(estimate, vcov, within, between, df, missing: share of the information that is missing, NA of a single set).
core_pool <- function(estimate, vcov, df) {
  sets <- nrow(estimate)
  within <- Reduce(`+`, vcov) / sets
  between <- if (sets > 1L) stats::cov(estimate) else 0 * within
  total <- within + (1 + 1 / sets) * between
  lambda <- (1 + 1 / sets) * diag(between) / diag(total)
  lambda[diag(between) == 0] <- 0
  df <- core_pooled_df(lambda, sets, rep_len(df, length(lambda)))
  list(estimate = colMeans(estimate), vcov = total, within = diag(within), between = diag(between), df = df,
       missing = if (sets > 1L) core_missing_information(lambda, df) else rep(NA_real_, length(lambda)))
}

# lambda: the part of the variance that is due to imputation. Where nothing is, the data are as good as complete.
core_pooled_df <- function(lambda, sets, df) {
  by_sets <- (sets - 1) / lambda^2
  observed <- ifelse(is.finite(df), (df + 1) / (df + 3) * df * (1 - lambda), Inf)
  pooled <- 1 / (1 / by_sets + 1 / observed)
  ifelse(!is.na(lambda) & lambda == 0, df, pooled)
}

# Rubin (1987), equation 3.1.10: r = lambda / (1 - lambda) is the growth of the variance by imputation.
core_missing_information <- function(lambda, df) {
  growth <- lambda / (1 - lambda)
  ifelse(!is.na(lambda) & lambda == 0, 0, (growth + 2 / (df + 3)) / (growth + 1))
}
