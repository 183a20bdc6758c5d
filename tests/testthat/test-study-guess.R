test_that("roles are guessed by kind and name; identifiers, years and likely outcomes are no covariates, and doubts are told", {
  roles <- guess_roles(crews)
  expect_identical(roles$treatment, "joined")
  expect_identical(roles$outcome, "income")  # past_income stands beside it
  expect_identical(roles$id, "crew_id")
  expect_identical(roles$weight, "survey_weight")
  expect_identical(roles$cluster, "harbour")
  after <- c("sold_direct", "days_at_sea", "months_afloat", "left")
  expect_length(intersect(roles$covariates, c(after, "crew_id", "harbour", "income", "survey_weight")), 0)
  expect_true(all(c("boat_length", "past_income", "port_size") %in% roles$covariates))
  expect_match(roles$unsure, "^treatment: joined, or in_debt", all = FALSE)
  expect_match(roles$unsure, "likely outcomes: sold_direct, days_at_sea, months_afloat, left", all = FALSE)
  data <- data.frame(permit_no = 1:60 + 1000, built = rep(1990:2009, 3), helped = rep(c("no", "yes"), 30), size = rnorm(60),
                     closed_after = rexp(60), closed = rbinom(60, 1, 0.4))
  roles <- guess_roles(data)
  expect_identical(roles[c("treatment", "outcome", "covariates")], list(treatment = "helped", outcome = "closed_after", covariates = "size"))
  expect_match(roles$unsure, "identifiers, dates, years or names: .*built", all = FALSE)
  expect_match(roles$unsure, "as likely outcomes: closed$", all = FALSE)
  expect_error(guess_roles(data.frame(a = 1:20, b = rnorm(20))), "a few values", class = "twin_error_input")
  expect_error(guess_roles(data.frame(a = 1:20, b = rep(0:1, 10))), "Beside b no column", class = "twin_error_input")
  arms <- guess_roles(data.frame(size = rnorm(60), gear = rep(c("nets", "lines", "pots"), 20), income = rnorm(60)))
  expect_identical(arms[c("treatment", "outcome", "covariates")], list(treatment = "gear", outcome = "income", covariates = "size"))
})

test_that("a dose is the number named so, or else the first; treatment that comes and goes is told from one that sets in", {
  expect_identical(guess_dose(ice)[c("dose", "outcome", "id", "cluster")],
                   list(dose = "tonnes", outcome = "income", id = "crew_id", cluster = "harbour"))
  expect_match(guess_dose(ice)$unsure, "^dose: tonnes, or boat_length", all = FALSE)
  known <- guess_dose(ice, dose = "boat_length")
  expect_identical(known$covariates[1:2], c("tonnes", "crew_size"))
  expect_no_match(paste(known$unsure, collapse = " "), "dose:")
  moved <- ice[c("market_km", setdiff(names(ice), "market_km"))]
  expect_identical(guess_dose(moved)$dose, "tonnes")
  expect_identical(guess_dose(moved[setdiff(names(moved), "tonnes")])$dose, "market_km")
  expect_null(guess_dose(data.frame(a = c("x", "y"), b = 0:1)))
  course <- guess_course(seasons)
  expect_identical(course[c("time", "unit", "treatment", "outcome", "covariates", "changing", "final")],
                   list(time = "season", unit = "crew", treatment = "stored", outcome = "savings",
                        covariates = c("boat_length", "port_size"), changing = c("debt", "catch"), final = TRUE))
  expect_identical(guess_course(boats)[c("unit", "treatment", "final")], list(unit = "boat", treatment = "ice_machine", final = FALSE))
  expect_null(guess_course(crews))
  expect_null(guess_course(landings))  # other units in every quarter
  expect_null(guess_course(transform(seasons, stored = as.integer(boat_length > 9))))  # never changes
  expect_true(carefultwin:::varies_within(c(1, NA, 2, 2), c("a", "a", "b", "b")))
  expect_false(carefultwin:::varies_within(c(NA, NA, 2, 2), c("a", "a", "b", "b")))
})

test_that("twin draft writes plans on a dose, on histories and on several arms that run", {
  folder <- withr::local_tempdir()
  csv <- file.path(folder, "units.csv")
  plan <- file.path(folder, "plan.yml")
  drafted <- function(data, ...) {
    data.table::fwrite(data, csv)
    told <- twin("draft", csv, "--force", ...)
    expect_identical(told$status, 0L)
    expect_no_match(told$out, "[^ ]  +[^ ]")
    paste(told$out, collapse = " ")
  }
  ran <- function() paste(suppressWarnings(twin("run", plan))$out, collapse = " ")
  expect_match(drafted(ice, "--dose", "tonnes"), "Guessed beside the dose tonnes: outcome income.")
  own <- frame_dose(ice, "tonnes", "income", c("boat_length", "crew_size", "port_size", "past_income", "market_km"),
                    cluster = "harbour", missing = "flag")
  by_hand <- measure_response(weigh_units(score_units(own)), estimator = "augmented")
  expect_match(ran(), sprintf("income changes by %.2f", tidy(by_hand, part = "contrasts")$estimate[1L]), fixed = TRUE)
  some <- seasons[seasons$crew %in% unique(seasons$crew)[1:400], ]
  expect_match(drafted(some), "comes and goes. Guessed: unit crew, time season, treatment +stored, outcome savings")
  own <- frame_course(some, "stored", "savings", "season", "crew", c("boat_length", "port_size"), c("debt", "catch"))
  by_hand <- measure_course(weigh_units(score_units(own)))
  expect_match(ran(), sprintf("savings changes by +%.2f", tidy(by_hand)$estimate[1L]))
  expect_match(drafted(boats, "--course"), "Unsure of: - outcome: fuel, or catch, engine_kw")
  expect_match(readLines(plan), "^  changing: \\[catch, engine_kw\\]", all = FALSE)
  drafted(cures[c("boat_length", "cure", "price")])
  expect_match(readLines(plan), "^  reference: fresh", all = FALSE)
  expect_no_match(readLines(plan), "^  treated:")
  expect_match(ran(), "salted vs fresh")
  drafted(transform(ice, tonnes = c("?", tonnes[-1L])), "--dose", "tonnes")
  expect_match(readLines(plan), "^  unknown: \\[\"[?]\"\\]", all = FALSE)
  data.table::fwrite(ice, csv)
  expect_stopped(twin("draft", csv, "--force", "--dose", "tons"), 2L, "Did you mean")
  expect_stopped(twin("draft", csv, "--force", "--dose", "port_size"), 2L, "A dose is a number, and port_size is none")
  expect_stopped(twin("draft", csv, "--force", "--course"), 2L, "don't look like treatment that comes and goes")
  expect_stopped(twin("draft", csv, "--force", "--course", "--dose", "tonnes"), 2L, "Say one of")
})

test_that("units over time are seen as such: panels, groups in cross-sections, first treated periods; others are not", {
  found <- guess_panel(harbours)
  expect_identical(found[c("time", "unit", "treatment", "outcome")],
                   list(time = "quarter", unit = "harbour", treatment = "cold_store", outcome = "price"))
  expect_false("opened" %in% found$covariates)  # says when, not who
  expect_true(found$complete)
  onset <- guess_panel(harbours[setdiff(names(harbours), "cold_store")])
  expect_identical(onset$first_treated, "opened")
  expect_null(onset$treatment)
  crowd <- guess_panel(landings)
  expect_identical(crowd[c("time", "group", "treatment", "outcome")],
                   list(time = "quarter", group = "harbour", treatment = "cold_store", outcome = "catch_value"))
  expect_null(crowd$unit)
  expect_match(crowd$unsure, "change over time and may follow from the treatment: .*boat_length", all = FALSE)
  expect_null(guess_panel(crews))
  expect_false(guess_panel(harbours[-(1:3), ])$complete)
  back <- transform(harbours, cold_store = cold_store & quarter != "2024Q4")  # undone again
  expect_identical(guess_panel(back)$first_treated, "opened")
})

test_that("twin draft writes a panel plan that runs, says what it saw, and takes the user's word", {
  folder <- withr::local_tempdir()
  csv <- file.path(folder, "h.csv")
  data <- many_harbours(16)
  data.table::fwrite(data[c("harbour", "year", "open", "depth", "price")], csv)
  told <- twin("draft", csv)
  expect_identical(told$status, 0L)
  expect_match(paste(told$out, collapse = " "), "data over time. Guessed: unit harbour, time year, treatment +open, outcome price")
  plan <- file.path(folder, "plan.yml")
  expect_match(readLines(plan), "^  unit: harbour$", all = FALSE)
  expect_identical(suppressWarnings(twin("run", plan))$status, 0L)
  expect_true(file.exists(file.path(folder, "results", "report.html")))
  expect_identical(twin("draft", csv, "--force", "--study")$status, 0L)
  expect_match(readLines(plan), "^study:", all = FALSE)
  expect_stopped(twin("draft", csv, "--force", "--study", "--panel"), 2L, "Say one of")
  data.table::fwrite(many_crews(60), csv)
  expect_stopped(twin("draft", csv, "--force", "--panel"), 2L, "don't look like units over time")
  data.table::fwrite(data[-(1:2), c("harbour", "year", "open", "price")], csv)
  expect_identical(twin("draft", csv, "--force")$status, 0L)
  expect_match(readLines(plan), "decompose: {complete: true}", fixed = TRUE, all = FALSE)
  expect_identical(suppressWarnings(twin("run", plan))$status, 0L)
})

test_that("treatments and outcomes are read by one rule, and questions offer both values", {
  data <- many_crews(120)
  for (words in list(c("no", "yes"), c("No", "YES"), c("false", "true"), c("0", "1"))) {
    named <- transform(data, joined = words[joined + 1], direct = words[direct + 1])
    study <- study_of_many(named, outcome = "direct")
    expect_identical(study$levels[["treated"]], words[2])
    expect_identical(study$events$direct, words[2])
    expect_identical(study$z, as.integer(data$joined))
  }
  named <- transform(data, joined = c("in", "out")[joined + 1], direct = c("boxed", "loose")[direct + 1])
  expect_error(study_of_many(named), "treated = \"out\".*treated = \"in\"", class = "twin_error_input")
  expect_error(study_of_many(named, treated = "out", outcome = "direct"), "event = \"loose\".*event =\\s+\"boxed\"", class = "twin_error_input")
  expect_error(study_of_many(transform(data, direct = c("maybe", "yes")[direct + 1]), outcome = "direct"), "counts as 1", class = "twin_error_input")
})

test_that("on the command line hints are in a plan's words", {
  expect_identical(plan_words("Say so: `treated = \"yes\"` or `treated = \"no\"`."), "Say so: `treated: \"yes\"` or `treated: \"no\"`.")
  expect_identical(plan_words("`ratio = c(1, 3)` keeps them"), "`ratio: [1, 3]` keeps them")
  expect_identical(plan_words("Use `pair_units()`, `group_units(x, \"full\")` or `frame_study(missing_outcome = \"drop\")`."),
                   "Use `pair`, `group: {method: full}` or `study: {missing_outcome: \"drop\"}`.")
  expect_identical(plan_words("`replacement = TRUE` and `x`"), "`replacement: true` and `x`")
  expect_identical(plan_words("`truncate = c(quantile = 0.99)`, `c(bound = 20)` or `list(quantile = c(0.01, 0.99))`; `f(x = c(a = 1))`"),
                   "`truncate: {quantile: 0.99}`, `{bound: 20}` or `{quantile: [0.01, 0.99]}`; `f(x = c(a = 1))`")
  folder <- plan_folder(function(lines) sub("  estimand: ATT", "  estimand: ATT\n  missing: stop", lines))
  data <- data.table::fread(file.path(folder, "data.csv"), data.table = FALSE)
  data$joined <- ifelse(data$joined == 1, "in", "out")
  data.table::fwrite(data, file.path(folder, "data.csv"))
  expect_stopped(twin("describe", file.path(folder, "plan.yml")), 2L, "`treated: \"out\"` or `treated: \"in\"`")
})
