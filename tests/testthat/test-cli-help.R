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
