# Crews with last year's income, which joining can't have changed, and a region without a road.
crews_with_past_year <- function(n = 300, bias = 0) {
  data <- many_crews(n)
  data$last_year <- withr::with_seed(7, 18 + 2 * data$boat + rnorm(n)) + bias * data$joined
  data$road <- rep(c("yes", "no", "yes"), length.out = n)
  far <- data$road == "no"
  data$income[far] <- 20 + 3 * data$boat[far] + withr::with_seed(8, rnorm(sum(far)))
  data
}

test_that("a placebo outcome is the same design's effect on it, a placebo group the design made within it", {
  data <- crews_with_past_year()
  make <- function(data, outcome = "income") weigh_units(score_units(study_of_many(data, outcome = outcome)))
  effect <- measure_effect(make(data))
  probe <- probe_placebo(effect, outcomes = c("last_year", "direct"), groups = list("no road" = ~ road == "no"))
  rows <- tidy(probe)
  expect_identical(rows$kind, c("outcome", "outcome", "group"))
  by_hand <- list(measure_effect(make(data, "last_year")), measure_effect(make(data, "direct")),
                  suppressWarnings(measure_effect(make(data[data$road == "no", ]))))
  for (k in 1:3) {
    row <- subset(tidy(by_hand[[k]]), term == "difference")
    expect_equal(unlist(rows[k, c("estimate", "std.error", "p.value", "conf.low", "conf.high")]),
                 unlist(row[c("estimate", "std.error", "p.value", "conf.low", "conf.high")]))
  }
  expect_identical(rows$units[3], 100L)
})

test_that("the joint test is Wald's with the covariance of influence, and finds bias where there is some", {
  data <- crews_with_past_year()
  design <- weigh_units(score_units(study_of_many(data, cluster = "harbour")))
  probe <- probe_placebo(measure_effect(design), outcomes = c("last_year", "direct"))
  outcomes <- c("last_year", "direct")
  other <- study_of_many(data, outcome = outcomes, cluster = "harbour")
  both <- measure_effect(weigh_units(score_units(other)), outcome = outcomes)
  influence <- vapply(1:2, function(k) both[[k]]$influence[, "difference"], numeric(300))
  sums <- rowsum(influence, data$harbour)
  v <- crossprod(sums) / 300^2 * 30 / 29
  b <- tidy(probe)$estimate
  statistic <- drop(b %*% solve(v, b))
  expect_equal(tidy(probe, part = "joint")$statistic, statistic)
  expect_equal(glance(probe)$p.value, pf(statistic / 2 * 28 / 29, 2, 28, lower.tail = FALSE))
  expect_match(probe_verdict(probe), "most clearly direct")  # which joining does change
  expect_match(probe_verdict(probe_placebo(measure_effect(design), outcomes = "last_year")), "No effect is found")
  biased <- crews_with_past_year(bias = 2)
  bad <- probe_placebo(measure_effect(weigh_units(score_units(study_of_many(biased)))), outcomes = "last_year")
  expect_lt(glance(bad)$p.value, 1e-6)
  expect_match(paste(format(bad), collapse = " "), "most clearly last_year")
  draw_quietly(plot(bad))
  expect_lte(max(nchar(format(bad))), 80)
})

test_that("pairs, regressions and cluster sets are measured as they were", {
  data <- crews_with_past_year()
  pairs <- pair_units(score_units(study_of_many(data)))
  rows <- tidy(probe_placebo(measure_effect(pairs), outcomes = "last_year", groups = ~ road == "no"))
  both <- tapply(seq_len(300), design_data(pairs)$.set, function(i) {
    sum(data$last_year[i] * ifelse(data$joined[i] == 1, 1, -1))
  })
  expect_equal(rows$estimate[1], mean(both))
  expect_identical(rows$placebo[2], "road == \"no\"")
  regression <- measure_effect(study_of_many(data), estimator = "regression")
  own <- measure_effect(study_of_many(data, outcome = "last_year"), estimator = "regression")
  expect_equal(tidy(probe_placebo(regression, outcomes = "last_year"))$estimate, difference_of(own))
})

test_that("a placebo date is the panel cut before treatment and framed as if it had begun earlier", {
  data <- many_harbours()
  effect <- measure_did(harbour_panel(data))
  rows <- tidy(probe_placebo(effect, dates = 2:1, outcomes = "boats_built"[FALSE], groups = list(all = ~ year > 0)))
  expect_identical(rows$placebo, c("all", "1 period early", "2 periods early"))
  expect_equal(rows$estimate[1], coef(summarise_did(effect))[["difference"]])
  for (early in 1:2) {
    cut <- data[is.na(data$opened) | data$year < data$opened, ]
    cut$pretend <- cut$opened - early
    panel <- suppressWarnings(frame_panel(cut, outcome = "price", time = "year", unit = "harbour", first_treated = "pretend"))
    row <- tidy(summarise_did(suppressWarnings(measure_did(panel))))
    expect_equal(rows$estimate[early + 1], row$estimate)
    expect_equal(rows$std.error[early + 1], row$std.error)
  }
  two_way <- measure_did(harbour_panel(data), estimator = "two_way")
  expect_equal(nrow(tidy(probe_placebo(two_way, dates = 1:2))), 2)
  expect_output(print(probe_placebo(two_way, dates = 1)), "1 period early")
})

test_that("placebos in all leave the logbook's count of designs alone", {
  data <- crews_with_past_year()
  effect <- measure_effect(weigh_units(score_units(study_of_many(data))))
  before <- summary(logbook(effect))
  probe_placebo(effect, outcomes = "last_year")
  after <- summary(logbook(effect))
  expect_identical(after[c("before", "after")], before[c("before", "after")])
  entries <- as.data.frame(logbook(effect))
  expect_identical(tail(entries$verb, 1), "probe")
})

test_that("what is no placebo is refused, and what can't be measured is left out and named", {
  data <- crews_with_past_year()
  data$flat <- 1.5
  effect <- measure_effect(weigh_units(score_units(study_of_many(data))))
  expect_error(probe_placebo(effect), "Say where", class = "twin_error_input")
  expect_error(probe_placebo(effect, outcomes = "last_yaer"), "Did you mean", class = "twin_error_input")
  expect_error(probe_placebo(effect, outcomes = "boat"), "design balances", class = "twin_error_input")
  expect_error(probe_placebo(effect, outcomes = "income"), "of itself", class = "twin_error_input")
  expect_error(probe_placebo(effect, groups = ~ road == "none"), "for nobody", class = "twin_error_input")
  expect_error(probe_placebo(effect, groups = "road"), "one-sided formula", class = "twin_error_input")
  expect_error(probe_placebo(effect, dates = 1), "panel", class = "twin_error_unsupported")
  expect_error(probe_placebo(measure_did(harbour_panel()), dates = 0), "whole numbers", class = "twin_error_input")
  expect_warning(probe <- probe_placebo(effect, outcomes = c("last_year", "flat")), "flat",
                 class = "twin_warning_placebo")
  expect_identical(tidy(probe)$placebo, "last_year")
  expect_error(probe_placebo(effect, outcomes = "flat"), "No placebo", class = "twin_error_input")
})
