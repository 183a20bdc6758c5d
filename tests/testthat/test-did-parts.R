# Effects over time by group, by kind of treatment, beside a treatment that is held, and triple differences.

alone <- function(data, ...) suppressWarnings(measure_did(harbour_panel(data), ...))

test_that("effects within groups are those of each group framed by itself", {
  data <- many_harbours(60)
  panel <- harbour_panel(data, covariates = ~ depth, weight = "s")
  for (estimator in c("group_time", "imputation", "interaction", "two_way")) {
    each <- suppressWarnings(measure_did(panel, estimator = estimator, by = "coast"))
    expect_identical(names(each), c("east", "west"))
    for (coast in names(each)) {
      one <- harbour_panel(data[data$coast == coast, ], covariates = ~ depth, weight = "s")
      own <- suppressWarnings(measure_did(one, estimator = estimator))
      expect_equal(each[[coast]]$estimate, own$estimate)
      expect_equal(vcov(each[[coast]]), vcov(own))
      expect_identical(each[[coast]]$cluster_labels, own$cluster_labels)
    }
  }
  gaps <- many_harbours(60, gaps = TRUE)
  drawn <- suppressWarnings(measure_did(harbour_panel(gaps), by = "coast", inference = "bootstrap", draws = 99))
  expect_equal(tidy(drawn[["west"]]), tidy(alone(gaps[gaps$coast == "west", ], inference = "bootstrap", draws = 99)))
  crews <- many_landings()
  each <- suppressWarnings(measure_did(landing_panel(crews), by = "fresh"))
  expect_equal(each[["yes"]]$estimate, measure_did(landing_panel(crews[crews$fresh == "yes", ]))$estimate)
})

test_that("groups differ by what both estimates say, and clusters that hold units of both count", {
  data <- many_harbours(60)
  each <- summarise_did(suppressWarnings(measure_did(harbour_panel(data), by = "coast")))
  rows <- tidy(each, part = "groups")
  both <- vapply(each$effects, function(effect) effect$estimate[["difference"]], 0)
  expect_equal(rows$difference, both[["west"]] - both[["east"]])
  expect_equal(rows$std.error, sqrt(sum(vapply(each$effects, function(effect) effect$vcov[1L, 1L], 0))))
  expect_identical(c(rows$first, rows$second), c("west", "east"))
  # a bay has a harbour on either coast: one cluster, whose two halves move together
  bays <- harbour_panel(transform(data, price = price + 2 * sin(bay * year)), cluster = "bay")
  each <- summarise_did(suppressWarnings(measure_did(bays, by = "coast")))
  rows <- tidy(each, part = "groups")
  sums <- vapply(each$effects, function(effect) {
    out <- augment(effect)
    stats::setNames(out$.influence_difference / nrow(out), out$.cluster)
  }, numeric(30))
  shared <- sum(sums[, 1L] * sums[, 2L]) * 30 / 29
  expect_gt(shared, 0)
  expect_equal(rows$std.error^2, sum(vapply(each$effects, function(effect) effect$vcov[1L, 1L], 0)) - 2 * shared)
  agreement <- tidy(compare_effects(each), part = "agreement")
  expect_equal(agreement$difference, -rows$difference)
})

test_that("what effects side by side say is about their own numbers", {
  data <- many_harbours(60)
  each <- suppressWarnings(measure_did(harbour_panel(data), by = "coast"))
  text <- format(each)
  expect_true(all(nchar(text) <= 80))
  expect_match(paste(text, collapse = " "), "Effects of open on price within each coast, on average over treated units")
  row <- tidy(each, part = "groups")
  expect_match(paste(text, collapse = " "), sprintf("west differs from east by %s (95%% interval", number_text(row$difference)),
               fixed = TRUE)
  path <- format(summarise_did(each, "event"))
  expect_match(path, "Periods since +east +west", all = FALSE)
  expect_match(path, "^  average ", all = FALSE)
  expect_match(format(summarise_did(each, "cohort")), "^  2003 ", all = FALSE)
  expect_identical(nrow(glance(each)), 2L)
  expect_setequal(unique(as.data.frame(each)$group), c("east", "west"))
  for (shown in list(each, summarise_did(each, "event"), summarise_did(each, "cohort"))) {
    expect_s3_class(plot(shown), "ggplot")
    expect_gt(nrow(table_parts(shown)$table), 1L)
  }
  expect_error(each[["north"]], "east", class = "twin_error_input")
  data$price[c(2, 5, 7)] <- NA  # of two harbours, one on either coast
  lacking <- paste(format(suppressWarnings(measure_did(harbour_panel(data), by = "coast"))), collapse = " ")
  expect_match(lacking, "2 values of the outcome missing and left out")
  expect_match(lacking, "1 value of the outcome missing and left out")
})

test_that("parts have one covariance: their own within, shared clusters between", {
  data <- joining_crews(120, seed = 3)
  data$half <- as.integer(factor(data$crew)) %% 2
  each <- suppressWarnings(summarise_did(measure_did(joined_panel(data, cluster = "port"), by = "half"), "event"))
  v <- vcov(each)
  keys <- names(coef(each))
  expect_identical(rownames(v), keys)
  expect_true(all(startsWith(keys, "0: ") | startsWith(keys, "1: ")))
  first <- startsWith(keys, "0: ")
  expect_equal(unname(v[first, first]), unname(vcov(each[["0"]])))
  rows <- tidy(each, part = "groups")
  term <- rows$term[1L]
  at <- c(paste0("0: ", term), paste0("1: ", term))
  expect_equal(rows$std.error[1L], sqrt(sum(v[at, at] * c(1, -1, -1, 1))))
  expect_equal(rows$difference[1L], coef(each)[[at[2L]]] - coef(each)[[at[1L]]])
  expect_equal(confint(each, at)[, 1L], stats::setNames(tidy(each)$conf.low[match(at, keys)], at))
  expect_error(confint(each, "2: average"), "must name terms", class = "twin_error_input")
})

test_that("columns that make no groups are refused, and thin ones are left out", {
  data <- many_harbours(60)
  data$wind <- rep_len(c("low", "high"), nrow(data))
  expect_error(measure_did(harbour_panel(data), by = "wind"), "must be the same", class = "twin_error_input")
  expect_error(measure_did(harbour_panel(data), by = "depth"), "few levels", class = "twin_error_input")
  data$bank <- paste("opened", data$opened)
  expect_error(measure_did(harbour_panel(data), by = "bank"), "No level", class = "twin_error_input")
  data$bank <- ifelse(data$harbour == "h01", "sand", data$coast)
  expect_warning(each <- measure_did(harbour_panel(data, cluster = "bay"), by = "bank"), "\"sand\"",
                 class = "twin_warning_thin_group")
  expect_identical(names(each), c("east", "west"))
  data$bank <- ifelse(data$harbour == "h02", NA, data$coast == "west")
  heard <- list()
  each <- withCallingHandlers(measure_did(harbour_panel(data), by = "bank"), twin_warning = function(w) {
    heard <<- c(heard, list(w))
    invokeRestart("muffleWarning")
  })
  expect_match(vapply(heard, conditionMessage, ""), "6 rows are in no group", all = FALSE)
  expect_identical(names(each), c("FALSE", "TRUE"))
  expect_false("h02" %in% unlist(lapply(each$effects, function(effect) effect$study$unit_labels)))
  few <- many_harbours(40)
  said <- list()
  withCallingHandlers(measure_did(harbour_panel(few, cluster = "bay"), by = "coast"), twin_warning = function(w) {
    said <<- c(said, list(conditionMessage(w)))
    invokeRestart("muffleWarning")
  })
  if (length(said) > 0L) expect_match(unlist(said), "^In (east|west): ")
})

# Ice or freezers; none moves from one to the other.
kinds_of_store <- function(n = 60) {
  data <- many_harbours(n)
  data$store <- ifelse(data$open == 0, "none", ifelse(data$bay %% 3 == 0, "freezer", "ice"))
  data$price <- data$price + 2 * (data$store == "freezer")
  data
}

store_panel <- function(data = kinds_of_store(), ...) {
  frame_panel(data, outcome = "price", time = "year", unit = "harbour", treatment = "store", reference = "none", ...)
}

test_that("each kind of treatment is measured against units of none, or not yet of any", {
  data <- kinds_of_store()
  panel <- store_panel(data)
  each <- suppressWarnings(measure_did(panel, comparison = "never"))
  expect_identical(names(each), c("freezer", "ice"))
  own <- ave(data$store == "freezer", data$harbour, FUN = any)
  frozen <- suppressWarnings(measure_did(harbour_panel(data[own | is.na(data$opened), ]), comparison = "never"))
  expect_equal(unname(each[["freezer"]]$estimate), unname(frozen$estimate))
  expect_equal(unname(vcov(each[["freezer"]])), unname(vcov(frozen)))
  # a cell by hand: ice of 2003 in 2005 against all that have none by then
  later <- suppressWarnings(measure_did(panel, comparison = "not_yet"))
  cell <- cell_of(later[["ice"]], "2003", "2005")
  hand <- two_by_two(data, !own & data$opened %in% 2003, is.na(data$opened) | data$opened > 2005, 2005, 2002)
  expect_equal(cell$estimate, hand)
  apart <- tidy(summarise_did(each), part = "groups")
  expect_identical(apart$first, "ice")
  expect_lt(apart$conf.high, -1)
  two <- contrasts_of(panel)
  expect_identical(names(two), c("freezer", "ice"))
  expect_false(any(cell_of(later[["ice"]], "2003", "2005")$cohort %in% two$ice$cohorts$label[two$ice$cohorts$foreign]))
  expect_match(format(two$ice), "2004 freezer \\(until then\\)", all = FALSE)
  expect_match(paste(format(panel), collapse = " "), "store is other than \"none\": freezer \\(")
  expect_match(paste(format(each), collapse = " "), "Effects of store (freezer and ice, each against \"none\") on price", fixed = TRUE)
  expect_match(did_sentence(each[["ice"]]), "^With store = ice, price changes")
  both <- suppressWarnings(measure_did(panel, by = "coast"))
  expect_identical(names(both), c("freezer, east", "freezer, west", "ice, east", "ice, west"))
  for (estimator in c("imputation", "interaction", "two_way")) {
    expect_length(suppressWarnings(measure_did(panel, estimator = estimator)), 2L)
  }
})

test_that("units of two kinds, and what is no kind, are refused", {
  data <- kinds_of_store()
  moved <- transform(data, store = ifelse(harbour == "h01" & year == 2006, "freezer", store))
  moved$store[moved$harbour == "h01" & moved$year %in% 2003:2005] <- "ice"
  expect_error(store_panel(moved), "h01", class = "twin_error_input")
  expect_error(frame_panel(data, outcome = "price", time = "year", unit = "harbour", treatment = "store", reference = "nil"),
               "no treatment", class = "twin_error_input")
  expect_error(harbour_panel(data, reference = "0"), "several kinds", class = "twin_error_input")
  expect_error(store_panel(data, switching = TRUE), "switches", class = "twin_error_unsupported")
  expect_error(store_panel(data, treated = "ice"), "Leave out", class = "twin_error_input")
  amounts <- transform(data, store = as.character(ifelse(open == 1, round(price, 4), 0)))
  expect_error(store_panel(transform(amounts, store = ifelse(open == 0, "none", store))), class = "twin_error_input")
  expect_error(contrasts_of(harbour_panel()), "one kind", class = "twin_error_input")
})

# Eight harbours without noise: a road comes in 2003 to some, and adds 5; a store adds 1. Roads come more often to those
# with a store, so that stores alone look like more.
roads <- function() {
  data <- expand.grid(year = 2001:2005, harbour = sprintf("h%d", 1:8))
  at <- as.integer(data$harbour)
  opened <- c(2003, 2003, 2003, 2004, NA, NA, NA, NA)[at]
  road <- c(2003, 2003, 2005, NA, 2003, NA, NA, 2005)[at]
  data$open <- as.integer(!is.na(opened) & data$year >= opened)
  data$road <- ifelse(!is.na(road) & data$year >= road, "yes", "no")
  data$price <- at + 0.3 * data$year + data$open * (1 + 0.5 * (data$year - ifelse(is.na(opened), 0, opened))) +
    5 * (data$road == "yes")
  data
}

test_that("with another treatment held, units are compared whose other has run alike", {
  data <- roads()
  raw <- suppressWarnings(measure_did(harbour_panel(data)))
  expect_gt(summarise_did(raw, bands = FALSE)$estimate, 2)
  panel <- harbour_panel(data, held = "road")
  held <- suppressWarnings(measure_did(panel))
  table <- tidy(held)
  known <- table[table$kind == "post" & !is.na(table$estimate), ]
  expect_equal(known$estimate, 1 + 0.5 * known$event_time)
  # h1 and h2 in 2003, by hand: their road comes with the store, and h5's comes without one
  cell <- table[table$cohort == "2003, road yes from 2003" & table$time == "2003", ]
  expect_equal(cell$estimate, two_by_two(data, data$harbour %in% c("h1", "h2"), data$harbour == "h5", 2003, 2002))
  expect_identical(cell$n_comparison, 1)
  # before 2005 h3's road has run like that of all that have none yet
  cell <- table[table$cohort == "2003, road yes from 2005" & table$time == "2003", ]
  expect_equal(cell$estimate, two_by_two(data, data$harbour == "h3", data$harbour %in% c("h4", "h6", "h7", "h8"), 2003, 2002))
  expect_identical(cell$n_comparison, 4)
  expect_match(paste(format(panel), collapse = " "), "Held +road as it has run")
  expect_match(paste(format(held), collapse = " "), "units in which road has run alike up to then")
  never <- suppressWarnings(measure_did(panel, comparison = "never"))
  cell <- tidy(never)
  cell <- cell[cell$cohort == "2003, road yes from 2005" & cell$time == "2004", ]
  expect_identical(cell$n_comparison, 3)
})

test_that("holding what never moves changes nothing, and what can't hold says so", {
  data <- many_harbours(60)
  data$pier <- "wood"
  plain <- measure_did(harbour_panel(data), comparison = "not_yet")
  held <- measure_did(harbour_panel(data, held = "pier"))
  expect_equal(unname(held$estimate), unname(plain$estimate))
  expect_equal(unname(vcov(held)), unname(vcov(plain)))
  # by coast: every comparison is within a coast
  coast <- suppressWarnings(measure_did(harbour_panel(data, held = "coast")))
  east <- suppressWarnings(measure_did(harbour_panel(data[data$coast == "east", ]), comparison = "not_yet"))
  expect_equal(cell_of(coast, "2003, coast east", "2005")$estimate, cell_of(east, "2003", "2005")$estimate)
  panel <- harbour_panel(data, held = "coast")
  for (refused in list(
    function() measure_did(panel, estimator = "imputation"),
    function() decompose_did(panel), function() assess_power(panel), function() baseline_rows(panel),
    function() harbour_panel(data, held = "coast", switching = TRUE),
    function() probe_placebo(summarise_did(suppressWarnings(measure_did(panel))), dates = 1)
  )) expect_error(refused(), class = "twin_error_unsupported")
  expect_error(harbour_panel(data, held = "open"), "another role", class = "twin_error_input")
  expect_error(harbour_panel(data, held = "bridge"), class = "twin_error_input")
  data$coast[7] <- NA
  expect_error(harbour_panel(data, held = "coast"), "must not be missing", class = "twin_error_input")
  trends <- suppressWarnings(assess_trends(panel))
  expect_false("leads" %in% trends$tests$test)
  drawn <- suppressWarnings(measure_did(panel, inference = "randomization", draws = 99))
  expect_match(drawn$inference, "among those that share the path of coast")
  expect_equal(drawn$estimate, coast$estimate)
})

# Without noise: cohorts with trends of their own of which differently many are affected, a third difference that is
# parallel, and an effect of 1 on those affected.
thirds <- function() {
  data <- expand.grid(year = 2001:2006, crew = seq_len(90))
  opened <- c(2003, 2005, NA)[1 + data$crew %% 3]
  slope <- c(0.8, -0.5, 0)[1 + data$crew %% 3]
  data$fresh <- as.integer(data$crew %% 10 < c(7, 2, 5)[1 + data$crew %% 3])
  data$opened <- opened
  data$value <- data$crew / 9 + slope * (data$year - 2001) + 0.4 * data$fresh * (data$year - 2001) +
    (data$fresh == 1 & !is.na(opened) & data$year >= opened)
  data
}

test_that("triple differences compare with one cohort at a time", {
  data <- thirds()
  panel <- frame_panel(data, outcome = "value", time = "year", unit = "crew", first_treated = "opened")
  for (comparison in c("never", "not_yet")) {
    table <- suppressWarnings(tidy(measure_did(panel, estimator = "triple", third = "fresh", comparison = comparison)))
    expect_equal(table$estimate[table$kind == "post"], rep(1, sum(table$kind == "post")))
    expect_equal(table$estimate[table$kind == "pre"], rep(0, sum(table$kind == "pre")))
  }
  cell <- table[table$cohort == "2003" & table$time == "2004", ]
  here <- !duplicated(data$crew)
  expect_identical(cell$n_treated, as.double(sum(data$opened[here] %in% 2003 & data$fresh[here] == 1)))
  expect_identical(cell$n_comparison + cell$n_treated, 90)
  # the same with a crew that is not seen once: cell by cell, and the same truth
  gaps <- frame_panel(data[-9, ], outcome = "value", time = "year", unit = "crew", first_treated = "opened")
  table <- suppressWarnings(tidy(measure_did(gaps, estimator = "triple", third = "fresh", comparison = "not_yet")))
  expect_equal(table$estimate[table$kind == "post"], rep(1, sum(table$kind == "post")))
})

test_that("adjusted triple differences are three regressions over the covariates of one group", {
  data <- withr::with_seed(3, {
    data <- thirds()
    data$boat <- rnorm(90)[data$crew] + 0.7 * data$fresh
    data$value <- data$value + 0.5 * data$boat * (data$year - 2001) * (1 + data$fresh) + rnorm(nrow(data), sd = 0.2)
    data
  })
  panel <- frame_panel(data, outcome = "value", time = "year", unit = "crew", first_treated = "opened", covariates = "boat")
  own <- suppressWarnings(measure_did(panel, estimator = "triple", third = "fresh", comparison = "never",
                                      adjustment = "regression"))
  change <- data$value[data$year == 2004] - data$value[data$year == 2002]
  unit <- data[data$year == 2002, ]
  target <- unit$opened %in% 2003 & unit$fresh == 1
  against <- function(other) {
    fit <- lm(change ~ boat, data.frame(change, unit)[other, ])
    mean(change[target]) - mean(predict(fit, unit[target, ]))
  }
  hand <- against(unit$opened %in% 2003 & unit$fresh == 0) + against(is.na(unit$opened) & unit$fresh == 1) -
    against(is.na(unit$opened) & unit$fresh == 0)
  expect_equal(cell_of(own, "2003", "2004")$estimate, hand)
  expect_lt(abs(hand - 1), 0.3)
  for (adjustment in c("none", "ipw", "augmented")) {
    made <- function(data) {
      panel <- frame_panel(data, outcome = "value", time = "year", unit = "crew", first_treated = "opened",
                           covariates = "boat", weight = "s")
      suppressWarnings(summarise_did(measure_did(panel, estimator = "triple", third = "fresh", comparison = "never",
                                                 adjustment = adjustment), bands = FALSE))
    }
    data$s <- 1
    expect_lt(contribution_gap(made, data, "crew", c(5, 30, 62)), 1e-4)
  }
})

test_that("plans, scripts and reports take groups, kinds and what is held", {
  folder <- withr::local_tempdir()
  write.csv(kinds_of_store(), file.path(folder, "stores.csv"), row.names = FALSE)
  writeLines(c(
    "panel: {data: stores.csv, outcome: price, time: year, unit: harbour, treatment: store, reference: none, held: coast}",
    "effects:", "  kinds: {comparison: not_yet, over: all}", "  coasts: {by: coast, over: event}"
  ), file.path(folder, "plan.yml"))
  said <- twin("run", file.path(folder, "plan.yml"), "--out", file.path(folder, "out"))
  expect_identical(said$status, 0L)
  tables <- list.files(file.path(folder, "out", "tables"))
  expect_true(any(grepl("kinds-ice", tables)))
  expect_true(any(grepl("coasts-freezer-east", tables)))
  html <- paste(readLines(file.path(folder, "out", "report.html"), warn = FALSE), collapse = " ")
  expect_match(html, "Held")
  expect_match(html, "coasts, ice, west")
  writeLines(c(readLines(file.path(folder, "plan.yml")), "probes:", "  drift: {probe: trends, effect: coasts}"),
             file.path(folder, "probed.yml"))
  said <- twin("run", file.path(folder, "probed.yml"), "--out", file.path(folder, "more"))
  expect_identical(said$status, 2L)
  expect_match(paste(said$err, collapse = " "), "several: .* a probe is of +one")
  script <- plan_script(read_plan(file.path(folder, "plan.yml")))
  expect_match(script, "reference = \"none\"", all = FALSE)
})
