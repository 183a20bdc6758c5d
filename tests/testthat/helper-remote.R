# For tests of tables in a database: data as an engine can hold them, and comparisons with the same rows in memory.

plain_crews <- function(n = nrow(crews), seed = 4) {
  data <- as.data.frame(crews)
  for (name in c("gear", "port_size")) data[[name]] <- as.character(data[[name]])
  if (n > nrow(data)) data <- data[withr::with_seed(seed, sample(nrow(data), n, TRUE)), ]
  data$income[c(3, 50, 777)] <- NA
  data$crew_id <- sprintf("c%05d", seq_len(nrow(data)))
  rownames(data) <- NULL
  data
}

crew_covariates <- c("boat_length", "crew_size", "skipper_age", "port_size", "gear", "in_debt", "past_income", "market_km")

frame_crews <- function(data, ..., treated = NULL, covariates = crew_covariates) {
  frame_study(data, treatment = "joined", outcome = c("income", "sold_direct", "days_at_sea"), covariates = covariates,
              treated = treated, ...)
}

# How far the numbers of two results lie apart, at most, relative to their size.
gap <- function(a, b) {
  a <- as.numeric(unlist(a))
  b <- as.numeric(unlist(b))
  expect_identical(is.na(a), is.na(b))
  max(abs(a - b) / pmax(1e-3, abs(b)), na.rm = TRUE)
}

expect_same_balance <- function(remote, local) {
  a <- tidy(assess_balance(remote))
  b <- tidy(assess_balance(local))
  numbers <- c("mean_treated", "mean_control", "sd_treated", "sd_control", "smd", "variance_ratio")
  expect_lt(gap(a[numbers], b[numbers]), 1e-8)
  expect_identical(a$pass, b$pass)
  expect_identical(a$covariate, b$covariate)
  expect_lt(gap(glance(assess_balance(remote))[c("rows", "passing", "worst_smd", "ess_treated", "ess_control", "mahalanobis")],
                glance(assess_balance(local))[c("rows", "passing", "worst_smd", "ess_treated", "ess_control", "mahalanobis")]),
            1e-8)
}

expect_same_effect <- function(remote, local, ...) {
  a <- measure_effect(remote, ...)
  b <- measure_effect(local, ...)
  expect_identical(tidy(a)$term, tidy(b)$term)
  expect_lt(gap(tidy(a)$estimate, tidy(b)$estimate), 1e-9)
  expect_lt(gap(tidy(a)$std.error, tidy(b)$std.error), 1e-7)
  expect_lt(gap(tidy(a)[c("conf.low", "conf.high")], tidy(b)[c("conf.low", "conf.high")]), 1e-7)
  same <- c("nobs", "n_treated", "n_control", "missing_outcome", "ess_treated", "ess_control", "worst_smd")
  expect_lt(gap(glance(a)[same], glance(b)[same]), 1e-8)
  expect_identical(a$inference, b$inference)
  expect_equal(a$outcome_sd, b$outcome_sd)
  expect_identical(a$note, b$note)
  invisible(a)
}
