# Who gains: scores and what is read off them, against loops, closed forms and known truth.

gaining <- function(n = 600, seed = 1, slope = 0.8) {
  withr::with_seed(seed, {
    data <- data.frame(size = rnorm(n), depth = rnorm(n), gear = sample(c("nets", "lines", "pots"), n, TRUE),
                       bay = rep_len(1:40, n))
    data$joined <- rbinom(n, 1, plogis(0.5 * data$size))
    data$income <- 2 * data$size + data$joined * (1 + slope * data$size + (data$gear == "pots")) + rnorm(n, sd = 0.7)
    data$sold <- rbinom(n, 1, plogis(0.3 * data$joined))
    data
  })
}

gaining_study <- function(data = gaining(), ...) {
  frame_study(data, "joined", c("income", "sold"), covariates = ~ size + depth + gear, treated = 1, ...)
}

test_that("scores, predictors, groups and values are what loops give", {
  withr::local_seed(2)
  n <- 50
  y <- rnorm(n); z <- rbinom(n, 1, 0.5); m1 <- rnorm(n); m0 <- rnorm(n); v <- runif(n, 1, 3); s <- runif(n)
  g <- core_unit_scores(y, z, m1, m0, v, rep(1, n))
  by_hand <- vapply(seq_len(n), function(i) m1[i] - m0[i] + (if (z[i] == 1) v[i] * (y[i] - m1[i]) else -v[i] * (y[i] - m0[i])), 0)
  expect_equal(g, by_hand)
  x <- cbind(1, rnorm(n), rnorm(n))
  found <- core_effect_predictor(x, g, rep(1, n), s)
  fit <- lm(g ~ x - 1, weights = s)
  expect_equal(unname(found$estimate), unname(coef(fit)))
  sandwich <- solve(crossprod(x, s * x)) %*% crossprod(s * resid(fit) * x) %*% solve(crossprod(x, s * x))
  expect_equal(crossprod(found$influence) / n^2, sandwich, ignore_attr = TRUE)
  # treated alone: t is treatment
  treated <- core_effect_predictor(x, g, z, s)
  expect_equal(drop(crossprod(x, s * (g - z * drop(x %*% treated$estimate)))), rep(0, 3), tolerance = 1e-10)
  member <- cbind(z, 1 - z)
  among <- core_effects_among(member, g, rep(1, n), s)
  expect_equal(unname(among$estimate), c(weighted.mean(g[z == 1], s[z == 1]), weighted.mean(g[z == 0], s[z == 0])))
  fold <- rep(1:2, each = n / 2)
  above <- core_share_above(x[, 2], s, fold, seq_len(n))
  i <- 7
  peers <- which(fold == fold[i])
  expect_equal(above[i], (sum(s[peers][x[peers, 2] > x[i, 2]]) + s[i] / 2) / sum(s[peers]))
  curve <- core_targeting(above, g, rep(1, n), s, c(0.3, 1))
  expect_equal(curve$estimate[1], weighted.mean(g[above <= 0.3], s[above <= 0.3]) - weighted.mean(g, s))
  expect_equal(curve$estimate[2], 0)
  # derivatives of every number in a unit's weight
  of <- function(s) {
    among <- core_effects_among(member, g, rep(1, n), s)$estimate
    c(core_effect_predictor(x, g, rep(1, n), s)$estimate, among, core_value_of(z, g, rep(1, n), s)$estimate)
  }
  influence <- cbind(found$influence, among$influence, core_value_of(z, g, rep(1, n), s)$influence)
  for (i in c(3, 20)) {
    step <- 1e-6
    moved <- (of(replace(s, i, s[i] + step)) - of(replace(s, i, s[i] - step))) / (2 * step)
    expect_equal(unname(moved * s[i]), unname(influence[i, ] / n), tolerance = 1e-6)
  }
  test <- core_calibration(x[, 2], g, rep(1, n), s, fold)
  own <- lapply(1:2, function(k) {
    at <- fold == k
    data.frame(g = g[at] - weighted.mean(g[at], s[at]), x = x[at, 2] - weighted.mean(x[at, 2], s[at]), s = s[at])
  })
  expect_equal(test$estimate[2], unname(coef(lm(g ~ x - 1, do.call(rbind, own), weights = s))))
})

test_that("rules are the best of all rules of two questions, and keep to their budget", {
  withr::local_seed(3)
  for (trial in 1:20) {
    n <- 40
    kind <- sample(3, n, TRUE)
    size <- sample(4, n, TRUE)
    questions <- list(code = list(kind, size), yes = list(diag(3), outer(1:3, 1:4, `<`) * 1))
    yes <- cbind(kind == 1, kind == 2, kind == 3, size > 1, size > 2, size > 3) * 1
    g <- rnorm(n, 0.2)
    t <- rbinom(n, 1, 0.8)
    s <- runif(n)
    sums <- core_question_sums(g, t, s, questions)
    expect_equal(sums$gains, crossprod(yes, s * g * yes))
    expect_equal(sums$sizes, crossprod(yes, s * t * yes))
    for (k in 1:6) expect_equal(core_answers(questions, k, 1:n), yes[, k] == 1)
    best <- 0
    leaves <- as.matrix(expand.grid(rep(list(0:1), 4)))
    for (a in 1:6) for (b in 1:6) for (d in 1:6) {
      leaf <- ifelse(yes[, a] == 1, ifelse(yes[, b] == 1, 1, 2), ifelse(yes[, d] == 1, 3, 4))
      gain <- vapply(1:4, function(k) sum((s * g)[leaf == k]), 0)
      best <- max(best, max(leaves %*% gain))
    }
    treated_by <- function(depth, budget = 1) core_rule_answer(core_shallow_rule(sums, depth, budget), questions, seq_len(n))
    expect_equal(sum(s * g * treated_by(2)), best)
    by_one <- max(vapply(1:6, function(a) max(sum((s * g)[yes[, a] == 1]), 0) + max(sum((s * g)[yes[, a] == 0]), 0), 0))
    expect_equal(sum(s * g * treated_by(1)), by_one)
    expect_equal(treated_by(0), rep(as.double(sum(s * g) > 0), n))
    expect_lte(sum(s * t * treated_by(2, 0.3)) / sum(s * t), 0.3 + 1e-12)
  }
})

test_that("the average is the cross-fitted effect, and variation is found where it is", {
  study <- gaining_study()
  found <- measure_variation(study, learners = "logit", outcome = "income", seed = 4)
  average <- tidy(found, part = "predictor")[1L, ]
  crossfit <- measure_effect(study, outcome = "income", estimator = "crossfit", learners = "logit", repeats = 1, seed = 4)
  row <- tidy(crossfit)[tidy(crossfit)$term == "difference", ]
  expect_equal(average$estimate, row$estimate, tolerance = 0.01)
  expect_equal(average$std.error, row$std.error, tolerance = 0.03)
  expect_true(glance(found)$varies)
  slope <- tidy(found, part = "predictor")
  expect_lt(abs(slope$estimate[slope$term == "size"] - 0.8), 3 * slope$std.error[slope$term == "size"])
  expect_lt(tidy(found)$p.value[tidy(found)$column == "size"], 1e-6)
  expect_gt(tidy(found)$p.value[tidy(found)$column == "depth"], 0.001)
  levels <- tidy(found, part = "levels")
  gear <- levels[levels$column == "gear", ]
  expect_identical(gear$level, c("lines", "nets", "pots"))
  expect_equal(sum(gear$share), 1)
  expect_equal(sum(gear$share * gear$estimate), average$estimate, tolerance = 1e-8)
  units <- augment(found)
  expect_equal(mean(units$.score[study$z[units$.row] == 1]) * mean(study$z), mean(units$.score), tolerance = 1)
  expect_equal(sum(is.na(units$.predicted)) / nrow(units), 0.2, tolerance = 0.02)
  expect_gt(cor(units$.predicted, gaining()$size[units$.row], use = "complete"), 0.7)
  groups <- tidy(found, part = "groups")
  expect_gt(groups$estimate[groups$group == "last less first"], 1)
  expect_identical(measure_variation(study, learners = "logit", outcome = "income", seed = 4)$tables, found$tables)
  text <- gsub("\\s+", " ", paste(format(found), collapse = " "))
  expect_match(text, "The effect varies (the columns together adjusted p < 0.001", fixed = TRUE)
  expect_match(text, "A standard deviation more of predicted effect goes with [0-9.]+ more of effect")
  expect_match(text, "Rule of at most 2 questions: treat where .*size >")
  expect_true(all(nchar(format(found)) <= 80))
  for (view in c("columns", "groups", "targeting")) expect_s3_class(plot(found, view = view), "ggplot")
})

test_that("a curve along a number bends more often the more units there are, and holds an effect that bends", {
  bends <- function(n, values = qnorm(ppoints(n))) curve_basis(list(values = values, flag = NULL), rep(1, n))$bends
  expect_identical(vapply(c(600, 1000, 4000, 1e5), bends, 0L), c(5L, 5L, 6L, 11L))
  expect_identical(bends(1e5, rep_len(1:6, 1e5)), 5L)
  bent <- withr::with_seed(4, {
    size <- rnorm(40000)
    joined <- rbinom(40000, 1, plogis(0.5 * size))
    data.frame(size, joined, income = size + joined * exp(-size^2) + rnorm(40000))
  })
  study <- frame_study(bent, "joined", "income", "size", estimand = "ATE", treated = 1)
  along <- tidy(measure_variation(study, learners = "logit", folds = 3), part = "levels")
  truth <- exp(-along$at^2)
  # a spline of two knots is off by 0.2 here
  expect_lt(max(abs(along$estimate - truth)), 0.1)
  expect_true(all(along$band.low < truth & truth < along$band.high))
})

test_that("a number that whom the effect is of hardly differ in is told where they are", {
  data <- withr::with_seed(2, {
    joined <- rbinom(600, 1, 0.4)
    spread <- sample(seq(0, 6, 0.5), 600, TRUE)
    size <- rnorm(600)
    data.frame(joined, spread, size, income = spread + size + joined * (1 + size) + rnorm(600))
  })
  among <- function(values) {
    data$spread[data$joined == 1] <- rep_len(values, sum(data$joined))
    measure_variation(frame_study(data, "joined", "income", c("spread", "size")), learners = "logit", folds = 3)
  }
  alone <- among(3)
  row <- tidy(alone, part = "levels")
  row <- row[row$column == "spread", ]
  expect_identical(row$at, 3)
  expect_equal(row$estimate, glance(alone)$average)
  expect_identical(tidy(alone)$p.value[1], NA_real_)
  expect_lt(tidy(alone)$p.value[2], 1e-6)
  two <- among(c(2, 4))
  expect_identical(tidy(two, part = "levels")$at[1:2], c(2, 4))
  expect_identical(tidy(two)$df[1], 1)
})

test_that("no variation is called none; several outcomes, costs, budgets, clusters and weights are taken", {
  data <- gaining(800, seed = 7, slope = 0)
  data$income <- data$income - data$joined * (data$gear == "pots")
  data$cost <- ifelse(data$size > 0, 5, 0)
  data$s <- 1 + (data$depth > 0)
  study <- gaining_study(data, cluster = "bay", weight = "s", estimand = "ATE")
  found <- measure_variation(study, columns = c("size", "gear"), outcome = c("income", "sold"), learners = "logit", costs = "cost",
                             budget = 0.4, folds = 3, groups = 2, depth = 1, repeats = 3, adjust = "bh")
  expect_false(any(glance(found)$varies))
  text <- gsub("\\s+", " ", paste(format(found), collapse = " "))
  expect_match(text, "No variation was found")
  expect_match(text, "no proof that all gain alike")
  expect_match(text, "net of costs")
  expect_match(text, "The budget is 40%")
  expect_match(text, "clustered by bay (40)", fixed = TRUE)
  expect_match(text, "medians over 3 draws of folds")
  expect_match(text, "neither is a reason to leave units out")
  values <- tidy(found, part = "rule")
  expect_true(all(values$share[values$treated != "everybody"] <= 0.45))
  expect_match(found$rules[["income"]], "size <=")
  expect_identical(unique(tidy(found, part = "groups")$group), c("1", "2", "last less first"))
  expect_equal(tidy(found)$p.adjusted, p.adjust(tidy(found)$p.value, "BH"))
  whole <- measure_variation(weigh_units(study, "entropy"), columns = "size", learners = "logit", folds = 3)
  expect_lt(abs(tidy(whole, part = "predictor")$estimate[1L] - 1), 0.25)
  controls <- measure_variation(gaining_study(data, estimand = "ATC"), columns = "size", outcome = "income", learners = "logit", folds = 3)
  expect_match(format(controls)[1L], "vary among")
  expect_lt(abs(tidy(controls, part = "predictor")$estimate[1L] - 1), 0.25)
})

test_that("what the demo crews gain by is found", {
  study <- frame_study(crews, "joined", "income", covariates = ~ boat_length + crew_size + port_size + gear + in_debt + past_income + market_km)
  found <- measure_variation(study, learners = "logit")
  slopes <- tidy(found, part = "predictor")
  holds <- function(term, truth) with(slopes[slopes$term == term, ], conf.low < truth && truth < conf.high)
  expect_true(holds("market_km", 0.10))  # data-raw/crews.R
  expect_true(holds("crew_size", -0.5))
  expect_lt(tidy(found)$p.adjusted[tidy(found)$column == "market_km"], 0.01)
  expect_lt(glance(found)$adjusted_prediction, 0.01)
})

test_that("trees and forests alone are warned of, with what to put beside them", {
  study <- gaining_study()
  heard <- expect_warning(found <- measure_variation(study, learners = "tree", folds = 3, depth = 0), "17 of 100",
                          class = "twin_warning_learner")
  expect_identical(heard$learners, "tree")
  words <- cli::ansi_strip(conditionMessage(heard))
  expect_match(words, "\"tree\" follows slopes slowly: scores of units by it alone")
  expect_match(words, "learners = c(\"logit\", \"tree\")", fixed = TRUE)
  two <- tryCatch(measure_variation(study, learners = c("tree", "forest"), folds = 3), twin_warning = conditionMessage)
  expect_match(cli::ansi_strip(two), "follow slopes slowly: scores of units by them alone")
  expect_no_warning(measure_variation(study, learners = c("logit", "tree"), folds = 3, depth = 0), class = "twin_warning_learner")
})

test_that("what can't be asked is refused", {
  study <- gaining_study()
  refused <- function(code, words, class = "twin_error_input") expect_error(code, words, class = class)
  refused(measure_variation(study, columns = "income"), "treatment or outcome")
  refused(measure_variation(study, columns = "sise"), "size")
  refused(measure_variation(study, columns = character()), "must name columns")
  refused(measure_variation(study, folds = 2), "folds")
  refused(measure_variation(study, depth = 3), "0, 1 or 2")
  refused(measure_variation(study, budget = 0), "above 0")
  refused(measure_variation(study, costs = "gear"), "column of numbers")
  refused(measure_variation(study, learners = "forrest"), "forest")
  still <- transform(gaining(), same = 1)
  refused(measure_variation(gaining_study(still), columns = "same"), "does not vary|constant")
  refused(measure_variation(pair_units(score_units(study))), "not of pairs", "twin_error_unsupported")
  refused(measure_variation(gaining_study(estimand = "ATO")), "defined by the score", "twin_error_unsupported")
  arms <- frame_arms(transform(gaining(), gear = factor(gear)), "gear", "income", covariates = ~ size, reference = "nets")
  refused(measure_variation(arms), "two arms", "twin_error_unsupported")
  expect_false("open" %in% as.data.frame(logbook(study))$verb)
})

test_that("plans, scripts and reports tell who gains", {
  folder <- withr::local_tempdir()
  write_units(gaining(300), file.path(folder, "a.csv"))
  plan <- file.path(folder, "plan.yml")
  writeLines(c("study:", "  data: a.csv", "  treatment: joined", "  treated: 1", "  outcome: income",
               "  covariates: [size, depth, gear]", "designs:", "  weights: [score, weigh]", "effects:", "  weights: {design: weights}",
               "variation:", "  who: {design: weights, columns: [size, gear], learners: logit, folds: 3}"), plan)
  out <- twin("run", plan)
  expect_identical(out$status, 0L)
  expect_match(paste(out$out, collapse = " "), "Who gains: does the effect of joined")
  results <- file.path(folder, "results")
  expect_true(any(grepl("variation-who", list.files(file.path(results, "tables")))))
  html <- paste(readLines(file.path(results, "report.html")), collapse = "\n")
  expect_true(grepl("<h2[^>]*>Who gains", html))
  words <- paste(readLines(file.path(results, "methods.md")), collapse = " ")
  expect_match(words, "Whether the effect on income varies was asked of augmented scores of units \\(Kennedy, 2023\\)")
  script <- carefultwin:::plan_script(read_plan(plan))
  expect_match(paste(script, collapse = "\n"), "variations[[\"who\"]] <- measure_variation(designs[[\"weights\"]]", fixed = TRUE)
  lines <- sub("folds: 3", "fold: 3", readLines(plan))
  writeLines(lines, plan)
  expect_match(paste(twin("run", plan)$err, collapse = " "), "Did you mean \"folds\"")
})
