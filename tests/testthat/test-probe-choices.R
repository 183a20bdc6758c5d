test_that("every run is the design made by hand with that choice, judged on all covariates", {
  data <- many_crews()
  study <- study_of_many(data, cluster = "harbour")
  effect <- measure_effect(pair_units(score_units(study), caliper = 0.2))
  probe <- probe_choices(effect, caliper = c(0.1, 0.2), link = c("logit", "probit"), estimator = "difference",
                         leave_out = c("covariates", "clusters"))
  rows <- tidy(probe)
  expect_identical(nrow(rows), 1L + 3L + 3L + 30L)
  expect_identical(rows$changed[1:5], c("as it was", "caliper 0.1", "caliper 0.1, link probit", "link probit",
                                        "without boat")[c(1, 2, 3, 4, 5)])
  row_of <- function(changed) rows[rows$changed == changed, ]
  check <- function(row, made) {
    table <- subset(tidy(made), term == "difference")
    numbers <- c("estimate", "std.error", "conf.low")
    expect_equal(unlist(row[numbers]), unlist(table[numbers]))
  }
  check(row_of("as it was"), effect)
  probit <- pair_units(score_units(study, link = "probit"), caliper = 0.1)
  check(row_of("caliper 0.1, link probit"), measure_effect(probit))
  less <- study_of_many(data, cluster = "harbour", covariates = c("past", "port"))
  made <- pair_units(score_units(less), caliper = 0.2)
  check(row_of("without boat"), measure_effect(made))
  # balance of boat, which that design did not know, by hand
  w <- stats::weights(made)
  treated <- data$joined == 1
  gap <- weighted.mean(data$boat[treated], w[treated]) - weighted.mean(data$boat[!treated], w[!treated])
  expect_gte(row_of("without boat")$worst_smd, abs(gap) / sd(data$boat[treated]) - 1e-9)
  expect_identical(row_of("without boat")$rows, row_of("as it was")$rows)
  rest <- study_of_many(data[data$harbour != 7, ], cluster = "harbour")
  check(row_of("without 7"), measure_effect(pair_units(score_units(rest), caliper = 0.2)))
})

test_that("the sentence counts what passes and gives the range among those only", {
  effect <- measure_effect(weigh_units(score_units(study_of_many())))
  probe <- probe_choices(effect, trimming = c("none", "common_support"), estimator = c("difference", "augmented"))
  rows <- tidy(probe)
  g <- glance(probe)
  expect_identical(g$passing, sum(rows$pass))
  expect_equal(c(g$least, g$greatest), range(rows$estimate[rows$pass]))
  expect_equal(c(g$least_all, g$greatest_all), range(rows$estimate))
  expect_true(any(!rows$pass) && any(rows$pass))
  expect_match(probe_verdict(probe), sprintf("%d of %d runs pass", g$passing, g$runs))
  trimmed <- measure_effect(weigh_units(trim_units(score_units(study_of_many()), rule = "common_support")),
                            estimator = "augmented")
  expect_equal(rows$estimate[rows$changed == "trimming common_support, estimator augmented"], difference_of(trimmed))
  draw_quietly(plot(probe))
  expect_lte(max(nchar(format(probe))), 80)
  strict <- probe_choices(effect, limit = 1e-6, leave_out = "covariates")
  expect_match(probe_verdict(strict), "None of 4 runs")
})

test_that("runs enter the logbook as sensitivity runs and count as no designs", {
  effect <- measure_effect(weigh_units(score_units(study_of_many())))
  before <- summary(logbook(effect))[c("before", "after")]
  probe_choices(effect, link = c("logit", "probit"), leave_out = "none")
  entries <- as.data.frame(logbook(effect))
  expect_identical(summary(logbook(effect))[c("before", "after")], before)
  expect_identical(tail(entries$verb, 2), c("probe", "probe"))
  expect_match(tail(entries$what, 1), "link probit")
  expect_true(all(is.na(tail(entries$design, 2))))
})

test_that("workers give the same answer, and formulas lose the covariate they are asked to", {
  study <- study_of_many(covariates = ~ boat + I(past^2) + boat:port)
  effect <- measure_effect(weigh_units(score_units(study, model = ~ boat * port + past)), estimator = "augmented",
                           model = ~ boat + port)
  alone <- tidy(probe_choices(effect))
  expect_identical(alone$changed, c("as it was", "without boat", "without past", "without port"))
  less <- weigh_units(score_units(study_of_many(covariates = ~ boat + boat:port), model = ~ boat * port))
  expect_equal(alone$estimate[3], difference_of(measure_effect(less, estimator = "augmented", model = ~ boat + port)))
  skip_on_os("windows")
  withr::defer(future::plan("sequential"))
  future::plan("multicore", workers = 2)
  expect_identical(tidy(probe_choices(effect)), alone)
})

test_that("runs that can't be made are kept with their reason", {
  effect <- measure_effect(pair_units(score_units(study_of_many()), caliper = 0.2))
  probe <- probe_choices(effect, caliper = c(0.2, 1e-9), leave_out = "none")
  rows <- tidy(probe)
  expect_identical(is.na(rows$failed), c(TRUE, FALSE))
  expect_identical(glance(probe)$failed, 1L)
  expect_match(paste(format(probe), collapse = " "), "Could not be run: caliper 1e-09")
})

test_that("choices that the design does not have are refused", {
  study <- study_of_many()
  effect <- measure_effect(weigh_units(score_units(study)))
  expect_error(probe_choices(effect, caliper = 0.1), "no step", class = "twin_error_input")
  expect_error(probe_choices(effect, link = "logti"), "Did you mean", class = "twin_error_input")
  expect_error(probe_choices(effect, trimming = "all"), class = "twin_error_input")
  expect_error(probe_choices(effect, leave_out = "none"), "nothing to vary", class = "twin_error_input")
  expect_error(probe_choices(effect, leave_out = "clusters"), "cluster", class = "twin_error_input")
  expect_error(probe_choices(measure_effect(study)), "run anew", class = "twin_error_unsupported")
  expect_error(probe_choices(measure_did(harbour_panel())), "over time", class = "twin_error_unsupported")
})

test_that("all probes that fit stand on one scale of the strongest covariate", {
  study <- study_of_many()
  weighted <- measure_effect(weigh_units(score_units(study)))
  probe <- probe_effect(weighted, draws = 40)
  rows <- tidy(probe)
  expect_identical(rows$probe, c("weights", "omitted", "ratio"))
  single <- probe_weights(weighted, draws = 40)
  strongest <- tidy(single, part = "covariates")[1, ]
  w <- rows[1, ]
  expect_identical(w$yardstick, strongest$covariate)
  expect_equal(w$times, log(glance(single)$lambda_change) / log(strongest$lambda))
  expect_equal(w$times_interval, log(glance(single)$lambda_change_interval) / log(strongest$lambda))
  # a confounder `times` as strong as the covariate brings the regression to 0
  o <- rows[2, ]
  at <- tidy(probe_omitted(weighted, covariates = o$yardstick, times = o$times))
  expect_equal(at$estimate, 0, tolerance = 1e-6)
  others <- tidy(probe_omitted(weighted, times = o$times))
  expect_true(all(is.na(others$estimate) | others$estimate >= -1e-6))
  ratio <- probe_ratio(weighted)
  moved <- tidy(ratio, part = "covariates")[1, ]
  away <- log(tidy(ratio)$risk_ratio[1])
  expect_equal(rows$times[3], abs(away) / abs(log(moved$risk_ratio) - away))
  g <- glance(probe)
  expect_identical(g$weakest, rows$probe[which.min(rows$times)])
  expect_match(probe_verdict(probe), number_text(min(rows$times), 2), fixed = TRUE)
  draw_quietly(plot(probe))
  expect_lte(max(nchar(format(probe))), 80)
})

test_that("pairs, hazards and effects over time have probes of their own", {
  paired <- probe_effect(measure_effect(pair_units(score_units(study_of_many()))))
  expect_identical(tidy(paired)$probe, c("pairs", "omitted", "ratio"))
  d <- paired$probes$pairs
  expect_equal(tidy(paired)$needed_interval[1], glance(d)$gamma_change)
  # where the greatest p-value of the estimate's side is one half, the range of shifts begins at 0
  turn <- tidy(probe_pairs(measure_effect(pair_units(score_units(study_of_many()))), gamma = tidy(paired)$needed[1] *
                             c(0.98, 1.02)))
  expect_true(turn$estimate_low[1] > 0 && turn$estimate_low[2] < 0)
  data <- many_crews()
  data$months <- withr::with_seed(3, rexp(300, exp(-0.5 * data$joined)))
  data$left <- rep(c(1, 1, 1, 0), 75)
  design <- weigh_units(score_units(study_of_many(data, outcome = c("months", "left"))))
  lasting <- measure_hazard(design, "months", "left")
  expect_identical(tidy(probe_effect(lasting))$probe, "ratio")
  raw <- probe_effect(measure_hazard(study_of_many(data, outcome = c("months", "left")), "months", "left"))
  expect_true(is.na(tidy(raw)$times))  # no covariate is adjusted for
  expect_match(probe_verdict(raw), "No measured covariate gives a yardstick")
  draw_quietly(plot(raw))
  cells <- measure_did(harbour_panel(), base = "fixed")
  over <- probe_effect(cells)
  expect_equal(tidy(over)$times_interval, glance(probe_trends(cells, m = 0))$change)
  expect_match(probe_verdict(over), "drift")
  none <- many_crews()
  none$income <- withr::with_seed(99, rnorm(300))
  expect_match(probe_verdict(probe_effect(measure_effect(weigh_units(score_units(study_of_many(none)))), draws = 0)),
               "no conclusion to overturn")
  expect_equal(tidy(probe_effect(measure_did(harbour_panel()))), tidy(over))  # measured again from a fixed base
  expect_error(probe_effect(2), class = "twin_error_input")
})
