# The bootstrap of clusters over time: draws against data in which clusters are literally repeated, errors against the
# analytic ones, and what has no error.

staggered <- function(seed = 1, per_cohort = c(2, 6, 6, 10), towns = 1) {
  withr::with_seed(seed, {
    onset <- rep(c(3, 4, 6, Inf), per_cohort)
    port <- seq_along(onset)
    data <- expand.grid(quarter = 1:7, town = seq_len(towns), port = port)
    shock <- rnorm(length(port), sd = 0.5)
    data$price <- data$port / 10 + shock[data$port] * data$quarter / 4 + data$quarter +
      (data$quarter >= onset[data$port]) * (0.5 + data$quarter / 10) + rnorm(nrow(data), sd = 0.3)
    data$stored <- as.integer(data$quarter >= onset[data$port])
    data$from <- ifelse(is.finite(onset[data$port]), onset[data$port], NA)
    data$unit <- data$port * 100 + data$town
    data
  })
}

framed <- function(data, ...) frame_panel(data, treatment = "stored", outcome = "price", time = "quarter", unit = "unit", ...)

# The data with clusters as often as draw k has them within cohorts.
repeated <- function(data, panel, k, seed) {
  clusters <- drawn_panel_clusters(panel, TRUE)
  times <- clusters$counts(k, seed)
  counts <- times * clusters$factor
  expect_equal(unname(tapply(times, clusters$stratum, sum)), ifelse(clusters$sizes > 1, clusters$sizes - 1, 1), ignore_attr = TRUE)
  units <- sort(unique(data$unit))
  of_unit <- times[clusters$unit]
  again <- rep(seq_along(units), of_unit)
  parts <- lapply(seq_along(again), function(j) {
    own <- data[data$unit == units[again[j]], ]
    own$unit <- j
    own$weight <- counts[clusters$unit][again[j]] / of_unit[again[j]]
    own
  })
  do.call(rbind, parts)
}

test_that("a draw is the estimate on data with the drawn clusters repeated", {
  data <- staggered()
  panel <- framed(data)
  for (estimator in c("group_time", "imputation", "interaction")) {
    effect <- measure_did(panel, estimator = estimator, inference = "bootstrap", draws = 99, seed = 5)
    k <- 4
    drawn <- suppressWarnings(measure_did(framed(repeated(data, panel, k, 5), weight = "weight"), estimator = estimator))
    own <- match(tidy(effect)$term, tidy(drawn)$term)
    expect_equal(effect$draws$estimates[k, ], tidy(drawn)$estimate[own], tolerance = 1e-8)
  }
})

test_that("errors agree with the analytic ones; percentiles, p-values and averages belong together", {
  panel <- framed(staggered(2, c(12, 15, 13, 20)))
  for (estimator in c("group_time", "two_way", "event_study")) {
    plain <- measure_did(panel, estimator = estimator)
    drawn <- measure_did(panel, estimator = estimator, inference = "bootstrap", draws = 120, interval = "normal")
    overs <- if (estimator == "group_time") c("all", "event", "cohort", "calendar") else "none"
    for (over in overs) {
      of <- function(x) tidy(if (over == "none") x else summarise_did(x, over))
      a <- of(plain)
      b <- of(drawn)
      expect_identical(b$estimate, a$estimate)
      ratio <- (b$std.error / a$std.error)[a$kind != "base"]
      expect_true(all(ratio > 0.75 & ratio < 1.33), label = paste(estimator, over, round(range(ratio), 2), collapse = " "))
      expect_identical(is.na(b$std.error), is.na(a$std.error))
    }
  }
  drawn <- measure_did(panel, inference = "bootstrap", draws = 120)
  path <- tidy(summarise_did(drawn, "event"))
  moving <- path$kind != "base"
  expect_identical(path$p.value[moving] < 0.05, (path$conf.low > 0 | path$conf.high < 0)[moving])
  cells <- tidy(drawn)
  expect_equal(cells$conf.low[3], quantile(drawn$draws$estimates[, 3], 0.025, names = FALSE))
  text <- gsub("\\s+", " ", paste(format(summarise_did(drawn)), collapse = " "))
  expect_match(text, "bootstrap, 120 draws of unit (60) within cohorts, one fewer than each has (seed 1), percentile intervals",
               fixed = TRUE)
  expect_s3_class(plot(summarise_did(drawn, "event")), "ggplot")
})

test_that("clusters across cohorts, cross-sections, collapsed rows and weights are drawn as they are", {
  data <- staggered(3, c(8, 8, 8, 12), towns = 2)
  data$coast <- data$port %% 12
  data$s <- 1 + data$town
  across <- framed(data, cluster = "coast", weight = "s")
  expect_warning(effect <- measure_did(across, inference = "bootstrap", draws = 150), "Percentile intervals tend to be too short",
                 class = "twin_warning_few_clusters")
  expect_match(effect$inference, "coast (12), one fewer than there are", fixed = TRUE)
  ratio <- tidy(summarise_did(effect))$std.error / tidy(summarise_did(suppressWarnings(measure_did(across))))$std.error
  expect_gt(ratio, 0.65)
  expect_lt(ratio, 1.5)
  rows <- frame_panel(data, first_treated = "from", outcome = "price", time = "quarter", group = "port")
  for (collapse in c("no", "rows")) {
    a <- suppressWarnings(measure_did(rows, estimator = "two_way", collapse = collapse))
    b <- suppressWarnings(measure_did(rows, estimator = "two_way", collapse = collapse, inference = "bootstrap", draws = 150))
    expect_lt(abs(log(tidy(b)$std.error / tidy(a)$std.error)), 0.3)
  }
})

test_that("a cohort of one cluster has no drawn error; bad requests are refused", {
  panel <- framed(staggered(4, c(1, 6, 6, 9)))
  expect_warning(effect <- measure_did(panel, inference = "bootstrap", draws = 99), class = "twin_warning_tiny_cohort")
  cohorts <- tidy(summarise_did(effect, "cohort"))
  expect_identical(is.na(cohorts$std.error), c(TRUE, FALSE, FALSE, TRUE))
  expect_identical(is.na(cohorts$conf.low), is.na(cohorts$std.error))
  expect_match(gsub("\\s+", " ", paste(format(effect), collapse = " ")), "no standard error where it matters")
  again <- suppressWarnings(measure_did(panel, inference = "bootstrap", draws = 99))
  expect_identical(again$draws$estimates, effect$draws$estimates)
  expect_error(measure_did(panel, interval = "normal"), "interval", class = "twin_error_input")
  expect_error(measure_did(panel, estimator = "two_way", inference = "bootstrap", small_sample = "CR2"), "small_sample",
               class = "twin_error_input")
  two <- framed(staggered(5, c(1, 0, 0, 1), towns = 1))
  expect_error(suppressWarnings(measure_did(two, inference = "bootstrap")), "at least 2 clusters", class = "twin_error_input")
  plain <- suppressWarnings(measure_did(two))  # nothing tells an error there
  expect_true(all(is.na(tidy(suppressWarnings(summarise_did(plain)))[c("std.error", "df", "conf.low")])))
})
