test_that("run makes tables, figures, weights, logbook and report", {
  folder <- finished_run()$folder
  result <- finished_run()$result
  expect_identical(result$status, 0L)
  out <- file.path(folder, "results")
  wanted <- c("report.html", "weights.csv", "logbook.csv", "plan.yml", "tables/groups.csv", "tables/balance-pairs.tex",
              "tables/effects-income.csv", "tables/probe-hidden.csv", "figures/overlap.png",
              "figures/effects-direct.png")
  expect_identical(wanted[!file.exists(file.path(out, wanted))], character())
  study <- study_of_many(cluster = "harbour", outcome = c("income", "direct"))
  design <- pair_units(score_units(study))
  effects <- data.table::fread(file.path(out, "tables/effects-income.csv"), data.table = FALSE)
  expect_equal(effects$estimate[effects$label == "pairs"], difference_of(measure_effect(design)))
  w <- data.table::fread(file.path(out, "weights.csv"), data.table = FALSE)
  expect_equal(w$pairs.weight, weights(design))
  expect_identical(w$id, 1:300)
  expect_lte(max(nchar(grep(folder, result$out, fixed = TRUE, invert = TRUE, value = TRUE))), 80)
  expect_match(paste(result$out, collapse = " "), "The truth is 2.00", fixed = TRUE)
  expect_identical(list.files(folder, all.files = TRUE, no.. = TRUE, pattern = "^[.]"), character())
})

test_that("a second run counts designs tried after the outcome was opened in the first", {
  folder <- copy_of_run()
  plan <- file.path(folder, "plan.yml")
  writeLines(sub("[score, weigh]", "[score, weigh: {stabilise: true}]", slim(readLines(plan)), fixed = TRUE), plan)
  expect_identical(twin("run", plan)$status, 0L)
  report <- paste(readLines(file.path(folder, "results", "report.html")), collapse = " ")
  expect_match(report, "2 designs before, 1 after")
})

test_that("describe and balance show tables and leave the outcome sealed", {
  plan <- file.path(plan_folder(), "plan.yml")
  shown <- twin("describe", plan)
  expect_identical(shown$status, 0L)
  expect_match(shown$out, "port: small", all = FALSE)
  balance <- twin("balance", plan)
  expect_match(balance$out, "== weights ==", all = FALSE)
  expect_match(balance$out, "still sealed; 2 designs tried", all = FALSE)
  expect_lte(max(nchar(c(shown$out, balance$out))), 80)
})

test_that("with --strict a failing balance exits with 1 and the outcome stays sealed", {
  folder <- plan_folder(function(lines) sub("limit: lenient", "limit: 0.001", lines))
  plan <- file.path(folder, "plan.yml")
  expect_stopped(twin("balance", plan, "--strict"), 1L, "rows fail in pairs and weights")
  expect_stopped(twin("run", plan, "--strict"), 1L, "the outcome stays sealed")
  expect_false(dir.exists(file.path(folder, "results")))
  expect_identical(twin("balance", plan)$status, 0L)
})

test_that("a failing run overwrites nothing and leaves nothing", {
  folder <- copy_of_run()
  plan <- file.path(folder, "plan.yml")
  before <- tools::md5sum(list.files(file.path(folder, "results"), recursive = TRUE, full.names = TRUE))
  writeLines(sub("caliper: 0.2", "caliper: 1.0e-12", readLines(plan)), plan)
  expect_stopped(twin("run", plan), 2L, "No pair is left.*In plan.yml, line 10 \\(designs > pairs\\)")
  expect_identical(tools::md5sum(names(before)), before)
  expect_setequal(list.files(folder, all.files = TRUE, no.. = TRUE), c("data.csv", "plan.yml", "results"))
})

test_that("unknown keys name the nearest known one and their line", {
  refused <- function(from, to, pattern) {
    folder <- plan_folder(function(lines) sub(from, to, lines, fixed = TRUE))
    expect_stopped(twin("balance", file.path(folder, "plan.yml")), 2L, pattern)
  }
  refused("  treatment:", "  instrument: depth\n  treatment:", "Instruments and cut-offs are out of scope.*plan.yml, line 3")
  refused("  treatment:", "  treatmnt:", "unknown key \"treatmnt\".*Did you mean \"treatment\".*plan.yml, line 3")
  refused("caliper: 0.2", "calliper: 0.2", "Did you mean \"caliper\".*line 12 \\(designs > pairs > calliper\\)")
  refused("effects:", "efects:", "Did you mean \"effects\".*line 14")
  refused("- pair:", "- pairs:", "unknown step \"pairs\".*Did you mean \"pair\"")
  refused("{design: pairs}", "{design: pears}", "a design \"pears\" that it does not have.*Did you mean \"pairs\"")
  refused("probe: pairs", "probe: pair", "a probe \"pair\"")
  refused("limit: lenient", "limits: lenient", "Did you mean \"limit\"")
})

test_that("a plan that tries to run code is refused, whatever the disguise", {
  marker <- withr::local_tempfile()
  attack <- function(from, to, pattern) {
    folder <- plan_folder(function(lines) sub(from, to, lines, fixed = TRUE))
    expect_stopped(twin("describe", file.path(folder, "plan.yml")), 2L, pattern)
  }
  touch <- sprintf("file.create('%s')", marker)
  attack("  estimand: ATT", paste0("  estimand: !expr ", touch), "YAML tags are refused.*line 6")
  attack("  estimand: ATT", paste0("  estimand: [!r ", touch, "]"), "YAML tags are refused")
  attack("~ boat + past", paste0("~ boat + ", touch), "may not call `file.create`")
  attack("~ boat + past", paste0("~ boat + I(", touch, ")"), "may not call `file.create`")
  attack("~ boat + past", "~ boat + base::system('true')", "may not call `base::system`")
  attack("~ boat + past", "~ boat + (function(x) x)(past)", "may not call")
  attack("  id: id", paste0("  subset: \"", touch, "\""), "`subset` may not call `file.create`")
  attack("  id: id", "  subset: \"get('boat') > 0\"", "`subset` may not call `get`")
  expect_false(file.exists(marker))
})

test_that("allowed formulas and conditions work from a plan", {
  folder <- plan_folder(function(lines) {
    lines <- sub("~ boat + past + port", "~ I(boat^2) + poly(past, 2) + log(s) + factor(port) + bs(boat, 4)", lines,
                 fixed = TRUE)
    sub("  id: id", "  subset: \"boat > -1 & !is.na(past) & port %in% c('small', 'large')\"", lines, fixed = TRUE)
  })
  result <- twin("balance", file.path(folder, "plan.yml"))
  expect_identical(result$status, 0L)
  expect_match(result$out, "\\d+ of \\d+ rows pass", all = FALSE)
})

test_that("bad files end with 2 and one block", {
  folder <- withr::local_tempdir()
  path <- function(name) file.path(folder, name)
  expect_stopped(twin("describe", path("none.yml")), 2L, "no such file")
  file.create(path("void.csv"))
  expect_stopped(twin("draft", path("void.csv")), 2L, "The file is empty")
  writeLines(c("a", "1", "2"), path("one.csv"))
  expect_stopped(twin("draft", path("one.csv")), 2L, "single column")
  expect_stopped(twin("draft", path("missing.csv")), 2L, "no such file")
  writeLines("study: [", path("broken.yml"))
  expect_stopped(twin("describe", path("broken.yml")), 2L, "Can't read the plan")
  writeLines("just text", path("text.yml"))
  expect_stopped(twin("describe", path("text.yml")), 2L, "must be YAML with the keys")
})

test_that("an output folder that can't be written to is refused before anything is opened", {
  folder <- plan_folder()
  file.create(file.path(folder, "blocked"))
  plan <- file.path(folder, "plan.yml")
  expect_stopped(twin("run", plan, "--out", file.path(folder, "blocked")), 2L, "a file, not a folder")
  expect_stopped(twin("run", plan, "--out", file.path(folder, "blocked", "deep")), 2L, "can't be written to")
  expect_identical(twin("demo", "--out", file.path(folder, "blocked"))$status, 2L)
})

test_that("wrong usage exits with 2 and says what is right", {
  expect_stopped(twin("rnu"), 2L, "no command \"rnu\". Did you mean \"run\"")
  expect_stopped(twin("run"), 2L, "takes one argument, PLAN; 0 given")
  expect_stopped(twin("version", "x"), 2L, "takes no argument")
  expect_identical(twin("run", "--nope", "x")$status, 2L)
  expect_identical(twin("--help")$status, 0L)
  expect_identical(twin("run", "--help")$status, 0L)
  expect_identical(twin("version"), list(status = 0L, out = paste("twin", packageVersion("carefultwin")),
                                         err = character()))
})

test_that("draft writes a plan that runs, keeps words YAML would turn into truth values, and replaces nothing unasked", {
  folder <- withr::local_tempdir()
  data <- many_crews(150)
  data$member <- ifelse(data$joined == 1, "yes", "no")
  data$crew_id <- sprintf("c%03d", 1:150)
  csv <- file.path(folder, "my data.csv")
  data.table::fwrite(data[c("crew_id", "member", "boat", "port", "past", "income")], csv)
  expect_identical(twin("draft", csv)$status, 0L)
  plan <- file.path(folder, "plan.yml")
  expect_match(readLines(plan), "treated: \"yes\"", all = FALSE)
  expect_stopped(twin("draft", csv), 2L, "is there already")
  expect_identical(twin("draft", csv, "--force")$status, 0L)
  expect_identical(suppressWarnings(twin("run", plan))$status, 0L)
  expect_true(file.exists(file.path(folder, "results", "report.html")))
})

test_that("a column named like markup or with a space goes all the way into the report as text", {
  folder <- plan_folder(function(lines) {
    sub("\"~ boat + past + port\"", "[\"<script>\", \"a b\", port]", slim(lines), fixed = TRUE)
  })
  data <- data.table::fread(file.path(folder, "data.csv"), data.table = FALSE)
  names(data)[1:2] <- c("<script>", "a b")
  data.table::fwrite(data, file.path(folder, "data.csv"))
  expect_identical(twin("run", file.path(folder, "plan.yml"))$status, 0L)
  html <- paste(readLines(file.path(folder, "results", "report.html")), collapse = "\n")
  expect_match(html, "<td>&lt;script&gt;</td>", fixed = TRUE)
  expect_match(html, "<td>a b</td>", fixed = TRUE)
  expect_false(grepl("<script>", html, fixed = TRUE))
})

test_that("the program itself runs the demo, and its intervals hold the truth where the raw one fails", {
  folder <- withr::local_tempdir()
  program <- system.file("exec", "twin", package = "carefultwin")
  out <- withr::with_dir(folder, system2(file.path(R.home("bin"), "Rscript"), c(shQuote(program), "demo"),
                                         stdout = TRUE, stderr = FALSE))
  expect_null(attr(out, "status"))
  table <- data.table::fread(file.path(folder, "twin-demo/results/tables/effects-income.csv"), data.table = FALSE)
  expect_identical(table$covers[table$label == "raw"], FALSE)
  expect_identical(table$covers[table$label != "raw"], rep(TRUE, 5))
  raw <- table$estimate[table$label == "raw"]
  expect_true(raw < 0 && table$truth[1] > 0)
  truth <- crews_truth$truth[crews_truth$outcome == "income" & crews_truth$estimand == "ATT" & crews_truth$weighted]
  expect_equal(table$truth[1], truth, tolerance = 1e-3)
})

test_that("a plan may take its covariates from a graph, and say how groups and balance are shown", {
  folder <- plan_folder(function(lines) {
    lines <- sub("  covariates: .*", "  graph: causes.dot", lines)
    sub("  limit: lenient", "  extra: [squares, score]\n  by: coast\n  groups: {summary: median, tests: true}",
        slim(lines))
  })
  writeLines("digraph { boat -> {joined income}; port -> {joined income}; joined -> {income direct} }",
             file.path(folder, "causes.dot"))
  plan <- file.path(folder, "plan.yml")
  shown <- twin("describe", plan)
  expect_identical(shown$status, 0L)
  expect_match(shown$out, "numeric: boat; with levels: port", all = FALSE)
  expect_match(paste(shown$out, collapse = " "), "median \\[quartiles\\].*chi-squared")
  balance <- twin("balance", plan)
  expect_match(balance$out, "boat\\^2", all = FALSE)
  expect_match(balance$out, "^coast: east", all = FALSE)
  expect_identical(twin("run", plan)$status, 0L)
  expect_true(any(grepl("boat^2", readLines(file.path(folder, "results/tables/balance-weights.csv")), fixed = TRUE)))
  writeLines("digraph { boat -> joined -> boat }", file.path(folder, "causes.dot"))
  expect_stopped(twin("describe", plan), 2L, "must have no cycle")
})
