exact_glm <- function(x, y, w = rep(1, length(y))) {
  suppressWarnings(stats::glm.fit(cbind(1, x), y, w, family = stats::quasibinomial(),
                                  control = list(epsilon = 1e-15, maxit = 50)))
}

# Columns on wildly different scales: raw years and incomes cost the plain normal equations half their digits.
raw_columns <- function(n) {
  withr::with_seed(2, cbind(year = 2000 + rpois(n, 8), income = exp(rnorm(n, 10)), share = runif(n)))
}

test_that("the logit agrees with glm to 1e-8 on raw, weighted columns", {
  x <- raw_columns(800)
  y <- withr::with_seed(3, rbinom(800, 1, plogis(0.1 * (x[, 1] - 2008) + x[, 3] - 0.5)))
  w <- withr::with_seed(4, runif(800, 0.2, 3))
  fit <- core_fit(x, as.double(y), w, "binomial")
  reference <- exact_glm(x, y, w)
  expect_equal(fit$coefficients, unname(reference$coefficients), tolerance = 1e-8)
  expect_equal(fit$fitted, unname(reference$fitted.values), tolerance = 1e-8)
  expect_equal(unname(fit$covariance), unname(chol2inv(reference$qr$qr[, order(reference$qr$pivot)])),
               tolerance = 1e-6)
})

test_that("a large fit, started from a part of its rows, reaches the same answer", {
  x <- raw_columns(120000)
  y <- withr::with_seed(3, rbinom(nrow(x), 1, plogis(0.1 * (x[, 1] - 2008) + x[, 3] - 0.5)))
  fit <- core_fit(x, as.double(y), NULL, "binomial")
  expect_equal(fit$coefficients, unname(exact_glm(x, y)$coefficients), tolerance = 1e-8)
})

test_that("a fit solves its score equations whatever the number of rows beyond a whole block", {
  sizes <- c(5, 255, 256, 257, 511)
  gaps <- vapply(sizes, function(n) {
    x <- withr::with_seed(n, matrix(rnorm(2 * n), n))
    y <- rep_len(c(0, 1, 1, 0, 1), n)
    fit <- core_fit(x, y, NULL, "binomial")
    max(abs(crossprod(cbind(1, x), y - fit$fitted)))
  }, 0)
  expect_lt(max(gaps), 1e-8)
})

test_that("least squares agrees with lm, variances too", {
  x <- raw_columns(400)
  y <- withr::with_seed(5, x[, 1] / 10 + log(x[, 2]) + rnorm(400))
  w <- withr::with_seed(6, runif(400, 0.2, 3))
  fit <- core_fit(x, y, w, "gaussian")
  reference <- stats::lm(y ~ x, weights = w)
  expect_equal(fit$coefficients, unname(coef(reference)), tolerance = 1e-8)
  expect_equal(unname(fit$covariance), unname(summary(reference)$cov.unscaled), tolerance = 1e-8)
})

test_that("columns that earlier ones explain are dropped in order and change no fitted value", {
  x <- withr::with_seed(7, matrix(rnorm(300), 100))
  y <- rep_len(c(0, 1, 1), 100)
  fit <- core_fit(cbind(x, x[, 1] - 2 * x[, 3], 4), y, NULL, "binomial")
  expect_identical(fit$aliased, 4:5)
  expect_equal(fit$fitted, core_fit(x, y, NULL, "binomial")$fitted, tolerance = 1e-10)
  expect_identical(fit$coefficients[5:6], c(0, 0))
})

test_that("complete and quasi-complete separation are reported, poor overlap is not", {
  x <- withr::with_seed(8, matrix(rnorm(200), 100))
  expect_identical(core_fit(x, as.double(x[, 1] > 0), NULL, "binomial")$status, "separated")
  y <- rep(c(0, 1), 50)
  rare <- as.double(y == 1 & rep(c(TRUE, FALSE, FALSE, FALSE), 25))
  rare[2] <- 1
  expect_identical(core_fit(cbind(x, rare), y, NULL, "binomial")$status, "separated")
  steep <- withr::with_seed(9, rbinom(100, 1, plogis(6 * x[, 1])))
  expect_identical(core_fit(x, as.double(steep), NULL, "binomial")$status, "converged")
})

test_that("weighted covariance agrees with cov.wt up to its divisor", {
  x <- raw_columns(300)
  w <- withr::with_seed(10, runif(300))
  cov_wt <- stats::cov.wt(x, w / sum(w), method = "ML")$cov
  by_hand <- cov_wt * sum(w) / (sum(w) - sum(w^2) / sum(w))
  expect_equal(core_covariance(x, w), unname(by_hand), tolerance = 1e-10)
  expect_equal(core_covariance(x, NULL), unname(stats::cov(x)), tolerance = 1e-10)
})
