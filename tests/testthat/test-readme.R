test_that("the README and the article show what their code prints", {
  root <- source_root()
  tool <- file.path(if (is.null(root)) "." else root, "tools", "readme.R")
  skip_if(!file.exists(tool), "the source tree is not here")
  withr::local_options(width = 80, cli.num_colors = 1L)
  env <- new.env()
  sys.source(tool, env)
  unchanged <- function(file) {
    lines <- readLines(file.path(root, file))
    expect_gt(sum(lines == "```text"), 2)
    expect_identical(env$run_readme(lines), lines)
  }
  unchanged("README.md")
  skip_if_not_installed("mgcv")
  for (article in list.files(file.path(root, "docs", "articles"))) unchanged(file.path("docs", "articles", article))
})

test_that("pictures that the README shows are there", {
  root <- source_root()
  skip_if(is.null(root) || !dir.exists(file.path(root, "docs")), "the source tree is not here")
  shown <- regmatches(lines <- readLines(file.path(root, "README.md")), regexpr("docs/screenshots/[a-z-]+[.]png", lines))
  expect_gt(length(shown), 4)
  expect_identical(shown[!file.exists(file.path(root, shown))], character())
})
