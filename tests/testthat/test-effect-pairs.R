matched <- function(..., estimand = "ATT", data = many_crews(), on = "mahalanobis") {
  pair_units(study_of_many(data, estimand = estimand), on = on, replacement = TRUE, ...)
}

# Methods' estimate and variance from the listed pairs, by loops; s2 from the two nearest of the same arm.
# allowed: which of the others may be such a neighbour.
by_hand <- function(design, data, y = data$income, allowed = function(i, own) own) {
  x <- as.matrix(data[c("boat", "past")])
  root <- solve(chol(cov(x)))
  points <- x %*% root
  s2 <- vapply(seq_len(nrow(data)), function(i) {
    own <- allowed(i, setdiff(which(data$joined == data$joined[i]), i))
    d <- sqrt(colSums((t(points[own, ]) - points[i, ])^2))
    near <- own[d <= sort(d)[2] * (1 + 1e-12)]
    length(near) / (length(near) + 1) * (y[i] - mean(y[near]))^2
  }, 0)
  pairs <- pairs_of(design)
  seekers <- which(data$joined == 1)
  gain <- vapply(seekers, function(i) y[i] - mean(y[pairs$control[pairs$treated == i]]), 0)
  times <- squares <- numeric(nrow(data))
  for (k in seq_len(nrow(pairs))) {
    size <- sum(pairs$set == pairs$set[k])
    times[pairs$control[k]] <- times[pairs$control[k]] + 1 / size
    squares[pairs$control[k]] <- squares[pairs$control[k]] + 1 / size^2
  }
  effect <- mean(gain)
  c(effect, sqrt((sum((gain - effect)^2) + sum((times^2 - squares) * s2)) / length(seekers)^2))
}

effect_numbers <- function(effect) c(difference_of(effect), sqrt(vcov(effect)["difference", "difference"]))

test_that("estimate and standard error with replacement are Methods' formulas, by loops over the pairs", {
  data <- many_crews()
  for (ratio in 1:2) {
    design <- matched(covariates = c("boat", "past"), ratio = ratio)
    expect_equal(effect_numbers(measure_effect(design)), by_hand(design, data))
  }
})

test_that("the bias correction is a regression on matched controls, weighted by times matched", {
  data <- many_crews()
  design <- matched(covariates = c("boat", "past"))
  pairs <- pairs_of(design)
  w <- weights(design)
  fit <- lm(income ~ boat + past + port, data, weights = w, subset = joined == 0 & w > 0)
  m0 <- predict(fit, data)
  corrected <- data$income[pairs$treated] - data$income[pairs$control] - m0[pairs$treated] + m0[pairs$control]
  expect_equal(difference_of(measure_effect(design, estimator = "regression")), mean(corrected))
  # a linear outcome without noise leaves nothing to be explained
  exact <- transform(data, income = 2 + 3 * boat - past + 4 * joined)
  expect_equal(difference_of(measure_effect(matched(data = exact), estimator = "regression")), 4)
})

test_that("the variances of the means and of the ratio belong together", {
  effect <- measure_effect(matched(estimand = "ATE"))
  v <- vcov(effect)
  expect_equal(v["difference", "difference"],
               v["mean_treated", "mean_treated"] + v["mean_control", "mean_control"] - 2 * v["mean_treated", "mean_control"])
  m <- coef(effect)
  expect_equal(v["ratio", "ratio"], drop(c(1 / m[[2]], -m[[1]] / m[[2]]^2) %*% v[1:2, 1:2] %*%
                                           c(1 / m[[2]], -m[[1]] / m[[2]]^2)))
})

test_that("clusters are not used with replacement, and a warning says so", {
  clustered <- pair_units(study_of_many(cluster = "harbour"), on = "mahalanobis", replacement = TRUE)
  expect_warning(effect <- measure_effect(clustered), class = "twin_warning_clusters")
  expect_equal(effect_numbers(effect), effect_numbers(measure_effect(matched())))
})

test_that("the bootstrap is refused with replacement, with the reason", {
  expect_error(measure_effect(matched(), inference = "bootstrap"), class = "twin_error_unsupported",
               regexp = "Abadie & Imbens 2008")
})

test_that("on the score the standard error says whether its estimation is accounted for", {
  scored <- score_units(study_of_many())
  expect_match(measure_effect(pair_units(scored, replacement = TRUE))$inference, "estimated score accounted for")
  exact <- pair_units(scored, replacement = TRUE, exact = "port")
  expect_match(measure_effect(exact)$inference, "taking the score as given")
})

test_that("sets of several on a score count by unit, about each arm's fit on the score", {
  data <- with_chance(many_crews())
  for (estimand in c("ATT", "ATC", "ATE")) {
    design <- group_units(score_units(study_of_many(data, estimand = estimand), score = "chance"), "full")
    effect <- measure_effect(design)
    w <- weights(design)
    means <- tapply(w * data$income, data$joined, sum) / tapply(w, data$joined, sum)
    own <- by_unit_by_hand(data$income, data$joined, w, qlogis(data$chance), estimand)
    expect_equal(difference_of(effect), unname(means["1"] - means["0"]))
    n <- sum(w > 0)
    expect_equal(vcov(effect)["difference", "difference"], n / (n - 1) * sum(own^2), tolerance = 1e-8)
    expect_match(effect$inference, "robust, about the arms' fits on the score$")
    expect_false("abadie2022" %in% as.data.frame(references(effect))$key)
  }
})

test_that("sets of several on covariates are clustered on the set, each by what is left without it", {
  data <- many_crews()
  design <- group_units(study_of_many(data), "full", on = "mahalanobis")
  effect <- measure_effect(design)
  w <- weights(design)
  set <- design_data(design)$.set
  means <- tapply(w * data$income, data$joined, sum) / tapply(w, data$joined, sum)
  away <- w * (data$income - means[as.character(data$joined)]) * ifelse(data$joined == 1, 1, -1)
  away <- away / tapply(w, data$joined, sum)[as.character(data$joined)]
  sums <- tapply(away, set, sum)
  expect_equal(difference_of(effect), unname(means["1"] - means["0"]))
  share <- tapply(w * (data$joined == 1), set, sum) / sum(w[data$joined == 1])
  expect_equal(vcov(effect)["difference", "difference"], sum((sums / (1 - share))^2))
  expect_match(effect$inference, sprintf("^clustered by set \\(%d\\)$", length(sums)))
  expect_true("abadie2022" %in% as.data.frame(references(effect))$key)
})

test_that("regression on sets is the weighted regression of each arm, averaged over the treated", {
  data <- many_crews()
  for (design in list(group_units(score_units(study_of_many()), "full"), pair_units(score_units(study_of_many())))) {
    w <- weights(design)
    mean_of <- function(arm) {
      fit <- lm(income ~ boat + past + port, data, weights = w, subset = joined == arm & w > 0)
      mean(predict(fit, data[data$joined == 1 & w > 0, ]))
    }
    effect <- measure_effect(design, estimator = "regression")
    expect_equal(unname(coef(effect)[1:2]), c(mean_of(1), mean_of(0)))
  }
})

test_that("the influence of regression on weights and cells is the derivative in the sampling weight", {
  data <- many_crews()
  data$size <- round(data$boat / 2)
  recipes <- list(
    none = function(study) study, weights = function(study) weigh_units(score_units(study)),
    cells = function(study) group_units(study, "exact", covariates = c("size", "port"))
  )
  for (name in names(recipes)) {
    measured <- function(data) {
      study <- study_of_many(data, weight = "s", covariates = c("size", "past", "port"), estimand = "ATT")
      measure_effect(recipes[[name]](study), estimator = "regression")
    }
    effect <- measured(data)
    for (i in c(2, 45, 130)) {
      row <- match(i, augment(effect)$row)
      expect_equal(augment(effect)$.influence_difference[row] * nrow(data) / nrow(augment(effect)),
                   influence_by_weight(data, i, function(d) difference_of(measured(d))), tolerance = 1e-4, label = name)
    }
  }
})

test_that("a set that loses a partner keeps the others, a seeker without any is out", {
  data <- many_crews()
  design <- pair_units(score_units(study_of_many(data)), ratio = c(1, 2), caliper = 1)
  pairs <- pairs_of(design)
  pairs_each <- table(pairs$set)
  of_two <- pairs$control[pairs$set %in% names(pairs_each)[pairs_each == 2]][1]
  alone <- pairs$control[pairs$set %in% names(pairs_each)[pairs_each == 1]][1]
  data$income[c(of_two, alone)] <- NA
  effect <- measure_effect(pair_units(score_units(study_of_many(data)), ratio = c(1, 2), caliper = 1))
  left <- pairs[!pairs$control %in% c(of_two, alone), ]
  gain <- tapply(data$income[left$treated], left$set, mean) - tapply(data$income[left$control], left$set, mean)
  expect_equal(difference_of(effect), mean(gain))
  expect_identical(effect$counts[["missing"]], 2L)
})

test_that("side by side, matching with replacement has a variance and no covariances", {
  both <- compare_effects(raw = measure_effect(study_of_many()), reuse = measure_effect(matched()))
  expect_equal(vcov(both)["reuse", "reuse"], effect_numbers(both$effects$reuse)[2]^2)
  expect_identical(is.na(unname(vcov(both))), matrix(c(FALSE, TRUE, TRUE, FALSE), 2))
})

test_that("the standard error on small cells matches the spread of outcomes drawn anew", {
  # treated and cells stay as they are, so that only the outcomes' noise moves the estimate; its sd is known
  withr::local_seed(8)
  n <- 240
  cell <- rep(1:60, each = 4)
  joined <- unlist(lapply(1:60, function(k) sample(c(1, 0, rbinom(2, 1, 0.6)))))
  data <- data.frame(cell = factor(cell), joined)
  draws <- vapply(1:200, function(k) {
    data$income <- rnorm(n)
    effect_numbers(measure_effect(group_units(frame_study(data, "joined", "income", "cell"), "exact")))
  }, numeric(2))
  treated <- tapply(joined, cell, sum)
  exact <- sqrt(sum(treated + treated^2 / (4 - treated))) / sum(treated)
  expect_equal(sd(draws[1, ]), exact, tolerance = 0.2)
  expect_equal(sqrt(mean(draws[2, ]^2)), exact, tolerance = 0.04)
})

test_that("the score adjustment does not depend on the order of rows, nor on a first unit without neighbours", {
  data <- many_crews()
  data[1, c("boat", "joined")] <- list(9, 1)
  error <- function(data) {
    tidy(measure_effect(pair_units(score_units(study_of_many(data)), replacement = TRUE, caliper = 0.2)))$std.error[3]
  }
  expect_match(measure_effect(pair_units(score_units(study_of_many(data)), replacement = TRUE, caliper = 0.2))$inference,
               "estimated score accounted for")
  expect_equal(error(data), error(data[300:1, ]), tolerance = 1e-8)
})

test_that("with exact and apart columns the neighbours behind the variance obey them too", {
  data <- many_crews()
  data$income <- data$income + 8 * (data$port == "small")
  same <- function(i, own) own[data$port[own] == data$port[i]]
  other <- function(i, own) own[data$harbour[own] != data$harbour[i]]
  exact <- matched(covariates = c("boat", "past"), exact = "port", data = data)
  expect_equal(effect_numbers(measure_effect(exact)), by_hand(exact, data, allowed = same))
  kept_apart <- matched(covariates = c("boat", "past"), apart = "harbour", data = data)
  expect_equal(effect_numbers(measure_effect(kept_apart)), by_hand(kept_apart, data, allowed = other))
  expect_gt(by_hand(exact, data)[2], 1.2 * by_hand(exact, data, allowed = same)[2])  # what other cells would add
  # alone in its cell: the nearest of the arm stand in
  data$port <- as.character(data$port)
  data$port[c(which(data$joined == 1)[1], which(data$joined == 0)[1])] <- "lone"
  effect <- suppressWarnings(measure_effect(matched(covariates = c("boat", "past"), exact = "port", data = data)))
  expect_true(is.finite(effect_numbers(effect)[2]))
})

test_that("the correction may come from all units of an arm, or from one regression for both", {
  data <- many_crews()
  design <- matched(covariates = c("boat", "past"))
  pairs <- pairs_of(design)
  corrected_by <- function(m0) {
    mean(data$income[pairs$treated] - data$income[pairs$control] - m0[pairs$treated] + m0[pairs$control])
  }
  all <- measure_effect(design, estimator = "regression", correction = "all")
  expect_equal(difference_of(all), corrected_by(predict(lm(income ~ boat + past + port, data, subset = joined == 0), data)))
  w <- weights(design)
  fit <- lm(income ~ joined + boat + past + port, data, weights = w, subset = w > 0)
  pooled <- measure_effect(design, estimator = "regression", correction = "pooled")
  expect_equal(difference_of(pooled), corrected_by(predict(fit, transform(data, joined = 0))))
  expect_match(paste(format(pooled), collapse = " "), "one\\s+linear\\s+model\\s+for\\s+both\\s+arms")
  expect_match(paste(format(all), collapse = " "), "all\\s+units\\s+of\\s+each\\s+arm")
  units <- measure_effect(design, estimator = "regression", correction = "all", by = "port")
  small <- data$port == "small"
  m0 <- predict(lm(income ~ boat + past, data, subset = joined == 0 & small), data)
  own <- small[pairs$treated]
  expect_equal(difference_of(units[["small"]]),
               mean((data$income[pairs$treated] - data$income[pairs$control] - m0[pairs$treated] + m0[pairs$control])[own]))
})

test_that("with covariates held only the outcomes' own variance counts, from as many neighbours as asked for", {
  data <- many_crews()
  for (neighbours in c(1, 4)) {
    design <- matched(covariates = c("boat", "past"), ratio = 2)
    effect <- measure_effect(design, conditional = TRUE, neighbours = neighbours)
    points <- as.matrix(data[c("boat", "past")]) %*% solve(chol(cov(data[c("boat", "past")])))
    s2 <- vapply(seq_len(300), function(i) {
      own <- setdiff(which(data$joined == data$joined[i]), i)
      d <- sqrt(colSums((t(points[own, ]) - points[i, ])^2))
      near <- own[order(d)[seq_len(neighbours)]]
      neighbours / (neighbours + 1) * (data$income[i] - mean(data$income[near]))^2
    }, 0)
    times <- weights(design)
    v <- times / ifelse(data$joined == 1, sum(times[data$joined == 1]), sum(times[data$joined == 0]))
    expect_equal(effect_numbers(effect)[2], sqrt(sum(v^2 * s2)))
    expect_match(effect$inference, "covariates and matches held")
  }
  expect_error(measure_effect(pair_units(score_units(study_of_many())), conditional = TRUE), "other than matching with",
               class = "twin_error_input")
  expect_error(measure_effect(design, neighbours = 0), "from 1 to", class = "twin_error_input")
})
