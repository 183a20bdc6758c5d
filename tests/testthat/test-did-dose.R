# Effects by dose, and the two-way coefficient of a dose taken apart.

# Crews that get 1, 2 or 4 nets in 2003 or 2005; the first has noise, the second none. An effect of 3 d - 0.5 d^2.
netted <- function(noise = 0.5, doses = c(1, 2, 4), n = 80) {
  withr::with_seed(6, {
    data <- expand.grid(year = 2001:2006, crew = seq_len(n))
    opened <- c(2003, 2005, NA, NA)[1 + data$crew %% 4]
    dose <- doses[1 + (data$crew %/% 4) %% length(doses)]
    on <- !is.na(opened) & data$year >= opened
    data$opened <- opened
    data$nets <- ifelse(on, dose, 0)
    data$boat <- rnorm(n)[data$crew]
    data$s <- runif(n, 0.5, 2)[data$crew]
    data$port <- data$crew %% 20
    data$value <- data$crew / 9 + 0.3 * data$year + ifelse(on, 3 * dose - 0.5 * dose^2, 0) +
      rnorm(nrow(data), sd = noise)
    data
  })
}

net_panel <- function(data, ...) frame_panel(data, outcome = "value", time = "year", unit = "crew", dose = "nets", ...)

row_of <- function(effect, term) {
  table <- tidy(effect)
  table[table$term == term, ]
}

test_that("with few doses effects are two-by-two means, and slopes those between neighbours", {
  data <- netted()
  panel <- net_panel(data[data$opened %in% c(2003, NA), ])
  own <- measure_did(panel, estimator = "dose", since = c(1, 1))
  wide <- function(year) data$value[data$year == year & data$opened %in% c(2003, NA)]
  unit <- data[data$year == 2004 & data$opened %in% c(2003, NA), ]
  change <- wide(2004) - wide(2002)
  gap <- function(inside) mean(change[inside]) - mean(change[is.na(unit$opened)])
  for (dose in c(1, 2, 4)) expect_equal(row_of(own, paste("dose", dose))$estimate, gap(unit$nets == dose))
  expect_equal(row_of(own, "slope at 1")$estimate, gap(unit$nets == 2) - gap(unit$nets == 1))
  expect_equal(row_of(own, "slope at 2")$estimate, (gap(unit$nets == 4) - gap(unit$nets == 2)) / 2)
  expect_equal(row_of(own, "slope at 4")$estimate, row_of(own, "slope at 2")$estimate)  # there is no next one
  expect_equal(row_of(own, "average")$estimate, gap(unit$nets > 0))
  # errors as of a difference of means, by hand
  spread <- function(inside) sum((change[inside] - mean(change[inside]))^2) / sum(inside)^2
  treated <- sum(unit$nets == 2)
  expect_equal(row_of(own, "dose 2")$std.error^2,
               (spread(unit$nets == 2) * treated / (treated - 1) + spread(is.na(unit$opened))) * 60 / 59)
})

test_that("the curve of a world without noise is its truth, and slopes are its derivative", {
  panel <- net_panel(netted(0, seq(0.5, 3, length.out = 20), n = 240))
  own <- suppressWarnings(measure_did(panel, estimator = "dose", doses = c(1, 1.7, 2.5), knots = 0))
  for (dose in c(1, 1.7, 2.5)) {
    expect_equal(row_of(own, paste("dose", dose))$estimate, 3 * dose - 0.5 * dose^2)
    expect_equal(row_of(own, paste("slope at", dose))$estimate, 3 - dose)
  }
  expect_equal(row_of(own, "before")$estimate, 0)
  expect_equal(row_of(own, "slope before")$estimate, 0)
  curved <- measure_did(net_panel(netted(0.5, seq(0.5, 3, length.out = 20), n = 240)), estimator = "dose",
                        doses = c(1.2 - 1e-5, 1.2, 1.2 + 1e-5))
  table <- tidy(curved)
  at <- table[table$what == "effect" & !is.na(table$dose), ]
  expect_equal((at$estimate[3] - at$estimate[1]) / 2e-5, table$estimate[table$what == "slope" & !is.na(table$dose)][2], tolerance = 1e-5)
  expect_identical(curved$asked$spline$degree, 3L)
  expect_length(curved$asked$spline$knots, 1L)
})

test_that("the mean over doses is the effect without doses, whoever is compared with", {
  data <- netted()
  data <- data[-c(9, 98, 331), ]
  data$value[c(20, 200)] <- NA
  for (comparison in c("never", "not_yet")) {
    by_dose <- measure_did(net_panel(data), estimator = "dose", comparison = comparison)
    plain <- suppressWarnings(measure_did(net_panel(data), comparison = comparison))
    cells <- tidy(plain)
    post <- cells[cells$kind == "post" & !is.na(cells$estimate), ]
    expect_equal(row_of(by_dose, "average")$estimate, weighted.mean(post$estimate, post$n_treated))
  }
  whole <- netted()
  expect_equal(row_of(measure_did(net_panel(whole), estimator = "dose"), "average")$estimate,
               summarise_did(measure_did(net_panel(whole)))$estimate[[1L]])
})

test_that("contributions are derivatives, with covariates and weights", {
  data <- netted(0.5, seq(0.5, 3, length.out = 15))
  for (adjustment in c("none", "regression")) {
    for (term in c("average", "dose 2", "slope at 2", "average slope", "before")) {
      make <- function(data) {
        panel <- net_panel(data, covariates = "boat", weight = "s")
        measure_did(panel, estimator = "dose", doses = 2, adjustment = adjustment, knots = 0)
      }
      effect <- make(data)
      at <- match(term, effect$table$term)
      own <- carefultwin:::core_contributions(effect$source, effect$combine[, at, drop = FALSE])
      for (crew in c(2, 6, 35)) {  # never treated: those treated are tested below
        moved <- function(by) {
          data$s[data$crew == crew] <- data$s[data$crew == crew] * (1 + by)
          make(data)$estimate[[at]]
        }
        expect_equal(own[crew, 1L], (moved(1e-4) - moved(-1e-4)) / 2e-4, tolerance = 1e-5, label = paste(adjustment, term))
      }
    }
  }
  # residuals of treated rows are raised by what their unit takes of them: without it contributions are derivatives
  at <- withr::with_seed(1, list(dose = rep(runif(12, 1, 3), each = 2), gap = rnorm(24), s = rep(runif(12), each = 2)))
  spline <- list(ends = range(at$dose), knots = 2, degree = 2L)
  unit <- rep(1:12, each = 2)
  curve <- function(s) carefultwin:::core_dose_curve(at$gap, at$dose, s, unit, spline, c(1.5, 2.5))
  own <- curve(at$s)
  psi <- carefultwin:::core_dose_basis(at$dose, spline)
  kept <- rowsum(diag(psi %*% solve(crossprod(psi, at$s * psi), t(at$s * psi))), unit)
  for (k in c(3, 8)) {
    rows <- unit == k
    moved <- function(by) curve(at$s * ifelse(rows, 1 + by, 1))$estimate
    derivative <- (moved(1e-5) - moved(-1e-5)) / 2e-5
    expect_equal(colSums(own$own[rows, 1:4]) * sqrt(1 - kept[k]), derivative[1:4], tolerance = 1e-6)
  }
  # adjusted: what regressions of the comparison foretell, by hand
  one <- data[data$opened %in% c(2003, NA), ]
  own <- measure_did(net_panel(one, covariates = "boat"), estimator = "dose", since = c(0, 0), doses = 2)
  unit <- one[one$year == 2003, ]
  change <- unit$value - one$value[one$year == 2002]
  fit <- lm(change ~ boat, data.frame(change, unit)[is.na(unit$opened), ])
  expect_equal(row_of(own, "average")$estimate, mean((change - predict(fit, unit))[unit$nets > 0]))
})

test_that("bootstrap, clusters, groups and kinds know doses", {
  data <- netted(0.5, seq(0.5, 3, length.out = 15))
  panel <- net_panel(data, cluster = "port")
  own <- suppressWarnings(measure_did(panel, estimator = "dose", doses = c(1, 2)))
  expect_identical(own$clusters, 20L)
  drawn <- suppressWarnings(measure_did(panel, estimator = "dose", doses = c(1, 2), inference = "bootstrap", draws = 199,
                                        interval = "normal"))
  expect_equal(coef(drawn), coef(own))
  expect_equal(tidy(drawn)$std.error, tidy(own)$std.error, tolerance = 0.35)
  data$coast <- ifelse(data$crew %% 3 == 0, "east", "west")
  each <- suppressWarnings(measure_did(net_panel(data), estimator = "dose", by = "coast", doses = 2, knots = 0))
  words <- paste(format(each), collapse = " ")
  expect_identical(lengths(regmatches(words, gregexpr("differs from", words))), 1L)  # by its mean effect alone
  alone <- suppressWarnings(measure_did(net_panel(data[data$coast == "west", ]), estimator = "dose", doses = 2, knots = 0))
  expect_equal(tidy(each[["west"]]), tidy(alone))
  means <- frame_panel(transform(data, harbour = crew), outcome = "value", time = "year", group = "harbour", dose = "nets")
  expect_equal(suppressWarnings(measure_did(means, estimator = "dose", collapse = "groups", doses = 2))$estimate,
               measure_did(net_panel(data), estimator = "dose", doses = 2)$estimate)
})

test_that("a dose that one unit has tells an effect, and no error", {
  data <- netted()
  data$nets[data$crew == 4 & data$nets > 0] <- 3
  expect_warning(own <- measure_did(net_panel(data), estimator = "dose"), "only treated unit of a dose", class = "twin_warning_no_error")
  expect_false(is.na(row_of(own, "dose 3")$estimate))
  expect_true(is.na(row_of(own, "dose 3")$std.error))
  expect_true(is.na(row_of(own, "slope at 2")$std.error))
  expect_false(is.na(row_of(own, "dose 2")$std.error))
  expect_false(is.na(row_of(own, "average")$std.error))
  expect_true(all(nchar(format(own)) <= 80))
})

test_that("what a dose effect says is about doses", {
  panel <- net_panel(netted(0.5, seq(0.5, 3, length.out = 15)))
  own <- measure_did(panel, estimator = "dose", doses = c(1, 2))
  text <- paste(format(own), collapse = " ")
  expect_true(all(nchar(format(own)) <= 80))
  expect_match(text, "With nets, value changes by .* on average over the doses that treated units have")
  expect_match(text, "for each further unit of nets")
  expect_match(text, "The curve over nets is a cubic without knots")
  expect_match(text, "Slopes, and one dose against another, need more")
  expect_match(paste(format(panel), collapse = " "), "Dose +nets: 0.5")
  expect_match(text, "\"before\" is the same")
  few <- measure_did(net_panel(netted()), estimator = "dose", since = c(0, 1))
  expect_match(paste(format(few), collapse = " "), "straight between the doses there are")
  expect_match(paste(format(few), collapse = " "), "over periods 0 to 1 since treatment")
  expect_s3_class(plot(own), "ggplot")
  expect_identical(nrow(table_parts(own)$table), 4L)
  expect_true(all(c("band.low", "dose", "what") %in% names(tidy(own))))
  expect_identical(sum(!is.na(tidy(own)$band.low)), 2L)
  expect_error(summarise_did(own), "since", class = "twin_error_input")
  expect_error(probe_placebo(own, dates = 1), "placebo in itself", class = "twin_error_unsupported")
})

test_that("doses that can't be are refused with where they are", {
  data <- netted()
  changing <- transform(data, nets = ifelse(crew == 4 & year == 2006, 3, nets))
  expect_error(net_panel(changing), "switching = TRUE", class = "twin_error_input")
  expect_error(net_panel(transform(data, nets = ifelse(nets > 0, 1, 0))), "several doses", class = "twin_error_input")
  expect_error(net_panel(transform(data, nets = as.character(nets))), "numbers", class = "twin_error_input")
  below <- transform(data, nets = ifelse(crew == 4 & nets > 0, -1, nets), on = nets > 0)
  expect_error(net_panel(below, treatment = "on"), "above 0", class = "twin_error_input")
  expect_error(net_panel(data, switching = TRUE), "amounts", class = "twin_error_unsupported")
  expect_error(measure_did(harbour_panel(), estimator = "dose"), "no doses", class = "twin_error_input")
  panel <- net_panel(data)
  expect_error(measure_did(panel, estimator = "dose", doses = 5), "go from 1 to 4", class = "twin_error_input")
  expect_error(measure_did(panel, estimator = "dose", since = c(3, 1)), "since", class = "twin_error_input")
  expect_error(measure_did(panel, estimator = "dose", knots = 11), "at most 10", class = "twin_error_input")
  expect_error(measure_did(panel, estimator = "dose", inference = "randomization"), class = "twin_error_unsupported")
  expect_error(measure_did(panel, doses = 2), "doses", class = "twin_error_input")
  unknown <- transform(data, nets = ifelse(crew == 4 & nets > 0, NA, nets), on = nets > 0)
  expect_error(net_panel(unknown, treatment = "on"), "first", class = "twin_error_input")
  kept <- net_panel(transform(data, on = nets > 0, nets = ifelse(nets > 0, nets, NA)), treatment = "on")
  expect_equal(measure_did(kept, estimator = "dose")$estimate, measure_did(panel, estimator = "dose")$estimate)
})

test_that("the two-way coefficient of a dose is the sum of its weights with the effects", {
  data <- netted()
  data <- data[data$year %in% 2002:2003 & data$opened %in% c(2003, NA), ]
  panel <- net_panel(data)
  apart <- suppressWarnings(decompose_did(panel))
  coefficient <- coef(lm(value ~ nets + factor(crew) + factor(year), data))[["nets"]]
  expect_equal(glance(apart)$estimate, coefficient)
  rows <- tidy(apart)
  expect_equal(sum(rows$adds), coefficient)  # two periods, and a comparison: nothing remains
  expect_equal(sum(rows$weight * rows$dose), 1)
  change <- data$value[data$year == 2003] - data$value[data$year == 2002]
  dose <- data$nets[data$year == 2003]
  by_hand <- vapply(c(1, 2, 4), function(d) mean(dose == d) * (d - mean(dose)) / mean((dose - mean(dose))^2), 0)
  expect_equal(rows$weight, by_hand)
  expect_equal(rows$effect, vapply(c(1, 2, 4), function(d) mean(change[dose == d]) - mean(change[dose == 0]), 0))
  # all treated at once: doses below the mean count against it
  most <- net_panel(data[data$crew %% 4 == 0 | data$crew < 12, ])
  apart <- suppressWarnings(decompose_did(most))
  expect_lt(tidy(apart)$weight[1L], 0)
  expect_gt(glance(apart)$negative_share, 0)
  text <- paste(format(apart), collapse = " ")
  expect_match(text, "of its weights (by size) are negative", fixed = TRUE)
  expect_match(text, "The mean slope over treated units is")
  expect_true(all(nchar(format(apart)) <= 80))
  expect_s3_class(plot(apart), "ggplot")
  whole <- decompose_did(net_panel(netted()))
  expect_equal(glance(whole)$estimate, coef(lm(value ~ nets + factor(crew) + factor(year), netted()))[["nets"]])
  expect_match(paste(format(whole), collapse = " "), "What differs before treatment")
  expect_error(decompose_did(net_panel(netted()[-1, ])), class = "twin_error_unsupported")
})

test_that("the truth of the boats is held, and a plan measures doses", {
  panel <- frame_panel(boats, outcome = "fuel", time = "season", unit = "boat", dose = "engine_kw")
  own <- tidy(measure_did(panel, estimator = "dose", doses = c(60, 100, 140, 180)))
  truth <- boats_truth[boats_truth$outcome == "fuel", ]
  expect_identical(truth$at[truth$over == "dose"], c("60", "100", "140", "180"))
  expect_true(all(own$band.low[1:4] < truth$truth[truth$over == "dose"] & truth$truth[truth$over == "dose"] < own$band.high[1:4]))
  mean_slope <- own[own$term == "average slope", ]
  expect_lt(mean_slope$conf.low, truth$truth[truth$over == "slope" & truth$at == "all"])
  expect_gt(mean_slope$conf.high, truth$truth[truth$over == "slope" & truth$at == "all"])
  folder <- withr::local_tempdir()
  data.table::fwrite(boats, file.path(folder, "boats.csv"))
  writeLines(c(
    "panel: {data: boats.csv, outcome: fuel, time: season, unit: boat, dose: engine_kw}", "decompose: true",
    "effects:", "  engines: {estimator: dose, doses: [60, 100, 140]}"
  ), file.path(folder, "plan.yml"))
  expect_identical(twin("run", file.path(folder, "plan.yml"))$status, 0L)
  html <- paste(readLines(file.path(folder, "results", "report.html"), warn = FALSE), collapse = " ")
  expect_match(html, "for each further unit of engine_kw")
  expect_match(html, "of weights negative")
  table <- data.table::fread(file.path(folder, "results", "tables", "effect-engines.csv"), data.table = FALSE)
  expect_equal(table$estimate[table$term == "dose 60"], own$estimate[own$term == "dose 60"])
})
