test_that("strata are quantiles of whom the effect is for, with marginal mean weights", {
  data <- many_crews()
  z <- data$joined
  check <- function(estimand, on) {
    design <- stratify_units(score_units(study_of_many(estimand = estimand)), strata = 4)
    e <- design$score$fitted
    breaks <- quantile(e[on], 1:3 / 4, type = 1)
    stratum <- findInterval(e, breaks, left.open = TRUE) + 1
    expect_identical(design$set, as.integer(stratum))
    cells <- table(stratum, z)
    hand <- switch(estimand,
      ATT = ifelse(z == 1, 1, cells[stratum, "1"] / cells[stratum, "0"]),
      ATC = ifelse(z == 0, 1, cells[stratum, "0"] / cells[stratum, "1"]),
      ATE = rowSums(cells)[stratum] * mean(z == z) * ifelse(z == 1, mean(z), 1 - mean(z)) /
        cells[cbind(stratum, z + 1)]
    )
    expect_equal(weights(design), unname(c(hand / mean(hand))), label = estimand)
  }
  check("ATT", z == 1)
  check("ATC", z == 0)
  check("ATE", rep(TRUE, 300))
})

test_that("the weighted difference is the stratified estimate, with the difference of each stratum beside it", {
  data <- many_crews()
  design <- stratify_units(score_units(study_of_many(estimand = "ATE")), strata = 3)
  effect <- measure_effect(design)
  by_stratum <- vapply(1:3, function(k) {
    own <- design$set == k
    mean(data$income[own & data$joined == 1]) - mean(data$income[own & data$joined == 0])
  }, 0)
  expect_equal(unname(coef(effect)[paste("stratum", 1:3)]), by_stratum)
  expect_equal(difference_of(effect), sum(by_stratum * table(design$set) / 300))
  augmented <- measure_effect(design, estimator = "augmented")
  expect_false(any(grepl("stratum", names(coef(augmented)))))  # within a stratum nothing is modelled
  own <- design$set == 2
  welch <- vapply(1:0, function(arm) {
    y <- data$income[own & data$joined == arm]
    var(y) * (length(y) - 1) / length(y)^2
  }, 0)
  expect_equal(tidy(effect)$std.error[tidy(effect)$term == "stratum 2"], sqrt(sum(welch) * 300 / 299))
})

test_that("sampling weights count in the cells and the mean weight is 1", {
  data <- many_crews()
  design <- stratify_units(score_units(study_of_many(weight = "s")), breaks_on = c(0.4, 0.6))
  expect_equal(mean(weights(design, full = TRUE)), 1)
  low <- design$set == 1
  ratio <- unique(round(weights(design)[low & data$joined == 0] / weights(design)[low & data$joined == 1][1], 10))
  expect_equal(ratio, sum(data$s[low & data$joined == 1]) / sum(data$s[low & data$joined == 0]), tolerance = 1e-9)
})

test_that("balance and the table of strata can be read stratum by stratum", {
  design <- stratify_units(score_units(study_of_many()), strata = 3)
  balance <- tidy(assess_balance(design, by = ".stratum"))
  expect_setequal(unique(balance$group), c(NA, "1", "2", "3"))
  data <- many_crews()
  own <- design$set == 3
  row <- balance[balance$group %in% "3" & balance$covariate == "boat" & balance$sample == "after", ]
  expect_equal(row$difference, mean(data$boat[own & data$joined == 1]) - mean(data$boat[own & data$joined == 0]))
  table <- tidy(design, part = "strata")
  expect_identical(table$treated + table$control, as.integer(table(design$set)))
  expect_error(assess_balance(weigh_units(score_units(study_of_many())), by = ".stratum"), "needs one design with strata",
               class = "twin_error_input")
  text <- format(design)
  expect_lte(max(nchar(text)), 80)
  expect_match(text, "0.000 to", all = FALSE)
})

test_that("a stratum without one arm is named; ties give fewer strata with a warning", {
  scored <- score_units(study_of_many())
  error <- expect_error(stratify_units(scored, breaks_on = c(0.001, 0.5)), "Stratum 1, scores from 0.000 to 0.001",
                        class = "twin_error_input")
  expect_identical(unname(error$stratum), 1L)
  data <- many_crews()
  data$chance <- ifelse(data$boat > 0, 0.6, 0.4)
  tied <- score_units(study_of_many(data, estimand = "ATE"), score = "chance")
  warning <- expect_warning(design <- stratify_units(tied), "There are 2 strata", class = "twin_warning_strata")
  expect_identical(max(design$set), 2L)
})

test_that("bad strata are refused", {
  scored <- score_units(study_of_many())
  expect_error(stratify_units(scored, strata = 1), "from 2 to 1,000", class = "twin_error_input")
  expect_error(stratify_units(scored, breaks_on = c(0.5, 0.3)), "rising numbers", class = "twin_error_input")
  expect_error(stratify_units(scored, strata = 5, breaks_on = c(0.3, 0.5)), "has no use", class = "twin_error_input")
  expect_error(stratify_units(scored, breaks_on = "everybody"), "must be one of", class = "twin_error_input")
  expect_error(stratify_units(score_units(study_of_many(estimand = "ATO"))), "can't answer the ATO",
               class = "twin_error_unsupported")
  expect_error(weigh_units(stratify_units(scored)), "already has strata", class = "twin_error_unsupported")
})
