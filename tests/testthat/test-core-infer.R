six_influence <- function() {
  six <- six_crews()
  core_weighted_means(six$income, as.integer(six$joined), six$weight)$influence()
}

test_that("the clustered variance is the double sum over pairs within a cluster", {
  six <- six_crews()
  influence <- six_influence()
  same <- outer(six$harbour, six$harbour, "==")
  by_hand <- t(influence) %*% same %*% influence / 6^2 * 3 / 2
  expect_gt(by_hand[1, 1], 0)
  expect_equal(core_vcov(influence, six$harbour)$vcov, by_hand)
})

test_that("one unit per cluster gives the robust variance", {
  influence <- six_influence()
  robust <- core_vcov(influence)
  expect_equal(robust$vcov, crossprod(influence) / 36 * 6 / 5)
  expect_equal(core_vcov(influence, 1:6)$vcov, robust$vcov)
})

test_that("strata centre cluster sums, each with its own correction", {
  six <- six_crews()
  influence <- six_influence()[, "mean_treated", drop = FALSE]
  stratum <- c(1, 1, 1, 1, 2, 2)
  sums <- c(sum(influence[1:2]), sum(influence[3:4]))
  one <- sum((sums - mean(sums))^2) * 2
  two <- sum((influence[5:6] - mean(influence[5:6]))^2) * 2
  cluster <- c("a", "a", "b", "b", "c", "d")
  expect_equal(core_vcov(influence, cluster, stratum)$vcov[1, 1], (one + two) / 36)
})

test_that("a stratum with one cluster is reported, or centred on the grand mean", {
  influence <- six_influence()[, 1, drop = FALSE]
  cluster <- c("a", "a", "b", "b", "c", "c")
  stratum <- c(1, 1, 1, 1, 2, 2)
  expect_identical(core_vcov(influence, cluster, stratum)$lonely, "2")
  centred <- core_vcov(influence, cluster, stratum, lonely = "centre")
  sums <- tapply(influence[, 1], cluster, sum)
  by_hand <- sum((sums[1:2] - mean(sums[1:2]))^2) * 2 + (sums[[3]] - mean(sums))^2
  expect_null(centred$lonely)
  expect_equal(centred$vcov[1, 1], by_hand / 36)
})

test_that("clustered pairs are a double sum over pairs that share a cluster on either side", {
  withr::local_seed(4)
  treated <- sample(1:8, 40, TRUE)
  control <- sample(1:8, 40, TRUE)
  sums <- cbind(rnorm(8)[treated] + rnorm(40), rnorm(40))
  shares <- outer(treated, treated, "==") | outer(control, control, "==") | outer(treated, control, "==") |
    outer(control, treated, "==")
  expect_equal(core_vcov_dyads(sums, 80, treated, control), crossprod(sums, shares %*% sums) / 80^2)
})

test_that("units that only carry influence do not count in the correction", {
  influence <- six_influence()
  used <- c(TRUE, TRUE, TRUE, TRUE, FALSE, FALSE)
  expect_equal(core_vcov(influence, used = used)$vcov, crossprod(influence) / 36 * 4 / 3)
  expect_equal(core_vcov(influence, c(1, 1, 2, 2, 3, 3), used = used)$clusters, 2)
})

test_that("contrasts follow from the means by the delta method", {
  of_means <- cbind(mean_treated = c(1, -1, 0), mean_control = c(0, 2, -2))
  means <- list(estimate = c(mean_treated = 0.6, mean_control = 0.3), influence = function() of_means)
  out <- core_contrasts(means, c("difference", "ratio", "odds_ratio"))
  influence <- out$influence()
  expect_equal(out$estimate[["odds_ratio"]], 0.6 / 0.4 / (0.3 / 0.7))
  numeric_slope <- function(f, at, h = 1e-6) {
    c(f(at + c(h, 0)) - f(at - c(h, 0)), f(at + c(0, h)) - f(at - c(0, h))) / (2 * h)
  }
  odds <- function(m) m[1] / (1 - m[1]) / (m[2] / (1 - m[2]))
  expect_equal(influence[, "odds_ratio"], drop(of_means %*% numeric_slope(odds, c(0.6, 0.3))),
               tolerance = 1e-6)
  ratio <- function(m) m[1] / m[2]
  expect_equal(influence[, "ratio"], drop(of_means %*% numeric_slope(ratio, c(0.6, 0.3))), tolerance = 1e-6)
  expect_named(core_contrasts(list(estimate = c(mean_treated = -1, mean_control = 2)))$estimate,
               c("mean_treated", "mean_control", "difference"))
})

test_that("covariances of level shares from sums are those of contributions unit by unit", {
  withr::with_seed(5, {
    n <- 200
    code <- sample(4, n, TRUE)
    z <- rbinom(n, 1, 0.4)
    v <- runif(n, 0, 2) * (runif(n) > 0.1)
    bay <- sample(20, n, TRUE)
    coast <- 1L + (bay > 10)
  })
  influence <- vapply(1:4, function(k) {
    drop(core_weighted_means(as.double(code == k), z, v)$influence() %*% c(1, -1))
  }, numeric(n))
  for (by in list(list(NULL, NULL), list(bay, NULL), list(bay, coast), list(NULL, coast))) {
    own <- core_level_vcov(code, 4L, z, v, by[[1L]], by[[2L]])
    expect_equal(own$vcov, core_vcov(influence, by[[1L]], by[[2L]], lonely = "centre")$vcov, ignore_attr = TRUE)
  }
})
