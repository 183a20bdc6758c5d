# Every method that estimates something before the effect, for every estimand it answers, against three independent
# reckonings: the derivative of the estimate in a unit's sampling weight, a stacked-moment sandwich whose equations stand
# here and are solved here, and the bootstrap.

# The largest relative gap between influence and derivative over two units.
derivative_gap <- function(recipe, estimand, estimator) {
  data <- many_crews(120, seed = 4)
  estimate <- function(data) {
    difference_of(suppressWarnings(measure_effect(recipe_design(data, recipe, estimand), estimator = estimator)))
  }
  effect <- suppressWarnings(measure_effect(recipe_design(data, recipe, estimand), estimator = estimator))
  units <- c(17, 101)
  expected <- vapply(units, function(i) influence_by_weight(data, i, estimate), 0)
  max(abs(effect$influence[units, "difference"] - expected)) / max(abs(expected))
}

all_gaps <- function(estimator) {
  unlist(lapply(seq_len(nrow(combinations)), function(k) {
    derivative_gap(combinations$recipe[k], combinations$estimand[k], estimator)
  }))
}

test_that("influence is the derivative in the sampling weight: difference, every method and estimand", {
  gaps <- all_gaps("difference")
  expect_length(gaps, 40)
  expect_lt(max(gaps), 1e-5, label = paste(combinations$recipe, combinations$estimand)[which.max(gaps)])
})

test_that("influence is the derivative in the sampling weight: augmented, every method and estimand", {
  gaps <- all_gaps("augmented")
  expect_length(gaps, 40)
  expect_lt(max(gaps), 1e-5, label = paste(combinations$recipe, combinations$estimand)[which.max(gaps)])
})

# The two means with weights w (n), appended to the equations of the nuisance.
with_means <- function(equations, data, w, means) {
  z <- data$joined
  cbind(equations, data$s * w * z * (data$income - means[1]), data$s * w * (1 - z) * (data$income - means[2]))
}

tilted <- function(e, z, estimand) {
  h <- switch(estimand, ATE = 1, ATT = e, ATC = 1 - e, ATO = e * (1 - e), ATM = pmin(e, 1 - e))
  ifelse(z == 1, h / e, h / (1 - e))
}

# Moment equations of a binary regression score with distribution function F and density f.
score_moments <- function(data, estimand, distribution, density, bound = Inf) {
  x <- model.matrix(~ boat + past + port, data)
  z <- data$joined
  function(theta) {
    eta <- drop(x %*% theta[1:5])
    e <- distribution(eta)
    residual <- data$s * (z - e) * density(eta) / (e * (1 - e))
    with_means(x * residual, data, pmin(tilted(e, z, estimand), bound), theta[6:7])
  }
}

score_start <- function(data) c(0, 0, 0, 0, 0, mean(data$income), mean(data$income))

expect_stacked <- function(recipe, estimand, psi, start, tolerance = 1e-5) {
  data <- many_crews()
  expected <- stacked(psi(data, estimand), start)
  effect <- measure_effect(recipe_design(data, recipe, estimand))
  row <- tidy(effect)[3, ]
  name <- paste(recipe, estimand)
  expect_equal(row$estimate, expected[1], tolerance = tolerance, label = paste("estimate of", name))
  own <- sqrt(sum(effect$influence[, "difference"]^2)) / 300
  expect_equal(own, expected[2], tolerance = tolerance, label = paste("error of", name))
  # strata add what small cells leave out of it
  expect_gte(row$std.error, own * sqrt(300 / 299) - 1e-10)
  if (recipe != "strata") expect_equal(row$std.error, own * sqrt(300 / 299))
}

test_that("regression scores: the standard error is that of the stacked sandwich", {
  logit <- function(data, estimand) score_moments(data, estimand, plogis, dlogis)
  for (estimand in recipes$logit$estimands) expect_stacked("logit", estimand, logit, score_start(many_crews()))
  probit <- function(data, estimand) score_moments(data, estimand, pnorm, dnorm)
  for (estimand in recipes$probit$estimands) expect_stacked("probit", estimand, probit, score_start(many_crews()))
  double_log <- function(data, estimand) {
    score_moments(data, estimand, function(u) 1 - exp(-exp(u)), function(u) exp(u - exp(u)))
  }
  for (estimand in recipes$cloglog$estimands) expect_stacked("cloglog", estimand, double_log, score_start(many_crews()))
  cut <- function(data, estimand) score_moments(data, estimand, plogis, dlogis, bound = 3)
  for (estimand in recipes$truncated$estimands) expect_stacked("truncated", estimand, cut, score_start(many_crews()))
  expect_stacked("stabilised", "ATE", logit, score_start(many_crews()))
})

test_that("heteroskedastic probit: the standard error is that of the stacked sandwich", {
  psi <- function(data, estimand) {
    x <- model.matrix(~ boat + past + port, data)
    z <- data$joined
    function(theta) {
      scale <- exp(-data$boat * theta[6])
      u <- drop(x %*% theta[1:5]) * scale
      e <- pnorm(u)
      residual <- data$s * (z - e) * dnorm(u) / (e * (1 - e))
      with_means(cbind(x * residual * scale, -residual * u * data$boat), data, tilted(e, z, estimand), theta[7:8])
    }
  }
  data <- many_crews()
  start <- c(coef(glm(joined ~ boat + past + port, binomial("probit"), data)), 0, 20, 20)
  for (estimand in recipes$heteroskedastic_probit$estimands) expect_stacked("heteroskedastic_probit", estimand, psi, start)
})

test_that("entropy weights: the standard error is that of the stacked sandwich", {
  toward <- function(data, estimand) {  # treated to control moments, or the other way round
    x <- model.matrix(~ boat + past + port, data)
    z <- data$joined
    arm <- if (estimand == "ATT") 1 - z else z
    function(theta) {
      w <- arm * exp(drop(x %*% theta[1:5])) + (1 - arm)
      with_means(data$s * x * (arm * w - (1 - arm)), data, w, theta[6:7])
    }
  }
  expect_stacked("entropy", "ATT", toward, score_start(many_crews()))
  expect_stacked("entropy", "ATC", toward, score_start(many_crews()))
  both <- function(data, estimand) {
    x <- model.matrix(~ boat + past + port, data)
    z <- data$joined
    function(theta) {
      w1 <- exp(drop(x %*% theta[1:5]))
      w0 <- exp(drop(x %*% theta[6:10]))
      with_means(data$s * cbind(x * (z * w1 - 1), x * ((1 - z) * w0 - 1)), data, ifelse(z == 1, w1, w0), theta[11:12])
    }
  }
  expect_stacked("entropy", "ATE", both, c(0.5, 0, 0, 0, 0, 0.5, 0, 0, 0, 0, 20, 20))
})

test_that("balancing scores: the standard error is that of the stacked sandwich", {
  psi <- function(data, estimand) {
    x <- model.matrix(~ boat + past + port, data)
    z <- data$joined
    function(theta) {
      e <- plogis(drop(x %*% theta[1:5]))
      gap <- switch(estimand, ATE = z / e - (1 - z) / (1 - e), ATT = z - (1 - z) * e / (1 - e),
                    ATC = z * (1 - e) / e - (1 - z), ATO = z - e)
      with_means(data$s * x * gap, data, tilted(e, z, estimand), theta[6:7])
    }
  }
  for (estimand in recipes$balancing$estimands) expect_stacked("balancing", estimand, psi, score_start(many_crews()))
})

# The bounds that bind are read off the balance table; everything else is solved here. Its tolerance is a multiple of the
# treated units' estimated sd, so their means and variances are parameters too.
test_that("stable weights: the standard error is that of the stacked sandwich", {
  data <- many_crews()
  balance <- tidy(assess_balance(recipe_design(data, "stable", "ATT")))
  after <- balance[balance$sample == "after", ]
  binds <- abs(abs(after$smd) - 0.05) < 1e-6
  columns <- cbind(boat = data$boat, past = data$past, large = data$port == "large", medium = data$port == "medium",
                   small = data$port == "small")[, binds, drop = FALSE]
  share <- after$kind[binds] == "level"
  expect_true(all(abs(after$smd) <= 0.05 + 1e-8) && sum(binds) >= 2)
  k <- sum(binds)
  side <- sign(after$smd[binds])  # treated minus control: positive where the controls stay below
  z <- data$joined
  psi <- function(theta) {
    w <- pmax(0, theta[1] + drop(columns %*% theta[2:(k + 1)]))
    mean <- theta[k + 1 + seq_len(k)]
    variance <- theta[2 * k + 1 + seq_len(k)]
    slack <- 0.05 * sqrt(variance) * side
    moved <- sweep(columns, 2, slack)
    equations <- data$s * cbind((1 - z) * w - z, (1 - z) * w * columns - z * moved, z * sweep(columns, 2, mean),
                                z * sweep(sweep(columns, 2, mean)^2, 2, variance))
    with_means(equations, data, ifelse(z == 1, 1, w), theta[3 * k + 2:3])
  }
  v <- data$s * z
  start <- c(1, numeric(k), colSums(v * columns) / sum(v), apply(columns[z == 1, , drop = FALSE], 2, var), 20, 20)
  expected <- stacked(psi, start)
  row <- tidy(measure_effect(recipe_design(data, "stable", "ATT")))[3, ]
  # n - 1 in the sd of numeric columns is not in the equations here
  expect_equal(row$estimate, expected[1], tolerance = 1e-3)
  expect_equal(row$std.error, expected[2] * sqrt(300 / 299), tolerance = 2e-3)
})

test_that("strata: the standard error is that of the stacked sandwich of the cell counts", {
  psi <- function(data, estimand) {
    e <- with_chance(data)$chance
    stratum <- findInterval(e, c(0.3, 0.5, 0.7), left.open = TRUE) + 1
    z <- data$joined
    cells <- outer(stratum * 2 - z, 1:8, `==`)  # stratum 1 treated, stratum 1 control, ...
    function(theta) {
      own <- theta[stratum * 2 - z]
      treated <- theta[stratum * 2 - 1]
      control <- theta[stratum * 2]
      w <- switch(estimand, ATT = ifelse(z == 1, 1, treated / control), ATC = ifelse(z == 1, control / treated, 1),
                  ATE = (treated + control) / own)
      with_means(sweep(data$s * cells, 2, theta[1:8]), data, w, theta[9:10])
    }
  }
  for (estimand in recipes$strata$estimands) expect_stacked("strata", estimand, psi, c(rep(0.2, 8), 20, 20))
})

# What an estimated logit adds, by hand: D, the derivative in the linear score of inverse weights on what is left of the
# outcome, times the influence of its coefficients.
carried_by_hand <- function(data, s, w, left, estimand) {
  data$own <- s
  fit <- suppressWarnings(glm(joined ~ boat + past + port, binomial, data, weights = own, control = list(epsilon = 1e-14)))
  x <- model.matrix(fit)
  e <- fitted(fit)
  z <- data$joined
  slope <- switch(estimand, ATE = ifelse(z == 1, e - 1, e), ATT = ifelse(z == 1, 0, 1), ATC = ifelse(z == 1, -1, 0))
  total <- ifelse(z == 1, sum((s * w)[z == 1]), sum((s * w)[z == 0]))
  d <- colSums(x * ifelse(z == 1, 1, -1) * s * w * slope * left / total)
  nrow(data) * s * (z - e) * drop(x %*% solve(crossprod(x, s * e * (1 - e) * x), d))
}

test_that("strata on an estimated score carry its influence, of outcomes about stratum and slope", {
  data <- many_crews()
  for (estimand in c("ATE", "ATT", "ATC")) {
    design <- stratify_units(score_units(study_of_many(data, estimand = estimand, weight = "s")), 5)
    w <- weights(design)
    cell <- design$set
    linear <- design$score$linear
    left <- numeric(300)
    for (arm in 0:1) {
      at <- data$joined == arm
      left[at] <- resid(lm(data$income[at] ~ factor(cell[at]) + linear[at], weights = (data$s * w)[at]))
    }
    effect <- measure_effect(design)
    own <- effect$influence[, "difference"]
    known <- core_weighted_means(data$income, design$study$z, data$s * w,
                                 core_scaled(cell_nuisance(design, data$s), data$s))$influence()
    expect_equal(own - (known[, 1] - known[, 2]), carried_by_hand(data, data$s, w, left, estimand), tolerance = 1e-6,
                 ignore_attr = TRUE)
    expect_match(effect$inference, "with the estimated score accounted for")
  }
})

test_that("pairs and full matching on an estimated score carry its influence, of outcomes about a spline", {
  data <- many_crews()
  scored <- score_units(study_of_many(data, estimand = "ATT"))
  for (design in list(pair_units(scored), group_units(scored, "full"))) {
    w <- weights(design)
    linear <- scored$score$linear
    knots <- quantile(linear[w > 0 & data$joined == 1], 1:4 / 5)
    basis <- cbind(linear, sapply(knots, function(knot) pmax(linear - knot, 0)))
    left <- numeric(300)
    for (arm in 0:1) {
      at <- data$joined == arm & w > 0
      left[at] <- resid(lm(data$income[at] ~ basis[at, ], weights = w[at]))
    }
    carried <- carried_by_hand(data, rep(1, 300), w, left, "ATT")
    mean <- tapply(w * data$income, data$joined, sum) / tapply(w, data$joined, sum)
    psi <- 300 * w * (data$income - mean[data$joined + 1]) * ifelse(data$joined == 1, 1, -1) /
      tapply(w, data$joined, sum)[data$joined + 1]
    effect <- measure_effect(design)
    expect_match(effect$inference, "with the estimated score accounted for")
    if (design$kind == "sets") {  # the same, about the arms' fits
      own <- 300 * by_unit_by_hand(data$income, data$joined, w, linear, "ATT") + carried
      expect_equal(unname(effect$influence[, "difference"]), as.vector(own), tolerance = 1e-6)
      expect_equal(tidy(effect)$std.error[3], sqrt(sum(own^2) / (300 * 299)), tolerance = 1e-6)
    } else {
      expect_equal(unname(effect$influence[, "difference"]), as.vector(psi + carried), tolerance = 1e-6)
      set <- design_data(design)$.set
      set[is.na(set)] <- 1000 + seq_len(sum(is.na(set)))
      share <- tapply(w * (data$joined == 1), set, sum) / sum(w[data$joined == 1])
      sums <- tapply(psi + carried, set, sum) / 300
      expect_equal(tidy(effect)$std.error[3], sqrt(sum(sums^2 / (1 - share))), tolerance = 1e-6)
    }
  }
})
