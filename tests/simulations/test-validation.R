# A small version of the Monte Carlo study (validation/), with fixed seeds.

test_that("intervals hold the truth about as often as they say, and being right once is enough", {
  env <- validation_code("worlds.R")
  wanted <- c("none regression", "inverse weights difference", "inverse weights augmented", "inverse weights targeted",
              "entropy weights difference", "with replacement regression")
  methods <- Filter(function(m) paste(m$design, m$estimator) %in% wanted, env$world_methods())
  truth <- env$world_truth("good", 4e5)
  run <- function(models, draws = 160) {
    rows <- on_two_cores(split(seq_len(draws), rep(1:2, each = draws / 2)), function(seeds) {
      do.call(rbind, lapply(seeds, function(seed) {
        env$measure_world(env$draw_world(500, "good", seed), "good", models, "ATE", methods)
      }))
    })
    out <- env$summarise_draws(do.call(rbind, rows), truth)
    rownames(out) <- paste(out$design, out$estimator)
    out
  }
  right <- run("both")
  expect_setequal(rownames(right), wanted)
  expect_true(all(right$draws == 160))
  # 160 draws: coverage within three standard errors of 0.95, bias within four of its own
  expect_true(all(right$coverage > 0.9 & right$coverage < 0.995), label = paste(right$coverage, collapse = " "))
  expect_true(all(abs(right$bias) < 4 * right$spread / sqrt(160)))
  # weights alone have heavy tails at this size
  expect_true(all(right$se_ratio > 0.8 & right$se_ratio < 1.2))

  far <- function(out, name) abs(out[name, "bias"]) > 8 * out[name, "spread"] / sqrt(160)
  near <- function(out, name) abs(out[name, "bias"]) < 4 * out[name, "spread"] / sqrt(160)
  score <- run("score", 80)
  expect_true(far(score, "inverse weights difference"))
  expect_true(near(score, "inverse weights augmented") && near(score, "inverse weights targeted"))
  outcome <- run("outcome", 80)
  expect_true(far(outcome, "none regression"))
  expect_true(near(outcome, "inverse weights augmented") && near(outcome, "inverse weights targeted"))
  expect_lt(score["inverse weights difference", "coverage"], 0.75)
})

test_that("the article on hidden bias shows the results, which hold what it says of them", {
  file <- validation_file("results/hidden.csv")
  article <- readLines(file.path(source_root(), "vignettes", "hidden-bias.Rmd"))
  shown <- grep("^[|]", readLines(sub("csv$", "md", file)), value = TRUE)
  expect_identical(setdiff(shown, article), character())
  table <- data.table::fread(file, data.table = FALSE)
  of <- function(what) table$mean[startsWith(table$what, what)]
  margin <- 3 * sqrt(0.05 * 0.95 / table$draws[1])
  expect_true(all(of("pairs, tested at gamma 2") < 0.05 + margin, of("sets of 4, tested at gamma 2") < 0.05 + margin))
  expect_gt(of("pairs, tested at gamma 2"), 0.05 - margin)
  expect_gt(min(of("pairs, tested at gamma 1"), of("sets of 4, tested at gamma 1")), 0.9)
  expect_gt(min(of("weights, interval at lambda 2"), of("trends, conditional")), 0.95 - margin)
  expect_lt(max(of("weights, interval at lambda 1"), of("trends, plain")), 0.5)
  expect_lt(abs(of("stability: adjusted")), 4 * table$std.error[startsWith(table$what, "stability: adjusted")])
})

test_that("a test at the gamma that a hidden confounder uses up keeps its level, one at gamma 1 does not", {
  env <- validation_code("hidden-worlds.R")
  p <- vapply(1001:1400, function(seed) {
    pairs <- env$draw_tilted_sets(seed, 3, sets = 100L)
    d <- tapply(ifelse(pairs$z == 1, pairs$y, -pairs$y), pairs$set, sum)
    tidy(probe_pairs(as.vector(d), gamma = c(1, 3), side = "greater"))$p_high
  }, numeric(2))
  expect_gt(mean(p[1, ] <= 0.05), 0.95)
  expect_lt(abs(mean(p[2, ] <= 0.05) - 0.05), 3.5 * sqrt(0.05 * 0.95 / 400))
})

test_that("the table of the whole study is of these methods, and what the help page says of it holds", {
  file <- validation_file("results/coverage.csv")
  table <- data.table::fread(file, data.table = FALSE)
  held <- table[table$promise == "yes" & table$scenario != "40 clusters" & table$estimator != "difference", ]
  double <- held[held$design == "inverse weights" & held$estimator %in% c("augmented", "targeted"), ]
  expect_gt(nrow(double), 20)
  margin <- 2.6 * sqrt(0.95 * 0.05 / double$draws)  # of the count itself
  expect_true(all(double$coverage > 0.93 - margin & double$coverage < 0.97 + margin))
})

test_that("effects over time hold the truth about as often as they say, and their bands hold whole paths", {
  env <- validation_code("panel-worlds.R")
  run <- function(kind, draws) {
    rows <- on_two_cores(split(seq_len(draws), rep(1:2, length.out = draws)), function(seeds) {
      do.call(rbind, lapply(seeds, function(seed) env$measure_panel(kind, seed)))
    })
    out <- env$summarise_panels(do.call(rbind, rows))
    rownames(out) <- out$way
    out
  }
  # 80 draws: within three standard errors of 0.95, bias within four of its own
  plain <- run("plain", 80)
  right <- plain[plain$way != "two-way", ]
  expect_identical(nrow(right), 4L)
  expect_true(all(right$coverage > 0.87), label = paste(right$coverage, collapse = " "))
  expect_true(all(right$band_coverage > 0.85), label = paste(right$band_coverage, collapse = " "))
  expect_true(all(abs(right$bias) < 4 * right$spread / sqrt(80)))
  expect_lt(plain["two-way", "coverage"], 0.75)
  given <- run("covariate", 60)
  expect_true(all(abs(given$bias[given$way != "group-time, never"]) < 4 * given$spread[1] / sqrt(60)))
  expect_gt(abs(given["group-time, never", "bias"]), 8 * given["group-time, never", "spread"] / sqrt(60))
})

test_that("the table of panels is of these ways, and its bands hold what they promise", {
  file <- validation_file("results/panels.csv")
  table <- data.table::fread(file, data.table = FALSE)
  many <- table[!startsWith(table$way, "two-way") & table$world != "12 unequal clusters", ]
  many <- many[!(many$world == "parallel given a covariate" & many$way == "group-time, never"), ]
  many <- many[many$way != "triple, unadjusted", ]  # whose trends are parallel given a covariate alone
  expect_identical(nrow(many), 22L)
  expect_true(all(many$coverage > 0.91))
  expect_true(all(many$band_coverage > 0.88, na.rm = TRUE))
  expect_identical(many$way[is.na(many$band_coverage)], "slopes by dose")
})

test_that("the table of synthetic comparisons is of these ways, and placebos hold what they promise", {
  table <- data.table::fread(validation_file("results/synthetic.csv"), data.table = FALSE)
  expect_identical(nrow(table), 28L)
  margin <- 4 / sqrt(table$draws)
  placebos <- endsWith(table$way, "placebos")
  expect_true(all(table$coverage[placebos] > 0.95 - margin[placebos] * sqrt(0.05 * 0.95)))
  expect_true(all(abs(table$bias) < margin * table$spread))
  # the shared factor costs plain differences more than the synthetic comparison
  by_way <- tapply(table$spread, table$way, mean)
  expect_gt(by_way[["group-time"]], 1.3 * by_way[["synthetic, placebos"]])
  expect_gt(by_way[["imputation"]], 1.3 * by_way[["imputation, one factor"]])
  drawn <- table$way == "imputation, one factor"
  expect_true(all(table$coverage[drawn] > 0.85))  # least with 3 treated, as the methods say
})

test_that("the study of who gains holds what is said of it", {
  file <- validation_file("results/variation.csv")
  skip_if_not(file.exists(file))
  rows <- utils::read.csv(file)
  plain <- rows[rows$learners == "logit" & rows$n == 2000 & rows$hump == 0, ]
  expect_identical(nrow(plain), 6L)
  none <- plain[plain$slope == 0, ]
  sizes <- c(none$p_columns, none$p_prediction)
  expect_true(all(sizes >= 0.03 & sizes <= 0.07))
  by_column <- c(none$p_size, plain$p_gear)
  expect_identical(round(range(by_column), 2), c(0.03, 0.06))
  expect_true(all(unlist(plain[c("slope.1", "average", "curve", "band")]) > 0.925))
  expect_true(all(plain$p_prediction[plain$slope > 0] > 0.95))
  few <- rows[rows$learners == "logit" & rows$n == 1000, ]
  expect_identical(round(few$p_columns, 2), 0.08)
  expect_true(all(unlist(few[c("slope.1", "average", "curve", "band")]) > 0.925))
  humps <- rows[rows$hump == 1, ]
  expect_identical(humps$n, c(2000L, 20000L))
  expect_identical(round(humps$band, 2), c(0.97, 0.95))
  expect_identical(round(humps$p_columns, 2), c(0.04, 0.06))
  expect_true(all(humps$p_size > 0.99))
  forests <- rows[rows$learners == "forest", ]
  expect_identical(forests$n, c(1000L, 4000L))
  expect_identical(forests$p_prediction, c(0, 0.02))
  expect_identical(forests$p_columns, c(0.03, 0.04))
  expect_identical(forests$average, c(0.93, 0.91))
  expect_identical(forests$p_size, c(0.17, 0.07))
  beside <- rows[rows$learners == "logit, forest", ]
  expect_identical(c(beside$p_columns, beside$p_prediction, beside$p_size, beside$average), c(0.06, 0.06, 0.07, 0.97))
})

test_that("articles show what doses, courses, imputed data and outcome models gave, and it holds what they say", {
  for (one in c("dose", "course", "imputed", "models", "arms", "censoring")) {
    table <- data.table::fread(validation_file(sprintf("results/%s.csv", one)), data.table = FALSE)
    article <- readLines(file.path(source_root(), "vignettes", paste0(c(dose = "doses", course = "courses", imputed = "imputed",
                                                                      models = "effects", arms = "arms",
                                                                      censoring = "effects")[[one]], ".Rmd")))
    shown <- grep("^[|] *[0-9A-Za-z]", article, value = TRUE)
    for (value in sprintf("%s", table$coverage)) expect_true(any(grepl(value, shown, fixed = TRUE)), label = paste(one, value))
  }
  of <- function(name) data.table::fread(validation_file(sprintf("results/%s.csv", name)), data.table = FALSE)
  margin <- 3 * sqrt(0.05 * 0.95 / 1000)
  dose <- of("dose")
  expect_true(all(abs(dose$coverage[dose$estimator == "augmented"] - 0.95) < margin))
  expect_true(all(dose$coverage >= 0.93 & dose$coverage <= 0.965))
  expect_identical(round(range(dose$rejects[dose$flat]), 2), c(0.03, 0.06))
  alone <- dose$estimator == "weighted"
  expect_identical(round(range(dose$band[!alone]), 2), c(0.95, 0.98))
  expect_identical(round(range(dose$band[alone]), 2), c(0.92, 0.97))
  expect_identical(round(max(abs(dose$bias) / dose$spread), 1), 0.2)
  expect_true(all(abs(dose$bias[!alone]) < dose$spread[!alone] / 9))
  course <- of("course")
  own <- !course$by %in% c("raw", "ordinary adjustment")
  expect_true(all(course$coverage[own & !course$bent] > 0.93 & course$coverage[own & !course$bent] < 0.97))
  expect_gt(course$coverage[course$bent & course$by == "augmented"], 0.93)
  expect_lt(max(course$coverage[course$by == "ordinary adjustment"]), 0.5)
  censoring <- of("censoring")
  expect_true(abs(censoring$coverage[2] - 0.95) < margin && censoring$coverage[1] < 0.9)
  arms <- of("arms")
  matched <- grepl("match", arms$what)
  known <- grepl("weights|augmented|regression|selection|cross-fitted|any two", arms$what) &
    !grepl("match|cells", arms$what)
  expect_true(all(abs(arms$coverage[known] - 0.95) < 3 * sqrt(0.05 * 0.95 / min(arms$draws))))
  expect_true(all(abs(arms$bias[known]) < 4 * arms$spread[known] / sqrt(arms$draws[known])))
  expect_true(all(arms$coverage[grepl("strata", arms$what)] > 0.93 & arms$coverage[grepl("strata", arms$what)] < 0.97))
  expect_true(all(range(arms$coverage[arms$what == "coarsened cells"]) == c(0.821, 0.937)))
  everybody <- matched & arms$estimand == "ATE"
  expect_true(all(abs(arms$coverage[everybody] - 0.95) < 3 * sqrt(0.05 * 0.95 / min(arms$draws))))
  full <- grepl("full", arms$what)
  expect_true(all(arms$se_ratio[full] > 0.97 & arms$se_ratio[full] < 1.08))
  expect_true(all(arms$coverage[full] > 0.93 & arms$coverage[full] <= 0.97))
  held <- endsWith(arms$what, "of whom they hold")
  expect_identical(sum(held), 3L)
  expect_true(all(abs(arms$coverage[held] - 0.95) < 3 * sqrt(0.05 * 0.95 / min(arms$draws))))
  expect_true(all(abs(arms$bias[held]) < 4 * arms$spread[held] / sqrt(arms$draws[held])))
  sets <- of("sets")
  expect_identical(nrow(sets), 24L)
  expect_true(all(abs(sets$coverage - 0.95) < 3 * sqrt(0.05 * 0.95 / min(sets$draws))))
  expect_true(all(abs(sets$se_ratio[sets$n == 600] - 1) < 0.03))
  expect_true(all(sets$se_ratio[sets$n == 150] > 1 & sets$se_ratio[sets$n == 150] < 1.15))
  imputed <- of("imputed")
  expect_true(all(abs(imputed$bias) < 4 * imputed$spread / sqrt(imputed$draws)))
  expect_true(all(imputed$coverage > 0.93 & imputed$coverage < 0.975))
})

test_that("an interval of a dose and of a history holds the truth about as often as it says", {
  dose <- validation_code("dose-worlds.R")
  course <- validation_code("course-worlds.R")
  always <- course$course_truth(2e5)
  held <- do.call(rbind, on_two_cores(split(1:60, rep(1:2, each = 30)), function(seeds) {
    do.call(rbind, lapply(seeds, function(seed) {
      study <- frame_dose(dose$world(seed, 800, FALSE, FALSE), "tonnes", "income", ~ size + depth + gear)
      row <- tidy(measure_response(weigh_units(score_units(study)), estimator = "augmented", contrasts = list(c(2, 4))), part = "contrasts")
      truth <- dose$mean_at(4, FALSE) - dose$mean_at(2, FALSE)
      history <- tidy(measure_course(score_units(course$frame(course$world(seed, 800)), lags = 0), estimator = "augmented"))
      c(row$conf.low < truth && truth < row$conf.high, history$conf.low < always && history$conf.high > always)
    }))
  }))
  expect_gt(mean(held[, 1]), 0.85)
  expect_gt(mean(held[, 2]), 0.85)
})
