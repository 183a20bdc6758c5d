# A folder with a panel plan; `edit` changes the plan's lines.
panel_folder <- function(edit = identity, env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  data.table::fwrite(many_harbours(), file.path(folder, "data.csv"))
  writeLines(edit(c(
    "panel:", "  data: data.csv", "  outcome: price", "  time: year", "  unit: harbour", "  treatment: open",
    "  covariates: \"~ depth\"", "trends: {adjustment: none, placebo: [1, 2]}", "decompose: true", "effects:",
    "  two way: {estimator: two_way, adjustment: none}", "  cells: {adjustment: regression, comparison: not_yet}",
    "  path: {adjustment: none, base: fixed, over: event, window: [-3, 2]}", "  imputed: {estimator: imputation}",
    "probes:", "  drift: {probe: trends, effect: path, m: [0, 0.5, 1]}", "report:", "  truth: {price: 1.5}"
  )), file.path(folder, "plan.yml"))
  folder
}

# The plan with one effect and nothing else to draw.
only_two_way <- function(lines) {
  lines <- lines[!grepl("^  (cells|path|imputed|drift): |^probes:|^decompose:", lines)]
  lines
}

test_that("twin run makes tables, figures and a report of a panel", {
  folder <- panel_folder()
  result <- twin("run", file.path(folder, "plan.yml"))
  expect_identical(result$status, 0L)
  expect_true(all(nchar(result$out) <= 80 | grepl("tmp", result$out)))
  expect_match(result$out, "40 units \\(harbour\\)", all = FALSE)
  files <- list.files(file.path(folder, "results"), recursive = TRUE)
  expect_true(all(c("report.html", "logbook.csv", "plan.yml", "figures/timing.png", "figures/means.png",
                    "figures/event.png", "figures/trends.png", "figures/effect-path.png", "tables/effect-cells.csv",
                    "tables/effects-price.tex", "tables/decomposition.csv", "tables/probe-drift.csv") %in% files))
  path <- data.table::fread(file.path(folder, "results", "tables", "effect-path.csv"), data.table = FALSE)
  own <- summarise_did(measure_did(harbour_panel(), base = "fixed"), "event", window = c(-3, 2))
  expect_equal(path$estimate, unname(own$estimate))
  page <- paste(readLines(file.path(folder, "results", "report.html")), collapse = "\n")
  for (heading in c("Timing", "Before treatment", "The two-way number taken apart", "Hidden bias", "Logbook")) {
    expect_match(page, heading, fixed = TRUE)
  }
  expect_match(page, "The truth is 1.50", fixed = TRUE)
  expect_identical(list.files(folder, pattern = "^[.]twin", all.files = TRUE), character())
  plan <- file.path(folder, "plan.yml")
  writeLines(only_two_way(readLines(plan)), plan)
  expect_identical(twin("run", plan)$status, 0L)
  book <- data.table::fread(file.path(folder, "results", "logbook.csv"), data.table = FALSE)
  expect_identical(sum(book$verb == "open"), 1L)
})

test_that("twin describe shows the timing, twin balance says what to do instead", {
  folder <- panel_folder()
  shown <- twin("describe", file.path(folder, "plan.yml"))
  expect_identical(shown$status, 0L)
  expect_match(shown$out, "Treated from", all = FALSE)
  judged <- twin("balance", file.path(folder, "plan.yml"))
  expect_identical(judged$status, 0L)
  expect_match(judged$out, "depth", all = FALSE)
  bare <- panel_folder(function(lines) sub("  covariates.*", "  anticipation: 0", lines[!grepl("cells|imputed", lines)]))
  lines <- readLines(file.path(bare, "plan.yml"))
  writeLines(lines[!grepl("anticipation", lines)], file.path(bare, "plan.yml"))
  expect_stopped(twin("balance", file.path(bare, "plan.yml")), 2L, "neither covariates nor designs")
})

test_that("designs on the time before treatment stand in a plan, for all cohorts or for each", {
  folder <- withr::local_tempdir()
  plan <- file.path(folder, "plan.yml")
  write_plan <- function(staggered, baseline, more = character()) {
    data.table::fwrite(joining_crews(staggered = staggered), file.path(folder, "data.csv"))
    writeLines(c("panel: {data: data.csv, outcome: income, time: year, unit: crew, first_treated: first, covariates: size}",
                 baseline, "designs:", "  weighed: [{weigh: {method: entropy}}]", "  paired: [score, {pair: {caliper: 0.3}}]",
                 "power: {before: {design: weighed}}", "trends: {design: weighed, adjustment: none}", "effects:",
                 "  weighed: {design: weighed, adjustment: none}", "  paired: {design: paired, adjustment: none}",
                 more), plan)
  }
  estimates <- function(table) {
    read <- data.table::fread(file.path(folder, "results", "tables", paste0("effect-", table, ".csv")), data.table = FALSE)
    read$estimate[!is.na(read$estimate)]
  }
  write_plan(FALSE, "baseline: {periods: [1, 2, 3], covariates: \"~ size + income_mean\"}")
  result <- twin("run", plan)
  expect_identical(result$status, 0L)
  expect_match(paste(result$out, collapse = " "), "Designs \\(the time under treatment is still closed\\)")
  expect_match(paste(result$out, collapse = " "), "units in no design: out of every number")
  files <- list.files(file.path(folder, "results"), recursive = TRUE)
  expect_true(all(c("tables/balance-weighed.csv", "tables/power-before.csv", "figures/balance-paired.png") %in% files))
  page <- paste(readLines(file.path(folder, "results", "report.html")), collapse = "\n")
  expect_match(page, "Designs on the time before treatment", fixed = TRUE)
  expect_match(page, "with units counted by", fixed = TRUE)
  data <- joining_crews()
  data$first[!is.finite(data$first)] <- NA
  panel <- joined_panel(data, covariates = "size")
  study <- frame_study(baseline_rows(panel, periods = 1:3), "treated", "income_after", ~ size + income_mean, id = "crew")
  own <- measure_did(joined_panel(data, weigh_units(study, "entropy"), covariates = "size"), adjustment = "none")
  expect_equal(estimates("weighed"), own$table$estimate[!is.na(own$table$estimate)], tolerance = 1e-8)
  script <- tempfile(fileext = ".R", tmpdir = folder)
  lines <- carefultwin:::plan_script(carefultwin:::read_plan(plan))
  writeLines(lines[!grepl("write_report", lines)], script)
  made <- new.env()
  withr::with_dir(folder, suppressWarnings(source(script, local = made)))
  expect_equal(coef(made$effects$weighed), coef(own), tolerance = 1e-8)

  write_plan(TRUE, "baseline: {each_cohort: true, comparison: not_yet}")
  result <- twin("run", plan)
  expect_identical(result$status, 0L)
  expect_match(paste(result$out, collapse = " "), "a design for each cohort")
  lines <- carefultwin:::plan_script(carefultwin:::read_plan(plan))
  writeLines(lines[!grepl("write_report", lines)], script)
  withr::with_dir(folder, suppressWarnings(source(script, local = made)))
  whole <- made$effects$weighed$table$estimate
  expect_equal(estimates("weighed"), whole[!is.na(whole)], tolerance = 1e-8)
  expect_identical(twin("balance", plan)$status, 0L)
  writeLines(sub("design: paired", "design: pared", readLines(plan)), plan)
  expect_stopped(twin("run", plan), 2L, "Did you mean \"paired\"")
  write_plan(FALSE, "baseline: {covariate: size}")
  expect_stopped(twin("run", plan), 2L, "unknown key \"covariate\"")
  writeLines(c(readLines(plan)[1L], "baseline: {estimand: ATT}", "effects: {raw: {}}"), plan)
  expect_stopped(twin("run", plan), 2L, "what `designs:` are made on")
})

test_that("with --strict a failing test of trends stops before anything is measured", {
  folder <- panel_folder(only_two_way)
  data <- many_harbours()
  data$price <- data$price + 2 * (data$year - 2001) * !is.na(data$opened)
  data.table::fwrite(data, file.path(folder, "data.csv"))
  result <- twin("run", file.path(folder, "plan.yml"), "--strict")
  expect_identical(result$status, 1L)
  expect_match(paste(result$err, collapse = " "), "test of trends")
  expect_false(dir.exists(file.path(folder, "results")))
  expect_identical(suppressWarnings(twin("run", file.path(folder, "plan.yml")))$status, 0L)
})

test_that("mistakes in a panel plan name the key and its line", {
  bad <- function(from, to) {
    folder <- panel_folder(function(lines) sub(from, to, lines, fixed = TRUE), env = parent.frame())
    twin("run", file.path(folder, "plan.yml"))
  }
  expect_stopped(bad("  unit: harbour", "  units: harbour"), 2L, "units.*unit.*line 5")
  expect_stopped(bad("decompose: true", "design: {}"), 2L, "designs")
  expect_stopped(bad("over: event", "over: events"), 2L, "event.*line 13")
  expect_stopped(bad("over: event, ", ""), 2L, "over")
  expect_stopped(bad("effect: path", "effect: paths"), 2L, "Did you mean \"path\"")
  expect_stopped(bad("probe: trends", "probe: pairs"), 2L, "trends")
  expect_stopped(bad("estimator: imputation", "estimator: imputation, base: fixed"), 2L, "base")
  expect_stopped(bad("  time: year", "  weight: s"), 2L, "time")
  expect_stopped(bad("truth: {price: 1.5}", "truth: {prise: 1.5}"), 2L, "truth")
})

test_that("write_report takes a panel, and refuses what does not belong to it", {
  panel <- harbour_panel()
  file <- withr::local_tempfile(fileext = ".html")
  write_report(file, panel, effects = list(cells = measure_did(panel)), trends = assess_trends(panel),
               decomposition = decompose_did(panel))
  expect_match(paste(readLines(file), collapse = " "), "What did open do to price", fixed = TRUE)
  expect_error(write_report(file, panel, designs = list(a = 1)), class = "twin_error_input")
  expect_error(write_report(file, panel, effects = list(cells = 1)), class = "twin_error_input")
  expect_error(write_report(file, study_of_many(), trends = assess_trends(panel)), class = "twin_error_input")
})
