after_rows <- function(design, ...) {
  balance <- tidy(assess_balance(design, ...))
  balance[balance$sample == "after", ]
}

test_that("the matching-like tilt weighs by min(e, 1 - e)", {
  design <- weigh_units(score_units(study_of_many(estimand = "ATM")))
  e <- design$score$fitted
  z <- many_crews()$joined
  expect_equal(weights(design), pmin(e, 1 - e) / ifelse(z == 1, e, 1 - e))
  expect_true(max(weights(design)) <= 1)
})

test_that("entropy weights balance means, powers and products to 1e-8, in both arms for the ATE", {
  balanced <- function(estimand, ...) {
    design <- weigh_units(study_of_many(estimand = estimand, weight = "s"), "entropy", ...)
    max(abs(after_rows(design, extra = c("squares", "cubes", "interactions"))$smd))
  }
  plain <- weigh_units(study_of_many(weight = "s"), "entropy")
  expect_lt(max(abs(after_rows(plain)$smd)), 1e-8)
  squares <- after_rows(plain, extra = "squares")
  expect_gt(max(abs(squares$smd)), 1e-4)  # not asked for, not met
  third <- weigh_units(study_of_many(weight = "s"), "entropy", moments = 3)
  expect_lt(max(abs(after_rows(third, extra = c("squares", "cubes"))$smd)), 1e-8)
  products <- weigh_units(study_of_many(estimand = "ATE"), "entropy", interactions = "all")
  numbers <- after_rows(products, extra = "interactions")
  expect_lt(max(abs(numbers$smd)), 1e-8)
  ate <- weigh_units(study_of_many(estimand = "ATE"), "entropy")
  data <- many_crews()
  treated <- data$joined == 1
  expect_equal(weighted.mean(data$boat[treated], weights(ate)[treated]), mean(data$boat), tolerance = 1e-9)
})

test_that("overlap weights and balancing scores balance every mean to 1e-8", {
  overlap <- weigh_units(score_units(study_of_many(estimand = "ATO", weight = "s")))
  expect_lt(max(abs(after_rows(overlap)$smd)), 1e-8)
  for (estimand in c("ATE", "ATT", "ATC", "ATO")) {
    design <- weigh_units(study_of_many(estimand = estimand, weight = "s"), "balancing_score")
    expect_lt(max(abs(after_rows(design)$smd)), 1e-8, label = estimand)
    e <- design$score$fitted
    z <- many_crews()$joined
    h <- switch(estimand, ATE = 1, ATT = e, ATC = 1 - e, ATO = e * (1 - e))
    expect_equal(weights(design), h / ifelse(z == 1, e, 1 - e), tolerance = 1e-8, label = estimand)
  }
})

test_that("for the ATT the balancing score's weights are the entropy weights", {
  study <- study_of_many(weight = "s")
  expect_equal(weights(weigh_units(study, "balancing_score")), weights(weigh_units(study, "entropy")), tolerance = 1e-7)
})

test_that("stable weights keep every |SMD| within the tolerance and vary less than entropy weights", {
  for (estimand in c("ATT", "ATE")) {
    study <- study_of_many(estimand = estimand, weight = "s")
    design <- weigh_units(study, "stable", tolerance = 0.03)
    expect_lte(max(abs(after_rows(design)$smd)), 0.03 + 1e-8, label = estimand)
    expect_gt(max(abs(after_rows(design)$smd)), 0.029, label = estimand)  # it binds somewhere
    entropy <- weigh_units(study, "entropy")
    ess <- function(design) glance(assess_weights(design))$ess_control
    expect_gt(ess(design), ess(entropy))
  }
})

test_that("stabilising scales an arm by its share and moves no estimate", {
  scored <- score_units(study_of_many(estimand = "ATE", weight = "s"))
  data <- many_crews()
  share <- weighted.mean(data$joined, data$s)
  plain <- weigh_units(scored)
  stable <- weigh_units(scored, stabilise = TRUE)
  expect_equal(weights(stable), weights(plain) * ifelse(data$joined == 1, share, 1 - share))
  expect_equal(tidy(measure_effect(stable)), tidy(measure_effect(plain)))
})

test_that("weights are truncated within each arm, at a bound or at quantiles", {
  scored <- score_units(study_of_many(estimand = "ATE"))
  plain <- weights(weigh_units(scored))
  expect_equal(weights(weigh_units(scored, truncate = c(bound = 2.5))), pmin(plain, 2.5))
  z <- many_crews()$joined
  cut <- weights(weigh_units(scored, truncate = list(quantile = c(0.1, 0.9))))
  for (arm in 0:1) {
    ends <- quantile(plain[z == arm], c(0.1, 0.9), type = 1)
    expect_equal(cut[z == arm], pmin(pmax(plain[z == arm], ends[1]), ends[2]), label = paste("arm", arm))
  }
  upper <- weights(weigh_units(scored, truncate = c(quantile = 0.9)))
  expect_equal(min(upper), min(plain))
  expect_match(weigh_units(scored, truncate = c(bound = 2)) |> measure_effect() |> format() |> paste(collapse = " "),
               "taking the truncation as +given")
})

test_that("a column of one's own weights is used as it is, times the sampling weight", {
  data <- many_crews()
  data$mine <- ifelse(data$joined == 1, 1, exp(data$boat))
  design <- weigh_units(study_of_many(data, weight = "s"), weight = "mine")
  expect_equal(weights(design, full = TRUE), data$mine * data$s)
  v <- data$mine * data$s
  by_hand <- weighted.mean(data$income[data$joined == 1], v[data$joined == 1]) -
    weighted.mean(data$income[data$joined == 0], v[data$joined == 0])
  expect_equal(difference_of(measure_effect(design)), by_hand)
  expect_match(paste(format(measure_effect(design)), collapse = " "), "taking the weights as +given")
  data$mine[3] <- NA
  expect_error(weigh_units(study_of_many(data), weight = "mine"), "first rows: 3", class = "twin_error_input")
  data$mine <- ifelse(data$joined == 1, 1, 0)
  expect_error(weigh_units(study_of_many(data), weight = "mine"), "are 0 in the control arm", class = "twin_error_input")
  expect_error(weigh_units(study_of_many(), "own"), "needs `weight`", class = "twin_error_input")
  expect_error(weigh_units(study_of_many(), "entropy", weight = "s"), "has no use", class = "twin_error_input")
})

test_that("moments that can't be met are named, alone or together", {
  data <- many_crews()
  data$rare <- ifelse(data$joined == 1 & seq_len(300) %% 9 == 0, "island", "coast")
  study <- study_of_many(data, covariates = c("boat", "rare"))
  error <- expect_error(weigh_units(study, "entropy"), "Out of their range: \"rare: island\"", class = "twin_error_infeasible")
  expect_identical(error$moments, "rare: island")
  expect_error(weigh_units(study, "balancing_score"), class = "twin_error_infeasible")
  expect_error(weigh_units(study, "stable", tolerance = 0.01), class = "twin_error_infeasible")
  far <- data[data$joined == 1 | abs(data$boat - data$past) < 0.3, ]  # controls near the diagonal
  far <- far[far$joined == 0 | far$boat - far$past > 0.5, ]
  error <- expect_error(weigh_units(study_of_many(far, covariates = c("boat", "past")), "entropy"), "be met together",
                        class = "twin_error_infeasible")
  expect_setequal(error$moments, c("boat", "past"))
})

test_that("a wider tolerance makes stable weights possible again", {
  data <- many_crews()
  data$rare <- ifelse(data$joined == 1 & seq_len(300) %% 9 == 0, "island", "coast")
  study <- study_of_many(data, covariates = c("boat", "rare"))
  expect_s3_class(weigh_units(study, "stable", tolerance = 0.5), "twin_design")
})

test_that("infinite weights name the rows", {
  data <- many_crews()
  data$chance <- 0.4
  data$chance[7] <- 1 - 1e-17
  data$chance[8] <- 1e-320
  expect_error(score_units(study_of_many(data), score = "chance"), "first rows: 7", class = "twin_error_input")
  data$chance[7] <- 0.5
  data$joined[8] <- 1
  error <- expect_error(weigh_units(score_units(study_of_many(data, estimand = "ATE"), score = "chance")),
                        "weigh infinitely much", class = "twin_error_input")
  expect_identical(error$rows, 8L)
})

test_that("options of another method, and estimands a method can't answer, are refused", {
  study <- study_of_many()
  expect_error(weigh_units(study, "entropy", stabilise = TRUE), "has no use", class = "twin_error_input")
  expect_error(weigh_units(score_units(study), moments = 2), "has no use", class = "twin_error_input")
  expect_error(weigh_units(study, "entropy", moments = 4), "must be 1, 2 or 3", class = "twin_error_input")
  expect_error(weigh_units(study, "entropy", interactions = ~ boat), "must hold products", class = "twin_error_input")
  expect_error(weigh_units(study, "stable", tolerance = -1), "at least 0", class = "twin_error_input")
  expect_error(weigh_units(score_units(study), truncate = 3), "upper bound or quantiles", class = "twin_error_input")
  expect_error(weigh_units(study), "needs a propensity score", class = "twin_error_input")
  expect_error(weigh_units(study_of_many(estimand = "ATO"), "entropy"), "can't answer the ATO",
               class = "twin_error_unsupported")
})

test_that("missing values, factors with a level of their own and formulas go through every weighting", {
  data <- many_crews()
  data$past[1:20] <- NA
  data$port[5:30] <- NA
  for (method in c("entropy", "stable", "balancing_score")) {
    study <- study_of_many(data, covariates = ~ boat + I(boat^2) + past + port)
    design <- weigh_units(study, method)
    limit <- if (method == "stable") 0.02 + 1e-8 else 1e-7
    expect_lte(max(abs(after_rows(design)$smd)), limit, label = method)
  }
})

test_that("weights are assessed by arm: effective size, design effect, top share", {
  data <- many_crews()
  design <- weigh_units(score_units(study_of_many(estimand = "ATE", weight = "s")))
  table <- tidy(assess_weights(design))
  expect_identical(paste(table$arm, table$sample), c("treated before", "control before", "treated after", "control after"))
  v <- sort((weights(design) * data$s)[data$joined == 0], decreasing = TRUE)
  row <- table[4, ]
  expect_equal(row$ess, sum(v)^2 / sum(v^2))
  expect_equal(row$design_effect, length(v) / row$ess)
  expect_equal(row$top_share, sum(v[1:ceiling(length(v) / 100)]) / sum(v))
  expect_equal(row$largest_share, v[1] / sum(v))
  expect_equal(row$greatest, v[1] / mean(v))
  expect_identical(glance(assess_weights(design))$ess_control, row$ess)
  heaviest <- assess_weights(design)$heaviest
  expect_equal(heaviest$weight[6], v[1])
  expect_lte(max(nchar(format(assess_weights(design)))), 80)
  bars <- ggplot2::layer_data(plot(assess_weights(design)), 1)
  expect_identical(sum(bars$count), 300)
  held <- ggplot2::layer_data(plot(assess_weights(design), "concentration"), 2)
  expect_equal(range(held$y), c(0, 1))
})

test_that("a level that only controls have is out of reach of positive weights, and stable weights drop it", {
  data <- many_crews()
  data$only <- as.double(data$joined == 0 & seq_len(300) %% 5 == 0)
  study <- study_of_many(data, covariates = c("boat", "only"))
  error <- expect_error(weigh_units(study, "entropy"), class = "twin_error_infeasible")
  expect_identical(error$moments, "only")
  design <- weigh_units(study, "stable", tolerance = 0)
  expect_true(all(weights(design)[data$only == 1] < 1e-6))
})

test_that("studies of factors only, of odd names and of formulas can be weighed", {
  data <- many_crews()
  data$`my boat` <- data$boat
  expect_lt(max(abs(after_rows(weigh_units(study_of_many(data, covariates = "port"), "entropy", moments = 2))$smd)), 1e-8)
  odd <- weigh_units(study_of_many(data, covariates = c("my boat", "port")), "entropy", interactions = "all")
  expect_lt(max(abs(after_rows(odd)$smd)), 1e-8)
  # the formula has only the logarithm, yet balance is judged on the column: both are kept within the tolerance
  formula <- weigh_units(study_of_many(data, covariates = ~ log(boat + 10)), "stable", tolerance = 0.01)
  expect_lte(max(abs(after_rows(formula, custom = list(log = ~ log(boat + 10)))$smd)), 0.01 + 1e-8)
})
