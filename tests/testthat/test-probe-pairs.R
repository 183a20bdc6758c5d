# Every sign vector with its chance when each positive sign has chance p: the exact distribution by brute force.
tail_by_enumeration <- function(d, chance) {
  d <- d[d != 0]
  ranks <- rank(abs(d))
  signs <- as.matrix(expand.grid(rep(list(0:1), length(d))))
  statistic <- drop(signs %*% ranks)
  weight <- apply(signs, 1, function(s) prod(ifelse(s == 1, chance, 1 - chance)))
  sum(weight[statistic >= sum(ranks[d > 0]) - 1e-9])
}

ten_differences <- c(3, -1, 4, 1.5, -0.5, 2, 2, 0, 5, -1)

test_that("exact p bounds agree with all sign vectors, ties and a zero included", {
  probe <- tidy(probe_pairs(ten_differences, gamma = c(1, 1.7, 3)))
  expect_equal(probe$p_high, vapply(c(1, 1.7, 3), function(g) tail_by_enumeration(ten_differences, g / (1 + g)), 0))
  expect_equal(probe$p_low, vapply(c(1, 1.7, 3), function(g) tail_by_enumeration(ten_differences, 1 / (1 + g)), 0))
})

test_that("normal p bounds follow the stated mean and variance, and gamma 1 is the signed-rank test", {
  d <- withr::with_seed(1, rnorm(80, 0.3))
  q <- rank(abs(d))
  statistic <- sum(q[d > 0])
  probe <- tidy(probe_pairs(d, gamma = c(1, 1.5), side = "greater"))
  upper <- pnorm((statistic - sum(q) * 0.6) / sqrt(sum(q^2) * 1.5 / 2.5^2), lower.tail = FALSE)
  expect_equal(probe$p_high[2], upper)
  test <- stats::wilcox.test(d, alternative = "greater", exact = FALSE, correct = FALSE)
  expect_equal(probe$p_high[1], test$p.value)
  expect_equal(probe$p_low[1], test$p.value)
})

test_that("shift estimates and limits agree with all Walsh averages", {
  d <- withr::with_seed(2, rnorm(31, 1))
  n <- length(d)
  walsh <- outer(d, d, "+")[lower.tri(diag(n), diag = TRUE)] / 2
  above <- function(target) sort(walsh, decreasing = TRUE)[ceiling(target)]
  all <- length(walsh)
  probe <- tidy(probe_pairs(d, gamma = c(1, 2), exact = FALSE))
  expect_equal(probe$estimate_low[1], median(walsh))
  expect_equal(probe$estimate_low[2], above(all * 2 / 3))
  expect_equal(probe$estimate_high[2], above(all / 3))
  sd <- sqrt(n * (n + 1) * (2 * n + 1) / 6 * 2 / 9)
  expect_equal(probe$conf_low[2], above(all * 2 / 3 + qnorm(0.975) * sd))
  expect_equal(probe$conf_high[2], above(all / 3 - qnorm(0.975) * sd))
})

test_that("counting Walsh averages agrees with brute force on tied differences", {
  d <- sort(c(-2, -1, -1, 0, 1, 1, 3))
  walsh <- sort(outer(d, d, "+")[lower.tri(diag(7), diag = TRUE)] / 2, decreasing = TRUE)
  expect_equal(glue_walsh_largest(d, 1:28), walsh)
})

test_that("many places at once, on many differences with and without ties, agree with all Walsh averages", {
  for (seed in 1:2) {
    d <- sort(withr::with_seed(seed, if (seed %% 2 == 0) round(rnorm(4200, 0.3), 1) else rt(4200, 2)))
    walsh <- sort((outer(d, d, "+") / 2)[lower.tri(diag(4200), diag = TRUE)], decreasing = TRUE)
    places <- withr::with_seed(seed, sort(sample(length(walsh), 60)))
    expect_identical(glue_walsh_largest(d, places), walsh[places])
  }
})

test_that("exact limits keep the shifts that all sign vectors keep", {
  d <- c(1.3, -0.4, 2.2, 0.9, 3.1, -1.2, 1.7, 2.8)
  signs <- as.matrix(expand.grid(rep(list(0:1), length(d))))
  statistic <- drop(signs %*% seq_along(d))
  kept <- function(shift, gamma) {
    observed <- sum(rank(abs(d - shift))[d > shift])
    high <- sum(dbinom(rowSums(signs), 8, gamma / (1 + gamma)) / choose(8, rowSums(signs)) * (statistic >= observed))
    low <- sum(dbinom(rowSums(signs), 8, 1 / (1 + gamma)) / choose(8, rowSums(signs)) * (statistic <= observed))
    high > 0.05 && low > 0.05
  }
  for (gamma in c(1, 1.5)) {
    row <- tidy(probe_pairs(d, gamma = gamma, level = 0.9))
    limits <- c(row$conf_low, row$conf_high)
    expect_identical(vapply(limits + 1e-6, kept, NA, gamma), c(TRUE, FALSE))
    expect_identical(vapply(limits - 1e-6, kept, NA, gamma), c(FALSE, TRUE))
  }
  expect_identical(tidy(probe_pairs(d[1:3], gamma = 1))$conf_low, -Inf)
})

test_that("the sign test is binomial at both ends of the bias", {
  probe <- probe_pairs(ten_differences, gamma = c(1, 2), test = "sign")
  expect_identical(glance(probe)$form, "sign")
  expect_equal(tidy(probe)$p_high, pbinom(5, 9, c(1 / 2, 2 / 3), lower.tail = FALSE))
  expect_equal(tidy(probe)$p_low, pbinom(5, 9, c(1 / 2, 1 / 3), lower.tail = FALSE))
})

test_that("a confounder of two strengths amounts to gamma", {
  probe <- probe_pairs(withr::with_seed(3, rnorm(60, 0.6)))
  rows <- tidy(probe, part = "amplification")
  expect_gt(nrow(rows), 3)
  expect_equal((rows$treatment * rows$outcome + 1) / (rows$treatment + rows$outcome), rows$gamma)
  expect_equal(rows$gamma[1], glance(probe)$gamma_change)
  expect_error(tidy(probe_pairs(c(-1, 1.1, -0.9, 1)), part = "amplification"), class = "twin_error_input")
})

# Every cut of every set between units with odds 1 and gamma, tried one by one: the worst p-value of the statistic.
worst_by_cuts <- function(q, set, statistic, gamma, high) {
  moments <- lapply(split(q, set), function(own) {
    patterns <- as.matrix(expand.grid(rep(list(0:1), length(own))))
    t(apply(patterns, 1, function(u) {
      p <- gamma^u / sum(gamma^u)
      c(sum(p * own), sum(p * own^2) - sum(p * own)^2)
    }))
  })
  picks <- expand.grid(lapply(moments, function(m) seq_len(nrow(m))))
  deviates <- apply(picks, 1, function(k) {
    each <- mapply(function(m, i) m[i, ], moments, k)
    (statistic - sum(each[1, ])) / sqrt(sum(each[2, ]))
  })
  pnorm(if (high) min(deviates) else max(deviates), lower.tail = FALSE)
}

test_that("bounds on sets separate: the worst biases of each set alone are nearly the worst together", {
  y <- withr::with_seed(5, rnorm(13))
  set <- rep(1:4, c(3, 4, 3, 3))
  z <- c(1, 0, 0, 1, 0, 0, 0, 0, 1, 1, 1, 0, 0)
  alone <- c(1, 0, 0, 1, 0, 0, 0, 1, 0, 0, 1, 0, 0) == 1
  scores <- core_aligned_scores(y, z, alone, set)
  rank <- rank(y - ave(y, set))
  q <- ifelse(set == 3, -1, 1) * (rank - mean(rank))
  expect_equal(scores$statistic, sum(q[alone]))
  for (gamma in c(1, 1.4, 2.5)) for (high in c(TRUE, FALSE)) {
    ours <- pnorm(core_set_deviate(scores, gamma, high), lower.tail = FALSE)
    worst <- worst_by_cuts(q, set, sum(q[alone]), gamma, high)
    expect_equal(ours, worst, tolerance = if (gamma == 1) 1e-12 else 0.06)
    if (high) expect_lte(ours, worst + 1e-12) else expect_gte(ours, worst - 1e-12)
  }
})

test_that("sets of an effect are tested by their aligned ranks, shifts where the statistic meets its mean", {
  study <- study_of_many()
  effect <- measure_effect(group_units(score_units(study), "full"))
  probe <- probe_pairs(effect, gamma = c(1, 1.5))
  facts <- glance(probe)
  expect_identical(facts$form, "sets")
  expect_identical(facts$pairs + facts$zeros, length(unique(stats::na.omit(effect$sets))))
  rows <- tidy(probe)
  expect_true(rows$estimate_low[2] < rows$estimate_low[1] && rows$conf_low[1] < rows$estimate_low[1])
  expect_equal(rows$estimate_low[1], rows$estimate_high[1], tolerance = 1e-3)
  sets <- set_values(effect)
  moved <- core_aligned_scores(sets$y, sets$z, sets$alone, sets$set, rows$conf_low[2])
  expect_equal(core_set_deviate(moved, 1.5, TRUE), qnorm(0.975), tolerance = 0.01)
  # without bias the shift estimate is near the effect, whose size is known to be about 2
  expect_equal(rows$estimate_low[1], difference_of(effect), tolerance = 0.2)
  expect_error(probe_pairs(effect, test = "sign"), class = "twin_error_unsupported")
  expect_error(probe_pairs(effect, exact = TRUE), class = "twin_error_unsupported")
  same <- many_crews()
  same$income <- ifelse(is.na(effect$sets), 0, effect$sets)
  flat <- measure_effect(group_units(score_units(study_of_many(same)), "full"))
  expect_error(probe_pairs(flat), "set differences are 0", class = "twin_error_input")
})

test_that("the print says that the effect's own test asks another question, and shows both without bias", {
  effect <- measure_effect(pair_units(score_units(study_of_many())))
  probe <- probe_pairs(effect, gamma = c(1, 1.5))
  text <- paste(format(probe), collapse = " ")
  expect_match(text, "this one about a shift")
  row <- subset(tidy(effect), term == "difference")
  expect_equal(probe$facts$effect$p_value, pnorm(-row$statistic))
  expect_match(text, p_text(probe$facts$p_at_one), fixed = TRUE)
  expect_lte(max(nchar(format(probe))), 80)
})

test_that("gamma_change is where the greatest p-value meets the level", {
  d <- withr::with_seed(3, rnorm(60, 0.6))
  change <- glance(probe_pairs(d))$gamma_change
  expect_gt(change, 1)
  expect_equal(tidy(probe_pairs(d, gamma = change, side = "greater", exact = FALSE))$p_high, 0.05, tolerance = 1e-6)
  expect_identical(glance(probe_pairs(c(-1, 1.1, -0.9, 1)))$gamma_change, NA_real_)
})

test_that("turning all signs mirrors the answer", {
  up <- tidy(probe_pairs(ten_differences, gamma = 2))
  down <- probe_pairs(-ten_differences, gamma = 2)
  expect_identical(glance(down)$side, "less")
  expect_equal(tidy(down)$p_high, up$p_high)
  expect_equal(tidy(down)$estimate_low, -up$estimate_high)
})

test_that("differences of one size give McNemar's exact bounds and no shift", {
  d <- c(rep(1, 14), rep(-1, 4), rep(0, 10))
  probe <- probe_pairs(d, gamma = c(1, 2))
  expect_identical(glance(probe)$form, "mcnemar")
  expect_equal(tidy(probe)$p_high, c(stats::binom.test(14, 18, alternative = "greater")$p.value,
                                     stats::binom.test(14, 18, 2 / 3, alternative = "greater")$p.value))
  expect_true(all(is.na(tidy(probe)$estimate_low)))
  expect_match(format(probe)[1], "28 pairs of which 10 are 0 and drop")
})

test_that("the e-value solves its bounding equation, and its approximations are the paper's", {
  e <- tidy(probe_ratio(0.5))$e_value
  expect_equal(e^2 / (2 * e - 1), 2)
  expect_equal(tidy(probe_ratio(4, scale = "odds_ratio"))$risk_ratio, 2)
  expect_equal(tidy(probe_ratio(4, scale = "odds_ratio", rare = TRUE))$risk_ratio, 4)
  expect_equal(tidy(probe_ratio(0.4, scale = "mean_difference"))$risk_ratio, exp(0.364))
  hazard <- tidy(probe_ratio(2, scale = "hazard_ratio"))$risk_ratio
  expect_equal(hazard, (1 - 0.5^sqrt(2)) / (1 - 0.5^sqrt(0.5)))
})

test_that("the limit is the one nearer to no effect, and 1 when the interval holds none", {
  rows <- tidy(probe_ratio(0.6, low = 0.4, high = 0.9))
  expect_equal(rows$value, c(0.6, 0.9))
  expect_equal(tidy(probe_ratio(1.5, low = 0.9, high = 2.5))$e_value[2], 1)
  expect_equal(tidy(probe_ratio(-0.3, low = -0.5, high = -0.1, scale = "mean_difference"))$value[2], -0.1)
})

test_that("leaving a covariate out moves the risk ratio as two designs say", {
  data <- many_crews()
  effect <- measure_effect(weigh_units(score_units(study_of_many(data))))
  rows <- tidy(probe_ratio(effect), part = "covariates")
  ratio <- function(covariates) {
    made <- measure_effect(weigh_units(score_units(study_of_many(data, covariates = covariates))))
    tidy(probe_ratio(made, yardstick = FALSE))$risk_ratio
  }
  all <- ratio(c("boat", "past", "port"))
  without <- ratio(c("past", "port"))
  boat <- rows[rows$covariate == "boat", ]
  expect_equal(boat$risk_ratio, without[1])
  expect_equal(boat$e_value, core_e_value(without[1] / all[1]))
  expect_equal(boat$e_value_limit, core_e_value(without[2] / all[2]))
  expect_error(tidy(probe_ratio(effect, yardstick = FALSE), part = "covariates"), class = "twin_error_input")
})

test_that("an effect hands its own ratio or standardized difference to the e-value", {
  study <- study_of_many(outcome = c("income", "direct"))
  design <- weigh_units(score_units(study))
  shares <- measure_effect(design, "direct")
  expect_equal(tidy(probe_ratio(shares))$value[1], coef(shares)[["ratio"]])
  income <- measure_effect(design)
  arms <- split(many_crews()$income, many_crews()$joined)
  expect_equal(tidy(probe_ratio(income))$value[1], difference_of(income) / sqrt(mean(vapply(arms, var, 0))))
})

test_that("bad input to probes is refused with advice", {
  expect_error(probe_pairs(1:5, gamma = 0.5), "from 1 to a million", class = "twin_error_input")
  expect_error(probe_pairs(c(0, 0)), "All 2 pair differences are 0", class = "twin_error_input")
  expect_error(probe_pairs(c(1, NA)), "finite pair differences", class = "twin_error_input")
  expect_error(probe_pairs(measure_effect(study_of_many())), "raw sample", class = "twin_error_input")
  expect_error(probe_ratio(0), "above 0", class = "twin_error_input")
  expect_error(probe_ratio(2, low = 2.5), "must hold its estimate", class = "twin_error_input")
  expect_error(probe_ratio(2, rare = TRUE), "odds and hazard ratios only", class = "twin_error_input")
  expect_error(probe_ratio(measure_effect(study_of_many()), scale = "odds_ratio"), "come from the effect",
               class = "twin_error_input")
})

test_that("the sign test is exact unless it is asked not to be", {
  effect <- measure_effect(pair_units(score_units(study_of_many())))
  d <- carefultwin:::pair_difference_values(effect)$difference
  up <- max(sum(d > 0), sum(d < 0))
  n <- sum(d != 0)
  exact <- probe_pairs(effect, gamma = c(1, 2), test = "sign")
  normal <- probe_pairs(effect, gamma = c(1, 2), test = "sign", exact = FALSE)
  p <- c(1 / 2, 2 / 3)
  expect_equal(tidy(exact)$p_high, pbinom(up - 1, n, p, lower.tail = FALSE))
  expect_equal(tidy(normal)$p_high, pnorm((up - n * p) / sqrt(n * p * (1 - p)), lower.tail = FALSE))
  expect_identical(c(glance(exact)$exact, glance(normal)$exact), c(TRUE, FALSE))
  expect_match(paste(format(exact), collapse = " "), "exact sign test")
  expect_no_match(paste(format(normal), collapse = " "), "exact")
})

test_that("with replacement the differences are those of seekers and the mean of their matches, and sharing is said", {
  data <- many_crews()
  for (estimand in c("ATT", "ATE")) {
    design <- pair_units(score_units(study_of_many(data, estimand = estimand)), replacement = TRUE, ratio = 2)
    pairs <- pairs_of(design)
    d <- vapply(split(pairs, pairs$set), function(own) {
      mean(data$income[unique(own$treated)]) - mean(data$income[unique(own$control)])
    }, 0)
    effect <- measure_effect(design)
    expect_equal(tidy(probe_pairs(effect, gamma = c(1, 2), side = "greater")),
                 tidy(probe_pairs(unname(d), gamma = c(1, 2), side = "greater")))
    text <- gsub("\\s+", " ", paste(format(probe_pairs(effect, gamma = 1)), collapse = " "))
    expect_match(text, "serve in several differences, the busiest in [0-9]+\\. Differences that share a partner are dependent")
  }
  searched <- suppressMessages(search_metric(score_units(study_of_many(data)), population = 10, generations = 2))
  expect_s3_class(probe_pairs(measure_effect(pair_units(searched, on = "metric", replacement = TRUE)), gamma = 1),
                  "twin_probe_pairs")
  few <- measure_effect(pair_units(score_units(study_of_many(data)), replacement = TRUE), by = "port")
  expect_lt(probe_pairs(few[["small"]], gamma = 1)$facts$pairs, sum(data$joined))
})

test_that("a cardinality match is paired by the nearest covariates, and says so", {
  skip_if_not_installed("Rglpk")
  design <- group_units(study_of_many(many_crews(120)), "cardinality", tolerance = 0.1)
  probe <- probe_pairs(measure_effect(design), gamma = c(1, 2))
  expect_identical(probe$facts$pairs, sum(design$kept) %/% 2L)
  data <- many_crews(120)[design$kept, ]
  pairs <- pairs_of(pair_units(study_of_many(data), on = "mahalanobis", search = "optimal"))
  d <- data$income[pairs$treated] - data$income[pairs$control]
  expect_equal(tidy(probe), tidy(probe_pairs(d, gamma = c(1, 2))))
  expect_match(paste(format(probe), collapse = " "), "paired here by the\\s+Mahalanobis")
})

test_that("zeros may be ranked before they drop out", {
  d <- c(0, 0, 3, -1, 4, 1.5, -0.5, 0)
  ranks <- rank(abs(d))[d != 0]
  signs <- as.matrix(expand.grid(rep(list(0:1), 5)))
  weight <- apply(signs, 1, function(s) prod(ifelse(s == 1, 2 / 3, 1 / 3)))
  by_hand <- sum(weight[drop(signs %*% ranks) >= sum(ranks[d[d != 0] > 0])])
  probe <- probe_pairs(d, gamma = 2, side = "greater", zeros = "rank")
  expect_equal(tidy(probe)$p_high, by_hand)
  expect_match(paste(format(probe), collapse = " "), "8 pairs of which 3 are 0 and\\s+drop out after ranking")
  expect_false(tidy(probe_pairs(d, gamma = 2, side = "greater"))$p_high == by_hand)
  expect_match(paste(format(probe_pairs(d[-(1:2)], gamma = 2)), collapse = " "),
               "6 pairs of which 1 is 0 and\\s+drops out before ranking")
})

test_that("every probe that an error sends to takes the effect", {
  data <- many_crews(150)
  study <- study_of_many(data)
  scored <- score_units(study)
  designs <- list(raw = study, pairs = pair_units(scored), reuse = pair_units(scored, replacement = TRUE),
                  full = group_units(scored, "full"), inverse = weigh_units(scored), strata = stratify_units(scored),
                  truncated = weigh_units(scored, truncate = c(quantile = 0.95)),
                  overlap = weigh_units(score_units(study_of_many(data, estimand = "ATO"))),
                  cells = group_units(study_of_many(data, covariates = "port"), "exact"))
  if (requireNamespace("Rglpk", quietly = TRUE)) designs$cardinality <- group_units(study, "cardinality")
  sent <- 0L
  for (name in names(designs)) {
    for (estimator in c("difference", "regression")) {
      if (name == "overlap" && estimator == "regression") next
      effect <- suppressWarnings(measure_effect(designs[[name]], estimator = estimator))
      for (probe in list(function(x) probe_pairs(x, gamma = 1), function(x) probe_weights(x, lambda = 1, draws = 0))) {
        message <- tryCatch({
          suppressWarnings(probe(effect))
          ""
        }, twin_error = conditionMessage)
        advice <- sub(".*\n\\S ", "", message)
        advised <- regmatches(advice, gregexpr("probe_[a-z]+(?=\\(\\))", advice, perl = TRUE))[[1]]
        for (verb in advised) {
          sent <- sent + 1L
          again <- if (verb == "probe_weights") list(effect, draws = 0) else list(effect)
          expect_s3_class(suppressWarnings(do.call(verb, again)), "twin_probe")
        }
      }
    }
  }
  expect_gt(sent, 20L)
})
