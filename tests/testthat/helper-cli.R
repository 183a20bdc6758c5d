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

expect_stopped <- function(result, status, pattern) {
  expect_identical(result$status, status)
  expect_match(gsub("\\s+", " ", paste(result$err, collapse = " ")), pattern)
  expect_false(any(grepl("Error in|Backtrace|Traceback", result$err)))
  expect_lte(max(nchar(result$err)), 80)
}
