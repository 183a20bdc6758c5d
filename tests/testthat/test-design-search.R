# One metric judged in plain R: nearest by the metric, ties shared, worst statistic of the weighted samples.
loss_by_hand <- function(data, weights, goal) {
  x <- scale(as.matrix(data[c("boat", "past")]))
  t <- which(data$joined == 1)
  c <- which(data$joined == 0)
  w <- as.double(data$joined)
  for (i in t) {
    d <- weights[1] * (x[c, 1] - x[i, 1])^2 + weights[2] * (x[c, 2] - x[i, 2])^2
    near <- c[d <= min(d) * (1 + 2e-12)]
    w[near] <- w[near] + 1 / length(near)
  }
  statistic <- function(name) {
    v <- data[[name]]
    if (goal == "smd") {
      return(abs(weighted.mean(v[t], w[t]) - weighted.mean(v[c], w[c])) / sd(v[t]))
    }
    at <- sort(unique(v))
    share <- function(rows) vapply(at, function(a) sum(w[rows] * (v[rows] <= a)) / sum(w[rows]), 0)
    max(abs(share(t) - share(c)))
  }
  max(statistic("boat"), statistic("past"))
}

test_that("candidates are judged as in plain R", {
  data <- many_crews(120)
  study <- study_of_many(data, covariates = c("boat", "past"))
  for (goal in c("smd", "ks")) {
    columns <- search_columns(study, NULL, FALSE)
    task <- search_task(study, columns, NULL, NULL, list(goal = goal, ratio = 1, replacement = TRUE))
    candidates <- withr::with_seed(1, matrix(exp(rnorm(20)), 2))
    judged <- core_judge_metrics(task, candidates, threads = 2)
    expect_equal(judged$worst, apply(candidates, 2, function(w) loss_by_hand(data, w, goal)), label = goal)
  }
})

test_that("the p-value goal is a z test of means and Kolmogorov's of distributions", {
  data <- many_crews(120)
  study <- study_of_many(data, covariates = "boat")
  task <- search_task(study, search_columns(study, NULL, FALSE), NULL, NULL,
                      list(goal = "p_value", ratio = 1, replacement = FALSE))
  design <- pair_units(study, on = "diagonal")
  v <- data$boat
  t <- pairs_of(design)$treated
  c <- pairs_of(design)$control
  n <- length(t)
  biased <- function(x) mean((x - mean(x))^2)
  means <- 2 * pnorm(-abs(mean(v[t]) - mean(v[c])) / sqrt(biased(v[t]) / n + biased(v[c]) / n))
  size <- sqrt(n / 2)
  lambda <- (size + 0.12 + 0.11 / size) * suppressWarnings(ks.test(v[t], v[c]))$statistic[[1]]
  distributions <- 2 * sum((-1)^(0:99) * exp(-2 * (1:100)^2 * lambda^2))
  expect_equal(core_judge_metrics(task, matrix(1))$worst, 1 - min(means, distributions))
})

test_that("a search finds better balance than equal weights, and pairing by its metric has that balance", {
  study <- study_of_many()
  searched <- search_metric(study, population = 30, generations = 10)
  expect_lt(min(searched$metric$history$best), searched$metric$plain)
  design <- pair_units(searched, on = "metric", replacement = TRUE)
  expect_equal(glance(assess_balance(design))$worst_smd, min(searched$metric$history$best))
  again <- pair_units(study, metric = searched, replacement = TRUE)
  expect_identical(pairs_of(again), pairs_of(design))
})

test_that("the same seed finds the same metric on any number of threads and leaves the session's stream alone", {
  withr::local_seed(5)
  before <- .Random.seed
  withr::local_options(carefultwin.threads = 1)
  one <- search_metric(study_of_many(), population = 12, generations = 3, seed = 4)
  withr::local_options(carefultwin.threads = 2)
  two <- search_metric(study_of_many(), population = 12, generations = 3, seed = 4)
  expect_identical(one$metric$weights, two$metric$weights)
  expect_identical(.Random.seed, before)
  other <- search_metric(study_of_many(), population = 12, generations = 3, seed = 5)
  expect_false(identical(other$metric$weights, one$metric$weights))
})

test_that("an interrupt keeps the best so far", {
  study <- study_of_many()
  task <- search_task(study, search_columns(study, NULL, FALSE), NULL, NULL,
                      list(goal = "smd", ratio = 1, replacement = TRUE))
  calls <- 0
  stops_at_third <- function(...) {
    calls <<- calls + 1
    if (calls == 3) rlang::interrupt()
    core_judge_metrics(...)
  }
  p <- ncol(task$seekers)
  found <- evolve_metric(task, p, 12, 50, 50, 1, judge = stops_at_third)
  expect_true(found$interrupted)
  expect_identical(nrow(found$history), 2L)
  expect_equal(core_judge_metrics(task, matrix(found$weights))$worst, found$history$best[2])
})

test_that("exact columns and a score caliper bind the matches of the search", {
  scored <- score_units(study_of_many())
  searched <- search_metric(scored, exact = "coast", caliper = 0.2, population = 12, generations = 2)
  design <- pair_units(searched, on = "metric", exact = "coast", caliper = 0.2, replacement = TRUE)
  expect_equal(glance(assess_balance(design))$worst_smd, min(searched$metric$history$best))
  expect_true("score" %in% tidy(searched, part = "metric")$column)
})

test_that("a search refuses what it can't do", {
  expect_error(search_metric(study_of_many(estimand = "ATE")), class = "twin_error_unsupported")
  expect_error(search_metric(study_of_many(), score = TRUE), class = "twin_error_input")
  expect_error(search_metric(study_of_many(), population = 3), class = "twin_error_input")
  expect_error(search_metric(score_units(study_of_many()), caliper = c(boat = 1)), class = "twin_error_input")
})
