# Whether who is met changes with treatment: covariates in the outcome's place.

met <- function(moves = 0, seed = 3) {
  data <- many_landings(seed, n = 60)
  withr::with_seed(seed, {
    data$boat <- rnorm(nrow(data)) + moves * data$open + 0.3 * data$depth
    data$gear <- sample(c("lines", "nets", "pots"), nrow(data), TRUE)
    data
  })
}

test_that("each change is the covariate's own difference-in-differences", {
  data <- met()
  panel <- landing_panel(data, covariates = ~ boat + gear, weight = "s")
  own <- assess_composition(panel)
  rows <- tidy(own)
  expect_identical(rows$term, c("boat", "gear: nets", "gear: pots"))
  data$is_nets <- as.double(data$gear == "nets")
  for (name in c("boat", "is_nets")) {
    alone <- frame_panel(data, outcome = name, time = "year", group = "harbour", treatment = "open", weight = "s")
    effect <- tidy(summarise_did(measure_did(alone, base = "fixed")))
    row <- rows[match(name, c("boat", "is_nets")), ]
    expect_equal(row$estimate, effect$estimate)
    expect_equal(row$std.error, effect$std.error)
    expect_equal(row$p.value, effect$p.value)
  }
  expect_equal(rows$standardised[1L], rows$estimate[1L] / sd(data$boat))
  # the joint test of one covariate is its own
  one <- assess_composition(landing_panel(data, covariates = "boat"))
  expect_equal(glance(one)$p.value, tidy(one)$p.value)
  expect_equal(glance(one)$statistic, tidy(one)$statistic^2)
  expect_identical(as.data.frame(logbook(panel))$verb, c("frame", "composition"))
  expect_identical(sum(grepl("opened", format(panel))), 0L)  # the outcome stays closed
})

test_that("a change is found where there is one, and seldom where there is none", {
  p <- vapply(1:60, function(seed) {
    glance(suppressWarnings(assess_composition(landing_panel(met(seed = seed), covariates = ~ boat + gear))))$p.value
  }, 0)
  expect_lt(mean(p < 0.05), 0.16)
  moved <- assess_composition(landing_panel(met(1), covariates = ~ boat + gear))
  expect_lt(glance(moved)$p.value, 0.001)
  row <- tidy(moved)[1L, ]
  expect_true(row$conf.low < 1 && 1 < row$conf.high)
  text <- paste(format(moved), collapse = " ")
  expect_match(text, "Does open change who is met?", fixed = TRUE)
  expect_match(text, "Verdict: who is met changes with treatment \\(F\\(")
  expect_match(text, "effects mix the change of who is there")
  expect_true(all(nchar(format(moved)) <= 80))
  expect_match(paste(format(assess_composition(landing_panel(met(), covariates = "gear"))), collapse = " "), "no proof that there is none")
  expect_s3_class(plot(moved), "ggplot")
  expect_identical(nrow(table_parts(moved)$table), 3L)
})

test_that("in a panel it is asked of covariates that vary, and refused where nothing can", {
  data <- many_harbours(60)
  data$tide <- data$tide + data$open
  own <- assess_composition(harbour_panel(data, covariates = ~ tide + depth))
  expect_identical(tidy(own)$term, "tide")
  expect_match(paste(format(own), collapse = " "), "covariates move with treatment .*leave out those")
  expect_error(assess_composition(harbour_panel(data, covariates = "depth")), "nothing can change", class = "twin_error_unsupported")
  expect_error(assess_composition(harbour_panel(data)), "no covariates", class = "twin_error_input")
  expect_error(assess_composition(many_harbours()), class = "twin_error_input")
})

test_that("plans ask it before anything is measured, and reports show it", {
  folder <- withr::local_tempdir()
  data.table::fwrite(met(), file.path(folder, "met.csv"))
  writeLines(c(
    "panel: {data: met.csv, outcome: value, time: year, group: harbour, treatment: open, covariates: [boat, gear]}",
    "composition: {level: 0.9}", "effects:", "  main: {over: all}"
  ), file.path(folder, "plan.yml"))
  said <- twin("run", file.path(folder, "plan.yml"))
  expect_identical(said$status, 0L)
  expect_match(said$out, "Does open change who is met", all = FALSE)
  table <- data.table::fread(file.path(folder, "results", "tables", "composition.csv"), data.table = FALSE)
  expect_identical(table$term[1L], "boat")
  expect_match(paste(readLines(file.path(folder, "results", "report.html"), warn = FALSE), collapse = " "), "Who is met")
  script <- plan_script(read_plan(file.path(folder, "plan.yml")))
  expect_match(script, "composition <- assess_composition(panel, level = 0.9)", fixed = TRUE, all = FALSE)
  expect_match(script, "composition = composition", fixed = TRUE, all = FALSE)
})

test_that("sets of effects over time are exported, summed up, told and cited like any other", {
  each <- suppressWarnings(measure_did(harbour_panel(many_harbours(60)), by = "coast"))
  file <- withr::local_tempfile(fileext = ".csv")
  export_table(each, file)
  expect_true("group" %in% names(data.table::fread(file)))
  expect_match(format(summary(each)), "within each coast", all = FALSE)
  expect_match(format(references(each)), "Callaway", all = FALSE)
  expect_match(paste(as.character(methods_text(each)), collapse = " "), "group-time differences")
  report <- withr::local_tempfile(fileext = ".html")
  write_report(report, each[["east"]]$study, effects = list(coasts = each), headline = "coasts, west")
  expect_match(paste(readLines(report, warn = FALSE), collapse = " "), "coasts, west")
})
