# How often model matrices and balance moments are made. The package's own function is wrapped while a test runs.
count_calls <- function(name, code) {
  namespace <- asNamespace("carefultwin")
  made <- get(name, envir = namespace)
  calls <- 0
  change <- function(value) {
    unlockBinding(name, namespace)
    assign(name, value, envir = namespace)
    lockBinding(name, namespace)
  }
  change(function(...) {
    calls <<- calls + 1
    made(...)
  })
  on.exit(change(made))
  force(code)
  calls
}

test_that("from frame to augmented effect at most two model matrices are made, and none by the probes", {
  effect <- NULL
  expect_lte(count_calls("covariate_matrix", {
    design <- weigh_units(score_units(study_of_many(cluster = "harbour")))
    assess_balance(design)
    effect <- measure_effect(design, estimator = "augmented")
  }), 2)
  expect_lte(count_calls("covariate_matrix", probe_effect(effect, draws = 0)), 2)
  pairs <- measure_effect(pair_units(score_units(study_of_many())))
  expect_lte(count_calls("covariate_matrix", probe_effect(pairs, draws = 0)), 2)
})

test_that("a design's balance moments are made once, for its log, prints, effects and table", {
  scored <- score_units(study_of_many())
  design <- NULL
  expect_identical(count_calls("numeric_moments", design <- weigh_units(scored)), 2)  # boat and past
  expect_identical(count_calls("numeric_moments", {
    format(design)
    measure_effect(design)
    assess_balance(design)
  }), 0)
})

test_that("the kept matrix is the one made anew, with factors, missing values and covariates left out", {
  data <- many_crews()
  data$past[c(3, 50)] <- NA
  data$port[c(7, 90)] <- NA
  study <- study_of_many(data)
  whole <- study_matrix(study)
  expect_identical(whole, covariate_matrix(study$columns))
  for (name in names(study$columns)) {
    left <- carefultwin:::study_without(study, name)
    expect_identical(study_matrix(left), covariate_matrix(left$columns))
  }
  some <- carefultwin:::study_rows(study, c(5, 2, 2))
  expect_identical(study_matrix(some), covariate_matrix(some$columns))
})

test_that("what does not fit is not kept", {
  withr::local_options(carefultwin.cache_mb = 0)
  study <- study_of_many()
  expect_identical(count_calls("covariate_matrix", {
    study_matrix(study)
    study_matrix(study)
  }), 2)
  withr::local_options(carefultwin.cache_mb = -1)
  expect_error(study_matrix(study), "carefultwin.cache_mb", class = "twin_error_input")
})

test_that("errors are the same where the matrix is not kept and its columns are taken one by one", {
  data <- many_crews()
  data$past[seq(3, 150, 7)] <- NA
  data$port[seq(7, 150, 11)] <- NA
  se <- function() tidy(measure_effect(weigh_units(score_units(study_of_many(data, weight = "s")))))$std.error
  kept <- se()
  withr::local_options(carefultwin.cache_mb = 0)
  expect_equal(se(), kept, tolerance = 1e-12)
})

test_that("objects change by fields they have", {
  study <- study_of_many()
  expect_identical(amend(study, s = NULL)$s, NULL)
  expect_error(amend(study, wieght = 1))
  effect <- amend_effect(measure_effect(study), df = 5)
  expect_identical(glance(effect)$df, 5)
})
