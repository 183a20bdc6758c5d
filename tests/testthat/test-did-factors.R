# Towns whose sales share paths, each in its own measure (`shared_towns()` of the synthetic comparison, with more
# treated); those that feel the path more are treated.
driven_towns <- function(n = 40, seed = 1, effect = 1, paths = 1L, noise = 0.3, periods = 16L, holes = 0,
                         strength = 1) {
  with_own_seed(seed, {
    path <- apply(matrix(rnorm(periods * paths), periods), 2L, cumsum)
    measure <- matrix(rnorm(n * paths), n)
    first <- ifelse(measure[, 1L] + rnorm(n) > 0.6, sample(c(10, 13), n, TRUE), NA)
    data <- expand.grid(year = seq_len(periods), town = sprintf("town %02d", seq_len(n)), stringsAsFactors = FALSE)
    at <- match(data$town, unique(data$town))
    data$first <- first[at]
    data$sales <- rnorm(n)[at] + 0.2 * data$year + strength * rowSums(path[data$year, , drop = FALSE] * measure[at, , drop = FALSE]) +
      effect * (!is.na(data$first) & data$year >= data$first) + rnorm(nrow(data), sd = noise)
    if (holes > 0) data$sales[sample.int(nrow(data), holes)] <- NA
    data
  })
}

driven_panel <- function(data, ...) {
  frame_panel(data, outcome = "sales", time = "year", unit = "town", first_treated = "first", ...)
}

by_factors <- function(panel, ...) measure_did(panel, estimator = "imputation", draws = 99, ...)

test_that("no factor is imputation, with gaps and weights too", {
  for (holes in c(0, 30)) {
    data <- driven_towns(holes = holes)
    panel <- driven_panel(data)
    expect_equal(coef(by_factors(panel, factors = 0)), coef(measure_did(panel, estimator = "imputation")), tolerance = 1e-6)
  }
  data$s <- rep(runif(40, 0.5, 2), each = 16)
  weighed <- driven_panel(data, weight = "s")
  whole <- summarise_did(by_factors(weighed, factors = 0))
  expect_equal(coef(whole), coef(summarise_did(measure_did(weighed, estimator = "imputation"))), tolerance = 1e-6)
})

test_that("paths that all share are foretold exactly where nothing else moves", {
  for (paths in 1:2) {
    data <- driven_towns(paths = paths, noise = 0, effect = 2)
    found <- by_factors(driven_panel(data), factors = paths)
    expect_equal(unname(coef(found)), rep(2, length(coef(found))), tolerance = 1e-3)
  }
  # a factor that all feel alike is a period effect
  flat <- driven_towns(noise = 0.3)
  flat$sales <- flat$sales - ave(flat$sales, flat$year) + flat$year
  expect_lt(max(abs(coef(by_factors(driven_panel(flat), factors = 1)) - 1)), 1.5)
})

test_that("the number is chosen, errors come from draws, and what trends bend is put right", {
  data <- driven_towns(60, seed = 3)
  panel <- driven_panel(data)
  chosen <- by_factors(panel, factors = "choose", seed = 4)
  expect_identical(chosen$asked$factors, 1L)
  text <- gsub(" +", " ", paste(format(chosen), collapse = " "))
  expect_match(text, "imputation from untreated rows with 1 shared factor")
  expect_match(text, "1 factor chosen, which foretells untreated rows best \\(root mean square")
  effect <- summarise_did(chosen)
  expect_lt(abs(coef(effect) - 1), 4 * sqrt(vcov(effect)[1, 1]))
  plain <- summarise_did(measure_did(panel, estimator = "imputation"))
  expect_gt(abs(coef(plain) - 1), 2 * abs(coef(effect) - 1))
  same <- by_factors(panel, factors = "choose", seed = 4)
  expect_identical(tidy(same), tidy(chosen))
  none <- by_factors(driven_panel(driven_towns(60, seed = 5, strength = 0)), factors = "choose")
  expect_identical(none$asked$factors, 0L)
  placebo <- tidy(probe_placebo(chosen, dates = 2))
  expect_lt(abs(placebo$estimate[1]), 4 * placebo$std.error[1])
})

test_that("what can't be told is refused or stays without an estimate", {
  data <- driven_towns()
  panel <- driven_panel(data)
  refused <- function(code, words, class = "twin_error_input") expect_error(code, words, class = class)
  refused(by_factors(panel, factors = 4), "0 to 3, or")
  refused(by_factors(panel, factors = "many"), "0 to 3, or")
  refused(measure_did(panel, estimator = "imputation", factors = 1, inference = "analytic"), "drawing clusters anew",
          "twin_error_unsupported")
  refused(measure_did(panel, factors = 1), "not belong")
  refused(by_factors(driven_panel(data[data$year > 7, ]), factors = 3), "this panel can tell [12]")
  refused(by_factors(driven_panel(data[data$year > 8 & !data$first %in% 13, ]), factors = 1), "Half of them are seen in 1 or")
  covered <- driven_panel(transform(data, size = year), covariates = "size")
  refused(by_factors(covered, factors = 1), "take no covariates", "twin_error_unsupported")
  late <- data
  late$sales[late$town == late$town[!is.na(late$first)][1] & late$year < late$first - 1] <- NA
  expect_match(paste(by_factors(driven_panel(late), factors = 1)$notes, collapse = " "), "1 treated unit seen in no more")
})
