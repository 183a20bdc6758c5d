# The examples of every help page run as they stand.

test_that("the examples of every help page run", {
  root <- source_root()
  if (is.null(root) || !dir.exists(file.path(root, "man"))) skip("the source tree is not here")
  pages <- list.files(file.path(normalizePath(root), "man"), "[.]Rd$", full.names = TRUE)
  expect_gt(length(pages), 70)
  withr::local_dir(withr::local_tempdir())
  withr::local_pdf(NULL)
  ran <- 0L
  for (page in pages) {
    code <- withr::local_tempfile(fileext = ".R")
    tools::Rd2ex(page, code)
    if (!file.exists(code)) next
    run <- function() suppressMessages(suppressWarnings(source(code, local = new.env(), print.eval = TRUE)))
    stopped <- tryCatch({
      utils::capture.output(run())
      "nothing"
    }, error = conditionMessage)
    expect_identical(stopped, "nothing", label = basename(page))
    ran <- ran + 1L
  }
  expect_gt(ran, 60)
})
