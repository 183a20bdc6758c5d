# Standard errors and intervals against the spread of estimates over drawn samples, and levels of tests: what takes too many
# draws for every run of the tests. Bands are worked out from the number of draws.

# 80 draws know a standard error to 8%; 0.32 on the log scale is four times that.
test_that("every method's standard error agrees with the bootstrap within its noise", {
  data <- many_crews(600, seed = 11)
  gap <- unlist(on_two_cores(seq_len(nrow(combinations)), function(k) {
    recipe <- combinations$recipe[k]
    estimand <- combinations$estimand[k]
    error <- tidy(measure_effect(recipe_design(data, recipe, estimand)))$std.error[3]
    draws <- withr::with_seed(7, vapply(1:80, function(draw) {
      suppressWarnings(difference_of(measure_effect(recipe_design(data[sample.int(600, replace = TRUE), ], recipe, estimand))))
    }, 0))
    log(error / sd(draws))
  }))
  expect_length(gap, 40)
  expect_lt(max(abs(gap)), 0.32, label = paste(combinations$recipe, combinations$estimand)[which.max(abs(gap))])
  expect_lt(abs(mean(gap)), 0.1)
})

# One draw of a world with known truth: a covariate beyond those that drive treatment moves the outcome.
draw_world <- function(seed, estimand, n = 500) {
  withr::with_seed(seed, {
    x <- matrix(rnorm(3 * n), n, dimnames = list(NULL, c("a", "b", "c")))
    joined <- rbinom(n, 1, plogis(-0.4 + 0.6 * x[, 1] + 0.4 * x[, 2]))
    data.frame(x, joined, income = x[, 1] + 2 * x[, 3] + joined + rnorm(n, sd = 0.7))
  })
}

test_that("standard errors on an estimated score match the spread over draws; the effect is the true one", {
  for (estimand in c("ATT", "ATE")) {
    draws <- on_two_cores(1:150, function(seed) {
      withr::local_options(carefultwin.threads = 1)
      study <- frame_study(draw_world(seed, estimand), "joined", "income", c("a", "b", "c"), estimand = estimand)
      design <- pair_units(score_units(study), replacement = TRUE, caliper = Inf)
      known <- design
      known$score$known <- TRUE
      c(effect_numbers(measure_effect(design)), effect_numbers(measure_effect(known))[2],
        effect_numbers(measure_effect(design, estimator = "regression")))
    })
    draws <- do.call(rbind, draws)
    spread <- sd(draws[, 1])
    # the sd of 150 draws is known within 6%; four of those
    expect_lt(abs(log(mean(draws[, 2]) / spread)), 0.25)
    expect_gt(mean(draws[, 3]) / spread, 1.2)  # taken as known it would be too large here
    expect_lt(abs(mean(draws[, 1]) - 1), 4 * spread / sqrt(150) + 0.03)
    expect_lt(abs(log(mean(draws[, 5]) / sd(draws[, 4]))), 0.25)
    expect_lt(abs(mean(draws[, 4]) - 1), 4 * sd(draws[, 4]) / sqrt(150))
  }
})

test_that("intervals cover a known truth, and the raw comparison does not", {
  hits <- vapply(1:200, function(seed) {
    data <- many_crews(1000, seed = 1000 + seed)
    study <- study_of_many(data, estimand = "ATE")
    design <- weigh_units(score_units(study))
    rows <- rbind(tidy(measure_effect(study))[3, ], tidy(measure_effect(design))[3, ],
                  tidy(measure_effect(design, estimator = "augmented"))[3, ])
    rows$conf.low <= 2 & rows$conf.high >= 2  # E(2 + boat) = 2
  }, logical(3))
  coverage <- rowMeans(hits)
  # 95% of 200 draws is 190 with sd 3.1: four sd below is 0.888
  expect_lt(coverage[1], 0.5)
  expect_gt(coverage[2], 0.888)
  expect_gt(coverage[3], 0.888)
})

test_that("tests of agreement keep their level when estimators aim at the same number", {
  p <- unlist(on_two_cores(1:120, function(seed) {
    data <- many_crews(400, seed)
    data$income <- 20 + 3 * data$boat + 2 * data$joined + withr::with_seed(1e5 + seed, rnorm(400))  # not the draws behind boat
    scored <- score_units(study_of_many(data))
    suppressWarnings(glance(compare_effects(measure_effect(weigh_units(scored)), measure_effect(scored, estimator = "augmented"),
                                            measure_effect(study_of_many(data), estimator = "regression")))$p.value)
  }))
  expect_lt(mean(p < 0.05), 0.12)
  expect_gt(mean(p < 0.5), 0.3)
})

test_that("randomization is exact: without effects p-values are spread evenly", {
  p <- vapply(1:60, function(seed) {
    data <- many_harbours(12, seed = seed)
    data$price <- withr::with_seed(seed, rnorm(nrow(data)))
    few(harbour_panel(data), inference = "randomization", draws = 99)$p.value
  }, 0)
  expect_gt(suppressWarnings(ks.test(p, "punif")$p.value), 0.001)
  expect_lt(mean(p <= 0.1), 0.1 + 3.5 * sqrt(0.1 * 0.9 / 60))
})

test_that("the joint test of trends keeps its level where trends are parallel", {
  p <- vapply(1:200, function(seed) {
    data <- many_harbours(40, seed)
    data$price <- withr::with_seed(seed, rnorm(nrow(data)))
    glance(assess_trends(harbour_panel(data)))$p.value
  }, 0)
  # Methods' joint test: close to its level with 40 clusters
  expect_lt(mean(p < 0.1), 0.1 + 4 * sqrt(0.1 * 0.9 / 200))
  expect_gt(mean(p < 0.1), 0.1 - 4 * sqrt(0.1 * 0.9 / 200))
})
