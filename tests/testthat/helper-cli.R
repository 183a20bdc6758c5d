# Runs a command in this process: list(status, out, err).
twin <- function(...) {
  err <- withr::local_tempfile()
  con <- file(err, "w")
  sink(con, type = "message")
  on.exit({
    sink(type = "message")
    close(con)
  })
  out <- utils::capture.output(status <- twin_main(c(...)))
  flush(con)
  list(status = status, out = out, err = readLines(err))
}

# A folder with a plan and the crews data; `edit` changes the plan's lines.
plan_folder <- function(edit = identity, env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  data <- many_crews()
  data$id <- seq_len(300)
  data$chance <- plogis(data$boat)
  data.table::fwrite(data, file.path(folder, "data.csv"))
  writeLines(edit(c(
    "study:", "  data: data.csv", "  treatment: joined", "  outcome: [income, direct]",
    "  covariates: \"~ boat + past + port\"", "  estimand: ATT", "  id: id", "  cluster: harbour",
    "designs:", "  pairs:", "    - score: {link: logit}", "    - pair: {caliper: 0.2, order: hardest}",
    "  weights: [score, weigh]",
    "effects:", "  raw: {}", "  pairs: {design: pairs}",
    "  share: {design: weights, outcome: direct, estimator: augmented}",
    "probes:", "  hidden: {probe: pairs, effect: pairs, gamma: [1, 2]}", "  strength: {probe: ratio, effect: share}",
    "report:", "  truth: {income: 2}", "  limit: lenient"
  )), file.path(folder, "plan.yml"))
  folder
}

# A finished run of that plan, made once for all tests of a file: list(folder, result). Tests that change something take
# a copy of the folder.
finished_run <- local({
  made <- NULL
  function() {
    if (is.null(made)) {
      folder <- plan_folder(env = testthat::teardown_env())
      made <<- list(folder = folder, result = twin("run", file.path(folder, "plan.yml")))
    }
    made
  }
})

copy_of_run <- function(env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  stopifnot(file.copy(list.files(finished_run()$folder, full.names = TRUE), folder, recursive = TRUE))
  folder
}

# The plan with one design, one effect and no probe: few pictures to draw.
slim <- function(lines) {
  from <- match("  pairs:", lines)
  lines <- lines[-(from + 0:2)]
  lines <- lines[!grepl("^  (pairs|share|raw): |^probes:|^  (hidden|strength): ", lines)]
  append(lines, "  weights: {design: weights}", match("effects:", lines))
}

expect_stopped <- function(result, status, pattern) {
  expect_identical(result$status, status)
  expect_match(gsub("\\s+", " ", paste(result$err, collapse = " ")), pattern)
  expect_false(any(grepl("Error in|Backtrace|Traceback", result$err)))
  expect_lte(max(nchar(result$err)), 80)
}
