# Every estimator against reckonings that stand here: derivatives in the sampling weights, stacked moment equations that
# are solved here, closed forms.

all_outcomes <- c("income", "direct", "mixed", "days", "sold")
scored <- function(data, estimand = "ATE", ...) {
  score_units(study_of_many(data, estimand = estimand, weight = "s", outcome = all_outcomes, ...))
}
weighted <- function(data, estimand = "ATE", ...) weigh_units(scored(data, estimand, ...))
families <- c(income = "gaussian", direct = "binomial", direct = "probit", mixed = "heteroskedastic_probit", days = "poisson",
              sold = "fractional")

test_that("influence is the derivative in the sampling weight, for every family and estimator with models", {
  data <- more_outcomes(320, seed = 4)
  cases <- expand.grid(family = seq_along(families), estimator = c("regression", "augmented", "targeted"),
                       estimand = c("ATE", "ATT", "ATO"), stringsAsFactors = FALSE)
  gaps <- unlist(lapply(seq_len(nrow(cases)), function(k) {
    family <- families[cases$family[k]]
    influence_gap(function(data) {
      measure_effect(weighted(data, cases$estimand[k]), names(family), cases$estimator[k], family = family,
                     model = ~ boat + past, scale_model = if (family == "heteroskedastic_probit") ~past)
    }, data)
  }))
  expect_length(gaps, 54)
  expect_lt(max(gaps), 2e-5, label = paste(unlist(cases[which.max(gaps), ]), collapse = " "))
})

test_that("influence is the derivative on other designs, not normalised, and on a scored study", {
  strata <- function(data) {
    study <- study_of_many(with_chance(data), estimand = "ATE", weight = "s", outcome = all_outcomes)
    stratify_units(score_units(study, score = "chance"), breaks_on = c(0.3, 0.6))
  }
  makes <- list(
    function(data) measure_effect(study_of_many(data, estimand = "ATT", weight = "s"), estimator = "regression"),
    function(data) measure_effect(strata(data), estimator = "targeted"),
    function(data) measure_effect(scored(data, "ATT"), estimator = "targeted"),
    function(data) measure_effect(scored(data, "ATO"), estimator = "regression"),
    function(data) measure_effect(weigh_units(scored(data, "ATC"), "entropy"), estimator = "targeted"),
    function(data) measure_effect(weighted(data), normalise = FALSE),
    function(data) measure_effect(weighted(data, "ATT"), normalise = FALSE),
    function(data) measure_effect(weighted(data, "ATO"), estimator = "augmented", normalise = FALSE),
    function(data) measure_effect(weighted(data), by = "port", estimator = "augmented", model = ~ boat + past)[[2]],
    function(data) measure_effect(weighted(data, "ATT"), by = "port")[["medium"]]
  )
  gaps <- unlist(lapply(makes, function(make) influence_gap(make, more_outcomes(160, seed = 4))))
  expect_lt(max(gaps), 2e-5, label = paste("case", which.max(gaps)))
})

# Moment equations of inverse weights by a logit with augmented means of a model with mean function F of its own linear
# score, fitted by residuals r(eta, y) x = 0.
augmented_moments <- function(data, y, mean, residual) {
  x <- model.matrix(~ boat + past, data)
  z <- data$joined
  function(theta) {
    e <- plogis(drop(x %*% theta[1:3]))
    one <- drop(x %*% theta[4:6])
    none <- drop(x %*% theta[7:9])
    cbind(data$s * (z - e) * x, data$s * z * residual(one, y) * x, data$s * (1 - z) * residual(none, y) * x,
          data$s * z / e * (y - mean(one) - theta[10]), data$s * (1 - z) / (1 - e) * (y - mean(none) - theta[11]),
          data$s * (mean(one) + theta[10] - theta[12]), data$s * (mean(none) + theta[11] - theta[13]))
  }
}

test_that("augmented with counts, shares and a probit: the stacked sandwich", {
  data <- more_outcomes()
  study <- study_of_many(data, estimand = "ATE", weight = "s", outcome = all_outcomes, covariates = c("boat", "past"))
  design <- weigh_units(score_units(study))
  probit <- function(eta, y) ifelse(y == 1, dnorm(eta) / pnorm(eta), -dnorm(eta) / pnorm(-eta))
  cases <- list(
    list("days", "poisson", exp, function(eta, y) y - exp(eta), 1),
    list("sold", "fractional", plogis, function(eta, y) y - plogis(eta), 0),
    list("direct", "probit", pnorm, probit, 0)
  )
  for (case in cases) {
    y <- data[[case[[1]]]]
    start <- c(0, 0, 0, case[[5]], 0, 0, case[[5]], 0, 0, 0, 0, mean(y), mean(y))
    expected <- stacked(augmented_moments(data, y, case[[3]], case[[4]]), start)
    row <- tidy(measure_effect(design, case[[1]], "augmented", family = case[[2]]))[3, ]
    expect_equal(row$estimate, expected[1], tolerance = 1e-5, label = case[[2]])
    expect_equal(row$std.error, expected[2] * sqrt(300 / 299), tolerance = 1e-5, label = paste(case[[2]], "error"))
  }
})

test_that("with one yes/no covariate all estimators are the same stratified mean", {
  data <- many_crews()
  data$long <- data$boat > 0
  design <- weigh_units(score_units(frame_study(data, "joined", "direct", "long", estimand = "ATE")))
  cell <- tapply(data$direct, list(data$long, data$joined), mean)
  by_hand <- sum((cell[, "1"] - cell[, "0"]) * table(data$long) / 300)
  for (estimator in c("difference", "regression", "augmented", "targeted")) {
    expect_equal(difference_of(measure_effect(design, estimator = estimator)), by_hand, tolerance = 1e-7,
                 label = estimator)
  }
  expect_equal(difference_of(measure_effect(design, normalise = FALSE)), by_hand, tolerance = 1e-7)
})

test_that("targeted estimates stay within the outcome's range and leave no weighted residual", {
  data <- many_crews(200, seed = 7)
  data$rare <- as.integer(runif(200) < 0.06)
  data$rare[which(data$joined == 1)[1:2]] <- 1L
  data$rare[which(data$joined == 0)[1:2]] <- 1L
  design <- weigh_units(score_units(frame_study(data, "joined", "rare", c("boat", "past"), estimand = "ATE")))
  means <- tidy(measure_effect(design, estimator = "targeted", model = ~boat))$estimate[1:2]
  expect_true(all(means > 0 & means < 1))
  y <- c(0, 1, 1, 0, 1)
  offset <- c(-1, 0.5, 2, 0, -0.3)
  r <- c(1, 2, 0, 3, 0.5)
  shift <- core_logit_shift(y, offset, r)
  expect_lt(abs(sum(r * (y - plogis(offset + shift)))), 1e-12)
})

test_that("cross-fitting with known score and outcome functions is the augmented formula", {
  data <- many_crews(200, seed = 3)
  e <- plogis(-0.3 + 0.7 * data$boat)
  m <- 20 + 3 * data$boat
  known <- list(truth = list(fit = function(x, z, weight) all(z %in% 0:1),
                             predict = function(model, x) if (model) plogis(-0.3 + 0.7 * x$boat) else 20 + 3 * x$boat))
  effect <- measure_effect(study_of_many(data, estimand = "ATE"), estimator = "crossfit", learners = known, folds = 3,
                           repeats = 1)
  z <- data$joined
  residual <- function(w) sum(w * (data$income - m)) / sum(w)
  expect_equal(difference_of(effect), residual(z / e) - residual((1 - z) / (1 - e)), tolerance = 1e-10)
  share <- z / e / sum(z / e) - (1 - z) / (1 - e) / sum((1 - z) / (1 - e))
  centre <- ifelse(z == 1, residual(z / e), residual((1 - z) / (1 - e)))
  expect_equal(tidy(effect)$std.error[3], sqrt(sum((share * (data$income - m - centre))^2) * 200 / 199), tolerance = 1e-8)
})

test_that("the median repeat is reported, its variance widened by how far repeats lie apart", {
  repeats <- lapply(c(3, 1, 2), function(d) {
    list(estimate = c(d, 0), influence = cbind(c(d, -d), 0), vcov = diag(c(0.5 * d, 0)))
  })
  out <- core_median_repeat(repeats)
  expect_identical(out$estimate, c(2, 0))
  expect_equal(out$vcov[1, 1], 1.5)  # spread: 1.5 + 1, 0.5 + 1, 1 + 0
  even <- core_median_repeat(repeats[1:2])
  expect_identical(even$estimate, c(2, 0))
  expect_equal(even$vcov[1, 1], mean(c(1.5 + 1, 0.5 + 1)))
})

test_that("blended predictions have the least squared error on the simplex", {
  withr::with_seed(2, {
    y <- rnorm(80)
    p <- cbind(a = y + rnorm(80), b = 0.5 * y + rnorm(80), c = rnorm(80))
    s <- runif(80)
  })
  weight <- core_blend_weights(p, y, s)
  error <- function(a) sum(s * (y - drop(p %*% a))^2)
  grid <- expand.grid(a = seq(0, 1, 0.02), b = seq(0, 1, 0.02))
  grid <- grid[rowSums(grid) <= 1, ]
  best <- min(apply(cbind(grid, 1 - rowSums(grid)), 1, error))
  expect_equal(sum(weight), 1)
  expect_true(all(weight >= 0))
  expect_lte(error(weight), best + 1e-12)
})

test_that("learners: folds keep clusters whole, answers follow the seed, a plain score is learnt anew", {
  data <- many_crews(240, seed = 2)
  study <- study_of_many(data, cluster = "harbour", estimand = "ATE")
  fold <- withr::with_seed(1, draw_folds(study$z, rep(TRUE, 240), 5L, study$levels, NULL, data$harbour))
  expect_true(all(tapply(fold, data$harbour, function(f) length(unique(f))) == 1L))
  measure <- function(seed) measure_effect(score_units(study), estimator = "crossfit", learners = "logit", repeats = 3,
                                           seed = seed)
  expect_identical(tidy(measure(1)), tidy(measure(1)))
  expect_false(identical(coef(measure(1)), coef(measure(2))))
  expect_equal(difference_of(measure(1)), difference_of(measure_effect(score_units(study), estimator = "augmented")),
               tolerance = 0.1)
  targeted <- measure_effect(score_units(study), estimator = "targeted", learners = c("logit", "tree"))
  expect_match(format(targeted)[1], "With joined")
  expect_equal(difference_of(targeted), difference_of(measure(1)), tolerance = 0.1)
})

test_that("quantiles: the weighted distribution's, with the influence of Methods and agreeing with the bootstrap", {
  data <- many_crews(1500, seed = 5)
  study <- study_of_many(data, estimand = "ATE", weight = "s")
  effect <- measure_effect(study, quantiles = c(0.25, 0.5))
  treated <- data$joined == 1
  order <- order(data$income[treated])
  reached <- cumsum(data$s[treated][order]) / sum(data$s[treated])
  expect_identical(coef(effect)[["quantile_0.25_treated"]], data$income[treated][order][which(reached >= 0.25)[1]])
  expect_equal(coef(effect)[["quantile_0.5_difference"]],
               coef(effect)[["quantile_0.5_treated"]] - coef(effect)[["quantile_0.5_control"]])
  # standard normal data: the variance of the median is pi / 2 / n
  flat <- data.frame(joined = rep(0:1, 5000), income = withr::with_seed(1, rnorm(10000)), boat = rep(1:4, 2500))
  row <- tidy(measure_effect(frame_study(flat, "joined", "income", "boat"), quantiles = 0.5))
  expect_equal(row$std.error[row$term == "quantile_0.5_treated"], sqrt(pi / 2 / 5000), tolerance = 0.05)
  weighted <- weigh_units(score_units(study))
  analytic <- measure_effect(weighted, quantiles = c(0.25, 0.5, 0.75))
  drawn <- measure_effect(weighted, quantiles = c(0.25, 0.5, 0.75), inference = "bootstrap", draws = 200)
  rows <- grepl("quantile.*difference", tidy(analytic)$term)
  ratio <- tidy(analytic)$std.error[rows] / tidy(drawn)$std.error[rows]
  expect_true(all(ratio > 0.75 & ratio < 1.3))
})

test_that("combinations that can't be are refused with the nearest that can", {
  data <- more_outcomes()
  study <- study_of_many(data, outcome = all_outcomes)
  design <- score_units(study)
  pairs <- pair_units(design)
  weights <- weigh_units(design)
  refused <- function(expr, class, text) expect_error(expr, text, class = paste0("twin_error_", class))
  for (estimator in c("augmented", "targeted")) {
    refused(measure_effect(pairs, estimator = estimator), "unsupported", "regression")
    refused(measure_effect(study, estimator = estimator), "input", "score_units")
  }
  refused(measure_effect(weights, estimator = "crossfit", learners = "logit"), "unsupported", "every fold")
  refused(measure_effect(design, estimator = "crossfit"), "input", "learners")
  refused(measure_effect(study_of_many(data, estimand = "ATO"), estimator = "regression"), "unsupported", "score_units")
  refused(measure_effect(pairs, normalise = FALSE), "unsupported", "inverse weights")
  refused(measure_effect(weigh_units(design, stabilise = TRUE), normalise = FALSE), "unsupported", "stabilised")
  refused(measure_effect(weights, estimator = "regression", quantiles = 0.5), "input", "quantiles")
  refused(measure_effect(weights, "direct", quantiles = 0.5), "input", "two values")
  refused(measure_effect(weights, quantiles = 1.5), "input", "between 0 and 1")
  refused(measure_effect(weights, estimator = "augmented", family = "binomial"), "input", "0 and 1.*go from")
  refused(measure_effect(weights, estimator = "augmented", family = "fractional"), "input", "shares")
  data$loss <- data$income - 60
  refused(measure_effect(study_of_many(data, outcome = "loss"), estimator = "regression", family = "poisson"), "input",
          "0 or more")
  refused(measure_effect(weights, scale_model = ~boat, estimator = "augmented"), "input", "scale_model")
  refused(measure_effect(weights, learners = "logit", estimator = "augmented"), "input", "learners")
  refused(measure_effect(weights, draws = 10), "input", "draws")
  refused(measure_effect(weights, model = list(income = ~boat), outcome = "direct", estimator = "augmented"), "input",
          "income")
  refused(measure_effect(weights, estimator = "crossfit", learners = "logit", inference = "bootstrap"), "unsupported",
          "every fold")
  full <- group_units(score_units(study_of_many(data, estimand = "ATE")), "full")
  refused(measure_effect(full, by = "port"), "unsupported", "weigh_units")
})

test_that("outcomes that do not vary in an arm, rank deficiency and separation are said, not hidden", {
  data <- more_outcomes()
  data$never <- ifelse(data$joined == 1, data$direct, 0)
  study <- study_of_many(data, outcome = "never")
  expect_warning(effect <- measure_effect(study), class = "twin_warning_constant_arm")
  expect_identical(coef(effect)[["mean_control"]], 0)
  expect_false("ratio" %in% names(coef(effect)))
  expect_error(suppressWarnings(measure_effect(study, estimator = "regression")), "does not vary in the control arm",
               class = "twin_error_input")
  data$twice <- 2 * data$boat
  doubled <- study_of_many(data, covariates = c("boat", "twice", "past"))
  warned <- testthat::capture_warnings(measure_effect(doubled, estimator = "regression"))
  expect_match(warned, "twice", all = TRUE)
  expect_length(warned, 2)
  data$sure <- as.integer(data$boat > 0)
  expect_error(measure_effect(study_of_many(data, outcome = "sure"), estimator = "regression"),
               class = "twin_error_separation")
  data$income[1:7] <- NA
  effect <- measure_effect(study_of_many(data), estimator = "regression")
  expect_identical(effect$counts[["missing"]], 7L)
  expect_identical(nobs(effect), 293L)
})
