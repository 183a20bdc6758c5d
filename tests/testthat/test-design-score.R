many_columns <- c("boat", "past", "port")

test_that("links give the fit of glm and say which they are", {
  data <- many_crews()
  for (link in c("probit", "cloglog")) {
    design <- score_units(study_of_many(data), link = link)
    reference <- glm(joined ~ boat + past + port, binomial(link), data, control = list(epsilon = 1e-14, maxit = 100))
    expect_equal(design$score$fitted, unname(fitted(reference)), tolerance = 1e-6, label = link)
    # glm reports expected information, we the observed one that the influence needs: they differ by O(1 / sqrt(n))
    expect_equal(tidy(design)$std.error, unname(sqrt(diag(vcov(reference)))), tolerance = 0.1, label = link)
  }
  expect_match(paste(format(design), collapse = " "), "complementary log-log, 4 terms")
})

test_that("heteroskedastic probit has its own formula for the scale, and nests the probit", {
  study <- study_of_many()
  design <- score_units(study, link = "heteroskedastic_probit", scale_model = ~ boat)
  table <- tidy(design)
  expect_identical(table$term[6], "log scale: boat")
  scale <- exp(-many_crews()$boat * table$estimate[6])
  x <- model.matrix(~ boat + past + port, many_crews())
  x <- cbind(x[, 1:3], x[, 4:5])
  expect_equal(design$score$fitted, pnorm(drop(x %*% table$estimate[1:5]) * scale), tolerance = 1e-8)
  expect_gt(design$score$loglik, score_units(study, link = "probit")$score$loglik)
  by_default <- score_units(study, link = "heteroskedastic_probit")
  expect_identical(tail(tidy(by_default)$term, 2), c("log scale: boat", "log scale: past"))
  expect_error(score_units(study_of_many(covariates = "port"), link = "heteroskedastic_probit"), "needs a `scale_model`",
               class = "twin_error_input")
})

# The ladder by brute force: glm on every candidate at every step.
brute_ladder <- function(data, linear, second) {
  loglik <- function(terms) {
    formula <- if (length(terms) == 0) joined ~ 1 else reformulate(terms, "joined")
    fit <- glm(formula, binomial, data, control = list(epsilon = 1e-12))
    c(as.numeric(logLik(fit)), fit$rank)
  }
  climb <- function(terms, candidates, bar) {
    while (length(candidates) > 0) {
      now <- loglik(terms)
      gains <- vapply(candidates, function(term) {
        with <- loglik(c(terms, term))
        2 * (with[1] - now[1]) / (with[2] - now[2])
      }, 0)
      if (max(gains) <= bar) break
      terms <- c(terms, candidates[which.max(gains)])
      candidates <- candidates[-which.max(gains)]
    }
    terms
  }
  chosen <- climb(character(), many_columns, linear)
  numeric <- setdiff(chosen, "port")
  pairs <- if (length(chosen) > 1) combn(chosen, 2, paste, collapse = ":")
  climb(chosen, c(sprintf("I(%s^2)", numeric), pairs), second)
}

test_that("the ladder climbs as glm on every candidate would", {
  for (seed in 1:6) {
    data <- many_crews(400, seed = seed)
    data$joined <- withr::with_seed(seed, rbinom(400, 1, plogis(0.5 * data$boat^2 - 0.5 + data$boat * (0.5 + 0.4 * data$past))))
    steps <- tidy(score_units(study_of_many(data), select = "ladder"), part = "steps")
    expect_identical(steps$term[steps$added & steps$step > 0], brute_ladder(data, 1, 2.71), label = paste("seed", seed))
  }
})

test_that("squares and products of terms that did not enter are tried on request, and named otherwise", {
  data <- many_crews(600, seed = 2)
  data$joined <- withr::with_seed(3, rbinom(600, 1, plogis(data$past^2 - 1)))
  data$noise <- withr::with_seed(4, rnorm(600))
  study <- study_of_many(data, covariates = c("boat", "past", "noise"))
  plain <- score_units(study, select = "ladder", model = ~ boat, thresholds = c(linear = 50, second = 2.71))
  expect_identical(tidy(plain, part = "steps")$term, c("boat", "noise", "I(boat^2)"))
  expect_match(paste(format(plain), collapse = " "), "past and noise did not enter, so no square or product of them was")
  all <- score_units(study, select = "ladder", model = ~ boat, thresholds = c(linear = 50, second = 50),
                     second_order = "all")
  steps <- tidy(all, part = "steps")
  # every square and product by glm, with the plain terms that it needs
  second <- c(sprintf("I(%s^2)", c("boat", "past", "noise")), "boat:past", "boat:noise", "past:noise")
  alone <- glm(joined ~ boat, binomial, data)
  gain <- vapply(second, function(term) {
    fit <- glm(reformulate(c("boat", all.vars(str2lang(term)), term), "joined"), binomial, data)
    (alone$deviance - fit$deviance) / (fit$rank - alone$rank)
  }, 0)
  expect_identical(steps$term[3], names(which.max(gain)))
  expect_equal(steps$statistic[3], max(gain), tolerance = 1e-6)
  expect_setequal(tidy(all)$term, c("(intercept)", "boat", "past", "I(past^2)"))
  expect_no_match(paste(format(all), collapse = " "), "did not enter")
  expect_error(score_units(study, second_order = "all"), "no use with a plain regression", class = "twin_error_input")
})

test_that("the ladder keeps the terms it is given, says what it tried, and its score is the model's", {
  study <- study_of_many()
  design <- score_units(study, select = "ladder", model = ~ port)
  expect_identical(rownames(tidy(design, part = "steps")), as.character(seq_len(nrow(tidy(design, part = "steps")))))
  steps <- tidy(design, part = "steps")
  expect_identical(steps$term[1], "port")
  expect_identical(steps$kind[1], "start")
  expect_true(any(!steps$added))
  again <- score_units(study, model = reformulate(c("port", steps$term[steps$added & steps$step > 0])))
  expect_equal(design$score$fitted, again$score$fitted, tolerance = 1e-8)
  expect_equal(tail(steps$loglik[steps$added], 1), again$score$loglik, tolerance = 1e-8)
  high <- score_units(study, select = "ladder", thresholds = c(linear = 20, second = 1e6))
  expect_identical(sum(tidy(high, part = "steps")$added), 2L)  # the start and boat
  expect_error(score_units(study, select = "ladder", thresholds = c(linear = 1e6, second = 1)), "adds no term",
               class = "twin_error_input")
})

test_that("the ladder steps over a term that separates", {
  data <- many_crews()
  data$gate <- ifelse(data$joined == 1 & data$boat > 0, "in", "out")
  data$gate[1:20] <- "out"
  data$gate[data$joined == 0] <- "out"
  steps <- tidy(score_units(study_of_many(data, covariates = c("boat", "past", "gate")), select = "ladder"), part = "steps")
  expect_false("gate" %in% steps$term[steps$added])
})

test_that("a column may hold the score, taken as known", {
  data <- many_crews()
  data$chance <- plogis(-0.3 + 0.7 * data$boat)
  design <- weigh_units(score_units(study_of_many(data, estimand = "ATE"), score = "chance"))
  expect_equal(weights(design), ifelse(data$joined == 1, 1 / data$chance, 1 / (1 - data$chance)))
  effect <- measure_effect(design)
  known <- core_weighted_means(data$income, data$joined, weights(design))
  expect_equal(effect$influence[, 1:2], known$influence())
  expect_match(paste(format(effect), collapse = " "), "taking the score as given")
  data$chance[c(4, 9)] <- c(NA, 1)
  error <- expect_error(score_units(study_of_many(data), score = "chance"), "2 rows, 1 of them missing; first rows:",
                        class = "twin_error_input")
  expect_identical(error$rows, c(4L, 9L))
})

test_that("options that do not belong together are refused", {
  study <- study_of_many()
  expect_error(score_units(study, scale_model = ~ boat), "has no use with a plain", class = "twin_error_input")
  expect_error(score_units(study, folds = 3), "has no use with a plain", class = "twin_error_input")
  expect_error(score_units(study, learners = "logit", link = "probit"), "no use with learners", class = "twin_error_input")
  expect_error(score_units(study, select = "ladder", link = "heteroskedastic_probit"), "links logit, probit", class = "twin_error_input")
  expect_error(score_units(study, select = "ladder", thresholds = 3), "two numbers named", class = "twin_error_input")
  expect_error(score_units(study, learners = "forrest"), "Did you mean \"forest\"", class = "twin_error_input")
  expect_error(tidy(score_units(study), part = "learners"), "no learners to tidy", class = "twin_error_input")
})

needs_learners <- function() for (package in c("glmnet", "ranger", "gbm", "mgcv")) skip_if_not_installed(package)

test_that("every learner predicts, and the stack's table says how well", {
  needs_learners()
  names <- c("logit", "lasso", "ridge", "elastic_net", "tree", "forest", "boosted", "splines")
  data <- many_crews(500)
  design <- score_units(study_of_many(data, weight = "s"), learners = names, folds = 3, seed = 4)
  table <- tidy(design, part = "learners")
  expect_identical(table$learner, c(names, "stack"))
  expect_equal(sum(table$weight[1:8]), 1)
  expect_equal(table$loss[9], min(table$loss), tolerance = 1e-8)
  p <- design$score$predictions
  loss <- -colSums(data$s * ifelse(data$joined == 1, 1, 0) * log(p) + data$s * (1 - data$joined) * log(1 - p)) / sum(data$s)
  expect_equal(table$loss[1:8], unname(loss))
  # a true chance of about 0.75 AUC: no learner may beat it by much, none may be worse than guessing
  expect_true(all(table$auc > 0.55 & table$auc < 0.85))
  expect_equal(design$score$fitted, drop(p %*% table$weight[1:8]))
})

test_that("forests of many rows are close to the chance that made them, sampling weights or not", {
  skip_if_not_installed("ranger")
  withr::local_seed(31)
  n <- 26000
  data <- data.frame(size = rnorm(n), depth = rnorm(n), gear = factor(sample(c("nets", "pots"), n, TRUE)),
                     s = runif(n, 0.5, 2), catch = rnorm(n))
  chance <- plogis(data$size - (data$gear == "pots") * (data$depth > 0))
  data$joined <- rbinom(n, 1, chance)
  for (weight in list(NULL, "s")) {
    study <- frame_study(data, "joined", "catch", ~ size + depth + gear, treated = 1, weight = weight)
    fitted <- score_units(study, learners = "forest", folds = 3)$score$fitted
    expect_lt(sqrt(mean((fitted - chance)^2)), 0.08)  # guessing the mean is 0.22 off
    expect_gt(sd(chance), 0.2)
  }
})

test_that("trees of many rows draw from one stretch each, no row twice or by weight, never one that counts nothing", {
  withr::local_seed(32)
  n <- 30000L
  z <- rep(0:1, c(n - 40L, 40L))
  drawn <- draw_tree_rows(z, rep(1, n))
  expect_setequal(drawn$at, seq_len(n))
  expect_length(drawn$counts, 75L)
  of <- vapply(drawn$counts, function(own) unique((which(own > 0) - 1) %/% 10000), 0)
  expect_true(all(tabulate(of + 1) == 25L))
  expect_true(all(vapply(drawn$counts, function(own) sum(own) == 8000L && max(own) == 1L, NA)))
  # the few of an arm are dealt out evenly
  expect_true(all(abs(tapply(z[drawn$at], (seq_len(n) - 1) %/% 10000, sum) - 40 / 3) < 1))
  weight <- rep(c(0, 1, 3), length.out = n)
  drawn <- draw_tree_rows(stats::rnorm(n), weight)
  expect_setequal(drawn$at, which(weight > 0))
  expect_true(all(vapply(drawn$counts, sum, 0) == 10000))
  share <- sum(Reduce(`+`, drawn$counts)[weight[drawn$at] == 3]) / 750000
  expect_lt(abs(share - 0.75), 0.01)
  few <- draw_tree_rows(z[1:2000], rep(1, 2000))
  expect_identical(c(length(few$counts), sum(few$counts[[1L]]), few$rows), c(375, 1600, 2000))
  most <- draw_tree_rows(stats::rnorm(260000), rep(1, 260000))
  expect_identical(c(length(most$at), anyDuplicated(most$at)), c(250000L, 0L))
})

test_that("numbers of many values are cut into groups of equal size, others are left", {
  withr::local_seed(33)
  x <- data.frame(many = stats::rexp(6400), few = sample(64L, 6400L, TRUE), tied = pmax(stats::rnorm(6400), 0),
                  gear = factor(rep(c("nets", "pots"), 3200)))
  cuts <- lapply(x, find_cuts)
  expect_identical(lengths(cuts) > 0L, c(many = TRUE, few = FALSE, tied = TRUE, gear = FALSE))
  cut <- cut_columns(x, cuts)
  expect_identical(cut[c("few", "gear")], x[c("few", "gear")])
  expect_true(all(abs(tabulate(match(cut$many, sort(unique(cut$many)))) - 100) <= 1))
  expect_equal(as.vector(tapply(x$many, cut$many, mean)), sort(unique(cut$many)))
  expect_false(is.unsorted(cut$many[order(x$many)]))
  expect_identical(cut$tied == 0, x$tied == 0)
  for (mass in list(c(-2, -1), c(1, 2), c(-1, 2))) {  # a value that nearly all have, at either end or between
    most <- c(numeric(9000), stats::runif(1000, mass[1L], mass[2L]))
    alone <- find_cuts(most)
    expect_identical(cut_columns(data.frame(most), list(most = alone))$most == 0, most == 0)
    expect_gt(length(alone$at), 1L)
    expect_true(all(is.finite(cut_columns(data.frame(most = c(-9, 0, 9)), list(most = alone))$most)))
  }
  # values beyond those that were cut go to the ends
  expect_identical(cut_columns(data.frame(many = c(-1, 1e6)), cuts["many"])$many, range(cut$many))
})

test_that("what goes to workers is the work's values, each once, and nothing of where it was made", {
  crowd <- stats::rnorm(1e5)
  size <- show_progress("Work", steps = 1L, work = function(tick) length(serialize(list(run_piece, tick), NULL)))
  expect_lt(size, 1e4)
  lists <- list(list(x = crowd, y = 1, train = TRUE, name = "a"), list(x = crowd + 0, y = 2, train = TRUE, name = "b"))
  shared <- share_values(lists, c("x", "y", "train"))
  expect_identical(shared$values, list(crowd, 1, TRUE, 2))
  expect_identical(lapply(shared$lists, function(own) shared$values[unlist(own[c("x", "y", "train")])]),
                   lapply(lists, function(own) unname(own[c("x", "y", "train")])))
})

test_that("out-of-fold means out of fold", {
  remember <- list(fit = function(x, z, weight) rownames(x), predict = function(model, x) {
    if (any(rownames(x) %in% model)) stop("it has seen these rows")
    rep(0.5, nrow(x))
  })
  design <- score_units(study_of_many(), learners = list("logit", mine = remember), folds = 4)
  expect_identical(tidy(design, part = "learners")$learner, c("logit", "mine", "stack"))
})

test_that("the same seed gives the same score whatever the workers, and leaves the random stream alone", {
  skip_if_not_installed("future")
  skip_if_not_installed("ranger")
  study <- study_of_many()
  withr::local_seed(5)
  before <- .Random.seed
  one <- score_units(study, learners = c("logit", "forest"), folds = 3, seed = 2)
  expect_identical(.Random.seed, before)
  old <- future::plan(future::multisession, workers = 2)
  withr::defer(future::plan(old))
  two <- score_units(study, learners = c("logit", "forest"), folds = 3, seed = 2)
  expect_identical(two$score$fitted, one$score$fitted)
  expect_false(identical(score_units(study, learners = c("logit", "forest"), folds = 3, seed = 3)$score$fitted,
                         one$score$fitted))
})

test_that("folds keep the arms' shares and leave trimmed units to all of them", {
  study <- study_of_many()
  inside <- seq_len(300) > 30
  fold <- withr::with_seed(1, draw_folds(study$z, inside, 5L, study$levels, NULL))
  expect_true(all(fold[1:30] == 0L) && all(fold[31:300] %in% 1:5))
  counts <- table(fold[inside], study$z[inside])
  expect_true(all(apply(counts, 2, function(count) diff(range(count))) <= 1))
})

test_that("a learner that fails is dropped with its name, and the stack goes on", {
  broken <- list(fit = function(x, z, weight) stop("no boats today"), predict = function(model, x) 1)
  wild <- list(fit = function(x, z, weight) 1, predict = function(model, x) rep(2, nrow(x)))
  warning <- expect_warning(
    design <- score_units(study_of_many(), learners = list("logit", broken = broken, wild = wild), folds = 3),
    "no boats today", class = "twin_warning_learner"
  )
  expect_identical(warning$learners, c("broken", "wild"))
  expect_identical(tidy(design, part = "learners")$weight, c(1, 1))
  expect_error(score_units(study_of_many(), learners = list(broken = broken)), "Every learner failed",
               class = "twin_error_input")
  expect_error(score_units(study_of_many(), learners = list(mine = 3)), "must be named and hold two functions",
               class = "twin_error_input")
})

test_that("an arm smaller than the folds is refused with its size", {
  data <- many_crews()
  data$joined <- as.integer(seq_len(300) <= 4)
  error <- expect_error(score_units(study_of_many(data), learners = "logit", folds = 5), "has 4", class = "twin_error_input")
  expect_identical(error$arm, "treated")
})

test_that("refitted predictions are the learners' own on all units", {
  study <- study_of_many()
  design <- score_units(study, learners = "logit", prediction = "refitted")
  expect_equal(design$score$fitted, score_units(study)$score$fitted, tolerance = 1e-8)
})

test_that("effects on learners' scores warn unless augmented, and say what is taken as given", {
  design <- weigh_units(score_units(study_of_many(), learners = c("logit", "tree"), folds = 3))
  expect_warning(measure_effect(design), class = "twin_warning_known_score")
  expect_no_warning(effect <- measure_effect(design, estimator = "augmented"))
  expect_match(effect$inference, "taking the score as given")
})

test_that("compare_scores makes each learner's design and ranks them by balance", {
  study <- study_of_many()
  scored <- score_units(study, learners = c("logit", "tree"), folds = 3)
  scores <- compare_scores(scored)
  table <- tidy(scores)
  expect_setequal(table$score, c("logit", "tree", "stack"))
  expect_false(is.unsorted(-table$passing))
  by_hand <- glance(assess_balance(weigh_units(scored)))
  expect_equal(table$worst_smd[table$score == "stack"], by_hand$worst_smd)
  own <- suppressWarnings(weights(scores$designs$tree))
  expect_equal(own[study$z == 0], (scored$score$predictions[, "tree"] / (1 - scored$score$predictions[, "tree"]))[study$z == 0])
  expect_setequal(ggplot2::layer_data(plot(scores), 4)$x, c(table$worst_smd, table$mean_smd))
  expect_lte(max(nchar(format(scores))), 80)
  # the three designs are in the logbook, before the outcome
  expect_gte(summary(logbook(study))$before, 3)
})

test_that("compare_scores also takes scored designs, other verbs and settings", {
  study <- study_of_many()
  given <- list(logit = score_units(study), probit = score_units(study, link = "probit"))
  scores <- compare_scores(given, "pairs", list(caliper = 0.1))
  expect_equal(tidy(scores)$worst_smd[tidy(scores)$score == "probit"],
               glance(assess_balance(pair_units(given$probit, caliper = 0.1)))$worst_smd)
  lost <- compare_scores(list(plain = given$logit, known = {
    data <- many_crews()
    study$data$flat <- 0.01 + 0.98 * (data$joined == 1)
    score_units(study, score = "flat")
  }), "pairs", list(caliper = 0.1))
  expect_match(tidy(lost)$problem[2], "No pair is left")
  expect_error(compare_scores(given$logit), "not trimmed since", class = "twin_error_input")
  expect_error(compare_scores(3), "named list of scored designs", class = "twin_error_input")
})

test_that("calibration groups hold the right units, and a logit's line is 0 and 1", {
  data <- many_crews(1000)
  design <- score_units(study_of_many(data))
  calibration <- assess_score(design, groups = 5)
  table <- tidy(calibration)
  e <- design$score$fitted
  expect_identical(table$units, rep(200L, 5))
  lowest <- order(e)[1:200]
  expect_equal(table$mean_score[1], mean(e[lowest]))
  expect_equal(table$share_treated[1], mean(data$joined[lowest]))
  wilson <- prop.test(sum(data$joined[lowest]), 200, correct = FALSE)$conf.int
  expect_equal(c(table$conf.low[1], table$conf.high[1]), c(wilson))
  summary <- glance(calibration)
  expect_equal(c(summary$intercept, summary$slope), c(0, 1), tolerance = 1e-6)
  treated <- e[data$joined == 1]
  expect_equal(summary$auc, mean(outer(treated, e[data$joined == 0], `>`)))
  expect_match(paste(format(calibration), collapse = " "), "no merit")
  expect_equal(ggplot2::layer_data(plot(calibration), 3)$x, table$mean_score)
})

test_that("overlap can be drawn on the linear scale of any link", {
  overlap <- assess_overlap(score_units(study_of_many(), link = "probit"))
  ground <- ggplot2::layer_data(plot(overlap, scale = "linear"), 1)
  expect_equal(c(ground$xmin, ground$xmax), unname(qnorm(unlist(glance(overlap)[c("low", "high")]))))
  expect_identical(plot(overlap, scale = "linear")$labels$x, "linear score (probit)")
})
