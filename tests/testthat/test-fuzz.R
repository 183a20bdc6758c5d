# A sample of bad values in every place of every verb, another one each day; `make fuzz` tries all of them. What is not
# refused by a classed error must be a use that somebody has looked at (fuzz-accepted.csv).

accepted_uses <- function() {
  table <- data.table::fread(test_path("fuzz-accepted.csv"), data.table = FALSE, na.strings = NULL, colClasses = "character")
  paste(table$verb, table$arg, table$value, sep = "|")
}

expect_refused <- function(places, calls = suppressWarnings(fuzz_calls())) {
  found <- run_fuzz(places, calls, bad_values())
  key <- paste(found$verb, found$arg, found$value, sep = "|")
  known <- found$result == "accepted" & key %in% accepted_uses()
  bad <- found[found$result != "error" & !known, ]
  expect(nrow(bad) == 0L, paste(c("Not refused, or not by a classed error:", sprintf(
    "%s(%s = %s): %s", bad$verb, bad$arg, bad$value, substr(bad$result, 1, 200)
  )), collapse = "\n"))
}

test_that("every exported verb has a call that works and all of its arguments are tried", {
  calls <- suppressWarnings(fuzz_calls())
  verbs <- setdiff(getNamespaceExports("carefultwin"), c("augment", "glance", "tidy", "twin_main", "open_desk"))
  expect_setequal(names(calls), verbs)
  expect_gte(length(bad_values()), 40)
  places <- fuzz_places(calls, bad_values())
  withr::local_seed(as.integer(format(Sys.Date(), "%Y%j")))
  expect_refused(places[sample.int(nrow(places), 250), ], calls)
})

test_that("every key of a plan refuses bad values by a classed error, or has a use for them", {
  expect_gte(length(bad_yaml()), 40)
  settings <- plan_settings()
  places <- plan_places()
  expect_setequal(setdiff(sub("^probes[.].*", "probes", unique(places$part)), names(settings)), "probes")
  folder <- plan_fuzz_folder()
  for (part in names(settings)[lengths(lapply(settings, `[[`, "base")) > 0]) {
    base <- settings[[part]]$base
    expect_identical(try_plan_key(folder, part, names(base)[1], base[[1]]), "fine", info = part)
  }
  withr::local_seed(as.integer(format(Sys.Date(), "%Y%j")) + 1)
  for (k in sample.int(nrow(places), 40)) {
    at <- places[k, ]
    expect_no_match(try_plan_key(folder, at$part, at$key, at$value, settings), "^raw", info = paste(at$part, at$key, at$value))
  }
})

test_that("what all keys and values once found stays refused", {
  folder <- plan_fuzz_folder()
  for (value in c("[]", "{}", "[[]]", "[~]")) expect_identical(try_plan_key(folder, "panel", "outcome", value), "error")
  expect_identical(try_plan_key(folder, "study", "reference", "~"), "fine")
  expect_identical(try_plan_key(folder, "effect", "by", "joined"), "error")
})

test_that("plans, tables and graphs that hands have damaged give a result or a classed error", {
  originals <- mutant_originals()
  for (kind in names(originals)) expect_identical(try_mutant(kind, originals[[kind]]), "fine")
  start <- as.integer(format(Sys.Date(), "%Y%j")) * 100
  for (seed in start + 1:60) {
    kind <- names(originals)[seed %% 3 + 1]
    lines <- mutate_lines(originals[[kind]], seed)
    expect_no_match(try_mutant(kind, lines), "^raw", info = paste(kind, seed))
  }
})

test_that("what the plan's words may not do is refused at once", {
  refused <- function(edit) {
    folder <- plan_folder(edit)
    expect_error(read_plan(file.path(folder, "plan.yml")), class = "twin_error_input")
  }
  refused(function(lines) sub("  raw: {}", "  raw: hello", lines, fixed = TRUE))
  refused(function(lines) c("path: x", lines))
  refused(function(lines) c(lines, "lines: [a]"))
  refused(function(lines) c(lines, paste0("power: ", strrep("[", 1e5))))
  late <- function(edit) {
    folder <- plan_folder(edit)
    plan <- read_plan(file.path(folder, "plan.yml"))
    expect_error({
      study <- plan_study(plan)
      plan_designs(plan, study)
    }, class = "twin_error_input")
  }
  late(function(lines) sub("~ boat + past + port", "~ bs(boat, df = 1e7)", lines, fixed = TRUE))
  refused(function(lines) sub("~ boat + past + port", paste0("~ ", strrep("(", 5000), "boat", strrep(")", 5000)), lines, fixed = TRUE))
  late(function(lines) sub("~ boat + past + port", "~ boat + I('a')", lines, fixed = TRUE))
  late(function(lines) sub("caliper: 0.2", "caliper: 1/0", lines, fixed = TRUE))
  report <- plan_folder(function(lines) c(lines[1:20], "report: [[]]"))
  expect_error(read_plan(file.path(report, "plan.yml")), class = "twin_error_input")
})
