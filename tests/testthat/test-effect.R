test_that("the raw difference is Welch's, up to its n / (n - 1)", {
  data <- many_crews()
  row <- tidy(measure_effect(study_of_many()))[3, ]
  arms <- split(data$income, data$joined)
  expect_equal(row$estimate, mean(arms$`1`) - mean(arms$`0`))
  size <- lengths(arms)
  variance <- sum(vapply(arms, var, 0) * (size - 1) / size^2) * 300 / 299
  expect_equal(row$std.error, sqrt(variance))
})

test_that("on pairs the estimate and its error are those of the pair differences", {
  design <- pair_units(score_units(study_of_many(with_chance(many_crews())), score = "chance"))
  pairs <- pairs_of(design)
  d <- many_crews()$income[pairs$treated] - many_crews()$income[pairs$control]
  row <- tidy(measure_effect(design))[3, ]
  expect_equal(row$estimate, mean(d))
  expect_equal(row$std.error, sd(d) / sqrt(length(d)))
})

# One estimator re-run from the data, everything re-estimated.
rerun <- function(estimand, estimator, outcome = "income") {
  function(data) {
    study <- study_of_many(data, estimand = estimand, weight = "s", outcome = outcome)
    difference_of(measure_effect(weigh_units(score_units(study)), estimator = estimator))
  }
}

expect_influence_is_derivative <- function(estimand, estimator, outcome = "income") {
  data <- many_crews(120, seed = 4)
  estimate <- rerun(estimand, estimator, outcome)
  study <- study_of_many(data, estimand = estimand, weight = "s", outcome = outcome)
  effect <- measure_effect(weigh_units(score_units(study)), estimator = estimator)
  units <- c(1, 17, 60, 101)
  expect_equal(effect$influence[units, "difference"], vapply(units, function(i) influence_by_weight(data, i, estimate), 0),
               tolerance = 1e-4, label = paste(estimand, estimator, outcome))
}

test_that("a unit's influence is n times the derivative in its sampling weight: weighted difference", {
  expect_influence_is_derivative("ATE", "difference")
  expect_influence_is_derivative("ATT", "difference")
  expect_influence_is_derivative("ATC", "difference")
  expect_influence_is_derivative("ATO", "difference")
})

test_that("a unit's influence is n times the derivative in its sampling weight: augmented", {
  expect_influence_is_derivative("ATE", "augmented")
  expect_influence_is_derivative("ATT", "augmented")
  expect_influence_is_derivative("ATC", "augmented")
  expect_influence_is_derivative("ATO", "augmented")
  expect_influence_is_derivative("ATT", "augmented", "direct")
  expect_influence_is_derivative("ATE", "augmented", "direct")
})

# Stacked moments of the ATE by inverse weighting, with a numerically differentiated bread: theta = (b, mu1, mu0).
stacked_sandwich <- function(data) {
  x <- model.matrix(~ boat + past + port, data)
  moments <- function(theta) {
    b <- theta[1:5]
    e <- plogis(drop(x %*% b))
    data$s * cbind(x * (data$joined - e), data$joined / e * (data$income - theta[6]),
                   (1 - data$joined) / (1 - e) * (data$income - theta[7]))
  }
  fit <- suppressWarnings(glm.fit(x, data$joined, data$s, family = binomial(), control = list(epsilon = 1e-14)))
  e <- fit$fitted.values
  start <- c(coef(fit), weighted.mean(data$income, data$s * data$joined / e),
             weighted.mean(data$income, data$s * (1 - data$joined) / (1 - e)))
  bread <- vapply(1:7, function(k) {
    h <- replace(numeric(7), k, 1e-5)
    (colSums(moments(start + h)) - colSums(moments(start - h))) / 2e-5
  }, numeric(7))
  inverse <- solve(bread)
  variance <- inverse %*% crossprod(moments(start)) %*% t(inverse)
  sqrt(sum(variance[6:7, 6:7] * c(1, -1, -1, 1)))
}

test_that("the weighted standard error is the stacked sandwich's", {
  data <- many_crews()
  effect <- measure_effect(weigh_units(score_units(study_of_many(estimand = "ATE", weight = "s"))))
  expect_equal(tidy(effect)$std.error[3], stacked_sandwich(data) * sqrt(300 / 299), tolerance = 1e-6)
})

test_that("accounting for the score makes the ATE more precise than pretending it is known", {
  design <- weigh_units(score_units(study_of_many(estimand = "ATE")))
  naive <- core_weighted_means(many_crews()$income, many_crews()$joined, weights(design))$influence()
  naive_se <- sqrt(sum((naive[, 1] - naive[, 2])^2)) / 300
  expect_lt(tidy(measure_effect(design))$std.error[3], naive_se)
})

test_that("mean influence is zero, whatever the estimator", {
  design <- weigh_units(score_units(study_of_many(weight = "s", outcome = "direct")))
  expect_lt(max(abs(colMeans(measure_effect(design)$influence))), 1e-10)
  expect_lt(max(abs(colMeans(measure_effect(design, estimator = "augmented")$influence))), 1e-8)
})

test_that("a weight of 2 gives the estimate of the unit entered twice", {
  data <- many_crews()
  data$s <- rep(1:2, 150)
  twice <- data[rep(1:300, data$s), ]
  twice$s <- 1
  expect_equal(rerun("ATT", "augmented")(data), rerun("ATT", "augmented")(twice), tolerance = 1e-8)
  expect_equal(rerun("ATE", "difference")(data), rerun("ATE", "difference")(twice), tolerance = 1e-8)
})

test_that("swapping arms flips the ATE and turns the ATT into minus the ATC", {
  data <- many_crews()
  measured <- function(estimand, treated) {
    study <- study_of_many(data, estimand = estimand, treated = treated)
    difference_of(measure_effect(weigh_units(score_units(study)), estimator = "augmented"))
  }
  expect_equal(measured("ATE", 1), -measured("ATE", 0), tolerance = 1e-8)
  expect_equal(measured("ATT", 1), -measured("ATC", 0), tolerance = 1e-8)
})

test_that("augmented estimates follow Methods by a plain formula", {
  data <- many_crews()
  e <- fitted(glm(joined ~ boat + past + port, binomial, data, control = list(epsilon = 1e-14)))
  z <- data$joined
  m <- lapply(c(`1` = 1, `0` = 0), function(arm) {
    predict(lm(income ~ boat + past + port, data, subset = data$joined == arm), data)
  })
  odds <- (1 - z) * e / (1 - e)
  att <- sum(z * (data$income - m$`0`)) / sum(z) - sum(odds * (data$income - m$`0`)) / sum(odds)
  measured <- function(estimand) {
    study <- study_of_many(estimand = estimand)
    difference_of(measure_effect(score_units(study), estimator = "augmented"))
  }
  expect_equal(measured("ATT"), att, tolerance = 1e-6)
  h <- e * (1 - e)
  w <- ifelse(z == 1, h / e, h / (1 - e))
  ato <- sum(h * (m$`1` - m$`0`)) / sum(h) + weighted.mean(data$income - m$`1`, w * z) -
    weighted.mean(data$income - m$`0`, w * (1 - z))
  expect_equal(measured("ATO"), ato, tolerance = 1e-6)
})

test_that("clusters use G - 1 degrees of freedom, and another column may take their place", {
  study <- study_of_many(cluster = "harbour")
  effect <- measure_effect(study)
  expect_identical(glance(effect)$df, 29)
  row <- tidy(effect)[3, ]
  expect_equal(row$conf.high - row$estimate, qt(0.975, 29) * row$std.error)
  data <- many_crews()
  data$unit <- 1:300
  by_unit <- measure_effect(study_of_many(data), cluster = "unit")
  expect_equal(tidy(by_unit)$std.error, tidy(measure_effect(study_of_many(data)))$std.error)
})

test_that("few clusters, one cluster and lonely strata are said or refused", {
  data <- many_crews()
  data$three <- rep(1:3, 100)
  data$one <- 1
  expect_warning(measure_effect(study_of_many(data, cluster = "three")), "Only 3 clusters",
                 class = "twin_warning_few_clusters")
  expect_error(measure_effect(study_of_many(data, cluster = "one")), "at least 2 clusters", class = "twin_error_input")
  data$odd <- ifelse(data$harbour == 7, "alone", "rest")
  study <- study_of_many(data, cluster = "harbour", stratum = "odd")
  expect_error(measure_effect(study), "only one is left in \"alone\"", class = "twin_error_input")
  expect_gt(tidy(measure_effect(study, lonely_stratum = "centre"))$std.error[3], 0)
})

test_that("missing outcomes are counted and left out, with their pair", {
  data <- many_crews()
  full <- pair_units(score_units(study_of_many(data)))
  lost <- pairs_of(full)$treated[2]
  data$income[lost] <- NA
  effect <- measure_effect(pair_units(score_units(study_of_many(data))))
  pairs <- pairs_of(full)[-2, ]
  expect_equal(difference_of(effect), mean(data$income[pairs$treated] - data$income[pairs$control]))
  expect_identical(effect$counts[["missing"]], 1L)
  expect_identical(nobs(effect), 2L * nrow(pairs))
})

test_that("a missing outcome on weights keeps the unit in the score", {
  data <- many_crews()
  data$income[5] <- NA
  design <- weigh_units(score_units(study_of_many(data)))
  effect <- measure_effect(design)
  w <- weights(design)
  arm <- function(z) weighted.mean(data$income[data$joined == z], w[data$joined == z], na.rm = TRUE)
  expect_equal(difference_of(effect), arm(1) - arm(0))
  expect_identical(nobs(effect), 299L)
  expect_match(paste(format(effect), collapse = " "), "1 value of the outcome\\s+is missing")
})

test_that("ratios are tested on the log scale", {
  row <- tidy(measure_effect(study_of_many(outcome = "direct")))
  row <- row[row$term == "ratio", ]
  expect_equal(log(row$conf.high) - log(row$estimate), qnorm(0.975) * row$std.error / row$estimate)
  expect_equal(row$statistic, log(row$estimate) / (row$std.error / row$estimate))
})

test_that("the generics hand out the same numbers", {
  effect <- measure_effect(weigh_units(score_units(study_of_many())))
  expect_identical(names(coef(effect)), tidy(effect)$term)
  expect_equal(unname(sqrt(diag(vcov(effect)))), tidy(effect)$std.error)
  expect_equal(unname(confint(effect, "difference")[1, ]), unlist(tidy(effect)[3, c("conf.low", "conf.high")],
                                                                 use.names = FALSE))
  expect_equal(mean(augment(effect)$.influence_difference), 0)
  expect_identical(nrow(glance(effect)), 1L)
  narrow <- confint(effect, "difference", level = 0.5)
  expect_equal(narrow[2] - coef(effect)[["difference"]], qnorm(0.75) * tidy(effect)$std.error[3])
})

test_that("what does not fit is refused with the reason", {
  scored <- score_units(study_of_many())
  expect_error(measure_effect(pair_units(scored), estimator = "augmented"), "not on pairs",
               class = "twin_error_unsupported")
  expect_error(measure_effect(study_of_many(), estimator = "augmented"), "needs a propensity score",
               class = "twin_error_input")
  expect_error(measure_effect(scored, "incme"), "Did you mean \"income\"", class = "twin_error_input")
  expect_error(measure_effect(scored, estimator = "augmented", family = "binomial"), "outcome of 0 and 1",
               class = "twin_error_input")
  expect_error(measure_effect(weigh_units(scored), family = "gaussian"), "has no use with", class = "twin_error_input")
  expect_warning(measure_effect(scored), "the difference is the raw one", class = "twin_warning_unadjusted")
  data <- many_crews()
  data$income <- 7
  expect_error(measure_effect(study_of_many(data)), "does not vary: it is 7", class = "twin_error_input")
})

test_that("a comparison lines effects up and covers its truth", {
  study <- study_of_many()
  scored <- score_units(study)
  both <- compare_effects(raw = measure_effect(study), pairs = measure_effect(pair_units(scored)),
                          weights = measure_effect(weigh_units(scored)), truth = 2)
  table <- tidy(both)
  expect_identical(table$label, c("raw", "pairs", "weights"))
  expect_identical(table$covers, table$conf.low <= 2 & 2 <= table$conf.high)
  expect_equal(sqrt(diag(vcov(both))), setNames(table$std.error, table$label))
  contribution <- function(effect) {
    replace(numeric(300), effect$rows, effect$influence[, "difference"] / length(effect$rows))
  }
  by_hand <- sum(contribution(both$effects$raw) * contribution(both$effects$weights)) * 300 / 299
  expect_equal(vcov(both)["raw", "weights"], by_hand)
  points <- ggplot2::layer_data(plot(both), 5)
  expect_setequal(points$x, table$estimate)
  expect_match(paste(format(both), collapse = "\n"), "The truth is 2.00", fixed = TRUE)
})

test_that("effects that can't be compared are refused", {
  effect <- measure_effect(study_of_many(outcome = c("income", "direct")))
  other <- measure_effect(study_of_many(outcome = c("income", "direct")), "direct")
  expect_error(compare_effects(effect, other), "on one outcome", class = "twin_error_input")
  expect_error(compare_effects(effect, measure_effect(study_of_many(many_crews(seed = 2)))), "the same data",
               class = "twin_error_input")
  expect_error(compare_effects(effect, term = "odds_ratio"), "is not in effect 1", class = "twin_error_input")
  expect_error(compare_effects(), "at least one", class = "twin_error_input")
})

test_that("an effect says what, for whom, by what and how many designs were tried", {
  effect <- measure_effect(pair_units(score_units(study_of_many(cluster = "harbour")), caliper = 0.05))
  lines <- format(effect)
  expect_lte(max(nchar(lines)), 80)
  text <- gsub("opened on [0-9: -]+:", "opened on DATE:", lines)
  expect_snapshot(writeLines(text))
})
