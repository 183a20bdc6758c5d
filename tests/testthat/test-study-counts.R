# A row that stands for k units equals k rows, in every number of every verb: both studies go through the same steps.

counted_crews <- function() transform(many_crews(120), k = rep(c(1, 3, 0, 2), 30), months = round(exp(boat) * 10) + 1,
                                      left = direct, gear = rep(c("pots", "nets", "lines"), 40))
as_rows <- function(data) data[rep(seq_len(nrow(data)), data$k), ]
numbers_of <- function(x) {
  table <- as.data.frame(tidy(x))
  unname(as.list(table[vapply(table, is.numeric, NA)]))
}
equal_numbers <- function(steps, ..., data = counted_crews()) {
  make <- function(data, ...) suppressMessages(suppressWarnings(steps(study_of_many(data, ...))))
  expect_equal(numbers_of(make(data, frequency = "k", ...)), numbers_of(make(as_rows(data), ...)))
}

test_that("every verb on designs sees k rows", {
  scored <- function(study) score_units(study)
  equal_numbers(function(study) describe_groups(study, tests = TRUE))
  equal_numbers(scored)
  equal_numbers(function(study) assess_overlap(scored(study)))
  designs <- list(
    pairs = function(study) pair_units(scored(study), caliper = 0.5),
    reuse = function(study) pair_units(scored(study), replacement = TRUE, ratio = 2),
    optimal = function(study) pair_units(scored(study), search = "optimal"),
    full = function(study) group_units(scored(study), "full"),
    cells = function(study) group_units(study, "coarsened", bins = list(boat = 3, past = 3)),
    strata = function(study) stratify_units(scored(study), strata = 3),
    inverse = function(study) weigh_units(trim_units(scored(study), "common_support")),
    entropy = function(study) weigh_units(study, "entropy")
  )
  for (make in designs) {
    equal_numbers(function(study) assess_balance(make(study), tests = TRUE))
    equal_numbers(function(study) measure_effect(make(study)))
    if (!identical(make, designs$reuse)) equal_numbers(function(study) assess_power(make(study)))
  }
  equal_numbers(function(study) measure_effect(designs$pairs(study)), cluster = "harbour")
  equal_numbers(function(study) measure_effect(designs$inverse(study), estimator = "augmented"), weight = "s",
                stratum = "coast", cluster = "harbour")
  equal_numbers(function(study) assess_weights(designs$inverse(study)))
  equal_numbers(function(study) measure_effect(study, error = "welch"))
  equal_numbers(function(study) measure_effect(designs$inverse(study), inference = "bootstrap", draws = 20))
  equal_numbers(function(study) measure_hazard(weigh_units(scored(study)), "months", "left"),
                outcome = c("months", "left"))
})

test_that("probes see k rows", {
  weighed <- function(study) measure_effect(weigh_units(score_units(study)))
  equal_numbers(function(study) probe_pairs(measure_effect(pair_units(score_units(study)))))
  equal_numbers(function(study) probe_weights(weighed(study), draws = 10))
  equal_numbers(function(study) probe_omitted(weighed(study)))
  equal_numbers(function(study) probe_ratio(weighed(study)))
  equal_numbers(function(study) probe_stability(weighed(study)))
  equal_numbers(function(study) probe_choices(weighed(study), leave_out = "covariates"))
})

test_that("several arms and panels see k rows", {
  data <- counted_crews()
  arms <- function(data, ...) frame_arms(data, "gear", "income", c("boat", "past"), reference = "pots", estimand = "ATE", ...)
  effects <- function(arms) measure_effect(weigh_units(score_units(arms)))
  expect_equal(numbers_of(effects(arms(data, frequency = "k"))), numbers_of(effects(arms(as_rows(data)))))
  harbours <- many_harbours()
  harbours$k <- 1 + match(harbours$harbour, unique(harbours$harbour)) %% 3
  panel <- harbour_panel(harbours, frequency = "k")
  expanded <- harbours[rep(seq_len(nrow(harbours)), harbours$k), ]
  expanded$harbour <- paste(expanded$harbour, sequence(harbours$k))
  expect_equal(numbers_of(summarise_did(measure_did(panel), "event")),
               numbers_of(summarise_did(measure_did(harbour_panel(expanded)), "event")))
  expect_match(paste(format(panel), collapse = " "), sprintf("k: %d rows stand for %d units", nrow(harbours), nrow(expanded)))
  harbours$k[3] <- 7
  expect_error(harbour_panel(harbours, frequency = "k"), "must not change within a unit.*1 unit", class = "twin_error_input")
})

test_that("counts are said, named as rows are, and checked", {
  data <- counted_crews()
  data$crew <- sprintf("crew %d", seq_len(120))
  study <- study_of_many(data, frequency = "k", id = "crew", subset = ~ boat > -1)
  expect_match(paste(format(study), collapse = " "), "k: 90 rows stand for 180 units")
  expect_identical(sum(study$z == 1L), as.integer(sum(data$k[data$joined == 1 & data$boat > -1])))
  out <- design_data(weigh_units(score_units(study)))
  expect_identical(out$crew[1:5], c("crew 1", "crew 2", "crew 2 (2)", "crew 2 (3)", "crew 4"))
  expect_identical(length(weights(weigh_units(score_units(study)))), 180L)
  for (wrong in list(c(1.5, rep(1, 119)), c(-1, rep(1, 119)), c(NA, rep(1, 119)))) {
    error <- expect_error(study_of_many(transform(data, k = wrong), frequency = "k"), "first: 1.*sampling\\s+weights",
                          class = "twin_error_input")
    expect_identical(error$rows, 1L)
  }
  expect_error(study_of_many(transform(data, k = 0), frequency = "k"), "0 in every row", class = "twin_error_input")
  expect_error(study_of_many(transform(data, k = 1e8), frequency = "k"), "more than can be held", class = "twin_error_input")
  expect_error(study_of_many(transform(data, k = "a"), frequency = "k"), "must be numbers", class = "twin_error_input")
  data$crew[2] <- "crew 1"
  expect_error(study_of_many(data, frequency = "k", id = "crew"), "1 id repeats", class = "twin_error_input")
})
