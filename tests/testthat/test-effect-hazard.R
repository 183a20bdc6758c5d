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
  away <- core_survival_slopes(curve, c(1, 2, 2, 3), c(1, 1, 0, 1), 1)(3)
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

test_that("a Cox fit whose likelihood rises for ever is told, one without information is aliased", {
  time <- c(1, 2, 3, 4, 5, 6)
  first <- c(1, 1, 1, 0, 0, 0)  # all of the first go before any of the others
  expect_false(cox_fit(cbind(first), time, rep(1, 6), rep(1, 6))$converged)
  expect_true(cox_fit(cbind(c(1, 0, 1, 0, 1, 0)), time, rep(1, 6), rep(1, 6))$converged)
  flat <- cox_fit(cbind(c(1, 0, 1, 0, 1, 0), 7), time, rep(1, 6), rep(1, 6))
  expect_identical(is.na(flat$coefficients), c(FALSE, TRUE))
  # one covariate, two deaths at once among four: the score of Efron by hand is 0 at the answer
  z <- c(1, 0, 1, 0)
  b <- cox_fit(cbind(z), c(1, 1, 2, 3), c(1, 1, 1, 0), rep(1, 4))$coefficients
  r <- exp(b * z)
  tied <- 1 - (2 * r[1]) / (2 * r[1] + 2) - (1.5 * r[1]) / (1.5 * r[1] + 1.5)
  expect_equal(tied + 1 - r[1] / (r[1] + 1), 0, tolerance = 1e-9)
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

# Many leave the data before the event, in ties with it.
censored_outcomes <- function(n, seed) {
  data <- more_outcomes(n, seed = seed)
  gone <- withr::with_seed(seed, round(rexp(n, 1 / 20), 1))
  data$left <- as.integer(data$left == 1 & data$months <= gone)
  data$months <- pmin(data$months, gone)
  data
}

# One arm by double loop over units and event times, Cox fit and baseline of the survival package.
augmented_by_loop <- function(time, event, z, arm, v, s, t, x, until) {
  inside <- z == arm
  fit <- survival::coxph(survival::Surv(time, event) ~ x, subset = inside, weights = s)
  r <- exp(drop(x %*% coef(fit)))
  times <- sort(unique(time[inside & event == 1]))
  hazard <- vapply(times, function(u) sum((s * event)[inside & time == u]) / sum((s * r)[inside & time >= u]), 0)
  gone <- sort(unique(time[inside & event == 0]))
  kept <- vapply(gone, function(u) {
    1 - sum(v[inside & event == 0 & time == u]) / sum(v[inside & (time > u | (time == u & event == 0))])
  }, 0)
  before <- vapply(times, function(u) prod(kept[gone < u]), 0)
  left <- function(i, from, to) exp(-r[i] * sum(hazard[times > from & times <= to]))
  residual <- vapply(seq_along(time), function(i) {
    if (!inside[i]) return(0)
    steps <- which(times <= min(time[i], until))
    loss <- vapply(steps, function(k) left(i, times[k], until) / before[k], 0)
    own <- event[i] == 1 & times[steps] == time[i]
    sum(loss * (1 - exp(-r[i] * hazard[steps]) - own))
  }, 0)
  fitted <- vapply(seq_along(time), function(i) left(i, -1, until), 0)
  sum(t * fitted) / sum(t) + sum(v * residual) / sum(v[inside])
}

test_that("augmented curves are those of a loop over units and events, and restricted means the area below them", {
  data <- censored_outcomes(120, seed = 3)
  study <- study_of_many(data, outcome = c("months", "left"), weight = "s")
  design <- weigh_units(score_units(study))
  effect <- measure_hazard(design, "months", "left", horizon = 15, curve_model = ~ past + boat)
  x <- as.matrix(data[c("past", "boat")])
  for (arm in 1:0) {
    term <- paste0("survival_", c("control", "treated")[arm + 1])
    expect_equal(coef(effect)[[term]], tolerance = 1e-7, augmented_by_loop(
      data$months, data$left, data$joined, arm, data$s * weights(design), data$s, data$s * data$joined, x, 15
    ))
  }
  area <- vapply(c("treated", "control"), function(arm) {
    curve <- tidy(effect, part = "curves")
    curve <- curve[curve$arm == arm, ]
    sum(curve$survival[-nrow(curve)] * diff(curve$time))
  }, 0)
  expect_equal(unname(area), unname(coef(effect)[paste0("restricted_mean_", names(area))]))
  # the hazard ratio is that of the weights
  expect_identical(coef(effect)[[1]], coef(measure_hazard(design, "months", "left", horizon = 15))[[1]])
})

test_that("without covariates augmented curves are the weighted ones, without censoring augmented means", {
  data <- censored_outcomes(200, seed = 4)
  time <- round(data$months)  # with ties
  inside <- as.double(data$joined == 1)
  none <- matrix(0, 200, 0)
  parts_of <- function(event, x) {
    model <- core_arm_hazard(time, event, data$s * inside, x)
    core_augmented_parts(model, core_uncensored_before(model$times, time, event, data$s * inside))
  }
  plain <- parts_of(data$left, none)$survival(12)
  v <- data$s * inside
  curve <- core_survival_curve(time, data$left, v)
  expect_equal(plain$fitted[1] + sum(v * plain$residual) / sum(v), core_survival_at(curve, 12))
  plain <- parts_of(data$left, none)$restricted(12)
  expect_equal(plain$fitted[1] + sum(v * plain$residual) / sum(v), core_restricted_mean(curve, 12))
  seen <- parts_of(rep(1, 200), cbind(data$past, data$boat))$survival(12)
  expect_equal(seen$residual, inside * ((time > 12) - seen$fitted))
  timed <- parts_of(rep(1, 200), cbind(data$past, data$boat))$restricted(12)
  expect_equal(timed$residual, inside * (pmin(time, 12) - timed$fitted))
  before <- parts_of(data$left, none)$survival(0)
  expect_identical(c(before$fitted[1], range(before$residual)), c(1, 0, 0))
})

test_that("interpolation meets smooth functions to rounding, also where units differ by orders of magnitude", {
  at <- core_chebyshev(c(1e-6, 50), ceiling(14 + 4 * sqrt(50)))
  x <- c(at[3], 1e-6, 50, exp(seq(-10, 3.9, length.out = 50)))
  expect_lt(max(abs(core_interpolation(x, at) %*% exp(-at) - exp(-x))), 1e-12)
  expect_identical(core_chebyshev(c(2, 2), 9), 2)
})

test_that("the print says what the curves lean on, the bootstrap agrees, and designs without weights are refused", {
  data <- censored_outcomes(250, seed = 5)
  study <- study_of_many(data, outcome = c("months", "left"))
  scored <- score_units(study)
  effect <- measure_hazard(weigh_units(scored), "months", "left", horizon = 15, curve_model = ~ past + boat)
  text <- gsub("\\s+", " ", paste(format(effect), collapse = " "))
  expect_match(text, "curves and mean times augmented by a model in each arm (past and boat)", fixed = TRUE)
  expect_match(text, "taking the models of the curves as given", fixed = TRUE)
  expect_true(all(nchar(format(effect)) <= 80))
  drawn <- measure_hazard(weigh_units(scored), "months", "left", horizon = 15, curve_model = ~ past + boat,
                          inference = "bootstrap", draws = 60)
  ratio <- tidy(effect)$std.error / tidy(drawn)$std.error
  expect_true(all(ratio > 0.75 & ratio < 1.3))
  expect_error(measure_hazard(pair_units(scored), "months", "left", curve_model = ~ past), "need weights",
               class = "twin_error_unsupported")
  expect_error(measure_hazard(study, "months", "left", curve_model = ~ past), class = "twin_error_unsupported")
  expect_error(measure_hazard(weigh_units(scored), "months", "left", curve_model = ~ harbour), "curve_model",
               class = "twin_error_input")
})

test_that("errors along a curve, found in one pass, are those of its influence at each time", {
  data <- more_outcomes(250)
  names <- c("time", "seen")
  data$time <- withr::with_seed(3, round(rexp(250, exp(0.3 * data$boat)), 2))
  data$seen <- rep(c(1, 1, 0, 1), length.out = 250)
  data$time[1:6] <- data$time[7]
  check <- function(make, ...) {
    study <- study_of_many(data, outcome = names, estimand = "ATE", ...)
    design <- make(study)
    curves <- tidy(measure_hazard(design, "time", "seen"), part = "curves")
    for (arm in c("treated", "control")) {
      own <- curves[curves$arm == arm & curves$time > 0, ]
      for (k in c(1, 5, 12, nrow(own) - 3)) {
        at <- measure_hazard(design, "time", "seen", horizon = own$time[k])
        row <- tidy(at)[tidy(at)$term == paste0("survival_", arm), ]
        expect_equal(own$std.error[k], row$std.error, tolerance = 1e-8, label = paste(arm, k))
      }
    }
  }
  check(function(study) weigh_units(score_units(study)))
  check(function(study) weigh_units(score_units(study), stabilise = FALSE, truncate = c(bound = 3)), weight = "s")
  check(function(study) weigh_units(study, "balancing_score"))
  check(function(study) stratify_units(score_units(study), 3))
  check(function(study) weigh_units(score_units(study)), cluster = "harbour")
})

test_that("curves with a model of censoring are inverse-chance means, by loops", {
  data <- more_outcomes(160)
  data$time <- withr::with_seed(5, round(pmin(rexp(160, exp(0.3 * data$boat)), rexp(160, 0.5 * exp(0.5 * data$boat))), 1))
  data$seen <- withr::with_seed(6, rbinom(160, 1, 0.6))
  study <- study_of_many(data, outcome = c("time", "seen"), estimand = "ATE")
  design <- weigh_units(score_units(study))
  effect <- measure_hazard(design, "time", "seen", horizon = 1.2, censoring_model = ~ boat)
  by_hand <- function(arm, value) {
    at <- which(data$joined == arm)
    t <- data$time[at]
    lost <- data$seen[at] == 0
    x <- data$boat[at]
    v <- weights(design)[at]
    # who may still be lost at a time: whoever is there after the deaths at it
    there <- function(k) t > t[k] | (t == t[k] & lost)
    minus <- function(b) {
      -sum(vapply(unique(t[lost]), function(u) {
        k <- which(t == u & lost)
        still <- t > u | (t == u & lost)
        r <- exp(b * x)
        sum(b * x[k]) - sum(log(sum(r[still]) - (seq_along(k) - 1) / length(k) * sum(r[k])))
      }, 0))
    }
    b <- optimize(minus, c(-5, 5), tol = 1e-10)$minimum
    r <- exp(b * x)
    increments <- vapply(unique(sort(t[lost])), function(u) sum(t == u & lost) / sum(r[t > u | (t == u & lost)]), 0)
    chance <- vapply(seq_along(t), function(i) exp(-r[i] * sum(increments[unique(sort(t[lost])) < min(t[i], 1.2)])), 0)
    complete <- (t <= 1.2 & !lost) | t >= 1.2
    weighted.mean(value(t, lost), v * complete / chance)
  }
  means <- vapply(1:0, by_hand, 0, value = function(t, lost) pmin(t, 1.2))
  survival <- vapply(1:0, by_hand, 0, value = function(t, lost) as.numeric(t > 1.2 | (lost & t == 1.2)))
  expect_equal(unname(coef(effect)[c("restricted_mean_treated", "restricted_mean_control")]), means, tolerance = 1e-5)
  expect_equal(unname(coef(effect)[c("survival_treated", "survival_control")]), survival, tolerance = 1e-5)
  plain <- measure_hazard(design, "time", "seen", horizon = 1.2)
  expect_equal(coef(effect)[["hazard_ratio"]], coef(plain)[["hazard_ratio"]])
  none <- transform(data, seen = 1)
  all_seen <- function(...) {
    measure_hazard(weigh_units(score_units(study_of_many(none, outcome = c("time", "seen"), estimand = "ATE", event = c(seen = "1")))),
                   "time", "seen", horizon = 1.2, ...)
  }
  if (length(unique(none$seen)) == 1L) none$seen[which.max(none$time)] <- 0
  expect_equal(coef(all_seen(censoring_model = ~ boat)), coef(all_seen()), tolerance = 1e-6)
  expect_match(paste(format(effect), collapse = " "), "censoring modelled by boat", fixed = TRUE)
  for (i in c(which(data$joined == 1)[c(3, 40)], which(data$joined == 0)[c(5, 30)], which(data$seen == 0)[2])) {
    moved <- function(by) {
      weighted <- transform(data, s = replace(rep(1, 160), i, 1 + by))
      make <- study_of_many(weighted, outcome = c("time", "seen"), estimand = "ATE", weight = "s")
      coef(measure_hazard(weigh_units(score_units(make)), "time", "seen", horizon = 1.2, censoring_model = ~ boat))
    }
    slope <- 160 * (moved(1e-4) - moved(-1e-4)) / 2e-4
    for (term in c("restricted_mean_difference", "survival_treated")) {
      expect_equal(effect$influence[i, term], slope[[term]], tolerance = 1e-3, label = paste(i, term))
    }
  }
  expect_error(measure_hazard(design, "time", "seen", curve_model = ~ boat, censoring_model = ~ boat), "not both",
               class = "twin_error_input")
  expect_error(measure_hazard(design, "time", "seen", censoring_model = ~ harbour), "censoring_model",
               class = "twin_error_input")
})
