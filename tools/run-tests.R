# Runs the tests and prints the counts alone on the last line: N passed, N failed, N skipped.
Sys.setenv(NOT_CRAN = "true")
results <- as.data.frame(testthat::test_dir(
  "tests/testthat", package = "carefultwin", load_package = "installed", reporter = "summary",
  stop_on_failure = FALSE
))
failed <- sum(results$failed) + sum(results$error)
# in CI a snapshot that was not there is written and passes: that is not a pass
if (identical(Sys.getenv("CI"), "true") && nzchar(Sys.which("git"))) {
  changed <- system2("git", c("status", "--porcelain", "tests/testthat/_snaps"), stdout = TRUE, stderr = FALSE)
  if (length(changed) > 0L) {
    cat("Snapshots changed:", changed, sep = "\n")
    failed <- failed + 1L
  }
}
passed <- sum(results$passed)
cat(sprintf("\n%d passed, %d failed, %d skipped\n", passed, failed, sum(results$skipped)))
quit(status = if (failed > 0L || passed == 0L) 1L else 0L)
