# Crews with a confounder that the study is not told of.
crews_with_mood <- function(n = 250, seed = 1) {
  data <- many_crews(n, seed)
  data$mood <- withr::with_seed(seed + 50, rnorm(n) + 0.4 * data$joined + 0.2 * data$past)
  data$income <- data$income + 1.5 * data$mood
  data
}

partial_r2 <- function(y, x, others) {
  summary(lm(resid(lm(y ~ ., others)) ~ resid(lm(x ~ ., others))))$r.squared
}

test_that("adding a confounder of known strength to the regression gives the adjusted estimate and error exactly", {
  data <- crews_with_mood()
  effect <- measure_effect(study_of_many(data), estimator = "regression")
  short <- summary(lm(income ~ joined + boat + past + port, data))
  long <- summary(lm(income ~ joined + boat + past + port + mood, data))$coefficients["joined", ]
  others <- data[c("boat", "past", "port")]
  r2_treatment <- partial_r2(data$joined, data$mood, others)
  r2_outcome <- partial_r2(data$income, data$mood, cbind(others, joined = data$joined))
  fit <- effect_regression(effect)
  expect_equal(fit$estimate, short$coefficients["joined", 1])
  expect_equal(fit$se, short$coefficients["joined", 2])
  expect_identical(fit$df, short$df[2])
  adjusted <- core_adjusted_estimate(fit$estimate, fit$se, fit$df, r2_treatment, r2_outcome)
  expect_equal(c(adjusted$estimate, adjusted$se), unname(long[1:2]))
})

test_that("with weights the same holds for the weighted regression", {
  data <- crews_with_mood()
  study <- study_of_many(data, weight = "s")
  effect <- measure_effect(weigh_units(score_units(study)))
  fit <- effect_regression(effect)
  w <- stats::weights(design_of(effect), full = TRUE)
  short <- summary(lm(income ~ joined + boat + past + port, data, weights = w))$coefficients["joined", ]
  expect_equal(c(fit$estimate, fit$se), unname(short[1:2]))
  root <- sqrt(w)
  weighted <- function(formula) resid(lm(formula, data, weights = w)) * root
  z <- weighted(joined ~ boat + past + port)
  u <- weighted(mood ~ boat + past + port)
  yz <- weighted(income ~ joined + boat + past + port)
  uz <- weighted(mood ~ joined + boat + past + port)
  adjusted <- core_adjusted_estimate(fit$estimate, fit$se, fit$df, sum(z * u)^2 / sum(z^2) / sum(u^2),
                                     sum(yz * uz)^2 / sum(yz^2) / sum(uz^2))
  long <- summary(lm(income ~ joined + boat + past + port + mood, data, weights = w))$coefficients["joined", ]
  expect_equal(c(adjusted$estimate, adjusted$se), unname(long[1:2]))
})

test_that("standard errors are robust, clustered or by matched set, as a sandwich by hand", {
  data <- many_crews()
  hand <- function(v, cluster) {
    x <- model.matrix(~ joined + boat + past + port, data)
    used <- v > 0
    bread <- solve(crossprod(x * v, x))
    scores <- (x * v * resid(lm(income ~ joined + boat + past + port, data, weights = v)))[used, ]
    sums <- rowsum(scores, cluster[used])
    groups <- nrow(sums)
    sqrt((bread %*% crossprod(sums) %*% bread)[2, 2] * groups / (groups - 1))
  }
  study <- study_of_many(data, cluster = "harbour")
  probe <- probe_omitted(measure_effect(weigh_units(score_units(study))))
  v <- stats::weights(weigh_units(score_units(study)))
  expect_equal(glance(probe)$std.error, hand(v, data$harbour))
  data$boat_type <- rep(1:25, 12)
  two <- probe_omitted(measure_effect(study_of_many(data), estimator = "regression", cluster = c("harbour", "boat_type")))
  both <- paste(data$harbour, data$boat_type)
  squares <- hand(rep(1, 300), data$harbour)^2 + hand(rep(1, 300), data$boat_type)^2 - hand(rep(1, 300), both)^2
  expect_equal(glance(two)$std.error, sqrt(squares))
  pairs <- pair_units(score_units(study_of_many(data)))
  sets <- design_data(pairs)$.set
  sets[is.na(sets)] <- -which(is.na(sets))
  expect_equal(glance(probe_omitted(measure_effect(pairs)))$std.error, hand(stats::weights(pairs), sets))
})

test_that("robustness values are the equal strengths that reach 0, and the critical t", {
  for (t in c(0.8, 2.5, 7, 40)) {
    probe <- glance(probe_omitted(t, df = 90))
    at <- function(r2) core_adjusted_estimate(t, 1, 90, r2, r2)
    expect_equal(at(probe$robustness)$estimate, 0, tolerance = 1e-9)
    # no pair of strengths up to the value brings t below its critical one, and some pair reaches it
    critical <- qt(0.975, 89)
    worst <- function(r2) {
      grid <- expand.grid(d = r2 * (0:60) / 60, y = r2 * (0:60) / 60)
      left <- core_adjusted_estimate(t, 1, 90, grid$d, grid$y)
      min(left$estimate / left$se)
    }
    if (t < critical) expect_identical(probe$robustness_interval, 0) else
      expect_equal(worst(probe$robustness_interval), critical, tolerance = 2e-3)
  }
  wide <- glance(probe_omitted(2.5 * 4, std_error = 4, df = 90))
  expect_equal(wide$robustness, glance(probe_omitted(2.5, df = 90))$robustness)
})

test_that("a confounder as strong as a covariate is one that was built to be", {
  # boat and mood orthogonal, alike with treatment and outcome, in the sample
  n <- 80
  basis <- withr::with_seed(3, qr.Q(qr(cbind(1, matrix(rnorm(n * 4), n))))[, -1])
  z <- 0.5 * basis[, 1] + 0.5 * basis[, 2] + basis[, 3]
  y <- 2 * z + basis[, 1] + basis[, 2] + basis[, 4]
  fit <- core_treatment_regression(y, z, cbind(boat = basis[, 1]), rep(1, n))
  at <- core_times_as_strong(core_group_strength(fit, 1L), 1)
  expect_equal(at$treatment, partial_r2(z, basis[, 2], data.frame(boat = basis[, 1])))
  actual <- partial_r2(y, basis[, 2], data.frame(boat = basis[, 1], z))
  expect_gte(at$outcome, actual - 1e-9)  # the outcome's is a bound
  long <- coef(lm(y ~ z + basis[, 1] + basis[, 2]))[["z"]]
  adjusted <- core_adjusted_estimate(fit$estimate, fit$se, fit$df, at$treatment, at$outcome)
  expect_lte(adjusted$estimate, long + 1e-9)
})

test_that("groups of covariates and multiples read their strength before the design", {
  data <- many_crews()
  effect <- measure_effect(pair_units(score_units(study_of_many(data))))
  rows <- tidy(probe_omitted(effect, covariates = list(size = c("boat", "past"), port = "port"), times = c(1, 2)))
  expect_identical(rows$covariate, rep(c("size", "port"), each = 2))
  rss <- function(formula) sum(resid(lm(formula, data))^2)
  r2 <- 1 - rss(joined ~ boat + past + port) / rss(joined ~ port)
  expect_equal(rows$r2_treatment[1], r2 / (1 - r2))
  expect_equal(rows$r2_treatment[2], 2 * r2 / (1 - r2))
  expect_true(all(diff(rows$estimate[1:2]) < 0))
  away <- tidy(probe_omitted(effect, covariates = "boat", times = 1, towards = FALSE))
  expect_gt(away$estimate, glance(probe_omitted(effect))$estimate)
  formula <- study_of_many(data, covariates = ~ log(boat + 10) + past * port)
  places <- tidy(probe_omitted(measure_effect(formula, estimator = "regression"), times = 1))
  expect_identical(places$covariate, c("boat", "past", "port"))
  r2 <- 1 - rss(joined ~ log(boat + 10) + past * port) / rss(joined ~ log(boat + 10) + past)
  expect_equal(places$r2_treatment[3], r2 / (1 - r2))
})

test_that("too strong covariates have no multiples, and worst cases follow their formula", {
  z <- rep(0:1, 50)
  data <- data.frame(z, x = z + withr::with_seed(1, rnorm(100, sd = 0.3)), y = withr::with_seed(2, rnorm(100)) + z)
  probe <- probe_omitted(suppressWarnings(measure_effect(frame_study(data, "z", "y", "x"), estimator = "regression")))
  expect_true(all(is.na(tidy(probe)$estimate)))
  expect_match(paste(format(probe), collapse = " "), "no confounder can be that strong")
  bare <- probe_omitted(4.2, df = 780, r2_outcome = c(1, 0.4))
  scenarios <- tidy(bare, part = "scenarios")
  left <- core_adjusted_estimate(4.2, 1, 780, scenarios$r2_treatment, scenarios$r2_outcome)
  expect_equal(left$estimate, c(0, 0))
  expect_equal(scenarios$r2_treatment[1], glance(bare)$r2)
  draw_quietly(plot(bare))
  draw_quietly(plot(probe_omitted(measure_effect(study_of_many(), estimator = "regression"))))
})

test_that("bad input is refused with advice", {
  effect <- measure_effect(study_of_many(), estimator = "regression")
  expect_error(probe_omitted(4.2), "degrees of freedom", class = "twin_error_input")
  expect_error(probe_omitted(0, df = 10), class = "twin_error_input")
  expect_error(probe_omitted(4.2, df = 10, covariates = "boat"), class = "twin_error_input")
  expect_error(probe_omitted(effect, df = 10), "come from the effect", class = "twin_error_input")
  expect_error(probe_omitted(effect, covariates = "boot"), "Did you mean", class = "twin_error_input")
  expect_error(probe_omitted(effect, covariates = list("boat")), "with a name", class = "twin_error_input")
  expect_error(probe_omitted(effect, r2_outcome = 2), class = "twin_error_input")
  expect_error(probe_omitted(effect, times = 0), class = "twin_error_input")
  expect_error(probe_omitted("a", df = 3), class = "twin_error_input")
  did <- measure_did(harbour_panel(), estimator = "two_way")
  expect_error(probe_omitted(did), "over time", class = "twin_error_unsupported")
})

test_that("coefficient stability finds the effect where selection is proportional by construction", {
  n <- 60
  basis <- withr::with_seed(1, qr.Q(qr(cbind(1, matrix(rnorm(n * 4), n))))[, -1])
  for (delta in c(1, 0.6, 1.7)) {
    w1 <- basis[, 1]
    w2 <- 0.7 * basis[, 2]
    z <- 0.5 * w1 + delta * 0.5 * w2 + 0.4 * basis[, 3]
    y <- 1.5 * z + w1 + w2 + 0.3 * basis[, 4]
    data <- data.frame(w1, y)
    r_max <- summary(lm(y ~ z + w1 + w2))$r.squared
    short <- summary(lm(y ~ z))
    long <- summary(lm(y ~ z + w1))
    facts <- c(short = short$coefficients[2, 1], short_r2 = short$r.squared, long = long$coefficients[2, 1],
               long_r2 = long$r.squared, var_outcome = mean((y - mean(y))^2), var_treatment = mean((z - mean(z))^2),
               var_left = mean(resid(lm(z ~ w1))^2))
    row <- tidy(probe_stability(facts, r_max = r_max, delta = delta, beta = 1.5))
    expect_equal(row$delta_needed, delta)
    roots <- core_stability_effects(facts, r_max, delta)
    expect_equal(min(abs(roots - 1.5)), 0, tolerance = 1e-7)
    expect_equal(row$estimate, 1.5, tolerance = 1e-7)
    expect_identical(row$roots, length(roots))
  }
})

test_that("stability reads two regressions before the design, and says when there are several roots", {
  data <- many_crews()
  probe <- probe_stability(measure_effect(weigh_units(score_units(study_of_many(data)))))
  g <- glance(probe)
  expect_equal(g$short, coef(lm(income ~ joined, data))[["joined"]])
  expect_equal(g$long, coef(lm(income ~ joined + boat + past + port, data))[["joined"]])
  expect_equal(g$long_r2, summary(lm(income ~ joined + boat + past + port, data))$r.squared)
  expect_equal(g$r_max, min(1, 1.3 * g$long_r2))
  rows <- tidy(probe)
  again <- vapply(seq_len(nrow(rows)), function(k) {
    core_stability_delta(probe$facts$values, rows$r_max[k], rows$estimate[k])
  }, 0)
  expect_equal(again, rep(1, nrow(rows)), tolerance = 1e-6)
  if (any(rows$roots > 1)) expect_match(paste(format(probe), collapse = " "), "several real roots")
  expect_lte(max(nchar(format(probe))), 80)
  draw_quietly(plot(probe))
  expect_error(probe_stability(measure_effect(study_of_many()), r_max = 0.1), "above the R2",
               class = "twin_error_input")
  expect_error(probe_stability(c(short = 1)), "with the names", class = "twin_error_input")
  bad <- probe$facts$values
  bad["long_r2"] <- 0
  expect_error(probe_stability(bad), "can't belong", class = "twin_error_input")
})
