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

test_that("searched by boxes, the nearest are those of brute force: ties, exact groups, partners, with and without replacement", {
  n <- c(240, 700)
  p <- 9
  points <- withr::with_seed(7, lapply(n, function(k) cbind(matrix(round(rnorm(k * (p - 2)), 1), k), sample(0:1, k, TRUE), sample(0:2, k, TRUE))))
  group <- withr::with_seed(8, sample(0:1, sum(n), TRUE))
  candidates <- withr::with_seed(9, matrix(exp(runif(p * 4, log(1e-3), log(1e3))), p))
  value <- withr::with_seed(10, lapply(n, rnorm))
  judged <- function(partners, replacement, group, line = NULL) {
    task <- core_search_task(points[[1]], points[[2]], cbind(value[[1]]), cbind(value[[2]]), 1, TRUE, rep(1, n[1]), rep(1, n[2]), "smd",
                             partners, replacement, seq_len(n[1]), group, line)
    core_judge_metrics(task, candidates, threads = 2L)$worst
  }
  by_hand <- function(m, partners, replacement, group) {
    d <- Reduce(`+`, lapply(seq_len(p), function(j) m[j] * outer(points[[1]][, j], points[[2]][, j], "-")^2))
    if (!is.null(group)) d[outer(group[seq_len(n[1])], group[-seq_len(n[1])], "!=")] <- Inf
    w <- numeric(n[2])
    inside <- numeric(n[1])
    if (replacement) {
      for (i in seq_len(n[1])) {
        near <- which(d[i, ] <= sort(d[i, ])[partners] * (1 + 2e-12))
        w[near] <- w[near] + 1 / length(near)
      }
      inside[] <- 1
    } else {
      found <- vector("list", n[1])
      for (turn in seq_len(partners)) for (i in seq_len(n[1])) {
        if (length(found[[i]]) < turn - 1 || all(is.infinite(d[i, ]))) next
        j <- which.min(d[i, ])
        found[[i]] <- c(found[[i]], j)
        d[, j] <- Inf
      }
      for (i in which(lengths(found) > 0)) w[found[[i]]] <- w[found[[i]]] + 1 / length(found[[i]])
      inside[lengths(found) > 0] <- 1
    }
    abs(weighted.mean(value[[1]], inside) - weighted.mean(value[[2]], w))
  }
  for (grouped in list(NULL, group)) for (partners in 1:2) for (replacement in c(TRUE, FALSE)) {
    expect_equal(judged(partners, replacement, grouped),
                 apply(candidates, 2, by_hand, partners, replacement, grouped), info = paste(partners, replacement))
  }
  far <- list(seekers = rep(0, n[1]), pool = rep(c(0, 9), length.out = n[2]), width = 1)  # every other of the pool is out
  near_only <- core_search_task(points[[1]], points[[2]][c(TRUE, FALSE), ], cbind(value[[1]]), cbind(value[[2]][c(TRUE, FALSE)]), 1, TRUE,
                                rep(1, n[1]), rep(1, n[2] / 2), "smd", 1, TRUE, seq_len(n[1]), NULL, NULL)
  expect_equal(judged(1, TRUE, NULL, far), core_judge_metrics(near_only, candidates, threads = 1L)$worst)
})
