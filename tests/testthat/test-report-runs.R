test_that("two runs are compared: plan, data, balance and effects", {
  folder <- plan_folder()
  twin("run", file.path(folder, "plan.yml"), "--out", file.path(folder, "old"))
  same <- twin("compare", file.path(folder, "old"), file.path(folder, "old"))
  expect_identical(same$status, 0L)
  expect_match(paste(same$out, collapse = " "), "Nothing changed")
  plan <- readLines(file.path(folder, "plan.yml"))
  writeLines(sub("caliper: [0-9.]+", "caliper: 0.05", plan), file.path(folder, "plan.yml"))
  data <- data.table::fread(file.path(folder, "data.csv"), data.table = FALSE)
  data.table::fwrite(data[-(1:5), ], file.path(folder, "data.csv"))
  twin("run", file.path(folder, "plan.yml"), "--out", file.path(folder, "new"))
  found <- compare_runs(file.path(folder, "old"), file.path(folder, "new"))
  rows <- as.data.frame(found)
  expect_setequal(unique(rows$part), c("plan", "data", "balance", "effect"))
  expect_identical(rows$new[grepl("caliper", rows$what)], "0.05")
  expect_identical(as.integer(gsub(",", "", rows[rows$what == "rows", c("old", "new")])), nrow(data) - c(0L, 5L))
  facts <- yaml::read_yaml(file.path(folder, "new", "run-facts.yml"))
  name <- names(facts$effects)[2]
  table <- data.table::fread(file.path(folder, "new", "tables", "effects-income.csv"))
  expect_equal(facts$effects[[name]]$estimate, table$estimate[table$label == name])
  text <- paste(format(found), collapse = "\n")
  expect_match(text, "->", fixed = TRUE)
  expect_error(compare_runs(folder, file.path(folder, "new")), "not a folder of results", class = "twin_error_file")
  expect_identical(twin("compare", file.path(folder, "old"))$status, 2L)
})

test_that("changes of plans are told by their path; what is new or gone is told", {
  rows <- changed_rows("plan", flat_plan(list(study = list(data = "a.csv", outcome = list("x", "y")), power = "z")),
                       flat_plan(list(study = list(data = "b.csv", outcome = list("x", "y")), report = list(title = "t"))))
  expect_identical(rows$what, c("study > data", "power", "report > title"))
  expect_identical(change_words(rows$old[2], rows$new[2]), "gone; it was z")
  expect_identical(change_words(rows$old[3], rows$new[3]), "new: t")
})

test_that("a run leaves the words for the paper beside its reports", {
  folder <- plan_folder()
  result <- twin("run", file.path(folder, "plan.yml"))
  files <- list.files(file.path(folder, "results"))
  expect_true(all(c("report.html", "methods.md", "checklist.md", "references.bib", "run-facts.yml") %in% files))
  if (rlang::is_installed("officer")) expect_true(all(c("report.docx", "methods.docx") %in% files))
  expect_match(readLines(file.path(folder, "results", "methods.md")), "## References", all = FALSE, fixed = TRUE)
  expect_match(paste(result$out, collapse = " "), "methods.md +a paragraph for the methods section")
})

test_that("the headline stands in the plan, and a wrong one is named with its line", {
  folder <- plan_folder(function(plan) c(plan[!grepl("^report:|^  title|^  truth|^  limit", plan)], "report:", "  headline: nobody"))
  result <- twin("run", file.path(folder, "plan.yml"))
  expect_stopped(result, 2L, "must name an effect.*report > headline")
})
