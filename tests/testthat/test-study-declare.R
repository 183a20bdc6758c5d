# What the user says of columns, and what is said of text that is nearly all numbers.

untidy_crews <- function() {
  data <- many_crews(200, seed = 9)
  data$age <- as.character(round(40 + 10 * data$past))
  data$age[c(3, 50, 120)] <- "unbek."
  data$fuel <- rep_len(1:3, 200)
  data$born <- format(as.Date("1970-01-01") + rep_len(1:60, 200) * 30, "%d.%m.%Y")
  data
}

test_that("text that is nearly all numbers or dates is told with its stray entries and rows", {
  data <- untidy_crews()
  frame <- function(covariates, ...) frame_study(data, "joined", "income", covariates, ...)
  warning <- expect_warning(frame(c("age", "boat")), "\"age\" holds numbers as text, but for \"unbek.\"",
                            class = "twin_warning_stray_text")
  expect_identical(warning$rows, c(3L, 50L, 120L))
  expect_match(conditionMessage(warning), "in 3 rows; first: 3, 50, and 120")
  expect_warning(frame("born"), "\"born\" holds dates as text", class = "twin_warning_stray_text")
  expect_no_warning(frame("port"))
  comma <- data
  comma$age <- sub("unbek.", "72,5", comma$age, fixed = TRUE)
  expect_warning(frame_study(comma, "joined", "income", "age"), "numbers as text: it is used", class = "twin_warning_stray_text")
})

test_that("unknown entries are missing, and the rest of the column is what it looks like", {
  data <- untidy_crews()
  study <- frame_study(data, "joined", "income", c("age", "boat"), unknown = "unbek.")
  plain <- data
  plain$age <- suppressWarnings(as.numeric(data$age))
  expect_identical(study$columns$age$kind, "numeric")
  expect_equal(study$columns$age$values, frame_study(plain, "joined", "income", c("age", "boat"))$columns$age$values)
  data$age <- sub(".", ",", paste0(round(40 + 10 * data$past), ".5"), fixed = TRUE)
  data$age[4] <- "99"
  expect_identical(frame_study(data, "joined", "income", "age", unknown = c("n/a", "99"))$columns$age$missing, 1L)
  data$income[1:2] <- 999
  expect_identical(sum(is.na(open_outcome(frame_study(data, "joined", "income", "boat", unknown = 999), "income", "test"))), 2L)
  skip_if_not_installed("haven")
  data$hive <- haven::labelled(rep_len(c(1, 2, 9), 200), c(wood = 1, straw = 2, unknown = 9))
  hive <- frame_study(data, "joined", "income", "hive", unknown = "unknown")$columns$hive
  expect_identical(hive$levels, c("straw", "wood", "(missing)")[c(2, 1, 3)])
})

test_that("codes of categories become levels with their labels, in R and in plans", {
  data <- untidy_crews()
  labels <- c("1" = "wood", "2" = "coal", "3" = "gas")
  study <- frame_study(data, "joined", "income", c("fuel", "boat"), categories = list(fuel = labels))
  expect_identical(study$columns$fuel$levels, unname(labels))
  expect_identical(frame_study(data, "joined", "income", "fuel", categories = "fuel")$columns$fuel$levels, c("1", "2", "3"))
  by_hand <- transform(data, fuel = factor(labels[fuel], labels))
  expect_equal(coef(score_units(study)$score), coef(score_units(frame_study(by_hand, "joined", "income", c("fuel", "boat")))$score))
  expect_error(frame_study(data, "joined", "income", "fuel", categories = list(fuel = labels[1:2])), "lack \"3\"",
               class = "twin_error_input")
  expect_error(frame_study(data, "joined", "income", "fuel", categories = list(fuel = c(a = "x", b = "x"))), "different labels",
               class = "twin_error_input")
  expect_error(frame_study(data, "joined", "income", "fuel", categories = "nofuel"), class = "twin_error_input")
  folder <- plan_folder(function(lines) sub("  id: id", "  id: id\n  unknown: [unbek., 99]\n  categories: {fuel: {1: wood, 2: coal, 3: gas}}",
                                            sub("boat \\+ past", "boat + fuel + age", lines)))
  data$id <- seq_len(200)
  data$chance <- plogis(data$boat)
  data.table::fwrite(data, file.path(folder, "data.csv"))
  columns <- plan_study(read_plan(file.path(folder, "plan.yml")))$columns
  expect_identical(columns$fuel$levels, unname(labels))
  expect_identical(columns$age$kind, "numeric")
})

test_that("a plan says how its data are read, and a draft writes that down with what it was unsure of", {
  folder <- withr::local_tempdir()
  data <- untidy_crews()
  names(data)[names(data) == "port"] <- "Gr\u00f6\u00dfe"
  data$joined <- ifelse(data$joined == 1, "ja", "nein")
  file <- file.path(folder, "crews.csv")
  text <- utils::capture.output(utils::write.csv2(data[c("joined", "age", "Gr\u00f6\u00dfe", "boat", "born", "income")], row.names = FALSE))
  writeLines(iconv(text, "UTF-8", "latin1"), file, useBytes = TRUE)
  expect_identical(twin("draft", file)$status, 2L)
  expect_identical(twin("draft", file, "--encoding", "latin1")$status, 0L)
  lines <- readLines(file.path(folder, "plan.yml"), encoding = "UTF-8")
  expect_true("  encoding: latin1" %in% lines)
  expect_match(grep("treated:", lines, value = TRUE), "treated: ja")
  expect_match(grep("unknown:", lines, value = TRUE), "[unbek.]", fixed = TRUE)
  expect_no_match(grep("covariates:", lines, value = TRUE), "born")
  study <- plan_study(read_plan(file.path(folder, "plan.yml")))
  expect_identical(study$columns$age$kind, "numeric")
  expect_setequal(study$columns[["Gr\u00f6\u00dfe"]]$levels, unique(data[["Gr\u00f6\u00dfe"]]))
})

test_that("files as they arrive go from file to effect, and intervals hold the truth", {
  folder <- file.path(source_root(), "..", "shared", "data")
  skip_if(!file.exists(file.path(folder, "orchards.csv")), "the shared data are not here")
  orchards <- read_units(file.path(folder, "orchards.csv"), encoding = "latin1")
  names <- names(orchards)
  holds <- function(effect, truth, term = "difference") {
    row <- tidy(effect)
    row <- row[row$term == term, ]
    expect_true(row$conf.low <= truth && truth <= row$conf.high, label = paste(effect$outcome, format(row$estimate)))
  }
  study <- suppressWarnings(frame_study(orchards, "Hagelnetz", names[9], names[3:8], treated = "ja", estimand = "ATE",
                                        unknown = "unbek."))
  suppressWarnings(holds(measure_effect(weigh_units(score_units(study)), estimator = "augmented"), 3))
  skip_if_not_installed("readxl")
  kilns <- read_units(file.path(folder, "kilns.xlsx"))
  study <- frame_study(kilns, "grant", c("log sales", "closed_after", "closed", "staff"), c("size", "fuel", "master", "region"),
                       treated = "got it", estimand = "ATE", weight = "wt", cluster = "town", logged = "log sales",
                       categories = c("fuel", "region"))
  design <- weigh_units(score_units(study))
  holds(measure_effect(design, "log sales", estimator = "augmented"), 10, "percent")
  holds(measure_effect(design, "staff", estimator = "augmented", family = "poisson"), 1.22, "ratio")
  holds(measure_hazard(design, "closed_after", "closed"), 0.74, "hazard_ratio")
  ferries <- frame_panel(read_units(file.path(folder, "ferries.csv")), "tollfree", "passengers", "quarter", unit = "route",
                         treated = "yes", weight = "islanders") |> suppressWarnings()
  now <- tidy(suppressWarnings(summarise_did(measure_did(ferries, unseen = "earlier"), "event")))
  now <- now[now$term == "event 0", ]
  expect_true(now$conf.low <= 1.5 && 1.5 <= now$conf.high)
  skip_if_not_installed("haven")
  for (kind in c("dta", "sav")) {
    bees <- frame_panel(read_units(file.path(folder, paste0("bees.", kind))), "method", "honey", "month", group = "apiary",
                        treated = "new")
    holds(measure_did(bees, estimator = "two_period"), 0.7)
  }
})
