# Runs the tests side by side, one process per core, and prints the counts alone on the last line: N passed, N failed,
# N skipped. FILTER=pairs in the environment runs the files whose names hold "pairs".
Sys.setenv(NOT_CRAN = "true", TESTTHAT_PARALLEL = "true")
# each process has a core of its own: libraries that start threads would only stand in each other's way
Sys.setenv(OPENBLAS_NUM_THREADS = "1", OMP_NUM_THREADS = "2")
if (is.null(getOption("Ncpus"))) options(Ncpus = max(2L, parallel::detectCores()))
filter <- Sys.getenv("FILTER")
results <- as.data.frame(testthat::test_dir(
  "tests/testthat", filter = if (nzchar(filter)) filter, package = "carefultwin", load_package = "installed",
  reporter = "check", stop_on_failure = FALSE
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
if (nzchar(Sys.getenv("TIMES"))) {
  by_file <- sort(tapply(results$real, results$file, sum), decreasing = TRUE)
  cat("\nSeconds by file:\n", sprintf("  %6.1f %s\n", by_file, names(by_file)), sep = "")
  slow <- utils::head(results[order(-results$real), ], 25L)
  cat("Slowest tests:\n", sprintf("  %6.1f %s: %s\n", slow$real, slow$file, slow$test), sep = "")
}
passed <- sum(results$passed)
cat(sprintf("\n%d passed, %d failed, %d skipped\n", passed, failed, sum(results$skipped)))
quit(status = if (failed > 0L || passed == 0L) 1L else 0L)
