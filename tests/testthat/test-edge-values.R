# Values that can't be computed with, columns that are no columns, and conditions that compare apples with pears: each
# an error which says what and where. What can be computed does not depend on units of measurement.

scaled_crews <- function(boat = 1, income = 1, s = 1, shift = 0) {
  data <- many_crews(200, seed = 6)
  data$boat <- data$boat * boat + shift
  data$income <- data$income * income
  data$s <- data$s * s
  data
}

numbers_of <- function(data) {
  study <- study_of_many(data, weight = "s")
  design <- weigh_units(score_units(study))
  rows <- c(difference_of(measure_effect(design)), difference_of(measure_effect(design, estimator = "augmented")),
            difference_of(measure_effect(pair_units(score_units(study)))))
  others <- list(pair_units(study, on = "mahalanobis"), pair_units(study, on = "diagonal", replacement = TRUE),
                 weigh_units(study, "entropy"), stratify_units(score_units(study), 4))
  rows <- c(rows, vapply(others, function(other) difference_of(measure_effect(other)), 0))
  c(rows, tidy(measure_effect(design))$std.error[3], summary(assess_balance(design))$worst_smd)
}

test_that("units of measurement do not matter as far as a double goes, and beyond are refused", {
  plain <- numbers_of(scaled_crews())
  for (size in c(1e-98, 1e-20, 1e20, 1e98)) {
    expect_equal(numbers_of(scaled_crews(boat = size)), plain, tolerance = 1e-6, label = paste("boat x", size))
    expect_equal(numbers_of(scaled_crews(income = size)) / rep(c(size, 1), c(8, 1)), plain, tolerance = 1e-6)
    expect_equal(numbers_of(scaled_crews(s = size)), plain, tolerance = 1e-6)
  }
  expect_equal(numbers_of(scaled_crews(shift = 1e9)), plain, tolerance = 1e-4)
  for (size in c(1e-300, 1e300)) {
    word <- if (size > 1) "too large to compute with" else "too small to compute with"
    expect_error(numbers_of(scaled_crews(boat = size)), word, class = "twin_error_input")
    expect_error(numbers_of(scaled_crews(income = size)), word, class = "twin_error_input")
    expect_error(numbers_of(scaled_crews(s = size)), word, class = "twin_error_input")
  }
  data <- many_harbours(8)
  expect_error(harbour_panel(transform(data, price = price * 1e200)), "\"price\" are too large", class = "twin_error_input")
})

test_that("infinite outcomes, odd columns and bytes that are no text are named", {
  data <- many_crews(100)
  infinite <- transform(data, income = replace(income, 3:4, Inf))
  expect_error(study_of_many(infinite), "infinite in 2 rows", class = "twin_error_input")
  odd <- data
  odd$s <- matrix(1, 100, 1)
  expect_error(study_of_many(odd, weight = "s"), "\"s\" can't be used", class = "twin_error_input")
  odd$s <- as.list(data$s)
  expect_error(study_of_many(odd, weight = "s"), "\"s\" can't be used", class = "twin_error_input")
  odd$harbour <- data.frame(a = data$harbour)
  expect_error(study_of_many(odd, cluster = "harbour"), "\"harbour\" can't be used", class = "twin_error_input")
  odd <- data
  odd$port[odd$port == "small"] <- "gro\xdf"
  error <- expect_error(study_of_many(odd), "\"port\" is not UTF-8", class = "twin_error_input")
  expect_match(conditionMessage(error), "gro<df>", fixed = TRUE)
  near <- transform(data, joined = 1 + joined * 4e-16)
  expect_error(study_of_many(near), "can't be told apart", class = "twin_error_input")
  expect_error(study_of_many(data, event = "7"), "holds other numbers", class = "twin_error_input")
})

test_that("formulas and conditions that can't be computed say why", {
  data <- many_crews(100)
  frame <- function(covariates, ...) frame_study(data, "joined", "income", covariates, ...)
  expect_error(frame(~ nosuch(boat)), "nosuch", class = "twin_error_input")
  expect_error(frame(~"boat"), class = "twin_error_input")
  expect_error(frame(~ I(boat[1:3])), "one value per unit", class = "twin_error_input")
  expect_error(frame(~ boat + poly(past, -1)), "can't be computed", class = "twin_error_input")
  expect_error(frame(~boat, subset = ~ port > 2), "compares text with a number", class = "twin_error_input")
  expect_error(frame(~boat, subset = ~ past > 0 & port %in% c(1, 2)), "\"port\" holds text", class = "twin_error_input")
  expect_error(frame(~boat, subset = ~ nosuch(past)), "can't be computed", class = "twin_error_input")
  expect_identical(length(frame(~boat, subset = ~ port == "small")$z), sum(data$port == "small"))
})

test_that("limits and ratios of pairs are what they must be, and nothing empty passes for none", {
  scored <- score_units(study_of_many(many_crews(100)))
  for (bad in list(character(), list(1), data.frame(), NA)) {
    expect_error(pair_units(scored, caliper = bad), "caliper", class = "twin_error_input")
  }
  for (bad in list(NULL, character(), sum, list())) {
    expect_error(pair_units(scored, caliper_unit = bad), "caliper_unit", class = "twin_error_input")
  }
  for (bad in list(character(), list(), function(x) x)) {
    expect_error(pair_units(scored, exact = bad), "exact", class = "twin_error_input")
    expect_error(pair_units(scored, apart = bad), "apart", class = "twin_error_input")
  }
  expect_error(pair_units(scored, ratio = 2^31), "from 1 to 100", class = "twin_error_input")
  expect_error(pair_units(scored, ratio = data.frame(a = 1:2)), class = "twin_error_input")
})

test_that("outcomes in logs are given in per cent with the interval of their difference, never as a ratio of means", {
  data <- more_outcomes(300, seed = 8)
  data$log_days <- log1p(data$days)
  study <- study_of_many(data, outcome = c("log_days", "days", "income"), logged = "log_days")
  design <- weigh_units(score_units(study))
  effect <- measure_effect(design, "log_days")
  rows <- tidy(effect)
  expect_identical(rows$term, c("mean_treated", "mean_control", "difference", "percent"))
  expect_equal(rows$estimate[4], 100 * (exp(rows$estimate[3]) - 1))
  expect_equal(rows$std.error[4], 100 * exp(rows$estimate[3]) * rows$std.error[3])
  expect_equal(rows$conf.low[4], 100 * (exp(rows$conf.low[3]) - 1))
  expect_equal(rows$p.value[4], rows$p.value[3])
  text <- gsub("\\s+", " ", paste(format(effect), collapse = " "))
  expect_match(text, sprintf("which is %s per cent (%s to %s)", number_text(rows$estimate[4]), number_text(rows$conf.low[4]),
                             number_text(rows$conf.high[4])), fixed = TRUE)
  gap <- influence_gap(function(data) {
    data$log_days <- log1p(data$days)
    measure_effect(weigh_units(score_units(study_of_many(data, outcome = "log_days", weight = "s", logged = "log_days"))))
  }, more_outcomes(150, seed = 2), "percent")
  expect_lt(gap, 1e-5)
  drawn <- tidy(measure_effect(design, "log_days", inference = "bootstrap", draws = 60))
  expect_equal(drawn$conf.low[4], 100 * expm1(drawn$conf.low[3]), tolerance = 0.01)
  both <- tidy(compare_effects(weights = effect, raw = measure_effect(study, "log_days"), term = "percent"), part = "agreement")
  expect_equal(abs(both$difference), abs(rows$estimate[3] - difference_of(measure_effect(study, "log_days"))))
  # an outcome that can be negative has no ratio, even where its means are positive
  expect_true(any(data$income < 0) || "ratio" %in% tidy(measure_effect(design, "income"))$term)
  data$income[1] <- -1
  expect_false("ratio" %in% tidy(measure_effect(study_of_many(data)))$term)
  expect_error(study_of_many(data, logged = "boat"), "must name outcomes", class = "twin_error_input")
})

test_that("an effect on an unbalanced design says so, by what and where", {
  study <- study_of_many(many_crews())
  raw <- measure_effect(study)
  balance <- summary(assess_balance(study))
  text <- gsub("\\s+", " ", paste(format(raw), collapse = " "))
  expect_match(text, sprintf("Not balanced: %s has |SMD| %s, beyond the standard limit of 0.1", balance$worst_covariate,
                             number_text(balance$worst_smd)), fixed = TRUE)
  weights <- measure_effect(weigh_units(study, "entropy"))
  expect_match(paste(format(weights), collapse = " "), "Worst imbalance left")
  both <- gsub("\\s+", " ", paste(format(compare_effects(raw = raw, weights = weights)), collapse = " "))
  expect_match(both, sprintf("Not balanced (|SMD| beyond 0.1): raw (%s in %s).", number_text(raw$worst_smd), raw$worst_row),
               fixed = TRUE)
})

test_that("over time too, outcomes in logs come in per cent with the interval of their difference", {
  data <- many_harbours(24)
  data$log_price <- log(data$price - min(data$price) + 1)
  panel <- frame_panel(data, outcome = c("log_price", "price"), time = "year", unit = "harbour", treatment = "open", logged = "log_price")
  effect <- summarise_did(measure_did(panel), bands = FALSE)
  row <- tidy(effect)
  expect_equal(row$percent, 100 * (exp(row$estimate) - 1))
  expect_equal(c(row$percent.low, row$percent.high), 100 * (exp(c(row$conf.low, row$conf.high)) - 1))
  step <- 1e-6
  expect_equal(row$percent.error, row$std.error * 100 * (exp(row$estimate + step) - exp(row$estimate - step)) / (2 * step), tolerance = 1e-6)
  expect_match(paste(format(effect), collapse = " "), sprintf("which\\s+is\\s+%s\\s+per\\s+cent", number_text(row$percent)))
  expect_null(tidy(measure_did(panel, outcome = "price"))$percent)
  expect_match(paste(format(measure_did(panel, estimator = "two_way")), collapse = " "), "per cent")
  expect_error(frame_panel(data, outcome = "price", time = "year", unit = "harbour", treatment = "open", logged = "depth"), "must name outcomes",
               class = "twin_error_input")
})

test_that("where memory runs out, in R or in a kernel on several threads, a classed error says so", {
  skip_if(Sys.which("prlimit") == "" || !file.exists("/proc/self/status"))
  script <- withr::local_tempfile(fileext = ".R")
  writeLines(c(
    "suppressMessages(library(carefultwin))", "n <- 600000L", "set.seed(1)",
    "data <- data.frame(z = rbinom(n, 1, 0.4), y = 0, x1 = rnorm(n), x2 = rnorm(n), x3 = rnorm(n), x4 = rnorm(n))",
    "study <- frame_study(data, 'z', 'y', paste0('x', 1:4))",
    "few <- frame_study(data[1:2000, ], 'z', 'y', paste0('x', 1:4))  # so that code and threads are there",
    "few <- list(pair_units(few, on = 'mahalanobis', replacement = TRUE), score_units(few))",
    "size <- as.numeric(gsub('[^0-9]', '', grep('VmSize', readLines('/proc/self/status'), value = TRUE))) * 1024",
    "system2('prlimit', c('--pid', Sys.getpid(), sprintf('--as=%.0f', size + 1e6)))",
    "for (verb in c(function(x) pair_units(x, on = 'mahalanobis', replacement = TRUE), score_units)) {",
    "  cat(tryCatch({verb(study); 'fine'}, error = function(e) class(e)[1]), '')", "}"
  ), script)
  said <- system2(file.path(R.home("bin"), "Rscript"), script, stdout = TRUE, stderr = TRUE)
  expect_match(utils::tail(said, 1), "^twin_error_memory twin_error_memory")
})
