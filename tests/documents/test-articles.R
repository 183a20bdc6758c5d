# The code of every article runs, each on its own.
articles <- function() {
  root <- source_root()
  if (is.null(root) || !dir.exists(file.path(root, "vignettes"))) skip("the source tree is not here")
  list.files(file.path(root, "vignettes"), "[.]Rmd$", full.names = TRUE)
}

run_alone <- function(name) {
  file <- articles()[basename(articles()) == paste0(name, ".Rmd")]
  expect_length(file, 1)
  env <- new.env()
  sys.source(file.path(source_root(), "tools", "readme.R"), env)
  withr::local_options(width = 80, cli.num_colors = 1L)
  env$run_article(file)
}

test_that("there is an article for every stage, and Methods", {
  expect_setequal(tools::file_path_sans_ext(basename(articles())), c(
    "before-the-outcome", "weighting", "matching", "effects", "difference-in-differences", "hidden-bias", "methods", "paper",
    "other-habits", "database", "desk", "imputed", "doses", "courses", "arms"
  ))
})

test_that("every article starts with its question and a picture, and ends with what to write in the paper", {
  for (file in articles()) {
    lines <- readLines(file)
    body <- lines[-seq_len(which(lines == "---")[2])]
    question <- grep("^\\*\\*.*\\?\\*\\*$", body)[1]
    picture <- grep("fig.alt", body, fixed = TRUE)[1]
    expect_lt(question, 8, label = basename(file))
    expect_lt(picture - question, 4, label = basename(file))
    headings <- grep("^## ", body, value = TRUE)
    expect_identical(headings[length(headings)], "## What to write in the paper", label = basename(file))
  }
})

test_that("before the outcome: covariates come from the graph, the outcome stays sealed", {
  skip_if_not_installed("mgcv")
  made <- run_alone("before-the-outcome")
  expect_s3_class(made$beliefs, "twin_graph")
})

test_that("weighting: the designs hold the truth", {
  skip_if_not_installed("mgcv")
  made <- run_alone("weighting")
  expect_gt(length(made$designs), 4)
  expect_true(all(vapply(made$effects, function(effect) is.finite(coef(effect)[["difference"]]), NA)))
})

test_that("matching: pairs are balanced and plotted", {
  made <- run_alone("matching")
  expect_lt(glance(assess_balance(made$pairs))$worst_smd, 0.1)
})

test_that("imputed: the pooled interval holds the truth", {
  skip_if_not_installed("mice")
  made <- run_alone("imputed")
  expect_s3_class(made$study, "twin_imputed")
  limits <- confint(made$effect)["difference", ]
  expect_true(limits[1] < 8.68 && 8.68 < limits[2])
})

test_that("doses and courses: intervals hold the truth, ordinary ways do not", {
  made <- run_alone("doses")
  truth <- diff(carefultwin::ice_truth$mean[c(2, 5)])
  row <- tidy(made$response, part = "contrasts")[1, ]
  expect_true(row$conf.low < truth && truth < row$conf.high)
  made <- run_alone("courses")
  truth <- diff(rev(carefultwin::seasons_truth$mean[1:2]))
  row <- tidy(made$effect)[1, ]
  expect_true(row$conf.low < truth && truth < row$conf.high)
  expect_true(all(tidy(made$effect, part = "beside")$conf.high[2:3] < truth))
})

test_that("effects: groups and durations are measured", {
  skip_if_not_installed("ranger")
  made <- run_alone("effects")
  expect_s3_class(made$ports, "twin_effects")
  expect_s3_class(made$afloat, "twin_hazard")
})

test_that("difference-in-differences: the path, its parts and its bounds are made", {
  skip_if_not_installed("Rglpk")
  made <- run_alone("difference-in-differences")
  expect_s3_class(made$path, "twin_did")
  expect_s3_class(made$parts, "twin_decomposition")
  expect_s3_class(made$drift, "twin_probe_trends")
})

test_that("hidden bias: the probes are made", {
  made <- run_alone("hidden-bias")
  expect_s3_class(made$all, "twin_probe_effect")
  expect_s3_class(made$rivals, "twin_probe_choices")
})

test_that("data in a database: the effect is that of rows in memory", {
  skip_if_not_installed("RSQLite")
  made <- run_alone("database")
  local <- frame_study(crews, treatment = "joined", outcome = "income", cluster = "harbour",
                       covariates = c("boat_length", "crew_size", "port_size", "gear", "in_debt", "past_income", "market_km"))
  same <- measure_effect(weigh_units(score_units(local)), estimator = "augmented")
  expect_equal(unname(coef(made$effect)[["difference"]]), unname(coef(same)[["difference"]]), tolerance = 1e-9)
})
