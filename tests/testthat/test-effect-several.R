# Several outcomes, groups and arms in one call, and effects side by side.

cor_of_sums <- function(a, b, code) {
  a <- tapply(a, code, sum)
  b <- tapply(b, code, sum)
  sum(a * b) / sqrt(sum(a^2) * sum(b^2))
}

three_outcomes <- function(...) {
  measure_effect(weigh_units(score_units(study_of_many(more_outcomes(), outcome = c("income", "direct", "days")))),
                 c("income", "direct", "days"), ...)
}

test_that("several outcomes are the single effects, with the covariance of their influence contributions", {
  effects <- three_outcomes()
  table <- tidy(effects)
  expect_identical(unique(table$outcome), c("income", "direct", "days"))
  one <- measure_effect(weigh_units(score_units(study_of_many(more_outcomes(), outcome = "direct"))))
  expect_equal(table[table$outcome == "direct", ], tidy(one), ignore_attr = "row.names")
  joint <- vcov(effects)
  a <- effects[["income"]]$influence[, "difference"]
  b <- effects[["days"]]$influence[, "difference"]
  expect_equal(joint["income: difference", "days: difference"], sum(a * b) / 300^2 * 300 / 299)
  expect_equal(diag(joint), table$std.error^2, ignore_attr = TRUE)
  expect_identical(names(coef(effects)), rownames(joint))
  expect_identical(nobs(effects), 300L)
  expect_identical(rownames(confint(effects, "days: difference", level = 0.9)), "days: difference")
  expect_identical(glance(effects)$outcome, c("income", "direct", "days"))
  expect_identical(nrow(augment(effects)), 900L)
  expect_error(effects[["nobody"]], class = "twin_error_input")
})

test_that("p-values are adjusted over outcomes and joint bands are those of the largest |t|", {
  plain <- tidy(three_outcomes())
  for (method in c("holm", "bh")) {
    table <- tidy(three_outcomes(adjust = method))
    rows <- table$term == "difference"
    expect_equal(table$p.adjusted[rows], p.adjust(plain$p.value[rows], c(holm = "holm", bh = "BH")[[method]]))
    expect_true(all(is.na(table$p.adjusted[table$term == "mean_treated"])))
  }
  expect_error(measure_effect(study_of_many(), bands = TRUE, adjust = "bh"), "single effect", class = "twin_error_input")
  banded <- tidy(three_outcomes(bands = TRUE))
  rows <- banded$term == "difference"
  expect_true(all(banded$band.low[rows] < banded$conf.low[rows] & banded$band.high[rows] > banded$conf.high[rows]))
  quantile_of <- function(r, df = Inf) withr::with_seed(1, core_band_quantile(r, 0.95, df))
  expect_equal(quantile_of(diag(1)), qnorm(0.975), tolerance = 0.01)
  expect_equal(quantile_of(diag(3)), qnorm((1 + 0.95^(1 / 3)) / 2), tolerance = 0.01)
  expect_equal(quantile_of(matrix(1, 2, 2)), qnorm(0.975), tolerance = 0.01)
  expect_equal(quantile_of(diag(1), 5), qt(0.975, 5), tolerance = 0.04)
})

test_that("each outcome may have its own formula and family", {
  effects <- three_outcomes(estimator = "augmented", model = list(income = ~boat, days = ~ boat + past),
                            family = c(days = "poisson"))
  design <- weigh_units(score_units(study_of_many(more_outcomes(), outcome = c("income", "direct", "days"))))
  single <- function(...) coef(measure_effect(design, ..., estimator = "augmented"))
  expect_equal(effects[[1]]$estimate, single("income", model = ~boat))
  expect_equal(effects[[2]]$estimate, single("direct"))
  expect_equal(effects[[3]]$estimate, single("days", model = ~ boat + past, family = "poisson"))
  expect_identical(effects[[3]]$family, "poisson")
})

test_that("groups: means within the group, differences between groups, a joint test", {
  data <- many_crews()
  design <- weigh_units(score_units(study_of_many(data)))
  effects <- measure_effect(design, by = "port")
  w <- weights(design)
  by_hand <- vapply(c("large", "medium", "small"), function(port) {
    arm <- function(z) weighted.mean(data$income[data$port == port & data$joined == z], w[data$port == port & data$joined == z])
    arm(1) - arm(0)
  }, 0)
  table <- tidy(effects)
  expect_equal(table$estimate[table$term == "difference"], unname(by_hand))
  expect_identical(unique(table$group), c("large", "medium", "small"))
  rows <- tidy(effects, part = "groups")
  expect_equal(rows$difference, unname(by_hand[2:3] - by_hand[1]))
  joint <- vcov(effects)
  expect_equal(rows$std.error[1]^2, joint["large: difference", "large: difference"] +
                 joint["medium: difference", "medium: difference"] - 2 * joint["large: difference", "medium: difference"])
  # the Wald test against its formula
  keep <- paste0(c("large", "medium", "small"), ": difference")
  contrast <- rbind(c(-1, 1, 0), c(-1, 0, 1))
  away <- contrast %*% by_hand
  statistic <- drop(t(away) %*% solve(contrast %*% joint[keep, keep] %*% t(contrast)) %*% away)
  expect_equal(core_equality_test(by_hand, joint[keep, keep], Inf)[["statistic"]], statistic)
  expect_match(paste(format(effects), collapse = " "), "Joint test")
  expect_error(tidy(three_outcomes(), part = "groups"), class = "twin_error_input")
  # of pairs: the seeker's group
  pairs <- pair_units(score_units(study_of_many(data)))
  small <- pairs_of(pairs)
  small <- small[data$port[small$treated] == "small", ]
  expect_equal(measure_effect(pairs, by = "port")[["small"]]$estimate[["difference"]],
               mean(data$income[small$treated] - data$income[small$control]))
})

test_that("several arms: every estimator against weights and models worked out here", {
  data <- many_crews(450, seed = 6)
  data$gear <- withr::with_seed(3, ifelse(runif(450) < plogis(data$boat), "nets",
                                          ifelse(runif(450) < 0.5, "pots", "lines")))
  arms <- frame_arms(data, "gear", "income", c("boat", "past"), reference = "pots", estimand = "ATE", weight = "s")
  design <- weigh_units(score_units(arms))
  e <- design$score$fitted
  model <- function(arm) predict(lm(income ~ boat + past, data[data$gear == arm, ], weights = s), data)
  by_hand <- function(arm) {
    k <- match(arm, design$levels)
    v <- data$s / e[, k] * (data$gear == arm)
    sum(data$s * model(arm)) / sum(data$s) + sum(v * (data$income - model(arm))) / sum(v)
  }
  effects <- measure_effect(design, estimator = "augmented")
  expect_equal(effects[["nets vs pots"]]$estimate[["difference"]], by_hand("nets") - by_hand("pots"), tolerance = 1e-6)
  expect_identical(tidy(effects)$contrast[1], "lines vs pots")
  for (estimand in c("ATT", "ATO")) {
    for (estimator in c("regression", "augmented", "targeted")) {
      gap <- influence_gap(function(data) {
        framed <- frame_arms(data, "gear", "income", c("boat", "past"), reference = "pots", estimand = estimand,
                             weight = "s")
        measure_effect(weigh_units(score_units(framed)), estimator = estimator)[["nets vs pots"]]
      }, data[1:150, ])
      expect_lt(gap, 2e-5, label = paste(estimand, estimator))
    }
  }
  raw <- measure_effect(arms)
  expect_equal(raw[["nets vs pots"]]$estimate[["mean_treated"]],
               weighted.mean(data$income[data$gear == "nets"], data$s[data$gear == "nets"]))
  expect_error(measure_effect(score_units(arms)), "weigh_units", class = "twin_error_input")
  expect_error(measure_effect(design, estimator = "crossfit", learners = "logit"), class = "twin_error_unsupported")
})

test_that("two-way clusters: the sum of both less that of their intersection", {
  data <- many_crews()
  data$season <- rep(1:25, each = 12)
  effect <- measure_effect(study_of_many(data), cluster = c("harbour", "season"))
  u <- effect$influence[, "difference"] / 300
  sums <- function(code) {
    total <- tapply(u, code, sum)
    sum(total^2) * length(total) / (length(total) - 1)
  }
  by_hand <- sums(data$harbour) + sums(data$season) - sums(paste(data$harbour, data$season))
  expect_equal(vcov(effect)["difference", "difference"], by_hand)
  expect_equal(effect$df, 24)
  expect_match(effect$inference, "two ways")
  expect_error(measure_effect(pair_units(score_units(study_of_many(data))), cluster = c("harbour", "season")),
               class = "twin_error_unsupported")
  # perfectly opposite influences within both: not positive, and said
  opposite <- cbind(c(1, -1, -1, 1))
  out <- core_vcov_two_way(opposite, c(1, 1, 2, 2), c(1, 2, 1, 2))
  expect_true(out$raised && out$vcov >= 0)
})

test_that("comparisons: raw first, agreement from the joint covariance", {
  data <- many_crews()
  study <- study_of_many(data)
  scored <- score_units(study)
  weights <- measure_effect(weigh_units(scored))
  augmented <- measure_effect(weigh_units(scored), estimator = "augmented")
  both <- compare_effects(weights = weights, raw = measure_effect(study), augmented = augmented)
  expect_identical(names(both$effects), c("raw", "weights", "augmented"))
  rows <- tidy(both, part = "agreement")
  apart <- weights$influence[, "difference"] - augmented$influence[, "difference"]
  row <- rows[rows$first == "weights" & rows$second == "augmented", ]
  expect_equal(row$std.error, sqrt(sum(apart^2) / 300^2 * 300 / 299))
  expect_equal(row$difference, difference_of(weights) - difference_of(augmented))
  expect_equal(glance(both)$statistic, row$statistic^2)
  expect_equal(glance(both)$df, 1)
  same <- compare_effects(a = weights, b = weights)
  expect_equal(tidy(same, part = "agreement")$std.error, 0)
  # pairs against weights: correlated on the pairs
  pairs <- measure_effect(pair_units(scored))
  joint <- vcov(compare_effects(weights = weights, pairs = pairs))
  sets <- ifelse(is.na(pairs$sets), -seq_len(300), pairs$sets)
  spread <- numeric(300)
  spread[pairs$rows] <- pairs$influence[, "difference"] / length(pairs$rows)
  r <- cor_of_sums(weights$influence[, "difference"] / 300, spread, sets)
  expect_equal(joint[1, 2], r * sqrt(joint[1, 1] * joint[2, 2]))
  reused <- measure_effect(pair_units(scored, replacement = TRUE))
  expect_true(is.na(vcov(compare_effects(weights, reused))[1, 2]))
  expect_true(is.na(glance(compare_effects(weights, reused))$p.value))
  groups <- compare_effects(by = measure_effect(weigh_units(scored), by = "port"), all = weights)
  expect_identical(names(groups$effects), c("by: large", "by: medium", "by: small", "all"))
})

test_that("pictures and tables of several effects", {
  effects <- three_outcomes(bands = TRUE, adjust = "holm")
  expect_s3_class(plot(effects), "ggplot")
  expect_s3_class(plot(measure_effect(study_of_many(), by = "port")), "ggplot")
  file <- withr::local_tempfile(fileext = ".md")
  export_table(effects, file)
  expect_match(paste(readLines(file), collapse = "\n"), "p \\(Holm\\)")
  expect_true(all(nchar(format(effects)) <= 80))
})
