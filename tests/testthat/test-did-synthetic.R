# Towns whose sales follow one shared path, each in its own measure; the first ones are treated.
shared_towns <- function(n = 24, onset = 15, treated = 1, seed = 1, effect = 2, noise = 0.2, periods = 20L) {
  with_own_seed(seed, {
    path <- cumsum(rnorm(periods))
    measure <- runif(n, 0.5, 1.5)
    data <- expand.grid(year = seq_len(periods), town = sprintf("town %02d", seq_len(n)), stringsAsFactors = FALSE)
    at <- match(data$town, unique(data$town))
    data$first <- ifelse(at <= treated, rep_len(onset, n)[at], NA)
    data$sales <- rnorm(n)[at] + path[data$year] * measure[at] +
      effect * (!is.na(data$first) & data$year >= data$first) + rnorm(nrow(data), sd = noise)
    data
  })
}

town_panel <- function(data, ...) {
  frame_panel(data, outcome = "sales", time = "year", unit = "town", first_treated = "first", ...)
}

# The same programme by accelerated projected gradients, a way that shares nothing with ours.
simplex_by_gradients <- function(a, b, penalty, s = rep(1, ncol(a)), rounds = 40000L) {
  onto <- function(v) {
    u <- sort(v, decreasing = TRUE)
    k <- max(which(u + (1 - cumsum(u)) / seq_along(u) > 0))
    pmax(v + (1 - sum(u[seq_len(k)])) / k, 0)
  }
  x <- ahead <- rep(1 / ncol(a), ncol(a))
  step <- 1 / (max(eigen(crossprod(a), TRUE, TRUE)$values) + penalty * max(1 / s))
  pace <- 1
  for (round in seq_len(rounds)) {
    new <- onto(ahead - step * (drop(crossprod(a, a %*% ahead - b)) + penalty * ahead / s))
    pace_new <- (1 + sqrt(1 + 4 * pace^2)) / 2
    ahead <- new + (pace - 1) / pace_new * (new - x)
    x <- new
    pace <- pace_new
  }
  x
}

test_that("weights solve their quadratic programme", {
  with_own_seed(1, for (k in 1:6) {
    a <- matrix(rnorm(6 * c(4, 12, 25)[k %% 3 + 1]), 6)
    b <- rnorm(6)
    s <- if (k > 3) runif(ncol(a), 0.5, 3) else rep(1, ncol(a))
    penalty <- c(0.01, 1, 20)[(k + 1) %% 3 + 1]
    own <- carefultwin:::core_simplex_weights(a, b, penalty, s)
    expect_equal(own, simplex_by_gradients(a, b, penalty, s), tolerance = 1e-6)
    expect_equal(sum(own), 1)
    expect_true(all(own >= 0))
  })
  # more columns than rows, hardly any penalty: as good a fit, from few columns
  a <- with_own_seed(2, matrix(rnorm(30 * 300), 30))
  b <- rowMeans(a[, 1:4]) + with_own_seed(3, rnorm(30, sd = 0.1))
  own <- carefultwin:::core_simplex_weights(a, b, 1e-6)
  other <- simplex_by_gradients(a, b, 1e-6, rounds = 5000L)
  expect_lt(sum((a %*% own - b)^2), sum((a %*% other - b)^2) + 1e-6)
  expect_lt(sum(own > 1e-6), 31)
  twice <- carefultwin:::core_simplex_weights(cbind(a[, 1:5], a[, 5]), b, 1)
  expect_equal(twice[1:4], carefultwin:::core_simplex_weights(a[, 1:5], b, 1, c(1, 1, 1, 1, 2))[1:4], tolerance = 1e-8)
})

test_that("both ways are what the papers write down, cell by cell", {
  data <- shared_towns()
  panel <- town_panel(data)
  wide <- t(matrix(data$sales, 20))
  before <- 1:14
  past <- t(wide[-1, before])
  effect <- measure_did(panel, estimator = "synthetic", parallel = FALSE)
  noise <- sd(diff(past))
  w <- simplex_by_gradients(past, wide[1, before], 14 * (1e-3 * noise)^2)
  expect_equal(unname(coef(effect)), drop(wide[1, 15:20] - w %*% wide[-1, 15:20]), tolerance = 1e-4)
  about <- function(x) sweep(x, 2, colMeans(x))
  zeta <- 6^(1 / 4) * noise
  w <- simplex_by_gradients(about(past), wide[1, before] - mean(wide[1, before]), 14 * zeta^2)
  target <- rowMeans(wide[-1, 15:20])
  l <- simplex_by_gradients(scale(wide[-1, before], scale = FALSE), target - mean(target), 23 * (1e-3 * noise)^2, rounds = 2e5L)
  effect <- measure_did(panel, estimator = "synthetic")
  away <- function(y) y[15:20] - sum(l * y[before])
  expect_equal(unname(coef(effect)), away(wide[1, ]) - away(drop(w %*% wide[-1, ])), tolerance = 1e-4)
  units <- tidy(effect, part = "units")
  expect_equal(units$weight, sort(w[w > 1e-9], decreasing = TRUE), tolerance = 1e-4)
  expect_equal(tidy(effect, part = "periods")$weight, l, tolerance = 1e-3)
  expect_equal(tidy(effect, part = "fit")$gap_after, sqrt(mean(coef(effect)^2)))
  expect_equal(unname(coef(summarise_did(effect))), mean(coef(effect)))
})

test_that("a unit that others make up exactly is met, and its effect found", {
  data <- shared_towns(noise = 0)
  same <- subset(data, town == "town 05")$sales
  data$sales[data$town == "town 01"] <- same + 3 * (1:20 >= 15)
  effect <- measure_did(town_panel(data), estimator = "synthetic", parallel = FALSE)
  expect_equal(unname(coef(effect)), rep(3, 6), tolerance = 1e-3)
})

test_that("one treated unit is ranked among all placebos, and no error is invented", {
  data <- shared_towns()
  panel <- town_panel(data)
  expect_no_warning(effect <- summarise_did(measure_did(panel, estimator = "synthetic")))
  row <- tidy(effect)
  expect_true(is.na(row$std.error) && is.na(row$conf.low))
  ranked <- function(town) {
    own <- data[data$town != "town 01", ]
    own$first <- ifelse(own$town == town, 15, NA)
    found <- measure_did(town_panel(own), estimator = "synthetic")
    mean(abs(mean(coef(found)))) / tidy(found, part = "fit")$gap_before
  }
  placebos <- vapply(setdiff(unique(data$town), "town 01"), ranked, 0)
  own <- abs(coef(effect)) / tidy(measure_did(panel, estimator = "synthetic"), part = "fit")$gap_before
  expect_equal(row$p.value, (1 + sum(placebos >= own)) / 24)
  expect_match(effect$inference, "none for a single treated town; p-values are ranks among 23 placebos: each other town")
  expect_error(measure_did(panel, estimator = "synthetic", inference = "analytic"), "ranked among placebos",
               class = "twin_error_input")
  expect_error(measure_did(panel, estimator = "synthetic", inference = "bootstrap"), "no standard error",
               class = "twin_error_input")
  p <- vapply(1:40, function(seed) {
    tidy(summarise_did(measure_did(town_panel(shared_towns(20, seed = seed, effect = 0)), estimator = "synthetic")))$p.value
  }, 0)
  expect_lt(mean(p <= 0.2), 0.2 + 3 * sqrt(0.2 * 0.8 / 40))
  expect_gt(mean(p), 0.3)
})

test_that("several treated have errors with the weights held, a bootstrap that makes them anew, and ranks", {
  data <- shared_towns(40, onset = c(13, 15, 13, 15, 15, 13), treated = 6, effect = 1)
  panel <- town_panel(data)
  effect <- summarise_did(measure_did(panel, estimator = "synthetic", inference = "analytic"))
  expect_lt(abs(coef(effect) - 1), 3 * sqrt(vcov(effect)[1, 1]))
  drawn <- summarise_did(measure_did(panel, estimator = "synthetic", inference = "bootstrap", draws = 199))
  expect_equal(sqrt(vcov(drawn)[1, 1]), sqrt(vcov(effect)[1, 1]), tolerance = 0.35)
  whole <- measure_did(panel, estimator = "synthetic", draws = 99)
  ranked <- tidy(summarise_did(whole))
  expect_equal(ranked$p.value, 0.01)
  expect_equal(ranked$estimate, unname(coef(effect)))
  draws <- whole$draws$placebos
  expect_equal(nrow(draws), 99)
  size <- whole$size[whole$cells$cohort]
  expect_equal(ranked$std.error, sd(drop(draws %*% size) / sum(size)))
  expect_match(whole$inference, "the spread of placebos, as if the treated varied like them; p-values are ranks among 99")
  crowd <- town_panel(shared_towns(12, treated = 7))
  held <- suppressWarnings(measure_did(crowd, estimator = "synthetic"))
  expect_identical(held$asked$inference, "analytic")
  expect_error(measure_did(crowd, estimator = "synthetic", inference = "randomization"), "which holds the weights",
               class = "twin_error_unsupported")
  expect_error(measure_did(panel, estimator = "synthetic", parallel = FALSE, inference = "analytic"), "meet levels",
               class = "twin_error_unsupported")
  expect_identical(tidy(summarise_did(measure_did(panel, estimator = "synthetic", draws = 99))), ranked)
  # jackknife of one cell with the weights held
  one <- shared_towns(30, treated = 4)
  found <- measure_did(town_panel(one), estimator = "synthetic", inference = "analytic")
  part <- found$synthetic[[1]]
  wide <- t(matrix(one$sales, 20))
  d <- wide[, 15] - drop(wide[, 1:14] %*% part$period_weight)
  without <- function(i) {
    treated <- setdiff(1:4, i)
    w <- replace(numeric(30), part$used, part$weight)
    w[i] <- 0
    mean(d[treated]) - sum(w * d) / sum(w)
  }
  used <- c(1:4, part$used)
  moved <- vapply(used, without, 0) - coef(found)[[1]]
  by_hand <- c(moved[1:4] * 3 / 4, moved[-(1:4)])
  expect_equal(sort(abs(found$source$values[[1]])), sort(abs(by_hand)), tolerance = 1e-8)
})

test_that("units that stand in are left out one at a time, and the others weighed anew", {
  data <- shared_towns(20, treated = 3)
  effect <- measure_did(town_panel(data), estimator = "synthetic", draws = 99)
  probe <- probe_stand_ins(effect, least = 0.05)
  rows <- tidy(probe)
  units <- tidy(effect, part = "units")
  expect_identical(rows$unit, units$unit[units$weight >= 0.05])
  by_hand <- function(town) {
    found <- measure_did(town_panel(data[data$town != town, ]), estimator = "synthetic", draws = 99)
    c(coef(summarise_did(found)), tidy(found, part = "fit")$gap_before)
  }
  expect_equal(unlist(rows[2, c("estimate", "gap_before")], use.names = FALSE), unname(by_hand(rows$unit[2])))
  expect_equal(rows$change, rows$estimate - unname(coef(summarise_did(effect))))
  expect_identical(nrow(tidy(probe_stand_ins(summarise_did(effect), least = 0, most = 3))), 3L)
  said <- gsub(" +", " ", paste(format(probe), collapse = " "))
  expect_match(said, sprintf("Without any one of %d units it lies between", nrow(rows)))
  expect_match(said, "; its sign stays\\.")
  expect_match(format(probe_stand_ins(effect, least = rows$weight[1])) |> paste(collapse = " "), "Without the one unit")
  expect_s3_class(plot(probe), "ggplot")
  expect_error(probe_stand_ins(measure_did(town_panel(data))), "those of a synthetic comparison",
               class = "twin_error_unsupported")
  expect_error(probe_stand_ins(effect, least = 0.9), "Lower `least`", class = "twin_error_input")
})

test_that("sentences, pictures, tables and refusals of a synthetic comparison", {
  data <- shared_towns(30, onset = c(13, 15, 13, 15), treated = 4)
  panel <- town_panel(data)
  effect <- measure_did(panel, estimator = "synthetic", inference = "analytic")
  said <- gsub(" +", " ", paste(format(effect), collapse = " "))
  expect_match(said, "13 \\(2 units\\) stands against [0-9]+ units, effectively [0-9.]+, largest town")
  expect_match(said, "no test of them")
  for (view in c("effects", "paths", "gaps")) expect_s3_class(plot(effect, view = view), "ggplot")
  expect_error(plot(measure_did(panel), view = "gaps"), "estimator = \"synthetic\"", class = "twin_error_input")
  expect_error(tidy(measure_did(panel), part = "fit"), "estimator = \"synthetic\"", class = "twin_error_input")
  met <- measure_did(panel, estimator = "synthetic", parallel = FALSE, draws = 99)
  expect_identical(nrow(tidy(met, part = "periods")), 0L)
  expect_true(is.finite(glance(compare_effects(did = summarise_did(measure_did(panel)), synthetic = summarise_did(effect)))$p.value[1L]))
  holes <- data[-c(400, 510), ]
  expect_match(paste(format(measure_did(town_panel(holes), estimator = "synthetic", draws = 99)), collapse = " "),
               "2 units not seen")
  early <- transform(data, first = ifelse(town == "town 01", 2, first))
  expect_warning(measure_did(town_panel(early), estimator = "synthetic", draws = 99),
                 "fewer than two periods before", class = "twin_warning_cells")
  refused <- function(code, words, class = "twin_error_unsupported") expect_error(code, words, class = class)
  refused(measure_did(frame_panel(landings, outcome = "catch_value", time = "quarter", group = "harbour",
                                  treatment = "cold_store"), estimator = "synthetic"), "collapse = \"groups\"")
  covered <- town_panel(transform(data, size = year), covariates = "size")
  refused(measure_did(covered, estimator = "synthetic"), "takes no covariates")
  refused(measure_did(panel, parallel = TRUE), "do(es)? not belong", "twin_error_input")
  everybody <- transform(data, first = ifelse(is.na(first), 18, first))
  refused(measure_did(town_panel(everybody), estimator = "synthetic"), "there are none", "twin_error_input")
  several <- measure_did(town_panel(shared_towns(30, onset = 15, treated = 4)), estimator = "synthetic", draws = 99)
  placebo <- tidy(probe_placebo(several, dates = 2))
  expect_lt(abs(placebo$estimate[1]), 3 * placebo$std.error[1] + 0.5)
})
