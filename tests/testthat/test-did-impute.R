# Imputation with lines of units or groups and further effects, against one regression of untreated rows by lm().

# Harbours with lines of their own (steeper where a store opens), and a shock to each coast in each year.
sloped <- function(noise = 0.3, n = 40) {
  data <- many_harbours(n, seed = 5)
  withr::with_seed(5, {
    slope <- rnorm(n, 0.1, 0.3) + 0.4 * !is.na(data$opened[!duplicated(data$harbour)])
    shock <- rnorm(12)
    since <- data$year - data$opened
    effect <- ifelse(!is.na(since) & since >= 0, 1, 0)
    data$price <- as.integer(data$harbour) / 9 + slope[as.integer(data$harbour)] * data$year +
      shock[2 * (data$year - 2001) + 1 + (data$coast == "east")] + effect + rnorm(nrow(data), sd = noise)
    data
  })
}

imputed_by_lm <- function(data, formula) {
  fit <- lm(formula, data[data$open == 0, ])
  gap <- suppressWarnings(data$price - predict(fit, data))
  tapply(gap[data$open == 1], paste(data$opened, data$year)[data$open == 1], mean)
}

cells_named <- function(effect) {
  table <- tidy(effect)
  known <- !is.na(table$estimate) & table$kind == "post"
  stats::setNames(table$estimate, paste(table$cohort, table$time))[known]
}

test_that("lines and further effects are those of one regression of untreated rows", {
  data <- sloped()
  data <- data[!data$opened %in% 2003 | data$year > 2000, ]
  panel <- harbour_panel(data)
  own <- cells_named(suppressWarnings(measure_did(panel, estimator = "imputation", trends = "unit")))
  by_lm <- imputed_by_lm(data, price ~ factor(harbour) * year + factor(year))
  expect_equal(own, c(by_lm[names(own)]))
  expect_length(own, length(by_lm))
  own <- cells_named(suppressWarnings(measure_did(panel, estimator = "imputation", absorb = "coast:year")))
  by_lm <- imputed_by_lm(data, price ~ factor(harbour) + factor(year) * coast)
  expect_equal(own, c(by_lm[names(own)]))
  bays <- frame_panel(data, outcome = "price", time = "year", unit = "harbour", first_treated = "opened", group = "bay")
  own <- cells_named(suppressWarnings(measure_did(bays, estimator = "imputation", trends = "group")))
  by_lm <- imputed_by_lm(data, price ~ factor(harbour) + factor(bay):year + factor(year))
  expect_equal(own, c(by_lm[names(own)]))
  sea <- harbour_panel(data, covariates = ~ depth:factor(year))
  own <- cells_named(suppressWarnings(measure_did(sea, estimator = "imputation")))
  by_lm <- imputed_by_lm(data, price ~ factor(harbour) + factor(year) + depth:factor(year))
  expect_equal(own, c(by_lm[names(own)]))
  tides <- harbour_panel(data, covariates = "tide")
  own <- cells_named(suppressWarnings(measure_did(tides, estimator = "imputation", trends = "unit")))
  by_lm <- imputed_by_lm(data, price ~ factor(harbour) * year + factor(year) + tide)
  expect_equal(own, c(by_lm[names(own)]))
})

test_that("without lines or with effects that add nothing it is plain imputation, errors included", {
  data <- many_harbours(60, gaps = TRUE)
  data$s <- ifelse(data$harbour == "h03", 2, data$s)
  data$sea <- "one"
  panel <- suppressWarnings(harbour_panel(data, weight = "s", cluster = "bay"))
  plain <- suppressWarnings(measure_did(panel, estimator = "imputation"))
  wide <- suppressWarnings(measure_did(panel, estimator = "imputation", absorb = "sea"))
  expect_equal(wide$estimate, plain$estimate)
  expect_equal(vcov(wide), vcov(plain))
  expect_equal(tidy(wide)$n_treated, tidy(plain)$n_treated)
  expect_equal(tidy(summarise_did(wide, "event")), tidy(summarise_did(plain, "event")))
  crews <- many_landings()
  crews$sea <- "one"
  crossing <- landing_panel(crews)
  plain <- suppressWarnings(measure_did(crossing, estimator = "imputation"))
  wide <- suppressWarnings(measure_did(crossing, estimator = "imputation", absorb = "sea"))
  expect_equal(vcov(wide), vcov(plain))
})

test_that("a world of lines is undone by lines alone, and the tests before treatment say so", {
  data <- sloped(0)
  data <- data[data$opened %in% c(2004, 2006, NA), ]
  data$price <- data$price - ave(data$price, data$coast, data$year)  # no shocks to coasts, but harbours keep their lines
  panel <- harbour_panel(sloped(0.05))
  bent <- suppressWarnings(summarise_did(measure_did(panel, estimator = "imputation")))
  straight <- suppressWarnings(summarise_did(measure_did(panel, estimator = "imputation", trends = "unit")))
  expect_gt(bent$estimate[[1L]], 1.5)
  expect_lt(abs(straight$estimate[[1L]] - 1), abs(bent$estimate[[1L]] - 1))
  long <- withr::with_seed(9, {
    data <- expand.grid(year = 2001:2012, boat = seq_len(60))
    opened <- c(2008, 2010, NA)[1 + data$boat %% 3]
    slope <- rnorm(60, 0.3 * !is.na(c(2008, 2010, NA)[1 + seq_len(60) %% 3]), 0.2)
    data$opened <- opened
    data$price <- slope[data$boat] * data$year + ifelse(!is.na(opened) & data$year >= opened, 1, 0) + rnorm(nrow(data), sd = 0.3)
    frame_panel(data, outcome = "price", time = "year", unit = "boat", first_treated = "opened")
  })
  lead <- function(...) {
    rows <- suppressWarnings(assess_trends(long, ...))$tests
    rows$p.value[rows$test == "leads"]
  }
  expect_lt(lead(), 0.01)
  expect_gt(lead(trends = "unit"), 0.05)
  row <- tidy(suppressWarnings(summarise_did(measure_did(long, estimator = "imputation", trends = "unit"))))
  expect_true(row$conf.low < 1 && 1 < row$conf.high)
  placebo <- probe_placebo(suppressWarnings(measure_did(long, estimator = "imputation", trends = "unit")), dates = 1:2)
  expect_true(all(tidy(placebo)$p.value > 0.01))
  expect_true(all(tidy(probe_placebo(suppressWarnings(measure_did(long, estimator = "imputation")), dates = 1:2))$p.value < 0.05))
})

test_that("the test among untreated rows with lines is that of lm() with clustered errors", {
  data <- sloped()
  panel <- harbour_panel(data)
  row <- suppressWarnings(assess_trends(panel, leads = 1, trends = "unit"))$tests
  row <- row[row$test == "leads", ]
  free <- data[data$open == 0, ]
  free$lead <- as.double(!is.na(free$opened) & free$year == free$opened - 1)
  free$t <- free$year - 2003
  fit <- lm(price ~ factor(harbour) * t + factor(t) + lead, free)
  kept <- !is.na(coef(fit))
  x <- model.matrix(fit)[, kept]
  bread <- solve(crossprod(x))
  scores <- rowsum(x * residuals(fit), free$harbour)
  se <- sqrt((bread %*% crossprod(scores) %*% bread)["lead", "lead"] * 40 / 39)
  expect_equal(row$statistic, (coef(fit)[["lead"]] / se)^2, tolerance = 1e-6)
  expect_identical(c(row$df, row$df_below), c(1, 39))
})

test_that("what lines can't tell is left out with a note, and what does not go together refused", {
  data <- sloped()
  early <- measure_did(harbour_panel(data[!(data$opened %in% 2003 & data$year == 2001), ]), estimator = "imputation",
                       trends = "unit") |> suppressWarnings()
  expect_match(paste(format(early), collapse = " "), "seen in fewer than two untreated periods left out: nothing tells their line")
  expect_true(all(is.na(cell_of(early, "2003", "2004")$estimate)))
  expect_match(paste(format(early), collapse = " "), "with a linear trend for each unit")
  panel <- harbour_panel(data)
  expect_error(measure_did(panel, estimator = "imputation", trends = "unit", factors = 1), "factors", class = "twin_error_input")
  expect_error(measure_did(panel, estimator = "imputation", trends = "group"), "no groups", class = "twin_error_input")
  expect_error(measure_did(panel, trends = "unit"), "trends", class = "twin_error_input")
  expect_error(measure_did(panel, estimator = "imputation", absorb = "wind"), class = "twin_error_input")
})

test_that("periods that are held out are foretold like those after treatment", {
  data <- sloped()
  data$s <- ifelse(as.integer(data$harbour) %% 3 == 0, 2, 1)
  panel <- harbour_panel(data, weight = "s")
  own <- suppressWarnings(measure_did(panel, estimator = "imputation", leads = 2))
  free <- data[is.na(data$opened) | data$year < data$opened - 2, ]
  fit <- lm(price ~ factor(harbour) + factor(year), free, weights = s)
  gap <- suppressWarnings(data$price - predict(fit, transform(data, harbour = ifelse(harbour %in% free$harbour, as.character(harbour), NA))))
  since <- data$year - data$opened
  for (year in 2004:2006) {
    at <- which(data$opened == 2006 & data$year == year)
    expect_equal(cell_of(own, "2006", as.character(year))$estimate, weighted.mean(gap[at], data$s[at]))
  }
  expect_identical(cell_of(own, "2006", "2004")$kind, "pre")
  expect_identical(cell_of(own, "2006", "2006")$kind, "post")
  expect_true(is.na(cell_of(own, "2003", "2004")$estimate))  # 2001 and 2002 are held out: nothing is left to tell it
  expect_match(paste(format(own), collapse = " "), ", holding out +2 periods before treatment")
  data$sea <- "one"
  wide <- suppressWarnings(measure_did(harbour_panel(data, weight = "s"), estimator = "imputation", leads = 2, absorb = "sea"))
  expect_equal(wide$estimate, own$estimate)
  expect_equal(vcov(wide), vcov(own))
  none <- suppressWarnings(measure_did(panel, estimator = "imputation", leads = 0))
  expect_equal(none$estimate, suppressWarnings(measure_did(panel, estimator = "imputation"))$estimate)
  path <- tidy(suppressWarnings(summarise_did(own, "event")))
  expect_setequal(path$event_time[path$kind == "pre" & !is.na(path$event_time)], c(-2, -1))
  shared <- suppressWarnings(measure_did(panel, estimator = "imputation", leads = 1, factors = 0, draws = 99))
  plain <- suppressWarnings(measure_did(panel, estimator = "imputation", leads = 1))
  expect_equal(tidy(shared)$estimate, tidy(plain)$estimate, tolerance = 1e-5)
})

test_that("bounds on drifts take imputation that holds periods out, and single cohorts", {
  long <- withr::with_seed(9, {
    data <- expand.grid(year = 2001:2012, boat = seq_len(90))
    opened <- c(2008, 2010, NA)[1 + data$boat %% 3]
    data$opened <- opened
    data$price <- data$boat / 9 + ifelse(!is.na(opened) & data$year >= opened, 1, 0) + rnorm(nrow(data), sd = 0.3)
    frame_panel(data, outcome = "price", time = "year", unit = "boat", first_treated = "opened")
  })
  cells <- measure_did(long, estimator = "imputation", leads = 4)
  bounds <- tidy(probe_trends(cells, m = 0, at = 0, interval = "direct"))
  # with no drift: the effect less the last held-out distance, with the error of that difference
  path <- summarise_did(cells, "event", bands = FALSE)
  at <- match(c("event 0", "event -1"), path$table$term)
  apart <- path$estimate[[at[1L]]] - path$estimate[[at[2L]]]
  expect_equal(bounds$estimate, apart)
  half <- (bounds$conf.high - bounds$conf.low) / 2
  se <- sqrt(path$vcov[at[1L], at[1L]] + path$vcov[at[2L], at[2L]] - 2 * path$vcov[at[1L], at[2L]])
  expect_equal(half / se, qt(0.975, 60), tolerance = 0.02)
  expect_error(probe_trends(measure_did(long, estimator = "imputation")), "leads", class = "twin_error_input")
  grouped <- measure_did(long, base = "fixed")
  one <- tidy(probe_trends(grouped, m = c(0, 1), at = 0:1, interval = "direct", cohort = "2008"))
  only <- frame_panel(long$data[long$data$opened %in% c(2008, NA), ], outcome = "price", time = "year", unit = "boat",
                      first_treated = "opened")
  alone <- tidy(probe_trends(measure_did(only, base = "fixed"), m = c(0, 1), at = 0:1, interval = "direct"))
  expect_equal(one$conf.low, alone$conf.low, tolerance = 1e-6)
  expect_equal(one$conf.high, alone$conf.high, tolerance = 1e-6)
  expect_error(probe_trends(grouped, cohort = "2009"), "2008", class = "twin_error_input")
})
