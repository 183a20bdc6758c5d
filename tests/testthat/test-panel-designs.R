# The baseline rows as a study of the change between two years.
change_study <- function(data, from, to, ..., panel = joined_panel(data, covariates = "size")) {
  rows <- baseline_rows(panel, ...)
  at <- function(year) data$income[match(paste(rows$crew, year), paste(data$crew, data$year))]
  rows$change <- at(to) - at(from)
  frame_study(rows, "treated", "change", covariates = ~ size + income_mean, id = "crew")
}

# The same weights, as if nobody had estimated them.
given_of <- function(design) {
  study <- study_of(design)
  rows <- study$data
  rows$w <- weights(design)
  weigh_units(frame_study(rows, "treated", "income_after", covariates = "size", id = "crew"), "own", weight = "w")
}

one_number <- function(effect) tidy(effect)[tidy(effect)$term == "difference", c("estimate", "std.error")]

test_that("baseline rows hold levels, mean, slope and what comes after, a row per unit", {
  data <- data.frame(crew = rep(c("a", "b", "c"), each = 5), year = rep(1:5, 3), first = rep(c(4, 5, NA), each = 5),
                     income = c(1, 2, 4, 10, 12, 5, 5, 6, 7, 20, 3, NA, 1, 0, 2), boat = rep(c("x", "y", "x"), each = 5))
  panel <- joined_panel(data, covariates = "boat")
  rows <- baseline_rows(panel)
  expect_identical(names(rows), c("crew", "treated", "cohort", "boat", "income_1", "income_2", "income_3", "income_mean",
                                  "income_slope", "income_after"))
  expect_identical(rows$treated, c(TRUE, TRUE, FALSE))
  expect_equal(rows$income_mean, c(7 / 3, 16 / 3, 2))
  expect_equal(rows$income_slope, c(1.5, 0.5, -1))
  expect_equal(rows$income_after, c(11, 20, 1))
  later <- baseline_rows(panel, cohort = "4", comparison = "not_yet", periods = 2:3)
  expect_identical(later$cohort, c("4", "5", "never"))
  expect_equal(later$income_after, c(11, 7, 1))  # b counts while it is untreated
  expect_equal(later$income_slope, c(2, 1, NA))
  expect_identical(as.data.frame(logbook(panel))$verb, c("frame", "baseline", "baseline"))
  gone <- data[!(data$crew == "c" & data$year < 4), ]
  expect_warning(expect_error(baseline_rows(joined_panel(gone)), "No comparison unit", class = "twin_error_input"),
                 "1 unit is not seen.*c", class = "twin_warning_dropped")
})

test_that("a carried design gives the effect of the design on the change, and its errors", {
  data <- joining_crews()
  scored <- score_units(change_study(data, 3, 4))
  designs <- list(weigh_units(scored), weigh_units(study_of(scored), "entropy"), stratify_units(scored),
                  pair_units(scored, caliper = 0.2), group_units(scored, "full"), pair_units(scored, replacement = TRUE),
                  trim_units(scored, "range", bounds = c(0.15, 0.8)) |> weigh_units(),
                  weigh_units(scored, truncate = c(quantile = 0.9)))
  short <- data[data$year %in% 3:4, ]
  for (design in designs) {
    whole <- one_number(measure_effect(design))
    carried <- one_number(summarise_did(measure_did(joined_panel(short, design))))
    expect_equal(carried$estimate, whole$estimate, tolerance = 1e-10)
    # full matching counts by unit across units, and by set in a panel
    expect_equal(carried$std.error, whole$std.error, tolerance = if (design$kind == "sets") 0.12 else 0.06)
    expect_equal(one_number(measure_did(joined_panel(short, design), estimator = "two_way")),
                 one_number(measure_did(joined_panel(short, design), estimator = "two_period")), tolerance = 0.02)
  }
})

test_that("errors of carried weights are those of a jackknife that weighs anew", {
  data <- joining_crews(80, seed = 4)
  effect_without <- function(crew) {
    own <- data[data$crew != crew, ]
    design <- weigh_units(change_study(own, 3, 4), "entropy")
    one_number(summarise_did(measure_did(joined_panel(own, design))))$estimate
  }
  design <- weigh_units(change_study(data, 3, 4), "entropy")
  effect <- one_number(summarise_did(measure_did(joined_panel(data, design))))
  fixed <- joined_panel(transform(data, w = weights(design)[match(crew, unique(crew))]), weight = "w")
  given <- one_number(summarise_did(measure_did(fixed)))
  left <- vapply(unique(data$crew), effect_without, 0)
  jackknife <- sqrt(79 / 80 * sum((left - mean(left))^2))
  expect_equal(effect$estimate, given$estimate)
  expect_equal(effect$std.error, jackknife, tolerance = 0.1)
  expect_gt(abs(given$std.error / jackknife - 1), 2 * abs(effect$std.error / jackknife - 1))
})

test_that("each cohort has its own design, against units treated later or never", {
  data <- joining_crews(240, seed = 2, staggered = TRUE)
  panel <- joined_panel(data, covariates = "size")
  study <- lapply(c("3" = "3", "5" = "5"), function(cohort) {
    change_study(data, as.integer(cohort) - 1L, 5, cohort = cohort, comparison = "not_yet", panel = panel)
  })
  designs <- lapply(study, function(one) weigh_units(score_units(one)))
  carried <- joined_panel(data, designs)
  cells <- measure_did(carried)
  expect_identical(glance(cells)$comparison, "not_yet")
  by_hand <- function(cohort, time, base) {
    rows <- study[[cohort]]$data
    w <- weights(designs[[cohort]])
    at <- function(year) data$income[match(paste(rows$crew, year), paste(data$crew, data$year))]
    onset <- data$first[match(rows$crew, data$crew)]
    change <- at(time) - at(base)
    later <- !rows$treated & onset > max(time, base)
    weighted.mean(change[rows$treated], w[rows$treated]) - weighted.mean(change[later], w[later])
  }
  expect_equal(cell_of(cells, "3", "4")$estimate, by_hand("3", 4, 2))
  expect_equal(cell_of(cells, "3", "6")$estimate, by_hand("3", 6, 2))
  expect_equal(cell_of(cells, "5", "6")$estimate, by_hand("5", 6, 4))
  whole <- summarise_did(cells)
  raw <- summarise_did(measure_did(panel, adjustment = "none"))
  expect_lt(abs(coef(whole) - 0.5), abs(coef(raw) - 0.5))
  # one design given for each of the cohorts is that design
  alone <- change_study(data, 2, 4, panel = panel)
  one <- joined_panel(data, weigh_units(alone, "entropy"))
  expect_identical(glance(measure_did(one))$comparison, "never")
  expect_lt(abs(coef(summarise_did(measure_did(one))) - 0.5), 0.15)
  balance <- assess_balance(carried)
  expect_identical(unique(tidy(balance)$group), c(NA, "3", "5"))
  own <- tidy(assess_balance(designs[["3"]]))
  expect_equal(subset(tidy(balance), group == "3" & sample == "after")$mean_control,
               subset(own, sample == "after")$mean_control)
  expect_equal(subset(tidy(balance), group == "3" & sample == "before")$mean_control,
               subset(own, sample == "before")$mean_control)
})

test_that("inverse weights for each cohort are the weighted form of group-time effects", {
  data <- joining_crews(240, seed = 6, staggered = TRUE)
  panel <- joined_panel(data, covariates = "size")
  designs <- lapply(c("3" = "3", "5" = "5"), function(cohort) {
    rows <- baseline_rows(panel, cohort = cohort)
    weigh_units(score_units(frame_study(rows, "treated", "income_after", covariates = "size", id = "crew")))
  })
  carried <- measure_did(joined_panel(data, designs), base = "fixed")
  adjusted <- measure_did(panel, adjustment = "ipw", base = "fixed")
  expect_equal(coef(carried), coef(adjusted), tolerance = 1e-6)
  expect_equal(vcov(carried), vcov(adjusted), tolerance = 1e-6)
  # a design whose weights are given leaves its own cohort's errors as they are, and the other's alone
  given <- given_of(designs[["3"]])
  mixed <- measure_did(joined_panel(data, list(`3` = given, `5` = designs[["5"]])), base = "fixed")
  weighed <- measure_did(joined_panel(data, list(`3` = given, `5` = given_of(designs[["5"]]))), base = "fixed")
  of <- function(effect, cohort) sqrt(diag(vcov(effect)))[tidy(effect)$cohort == cohort]
  expect_equal(of(mixed, "5"), of(carried, "5"))
  expect_equal(of(mixed, "3"), of(weighed, "3"))
  expect_false(isTRUE(all.equal(of(mixed, "3"), of(carried, "3"))))
  for (over in c("all", "event", "cohort")) {
    columns <- c("estimate", "std.error", "df")
    expect_equal(tidy(summarise_did(carried, over))[columns], tidy(summarise_did(adjusted, over))[columns], tolerance = 1e-6)
  }
})

test_that("a design that changes nothing changes nothing", {
  data <- transform(joining_crews(80), one = 1)
  rows <- baseline_rows(joined_panel(data))
  rows$one <- 1
  study <- frame_study(rows, "treated", "income_after", covariates = "income_mean", id = "crew")
  same <- joined_panel(data, weigh_units(study, "own", weight = "one"))
  plain <- joined_panel(data)
  for (estimator in c("group_time", "imputation", "interaction", "two_way", "event_study", "two_period")) {
    a <- tidy(measure_did(same, estimator = estimator))
    b <- tidy(measure_did(plain, estimator = estimator))
    expect_equal(a, b, tolerance = 1e-8)
  }
  expect_equal(tidy(assess_trends(same))$p.value, tidy(assess_trends(plain))$p.value, tolerance = 1e-8)
})

test_that("pairs are clusters, and what the panel says of them", {
  data <- joining_crews(90, seed = 3)
  study <- change_study(data, 3, 4)
  pairs <- pair_units(score_units(study), caliper = 0.2)
  panel <- joined_panel(data, pairs)
  kept <- sum(weights(pairs) > 0)
  expect_equal(sum(summary(panel)$units), kept)
  text <- paste(format(panel), collapse = " ")
  expect_match(text, sprintf("%d treated and %d comparison", kept / 2, kept / 2))
  expect_match(text, sprintf("%d units in no design: out of every", 90 - kept))
  expect_match(text, sprintf("Cluster +set \\(%d\\)", kept / 2))
  effect <- summarise_did(measure_did(panel))
  expect_identical(glance(effect)$clusters, as.integer(kept / 2))
  expect_match(paste(format(effect), collapse = " "), "Units count by the design \\(pairs")
  ports <- joined_panel(data, pairs, cluster = "port")
  expect_match(paste(format(ports), collapse = " "), "who is paired with whom is not used")
  both <- compare_effects(pairs = effect, weights = summarise_did(measure_did(joined_panel(data, weigh_units(study, "entropy")))))
  expect_true(is.finite(glance(both)$p.value[1L]))
  expect_identical(glance(measure_did(joined_panel(data, weigh_units(score_units(
    frame_study(study$data, "treated", "change", covariates = ~ size, id = "crew", estimand = "ATO")
  )))))$estimand, "ATO")
})

test_that("the bootstrap makes a carried design anew on each draw", {
  data <- joining_crews(150, seed = 9)
  makers <- list(entropy = function(study) weigh_units(study, "entropy"),
                 inverse = function(study) weigh_units(trim_units(score_units(study), "range", bounds = c(0.05, 0.9))),
                 pairs = function(study) pair_units(score_units(study), caliper = 0.3))
  for (name in names(makers)) {
    panel <- joined_panel(data, makers[[name]](change_study(data, 3, 4)))
    drawn <- summarise_did(measure_did(panel, inference = "bootstrap", draws = 120, seed = 3, interval = "normal"))
    k <- 7
    clusters <- drawn_panel_clusters(panel, TRUE)
    again <- do.call(rbind, lapply(rep(seq_len(150), clusters$counts(k, 3)[clusters$unit]), function(j) {
      data[data$crew == panel$unit_labels[j], ]
    }))
    again$crew <- sprintf("copy %03d", (seq_len(nrow(again)) - 1L) %/% 6L)
    by_hand <- suppressWarnings(joined_panel(again, makers[[name]](change_study(again, 3, 4))))
    cells <- tidy(measure_did(by_hand))$estimate
    expect_equal(drawn$draws$estimates[k, ], cells, tolerance = 1e-6, label = name)
    ratio <- one_number(drawn)$std.error / one_number(summarise_did(measure_did(panel)))$std.error
    expect_gt(ratio, 0.75)
    expect_lt(ratio, 1.35)
    text <- gsub("\\s+", " ", paste(format(drawn), collapse = " "))
    expect_match(text, "draws of crew (150), one fewer than there are (seed 3), normal intervals, the design made anew on each",
                 fixed = TRUE)
    expect_no_match(text, "taken as given|is part of the errors")
  }
  given <- measure_did(joined_panel(data, given_of(makers$entropy(change_study(data, 3, 4)))), inference = "bootstrap",
                       draws = 99)
  expect_match(given$inference, "the design made anew on each, the weights as given", fixed = TRUE)
})

test_that("designs by cohort are made anew together, and clusters are drawn whole", {
  data <- joining_crews(240, seed = 2, staggered = TRUE)
  panel <- joined_panel(data, covariates = "size")
  designs <- lapply(c("3" = "3", "5" = "5"), function(cohort) {
    weigh_units(change_study(data, as.integer(cohort) - 1L, 5, cohort = cohort, comparison = "not_yet", panel = panel),
                "entropy")
  })
  carried <- joined_panel(data, designs)
  drawn <- measure_did(carried, inference = "bootstrap", draws = 120, interval = "normal")
  ratio <- tidy(drawn)$std.error / tidy(measure_did(carried))$std.error
  expect_true(all(abs(log(ratio[!is.na(ratio)])) < 0.35))
  expect_match(drawn$inference, "the designs made anew on each", fixed = TRUE)
  # bounds on drifts: the same from either base, and without drift the path's own mean
  bounds <- probe_trends(measure_did(carried), m = c(0, 1), interval = "direct")
  expect_equal(tidy(bounds), tidy(probe_trends(measure_did(carried, base = "fixed"), m = c(0, 1), interval = "direct")))
  path <- summarise_did(measure_did(carried, base = "fixed"), "event")
  after <- which(tidy(path)$event_time >= 0)
  se <- sqrt(mean(vcov(path)[after, after]))
  expect_equal(tidy(bounds)$estimate, rep(mean(coef(path)[after]), 2))
  expect_equal((tidy(bounds)$conf.high - tidy(bounds)$conf.low)[1] / 2 / se, qt(0.975, 200), tolerance = 0.02)
  expect_gt(diff(tidy(bounds)$conf.high), 0)
  ports <- joined_panel(data, designs, cluster = "port")
  counts <- length(unique(data$port))
  by_port <- suppressWarnings(measure_did(ports, inference = "bootstrap", draws = 99))
  expect_match(by_port$inference, sprintf("draws of port (%d), one fewer than there are", counts), fixed = TRUE)
})

test_that("power is told from comparison units alone and agrees with the error that comes", {
  data <- joining_crews(400, seed = 5, effect = 0)
  panel <- joined_panel(data)
  found <- assess_power(panel)
  expect_false("open" %in% as.data.frame(logbook(panel))$verb)
  hidden <- data
  hidden$income[hidden$year >= hidden$first] <- 99
  expect_equal(tidy(assess_power(joined_panel(hidden))), tidy(found))
  expect_equal(tidy(found)$std.error[1L], one_number(summarise_did(measure_did(panel)))$std.error, tolerance = 0.08)
  weighed <- joined_panel(data, weigh_units(score_units(change_study(data, 3, 4))))
  expect_equal(tidy(assess_power(weighed))$std.error[1L], one_number(summarise_did(measure_did(weighed)))$std.error,
               tolerance = 0.12)
  expect_match(paste(format(found), collapse = " "), "the treated were not looked at")
  ports <- joined_panel(transform(data, income = income + as.integer(factor(port)) * year / 10), cluster = "port")
  expect_equal(tidy(assess_power(ports))$std.error[1L], one_number(summarise_did(measure_did(ports)))$std.error,
               tolerance = 0.35)
  expect_error(assess_power(panel, sd = 1, pairing = 0.5), "`sd` and `pairing` do not belong", class = "twin_error_input")
})

test_that("balance of a panel without a design is that of its covariates just before treatment", {
  data <- joining_crews(120, staggered = TRUE)
  data$size <- data$size + data$year
  panel <- joined_panel(data, covariates = "size")
  rows <- tidy(assess_balance(panel))
  at <- function(cohort, year) mean(data$size[data$first == cohort & data$year == year])
  expect_equal(rows$mean_treated[rows$group %in% "3"], at(3, 2))
  expect_equal(rows$mean_control[rows$group %in% "5"], at(Inf, 4))
  expect_error(assess_balance(panel, by = "port"), "told by cohort", class = "twin_error_input")
  expect_error(assess_balance(joined_panel(data)), "neither covariates nor a design", class = "twin_error_input")
})

test_that("designs that don't fit are refused with the way out", {
  data <- joining_crews(120)
  study <- change_study(data, 3, 4)
  design <- weigh_units(study, "entropy")
  refused <- function(code, words, class = "twin_error_input") expect_error(code, words, class = class)
  refused(joined_panel(data, study), "It is a study: its units have no weights")
  refused(joined_panel(data, score_units(study)), "nothing to carry")
  refused(joined_panel(data, 3), "must be a design")
  refused(joined_panel(data[data$crew != "crew 001", ], design), "Not in the panel: 1 of 120")
  refused(joined_panel(data, list(design)), "none for \"4\"")
  refused(joined_panel(data, list(`4` = design, `9` = design)), "\"9\" is no treated cohort")
  unnamed <- frame_study(study$data[-1L], "treated", "change", covariates = ~ size)
  refused(joined_panel(data, weigh_units(unnamed, "entropy")), "no column \"crew\"")
  twice <- frame_study(rbind(study$data, study$data[1L, ]), "treated", "change", covariates = ~ size)
  refused(joined_panel(data, weigh_units(twice, "entropy")), "1 has several: \"crew 001\"")
  turned <- frame_study(transform(study$data, treated = !treated), "treated", "change", covariates = ~ size)
  refused(joined_panel(data, weigh_units(turned, "entropy")), "takes as treated must be of a treated cohort")
  refused(joined_panel(transform(data, s = 2), design, weight = "s"), "made without one")
  panel <- joined_panel(data, design)
  refused(measure_did(panel, inference = "randomization"), "does not know that the weights", "twin_error_unsupported")
  reusing <- joined_panel(data, pair_units(score_units(study), replacement = TRUE))
  refused(measure_did(reusing, inference = "bootstrap"), "wrong for matching with replacement", "twin_error_unsupported")
  refused(measure_did(panel, estimator = "two_way", small_sample = "CR2"), "small_sample = \"CR2\"",
          "twin_error_unsupported")
  refused(baseline_rows(panel, periods = 4), "\"4\" does not")
  refused(baseline_rows(panel, cohort = "7"), "must be the label of a treated cohort")
  cross <- frame_panel(landings, outcome = "catch_value", time = "quarter", group = "harbour", treatment = "cold_store")
  refused(baseline_rows(cross), "seen once", "twin_error_unsupported")
  later <- joining_crews(200, staggered = TRUE)
  panel <- joined_panel(later, covariates = "size")
  designs <- lapply(c("3" = "3", "5" = "5"), function(cohort) {
    weigh_units(change_study(later, 2, 4, cohort = cohort, comparison = "not_yet", panel = panel), "entropy")
  })
  carried <- joined_panel(later, designs)
  refused(measure_did(carried, comparison = "never"), "treated later, too")
  refused(measure_did(carried, estimator = "imputation"), "one regression has one weight per unit",
          "twin_error_unsupported")
  refused(plot(carried, view = "means"), "comparison units of its own", "twin_error_unsupported")
  refused(baseline_rows(panel, comparison = "not_yet"), "Name one `cohort`")
})
