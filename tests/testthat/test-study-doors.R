# One door each for seeds, arguments and files.

test_that("seeds are whole numbers that R's generators take, and nothing else", {
  study <- study_of_many()
  design <- weigh_units(score_units(study))
  for (seed in list(1.5, -1, 2^31, 1e10, 1e14, NA, "1", c(1, 2), Inf)) {
    expect_error(measure_effect(design, inference = "bootstrap", draws = 3, seed = seed), "whole number from 0",
                 class = "twin_error_input")
    expect_error(simulate_units(50, seed = seed), class = "twin_error_input")
  }
  expect_error(search_metric(study, c("boat", "past"), seed = 1.5), class = "twin_error_input")
  expect_error(probe_weights(measure_effect(design), draws = 2, seed = -1), class = "twin_error_input")
})

test_that("large seeds work wherever there is a seed: dates, and the largest there is", {
  study <- study_of_many()
  design <- weigh_units(score_units(study))
  learnt <- measure_effect(study, estimator = "crossfit", learners = "logit", folds = 2, repeats = 2, seed = 20240101)
  expect_true(is.finite(difference_of(learnt)))
  drawn <- measure_effect(design, inference = "bootstrap", draws = 20, seed = 2^31 - 1)
  expect_gt(tidy(drawn)$std.error[3], 0)
  expect_match(drawn$inference, "seed 2147483647", fixed = TRUE)
  panel <- harbour_panel(many_harbours(12))
  random <- suppressWarnings(measure_did(panel, estimator = "two_way", inference = "randomization", draws = 99,
                                         seed = 20240101))
  expect_true(random$p.value >= 0.01 && random$p.value <= 1)
})

test_that("sub-seeds differ by seed, work and place, and lie where R can use them", {
  grid <- expand.grid(seed = c(0, 1, 2, 20240101, 2^31 - 1), work = c("bootstrap", "folds"), k = 0:99)
  seeds <- mapply(core_sub_seed, grid$seed, as.character(grid$work), grid$k)
  expect_true(all(seeds >= 0 & seeds <= 2^31 - 1 & seeds == round(seeds)))
  expect_lte(sum(duplicated(seeds)), 2)
  many <- vapply(0:4999, function(k) core_sub_seed(7, "draws", k), 0)
  # evenly spread: a chi-squared with 19 degrees of freedom
  count <- tabulate(1 + floor(many / 2^31 * 20), 20)
  expect_lt(sum((count - 250)^2 / 250), qchisq(0.999, 19))
  expect_lt(abs(cor(many[-1], many[-5000])), 0.06)
  # draws of neighbouring seeds and places have nothing in common
  expect_lt(abs(cor(core_draw_counts(5000, 1, 1), core_draw_counts(5000, 1, 2))), 0.06)
  expect_lt(abs(cor(core_draw_counts(5000, 1, 1), core_draw_counts(5000, 2, 1))), 0.06)
})

test_that("any object is put into a few words", {
  described <- function(x) carefultwin:::describe_value(x)
  expect_identical(described(NULL), "NULL")
  expect_identical(described(0.2), "0.2")
  expect_identical(described(TRUE), "TRUE")
  expect_identical(described(NA_character_), "NA")
  expect_identical(described("logti"), "\"logti\"")
  expect_identical(described(c(a = 1, b = 2)), "a = 1, b = 2")
  expect_identical(described(1:1000), "1, 2, 3, and 997 more")
  expect_identical(described(mean), "a function")
  expect_identical(described(globalenv()), "an environment")
  expect_identical(described(crews), "a data frame of 2,404 rows and 18 columns")
  expect_identical(described(list(1, 2)), "a list of length 2")
  expect_identical(described(quote(a + b)), "a call")
  expect_match(described(factor("a")), "factor")
  odd <- list(strrep("x", 1e5), as.list(1:1e5), matrix(0, 1e3, 1e3), Sys.Date(), 1i, study_of_many(), new.env(), sum)
  expect_true(all(vapply(odd, function(x) nchar(described(x)), 0L) < 120))
})

test_that("whatever is given for a choice, number, flag or name is refused in one short message", {
  study <- study_of_many()
  scored <- score_units(study)
  odd <- list(mean, globalenv(), crews, letters, 1:1e5, list(), NULL, NA, quote(a), function(x) x)
  for (value in odd) {
    caught <- list(
      tryCatch(score_units(study, link = value), twin_error_input = conditionMessage),
      tryCatch(measure_effect(study, level = value), twin_error_input = conditionMessage),
      tryCatch(frame_study(many_crews(), value, "income", "boat"), twin_error_input = conditionMessage),
      tryCatch(assess_balance(scored, tests = value), twin_error_input = conditionMessage),
      tryCatch(probe_pairs(c(1, 2, -1), gamma = if (is.numeric(value)) -value else value),
               twin_error_input = conditionMessage)
    )
    expect_true(all(vapply(caught, is.character, NA)))
    expect_lt(max(nchar(unlist(caught))), 500)
  }
})

test_that("two different names never give one file", {
  stems <- carefultwin:::file_stems(c("\u00c4", "\u00d6",
                                      "a b", "a-b", "A B", "plain", "effects income", "...", "-", "north", "North"))
  expect_false(anyDuplicated(tolower(stems)) > 0)
  expect_true(all(grepl("^[A-Za-z0-9_-]+$", stems)))
  expect_identical(stems[["plain"]], "plain")
  expect_identical(stems[["effects income"]], "effects-income")
  expect_identical(carefultwin:::file_stems(c("a b", "a-b"))[["a b"]], carefultwin:::file_stems(c("a-b", "a b"))[["a b"]])
})

test_that("a run keeps results apart whose names differ by a sign or a letter only", {
  folder <- plan_folder(function(lines) {
    lines <- slim(lines)
    append(lines, c("  \"a b\": {outcome: direct}", "  \"a-b\": {outcome: direct, by: port}", "  \"\u00c4\": {by: port}",
                    "  \"\u00d6\": {by: coast}"), match("effects:", lines))
  })
  result <- twin("run", file.path(folder, "plan.yml"))
  expect_identical(result$status, 0L, label = paste(result$err, collapse = " "))
  tables <- list.files(file.path(folder, "results", "tables"), "^effects.*csv$")
  expect_length(tables, 5)  # two outcomes side by side, three effects by group
})

test_that("cells that a spreadsheet would run are text in csv, tsv, xlsx and the logbook alike", {
  data <- data.frame(x = c("=1+1", "-2", "@sum", "plain", "-a"), y = 1:5)
  folder <- withr::local_tempdir()
  for (ending in c("csv", "tsv", "xlsx")) {
    skip_if(ending == "xlsx" && !rlang::is_installed(c("openxlsx", "readxl")))
    file <- file.path(folder, paste0("a.", ending))
    write_units(data, file)
    expect_identical(as.character(read_units(file)$x), c("'=1+1", "-2", "'@sum", "plain", "'-a"))
  }
  carefultwin:::write_csv(data, file.path(folder, "b.csv"))
  expect_match(readLines(file.path(folder, "b.csv")), "'=1+1", fixed = TRUE, all = FALSE)
})
