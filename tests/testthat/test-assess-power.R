test_that("the detectable effect is that of a t-test's power, with a stated spread", {
  study <- study_of_many()
  rows <- tidy(assess_power(study, power = c(0.5, 0.8), sd = 3))
  sizes <- table(many_crews()$joined)
  expect_equal(rows$std.error, rep(3 * sqrt(sum(1 / sizes)), 2))
  expect_equal(rows$detectable, (qnorm(0.975) + qnorm(c(0.5, 0.8))) * rows$std.error)
  expect_true(all(is.na(rows$design_sensitivity)))
  both <- assess_power(study, power = 0.8, level = c(0.9, 0.95), sd = 3)
  expect_equal(tidy(both)$detectable, (qnorm(c(0.95, 0.975)) + qnorm(0.8)) * rows$std.error)
  expect_match(paste(format(both), collapse = " "), "at level 0.10, 0.05")
  draw_quietly(plot(both))
})

test_that("an effect of that size is found as often as said, clusters and weights included", {
  data <- many_crews()
  design <- weigh_units(score_units(study_of_many(data, cluster = "harbour")))
  power <- assess_power(design, power = 0.8, sd = sqrt(1.25), intraclass = 0.2)
  v <- stats::weights(design)
  treated <- data$joined == 1
  found <- withr::with_seed(2, vapply(1:4000, function(k) {
    y <- rnorm(30, sd = 0.5)[data$harbour] + rnorm(300)
    gap <- weighted.mean(y[treated], v[treated]) - weighted.mean(y[!treated], v[!treated])
    abs(gap + tidy(power)$detectable) / tidy(power)$std.error
  }, 0))
  expect_equal(mean(found > qt(0.975, 29)), 0.8, tolerance = 0.035)
  clusters <- glance(power)
  expect_identical(clusters$clusters, 30L)
  expect_equal(clusters$df, 29)
})

test_that("the controls' spread is theirs alone, and looking at it leaves the outcome sealed", {
  data <- many_crews()
  study <- study_of_many(data, cluster = "harbour", weight = "s")
  power <- assess_power(study)
  control <- data$joined == 0
  w <- data$s[control]
  y <- data$income[control]
  m <- weighted.mean(y, w)
  expect_equal(glance(power)$sd, sqrt(sum(w * (y - m)^2) / (sum(w) - sum(w^2) / sum(w))))
  fit <- anova(lm(y ~ factor(data$harbour[control])))[["Mean Sq"]]
  size <- table(data$harbour[control])
  n0 <- (sum(size) - sum(size^2) / sum(size)) / (length(size) - 1)
  expect_equal(glance(power)$intraclass, max(0, (fit[1] - fit[2]) / (fit[1] + (n0 - 1) * fit[2])))
  expect_true(is.na(summary(logbook(study))$opened))
  expect_match(paste(format(power), collapse = " "), "the treated were not looked at")
  changed <- data
  changed$income[!control] <- 1e6
  expect_identical(tidy(assess_power(study_of_many(changed, cluster = "harbour", weight = "s"))), tidy(power))
  draw_quietly(plot(power))
})

test_that("design sensitivity is where a very large study turns from finding to not finding", {
  effect <- 0.5
  gamma <- core_pairs_sensitivity(effect)
  d <- qnorm(ppoints(20000), effect)
  expect_lt(tidy(probe_pairs(d, gamma = 0.94 * gamma, side = "greater"))$p_high, 0.01)
  expect_gt(tidy(probe_pairs(d, gamma = 1.06 * gamma, side = "greater"))$p_high, 0.99)
  pairs <- pair_units(score_units(study_of_many()))
  rows <- tidy(assess_power(pairs, sd = 2, pairing = 0.5))
  expect_equal(rows$design_sensitivity, core_pairs_sensitivity(rows$detectable / 2))
  lambda <- core_weights_sensitivity(0.6, c(treated = 0, control = 1))
  y <- qnorm(ppoints(1e5))
  flat <- core_bound_table(y, numeric(1e5), rep(1, 1e5))
  expect_equal(core_mean_bound(flat, lambda, TRUE), 0.6, tolerance = 1e-3)
  lambda <- core_weights_sensitivity(0.6, c(treated = 0.7, control = 0.3))
  part <- function(share) core_bound_table(y, rep(1 - share, 1e5), rep(share, 1e5))
  both <- core_mean_bound(part(0.7), lambda, TRUE) + core_mean_bound(part(0.3), lambda, TRUE)
  expect_equal(both, 0.6, tolerance = 1e-3)
  expect_identical(core_weights_sensitivity(0), 1)
})

test_that("bad input is refused", {
  study <- study_of_many()
  expect_error(assess_power(study, power = 1), class = "twin_error_input")
  expect_error(assess_power(study, sd = 0), class = "twin_error_input")
  expect_error(assess_power(study, sd = 1, outcome = "income"), "not both", class = "twin_error_input")
  expect_error(assess_power(study, outcome = "incme"), "Did you mean", class = "twin_error_input")
  expect_error(assess_power(study, pairing = 0.2), "belongs to pairs", class = "twin_error_input")
  expect_error(assess_power(pair_units(score_units(study), replacement = TRUE)), class = "twin_error_unsupported")
  flat <- many_crews()
  flat$income <- 1
  expect_error(assess_power(study_of_many(flat)), "does not vary", class = "twin_error_input")
})
