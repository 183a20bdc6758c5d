test_that("twin alone tells where to start, and every command stands in it", {
  result <- twin()
  expect_identical(result$status, 0L)
  text <- paste(result$out, collapse = "\n")
  for (name in names(twin_commands())) expect_match(text, paste0("twin ", name), fixed = TRUE)
  expect_lte(max(nchar(result$out)), 80)
})

test_that("help is there for commands, verbs and parts of plans", {
  expect_match(paste(twin("help", "run")$out, collapse = "\n"), "--strict", fixed = TRUE)
  expect_match(paste(twin("help", "trim_units")$out, collapse = "\n"), "Leaves out units by their propensity score")
  expect_match(paste(twin("help", "trim")$out, collapse = "\n"), "rescore")
  expect_stopped(twin("help", "trm_units"), 2L, "Did you mean \"trim_units\"")
  expect_stopped(twin("keys", "studdy"), 2L, "Did you mean \"study\"")
  expect_stopped(twin("keys", "a", "b"), 2L, "at most one argument")
})

test_that("the keys of plans are those that plans are checked by, with the verbs' own defaults", {
  rows <- as.data.frame(plan_reference())
  keys <- plan_keys()
  for (part in c("study", "score", "pair", "weigh", "power", "effect", "hazard", "report", "groups", "trends")) {
    expect_setequal(rows$key[rows$part == part], keys[[part]])
  }
  expect_setequal(rows$key[rows$part == "effect over time"], keys$did)
  expect_setequal(rows$part[startsWith(rows$part, "probe ")], paste("probe", names(probes)))
  row <- function(part, key) rows[rows$part == part & rows$key == key, ]
  expect_identical(row("study", "estimand")$default, "ATT")
  expect_identical(row("trim", "rule")$default, "least_variance | common_support | quantile | range")
  expect_identical(row("power", "power")$verb, "assess_power")
  documented <- nzchar(rows$about)
  expect_gt(mean(documented), 0.97)
  shown <- utils::capture.output(print(plan_reference("study")))
  expect_lte(max(nchar(shown)), 80)
  page <- help_pages()[["plan_reference.Rd"]]
  text <- paste(utils::capture.output(tools::Rd2txt(page)), collapse = " ")
  for (key in keys$weigh) expect_match(text, key, fixed = TRUE)
})

test_that("completion for bash offers commands, options and files", {
  skip_if(!nzchar(Sys.which("bash")), "bash is not here")
  script <- withr::local_tempfile(lines = twin("completion")$out)
  ask <- function(...) {
    words <- paste(sprintf("'%s'", c("twin", ...)), collapse = " ")
    system2("bash", c("-c", shQuote(sprintf(
      "source %s; COMP_WORDS=(%s); COMP_CWORD=%d; _twin; echo \"${COMPREPLY[@]}\"", script, words, length(c(...))))),
      stdout = TRUE)
  }
  expect_identical(ask("dem"), "demo")
  expect_identical(ask("run", "--st"), "--strict")
  expect_match(ask("describe", script), basename(script), fixed = TRUE)
})

test_that("progress says how far and how long, and clears its line", {
  expect_identical(progress_line("Draws: 40 of 200", 0.2, 2), "Draws: 40 of 200, 20%, about 8 s left")
  expect_identical(progress_line("Draws", 0.01, 10), "Draws, 1%, about 16 min left")
  expect_lte(nchar(progress_line(strrep("long ", 40), 0.5, 3)), 79)
  said <- withr::local_tempfile()
  code <- sprintf(paste(
    "options(progressr.handlers = list(carefultwin:::terminal_progress()));",
    "progressr::with_progress({p <- progressr::progressor(steps = 5, message = 'Work');",
    "for (i in 1:5) {Sys.sleep(0.6); p(message = paste('Work', i))}}, enable = TRUE)"))
  system2(file.path(R.home("bin"), "Rscript"), c("-e", shQuote(code)), stderr = said)
  text <- paste(readLines(said, warn = FALSE), collapse = "")
  expect_match(text, "Work 4, 80%, about 1 s left")
  expect_match(text, " {20,}$")
})
