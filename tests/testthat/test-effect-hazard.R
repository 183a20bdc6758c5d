# Censored times: hazard ratio, curves and restricted means against the survival package's own numbers on the same
# weights, and against derivatives in the sampling weights.

lasting <- function(data = more_outcomes(), make = function(study) weigh_units(score_units(study)), ..., estimand = "ATT") {
  study <- study_of_many(data, outcome = c("months", "left"), weight = "s", estimand = estimand)
  measure_hazard(make(study), "months", "left", ...)
}

test_that("estimates are those of weighted Cox regression and product-limit curves", {
  data <- more_outcomes()
  effect <- lasting(data, horizon = 20)
  v <- data$s * weights(weigh_units(score_units(study_of_many(data, weight = "s"))))
  cox <- survival::coxph(survival::Surv(months, left) ~ joined, data, weights = v, robust = FALSE)
  expect_equal(coef(effect)[["hazard_ratio"]], exp(coef(cox)[["joined"]]), tolerance = 1e-7)
  for (arm in 1:0) {
    inside <- data$joined == arm
    km <- summary(survival::survfit(survival::Surv(months, left) ~ 1, data[inside, ], weights = v[inside]), times = 20,
                  rmean = 20)
    name <- c("control", "treated")[arm + 1]
    expect_equal(coef(effect)[[paste0("survival_", name)]], km$surv)
    expect_equal(coef(effect)[[paste0("restricted_mean_", name)]], km$table[["rmean"]])
  }
  expect_equal(coef(effect)[["survival_difference"]], diff(rev(coef(effect)[2:3])), ignore_attr = TRUE)
  curves <- tidy(effect, part = "curves")
  expect_true(all(diff(curves$survival[curves$arm == "treated"]) <= 0))
  expect_true(all(curves$conf.low <= curves$survival & curves$survival <= curves$conf.high))
  expect_equal(effect$at_risk$counted[effect$at_risk$arm == "treated" & effect$at_risk$time == 10],
               sum(data$months >= 10 & data$joined == 1))
})

test_that("influence is the derivative in the sampling weight, for every term, and its spread the robust error", {
  terms <- c("hazard_ratio", "survival_difference", "restricted_mean_difference")
  designs <- list(function(study) weigh_units(score_units(study)), function(study) study,
                  function(study) stratify_units(score_units(study, score = "chance"), breaks_on = c(0.4, 0.6)))
  gaps <- unlist(lapply(designs, function(make) {
    vapply(terms, function(term) {
      influence_gap(function(data) lasting(data, make, horizon = 15), with_chance(more_outcomes(150, seed = 2)), term)
    }, 0)
  }))
  expect_lt(max(gaps), 1e-5)
  # nothing adjusted: the package's robust standard error of the log hazard ratio
  data <- more_outcomes()
  raw <- measure_hazard(study_of_many(data, outcome = c("months", "left")), "months", "left")
  cox <- survival::coxph(survival::Surv(months, left) ~ joined, data, robust = TRUE)
  expect_equal(tidy(raw)$std.error[1] / coef(raw)[[1]], sqrt(cox$var[1] * 300 / 299), tolerance = 1e-6)
})

test_that("everybody's end, ties, zero weights and missing times are handled", {
  curve <- core_survival_curve(c(1, 2, 2, 3), c(1, 1, 0, 1), c(1, 1, 1, 2))
  expect_equal(curve$survival, c(0.8, 0.8 * 0.75, 0))
  expect_equal(core_restricted_mean(curve, 3), 1 + 0.8 + 0.6)
  away <- core_survival_away(curve, c(1, 2, 2, 3), c(1, 1, 0, 1), 1, 3)
  expect_identical(away, c(0, 0, 0, 0) * -1)
  data <- more_outcomes()
  data$months[1:4] <- NA
  data$left[5] <- NA
  effect <- lasting(data)
  expect_identical(effect$counts[["missing"]], 5L)
  expect_true(all(is.finite(sqrt(diag(vcov(effect))))))
})

test_that("bootstrap, clusters and pairs work as for other effects", {
  data <- more_outcomes()
  analytic <- lasting(data)
  drawn <- lasting(data, inference = "bootstrap", draws = 150)
  ratio <- tidy(analytic)$std.error / tidy(drawn)$std.error
  expect_true(all(ratio > 0.75 & ratio < 1.3))
  pairs <- lasting(data, function(study) pair_units(score_units(study)))
  expect_match(pairs$inference, "clustered by pair")
  both <- compare_effects(weights = analytic, pairs = pairs, term = "hazard_ratio")
  rows <- tidy(both, part = "agreement")
  expect_equal(rows$difference, log(coef(analytic)[[1]]) - log(coef(pairs)[[1]]))
  row <- tidy(analytic)[1, ]
  expect_equal(tidy(probe_ratio(analytic)), tidy(probe_ratio(row$estimate, row$conf.low, row$conf.high,
                                                             scale = "hazard_ratio")))
  expect_error(probe_pairs(pairs), class = "twin_error_input")  # censored times have no differences
  expect_s3_class(plot(analytic), "ggplot")
  expect_s3_class(plot(both), "ggplot")
  expect_match(paste(format(analytic), collapse = " "), "hazard of left is")
  expect_true(all(nchar(format(analytic)) <= 80))
})

test_that("bad input is named", {
  data <- more_outcomes()
  expect_error(lasting(data, horizon = 99), "beyond", class = "twin_error_input")
  none <- data
  none$left[none$joined == 1] <- 0L
  expect_error(lasting(none), "treated arm.*none", class = "twin_error_input")
  below <- data
  below$months[7] <- -1
  expect_error(lasting(below), "negative", class = "twin_error_input")
  study <- study_of_many(data, outcome = c("months", "left", "days"))
  expect_error(measure_hazard(study, "left", "left"), "two values", class = "twin_error_input")
  expect_error(measure_hazard(study, "months", "days"), "yes or no", class = "twin_error_input")
  expect_error(measure_hazard(study, "months", "gone"), "one of the study's outcomes", class = "twin_error_input")
  expect_error(lasting(data, function(study) pair_units(score_units(study), replacement = TRUE)),
               class = "twin_error_unsupported")
  expect_warning(lasting(data, score_units), class = "twin_warning_unadjusted")
})

test_that("covariates enter the hazard ratio as in Cox regression, with its robust error and exact influence", {
  data <- more_outcomes()
  raw <- measure_hazard(study_of_many(data, outcome = c("months", "left"), cluster = "harbour"), "months", "left",
                        model = ~ boat + port)
  cox <- survival::coxph(survival::Surv(months, left) ~ joined + boat + port, data, robust = TRUE, cluster = harbour)
  expect_equal(coef(raw)[["hazard_ratio"]], exp(coef(cox)[["joined"]]), tolerance = 1e-7)
  expect_equal(tidy(raw)$std.error[1] / coef(raw)[[1]], sqrt(cox$var[1] * 30 / 29), tolerance = 1e-5)
  text <- gsub("\\s+", " ", paste(format(raw), collapse = " "))
  expect_match(text, "among units with the same boat and port, curves and mean times unadjusted")
  gap <- influence_gap(function(data) lasting(data, horizon = 15, model = ~ past + boat), more_outcomes(150, seed = 2),
                       "hazard_ratio")
  expect_lt(gap, 1e-5)
  data$twice <- 2 * data$boat
  expect_warning(measure_hazard(study_of_many(data, outcome = c("months", "left"), covariates = c("boat", "twice")), "months",
                                "left", model = ~ boat + twice), "\"twice\"", class = "twin_warning_aliased")
  expect_error(lasting(model = ~ harbour), "must use the study's covariates", class = "twin_error_input")
})
