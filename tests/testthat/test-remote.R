# Tables in a database against the same rows in memory: every number of every verb, on each engine that is here. SQLite is
# always; PostgreSQL and MariaDB are real servers on a free port (helper-servers.R).

same_analysis <- function(engine, data = plain_crews(), estimators = c("difference", "regression", "augmented")) {
  connection <- with_table(engine, data)
  remote <- remote_units(connection, "crews")
  roles <- list(weight = "survey_weight", cluster = "harbour", stratum = "coast", id = "crew_id", estimand = "ATE")
  yes <- if (engine == "postgres") "TRUE" else "1"
  ours <- do.call(frame_crews, c(list(remote), roles))
  local <- do.call(frame_crews, c(list(data), roles))
  expect_identical(unname(ours$levels[["treated"]]), yes)
  expect_equal(nobs(ours), nobs(local))
  scored <- score_units(ours)
  local_scored <- score_units(local)
  expect_lt(gap(tidy(scored)$estimate, tidy(local_scored)$estimate), 1e-8)
  expect_lt(gap(tidy(scored)$std.error, tidy(local_scored)$std.error), 1e-8)
  weighed <- weigh_units(scored)
  local_weighed <- weigh_units(local_scored)
  expect_same_balance(weighed, local_weighed)
  for (estimator in estimators) {
    for (outcome in c("income", "sold_direct")) expect_same_effect(weighed, local_weighed, outcome, estimator)
  }
  if ("regression" %in% estimators) expect_same_effect(weighed, local_weighed, "days_at_sea", "augmented", family = "poisson")
}

test_that("the whole analysis is that of rows in memory: SQLite", {
  same_analysis("sqlite")
})
test_that("the whole analysis is that of rows in memory: PostgreSQL", {
  same_analysis("postgres")
})
test_that("the whole analysis is that of rows in memory: MariaDB", {
  same_analysis("mariadb")
})
test_that("a hundred thousand rows give the same numbers as in memory", {
  same_analysis("sqlite", plain_crews(1e5), "difference")
})

test_that("every estimand, trimmed or cut, weighted or not, has the effect of rows in memory", {
  data <- plain_crews()
  remote <- remote_units(with_table("sqlite", data), "crews")
  for (estimand in c("ATT", "ATC", "ATO", "ATM")) {
    ours <- score_units(frame_crews(remote, estimand = estimand))
    local <- score_units(frame_crews(data, estimand = estimand))
    expect_same_effect(weigh_units(ours), weigh_units(local), "income")
    expect_same_effect(ours, local, "days_at_sea", "augmented")
    expect_same_effect(weigh_units(ours), weigh_units(local), "sold_direct", "regression")
  }
  ours <- score_units(frame_crews(remote, estimand = "ATE"))
  local <- score_units(frame_crews(data, estimand = "ATE"))
  for (rescore in c(FALSE, TRUE)) {
    kept <- trim_units(ours, "range", bounds = c(0.1, 0.8), rescore = rescore)
    local_kept <- trim_units(local, "range", bounds = c(0.1, 0.8), rescore = rescore)
    expect_same_balance(weigh_units(kept), weigh_units(local_kept))
    expect_identical(grep("^  Score", format(kept), value = TRUE), grep("^  Score", format(local_kept), value = TRUE))
    expect_same_effect(weigh_units(kept), weigh_units(local_kept), "income", "augmented")
  }
  expect_same_effect(weigh_units(trim_units(ours, "common_support")), weigh_units(trim_units(local, "common_support")))
  cut <- weigh_units(ours, truncate = c(bound = 5))
  local_cut <- weigh_units(local, truncate = c(bound = 5))
  expect_equal(tidy(cut, part = "truncation"), tidy(local_cut, part = "truncation"), ignore_attr = TRUE)
  expect_same_effect(cut, local_cut)
  expect_same_effect(frame_crews(remote), frame_crews(data), "sold_direct")
  expect_same_effect(frame_crews(remote, estimand = "ATC"), frame_crews(data, estimand = "ATC"), "income", "regression")
})

test_that("formulas, conditions, missing values, categories and unknown entries are read as in memory", {
  data <- plain_crews()
  data$fuel <- withr::with_seed(3, sample(c(1, 2, 10), nrow(data), TRUE))
  data$note <- ifelse(seq_len(nrow(data)) %% 9 == 0, "n/a", ifelse(data$crew_size > 3, "big", "Small"))
  data$market_km[5:9] <- 99
  remote <- remote_units(with_table("sqlite", data), "crews")
  both <- function(...) list(frame_crews(remote, ...), frame_crews(data, ...))
  check <- function(pair) {
    expect_equal(nobs(pair[[1]]), nobs(pair[[2]]))
    expect_equal(unname(pair[[1]]$dropped), unname(as.numeric(pair[[2]]$dropped)))
    scored <- lapply(pair, score_units)
    expect_identical(tidy(scored[[1]])$term, tidy(scored[[2]])$term)
    expect_lt(gap(tidy(scored[[1]])$estimate, tidy(scored[[2]])$estimate), 1e-7)
  }
  check(both(covariates = ~ boat_length * port_size + log(past_income + 100) + I(crew_size^2) + in_debt))
  check(both(subset = ~ crew_size > 2 & !(port_size == "large") & gear %in% c("nets", "pots", "lines")))
  check(both(missing = "drop"))
  check(both(missing_outcome = "drop"))
  check(both(covariates = c("boat_length", "fuel", "note", "market_km"), categories = "fuel", unknown = c("n/a", "99")))
  labels <- list(fuel = c("2" = "coal", "1" = "wood", "10" = "oil"))
  check(both(covariates = c("boat_length", "fuel"), categories = labels))
  query <- remote_units(remote$connection, DBI::SQL("SELECT * FROM crews WHERE crew_size > 2"))
  check(list(frame_crews(query), frame_crews(data[data$crew_size > 2, ])))
})

test_that("tables are named by schema, by view and by dplyr; dates and times are numbers of days", {
  data <- plain_crews()
  data$joined_on <- as.Date("2015-03-01") + seq_len(nrow(data)) %% 900
  data$seen_at <- as.POSIXct("2020-01-01", tz = "UTC") + 3600 * (seq_len(nrow(data)) %% 5000)
  local <- score_units(frame_crews(data, covariates = c("boat_length", "joined_on", "seen_at")))
  for (engine in c(if (!is.null(postgres_server())) "postgres", if (!is.null(mariadb_server())) "mariadb")) {
    connection <- with_table(engine, data)
    if (engine == "mariadb") {  # its driver writes both as text
      DBI::dbExecute(connection, "ALTER TABLE crews MODIFY joined_on DATE, MODIFY seen_at DATETIME")
    }
    remote <- remote_units(connection, "crews")
    if (engine == "mariadb") {  # and gives them back as text
      remote$columns$joined_on <- as.Date(remote$columns$joined_on)
      remote$columns$seen_at <- as.POSIXct(remote$columns$seen_at, tz = "UTC")
    }
    ours <- score_units(frame_crews(remote, covariates = c("boat_length", "joined_on", "seen_at")))
    expect_identical(vapply(ours$study$columns, `[[`, "", "kind"), vapply(local$study$columns, `[[`, "", "kind"))
    expect_lt(gap(tidy(ours)$estimate, tidy(local)$estimate), 1e-6)
  }
  connection <- with_table("sqlite", plain_crews())
  DBI::dbExecute(connection, "CREATE VIEW \"big ones\" AS SELECT * FROM crews WHERE crew_size > 2")
  by_name <- nobs(frame_crews(remote_units(connection, "big ones")))
  expect_equal(by_name, sum(plain_crews()$crew_size > 2))
  expect_equal(nobs(frame_crews(remote_units(connection, DBI::Id(schema = "main", table = "crews")))), nrow(data))
  skip_if_not_installed("dbplyr")
  remote <- remote_units(dplyr::filter(dplyr::tbl(connection, "crews"), crew_size > 2))
  expect_equal(nobs(frame_crews(remote)), by_name)
})

test_that("levels that one arm alone has are pooled, and terms that others explain left out", {
  data <- plain_crews()
  data$gear[data$joined & data$gear %in% "dredge"] <- "nets"
  data$twice <- 2 * data$boat_length + 1
  remote <- remote_units(with_table("sqlite", data), "crews")
  expect_warning(ours <- score_units(frame_crews(remote)), "dredge.*no control|dredge.*no treated",
                 class = "twin_warning_one_arm")
  local <- suppressWarnings(score_units(frame_crews(data)))
  expect_lt(gap(tidy(ours)$estimate, tidy(local)$estimate), 1e-8)
  expect_same_effect(weigh_units(ours), weigh_units(local), "income")
  expect_warning(ours <- score_units(frame_crews(remote, covariates = c("boat_length", "twice"))), "twice",
                 class = "twin_warning_aliased")
  local <- suppressWarnings(score_units(frame_crews(data, covariates = c("boat_length", "twice"))))
  expect_lt(gap(tidy(ours)$estimate, tidy(local)$estimate), 1e-8)
})

test_that("effects side by side, several outcomes and what follows from them are as in memory", {
  data <- plain_crews()
  remote <- remote_units(with_table("sqlite", data), "crews")
  study <- frame_crews(remote, cluster = "harbour")
  local <- frame_crews(data, cluster = "harbour")
  compared <- lapply(list(study, local), function(study) {
    compare_effects(raw = measure_effect(study), weights = measure_effect(weigh_units(score_units(study))),
                    augmented = measure_effect(score_units(study), estimator = "augmented"))
  })
  a <- tidy(compared[[1]], part = "agreement")
  b <- tidy(compared[[2]], part = "agreement")
  expect_lt(gap(a[c("difference", "std.error")], b[c("difference", "std.error")]), 1e-7)
  several <- lapply(list(study, local), function(study) {
    measure_effect(weigh_units(score_units(study)), outcome = c("income", "sold_direct", "days_at_sea"), adjust = "holm",
                   bands = TRUE)
  })
  expect_lt(gap(tidy(several[[1]])[c("estimate", "std.error", "p.adjusted", "band.low", "band.high")],
                tidy(several[[2]])[c("estimate", "std.error", "p.adjusted", "band.low", "band.high")]), 1e-6)
  effect <- measure_effect(weigh_units(score_units(study)), "sold_direct")
  same <- measure_effect(weigh_units(score_units(local)), "sold_direct")
  expect_equal(glance(probe_ratio(effect)), glance(probe_ratio(same, yardstick = FALSE)),
               tolerance = 1e-7)
  expect_s3_class(plot(effect), "ggplot")
  file <- export_table(effect, withr::local_tempfile(fileext = ".csv"))
  expect_gt(nrow(utils::read.csv(file)), 2)
})

test_that("prints say what those of rows in memory say, and where the rows are", {
  data <- plain_crews()
  remote <- remote_units(with_table("sqlite", data), "crews")
  expect_match(paste(format(remote), collapse = " "), "Units in SQLite: crews, 18 columns", fixed = TRUE)
  study <- frame_crews(remote, weight = "survey_weight", cluster = "harbour")
  text <- gsub("\\s+", " ", paste(format(study), collapse = " "))
  expect_match(text, "joined is \"1\": 612 units")
  expect_match(text, "income is missing for 2 of 612 treated and 1 of 1,792 control units|income is missing for")
  expect_match(text, "Rows stay in SQLite (crews), read in", fixed = TRUE)
  design <- weigh_units(score_units(study))
  effect <- measure_effect(design)
  for (object in list(remote, study, design, effect)) expect_true(all(nchar(format(object)) <= 80))
  expect_match(paste(format(effect), collapse = " "), "clustered by harbour")
  told <- gsub("\\s+", " ", paste(format(measure_effect(design)), collapse = " "))
  expect_match(told, "3 values of the outcome are missing and left out: this is about complete cases\\. Worst")
  expect_match(paste(format(methods_text(list(effect))), collapse = " "), "stayed in a database \\(SQLite\\)")
  book <- as.data.frame(logbook(effect))
  expect_identical(book$verb[1:3], c("frame", "score", "weigh"))
  expect_match(book$settings[1], "database = SQLite, table = crews")
})

test_that("both arms are described as in memory, errors clustered or not", {
  data <- plain_crews()
  remote <- remote_units(with_table("sqlite", data), "crews")
  for (roles in list(list(), list(weight = "survey_weight", stratum = "coast"),
                     list(weight = "survey_weight", cluster = "harbour", stratum = "coast"))) {
    ours <- describe_groups(do.call(frame_crews, c(list(remote), roles)), overall = TRUE)
    local <- describe_groups(do.call(frame_crews, c(list(data), roles)), overall = TRUE)
    expect_identical(tidy(ours)$covariate, tidy(local)$covariate)
    numbers <- vapply(tidy(local), is.numeric, NA)
    expect_lt(gap(tidy(ours)[numbers], tidy(local)[numbers]), 1e-8)
  }
  expect_match(format(ours)[1], "joined is \"1\" (612 units)", fixed = TRUE)
  expect_error(describe_groups(frame_crews(remote), tests = TRUE), "tests", class = "twin_error_unsupported")
})

test_that("a logit on plain columns takes at most six passes over the table", {
  data <- plain_crews()
  remote <- remote_units(with_table("sqlite", data), "crews")
  study <- frame_study(remote, "joined", "income", c("boat_length", "crew_size", "past_income"))
  invisible(carefultwin:::design_moments(study))
  before <- study$source$counter$passes
  score_units(study)
  expect_lte(study$source$counter$passes - before, 6L)
})

test_that("a table that changes under an analysis is an error, not a number", {
  data <- plain_crews()
  connection <- with_table("sqlite", data)
  study <- frame_crews(remote_units(connection, "crews"))
  design <- weigh_units(score_units(study))
  DBI::dbExecute(connection, "UPDATE crews SET past_income = past_income + 1 WHERE crew_id = 'c00007'")
  expect_error(measure_effect(design), "not the same", class = "twin_error_changed")
  DBI::dbExecute(connection, "DELETE FROM crews WHERE crew_id = 'c00007'")
  expect_error(measure_effect(design), "2,403 rows.*2,404", class = "twin_error_changed")
})

test_that("bad input is named, and nothing of the connection is told", {
  data <- plain_crews()
  connection <- with_table("sqlite", data)
  expect_error(remote_units(mtcars, "crews"), "open DBI connection", class = "twin_error_input")
  expect_error(remote_units(connection, "crew"), "Did you mean \"crews\"", class = "twin_error_input")
  expect_error(remote_units(connection, 3), "name of a table", class = "twin_error_input")
  expect_error(remote_units(connection, DBI::SQL("SELECT nothing FROM crews")), class = "twin_error_database")
  remote <- remote_units(connection, "crews")
  expect_error(frame_study(remote, "joind", "income", "boat_length"), "joined", class = "twin_error_input")
  expect_error(frame_study(remote, "gear", "income", "boat_length"), "two values", class = "twin_error_input")
  expect_error(frame_study(remote, "sold_direct", "income", "harbour", treated = "maybe"), "must be one of",
               class = "twin_error_input")
  expect_error(frame_study(remote, "joined", "gear", "boat_length"), "two values", class = "twin_error_input")
  expect_error(frame_crews(remote, id = "harbour"), "60 different values", class = "twin_error_input")
  expect_error(frame_crews(remote, frequency = "crew_size"), class = "twin_error_unsupported")
  expect_error(frame_crews(remote, subset = ~ nchar(gear) > 3), "nchar", class = "twin_error_unsupported")
  expect_error(frame_crews(remote, subset = ~ gear == 3), "compares text with a number", class = "twin_error_input")
  expect_error(frame_crews(remote, subset = ~ crew_size > 1000), "Nothing is left", class = "twin_error_input")
  expect_error(frame_crews(remote, covariates = ~ poly(boat_length, 2)), "poly", class = "twin_error_unsupported")
  expect_error(frame_crews(remote, missing = "stop"), "skipper_age", class = "twin_error_input")
  expect_error(frame_crews(remote, covariates = "crew_id"), "identifier", class = "twin_error_input")
  bad <- data.frame(z = rep(0:1, 50), y = 1:100, x = c(NA, 1:99), flat = 3, none = NA_real_, w = c(-1, rep(1, 99)),
                    big = c(1e200, 1:99))
  bad$z2 <- replace(bad$z, c(4, 5), NA)
  bad$g <- replace(as.character(bad$y %/% 10), c(1, 2, 3), NA)
  small <- remote_units(with_table("sqlite", bad, "bad"), "bad")
  expect_warning(frame_study(small, "z2", "y", "x"), "2 rows are left out", class = "twin_warning_dropped")
  expect_error(frame_study(small, "z", "y", "x", cluster = "g"), "It is in 3 rows", class = "twin_error_input")
  expect_error(trim_units(suppressWarnings(score_units(frame_study(small, "z", "y", "x"))), "range", bounds = c(0.9, 0.95)), "leaves 0 .* units",
               class = "twin_error_input")
  frame_bad <- function(covariate, ...) frame_study(small, "z", "y", covariate, ...)
  expect_error(frame_bad("flat"), "constant", class = "twin_error_input")
  expect_error(frame_bad("none"), "no values", class = "twin_error_input")
  expect_error(frame_bad("big"), "too large", class = "twin_error_input")
  expect_error(frame_bad("x", weight = "w"), "1 is missing, infinite or negative", class = "twin_error_input")
  DBI::dbExecute(small$connection, "UPDATE bad SET x = 'many' WHERE y = 7")
  expect_error(frame_bad("x"), "\"x\" holds other things than numbers.*In 1 row", class = "twin_error_input")
  DBI::dbExecute(small$connection, "UPDATE bad SET x = 6, y = 'none' WHERE y = 7 OR y = 8")
  expect_error(frame_bad("x"), "\"y\" holds other things.*In 2 rows", class = "twin_error_input")
  separated <- data.frame(z = rep(0:1, each = 50), y = 1:100, x = c(1:50, 61:110))
  apart <- remote_units(with_table("sqlite", separated, "bad"), "bad")
  expect_error(score_units(frame_study(apart, "z", "y", "x")), "separated", class = "twin_error_separation")
})

test_that("what needs rows refuses, and says how to draw a sample", {
  data <- plain_crews()
  remote <- remote_units(with_table("sqlite", data), "crews")
  study <- frame_crews(remote)
  scored <- score_units(study)
  weighed <- weigh_units(scored)
  effect <- measure_effect(weighed)
  refused <- list(
    quote(pair_units(scored, exact = "gear")), quote(score_units(study, learners = "tree")),
    quote(weigh_units(scored, method = "stable")), quote(weigh_units(study, "entropy", interactions = "all")),
    quote(weights(weighed)),
    quote(as.data.frame(weighed)), quote(design_data(weighed)), quote(plot(weighed)), quote(augment(effect)),
    quote(plot(assess_overlap(scored), view = "density")), quote(assess_balance(weighed, extra = "factors")),
    quote(assess_balance(weighed, custom = list(a = ~ boat_length / crew_size))),
    quote(measure_effect(weighed, estimator = "targeted")),
    quote(measure_effect(weighed, inference = "bootstrap")), quote(measure_effect(weighed, quantiles = 0.5)),
    quote(probe_weights(effect, draws = 20)), quote(group_units(scored, "full")), quote(plot(study)),
    quote(describe_groups(weighed, by = "gear")), quote(probe_effect(effect)),
    quote(probe_choices(effect)), quote(probe_placebo(effect, outcomes = "days_at_sea")),
    quote(measure_hazard(weighed, "days_at_sea", "sold_direct")), quote(tidy(trim_units(scored), part = "unmatched")),
    quote(plot(assess_balance(weighed), "density", "boat_length")), quote(tidy(scored, part = "predictions")),
    quote(measure_model(lm(income ~ joined, data), weighed)), quote(search_metric(study)), quote(weigh_responses(weighed))
  )
  for (call in refused) {
    expect_error(eval(call), class = "twin_error_unsupported", label = deparse1(call))
  }
  sample <- fetch_units(remote, n = 300)
  expect_identical(nrow(sample), 300L)
  expect_s3_class(pair_units(score_units(suppressWarnings(frame_crews(sample)))), "twin_design")
})

test_that("scores and weights are written back as a table, on every engine, and never over another unasked", {
  data <- plain_crews()
  local <- weigh_units(score_units(frame_crews(data, id = "crew_id")))
  for (engine in c("sqlite", if (!is.null(postgres_server())) "postgres", if (!is.null(mariadb_server())) "mariadb")) {
    connection <- with_table(engine, data)
    if (DBI::dbExistsTable(connection, "weighed")) DBI::dbRemoveTable(connection, "weighed")
    design <- weigh_units(score_units(frame_crews(remote_units(connection, "crews"), id = "crew_id")))
    expect_identical(write_units(design, connection, table = "weighed"), "weighed")
    written <- DBI::dbReadTable(connection, "weighed")
    written <- written[match(data$crew_id, written$crew_id), ]
    expect_equal(written$weight, weights(local), tolerance = 1e-9)
    expect_equal(written$score, design_data(local)$.score, tolerance = 1e-9)
    expect_error(write_units(design, connection, table = "weighed"), "already", class = "twin_error_input")
    write_units(head(data), connection, table = "weighed", replace = TRUE)
    expect_identical(nrow(DBI::dbReadTable(connection, "weighed")), 6L)
    expect_false(DBI::dbExistsTable(connection, "weighed_draft"))
    expect_error(write_units(weigh_units(score_units(frame_crews(remote_units(connection, "crews")))), connection,
                             table = "other"), "told apart", class = "twin_error_input")
    expect_false(DBI::dbExistsTable(connection, "other"))
  }
  expect_error(write_units(data, tempfile(fileext = ".csv"), table = "x"), "open DBI connection", class = "twin_error_input")
})

test_that("time-outs, missing rights and a lost connection are errors that leave nothing behind", {
  data <- plain_crews()
  connection <- with_table("postgres", data)
  study <- frame_crews(remote_units(connection, "crews"), id = "crew_id")
  weighed <- weigh_units(score_units(study))
  run <- function(statement) suppressWarnings(DBI::dbExecute(connection, statement))
  tables <- sort(DBI::dbListTables(connection))
  run("SET statement_timeout = 1")
  expect_error(measure_effect(weighed), "timeout", class = "twin_error_database")
  run("SET statement_timeout = 0")
  before <- measure_effect(weighed)
  run("CREATE ROLE clerk")
  run("SET ROLE clerk")
  expect_error(measure_effect(weighed, "days_at_sea"), "rights on the table", class = "twin_error_database")
  expect_error(remote_units(connection, "crews"), class = "twin_error")
  run("RESET ROLE")
  run("GRANT SELECT ON crews TO clerk")
  run("REVOKE CREATE ON SCHEMA public FROM PUBLIC")
  run("SET ROLE clerk")
  expect_equal(tidy(measure_effect(weighed)), tidy(before))
  expect_error(write_units(weighed, connection, table = "weighed_by_clerk"), "nothing is changed",
               class = "twin_error_database")
  run("RESET ROLE")
  run("DROP OWNED BY clerk")
  run("DROP ROLE clerk")
  expect_identical(sort(DBI::dbListTables(connection)), tables)
  backend <- DBI::dbGetQuery(connection, "SELECT pg_backend_pid() AS pid")$pid
  other <- postgres_server()$connect()
  withr::defer(DBI::dbDisconnect(other))
  DBI::dbGetQuery(other, sprintf("SELECT pg_terminate_backend(%d)", backend))
  error <- expect_error(measure_effect(weighed), "connection is lost", class = "twin_error_database")
  expect_no_match(conditionMessage(error), "127.0.0.1|5432|twin", perl = TRUE)
})

test_that("the demo runs from a database", {
  skip_if_not_installed("RSQLite")
  folder <- file.path(withr::local_tempdir(), "demo")
  said <- twin("demo", "--database", "--out", folder)
  expect_identical(said$status, 0L)
  expect_match(paste(said$out, collapse = " "), "Rows stay in SQLite (crews)", fixed = TRUE)
  expect_true(all(file.exists(file.path(folder, c("crews.sqlite", "plan.yml", "results/report.html")))))
  table <- utils::read.csv(file.path(folder, "results/tables/effects-income.csv"))
  truth <- 8.6775
  adjusted <- table[table$effect %in% c("weights", "entropy", "augmented") & table$term == "difference", ]
  expect_true(all(adjusted$conf.low < truth & adjusted$conf.high > truth))
  expect_match(paste(twin("demo", "--database", "--panel", "--out", folder)$err, collapse = " "), "not both")
})

test_that("a plan may name a table in a database; a run leaves what a run leaves", {
  skip_if_not_installed("RSQLite")
  folder <- withr::local_tempdir()
  connection <- DBI::dbConnect(RSQLite::SQLite(), file.path(folder, "crews.sqlite"))
  DBI::dbWriteTable(connection, "crews", plain_crews())
  DBI::dbDisconnect(connection)
  plan <- file.path(folder, "plan.yml")
  lines <- c("study:", "  data: {connect: sqlite, file: crews.sqlite, table: crews}", "  treatment: joined",
             "  outcome: [income, sold_direct]", "  covariates: [boat_length, crew_size, port_size, past_income]",
             "  subset: crew_size > 1", "  cluster: harbour", "designs:", "  weights:", "    - score", "    - weigh",
             "effects:", "  raw: {outcome: income}", "  weights: {design: weights, outcome: income}",
             "  share: {design: weights, outcome: sold_direct, estimator: augmented}", "probes:",
             "  ratio: {probe: ratio, effect: share}")
  writeLines(lines, plan)
  said <- twin("describe", plan)
  expect_identical(said$status, 0L)
  expect_match(paste(said$out, collapse = " "), "Rows stay in SQLite")
  said <- twin("run", plan, "--out", file.path(folder, "results"))
  expect_identical(said$status, 0L)
  there <- list.files(file.path(folder, "results"))
  expect_true(all(c("report.html", "methods.md", "checklist.md", "logbook.csv", "run-facts.yml") %in% there))
  report <- paste(readLines(file.path(folder, "results", "report.html"), warn = FALSE), collapse = " ")
  expect_match(report, "Rows stay in SQLite (crews)", fixed = TRUE)
  expect_match(report, "units without counterpart|without counterpart")
  expect_match(paste(said$out, collapse = " "), "Rows stay in SQLite (crews), read in", fixed = TRUE)
  expect_false(grepl("weights, logbook", paste(said$out, collapse = " ")))
  bad <- function(line) {
    writeLines(replace(lines, 2L, line), plan)
    twin("describe", plan)
  }
  expect_match(paste(bad("  data: {connect: sqlite, file: none.sqlite, table: crews}")$err, collapse = " "), "There is no file")
  expect_match(paste(bad("  data: {connect: oracle, table: crews}")$err, collapse = " "), "must be one of")
  expect_match(paste(bad("  data: {connect: sqlite, file: crews.sqlite}")$err, collapse = " "), "table")
  expect_match(paste(bad("  data: {connect: sqlite, file: crews.sqlite, table: crews, password: x}")$err, collapse = " "),
               "unknown key")
  expect_match(paste(bad("  data: {connect: sqlite, file: crews.sqlite, table: crew}")$err, collapse = " "), "Did you mean")
})
