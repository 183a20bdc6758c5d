scored <- function(...) score_units(study_of_many(...))

test_that("the score agrees with glm, with and without weights", {
  data <- many_crews()
  design <- scored(weight = "s")
  reference <- suppressWarnings(glm(joined ~ boat + past + (port == "medium") + (port == "small"), binomial, data,
                                    weights = s, control = list(epsilon = 1e-14)))
  expect_equal(tidy(design)$estimate, unname(coef(reference)), tolerance = 1e-8)
  expect_equal(tidy(design)$std.error, unname(sqrt(diag(vcov(reference)))), tolerance = 1e-6)
  expect_equal(scored()$score$fitted, unname(fitted(glm(joined ~ boat + past + port, binomial, data))),
               tolerance = 1e-6)
})

test_that("separation names the covariates, one alone or several together", {
  data <- many_crews()
  data$only <- as.double(data$joined == 1 & seq_len(300) %% 5 == 0)
  error <- expect_error(score_units(study_of_many(data, covariates = c("boat", "only"))),
                        class = "twin_error_separation")
  expect_identical(error$covariates, "only")
  data$joined <- as.integer(data$boat + data$past > 0.2)
  error <- expect_error(score_units(study_of_many(data)), class = "twin_error_separation")
  expect_true(all(c("boat", "past") %in% error$covariates))
})

test_that("repeated information is dropped, named and harmless", {
  data <- many_crews()
  data$twice <- 2 * data$boat
  study <- study_of_many(data, covariates = c("boat", "twice"))
  warning <- expect_warning(design <- score_units(study), "\"twice\"", class = "twin_warning_aliased")
  expect_identical(warning$terms, "twice")
  expect_equal(design$score$fitted, score_units(study_of_many(covariates = "boat"))$score$fitted, tolerance = 1e-10)
  expect_true(is.na(tidy(design)$estimate[3]))
})

test_that("a score may have a model of its own, in the study's covariates only", {
  design <- score_units(study_of_many(), model = ~ boat + I(boat^2))
  expect_identical(tidy(design)$term, c("(intercept)", "boat", "I(boat^2)"))
  expect_error(score_units(study_of_many(), model = ~ boat + s), "Not among them: \"s\"", class = "twin_error_input")
})

test_that("inverse weights are h / e and h / (1 - e) for each estimand", {
  z <- many_crews()$joined
  expect_weights <- function(estimand, h) {
    design <- weigh_units(scored(estimand = estimand))
    e <- design$score$fitted
    expect_equal(weights(design), ifelse(z == 1, h(e) / e, h(e) / (1 - e)))
  }
  expect_weights("ATE", function(e) 1)
  expect_weights("ATT", function(e) e)
  expect_weights("ATC", function(e) 1 - e)
  expect_weights("ATO", function(e) e * (1 - e))
})

test_that("overlap weights balance every mean of a logit score exactly", {
  balance <- tidy(assess_balance(weigh_units(scored(estimand = "ATO", weight = "s"))))
  after <- balance[balance$sample == "after", ]
  expect_identical(nrow(after), 5L)
  expect_lt(max(abs(after$smd)), 1e-8)
})

test_that("full weights multiply by the sampling weight", {
  design <- weigh_units(scored(weight = "s"))
  expect_equal(weights(design, full = TRUE), weights(design) * many_crews()$s)
})

test_that("pairs lie within the caliper, use each unit once and stand in rows of the data", {
  data <- many_crews()
  design <- pair_units(scored(data), caliper = 0.1)
  pairs <- pairs_of(design)
  expect_gt(nrow(pairs), 50)
  expect_true(all(data$joined[pairs$treated] == 1 & data$joined[pairs$control] == 0))
  expect_false(anyDuplicated(c(pairs$treated, pairs$control)) > 0)
  linear <- qlogis(design$score$fitted)
  expect_equal(pairs$distance, abs(linear[pairs$treated] - linear[pairs$control]), tolerance = 1e-8)
  expect_lte(max(pairs$distance), 0.1 * sqrt(mean(vapply(split(linear, data$joined), var, 0))) + 1e-12)
  expect_identical(which(weights(design) == 1), sort(c(pairs$treated, pairs$control)))
})

test_that("for the ATC the controls seek, and a lack of partners is said", {
  design <- pair_units(scored(estimand = "ATC"), caliper = Inf)
  data <- many_crews()
  expect_identical(nrow(pairs_of(design)), min(table(data$joined)))
  lost <- sum(data$joined == 0) - nrow(pairs_of(design))
  if (lost > 0) expect_match(paste(format(design), collapse = " "), "control units that +found a partner")
})

test_that("more treated than controls works and reports who was left", {
  data <- many_crews()
  data$joined <- 1 - as.integer(rank(data$boat + data$past / 2 + withr::with_seed(3, rnorm(300))) <= 100)
  design <- pair_units(scored(data), caliper = Inf)
  expect_identical(nrow(pairs_of(design)), 100L)
  expect_match(paste(format(design), collapse = " "), "100 of 200 treated units that")
})

test_that("the same seed gives the same pairs and leaves the random stream alone", {
  withr::local_seed(5)
  before <- .Random.seed
  one <- pairs_of(pair_units(scored(), order = "shuffled", seed = 3))
  expect_identical(.Random.seed, before)
  expect_identical(pairs_of(pair_units(scored(), order = "shuffled", seed = 3)), one)
  expect_false(identical(pairs_of(pair_units(scored(), order = "shuffled", seed = 4)), one))
})

test_that("no pairs left, bad calipers and stray seeds are refused", {
  expect_error(pair_units(scored(), caliper = 1e-12), "No pair is left", class = "twin_error_input")
  expect_error(pair_units(scored(), caliper = 0), "above 0", class = "twin_error_input")
  expect_error(pair_units(scored(), order = "shuffled"), "needs a `seed`", class = "twin_error_input")
  expect_error(pair_units(scored(), seed = 1), "has no use", class = "twin_error_input")
  expect_error(pair_units(study_of_many()), "needs a propensity score", class = "twin_error_input")
  expect_error(pair_units(scored(estimand = "ATE")), "can't answer the ATE", class = "twin_error_unsupported")
  expect_error(weigh_units(pair_units(scored())), "already has pairs", class = "twin_error_unsupported")
  expect_error(pairs_of(scored()), "has no pairs", class = "twin_error_input")
})

test_that("a unit that carries its arm is warned about", {
  data <- many_crews()
  data$boat[which(data$joined == 0)[1]] <- 8  # a control with the longest boat of all
  expect_warning(weigh_units(scored(data)), "more than a tenth", class = "twin_warning_weights")
})

test_that("design_data gives the data with the design beside it and opens the seal", {
  data <- many_crews()
  design <- pair_units(scored(data, subset = ~ boat > -1))
  expect_true(is.na(summary(logbook(design))$opened))
  out <- design_data(design)
  expect_identical(out[names(data)], data)
  expect_identical(which(out$.kept), which(out$.weight == 1))
  expect_identical(is.na(out$.score), data$boat <= -1)
  expect_equal(qlogis(out$.score), out$.linear_score)
  pairs <- pairs_of(design)
  expect_identical(out$.set[pairs$treated], out$.set[pairs$control])
  expect_false(is.na(summary(logbook(design))$opened))
})

test_that("the logbook counts different designs on either side of the opening, repeats once", {
  study <- study_of_many()
  pair_units(score_units(study), caliper = 0.2)
  design <- pair_units(score_units(study), caliper = 0.2)
  weigh_units(score_units(study))
  book <- summary(logbook(study))
  expect_identical(book[c("opened", "before", "after")], list(opened = NA_character_, before = 2L, after = 0L))
  measure_effect(design)
  pair_units(score_units(study), caliper = 0.2)
  pair_units(score_units(study), caliper = 0.3)
  book <- summary(logbook(study))
  expect_identical(c(book$before, book$after), c(2L, 1L))
  entries <- as.data.frame(logbook(design))
  worst <- glance(assess_balance(design))$worst_smd
  expect_equal(entries$worst_smd[entries$verb == "pair"][1], worst)
})
