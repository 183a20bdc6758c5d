# Outcome models beyond one regression, augmented quantiles, double selection.

counts <- function(n = 300, seed = 1) {
  data <- many_crews(n, seed)
  withr::with_seed(seed, {
    mean <- exp(0.5 + 0.3 * data$boat / sd(data$boat) + 0.4 * data$joined)
    data$trips <- rnbinom(n, size = 0.8, mu = mean)
    data$grade <- findInterval(data$income + rnorm(n), quantile(data$income, c(0.3, 0.6, 0.85)))
  })
  data
}

designed <- function(data = counts(), ..., outcome = c("trips", "grade", "income"), covariates = c("boat", "past", "port"), estimand = "ATE") {
  weigh_units(score_units(frame_study(data, "joined", outcome, covariates, estimand = estimand, ...)))
}

difference <- function(x, ...) coef(measure_effect(x, ..., estimator = "augmented"))[["difference"]]

test_that("the negative binomial solves its equations, and counts units by their variance", {
  data <- counts()
  x <- cbind(data$boat, data$past)
  fit <- core_fit_negative_binomial(x, as.double(data$trips), rep(1, 300))
  m <- fit$fitted
  expect_gt(fit$spread, 0.5)
  expect_equal(fit$spread, sum((data$trips - m)^2 - m) / sum(m^2), tolerance = 1e-6)
  expect_lt(max(abs(crossprod(cbind(1, x), (data$trips - m) / (1 + fit$spread * m)))), 1e-6)
  plain <- core_fit_outcome(x, as.double(data$trips), rep(1, 300), "poisson")
  expect_gt(max(abs(plain$fitted - m)), 1e-4)
  steady <- core_fit_negative_binomial(x, as.double(rep(1:3, 100)), rep(1, 300))
  expect_identical(steady$spread, 0)
})

test_that("two parts are a logit of any and a log-linear mean of how much", {
  data <- counts()
  any <- glm(trips > 0 ~ boat + past, binomial, data)
  much <- glm(trips ~ boat + past, quasipoisson, data, subset = trips > 0)
  fit <- core_fit_two_part(cbind(data$boat, data$past), as.double(data$trips), rep(1, 300))
  expect_equal(fit$fitted, unname(fitted(any) * predict(much, data, type = "response")), tolerance = 1e-6)
})

test_that("the ordered logit is the likelihood's, and of two values a logit", {
  data <- counts()
  x <- cbind(data$boat, data$past)
  fit <- core_fit_ordered(x, as.double(data$grade), rep(1, 300))
  loglik <- function(theta) {
    cut <- cumsum(c(theta[1], exp(theta[2:3])))
    below <- cbind(0, plogis(outer(-drop(x %*% theta[4:5]), cut, `+`)), 1)
    code <- data$grade + 1
    -sum(log(below[cbind(1:300, code + 1)] - below[cbind(1:300, code)]))
  }
  found <- optim(c(-1, 0, 0, 0.1, 0.1), loglik, method = "BFGS", control = list(maxit = 1000, reltol = 1e-14))
  cut <- cumsum(c(found$par[1], exp(found$par[2:3])))
  below <- cbind(0, plogis(outer(-drop(x %*% found$par[4:5]), cut, `+`)), 1)
  expect_equal(fit$fitted, drop((below[, -1] - below[, -5]) %*% 0:3), tolerance = 1e-3)
  two <- core_fit_ordered(x, as.double(data$grade > 1), rep(1, 300))
  expect_equal(two$fitted, core_fit_outcome(x, as.double(data$grade > 1), rep(1, 300), "binomial")$fitted, tolerance = 1e-6)
  repeated <- core_fit_ordered(cbind(x, x[, 1] + x[, 2]), as.double(data$grade), rep(1, 300))
  expect_equal(repeated$fitted, fit$fitted, tolerance = 1e-6)
  expect_identical(repeated$aliased, 3L)
})

test_that("where covariates are saturated all families agree", {
  design <- designed(covariates = "port")
  plain <- difference(design, outcome = "trips")
  for (family in c("poisson", "negative_binomial", "two_part")) {
    expect_equal(difference(design, outcome = "trips", family = family), plain, tolerance = 1e-6)
  }
  expect_equal(difference(design, outcome = "grade", family = "ordered"), difference(design, outcome = "grade"), tolerance = 0.02)
})

test_that("influence is n times the derivative in a unit's weight for every family", {
  data <- counts(120, seed = 4)
  data$s <- 1
  for (one in list(list("trips", "two_part", 1e-3), list("grade", "ordered", 0.02), list("trips", "negative_binomial", 0.05))) {
    estimate <- function(data) difference(designed(data, weight = "s"), outcome = one[[1]], family = one[[2]])
    effect <- measure_effect(designed(data, weight = "s"), one[[1]], estimator = "augmented", family = one[[2]])
    for (i in c(17, 101)) {
      moved <- function(by) {
        data$s[i] <- 1 + by
        estimate(data)
      }
      derivative <- 120 * (moved(1e-4) - moved(-1e-4)) / 2e-4
      expect_equal(effect$influence[i, "difference"], derivative, tolerance = one[[3]], ignore_attr = TRUE)
    }
  }
})

test_that("families say which outcomes they are for, and prints name them", {
  design <- designed()
  expect_match(paste(format(measure_effect(design, "grade", "augmented", family = "ordered")), collapse = " "), "ordered logit models")
  expect_match(paste(format(measure_effect(design, "trips", "regression", family = "two_part")), collapse = " "), "two-part models")
  expect_error(measure_effect(design, "income", "augmented", family = "ordered"), "2 to 20 different values", class = "twin_error_input")
  expect_error(measure_effect(designed(transform(counts(), trips = trips - 1)), "trips", "augmented", family = "negative_binomial"),
               "0 or more", class = "twin_error_input")
  expect_error(measure_effect(design, "trips", "augmented", family = "two_part", products = "none"), "model per arm", class = "twin_error_unsupported")
  expect_error(measure_effect(design, "trips", "augmented", family = "zzz"), class = "twin_error_input")
})

test_that("augmented quantiles are those of augmented shares", {
  data <- counts(400, seed = 5)
  design <- designed(data)
  effect <- measure_effect(design, "income", "augmented", quantiles = c(0.25, 0.5))
  q <- coef(effect)[["quantile_0.5_treated"]]
  flagged <- designed(transform(data, low = as.integer(income <= q)), outcome = "low")
  share <- measure_effect(flagged, "low", "augmented", model = ~ boat + past + port)
  expect_lt(abs(coef(share)[["mean_treated"]] - 0.5), 0.02)
  rows <- tidy(effect)
  expect_equal(rows$estimate[rows$term == "quantile_0.5_difference"],
               q - rows$estimate[rows$term == "quantile_0.5_control"])
  # the influence of the share over the density
  own <- augment(effect)$.influence_quantile_0.5_treated
  expect_gt(cor(own, -augment(share)$.influence_mean_treated), 0.999)
  weighted <- tidy(measure_effect(design, "income", quantiles = 0.5))
  expect_lt(rows$std.error[rows$term == "quantile_0.5_difference"], weighted$std.error[weighted$term == "quantile_0.5_difference"])
})

test_that("double selection adjusts for what it picks, with more columns than units too", {
  skip_if_not_installed("glmnet")
  data <- withr::with_seed(3, {
    n <- 200
    x <- matrix(rnorm(n * 300), n, dimnames = list(NULL, paste0("x", 1:300)))
    z <- rbinom(n, 1, plogis(x[, 1]))
    data.frame(z, y = z + 2 * x[, 1] + x[, 2] + rnorm(n), x)
  })
  study <- frame_study(data, "z", "y", paste0("x", 1:300), estimand = "ATE", treated = 1)
  effect <- measure_effect(study, estimator = "selection")
  expect_match(effect$inference, "robust, \\d+ of 300 columns selected")
  expect_true(abs(coef(effect)[["difference"]] - 1) < 3 * sqrt(vcov(effect)["difference", "difference"]))
  expect_equal(measure_effect(study, estimator = "selection")$estimate, effect$estimate)
  few <- frame_study(data, "z", "y", c("x1", "x2"), estimand = "ATE", treated = 1)
  both <- measure_effect(score_units(few), estimator = "augmented")
  expect_equal(measure_effect(few, estimator = "selection")$estimate, both$estimate, tolerance = 1e-6)
  expect_equal(vcov(measure_effect(few, estimator = "selection")), vcov(both), tolerance = 1e-6)
  expect_error(measure_effect(score_units(few), estimator = "selection"), "its own score", class = "twin_error_unsupported")
  expect_error(measure_effect(frame_study(data, "z", "y", "x1", treated = 1), estimator = "selection"), "at least 2 columns",
               class = "twin_error_input")
  expect_error(measure_effect(frame_study(data, "z", "y", c("x1", "x2"), treated = 1, estimand = "ATO"), estimator = "selection"),
               class = "twin_error_unsupported")
  expect_match(paste(as.data.frame(references(effect))$key, collapse = " "), "belloni2014")
})
