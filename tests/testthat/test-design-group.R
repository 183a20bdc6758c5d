sets_of <- function(..., estimand = "ATT", data = many_crews(), weight = NULL) {
  group_units(score_units(study_of_many(data, estimand = estimand, weight = weight)), ...)
}

test_that("full matching takes everybody in sets of one against some, within its limits", {
  design <- sets_of("full")
  expect_true(all(weights(design) > 0))
  table <- tidy(design, part = "sets")
  expect_identical(sum(table$treated + table$control), 300L)
  expect_true(all(pmin(table$treated, table$control) == 1))
  limited <- tidy(sets_of("full", ratio = c(1 / 2, 3)), part = "sets")
  expect_lte(max(limited$control), 3)
  expect_lte(max(limited$treated), 2)
  expect_gt(max(table$treated, table$control), 3)
})

test_that("weights of full matching stand for the estimand's arm", {
  table <- tidy(sets_of("full"), part = "sets")
  expect_equal(table$weight_treated, table$treated + 0)
  expect_equal(table$weight_control, table$treated + 0)
  atc <- tidy(sets_of("full", estimand = "ATC"), part = "sets")
  expect_equal(atc$weight_treated, atc$control + 0)
  ate <- tidy(sets_of("full", estimand = "ATE"), part = "sets")
  expect_equal(ate$weight_treated, ate$treated + ate$control)
  expect_equal(ate$weight_control, ate$treated + ate$control)
})

test_that("limits that can't be met are an error with the counts, exact groups are named", {
  caught <- tryCatch(sets_of("full", ratio = c(1, 1)), twin_error_infeasible = function(e) conditionMessage(e))
  expect_match(caught, "153 treated and 147 control")
  expect_error(sets_of("full", ratio = c(1 / 2, 1), exact = "port"), class = "twin_error_infeasible",
               regexp = "port = ")
})

test_that("full matching respects calipers, exact columns and who must be apart", {
  data <- many_crews()
  data$family <- rep(1:30, 10)
  design <- sets_of("full", data = data, caliper = 0.05, exact = "coast", apart = "family", on = "mahalanobis")
  pairs <- pairs_of(design)
  expect_identical(data$coast[pairs$treated], data$coast[pairs$control])
  expect_true(all(data$family[pairs$treated] != data$family[pairs$control]))
  out <- tidy(design, part = "unmatched")
  expect_true(all(out$reason == "nobody within the caliper" | out$reason == "only units to be kept apart"))
  expect_gt(nrow(out), 0)
})

test_that("exact sets hold equal values and weigh like Methods says", {
  data <- many_crews()
  data$size <- round(data$boat)
  study <- study_of_many(data, covariates = c("size", "port"))
  design <- group_units(study, "exact")
  w <- weights(design)
  cell <- paste(data$size, data$port)
  inside <- w > 0
  expect_true(all(tapply(data$joined[inside], cell[inside], function(z) length(unique(z))) == 2))
  expect_false(any(cell[!inside] %in% cell[inside]))
  treated <- tapply(data$joined[inside] == 1, cell[inside], sum)
  control <- tapply(data$joined[inside] == 0, cell[inside], sum)
  by_hand <- treated / control * sum(control) / sum(treated)
  here <- inside & data$joined == 0
  expect_equal(w[here], as.vector(by_hand[cell[here]]))
  expect_equal(w[inside & data$joined == 1], rep(1, sum(treated)))
})

test_that("a unit with weight 2 counts in cells like the unit entered twice", {
  data <- many_crews()
  data$size <- round(data$boat)
  data$s <- 1 + (seq_len(300) %% 3 == 0)
  twice <- data[rep(1:300, data$s), ]
  effect <- function(data, weight) {
    difference_of(measure_effect(group_units(study_of_many(data, covariates = c("size", "port"), weight = weight), "exact")))
  }
  expect_equal(effect(data, "s"), effect(twice, NULL))
})

test_that("coarsened sets use the bins asked for and show them", {
  data <- many_crews()
  study <- study_of_many(data)
  design <- group_units(study, "coarsened", bins = list(boat = c(-1, 0, 1), past = 3, port = list(c("small", "medium"))))
  bins <- tidy(design, part = "bins")
  expect_identical(as.vector(table(bins$covariate)[c("boat", "past", "port")]), c(4L, 3L, 2L))
  expect_identical(bins$units[bins$covariate == "boat"], as.vector(table(cut(data$boat, c(-Inf, -1, 0, 1, Inf)))))
  expect_identical(bins$holds[bins$covariate == "port"], c("small, medium", "large"))
  automatic <- tidy(group_units(study, "coarsened", covariates = "boat"), part = "bins")
  expect_identical(nrow(automatic), as.integer(ceiling(log2(300) + 1)))
})

test_that("missing values have a bin of their own", {
  data <- many_crews()
  data$boat[1:30] <- NA
  design <- group_units(study_of_many(data), "coarsened", covariates = "boat", bins = list(boat = 2))
  bins <- tidy(design, part = "bins")
  expect_identical(bins$holds[3], "(missing)")
  expect_identical(bins$units[3], 30L)
})

test_that("the cardinality sample is the largest that balances, by trying all", {
  skip_if_not_installed("Rglpk")
  withr::local_seed(6)
  data <- data.frame(x = round(rnorm(11), 1) + rep(c(1.2, 0), c(5, 6)), joined = rep(1:0, c(5, 6)), income = rnorm(11))
  study <- frame_study(data, "joined", "income", "x")
  limit <- 0.15
  sd <- sd(data$x[data$joined == 1])
  fits <- function(k) {
    any(combn(5, k, function(t) any(combn(6:11, k, function(c) {
      abs(mean(data$x[t]) - mean(data$x[c])) <= limit * sd
    }))))
  }
  largest <- max(which(vapply(1:5, fits, NA)))
  expect_lt(largest, 5)
  design <- group_units(study, "cardinality", tolerance = limit)
  expect_identical(sum(weights(design)), 2 * largest)
  expect_lte(glance(assess_balance(design))$worst_smd, limit + 1e-9)
})

test_that("options that do not belong are refused, as are empty results", {
  study <- study_of_many()
  input <- "twin_error_input"
  expect_error(group_units(study, "exact", bins = list(boat = 2)), class = input)
  expect_error(group_units(study, "coarsened", ratio = c(1, 2)), class = input)
  expect_error(group_units(study, "exact"), class = input, regexp = "cell")
  expect_error(group_units(study, "coarsened", bins = list(boat = "a")), class = input)
  expect_error(group_units(study, "coarsened", bins = list(bote = 2)), class = input)
  expect_error(group_units(study, "coarsened", bins = list(port = list("tiny"))), class = input)
  expect_error(group_units(study, "full"), class = input, regexp = "score_units")
  expect_error(group_units(score_units(study), "full", ratio = 3), class = input)
  expect_error(group_units(study_of_many(estimand = "ATO"), "exact"), class = "twin_error_unsupported")
  expect_error(group_units(study_of_many(weight = "s"), "cardinality"), class = "twin_error_unsupported")
})
