never <- function(data) is.na(data$opened)

test_that("unadjusted cells are two-by-two differences of means", {
  data <- many_harbours()
  panel <- harbour_panel(data)
  previous <- measure_did(panel, comparison = "never")
  fixed <- measure_did(panel, comparison = "never", base = "fixed")
  expect_identical(nrow(tidy(previous)), 15L)
  expect_equal(cell_of(previous, 2004, 2006)$estimate, two_by_two(data, data$opened %in% 2004, never(data), 2006, 2003))
  expect_equal(cell_of(previous, 2006, 2003)$estimate, two_by_two(data, data$opened %in% 2006, never(data), 2003, 2002))
  expect_equal(cell_of(fixed, 2006, 2003)$estimate, two_by_two(data, data$opened %in% 2006, never(data), 2003, 2005))
  expect_identical(cell_of(fixed, 2006, 2005)$kind, "base")
  expect_identical(cell_of(fixed, 2006, 2005)$estimate, 0)
  expect_identical(is.na(tidy(fixed)$std.error), tidy(fixed)$kind == "base")
})

test_that("units not yet treated serve until they are, and not in their anticipation", {
  data <- many_harbours()
  panel <- harbour_panel(data)
  not_yet <- measure_did(panel, comparison = "not_yet")
  expect_equal(cell_of(not_yet, 2003, 2005)$estimate,
               two_by_two(data, data$opened %in% 2003, never(data) | data$opened %in% 2006, 2005, 2002))
  careful <- measure_did(panel, comparison = "not_yet", anticipation = 1)
  expect_equal(cell_of(careful, 2003, 2005)$estimate, two_by_two(data, data$opened %in% 2003, never(data), 2005, 2001))
  expect_equal(cell_of(careful, 2004, 2003)$estimate,
               two_by_two(data, data$opened %in% 2004, never(data) | data$opened %in% 2006, 2003, 2002))
})

test_that("gaps are filled with whoever is seen in both periods", {
  data <- many_harbours(gaps = TRUE)
  panel <- harbour_panel(data)
  effect <- measure_did(panel)
  wide <- wide_harbours(data)
  dy <- wide$price.2005 - wide$price.2003
  by_hand <- mean(dy[wide$opened %in% 2004], na.rm = TRUE) - mean(dy[is.na(wide$opened)], na.rm = TRUE)
  cell <- cell_of(effect, 2004, 2005)
  expect_equal(cell$estimate, by_hand)
  expect_equal(cell$n_treated, sum(!is.na(dy[wide$opened %in% 2004])))
  expect_identical(effect$missing, 3L)
})

test_that("cells of a cross-section are differences of four means", {
  data <- many_landings()
  data$price <- data$value
  effect <- measure_did(landing_panel(data))
  expect_equal(cell_of(effect, 2004, 2006)$estimate, two_by_two(data, data$opened %in% 2004, never(data), 2006, 2003))
})

test_that("the variance of a cell is that of both cohorts' clusters", {
  data <- many_harbours()
  wide <- wide_harbours(data)
  dy <- wide$price.2005 - wide$price.2002
  z <- wide$opened %in% 2003
  away <- ifelse(z, (dy - mean(dy[z])) / sum(z), 0) - ifelse(is.na(wide$opened), (dy - mean(dy[is.na(wide$opened)])) / 10, 0)
  by_unit <- cell_of(measure_did(harbour_panel(data)), 2003, 2005)$std.error
  expect_equal(by_unit, sqrt(var(dy[z]) / 10 + var(dy[is.na(wide$opened)]) / 10))  # two independent means
  by_bay <- cell_of(measure_did(harbour_panel(data, cluster = "bay")), 2003, 2005)$std.error
  inside <- z | is.na(wide$opened)
  expect_equal(by_bay, sqrt(cohort_wise_by_hand(away[inside], wide$opened[inside], wide$bay[inside])[1, 1]))
  table <- tidy(measure_did(harbour_panel(data)))
  of <- function(x) var(x) / 10
  parts <- c(of(dy[z]), of(dy[is.na(wide$opened)]))
  expect_equal(table$df[table$cohort == "2003" & table$time == "2005"], sum(parts)^2 / sum(parts^2 / 9))  # Welch's
})

test_that("augmented cells follow the plain formula", {
  data <- many_harbours(80)
  effect <- measure_did(harbour_panel(data, covariates = ~ depth), adjustment = "augmented")
  wide <- wide_harbours(data)
  wide <- wide[wide$opened %in% c(2004, NA), ]
  d <- as.integer(!is.na(wide$opened))
  dy <- wide$price.2006 - wide$price.2003
  e <- fitted(glm(d ~ depth, binomial, wide, control = list(epsilon = 1e-12)))
  m <- predict(lm(dy ~ depth, wide, subset = d == 0), wide)
  w <- e / (1 - e) * (1 - d)
  expect_equal(cell_of(effect, 2004, 2006)$estimate, mean((dy - m)[d == 1]) - sum(w * (dy - m)) / sum(w), tolerance = 1e-7)
  regression <- measure_did(harbour_panel(data, covariates = ~ depth), adjustment = "regression")
  expect_equal(cell_of(regression, 2004, 2006)$estimate, mean((dy - m)[d == 1]))
  weighting <- measure_did(harbour_panel(data, covariates = ~ depth), adjustment = "ipw")
  expect_equal(cell_of(weighting, 2004, 2006)$estimate, mean(dy[d == 1]) - sum(w * dy) / sum(w), tolerance = 1e-7)
})

test_that("augmented cells of a cross-section are two augmented means apart", {
  data <- many_landings(n = 60)
  effect <- measure_did(landing_panel(data, covariates = ~ boat), adjustment = "augmented")
  data <- data[data$year %in% c(2003, 2006) & data$opened %in% c(2004, NA), ]
  d <- as.integer(!is.na(data$opened))
  e <- fitted(glm(d ~ boat, binomial, data, control = list(epsilon = 1e-12)))
  one <- function(year) {
    at <- data$year == year
    m <- predict(lm(value ~ boat, data, subset = at & d == 0), data)
    w <- (e / (1 - e) * (1 - d))[at]
    rest <- (data$value - m)[at]
    mean(rest[d[at] == 1]) - sum(w * rest) / sum(w)
  }
  expect_equal(cell_of(effect, 2004, 2006)$estimate, one(2006) - one(2003), tolerance = 1e-7)
})

test_that("contributions are derivatives in a unit's weight, covariates, cohort sizes and all", {
  data <- many_harbours(60, seed = 3)
  units <- c(1, 14, 27, 40, 55)
  for (adjustment in c("none", "regression", "ipw", "augmented")) {
    for (over in c("all", "event", "cohort", "calendar")) {
      make <- function(data) {
        panel <- harbour_panel(data, covariates = ~ depth, weight = "s")
        summarise_did(measure_did(panel, adjustment = adjustment, comparison = "not_yet"), over, bands = FALSE)
      }
      expect_lt(contribution_gap(make, data, "harbour", units), 1e-5)
    }
  }
  gaps <- many_harbours(60, seed = 3, gaps = TRUE)
  unbalanced <- function(data) summarise_did(measure_did(harbour_panel(data, weight = "s")))
  expect_lt(contribution_gap(unbalanced, gaps, "harbour", units), 1e-5)
})

test_that("contributions of a cross-section are derivatives too, and so are those of triple differences", {
  data <- many_landings(n = 60)
  data$crew <- seq_len(nrow(data))
  units <- c(5, 300, 600, 900)
  for (adjustment in c("none", "regression", "ipw", "augmented")) {
    make <- function(data) {
      summarise_did(measure_did(landing_panel(data, covariates = ~ boat, weight = "s"), adjustment = adjustment))
    }
    expect_lt(contribution_gap(make, data, "crew", units), 1e-5)
  }
  triple <- function(data) {
    summarise_did(measure_did(landing_panel(data, weight = "s"), estimator = "triple", third = "fresh", affected = "yes"))
  }
  expect_lt(contribution_gap(triple, data, "crew", units), 1e-5)
})

test_that("triple differences are the difference of both sides' cells", {
  data <- many_landings()
  own <- measure_did(landing_panel(data), estimator = "triple", third = "fresh", affected = "yes")
  side <- function(value) {
    measure_did(frame_panel(data[data$fresh == value, ], outcome = "value", time = "year", group = "harbour", first_treated = "opened"))
  }
  expect_equal(own$estimate, side("yes")$estimate - side("no")$estimate)
  panel <- many_harbours()
  panel$deep <- panel$coast == "east"
  triple <- measure_did(harbour_panel(panel, cluster = "bay"), estimator = "triple", third = "deep")
  part <- function(value) measure_did(harbour_panel(panel[panel$deep == value, ]))
  expect_equal(triple$estimate, part(TRUE)$estimate - part(FALSE)$estimate)
})

test_that("a weight of 2 is the unit twice", {
  data <- many_harbours()
  data$s <- ifelse(data$harbour %in% c("h02", "h05"), 2, 1)
  twice <- rbind(data, transform(data[data$s == 2, ], harbour = paste0(harbour, "b")))
  weighted <- measure_did(harbour_panel(data, weight = "s", covariates = ~ depth), adjustment = "regression")
  repeated <- measure_did(harbour_panel(twice, covariates = ~ depth), adjustment = "regression")
  expect_equal(weighted$estimate, repeated$estimate)
})

test_that("covariates that vary over time are taken from the base period, and the print says so", {
  data <- many_harbours()
  effect <- measure_did(harbour_panel(data, covariates = ~ tide), adjustment = "regression", base = "fixed")
  wide <- wide_harbours(data)
  wide <- wide[wide$opened %in% c(2004, NA), ]
  dy <- wide$price.2006 - wide$price.2003
  m <- predict(lm(dy ~ tide.2003, wide, subset = is.na(opened)), wide)
  expect_equal(cell_of(effect, 2004, 2006)$estimate, mean((dy - m)[!is.na(wide$opened)]))
  expect_match(paste(format(effect), collapse = " "), "Used as it stands in the base period, since it varies over time: tide")
})

test_that("cells that can't be estimated stay in the table with their reason", {
  data <- many_harbours()
  data <- data[!is.na(data$opened), ]
  expect_warning(effect <- measure_did(harbour_panel(data)), class = "twin_warning_cells")
  table <- tidy(effect)
  lost <- table[!is.na(table$reason), ]
  expect_identical(unique(lost$reason), "no units left to compare with")
  expect_setequal(paste(lost$cohort, lost$time), c("2003 2006", "2004 2006", "2006 2006", "2006 2004", "2006 2005"))
  expect_true(all(is.na(lost$estimate)))
  expect_match(paste(format(effect), collapse = " "), "Not estimable: no units left to compare with")
  expect_error(measure_did(harbour_panel(data), comparison = "never"), class = "twin_error_input")
  few <- many_harbours()
  few$depth <- ifelse(few$opened %in% 2003, 5 + few$depth, few$depth)
  expect_warning(parted <- measure_did(harbour_panel(few, covariates = ~ depth)), class = "twin_warning_cells")
  expect_match(cell_of(parted, 2003, 2005)$reason, "apart without error")
  expect_false(is.na(cell_of(parted, 2004, 2005)$estimate))
})

test_that("a cohort of one unit borrows the variance of the others, or has none", {
  data <- many_harbours()
  keep <- !(data$opened %in% 2003) | data$harbour == "h01"
  warning <- expect_warning(effect <- measure_did(harbour_panel(data[keep, ])), class = "twin_warning_tiny_cohort")
  expect_identical(warning$cohorts, "2003")
  wide <- wide_harbours(data[keep, ])
  dy <- wide$price.2004 - wide$price.2002
  lent <- sum(vapply(c(2004, 2006), function(g) var(dy[wide$opened %in% g]) * 9, 0)) / 18
  cell <- cell_of(effect, 2003, 2004)
  expect_equal(cell$std.error, sqrt(lent + var(dy[is.na(wide$opened)]) / 10))
  parts <- c(lent, var(dy[is.na(wide$opened)]) / 10)
  expect_equal(cell$df, sum(parts)^2 / sum(parts^2 / c(18, 9)))
  expect_match(gsub("\\s+", " ", paste(format(effect), collapse = " ")),
               "Cohort 2003 is of a single harbour: standard errors borrow the variance of the other treated cohorts")
  # where weights or gaps differ, those lend who were seen as long after their own treatment
  data$ones <- 1 + 1e-12 * (seq_len(nrow(data)) == 1)
  rows <- suppressWarnings(measure_did(harbour_panel(data[keep, ], weight = "ones")))
  expect_equal(cell_of(rows, 2003, 2004)$estimate, cell$estimate)
  later <- wide$price.2005 - wide$price.2003
  parts <- c(var(later[wide$opened %in% 2004]), var(dy[is.na(wide$opened)]) / 10)
  expect_equal(cell_of(rows, 2003, 2004)$std.error, sqrt(sum(parts)), tolerance = 1e-6)
  expect_equal(cell_of(rows, 2003, 2004)$df, sum(parts)^2 / sum(parts^2 / 9), tolerance = 1e-6)
  # nobody was seen three years after, nor is there another treated cohort
  expect_identical(unlist(cell_of(rows, 2003, 2006)[c("std.error", "p.value", "conf.low")], use.names = FALSE),
                   rep(NA_real_, 3))
  expect_equal(cell_of(rows, 2004, 2005)$std.error, cell_of(effect, 2004, 2005)$std.error)
  only <- data[is.na(data$opened) | data$harbour == "h01", ]
  warning <- expect_warning(alone <- summarise_did(measure_did(harbour_panel(only))), "No other cohort can lend one",
                            class = "twin_warning_tiny_cohort")
  expect_identical(tidy(alone)$std.error, NA_real_)
  expect_identical(tidy(alone)$conf.low, NA_real_)
  pair <- only[only$harbour %in% c("h01", "h07"), ]
  both <- suppressWarnings(measure_did(harbour_panel(pair), estimator = "two_way"))
  expect_identical(tidy(both)$std.error, NA_real_)
  expect_match(gsub("\\s+", " ", paste(format(both), collapse = " ")), "changes by 0.754 \\(no interval: nothing tells its error\\)")
})

test_that("settings that do not belong to the estimator are refused", {
  panel <- harbour_panel()
  expect_error(measure_did(panel, estimator = "two_way", comparison = "never"), "comparison", class = "twin_error_input")
  expect_error(measure_did(panel, small_sample = "CR2"), "small_sample", class = "twin_error_input")
  expect_error(measure_did(panel, adjustment = "ipw"), "covariates", class = "twin_error_input")
  expect_error(measure_did(panel, inference = "wild"), class = "twin_error_unsupported")
  expect_error(measure_did(panel, estimator = "two_period"), class = "twin_error_unsupported")
  expect_error(measure_did(panel, "prise"), class = "twin_error_input")
  expect_error(measure_did(panel, estimator = "triple", third = "nothing"), class = "twin_error_input")
  expect_error(measure_did(panel, collapse = "rows"), "groups", class = "twin_error_input")
})

test_that("the order of the rows does not matter, nor does what the table is made of", {
  data <- many_harbours(gaps = TRUE)
  mixed <- data[withr::with_seed(4, sample(nrow(data))), ]
  panel <- function(data) {
    frame_panel(data, outcome = "price", time = "year", unit = "harbour", first_treated = "opened", covariates = ~ depth, weight = "s")
  }
  for (estimator in c("group_time", "imputation", "two_way")) {
    one <- measure_did(panel(data), estimator = estimator)
    other <- measure_did(panel(data.table::as.data.table(mixed)), estimator = estimator)
    expect_equal(other$estimate, one$estimate)
    expect_equal(other$vcov, one$vcov)
  }
  expect_error(measure_did(panel(transform(data, price = replace(price, 2, Inf)))), "finite", class = "twin_error_input")
})

test_that("an outcome that does not vary has effects of 0 without a band", {
  data <- many_harbours()
  data$price <- 1
  expect_warning(flat <- measure_did(harbour_panel(data)), "nothing varies", class = "twin_warning_no_error")
  path <- tidy(summarise_did(flat, "event"))
  expect_identical(range(path$estimate), c(0, 0))
  expect_null(path$band.low)
  expect_true(all(is.na(path$std.error) & is.na(path$p.value)))
})

test_that("outcomes with two values are shares", {
  data <- many_harbours()
  data$dear <- ifelse(data$price > 1, "yes", "no")
  data$share <- as.double(data$price > 1)
  panel <- frame_panel(data, outcome = c("dear", "share"), time = "year", unit = "harbour", treatment = "open")
  expect_equal(measure_did(panel, "dear")$estimate, measure_did(panel, "share")$estimate)
  expect_match(paste(format(measure_did(panel)), collapse = " "), "the share with dear = \"yes\"")
})

test_that("cells that share their units give what each gives by itself", {
  data <- many_harbours(120, seed = 8)
  data$kind <- factor(c("sand", "rock", "mud"))[1 + as.integer(data$harbour) %% 3]
  for (comparison in c("never", "not_yet")) {
    for (adjustment in c("regression", "ipw", "augmented")) {
      measured <- function(data, ...) {
        measure_did(harbour_panel(data, covariates = ~ depth + kind, weight = "s", ...), adjustment = adjustment,
                    comparison = comparison, base = "fixed")
      }
      together <- suppressWarnings(measured(data))
      # a covariate that moves, but in a period that no cell starts from, sends the same cells through the loop
      moved <- transform(data, depth = depth + (year == 2006))
      alone <- suppressWarnings(measured(moved))
      expect_identical(alone$study$varying, "depth")
      expect_equal(together$estimate, alone$estimate)
      expect_equal(vcov(together), vcov(alone), tolerance = 1e-7)
      expect_equal(tidy(together)[c("n_treated", "n_comparison", "df")], tidy(alone)[c("n_treated", "n_comparison", "df")])
      expect_equal(augment(together), augment(alone), tolerance = 1e-7)
    }
  }
  # covariates on wild scales, and one that repeats another
  wild <- transform(data, depth = 1e6 + 1e-2 * depth, again = 3 * depth)
  own <- suppressWarnings(measure_did(harbour_panel(wild, covariates = ~ depth + again), adjustment = "regression"))
  plain <- suppressWarnings(measure_did(harbour_panel(data, covariates = ~ depth), adjustment = "regression"))
  expect_equal(unname(own$estimate), unname(plain$estimate), tolerance = 1e-6)
  apart <- transform(data, side = as.double(!is.na(opened)))
  expect_warning(none <- measure_did(harbour_panel(transform(apart, side = side + rnorm(120, sd = 1e-3)[as.integer(harbour)]),
                                                   covariates = ~ side + depth), adjustment = "ipw", comparison = "never") |>
                   tryCatch(twin_error = identity), NA)
  expect_match(conditionMessage(none), "tell cohort and comparison apart")
})
