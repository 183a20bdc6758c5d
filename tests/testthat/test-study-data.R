in_folder <- function(env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  function(name, lines = NULL) {
    path <- file.path(folder, name)
    if (!is.null(lines)) writeLines(lines, path, useBytes = TRUE)
    path
  }
}

test_that("text files are read with any separator, text staying text", {
  path <- in_folder()
  wanted <- data.frame(name = c("x", NA), n = 1:2)
  expect_identical(read_units(path("a.csv", c("name,n", "x,1", ",2"))), wanted)
  expect_identical(read_units(path("a.tsv", c("name\tn", "x\t1", "NA\t2"))), wanted)
  expect_identical(read_units(path("b.csv", c("name;n", "x;1", ";2"))), wanted)
  expect_type(read_units(path("big.csv", c("id,n", "9007199254740993,1", "9007199254740995,2")))$id, "double")
})

test_that("decimal commas are recognised, or taken as told", {
  path <- in_folder()
  file <- path("a.csv", c("name;size;n", "x;2,5;1", "y;-0,25;2"))
  expect_identical(read_units(file)$size, c(2.5, -0.25))
  expect_identical(read_units(file, decimal = ".")$size, c("2,5", "-0,25"))
  # words with commas are no numbers
  expect_identical(read_units(path("b.csv", c("name;n", "1,2 m;1", "x;2")))$name, c("1,2 m", "x"))
})

test_that("latin1 text is refused as UTF-8, with the column, and read when told", {
  path <- in_folder()
  file <- path("a.csv", c("name,n", "caf\xe9,1"))
  error <- expect_error(read_units(file), "encoding = \"latin1\"", class = "twin_error_file")
  expect_identical(error$columns, "name")
  expect_identical(read_units(file, encoding = "latin1")$name, "caf\u00e9")
})

test_that("what can't be read is refused, each case in its own words", {
  path <- in_folder()
  refused <- function(file, pattern) expect_error(read_units(file, trusted = TRUE), pattern, class = "twin_error_file")
  refused(path("none.csv"), "no such file")
  refused(path("one.csv", c("a", "1")), "single column, \"a\"")
  refused(path("head.csv", "a,b"), "no rows")
  file.create(path("void.csv"))
  refused(path("void.csv"), "The file is empty")
  refused(path("a.docx", "x"), "\"docx\" are not known.*Known: ")
  refused(path("noending", "x"), "no ending")
  refused(path("broken.rds", "x"), "Can't read")
  saveRDS(1:3, path("vector.rds"))
  refused(path("vector.rds"), "not a table")
  skip_if_not_installed("haven")
  refused(path("broken.dta", "x"), "Can't read")
})

test_that("a missing reader says how to install it", {
  error <- expect_error(need_package("nopackageofthisname", "read abc files"), class = "twin_error_package")
  expect_match(conditionMessage(error), "install.packages(\"nopackageofthisname\")", fixed = TRUE)
})

round_trip <- function(kind, data) {
  file <- withr::local_tempfile(fileext = paste0(".", kind))
  expect_identical(write_units(data, file), file)
  read_units(file, trusted = kind == "rds")
}

plain_units <- function() data.frame(name = c("a", NA, "c"), size = c(1.5, NA, -2), many = c(1, 2, 3))

test_that("csv, tsv and rds come back as they went", {
  expect_equal(round_trip("csv", plain_units()), plain_units())
  expect_equal(round_trip("tsv", plain_units()), plain_units())
  expect_identical(round_trip("rds", plain_units()), plain_units())
})

test_that("Excel files come back as they went", {
  skip_if_not_installed("openxlsx")
  skip_if_not_installed("readxl")
  expect_equal(round_trip("xlsx", plain_units()), plain_units())
})

test_that("Parquet files come back as they went", {
  skip_if_not_installed("nanoparquet")
  expect_equal(round_trip("parquet", plain_units()), plain_units(), ignore_attr = TRUE)
})

test_that("labels of .dta and .sav files are kept, used as levels and named in tables", {
  skip_if_not_installed("haven")
  data <- many_crews()
  data$gear <- haven::labelled(rep(1:3, 100), c(nets = 1, lines = 2, pots = 3), label = "main gear")
  attr(data$boat, "label") <- "length of the boat"
  for (kind in c("dta", "sav")) {
    file <- withr::local_tempfile(fileext = paste0(".", kind))
    if (kind == "dta") write_units(data, file) else haven::write_sav(data, file)
    study <- study_of_many(read_units(file), covariates = c("boat", "gear"))
    expect_identical(study$columns$gear$levels, c("nets", "lines", "pots"))
    tex <- withr::local_tempfile(fileext = ".tex")
    export_table(describe_groups(study), tex)
    expect_match(readLines(tex), "main gear: pots", fixed = TRUE, all = FALSE)
    expect_match(readLines(tex), "length of the boat", fixed = TRUE, all = FALSE)
  }
})

test_that("a matched data set goes to a .dta file with names it allows, and says which changed", {
  skip_if_not_installed("haven")
  design <- pair_units(score_units(study_of_many()))
  file <- withr::local_tempfile(fileext = ".dta")
  warning <- expect_warning(write_units(design_data(design), file), ".score -> _score", class = "twin_warning_renamed")
  expect_length(warning$renames, 6)
  expect_equal(as.numeric(read_units(file)[["_weight"]]), weights(design))
})

test_that("formulas in text are defused, numbers in text are not", {
  file <- withr::local_tempfile(fileext = ".csv")
  write_units(data.frame(a = c("=1+1", "-5", "@x"), b = 1:3), file)
  expect_identical(readLines(file)[2:4], c("'=1+1,1", "-5,2", "'@x,3"))
})

test_that("data that can't be written are refused and leave nothing", {
  folder <- withr::local_tempdir()
  expect_error(write_units(plain_units(), file.path(folder, "a.docx")), "must end in one of", class = "twin_error_file")
  expect_error(write_units(plain_units(), file.path(folder, "no", "a.csv")), "no folder", class = "twin_error_file")
  expect_error(write_units(1, file.path(folder, "a.csv")), "data frame", class = "twin_error_input")
  expect_identical(list.files(folder, all.files = TRUE, no.. = TRUE), character())
})

simulated <- function(...) suppressMessages(simulate_units(...))

test_that("simulated units are the same for the same seed and leave the random stream alone", {
  withr::local_seed(3)
  before <- .Random.seed
  one <- simulated(100, seed = 5)
  expect_identical(.Random.seed, before)
  expect_identical(simulated(100, seed = 5), one)
  expect_false(identical(simulated(100, seed = 6), one))
  expect_message(simulate_units(50), "True effects: ATE 1.000, ATT 1.000", class = "twin_message_truth")
})

test_that("the truth is what the columns say: constant, rising with x1, and on the outcome's scale", {
  constant <- simulated(300, effect = 2)
  expect_equal(unname(attr(constant, "truth")), c(2, 2, 2))
  rising <- simulated(5000, effect = 1, heterogeneity = 0.5)
  own <- 1 + 0.5 * rising$x1
  expect_equal(attr(rising, "truth")[["ATT"]], mean(own[rising$treated == 1]))
  expect_gt(attr(rising, "truth")[["ATT"]], attr(rising, "truth")[["ATC"]])
  expect_true(all(abs(attr(simulated(300, kind = "binary"), "truth")) < 0.5))
  # a count's expected difference, from independent draws of the same world: mean ratio is exp(effect)
  counts <- simulated(20000, kind = "count", effect = 0.7, confounders = c(numeric = 1), overlap = "good")
  fit <- glm(outcome ~ treated + x1, poisson, counts)
  expect_equal(coef(fit)[["treated"]], 0.7, tolerance = 0.05)
})

test_that("overlap gets poorer as told, and adjusted estimates find the truth", {
  auc <- vapply(c("good", "fair", "poor"), function(overlap) {
    study <- frame_study(simulated(4000, overlap = overlap), "treated", "outcome", c("x1", "x2", "b1", "f1"))
    glance(assess_overlap(score_units(study)))$auc
  }, 0)
  expect_true(all(diff(auc) > 0.05))
  units <- simulated(6000, heterogeneity = 0.5, seed = 2)
  study <- frame_study(units, "treated", "outcome", c("x1", "x2", "b1", "f1"), estimand = "ATE")
  row <- tidy(measure_effect(score_units(study), estimator = "augmented"))[3, ]
  expect_lt(abs(row$estimate - attr(units, "truth")[["ATE"]]), 4 * row$std.error)
  raw <- tidy(measure_effect(study))[3, ]
  expect_gt(abs(raw$estimate - attr(units, "truth")[["ATE"]]), 10 * raw$std.error)
})

test_that("simulations that make no sense are refused", {
  expect_error(simulate_units(5), "from 20 to", class = "twin_error_input")
  expect_error(simulate_units(confounders = c(binary = 2)), "at least one numeric", class = "twin_error_input")
  expect_error(simulate_units(confounders = 3), "counts named", class = "twin_error_input")
  expect_error(simulate_units(overlap = "por"), "Did you mean \"poor\"", class = "twin_error_input")
})
