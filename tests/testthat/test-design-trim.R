scored_many <- function(..., estimand = "ATE") score_units(study_of_many(..., estimand = estimand))

test_that("range keeps both ends and counts who fell off, by arm and in words", {
  design <- scored_many()
  e <- design$score$fitted
  ends <- sort(e)[c(31, 270)]
  trimmed <- trim_units(design, "range", bounds = ends)
  expect_identical(weights(trimmed) > 0, e >= ends[1] & e <= ends[2])
  expect_identical(sum(weights(trimmed)), 240)
  z <- many_crews()$joined
  text <- paste(format(trimmed), collapse = " ")
  expect_match(text, sprintf("%d kept, +%d +trimmed", sum(z[weights(trimmed) > 0]), sum(z[weights(trimmed) == 0])))
  expect_match(text, sprintf("those with +scores from %.3f to %.3f", ends[1], ends[2]))
  entry <- tail(as.data.frame(logbook(trimmed)), 1)
  expect_identical(entry$counts, sprintf("fell off: %d treated, %d control", sum(z[weights(trimmed) == 0]),
                                         sum(1 - z[weights(trimmed) == 0])))
})

test_that("common support depends on whom the effect is for", {
  range_of <- function(design, arm) range(design$score$fitted[many_crews()$joined == arm])
  kept <- function(estimand) {
    design <- scored_many(estimand = estimand)
    list(kept = weights(trim_units(design, "common_support")) > 0, e = design$score$fitted, treated = range_of(design, 1),
         control = range_of(design, 0))
  }
  att <- kept("ATT")
  expect_identical(att$kept, att$e >= att$control[1] & att$e <= att$control[2])
  atc <- kept("ATC")
  expect_identical(atc$kept, atc$e >= atc$treated[1] & atc$e <= atc$treated[2])
  ate <- kept("ATE")
  expect_identical(ate$kept, att$kept & atc$kept)
  expect_true(sum(!ate$kept) >= 2)
})

test_that("quantile bounds are the inner ones of the arms' quantiles", {
  design <- scored_many()
  e <- design$score$fitted
  z <- many_crews()$joined
  low <- max(quantile(e[z == 1], 0.1, type = 1), quantile(e[z == 0], 0.1, type = 1))
  high <- min(quantile(e[z == 1], 0.9, type = 1), quantile(e[z == 0], 0.9, type = 1))
  expect_identical(weights(trim_units(design, "quantile", bounds = 0.1)) > 0, e >= low & e <= high)
})

test_that("trimming by least variance keeps everybody where overlap is good", {
  units <- suppressMessages(simulate_units(500, overlap = "good", seed = 3))
  design <- score_units(frame_study(units, "treated", "outcome", c("x1", "x2"), estimand = "ATE"))
  trimmed <- trim_units(design)
  expect_true(all(weights(trimmed) == 1))
  expect_no_match(paste(format(trimmed), collapse = " "), "those with scores")
  poor <- suppressMessages(simulate_units(500, overlap = "poor", seed = 3))
  cut <- trim_units(score_units(frame_study(poor, "treated", "outcome", c("x1", "x2", "b1", "f1"), estimand = "ATE")))
  expect_gt(sum(weights(cut) == 0), 50)
})

test_that("re-fitting is the score of the units that are left", {
  data <- many_crews()
  design <- trim_units(scored_many(), "range", bounds = c(0.2, 0.8), rescore = TRUE)
  left <- weights(design) > 0
  alone <- score_units(study_of_many(data[left, ], estimand = "ATE"))
  expect_equal(design$score$fitted[left], alone$score$fitted, tolerance = 1e-8)
  effect <- measure_effect(weigh_units(design))
  expect_equal(tidy(effect)$estimate, tidy(measure_effect(weigh_units(alone)))$estimate, tolerance = 1e-8)
  # n counts the units in use, so the errors agree too
  expect_equal(tidy(effect)$std.error, tidy(measure_effect(weigh_units(alone)))$std.error, tolerance = 1e-6)
  again <- score_units(study_of_many(estimand = "ATE"), learners = "tree", folds = 3) |>
    trim_units("range", bounds = c(0.1, 0.9), rescore = TRUE)
  expect_identical(again$score$settings$learners, "tree")
})

test_that("pairs after trimming use the units that are left and say both losses", {
  design <- pair_units(trim_units(scored_many(estimand = "ATT"), "range", bounds = c(0.2, 0.7)), caliper = 0.05)
  pairs <- pairs_of(design)
  e <- design$score$fitted
  expect_true(all(e[c(pairs$treated, pairs$control)] >= 0.2 & e[c(pairs$treated, pairs$control)] <= 0.7))
  text <- paste(format(design), collapse = " ")
  expect_match(text, "trimmed; +[0-9]+ +out: +nobody +within +the +caliper")
  expect_match(paste(format(measure_effect(design)), collapse = " "), "those with scores from 0.200 +to 0.700")
})

test_that("overlap and balance show the sample before and after trimming", {
  design <- trim_units(scored_many(), "range", bounds = c(0.3, 0.7))
  expect_identical(unique(tidy(assess_overlap(design))$sample), c("before", "after"))
  balance <- tidy(assess_balance(design))
  left <- weights(design) > 0
  data <- many_crews()
  row <- balance[balance$covariate == "boat" & balance$sample == "after", ]
  expect_equal(row$mean_treated, mean(data$boat[left & data$joined == 1]))
})

test_that("bad rules, bounds and empty arms are refused", {
  design <- scored_many()
  expect_error(trim_units(study_of_many()), "needs a propensity score", class = "twin_error_input")
  expect_error(trim_units(design, "range", bounds = c(0.9, 0.1)), "the smaller first", class = "twin_error_input")
  expect_error(trim_units(design, "quantile", bounds = 0.6), "below 0.5", class = "twin_error_input")
  expect_error(trim_units(design, bounds = 0.1), "has no use", class = "twin_error_input")
  expect_error(trim_units(design, "support"), "must be one of", class = "twin_error_input")
  error <- expect_error(trim_units(design, "range", bounds = c(0.98, 1)), "at least 2 units", class = "twin_error_input")
  expect_named(error$counts, c("treated", "control"))
  expect_error(trim_units(weigh_units(design)), "already has weights", class = "twin_error_unsupported")
  data <- many_crews()
  data$chance <- 0.5
  known <- score_units(study_of_many(data), score = "chance")
  expect_error(trim_units(known, rescore = TRUE), "can't be fitted again", class = "twin_error_unsupported")
})

test_that("without bounds a range is 0.1 to 0.9 and a quantile 0.01", {
  scored <- score_units(study_of_many(many_crews(800)))
  kept <- function(...) weights(trim_units(scored, ...)) > 0
  e <- scored$score$fitted
  expect_gt(sum(e < 0.1 | e > 0.9), 0)
  expect_identical(kept("range"), e >= 0.1 & e <= 0.9)
  expect_identical(kept("quantile"), kept("quantile", bounds = 0.01))
  expect_false(identical(kept("quantile"), kept("quantile", bounds = 0.05)))
})
