# Standard errors by running the design anew, against loops that do so here.

test_that("bootstrap on weights: every draw is the design made by hand on the drawn counts", {
  data <- many_crews(200, seed = 2)
  study <- study_of_many(data, weight = "s", estimand = "ATE")
  make <- function(study) weigh_units(trim_units(score_units(study, link = "probit"), "range", bounds = c(0.1, 0.9)),
                                      truncate = c(bound = 5))
  effect <- measure_effect(make(study), inference = "bootstrap", draws = 6, seed = 4)
  by_hand <- vapply(1:6, function(k) {
    drawn <- data
    drawn$s <- data$s * core_draw_counts(200, k, 4)
    coef(measure_effect(make(study_of_many(drawn, weight = "s", estimand = "ATE"))))
  }, numeric(4))
  expect_equal(effect$draws, t(by_hand), tolerance = 1e-6, ignore_attr = TRUE)
  expect_equal(vcov(effect), cov(t(by_hand)), tolerance = 1e-6)
  expect_equal(confint(effect, "difference")[1, ], quantile(by_hand["difference", ], c(0.025, 0.975)), ignore_attr = TRUE,
               tolerance = 1e-6)
  normal <- measure_effect(make(study), inference = "bootstrap", draws = 6, seed = 4, interval = "normal")
  expect_equal(tidy(normal)$conf.low[3], coef(normal)[["difference"]] - qnorm(0.975) * sd(by_hand["difference", ]),
               tolerance = 1e-6)
})

test_that("the quick way for inverse weights gives the draws of the long one", {
  data <- many_crews(250, seed = 2)
  design <- weigh_units(score_units(study_of_many(data, weight = "s", outcome = c("income", "direct"))))
  quick <- measure_effect(design, c("income", "direct"), inference = "bootstrap", draws = 5)
  expect_true(is_plainly_drawn(design, list(list(y = 1)), list(estimator = "difference", normalise = TRUE)))
  by_hand <- vapply(1:5, function(k) {
    drawn <- data
    drawn$s <- data$s * core_draw_counts(250, k, 1)
    made <- weigh_units(score_units(study_of_many(drawn, weight = "s", outcome = c("income", "direct"))))
    c(difference_of(measure_effect(made)), difference_of(measure_effect(made, "direct")))
  }, numeric(2))
  expect_equal(quick[["income"]]$draws[, "difference"], by_hand[1, ], tolerance = 1e-6, ignore_attr = TRUE)
  expect_equal(quick[["direct"]]$draws[, "difference"], by_hand[2, ], tolerance = 1e-6, ignore_attr = TRUE)
  expect_equal(vcov(quick)["income: difference", "direct: difference"], cov(by_hand[1, ], by_hand[2, ]), tolerance = 1e-5)
})

test_that("the quick way for the augmented estimator gives the draws of the long one", {
  data <- many_crews(250, seed = 2)
  data$months <- data$income^2
  outcomes <- c("income", "months")
  for (estimand in c("ATE", "ATT", "ATO")) {
    framed <- function(data) frame_study(data, "joined", outcomes, ~ boat + past + port, estimand = estimand, weight = "s")
    for (weighed in c(TRUE, FALSE)) {
      make <- function(data) if (weighed) weigh_units(score_units(framed(data))) else score_units(framed(data))
      design <- make(data)
      measure <- function(...) measure_effect(design, outcomes, estimator = "augmented", inference = "bootstrap", draws = 4, ...)
      quick <- measure(model = ~ boat + past)
      long <- measure(model = list(income = ~ boat + past, months = ~ boat + past))
      expect_equal(quick[["income"]]$draws, long[["income"]]$draws, tolerance = 1e-7, label = paste(estimand, weighed))
      expect_equal(vcov(quick), vcov(long), tolerance = 1e-6)
      # columns that repeat others, and shares, go the long way or agree with it
      twice <- measure(model = ~ boat + past + I(2 * boat))
      expect_equal(twice[["income"]]$draws, quick[["income"]]$draws, tolerance = 1e-6)
    }
  }
  asked <- list(family = NULL, products = NULL, model = NULL)
  known <- list(y = cbind(as.double(data$direct)), z = as.double(data$joined))
  share <- list(list(x = design, outcome = "direct", shares = TRUE))
  expect_null(redraw_augmented(design, share, asked, known))
  entropy <- weigh_units(frame_study(data, "joined", outcomes, ~ boat + past), "entropy")
  expect_null(redraw_augmented(entropy, list(list(x = entropy, outcome = "income", shares = FALSE)), asked, known))
})

test_that("bootstrap on pairs: drawn units are there as often as drawn, and matched anew", {
  data <- many_crews(200, seed = 2)
  design <- pair_units(score_units(study_of_many(data)), caliper = 0.5)
  effect <- measure_effect(design, inference = "bootstrap", draws = 4)
  by_hand <- vapply(1:4, function(k) {
    drawn <- data[rep(1:200, core_draw_counts(200, k, 1)), ]
    difference_of(measure_effect(pair_units(score_units(study_of_many(drawn)), caliper = 0.5)))
  }, 0)
  expect_equal(effect$draws[, "difference"], by_hand, ignore_attr = TRUE)
})

test_that("clusters are drawn whole and within strata", {
  data <- many_crews(300)
  study <- study_of_many(data, cluster = "harbour", stratum = "coast")
  units <- drawn_units(study, list(clusters = effect_clusters(study, NULL)))
  counts <- core_draw_counts(units$sizes, 5)[units$unit]
  expect_true(all(tapply(counts, paste(data$harbour, data$coast), function(k) length(unique(k))) == 1L))
  # harbours reach over both coasts here, so 30 are drawn in each
  expect_identical(units$sizes, c(30L, 30L))
  expect_identical(sum(counts * (data$coast == "east") / 5), 30)
  effect <- measure_effect(study, inference = "bootstrap", draws = 10)
  expect_match(effect$inference, "clusters of harbour \\(60\\) within coast")
})

test_that("every kind of design can be made anew, and its spread is near the analytic error", {
  data <- many_crews(400, seed = 3)
  data$size <- cut(data$boat, 4, labels = FALSE)
  study <- study_of_many(data, covariates = c("boat", "port"))
  scored <- score_units(study)
  designs <- list(
    none = study, strata = stratify_units(scored, 4), entropy = weigh_units(study, "entropy"),
    stable = weigh_units(study, "stable"), balancing = weigh_units(study, "balancing_score"),
    coarsened = group_units(study, "coarsened", bins = list(boat = 4)), full = group_units(scored, "full"),
    trimmed = weigh_units(trim_units(scored, "quantile", bounds = 0.05), stabilise = TRUE),
    optimal = pair_units(scored, search = "optimal", ratio = 1)
  )
  ratios <- unlist(lapply(designs, function(design) {
    measure <- function(...) tidy(measure_effect(design, ...))$std.error[3]
    suppressWarnings(measure() / measure(inference = "bootstrap", draws = 60))
  }))
  expect_true(all(ratios > 0.6 & ratios < 1.6), label = paste(names(ratios), round(ratios, 2), collapse = ", "))
  gears <- transform(data, gear = rep(c("nets", "pots", "lines", "pots"), 100))
  arms <- weigh_units(score_units(frame_arms(gears, "gear", "income", "boat", reference = "pots")))
  ratio <- sqrt(diag(vcov(measure_effect(arms)))) / sqrt(diag(vcov(measure_effect(arms, inference = "bootstrap", draws = 60))))
  expect_true(all(ratio > 0.6 & ratio < 1.6))
})

test_that("answers do not depend on the number of workers, and the user's stream stays", {
  skip_if_not_installed("future")
  design <- pair_units(score_units(study_of_many(many_crews(150))))
  set.seed(9)
  before <- .Random.seed
  one <- measure_effect(design, inference = "bootstrap", draws = 12)
  expect_identical(.Random.seed, before)
  old <- future::plan(future::multisession, workers = 2)
  withr::defer(future::plan(old))
  expect_identical(measure_effect(design, inference = "bootstrap", draws = 12)$draws, one$draws)
})

test_that("jackknife: clusters left out in a loop; strata stand in; the closed form is the loop's", {
  data <- many_crews(120)
  data$harbour <- rep(1:12, 10)
  make <- function(data) measure_effect(weigh_units(score_units(study_of_many(data, weight = "s"))))
  study <- study_of_many(data, weight = "s", cluster = "harbour")
  effect <- suppressWarnings(measure_effect(weigh_units(score_units(study)), inference = "jackknife"))
  left <- vapply(1:12, function(k) difference_of(make(data[data$harbour != k, ])), 0)
  expect_equal(tidy(effect)$std.error[3], sqrt(11 / 12 * sum((left - mean(left))^2)), tolerance = 1e-6)
  expect_equal(effect$df, 11)

  data$coast <- ifelse(data$harbour <= 5, "east", "west")
  study <- study_of_many(data, weight = "s", cluster = "harbour", stratum = "coast")
  effect <- suppressWarnings(measure_effect(study, inference = "jackknife"))
  size <- c(east = 5, west = 7)
  left <- vapply(1:12, function(k) {
    coast <- if (k <= 5) "east" else "west"
    factor <- ifelse(data$harbour == k, 0, ifelse(data$coast == coast, size[[coast]] / (size[[coast]] - 1), 1))
    v <- data$s * factor
    weighted.mean(data$income[data$joined == 1], v[data$joined == 1]) -
      weighted.mean(data$income[data$joined == 0], v[data$joined == 0])
  }, 0)
  by_hand <- sum(vapply(list(1:5, 6:12), function(at) {
    (length(at) - 1) / length(at) * sum((left[at] - mean(left[at]))^2)
  }, 0))
  expect_equal(tidy(effect)$std.error[3], sqrt(by_hand), tolerance = 1e-8)

  raw <- study_of_many(data, weight = "s")
  closed <- measure_effect(raw, inference = "jackknife")
  expect_match(closed$inference, "closed form")
  left <- vapply(1:120, function(i) difference_of(measure_effect(study_of_many(data[-i, ], weight = "s"))), 0)
  expect_equal(tidy(closed)$std.error[3], sqrt(119 / 120 * sum((left - mean(left))^2)), tolerance = 1e-10)
  # one unit at a time on pairs
  pairs <- function(data) pair_units(score_units(study_of_many(data)), order = "given")
  left <- vapply(1:40, function(i) difference_of(measure_effect(pairs(data[1:40, ][-i, ]))), 0)
  expect_equal(tidy(measure_effect(pairs(data[1:40, ]), inference = "jackknife"))$std.error[3],
               sqrt(39 / 40 * sum((left - mean(left))^2)), tolerance = 1e-8)
})

test_that("replicate weights take the sampling weight's place, column by column", {
  data <- many_crews(150)
  for (k in 1:5) data[[paste0("rep_", k)]] <- data$s * core_draw_counts(150, k)
  design <- weigh_units(score_units(study_of_many(data, weight = "s")))
  effect <- measure_effect(design, inference = "replicates", replicates = "rep_*", replicate_scale = 0.5)
  each <- vapply(1:5, function(k) {
    difference_of(measure_effect(weigh_units(score_units(study_of_many(data, weight = paste0("rep_", k))))))
  }, 0)
  expect_equal(vcov(effect)["difference", "difference"], 0.5 * sum((each - difference_of(effect))^2), tolerance = 1e-6)
  expect_equal(effect$df, 4)
  default <- measure_effect(design, inference = "replicates", replicates = paste0("rep_", 1:5))
  expect_equal(tidy(default)$std.error[3]^2, mean((each - difference_of(effect))^2), tolerance = 1e-6)
  expect_error(measure_effect(design, inference = "replicates"), "replicates", class = "twin_error_input")
  expect_error(measure_effect(design, inference = "replicates", replicates = "rep_1"), "at least 2",
               class = "twin_error_input")
  data$rep_2[3] <- NA
  expect_error(measure_effect(study_of_many(data, weight = "s"), inference = "replicates", replicates = "rep_*"),
               "rep_2", class = "twin_error_input")
})

test_that("draws on which the design can't be made are counted and said", {
  data <- many_crews(120, seed = 5)
  data$rare <- replace(rep("no", 120), c(which(data$joined == 1)[1:2], which(data$joined == 0)[1:2]), "yes")
  study <- study_of_many(data, covariates = c("boat", "rare"))
  design <- weigh_units(score_units(study, link = "probit"))
  expect_warning(effect <- measure_effect(design, inference = "bootstrap", draws = 60), class = "twin_warning_draws")
  expect_lt(nrow(effect$draws), 60)
  expect_match(effect$inference, sprintf("%d failed", 60 - nrow(effect$draws)))
  expect_error(check_draws(matrix(NA_real_, 10, 3), 10, NULL), "0 of 10", class = "twin_error_input")
})

test_that("what can't be drawn is refused with the reason", {
  data <- many_crews()
  reused <- pair_units(score_units(study_of_many(data)), replacement = TRUE)
  for (inference in c("bootstrap", "jackknife")) {
    expect_error(measure_effect(reused, inference = inference), "Abadie & Imbens 2008", class = "twin_error_unsupported")
  }
  expect_error(measure_effect(study_of_many(data), cluster = c("harbour", "coast"), inference = "bootstrap"),
               class = "twin_error_unsupported")
  data$gear <- rep(c("nets", "pots", "lines"), 100)
  arms <- weigh_units(score_units(frame_arms(data, "gear", "income", "boat", reference = "pots")))
  expect_error(measure_effect(contrasts_of(arms)$nets, inference = "bootstrap"), "all of them at once",
               class = "twin_error_unsupported")
  data$alone <- ifelse(data$harbour == 1, "far", "near")
  expect_error(measure_effect(study_of_many(data, cluster = "harbour", stratum = "alone"), inference = "bootstrap"),
               "far", class = "twin_error_input")
  large <- study_of_many(many_crews(5100))
  expect_error(measure_effect(weigh_units(score_units(large)), inference = "jackknife"), "bootstrap",
               class = "twin_error_unsupported")
  expect_s3_class(measure_effect(large, inference = "jackknife"), "twin_effect")
})

test_that("jobs of a scheduler give the same draws as this process", {
  skip_if_not_installed("future.batchtools")
  study <- frame_study(crews[1:400, ], "joined", "income", ~ boat_length + crew_size, cluster = "harbour")
  design <- weigh_units(score_units(study))
  draw <- function() suppressWarnings(measure_effect(design, inference = "bootstrap", draws = 40, seed = 3))
  here <- draw()
  withr::local_dir(withr::local_tempdir())  # where it keeps its registry
  old <- future::plan(future.batchtools::batchtools_multicore, workers = 2)
  withr::defer(future::plan(old))
  expect_identical(tidy(draw()), tidy(here))
})
