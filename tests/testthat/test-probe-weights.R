# Every corner of the box of factors between 1 / lambda and lambda: the extreme weighted mean by brute force.
mean_by_corners <- function(y, fixed, free, lambda) {
  corners <- as.matrix(expand.grid(rep(list(c(1 / lambda, lambda)), length(y))))
  range(apply(corners, 1, function(t) sum((fixed + free * t) * y) / sum(fixed + free * t)))
}

test_that("bounds of a weighted mean are those of all corners, with ties and weights of 0", {
  for (seed in 1:6) {
    y <- withr::with_seed(seed, if (seed %% 2 == 0) sample(0:3, 8, TRUE) else rnorm(8))
    fixed <- withr::with_seed(seed, rexp(8)) * (seed < 5)
    free <- withr::with_seed(seed + 9, rexp(8) * rbinom(8, 1, 0.8)) + (seed > 4) * 0.1
    table <- core_bound_table(y, fixed, free)
    for (lambda in c(1, 1.3, 4)) {
      expect_equal(c(core_mean_bound(table, lambda, FALSE), core_mean_bound(table, lambda, TRUE)),
                   mean_by_corners(y, fixed, free, lambda))
    }
  }
})

# The whole effect by corners: both arms of a tiny study.
tiny_crews <- function() {
  data.frame(z = rep(1:0, each = 6), x = c(1, 2, 4, 5, 3, 6, 0, 1, 3, 2, 5, 4),
             y = c(5, 7, 6, 9, 8, 7, 3, 4, 6, 2, 5, 7), s = c(1, 2, 1, 1, 3, 1, 1, 1, 2, 1, 1, 2))
}

test_that("the bounds of an effect move what its estimand lets move, sampling weights and all", {
  data <- tiny_crews()
  for (estimand in c("ATE", "ATT", "ATC")) {
    study <- frame_study(data, "z", "y", "x", estimand = estimand, weight = "s")
    effect <- suppressWarnings(measure_effect(weigh_units(score_units(study))))
    probe <- probe_weights(effect, lambda = c(1, 1.5, 3), draws = 0, yardstick = FALSE)
    e <- fitted(suppressWarnings(glm(z ~ x, binomial, data, weights = s)))
    odds <- ifelse(data$z == 1, (1 - e) / e, e / (1 - e))
    moves <- switch(estimand, ATE = rep(TRUE, 12), ATT = data$z == 0, ATC = data$z == 1)
    fixed <- data$s * if (estimand == "ATE") 1 else !moves
    for (k in 1:3) {
      arms <- lapply(1:0, function(arm) {
        own <- data$z == arm
        mean_by_corners(data$y[own], fixed[own], (data$s * odds * moves)[own], c(1, 1.5, 3)[k])
      })
      expect_equal(unlist(tidy(probe)[k, c("estimate_low", "estimate_high")], use.names = FALSE),
                   c(arms[[1]][1] - arms[[2]][2], arms[[1]][2] - arms[[2]][1]), tolerance = 1e-6)
    }
    expect_equal(glance(probe)$estimate, difference_of(effect))
  }
})

test_that("augmented effects, entropy weights and strata are their estimates at lambda 1", {
  study <- study_of_many()
  ate <- study_of_many(estimand = "ATE")
  effects <- list(
    measure_effect(score_units(study), estimator = "augmented"),
    measure_effect(weigh_units(score_units(ate)), estimator = "augmented"),
    measure_effect(weigh_units(study, "entropy")), measure_effect(weigh_units(ate, "balancing_score")),
    measure_effect(stratify_units(score_units(ate))), measure_effect(stratify_units(score_units(study)))
  )
  for (effect in effects) {
    rows <- tidy(probe_weights(effect, lambda = c(1, 2), draws = 0, yardstick = FALSE))
    expect_equal(rows$estimate_low[1], difference_of(effect))
    expect_equal(rows$estimate_high[1], difference_of(effect))
    expect_true(rows$estimate_low[2] < rows$estimate_low[1] && rows$estimate_high[2] > rows$estimate_high[1])
  }
})

test_that("at lambda 1 the interval is the bootstrap's, and the change is where the bounds meet 0", {
  study <- study_of_many(cluster = "harbour")
  design <- weigh_units(score_units(study))
  probe <- probe_weights(measure_effect(design), lambda = c(1, 1.2), draws = 60, seed = 5, yardstick = FALSE)
  boot <- suppressWarnings(measure_effect(design, inference = "bootstrap", draws = 60, seed = 5))
  expect_equal(unlist(tidy(probe)[1, c("conf_low", "conf_high")], use.names = FALSE),
               unlist(subset(tidy(boot), term == "difference")[c("conf.low", "conf.high")], use.names = FALSE),
               tolerance = 1e-6)
  change <- glance(probe)$lambda_change
  at <- tidy(probe_weights(measure_effect(design), lambda = change, draws = 0, yardstick = FALSE))
  expect_equal(at$estimate_low, 0, tolerance = 1e-6)
  interval <- glance(probe)$lambda_change_interval
  expect_true(interval > 1 && interval < change)
  there <- tidy(probe_weights(measure_effect(design), lambda = interval * c(0.97, 1.03), draws = 60, seed = 5,
                              yardstick = FALSE))
  expect_true(there$conf_low[1] > 0 && there$conf_low[2] < 0)
  expect_identical(tidy(probe), tidy(probe_weights(measure_effect(design), lambda = c(1, 1.2), draws = 60, seed = 5,
                                                   yardstick = FALSE)))
})

test_that("leaving a covariate out moves the odds as two logits say", {
  data <- many_crews()
  effect <- measure_effect(weigh_units(score_units(study_of_many(data))))
  probe <- probe_weights(effect, lambda = c(1, 2), draws = 0)
  rows <- tidy(probe, part = "covariates")
  with <- fitted(glm(joined ~ boat + past + port, binomial, data))
  without <- fitted(glm(joined ~ past + port, binomial, data))
  ratio <- exp(abs(qlogis(with) - qlogis(without)))[data$joined == 0]
  row <- rows[rows$covariate == "boat", ]
  expect_equal(row$lambda_most, max(ratio), tolerance = 1e-5)
  expect_equal(row$lambda, quantile(ratio, 0.95, names = FALSE), tolerance = 1e-5)
  odds <- without / (1 - without)
  controls <- data$joined == 0
  expect_equal(row$estimate, mean(data$income[!controls]) - weighted.mean(data$income[controls], odds[controls]),
               tolerance = 1e-5)
  expect_false(is.unsorted(-rows$lambda))
  expect_match(paste(format(probe), collapse = " "), paste("Leaving out", rows$covariate[1]))
  draw_quietly(plot(probe))
  expect_lte(max(nchar(format(probe))), 80)
})

test_that("what has no bounds is refused with a way on", {
  study <- study_of_many()
  scored <- score_units(study)
  weighted <- weigh_units(scored)
  refused <- function(effect, pattern, ...) {
    expect_error(probe_weights(effect, ...), pattern, class = "twin_error_unsupported")
  }
  refused(measure_effect(study), "raw sample")
  refused(measure_effect(pair_units(scored)), "pairs")
  refused(measure_effect(weighted, estimator = "regression"), "normalised")
  if (rlang::is_installed("Rglpk")) refused(measure_effect(group_units(study, "cardinality")), "chooses units")
  refused(measure_effect(weigh_units(score_units(study_of_many(estimand = "ATO")))), "ATO")
  refused(measure_effect(weigh_units(scored, truncate = c(quantile = 0.9))), "Truncated")
  refused(measure_effect(weigh_units(study_of_many(estimand = "ATE"), "entropy")), "below 1")
  expect_error(probe_weights(measure_effect(weighted), lambda = 0.9), "from 1 to a million", class = "twin_error_input")
  expect_error(probe_weights(1.5), class = "twin_error_input")
  several <- measure_effect(weigh_units(score_units(study_of_many(outcome = c("income", "direct")))),
                            outcome = c("income", "direct"))
  each <- probe_weights(several, draws = 0)
  expect_identical(names(each), c("income", "direct"))
  expect_equal(tidy(each[["direct"]]), tidy(probe_weights(several[[2]], draws = 0)))
  expect_identical(glance(each)$of, c("income", "direct"))
})
