# Panels in a database give the numbers of the same rows in memory.

plain_harbours <- function(gaps = FALSE) {
  data <- as.data.frame(harbours)
  attributes(data$cold_store) <- NULL
  data$cold_store <- as.integer(data$cold_store)
  data$weight <- 1 + (as.integer(factor(data$harbour)) %% 5) / 3
  data$warmth <- withr::with_seed(3, stats::rnorm(nrow(data)))
  data$warmth[4] <- NA
  if (!gaps) return(data)
  data$price[c(5, 77, 300)] <- NA
  data[-c(10, 200, 201, 500:505), ]
}

frame_harbours <- function(data, ...) frame_panel(data, outcome = "price", time = "quarter", ...)

panel_in <- function(data, ..., engine = "sqlite", env = parent.frame()) {
  connection <- with_table(engine, data, "harbours", env)
  frame_harbours(remote_units(connection, "harbours"), ...)
}

expect_same_did <- function(a, b) {
  x <- tidy(a)
  y <- tidy(b)
  expect_identical(x$term, y$term)
  expect_identical(x$reason, y$reason)
  expect_lt(gap(x$estimate, y$estimate), 1e-9)
  expect_lt(gap(x$std.error, y$std.error), 1e-7)
  known <- !is.na(y$std.error)  # without an error its degrees of freedom mean nothing
  expect_lt(gap(x$df[known], y$df[known]), 1e-7)
  expect_equal(x[c("n_treated", "n_comparison", "reach")], y[c("n_treated", "n_comparison", "reach")])
  same <- c("nobs", "units", "periods", "cells", "not_estimable", "missing_outcome", "clusters")
  expect_equal(glance(a)[same], glance(b)[same])
  expect_identical(a$notes, b$notes)
  expect_identical(a$inference, b$inference)
}

expect_same_averages <- function(a, b) {
  for (over in c("all", "event", "cohort", "calendar")) {
    x <- tidy(summarise_did(a, over = over))
    y <- tidy(summarise_did(b, over = over))
    expect_identical(x$term, y$term)
    expect_lt(gap(x$estimate, y$estimate), 1e-9)
    expect_lt(gap(x$std.error, y$std.error), 1e-7)
    if (!is.null(y$band.low)) expect_lt(gap(x$band.low, y$band.low), 1e-4)
  }
}

estimators <- c("group_time", "imputation", "interaction", "two_way", "event_study")

test_that("every estimator without covariates agrees, whoever is a cluster and whatever is missing", {
  framings <- list(
    units = list(unit = "harbour", treatment = "cold_store"),
    weighted = list(unit = "harbour", first_treated = "opened", weight = "weight"),
    coarse = list(unit = "harbour", first_treated = "opened", cluster = "coast"),
    groups = list(group = "harbour", treatment = "cold_store"),
    rows = list(first_treated = "opened")
  )
  for (gaps in c(FALSE, TRUE)) {
    data <- plain_harbours(gaps)
    for (framing in framings) {
      remote <- suppressWarnings(do.call(panel_in, c(list(data), framing, env = environment())))
      local <- suppressWarnings(do.call(frame_harbours, c(list(data), framing)))
      expect_equal(summary(remote), summary(local))
      expect_identical(utils::head(format(remote), 8), utils::head(format(local), 8))
      for (estimator in if (gaps) estimators else c("group_time", "two_way")) {
        a <- suppressWarnings(measure_did(remote, estimator = estimator))
        b <- suppressWarnings(measure_did(local, estimator = estimator))
        expect_same_did(a, b)
        if (a$over == "cells") expect_same_averages(a, b)
      }
    }
  }
})

test_that("settings of cells agree", {
  data <- plain_harbours(TRUE)
  remote <- panel_in(data, unit = "harbour", treatment = "cold_store")
  local <- frame_harbours(data, unit = "harbour", treatment = "cold_store")
  for (settings in list(list(comparison = "not_yet", base = "fixed"), list(anticipation = 1), list(unseen = "earlier"),
                        list(estimator = "imputation", anticipation = 2), list(estimator = "two_way", trends = "unit"),
                        list(estimator = "event_study", leads = 3, lags = 4))) {
    measured <- lapply(list(remote, local), function(panel) {
      suppressWarnings(do.call(measure_did, c(list(panel), settings)))
    })
    expect_same_did(measured[[1]], measured[[2]])
  }
})

test_that("adjustment by regression agrees, with covariates that vary, factors and formulas", {
  for (gaps in c(FALSE, TRUE)) {
    data <- plain_harbours(gaps)
    for (framing in list(
      list(unit = "harbour", treatment = "cold_store", covariates = c("warmth", "coast"), weight = "weight"),
      list(unit = "harbour", first_treated = "opened", covariates = ~ boats + I(boats^2), cluster = "coast"),
      list(group = "harbour", treatment = "cold_store", covariates = "warmth"),
      list(first_treated = "opened", covariates = "boats", missing = "drop")
    )) {
      remote <- suppressWarnings(do.call(panel_in, c(list(data), framing, env = environment())))
      local <- suppressWarnings(do.call(frame_harbours, c(list(data), framing)))
      expect_identical(utils::head(format(remote), 8), utils::head(format(local), 8))
      a <- suppressWarnings(measure_did(remote))
      b <- suppressWarnings(measure_did(local, adjustment = "regression"))
      expect_identical(a$asked$adjustment, "regression")
      expect_same_did(a, b)
      expect_same_averages(a, b)
    }
  }
})

test_that("clusters of several units carry draws and corrections", {
  data <- plain_harbours()
  data$town <- paste0("t", as.integer(factor(data$harbour)) %% 8)
  remote <- panel_in(data, unit = "harbour", treatment = "cold_store", cluster = "town")
  local <- frame_harbours(data, unit = "harbour", treatment = "cold_store", cluster = "town")
  for (settings in list(list(inference = "wild", draws = 299, multiplier = "rademacher"), list(small_sample = "CR2"),
                        list(small_sample = "CR3"))) {
    a <- suppressWarnings(do.call(measure_did, c(list(remote, estimator = "two_way"), settings)))
    b <- suppressWarnings(do.call(measure_did, c(list(local, estimator = "two_way"), settings)))
    expect_same_did(a, b)
    expect_lt(gap(tidy(a)[c("conf.low", "conf.high", "p.value")], tidy(b)[c("conf.low", "conf.high", "p.value")]), 1e-6)
  }
  # draws number clusters as they come, so the same seed draws others
  drawn <- suppressWarnings(lapply(list(remote, local), measure_did, estimator = "two_way", inference = "bootstrap",
                                   draws = 399))
  expect_lt(gap(tidy(drawn[[1]])$std.error, tidy(drawn[[2]])$std.error), 0.2)
})

test_that("tests of the time before treatment agree where clusters hold several units", {
  data <- plain_harbours(TRUE)
  data$town <- paste0("t", as.integer(factor(data$harbour)) %% 25)
  for (framing in list(list(unit = "harbour", cluster = "town"), list(group = "harbour"))) {
    remote <- do.call(panel_in, c(list(data, treatment = "cold_store"), framing, env = environment()))
    local <- do.call(frame_harbours, c(list(data, treatment = "cold_store"), framing))
    a <- suppressWarnings(assess_trends(remote))
    b <- suppressWarnings(assess_trends(local))
    expect_identical(tidy(a)[c("test", "at")], tidy(b)[c("test", "at")])
    expect_lt(gap(tidy(a)[-(1:2)], tidy(b)[-(1:2)]), 1e-6)
    expect_lt(gap(glance(a)[c("slope", "power", "detectable")], glance(b)[c("slope", "power", "detectable")]), 1e-6)
  }
})

test_that("timing drawn anew agrees where groups are named", {
  data <- plain_harbours()
  remote <- panel_in(data, unit = "harbour", group = "harbour", treatment = "cold_store")
  local <- frame_harbours(data, unit = "harbour", group = "harbour", treatment = "cold_store")
  a <- measure_did(remote, estimator = "two_way", inference = "randomization", draws = 99)
  b <- measure_did(local, estimator = "two_way", inference = "randomization", draws = 99)
  expect_equal(tidy(a)$p.value, tidy(b)$p.value)
})

test_that("decompositions, collapsed means and comparisons agree; single units have no joint covariance", {
  data <- plain_harbours()
  remote <- panel_in(data, unit = "harbour", treatment = "cold_store")
  local <- frame_harbours(data, unit = "harbour", treatment = "cold_store")
  expect_equal(glance(decompose_did(remote)), glance(decompose_did(local)))
  expect_equal(tidy(decompose_did(remote), part = "cells"), tidy(decompose_did(local), part = "cells"))
  missing <- plain_harbours(TRUE)
  short <- panel_in(missing, unit = "harbour", treatment = "cold_store")
  expect_error(decompose_did(short), "5 of 60 units are not seen with an outcome", class = "twin_error_unsupported")
  expect_equal(glance(decompose_did(short, complete = TRUE)), glance(decompose_did(
    frame_harbours(missing, unit = "harbour", treatment = "cold_store"), complete = TRUE)))
  both <- compare_effects(cells = summarise_did(measure_did(remote)), two_way = measure_did(remote, estimator = "two_way"))
  expect_true(is.na(vcov(both)[1, 2]))
  grouped <- panel_in(data, group = "harbour", treatment = "cold_store")
  in_memory <- frame_harbours(data, group = "harbour", treatment = "cold_store")
  compared <- function(panel) {
    vcov(compare_effects(cells = summarise_did(measure_did(panel)), two_way = measure_did(panel, estimator = "two_way")))
  }
  expect_equal(compared(grouped), compared(in_memory))
  expect_same_did(measure_did(grouped, collapse = "rows"), measure_did(in_memory, collapse = "rows"))
})

test_that("real servers agree too, with text events and dates", {
  data <- plain_harbours(TRUE)
  data$quarter <- as.Date(sprintf("%s-%02d-01", substr(data$quarter, 1, 4), 3 * as.integer(substr(data$quarter, 6, 6)) - 2))
  data$high <- ifelse(data$price > 9, "high", "low")
  for (engine in c(if (!is.null(postgres_server())) "postgres", if (!is.null(mariadb_server())) "mariadb")) {
    connection <- with_table(engine, data, "harbours")
    framed <- function(x, covariates = NULL, ...) {
      frame_panel(x, outcome = c("price", "high"), time = "quarter", unit = "harbour", treatment = "cold_store",
                  event = c(high = "high"), covariates = covariates, ...)
    }
    remote <- framed(remote_units(connection, "harbours"))
    local <- framed(data)
    for (outcome in c("price", "high")) {
      for (estimator in c("group_time", "imputation")) suppressWarnings(  # cells where nothing of `high` varies
        expect_same_did(measure_did(remote, outcome, estimator), measure_did(local, outcome, estimator))
      )
    }
    expect_same_did(measure_did(framed(remote_units(connection, "harbours"), "boats"), adjustment = "regression"),
                    measure_did(framed(data, "boats"), adjustment = "regression"))
  }
})

test_that("many units fall into few pieces", {
  data <- withr::with_seed(8, {
    units <- 3000
    start <- sample(c(3, 5, NA), units, TRUE, c(0.2, 0.2, 0.6))
    data.frame(unit = rep(seq_len(units), each = 6), period = 1:6, first = rep(start, each = 6),
               price = 1e6 + stats::rnorm(6 * units))
  })
  data$price <- data$price + 0.5 * ifelse(is.na(data$first), 0, data$period >= data$first)
  connection <- with_table("sqlite", data, "panel")
  framed <- function(x) frame_panel(x, outcome = "price", time = "period", unit = "unit", first_treated = "first")
  remote <- framed(remote_units(connection, "panel"))
  expect_lt(length(remote$unit), 20)
  expect_identical(nobs(remote), 18000)
  a <- summarise_did(measure_did(remote))
  expect_same_did(measure_did(remote), measure_did(framed(data)))
  expect_lt(abs(tidy(a)$estimate - 0.5), 4 * tidy(a)$std.error)
  expect_output(print(remote), "Rows stay in SQLite (panel)", fixed = TRUE)
  expect_output(print(a), "Rows stay in SQLite", fixed = TRUE)
  expect_output(print(remote), "Cluster     unit (3,000)", fixed = TRUE)
})

test_that("more periods than one number tells, in more statements than one", {
  data <- withr::with_seed(5, data.frame(unit = rep(1:40, each = 60), period = 1:60, price = stats::rnorm(2400)))
  data$first <- ifelse(data$unit > 25, NA, ifelse(data$unit > 12, 20, 52))
  data <- data[-c(55, 130, 2000:2010), ]
  connection <- with_table("sqlite", data, "panel")
  framed <- function(x) frame_panel(x, outcome = "price", time = "period", unit = "unit", first_treated = "first")
  remote <- framed(remote_units(connection, "panel"))
  for (estimator in c("group_time", "two_way")) {
    expect_same_did(suppressWarnings(measure_did(remote, estimator = estimator)),
                    suppressWarnings(measure_did(framed(data), estimator = estimator)))
  }
  here <- environment()
  halves <- lapply(list(data$unit <= 20, data$unit > 20), function(rows) {
    with_table("sqlite", data[rows, ], "panel", here)
  })
  expect_error(framed(remote_shards(halves, "panel")), "one database", class = "twin_error_unsupported")
})

test_that("a cohort of one unit has no error by sums over units; units named as groups are told apart", {
  data <- plain_harbours()
  data$opened[data$harbour == "harbour_03"] <- "2021Q3"
  connection <- with_table("sqlite", data, "harbours")
  framed <- function(x, ...) frame_harbours(x, unit = "harbour", first_treated = "opened", ...)
  remote <- framed(remote_units(connection, "harbours"))
  alone <- suppressWarnings(measure_did(remote))
  expect_warning(measure_did(remote), "group = \"harbour\"", class = "twin_warning_tiny_cohort")
  expect_equal(coef(alone), coef(suppressWarnings(measure_did(framed(data)))))
  expect_true(all(is.na(tidy(alone)$std.error[tidy(alone)$cohort == "2021Q3"])))
  expect_false(anyNA(tidy(alone)$std.error[tidy(alone)$cohort == "2022Q1" & tidy(alone)$kind == "post"]))
  suppressWarnings(expect_same_did(measure_did(framed(remote_units(connection, "harbours"), group = "harbour")),
                                   measure_did(framed(data, group = "harbour"))))
})

test_that("adjusted cells without units on a side say which side, and a panel without cells is refused", {
  data <- plain_harbours()
  data <- data[!(data$opened %in% "2022Q1" & data$quarter == "2021Q4"), ]
  adjusted <- lapply(list(panel_in(data, unit = "harbour", first_treated = "opened", covariates = "boats"),
                          frame_harbours(data, unit = "harbour", first_treated = "opened", covariates = "boats")),
                     function(panel) suppressWarnings(measure_did(panel, adjustment = "regression")))
  expect_same_did(adjusted[[1]], adjusted[[2]])
  expect_match(tidy(adjusted[[1]])$reason, "nobody of the cohort seen in both periods", all = FALSE)
  early <- suppressWarnings(panel_in(data, unit = "harbour", first_treated = "opened", covariates = "boats"))
  expect_error(measure_did(early, anticipation = 15), "No effect can be estimated", class = "twin_error_unsupported")
})

test_that("what is wrong with a panel is said as of rows in memory", {
  wrong <- function(change, ..., class = "twin_error_input") {
    data <- change(plain_harbours())
    arguments <- utils::modifyList(list(unit = "harbour", treatment = "cold_store"), list(...))
    local <- tryCatch(do.call(frame_harbours, c(list(data), arguments)), error = identity)
    remote <- tryCatch(do.call(panel_in, c(list(data), arguments, env = environment())), error = identity)
    expect_s3_class(remote, class)
    if (class == "twin_error_input") expect_s3_class(local, class)
    strip <- function(e) gsub("\\s+", " ", strsplit(conditionMessage(e), "\n")[[1]][1])
    if (class == "twin_error_input") expect_identical(strip(remote), strip(local))
    remote
  }
  back <- wrong(function(d) within(d, cold_store[quarter == "2024Q4" & harbour == "harbour_01"] <- 0))
  expect_match(conditionMessage(back), "harbour_01")
  wrong(function(d) rbind(d, d[1, ]))
  wrong(function(d) within(d, opened[3] <- "2023Q1"), treatment = NULL, first_treated = "opened")
  wrong(function(d) within(d, cold_store[1] <- 1), unit = NULL, group = "coast")
  wrong(function(d) within(d, weight[2] <- -1), weight = "weight")
  wrong(function(d) within(d, quarter[2] <- NA))
  wrong(function(d) within(d, coast[2] <- "nowhere"), cluster = "coast")
  wrong(function(d) within(d, harbour[9] <- NA))
  wrong(function(d) within(d, cold_store <- 0L))
  wrong(function(d) d, unit = NULL)
  wrong(function(d) within(d, weight[2] <- 9), weight = "weight", class = "twin_error_unsupported")
  expect_warning(panel_in(within(plain_harbours(), cold_store[harbour == "harbour_02"] <- 1L), unit = "harbour",
                          treatment = "cold_store"), "1 harbour is treated when first seen",
                 class = "twin_warning_always_treated")
  expect_warning(panel_in(plain_harbours()[-c(12:14), ], unit = "harbour", treatment = "cold_store"),
                 class = "twin_warning_onset")
})

test_that("a table that changes, and what needs rows, are refused", {
  connection <- with_table("sqlite", plain_harbours(), "harbours")
  panel <- frame_harbours(remote_units(connection, "harbours"), unit = "harbour", treatment = "cold_store")
  adjusted <- frame_harbours(remote_units(connection, "harbours"), group = "harbour", treatment = "cold_store",
                             covariates = "boats")
  for (refused in list(
    function() assess_trends(panel), function() assess_trends(adjusted), function() augment(measure_did(panel)),
    function() measure_did(panel, inference = "bootstrap"), function() measure_did(panel, inference = "randomization"),
    function() measure_did(panel, estimator = "two_way", small_sample = "CR2"),
    function() measure_did(panel, estimator = "two_way", absorb = "coast:quarter"),
    function() measure_did(panel, estimator = "triple", third = "coast"),
    function() describe_groups(panel)
  )) expect_error(refused(), class = "twin_error_unsupported")
  adjusted <- frame_harbours(remote_units(connection, "harbours"), unit = "harbour", treatment = "cold_store",
                             covariates = "boats")
  expect_error(measure_did(adjusted, adjustment = "augmented"), "needs rows in memory", class = "twin_error_unsupported")
  expect_error(measure_did(adjusted, estimator = "two_way"), "adjustment = \"none\"", class = "twin_error_unsupported")
  expect_s3_class(measure_did(adjusted, estimator = "two_way", adjustment = "none"), "twin_did")
  DBI::dbExecute(connection, "UPDATE harbours SET price = price + 0.1 WHERE harbour = 'harbour_05' AND quarter = '2021Q2'")
  expect_error(measure_did(panel), "Values of columns", class = "twin_error_changed")
  expect_error(measure_did(adjusted, adjustment = "regression"), class = "twin_error_changed")
  DBI::dbExecute(connection, "DELETE FROM harbours WHERE harbour = 'harbour_05'")
  expect_error(measure_did(panel), "not the same", class = "twin_error_changed")
})

test_that("pictures, reports and plans of a panel in a database", {
  connection <- with_table("sqlite", plain_harbours(), "harbours")
  panel <- frame_harbours(remote_units(connection, "harbours"), unit = "harbour", treatment = "cold_store")
  local <- frame_harbours(plain_harbours(), unit = "harbour", treatment = "cold_store")
  # in memory the ribbons of intervals, which sums can't tell, come before the means
  expect_equal(ggplot2::layer_data(plot(panel, view = "means"), 2), ggplot2::layer_data(plot(local, view = "means"), 3))
  expect_equal(ggplot2::layer_data(plot(panel, view = "event"), 3), ggplot2::layer_data(plot(local, view = "event"), 3))
  file <- withr::local_tempfile(fileext = ".html")
  write_report(file, panel, effects = list(cells = measure_did(panel), two_way = measure_did(panel, estimator = "two_way")),
               decomposition = decompose_did(panel))
  expect_match(paste(readLines(file), collapse = "\n"), "Rows stay in SQLite")
  folder <- withr::local_tempdir()
  stored <- DBI::dbConnect(RSQLite::SQLite(), file.path(folder, "harbours.sqlite"))
  DBI::dbWriteTable(stored, "harbours", plain_harbours())
  DBI::dbDisconnect(stored)
  writeLines(c(
    "panel:", "  data: {connect: sqlite, file: harbours.sqlite, table: harbours}", "  outcome: price", "  time: quarter",
    "  group: harbour", "  treatment: cold_store", "  covariates: [boats]", "trends: {adjustment: none}", "decompose: true",
    "effects:", "  two-way: {estimator: two_way, adjustment: none}", "  adjusted: {}", "  path: {over: event, base: fixed}",
    "probes:", "  drift: {probe: trends, effect: path, at: [0, 1]}"
  ), file.path(folder, "plan.yml"))
  said <- twin("run", file.path(folder, "plan.yml"), "--out", file.path(folder, "results"))
  expect_identical(said$status, 0L)
  expect_match(paste(said$out, collapse = "\n"), "Rows stay in SQLite (harbours)", fixed = TRUE)
  expect_match(paste(readLines(file.path(folder, "results", "methods.md")), collapse = "\n"), "They stayed in a database")
  expect_identical(yaml::read_yaml(file.path(folder, "results", "run-facts.yml"))$data$used, 960)
})

test_that("pairs are found on ids and scores, and written back", {
  data <- plain_crews()
  connection <- with_table("sqlite", data[withr::with_seed(2, sample(nrow(data))), ])
  remote <- frame_crews(remote_units(connection, "crews"), treated = "1", id = "crew_id") |> score_units()
  local <- frame_crews(data, id = "crew_id") |> score_units()
  for (settings in list(list(), list(ratio = c(1, 3), on = "probability", caliper = 0.1), list(replacement = TRUE),
                        list(search = "optimal", caliper = c(score = 0.1)), list(order = "shuffled", seed = 3))) {
    a <- do.call(pair_units, c(list(remote), settings))
    b <- do.call(pair_units, c(list(local), settings))
    same <- c("treated_id", "control_id", "set", "weight")
    expect_equal(pairs_of(a)[same], pairs_of(b)[same], ignore_attr = TRUE)
    expect_equal(sum(as.data.frame(a)$weight), sum(weights(b)))
  }
  pairs <- pair_units(remote)
  local <- pair_units(local)
  expect_snapshot(pairs)
  expect_identical(glance(pairs)$n_treated, sum(weights(local)[data$joined] > 0))
  write_units(pairs, connection, table = "pairs")
  joined <- frame_study(remote_units(connection, DBI::SQL("SELECT * FROM crews JOIN pairs USING (crew_id)")),
                        treatment = "joined", treated = "1", outcome = "days_at_sea", covariates = crew_covariates,
                        weight = "weight", cluster = "set")
  expect_lt(gap(tidy(measure_effect(joined))$estimate, tidy(measure_effect(local, "days_at_sea"))$estimate), 1e-9)
  expect_error(write_units(pairs, connection, table = "pairs"), class = "twin_error_input")
  for (refused in list(list(exact = "gear"), list(on = "mahalanobis"), list(apart = "harbour"),
                       list(caliper = c(crew_size = 1)), list(covariates = "gear"))) {
    expect_error(do.call(pair_units, c(list(remote), refused)), class = "twin_error_unsupported")
  }
  expect_error(pair_units(frame_crews(remote_units(connection, "crews"), treated = "1") |> score_units()), "needs? an",
               class = "twin_error_input")
  here <- environment()
  halves <- lapply(list(1:1200, 1201:2404), function(rows) with_table("sqlite", data[rows, ], env = here))
  several <- frame_crews(remote_shards(halves, "crews"), treated = "1", id = "crew_id")
  expect_error(pair_units(score_units(several)), "one database", class = "twin_error_unsupported")
})
