# Runs the tests of a folder and prints the counts alone on the last line: N passed, N failed, N skipped.
# usage: Rscript tools/run-tests.R [testthat|simulations|documents]     default testthat, side by side on all cores
# FILTER=pairs in the environment runs the files whose names hold "pairs"; TIMES=1 tells how long each file took.
folder <- c(commandArgs(TRUE), "testthat")[1L]
filter <- Sys.getenv("FILTER")
beside <- folder == "testthat" && !nzchar(Sys.getenv("TIMES"))
Sys.setenv(NOT_CRAN = "true", TESTTHAT_PARALLEL = if (beside) "true" else "false")
# each process has a core of its own: libraries that start threads would only stand in each other's way
if (beside) Sys.setenv(OPENBLAS_NUM_THREADS = "1")
if (is.null(getOption("Ncpus"))) options(Ncpus = max(2L, parallel::detectCores()))
results <- as.data.frame(testthat::test_dir(
  file.path("tests", folder), filter = if (nzchar(filter)) filter, package = "carefultwin",
  load_package = "installed", reporter = "check", stop_on_failure = FALSE
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
if (!beside) {
  by_file <- sort(tapply(results$real, results$file, sum), decreasing = TRUE)
  slow <- utils::head(results[order(-results$real), ], 25L)
  cat("\nSeconds by file:\n", sprintf("  %6.1f %s\n", by_file, names(by_file)), sep = "")
  cat("Slowest tests:\n", sprintf("  %6.1f %s: %s\n", slow$real, slow$file, slow$test), sep = "")
}
passed <- sum(results$passed)
cat(sprintf("\n%d passed, %d failed, %d skipped\n", passed, failed, sum(results$skipped)))
quit(status = if (failed > 0L || passed == 0L) 1L else 0L)
