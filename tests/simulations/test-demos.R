# The demo that no other test runs; `make test` runs that of the crews.

test_that("the demo over time runs from an empty folder", {
  folder <- withr::local_tempdir()
  result <- twin("demo", "--panel", "--out", file.path(folder, "demo"))
  expect_identical(result$status, 0L)
  expect_setequal(list.files(file.path(folder, "demo")), c("harbours.csv", "plan.yml", "results"))
  expect_match(paste(result$out, collapse = " "), "don't\\s+trust it here")
})
