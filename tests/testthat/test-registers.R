# One toy of each kind, added through its register alone, and used from the question to the report.

# Weighs towards those whose score is near 1/2, more sharply than e(1 - e).
sharp_estimand <- function() {
  new_estimand("those whose treatment was a toss-up", "score", tilt = function(e) (e * (1 - e))^2,
               slope = function(e) 2 * e * (1 - e) * (1 - 2 * e))
}

# Inverse weights of a score whose chances are all halved towards 1/2.
shrunk_weighing <- function() {
  half <- function(e) (e + 0.5) / 2
  new_weighing(
    "shrunk weights", arguments = "stabilise", by_score = TRUE,
    make = function(x, asked, call) {
      check_score(x, "weigh_units", call)
      study <- study_of(x)
      list(weight = core_inverse_weight(half(x$score$fitted), study$z, study$estimand), weighing = list())
    },
    nuisance = function(design, s) {
      study <- design$study
      slope <- core_inverse_weight_slope(half(design$score$fitted), study$z, study$estimand) / 2
      score_function_nuisance(design, slope)
    }
  )
}

# Half-way between the difference and the regression.
halfway_estimator <- function() {
  new_estimator(
    "a half-way mean", arguments = "model", models = TRUE,
    means = function(block, units, asked, call) {
      parts <- list(difference_means(block$x, units, asked), regression_means(block, units, asked, call))
      list(estimate = (parts[[1L]]$estimate + parts[[2L]]$estimate) / 2,
           influence = function() (parts[[1L]]$influence() + parts[[2L]]$influence()) / 2)
    }
  )
}

toys <- function(env = parent.frame()) {
  local_entry("estimands", "TOSS", sharp_estimand(), env)
  local_entry("weighings", "shrunk", shrunk_weighing(), env)
  local_entry("estimators", "halfway", halfway_estimator(), env)
}

test_that("a toy estimand has weights, effects by every estimator that needs no more, and words", {
  toys()
  data <- many_crews()
  study <- study_of_many(data, estimand = "TOSS")
  scored <- score_units(study)
  e <- scored$score$fitted
  h <- (e * (1 - e))^2
  design <- weigh_units(scored)
  expect_equal(weights(design), ifelse(data$joined == 1, h / e, h / (1 - e)))
  expect_match(paste(format(study), collapse = " "), "toss-up")
  fit <- function(arm) predict(lm(income ~ boat + past + port, data, subset = joined == arm), data)
  gain <- fit(1) - fit(0)
  expect_equal(difference_of(measure_effect(scored, estimator = "regression")), weighted.mean(gain, h))
  gap <- influence_gap(function(data) {
    measure_effect(score_units(study_of_many(data, weight = "s", estimand = "TOSS")), estimator = "augmented")
  })
  expect_lt(gap, 1e-5)
  expect_error(pair_units(scored), "TOSS", class = "twin_error_unsupported")
  expect_error(weigh_units(study, "entropy"), "TOSS", class = "twin_error_unsupported")
})

test_that("a toy weighting method is weighed, judged and measured, its estimation accounted for", {
  toys()
  data <- many_crews()
  design <- weigh_units(score_units(study_of_many(data)), "shrunk", stabilise = TRUE)
  e <- (design$score$fitted + 0.5) / 2
  share <- mean(data$joined)
  expect_equal(weights(design), ifelse(data$joined == 1, share, (1 - share) * e / (1 - e)))
  expect_match(paste(format(design), collapse = " "), "shrunk weights \\(ATT, stabilised\\)")
  expect_true(is.finite(glance(assess_balance(design))$worst_smd))
  gap <- influence_gap(function(data) {
    measure_effect(weigh_units(score_units(study_of_many(data, weight = "s")), "shrunk"), estimator = "augmented")
  })
  expect_lt(gap, 1e-5)
  expect_error(weigh_units(score_units(study_of_many()), "shrunk", tolerance = 1), "no use", class = "twin_error_input")
  drawn <- measure_effect(design, inference = "bootstrap", draws = 5)
  expect_true(all(is.finite(tidy(drawn)$std.error)))
})

test_that("a toy estimator has standard error, options, words and refusals", {
  toys()
  design <- weigh_units(score_units(study_of_many(cluster = "harbour")))
  toy <- measure_effect(design, estimator = "halfway")
  both <- c(difference_of(measure_effect(design)), difference_of(measure_effect(design, estimator = "regression")))
  expect_equal(difference_of(toy), mean(both))
  expect_lt(influence_gap(function(data) {
    measure_effect(weigh_units(score_units(study_of_many(data, weight = "s"))), estimator = "halfway")
  }), 1e-5)
  expect_match(paste(format(toy), collapse = " "), "estimated by a half-way mean with linear models")
  expect_error(measure_effect(design, estimator = "halfway", quantiles = 0.5), "no use", class = "twin_error_input")
  reused <- pair_units(score_units(study_of_many()), replacement = TRUE)
  expect_error(measure_effect(reused, estimator = "halfway"), "replacement", class = "twin_error_unsupported")
})

test_that("toys stand in a plan and its report as everything else does", {
  toys()
  folder <- plan_folder(function(lines) {
    lines <- sub("estimand: ATT", "estimand: TOSS", slim(lines))
    lines <- sub("[score, weigh]", "[score, weigh: {method: shrunk}]", lines, fixed = TRUE)
    sub("  weights: {design: weights}", "  weights: {design: weights, estimator: halfway}", lines, fixed = TRUE)
  })
  result <- twin("run", file.path(folder, "plan.yml"))
  expect_identical(result$status, 0L, label = paste(result$err, collapse = " "))
  table <- data.table::fread(file.path(folder, "results/tables/effects-income.csv"), data.table = FALSE)
  study <- study_of_many(cluster = "harbour", outcome = c("income", "direct"), estimand = "TOSS")
  expect_equal(table$estimate, difference_of(measure_effect(weigh_units(score_units(study), "shrunk"),
                                                            estimator = "halfway")))
  page <- paste(readLines(file.path(folder, "results/report.html")), collapse = " ")
  expect_match(page, "toss-up")
  expect_match(page, "shrunk weights")
  expect_match(page, "half-way mean")
})

test_that("toy formats are written and read", {
  local_entry("unit_formats", "pipes", new_unit_format(
    read = function(path, settings) utils::read.table(path, sep = "|", header = TRUE),
    write = function(data, path) utils::write.table(data, path, sep = "|", row.names = FALSE),
    complete = function(path, data) length(readLines(path)) == nrow(data) + 1L, reader = "utils"
  ))
  local_entry("table_formats", "txt", new_table_format(function(parts, file) {
    writeLines(c(parts$caption, names(parts$table)), file)
  }))
  folder <- withr::local_tempdir()
  data <- many_crews(20)[c("boat", "port")]
  write_units(data, file.path(folder, "a.pipes"))
  expect_equal(read_units(file.path(folder, "a.pipes")), data)
  export_table(describe_groups(study_of_many()), file.path(folder, "a.txt"))
  expect_match(readLines(file.path(folder, "a.txt")), "Covariate", all = FALSE)
})

test_that("a toy learner, probe and estimator over time are used by name", {
  local_entry("learners", "mean", new_learner("stats", function(x, y, weight, numbers) weighted.mean(y, weight),
                                              function(model, x, numbers) rep(model, nrow(x))))
  scored <- score_units(study_of_many(), learners = c("mean", "logit"))
  expect_identical(tidy(scored, part = "learners")$learner, c("mean", "logit", "stack"))
  local_entry("did_estimators", "first", new_did_estimator(
    "the first cell alone", character(), adjustments = "none",
    estimate = function(panel, y, asked, call) {
      found <- estimate_group_time(panel, y, utils::modifyList(asked, list(comparison = "never", base = "previous")))
      keep <- which(is.finite(found$estimate) & found$cells$kind == "post")[1L]
      list(cells = NULL, estimate = c(difference = found$estimate[[keep]]),
           source = core_block_source(found$source$data, found$source$block, lapply(
             found$source$coefficients, function(own) own[, keep, drop = FALSE]
           )), size = NULL, fixed = TRUE, cluster = found$cluster, notes = NULL)
    }
  ))
  toy <- measure_did(harbour_panel(), estimator = "first")
  cells <- measure_did(harbour_panel(), adjustment = "none")
  at <- which(tidy(cells)$kind == "post")[1]
  expect_equal(tidy(toy)$estimate, tidy(cells)$estimate[at])
  # one number of 20 clusters against two cohorts of 10
  expect_equal(tidy(toy)$std.error^2 * 19 / 20, tidy(cells)$std.error[at]^2 * 9 / 10)
  expect_match(paste(format(toy), collapse = " "), "estimated by the first cell alone")
})

test_that("every entry of the registers is whole", {
  expect_gte(length(estimands), 5)
  expect_true(all(vapply(estimands, function(entry) is.function(entry$tilt) && nzchar(entry$words), NA)))
  expect_true(all(weighing_methods() %in% names(weighings)) && length(weighing_methods()) >= 5)
  expect_true(all(vapply(weighings[weighing_methods()], function(entry) is.function(entry$make), NA)))
  expect_true(all(vapply(estimators, function(entry) is.null(entry$means) == (entry$verb != "measure_effect"), NA)))
  expect_true(all(vapply(probes, function(entry) exists(entry$verb, asNamespace("carefultwin")), NA)))
  expect_true(all(vapply(unit_formats, function(entry) is.function(entry$read) || is.function(entry$write), NA)))
})

test_that("no method, estimator or estimand is asked for by name outside its register", {
  root <- source_root()
  skip_if(is.null(root), "the source tree is not here")
  registers <- c("core-estimands.R", "design-weighings.R", "effect-estimators.R", "did-estimators.R", "probe-kinds.R")
  files <- setdiff(list.files(file.path(root, "R"), "[.]R$"), registers)
  expect_gt(length(files), 50)
  found <- unlist(lapply(files, function(file) {
    lines <- sub("#.*", "", readLines(file.path(root, "R", file)))
    hits <- grep("(estimand|estimator|method)\\S* (==|!=|%in%) (c\\()?\"|switch\\(\\S*(estimand|estimator|weighing\\$method)",
                 lines, value = TRUE)
    if (length(hits) > 0L) paste(file, trimws(hits))
  }))
  # arguments of a verb that belong to one method; whom an estimand is about; where a score came from
  allowed <- "method(\\[1L\\])? == \"(own|exact|cardinality|full|coarsened|inverse)\"|population_of|settings\\$source"
  expect_identical(grep(allowed, found, value = TRUE, invert = TRUE), character())
})
