gaps_by_sort <- function(x, z, v) {
  places <- order(x)
  step <- ifelse(z == 1, v / sum(v[z == 1]), -v / sum(v[z == 0]))[places]
  sorted <- x[places]
  gap <- abs(cumsum(step))[!duplicated(sorted, fromLast = TRUE)]
  counted <- tapply(v[places] > 0, match(sorted, unique(sorted)), any)
  c(max(gap[counted]), mean(gap[counted]))
}

expect_same_gaps <- function(x) {
  withr::local_seed(length(x))
  z <- rep_len(c(1L, 0L, 0L), length(x))
  weights <- cbind(1, rexp(length(x)) * (runif(length(x)) < 0.7))
  weights[1:6, 2] <- 1  # every arm keeps some weight
  expect_equal(unname(glue_distribution_gaps(x, z, weights)), cbind(gaps_by_sort(x, z, weights[, 1]),
                                                                  gaps_by_sort(x, z, weights[, 2])))
}

test_that("distribution gaps agree with a full sort whatever the shape: tails, ties, spikes, extremes, few units", {
  withr::local_seed(1)
  expect_same_gaps(rnorm(30000))
  expect_same_gaps(rcauchy(30000))
  expect_same_gaps(exp(5 * rnorm(20000)))
  expect_same_gaps(round(rnorm(20000)))
  expect_same_gaps(c(rep(0, 10000), rnorm(10000)))
  expect_same_gaps(rep(c(1e300, -1e300, 3), c(100, 200, 300)))
  expect_same_gaps(c(rnorm(9999), 1e12))
  expect_same_gaps(c(2, 1, 3, 1, 5, 0, 2))
})

test_that("three samples at once give what each gives alone", {
  data <- many_crews()
  weights <- cbind(1, data$s, data$s^2)
  together <- glue_distribution_gaps(data$boat, data$joined, weights)
  alone <- vapply(1:3, function(k) glue_distribution_gaps(data$boat, data$joined, weights[, k, drop = FALSE])[, 1],
                  numeric(2))
  expect_equal(unname(together), unname(alone))
})

test_that("two units in each arm are enough for a raw difference", {
  four <- data.frame(joined = c(TRUE, TRUE, FALSE, FALSE), boat = c(1, 4, 2, 5), income = c(8, 6, 5, 1))
  effect <- measure_effect(frame_study(four, "joined", "income", "boat"))
  expect_equal(difference_of(effect), 4)
  by_hand <- sqrt((sum((c(8, 6) - 7)^2) + sum((c(5, 1) - 3)^2)) / 2^2 * 4 / 3)
  expect_equal(tidy(effect)$std.error[3], by_hand)
})

# many_crews() with a port of treated crews only, and past income that only controls lack.
one_sided_crews <- function() {
  data <- many_crews()
  data$port[which(data$joined == 1)[1:3]] <- "island"
  data$past[which(data$joined == 0)[c(4, 9)]] <- NA
  data
}

test_that("what only one arm has is left out of the score, said, and not counted in the balance table", {
  data <- one_sided_crews()
  study <- study_of_many(data)
  warning <- expect_warning(scored <- score_units(study), "2 levels that only one arm has: past: \\(missing\\)",
                            class = "twin_warning_one_arm")
  expect_identical(warning$levels, c("(missing)", "island"))
  # such units count as being at the commonest other level, with the mean for the missing number
  commonest <- names(which.max(table(data$port)))
  filled <- transform(data, port = ifelse(port == "island", commonest, port),
                      past = ifelse(is.na(past), mean(past, na.rm = TRUE), past))
  expect_equal(scored$score$fitted, score_units(study_of_many(filled))$score$fitted, tolerance = 1e-8)
  expect_equal(tidy(suppressWarnings(measure_effect(weigh_units(scored))))[2:4, c("estimate", "std.error")],
               tidy(measure_effect(weigh_units(score_units(study_of_many(filled)))))[2:4, c("estimate", "std.error")],
               tolerance = 1e-6)
  balance <- assess_balance(weigh_units(scored))
  rows <- tidy(balance)
  expect_setequal(rows$level[rows$one_arm], c("island", "(missing)"))
  expect_true(all(is.na(rows$pass[rows$one_arm])))
  expect_identical(glance(balance)$rows, sum(!rows$one_arm) %/% 2L)
  text <- function(x) gsub("\\s+", " ", paste(format(x), collapse = " "))
  expect_match(text(balance), "Not counted, since only one arm has them (past: (missing), port: island).", fixed = TRUE)
  expect_no_match(text(balance), "no reference sd")
  expect_match(text(scored), "has: past: (missing) (no treated, 2 control), port: island (3 treated, no control)",
               fixed = TRUE)
})

test_that("trimmed-off levels pass, and factors that separate the arms as a whole still stop", {
  data <- one_sided_crews()
  gone <- suppressWarnings(trim_units(score_units(study_of_many(data, covariates = c("boat", "port"))), "range",
                                      bounds = c(0.3, 0.7)))
  island <- subset(tidy(assess_balance(gone)), level == "island" & sample == "after")
  expect_identical(is.na(island$pass), island$mean_treated > 0)
  two <- transform(many_crews(), port = ifelse(joined == 1 & boat > 0, "yes", "no"))
  error <- expect_error(score_units(study_of_many(two)), class = "twin_error_separation")
  expect_true("port: yes" %in% error$covariates)
  rows <- tidy(assess_balance(study_of_many(two)))
  expect_false(any(rows$one_arm))
})

test_that("cluster codes that repeat across strata are different clusters", {
  data <- many_crews()
  data$inner <- rep(1:15, 20)
  data$whole <- paste(data$coast, data$inner)
  nested <- measure_effect(study_of_many(data, cluster = "inner", stratum = "coast"))
  named <- measure_effect(study_of_many(data, cluster = "whole", stratum = "coast"))
  expect_equal(vcov(nested), vcov(named))
  expect_identical(nested$df, named$df)
})

test_that("outcome models may have a model and a family of their own", {
  data <- many_crews()
  design <- weigh_units(score_units(study_of_many(data, outcome = "direct")))
  linear <- measure_effect(design, estimator = "augmented", family = "gaussian", model = ~ boat)
  w <- weights(design)
  fit <- lm(direct ~ boat, data, subset = data$joined == 0)
  residual <- data$direct - predict(fit, data)
  inside <- data$joined == 0
  by_hand <- mean(residual[!inside]) - weighted.mean(residual[inside], w[inside])
  expect_equal(difference_of(linear), by_hand, tolerance = 1e-8)
  # the same estimate from the plain form: arms' means with the model's imputation
  expect_false(isTRUE(all.equal(difference_of(linear), difference_of(measure_effect(design, estimator = "augmented")))))
})

test_that("partly labelled columns are numbers, times are days, matrices are refused", {
  data <- many_crews()
  data$size <- structure(rep(c(1, 2, 2.5), 100), labels = c(small = 1), class = c("haven_labelled", "double"))
  data$seen <- as.POSIXct("2026-01-01", tz = "UTC") + 86400 * seq_len(300)
  study <- study_of_many(data, covariates = c("size", "seen"))
  expect_identical(study$columns$size$kind, "numeric")
  expect_equal(diff(study$columns$seen$values[1:2]), 1)
  data$pair <- matrix(1:600, 300)
  expect_error(study_of_many(data, covariates = "pair"), "can't be used", class = "twin_error_input")
})

test_that("blank text is missing, and the tables say so", {
  data <- many_crews()
  data$port[1:3] <- c("", " ", NA)
  study <- study_of_many(data)
  expect_identical(study$columns$port$missing, 3L)
  expect_match(paste(format(study), collapse = " "), "port 3 \\(a level of their own\\)")
})

test_that("units of sampling weight 0 change nothing and do not count", {
  data <- many_crews()
  data$s[1:20] <- 0
  without <- measure_effect(study_of_many(data[-(1:20), ], weight = "s"))
  with <- measure_effect(study_of_many(data, weight = "s"))
  expect_equal(coef(with), coef(without))
  expect_equal(vcov(with), vcov(without))
  expect_identical(nobs(with), 280L)
  lost <- measure_effect(pair_units(score_units(study_of_many(data, weight = "s"))))
  expect_false(any(1:20 %in% lost$study$rows[lost$rows[lost$used]]))
  expect_equal(range(lost$influence[match(1:20, lost$rows), ]), c(0, 0))
})

test_that("the sheet of an Excel file may be chosen", {
  skip_if_not_installed("openxlsx")
  skip_if_not_installed("readxl")
  file <- withr::local_tempfile(fileext = ".xlsx")
  openxlsx::write.xlsx(list(first = data.frame(a = 1, b = 2), crews = data.frame(a = 3, b = 4)), file)
  expect_equal(read_units(file)$a, 1)
  expect_equal(read_units(file, sheet = "crews")$a, 3)
  expect_error(read_units(file, sheet = "nets"), "nets", class = "twin_error_file")
})

test_that("a logbook of another make in the results is not overwritten", {
  folder <- withr::local_tempdir()
  dir.create(file.path(folder, "results"))
  writeLines("my,own,notes", file.path(folder, "results", "logbook.csv"))
  expect_error(previous_entries(file.path(folder, "results")), "not a logbook of this version",
               class = "twin_error_input")
})

test_that("prints of probes and comparisons fit 80 columns and read well", {
  study <- study_of_many(outcome = c("income", "direct"))
  scored <- score_units(study)
  effects <- list(raw = measure_effect(study), pairs = measure_effect(pair_units(scored)))
  lines <- c(format(compare_effects(!!!effects, truth = 2)), format(probe_pairs(effects$pairs, c(1, 2))),
             format(probe_ratio(measure_effect(weigh_units(scored), "direct"))))
  expect_lte(max(nchar(lines)), 80)
  expect_snapshot(writeLines(lines))
})
