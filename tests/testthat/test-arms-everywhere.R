# What two arms have, several have too: weights, strata, cells, pairs, sets, judging, estimators, probes.

gears <- c("lines", "nets", "pots")

differences <- function(effects) tidy(effects)[tidy(effects)$term == "difference", ]

test_that("influence of entropy weights and cells is the derivative in the sampling weight, of units of every arm", {
  data <- three_gears(240)
  data$tall <- data$boat > 0
  makers <- list(
    entropy = function(arms) weigh_units(arms, "entropy"),
    cells = function(arms) group_units(arms, "exact", covariates = c("port", "tall"))
  )
  for (estimand in c("ATE", "ATT", "ATC")) {
    for (name in names(makers)) {
      make <- function(data) {
        arms <- frame_arms(data, "gear", "income", c("boat", "tall", "port"), reference = "lines", estimand = estimand,
                           weight = "s")
        suppressWarnings(measure_effect(makers[[name]](arms)))[["nets vs lines"]]
      }
      effect <- make(data)
      units <- c(match(gears, data$gear), 77)
      expected <- vapply(units, function(i) influence_by_weight(data, i, function(data) difference_of(make(data))), 0)
      expect_equal(effect$influence[units, "difference"], expected, tolerance = 1e-4, label = paste(estimand, name))
    }
  }
})

test_that("where one factor is all there is, every way gives the same answer and the same standard error", {
  data <- three_gears(600)
  for (estimand in c("ATE", "ATT", "ATC")) {
    arms <- frame_arms(data, "gear", "income", "port", reference = "lines", estimand = estimand)
    scored <- score_units(arms)
    shares <- table(data$gear, data$port)
    target <- switch(estimand, ATE = colSums(shares), ATT = shares["nets", ], ATC = shares["lines", ])
    means <- tapply(data$income, list(data$gear, data$port), mean)
    by_hand <- sum((means["nets", ] - means["lines", ]) * target / sum(target))
    ways <- list(
      measure_effect(weigh_units(scored)), measure_effect(weigh_units(arms, "entropy")),
      measure_effect(group_units(arms, "exact")), measure_effect(arms, estimator = "regression"),
      measure_effect(scored, estimator = "augmented"), measure_effect(scored, estimator = "targeted")
    )
    rows <- lapply(ways, function(way) differences(way)[differences(way)$contrast == "nets vs lines", ])
    for (row in rows) expect_equal(row$estimate, by_hand, tolerance = 1e-6, label = estimand)
    se <- vapply(rows, `[[`, 0, "std.error")
    expect_equal(se[-3], rep(se[1], 5), tolerance = 1e-4, label = estimand)
    expect_equal(se[3], se[1], tolerance = 0.02)  # small cells take a little more
  }
})

test_that("pairs, full sets and strata within a contrast are those of a study of these two arms", {
  data <- three_gears(300)
  for (estimand in c("ATT", "ATC")) {
    scored <- score_units(arms_of(data, estimand = estimand))
    two <- frame_study(data[data$gear != "pots", ], "gear", "income", c("boat", "past", "port"), treated = "nets",
                       estimand = estimand) |> score_units()
    check <- function(make) {
      several <- measure_effect(make(scored))[["nets vs lines"]]
      alone <- measure_effect(make(two))
      expect_equal(coef(several), coef(alone))
      expect_equal(vcov(several), vcov(alone))
    }
    check(function(x) pair_units(x, caliper = 0.3))
    check(function(x) pair_units(x, ratio = 2, replacement = TRUE))
    check(function(x) group_units(x, "full"))
    check(function(x) stratify_units(x, 4))
  }
})

test_that("strata of everybody are cut by each arm's chance, and stand for all of the stratum", {
  data <- three_gears(500)
  scored <- score_units(arms_of(data, weight = "s"))
  stratified <- stratify_units(scored, 4)
  for (name in c("nets", "pots")) {
    e <- scored$score$fitted[, match(name, gears)]
    breaks <- core_weighted_quantiles(e, data$s, 1:3 / 4)
    stratum <- findInterval(e, breaks, left.open = TRUE)
    own <- data$gear == name
    weight <- ifelse(own, (tapply(data$s, stratum, sum) / tapply(data$s * own, stratum, sum))[stratum + 1], 0)
    expect_equal(weights(contrasts_of(stratified)[[name]])[own], weight[own], ignore_attr = TRUE)
  }
  sums <- vapply(gears[-1], function(name) {
    design <- contrasts_of(stratified)[[name]]
    sum((design$weight * data$s)[data$gear == "lines"])
  }, 0)
  expect_equal(unname(sums), rep(sum(data$s), 2))
  expect_error(stratify_units(scored, 4, breaks_on = "treated"), "no use", class = "twin_error_input")
  expect_error(stratify_units(score_units(arms_of(data[1:60, ])), 40), "Every stratum must hold",
               class = "twin_error_input")
})

test_that("cells hold every arm, and who falls out is said", {
  data <- three_gears(200)
  data$corner <- ifelse(seq_len(200) <= 6 & data$gear != "pots", "far", "near")
  arms <- frame_arms(data, "gear", "income", c("corner", "port"), reference = "lines", estimand = "ATE")
  grouped <- group_units(arms, "exact")
  inside <- data$corner == "near"
  design <- contrasts_of(grouped)$nets
  expect_identical(which(weights(design) > 0), which(inside & data$gear != "pots"))
  cells <- table(data$port[inside])
  own <- inside & data$gear == "nets"
  expect_equal(weights(design)[own], as.vector((cells / table(data$port[own]))[data$port[own]]))
  effects <- measure_effect(grouped)
  expect_match(paste(format(effects), collapse = " "),
               sprintf("those in cells that all arms share \\(%d of 200 units\\)", sum(inside)))
  expect_identical(sort(tidy(design, part = "unmatched")$row), which(!inside & data$gear != "pots"))
  none <- transform(data, gear = rep(gears, length.out = 200), corner = rep(c("a", "b", "c"), length.out = 200))
  expect_error(group_units(frame_arms(none, "gear", "income", "corner", reference = "lines"), "exact"),
               "No cell holds units of all 3 arms", class = "twin_error_input")
})

test_that("trimming keeps the units whose chances every arm reaches, by each rule", {
  data <- three_gears(400)
  scored <- score_units(arms_of(data))
  e <- scored$score$fitted
  ends <- function(f) sapply(1:3, function(j) tapply(e[, j], data$gear, f))
  reach <- function(low, high) colSums(t(e) >= low & t(e) <= high) == 3
  common <- trim_units(scored, "common_support")
  expect_identical(common$kept, reach(apply(ends(min), 2, max), apply(ends(max), 2, min)))
  low <- ends(function(x) core_weighted_quantiles(x, rep(1, length(x)), 0.05))
  high <- ends(function(x) core_weighted_quantiles(x, rep(1, length(x)), 0.95))
  expect_identical(trim_units(scored, "quantile", 0.05)$kept, reach(apply(low, 2, max), apply(high, 2, min)))
  expect_identical(trim_units(scored, "range", c(0.1, 0.8))$kept, reach(rep(0.1, 3), rep(0.8, 3)))
  skewed <- scored
  skewed$score$fitted[1:8, ] <- matrix(c(0.002, 0.499, 0.499), 8, 3, byrow = TRUE)
  g <- rowSums(1 / skewed$score$fitted)
  kept <- trim_units(skewed, "least_variance")$kept
  solves <- Filter(function(cut) cut <= 2 * mean(g[g <= cut]) && min(g[g > cut]) > 2 * mean(g[g <= cut]), unique(g))
  bound <- vapply(solves, function(cut) sum(g[g <= cut]) / sum(g <= cut)^2, 0)
  expect_identical(kept, g <= solves[which.min(bound)])
  expect_true(all(!kept[1:8]))
  rows <- tidy(common, part = "trimming")
  expect_identical(rows$fallen, as.vector(table(data$gear[!common$kept])[rows$arm]))
  again <- trim_units(scored, "common_support", rescore = TRUE)
  alone <- score_units(arms_of(data[common$kept, ]))
  expect_equal(tidy(again)$estimate, tidy(alone)$estimate, tolerance = 1e-8)
  weighted <- measure_effect(weigh_units(again))
  expect_equal(differences(weighted)$estimate, differences(measure_effect(weigh_units(alone)))$estimate)
  expect_match(paste(format(weighted), collapse = " "), "could have been in any arm")
  for (estimator in c("augmented", "targeted")) {
    expect_equal(differences(measure_effect(again, estimator = estimator))$estimate,
                 differences(measure_effect(alone, estimator = estimator))$estimate, label = estimator)
    expect_equal(differences(measure_effect(again, estimator = estimator))$std.error,
                 differences(measure_effect(alone, estimator = estimator))$std.error, tolerance = 1e-3, label = estimator)
  }
  crossed <- measure_effect(again, estimator = "crossfit", learners = "logit", folds = 2, repeats = 1)
  expect_identical(nobs(crossed), sum(common$kept))
  expect_match(paste(format(crossed), collapse = " "), "could have been in any arm")
  expect_lt(max(abs(differences(crossed)$estimate - differences(measure_effect(alone, estimator = "augmented"))$estimate)), 0.4)
  twice <- trim_units(trim_units(scored, "range", c(0.05, 0.9)), "common_support")
  expect_match(tail(contrasts_of(weigh_units(twice))$nets$note, 1), sprintf("%d of", sum(twice$kept)))
  expect_error(trim_units(scored, "range", c(0.45, 0.55)), "at least 2 units in each arm", class = "twin_error_input")
  expect_error(trim_units(arms_of(data)), "needs a score", class = "twin_error_input")
  paired <- pair_units(trim_units(score_units(arms_of(data, estimand = "ATT")), "common_support"))
  inside <- contrasts_of(paired)$nets
  expect_true(all(common$kept[weights(inside) > 0]))
  expect_error(measure_effect(contrasts_of(paired)$nets, inference = "bootstrap"), "all of them at once",
               class = "twin_error_unsupported")
})

test_that("entries of the treatment that mean not known make no arm, and codes have labels", {
  coded <- transform(cures, cure = match(cure, c("fresh", "salted", "smoked")))
  coded$cure[1:9] <- 9
  framed <- function(data, ...) {
    suppressWarnings(frame_arms(data, "cure", "price", covariates = c("boat_length", "crew_size"), ...))
  }
  labels <- c("1" = "fresh", "2" = "salted", "3" = "smoked")
  own <- framed(cures[-(1:9), ], reference = "fresh")
  expect_warning(frame_arms(coded, "cure", "price", covariates = "boat_length", reference = 1, unknown = 9), "9 rows are left out",
                 class = "twin_warning_dropped")
  numbers <- framed(coded, reference = 1, unknown = 9)
  expect_identical(numbers$levels, c("1", "2", "3"))
  named <- framed(coded, reference = "fresh", unknown = 9, categories = list(cure = labels, crew_size = NULL))
  expect_identical(named$levels, own$levels)
  expect_identical(named$arm, own$arm)
  expect_identical(numbers$arm, own$arm)
  expect_identical(named$base$columns$crew_size$kind, "factor")
  expect_identical(framed(coded, reference = "1", unknown = 9, categories = "cure")$arm, own$arm)
  expect_error(framed(coded, reference = "fresh", categories = list(cure = labels)), "lack \"9\"", class = "twin_error_input")
  expect_equal(difference_of(measure_effect(contrasts_of(named)[[1L]])), difference_of(measure_effect(contrasts_of(own)[[1L]])))
})

test_that("chances by learners add up to 1, and are taken as known", {
  data <- three_gears(300)
  shares <- table(data$gear) / 300
  share <- list(fit = function(x, z, weight) weighted.mean(z, weight), predict = function(model, x) rep(model, nrow(x)))
  learnt <- suppressWarnings(score_units(arms_of(data), learners = list(share = share), folds = 3,
                                         prediction = "refitted"))
  expect_equal(learnt$score$fitted[1, ], as.vector(shares))
  raw <- differences(suppressWarnings(measure_effect(arms_of(data))))$estimate
  expect_warning(effects <- measure_effect(weigh_units(learnt)), class = "twin_warning_known_score")
  expect_equal(differences(effects)$estimate, raw)
  expect_match(format(effects), "taking the score as given", all = FALSE)
  expect_identical(unique(tidy(learnt, part = "learners")$arm), gears)
  logit <- score_units(arms_of(data, estimand = "ATT"), learners = "logit", folds = 4, seed = 3)
  expect_equal(rowSums(logit$score$fitted), rep(1, 300))
  pair <- contrasts_of(pair_units(logit))$nets
  e <- logit$score$fitted[data$gear != "pots", ]
  expect_equal(pair$score$fitted, e[, 2] / (e[, 1] + e[, 2]))
  expect_error(score_units(arms_of(data), folds = 3), "no use", class = "twin_error_input")
  expect_error(tidy(score_units(arms_of(data)), part = "learners"), "not by learners", class = "twin_error_input")
})

test_that("balance names the two arms that lie furthest apart", {
  data <- three_gears(300)
  weighted <- weigh_units(score_units(arms_of(data)))
  balance <- assess_balance(weighted)
  w <- 1 / weighted$score$fitted[cbind(1:300, match(data$gear, gears))]
  mean_of <- function(gear, w) weighted.mean(data$boat[data$gear == gear], w[data$gear == gear])
  sd_of <- function(a, b) sqrt((var(data$boat[data$gear == a]) + var(data$boat[data$gear == b])) / 2)
  by_hand <- function(a, b, w) (mean_of(a, w) - mean_of(b, w)) / sd_of(a, b)
  rows <- tidy(balance)
  boat <- rows[rows$covariate == "boat", ]
  for (k in seq_len(nrow(boat))) {
    weight <- if (boat$sample[k] == "before") rep(1, 300) else w
    expect_equal(boat$smd[k], by_hand(boat$first[k], boat$second[k], weight))
  }
  expect_identical(nrow(boat), 6L)
  worst <- tidy(balance, part = "worst")
  expect_equal(abs(worst$smd[worst$covariate == "boat" & worst$sample == "after"]),
               max(abs(boat$smd[boat$sample == "after"])))
  numbers <- glance(balance)
  expect_equal(numbers$worst_smd, max(abs(rows$smd[rows$sample == "after"])))
  expect_match(paste(format(balance), collapse = " "), "Of every two arms")
  expect_lte(max(nchar(format(balance))), 80)
  treated <- assess_balance(weigh_units(score_units(arms_of(data, estimand = "ATT"))))
  expect_identical(unique(tidy(treated)$second), "lines")
  expect_match(paste(format(treated), collapse = " "), "each comparison is about other units")
  reference <- tidy(assess_balance(weigh_units(score_units(arms_of(data, estimand = "ATC")))))
  boat <- reference[reference$covariate == "boat" & reference$sample == "before" & reference$second == "nets", ]
  expect_equal(boat$smd, (mean_of("pots", rep(1, 300)) - mean_of("nets", rep(1, 300))) / sd(data$boat[data$gear == "lines"]))
  expect_error(assess_balance(weighted, by = "port"), "no use", class = "twin_error_input")
  expect_error(assess_balance(weighted, reference = "all"), "not the same sd", class = "twin_error_unsupported")
  expect_s3_class(plot(balance), "ggplot")
  given <- tidy(assess_balance(weighted, reference = c(boat = 2)))
  own <- given[given$covariate == "boat" & given$first == "pots" & given$second == "nets" & given$sample == "before", ]
  expect_equal(own$smd, (mean_of("pots", rep(1, 300)) - mean_of("nets", rep(1, 300))) / 2)
})

test_that("overlap counts who stands where some arm is never found", {
  data <- three_gears(300)
  scored <- score_units(arms_of(data))
  overlap <- assess_overlap(scored)
  expect_identical(which(overlap$outside), which(!trim_units(scored, "common_support")$kept))
  row <- tidy(overlap)[2, ]
  own <- scored$score$fitted[data$gear == "nets", 1]
  expect_identical(c(row$chance_of, row$arm), c("lines", "nets"))
  expect_equal(c(row$min, row$max, row$n), c(range(own), length(own)))
  expect_equal(tidy(overlap, part = "support")$low[1], max(tapply(scored$score$fitted[, 1], data$gear, min)))
  expect_lte(max(nchar(format(overlap))), 80)
  expect_s3_class(plot(overlap), "ggplot")
  expect_error(assess_overlap(arms_of(data)), "needs a score", class = "twin_error_input")
})

test_that("cross-fitting and double selection speak of everybody, and of each arm alike in every contrast", {
  data <- three_gears(400)
  arms <- arms_of(data)
  crossed <- measure_effect(arms, estimator = "crossfit", learners = "logit", folds = 4, repeats = 1, seed = 2)
  selected <- measure_effect(arms, estimator = "selection", seed = 2)
  augmented <- measure_effect(score_units(arms), estimator = "augmented")
  for (effects in list(crossed, selected)) {
    reference <- vapply(effects$effects, function(effect) effect$estimate[["mean_control"]], 0)
    expect_equal(reference[[1]], reference[[2]])
    expect_lt(max(abs(differences(effects)$estimate - differences(augmented)$estimate)), 0.25)
    expect_lt(max(abs(differences(effects)$std.error / differences(augmented)$std.error - 1)), 0.2)
  }
  z <- as.integer(data$gear == "nets")
  alone <- frame_study(transform(data, z = z), "z", "income", c("boat", "past", "port"), treated = 1, estimand = "ATE") |>
    measure_effect(estimator = "crossfit", learners = "logit", folds = 4, repeats = 1, seed = 2)
  expect_equal(coef(crossed[["nets vs lines"]])[["mean_treated"]], coef(alone)[["mean_treated"]])
  expect_error(measure_effect(arms_of(data, estimand = "ATO"), estimator = "crossfit", learners = "logit"),
               "can't answer the ATO", class = "twin_error_unsupported")
  model <- lm(income ~ gear * (boat + past + port), data)
  predicted <- sapply(gears, function(one) mean(predict(model, transform(data, gear = one))))
  expect_equal(differences(measure_effect(arms, estimator = "regression"))$estimate,
               unname(predicted[c("nets", "pots")] - predicted["lines"]))
})

test_that("draws of several arms make the whole design anew, with pairs too", {
  data <- three_gears(180)
  make <- function(data) suppressWarnings(pair_units(score_units(arms_of(data, estimand = "ATT"))))
  effects <- measure_effect(make(data), inference = "bootstrap", draws = 4, seed = 5)
  for (k in 1:2) {
    drawn <- data[rep(1:180, core_draw_counts(180, k, 5)), ]
    by_hand <- differences(measure_effect(make(drawn)))$estimate
    at <- vapply(effects$effects, function(effect) effect$draws[k, "difference"], 0)
    expect_equal(unname(at), by_hand)
  }
  weighted <- weigh_units(arms_of(data, weight = "s"), "entropy")
  effects <- measure_effect(weighted, inference = "bootstrap", draws = 3, seed = 5)
  drawn <- transform(data, s = s * core_draw_counts(180, 2, 5))
  expect_equal(vapply(effects$effects, function(effect) effect$draws[2, "difference"], 0),
               differences(measure_effect(weigh_units(arms_of(drawn, weight = "s"), "entropy")))$estimate,
               ignore_attr = TRUE, tolerance = 1e-6)
  expect_error(measure_effect(pair_units(score_units(arms_of(data, estimand = "ATT")), replacement = TRUE),
                              inference = "bootstrap"), "wrong for nearest-neighbour", class = "twin_error_unsupported")
})

test_that("hazards, weights and probes work on each contrast", {
  data <- three_gears(240)
  data$days <- withr::with_seed(1, rexp(240, exp(0.2 * data$boat)))
  data$seen <- rep(c(1, 1, 0), 80)
  arms <- frame_arms(data, "gear", c("days", "seen", "income"), c("boat", "past"), reference = "lines", estimand = "ATE")
  weighted <- weigh_units(score_units(arms))
  hazards <- measure_hazard(weighted, "days", "seen")
  expect_identical(names(hazards), c("nets vs lines", "pots vs lines"))
  expect_equal(tidy(hazards[[2]]), tidy(measure_hazard(contrasts_of(weighted)$pots, "days", "seen")))
  expect_identical(unique(tidy(hazards)$of), names(hazards))
  expect_match(format(hazards), "== pots vs lines", all = FALSE)
  expect_match(paste(format(compare_effects(!!!parts_of(hazards), term = "hazard_ratio")), collapse = " "),
               "Are the 2 effects, of different arms, the same\\?")
  expect_equal(tidy(assess_weights(weighted)[["nets vs lines"]]), tidy(assess_weights(contrasts_of(weighted)$nets)))
  expect_match(plot(assess_weights(weighted), 2)$labels$caption, "pots vs lines, one of 2 contrasts", fixed = TRUE)
  effects <- measure_effect(weighted, "income")
  ratios <- probe_ratio(effects)
  expect_equal(glance(ratios)[2, -1], glance(probe_ratio(effects[[2]])), ignore_attr = TRUE)
  expect_error(probe_pairs(effects), "In nets vs lines", class = "twin_error_input")
  expect_error(hazards[["rods"]], "no effect", class = "twin_error_input")
})

test_that("bounds under weights of several arms are those of all their odds moved", {
  data <- three_gears(90)
  effect <- measure_effect(weigh_units(score_units(arms_of(data))))[["nets vs lines"]]
  expect_warning(probe <- probe_weights(effect, lambda = c(1, 2)), "no intervals", class = "twin_warning_draws")
  rows <- tidy(probe)
  expect_equal(c(rows$estimate_low[1], rows$estimate_high[1]), rep(difference_of(effect), 2))
  e <- score_units(arms_of(data))$score$fitted
  extreme <- function(j, high) {
    own <- data$gear == gears[j]
    y <- data$income[own]
    odds <- (1 - e[own, j]) / e[own, j]
    values <- vapply(sort(y), function(cut) {
      lift <- if (high) ifelse(y >= cut, 2, 0.5) else ifelse(y <= cut, 2, 0.5)
      weighted.mean(y, 1 + lift * odds)
    }, 0)
    if (high) max(values) else min(values)
  }
  expect_equal(rows$estimate_low[2], extreme(2, FALSE) - extreme(1, TRUE))
  expect_equal(rows$estimate_high[2], extreme(2, TRUE) - extreme(1, FALSE))
})

test_that("what cannot speak of everybody, or of any two, says so", {
  data <- three_gears(200)
  scored <- score_units(arms_of(data))
  expect_error(weigh_units(score_units(arms_of(data, estimand = "ATO")), "entropy"), "can't answer the ATO",
               class = "twin_error_unsupported")
  expect_error(pair_units(weigh_units(scored)), "already have", class = "twin_error_unsupported")
  far <- pair_units(score_units(arms_of(data, estimand = "ATC")), caliper = 0.05)
  effects <- measure_effect(far)
  expect_error(tidy(effects, part = "arms"), "found a partner", class = "twin_error_unsupported")
  expect_match(paste(format(effects), collapse = " "), "About whom: nets vs lines: the [0-9]+ of [0-9]+ control units")
  reused <- measure_effect(pair_units(score_units(arms_of(data, estimand = "ATT")), replacement = TRUE))
  expect_match(paste(format(reused), collapse = " "), "those in the arm compared \\(ATT\\)")
  expect_match(paste(format(reused), collapse = " "), "no joint test of the arms")
  beyond <- data
  beyond$boat[beyond$gear == "pots"] <- beyond$boat[beyond$gear == "pots"] + 50
  error <- expect_error(weigh_units(arms_of(beyond), "entropy"), "No weights of the", class = "twin_error_infeasible")
  expect_identical(error$moments[1], "boat")
})

test_that("imputed arms go through the same verbs, and what has no pooled form is given for each data set", {
  data <- three_gears(200)
  sets <- lapply(1:2, function(k) transform(data, past = past + ifelse(seq_len(200) <= 15, 0.1 * k, 0)))
  arms <- frame_arms(sets, "gear", "income", c("boat", "past"), reference = "lines", estimand = "ATE")
  scored <- score_units(arms)
  pooled <- measure_effect(weigh_units(scored))
  own <- vapply(1:2, function(k) differences(measure_effect(weigh_units(scored[[k]])))$estimate, numeric(2))
  expect_equal(differences(pooled)$estimate, rowMeans(own))
  expect_identical(sort(unique(tidy(assess_balance(weigh_units(scored)))$.imputation)), c("1", "2"))
  expect_identical(nrow(glance(assess_overlap(scored))), 2L)
  expect_equal(coef(measure_effect(stratify_units(scored, 3))[[1]])[["difference"]],
               mean(vapply(1:2, function(k) differences(measure_effect(stratify_units(scored[[k]], 3)))$estimate[1], 0)))
})

test_that("weights, pairs and data of arms can be taken elsewhere, contrast by contrast", {
  data <- three_gears(300)
  data$.row_of_mine <- seq_len(300)
  arms <- arms_of(data, weight = "s")
  weighted <- weigh_units(score_units(arms))
  all <- weights(weighted)
  expect_identical(colnames(all), c("nets vs lines", "pots vs lines"))
  chance <- weighted$score$fitted
  own <- data$gear == "nets"
  scaled <- all[own, "nets vs lines"] * chance[own, 2]
  expect_equal(scaled, rep(scaled[[1]], sum(own)))
  expect_true(all(all[data$gear == "pots", "nets vs lines"] == 0))
  full <- weights(weighted, full = TRUE)
  expect_equal(full, all * data$s)
  rows <- design_data(weighted)
  expect_identical(rows$.contrast, rep(colnames(all), each = 300))
  expect_identical(rows$.row_of_mine, rep(1:300, 2))
  expect_equal(rows$.weight, as.vector(all))
  one <- rows[rows$.contrast == "nets vs lines" & rows$.weight > 0, ]
  fit <- lm(income ~ gear, one, weights = .weight * s)
  expect_equal(unname(coef(fit)[2]), differences(measure_effect(weighted))$estimate[1])
  expect_null(design_data(weighted, outcome = FALSE)$income)
  paired <- pairs_of(pair_units(score_units(arms), replacement = TRUE))
  expect_identical(unique(paired$.contrast), colnames(all))
  expect_true(all(data$gear[paired$partner] == paired$arm))
  error <- expect_error(pairs_of(weighted), "no pairs", class = "twin_error_input")
  expect_identical(deparse(error$call[[1]]), "pairs_of")
  for (ask in list(weights, pairs_of, design_data)) {
    expect_error(ask(score_units(arms)), "a score but no weights, strata, pairs or sets yet.*weigh_units",
                 class = "twin_error_input")
  }
  sets <- lapply(1:2, function(k) transform(data, past = past + ifelse(seq_len(300) <= 15, 0.1 * k, 0)))
  arms <- frame_arms(sets, "gear", "income", c("boat", "past"), reference = "lines", estimand = "ATE")
  imputed <- weigh_units(score_units(arms))
  expect_identical(dim(weights(imputed)), c(300L, 2L, 2L))
  expect_equal(weights(imputed)[, , 2], weights(imputed[[2]]), ignore_attr = TRUE)
  expect_identical(dim(design_data(imputed))[1], 1200L)
})

test_that("reports, methods paragraphs, checklists and tables tell of arms", {
  few <- cures[1:500, ]
  arms <- frame_arms(few, "cure", c("price", "days", "gone"), c("boat_length", "past_price"), reference = "fresh", estimand = "ATE")
  weighted <- weigh_units(score_units(arms))
  effects <- measure_effect(weighted, "price")
  words <- paste(as.character(methods_text(list(arms, weighted, effects))), collapse = " ")
  expect_match(words, "what each of salted and smoked \\(cure\\) rather than \"fresh\" did to")
  expect_match(words, sprintf("fresh %d, salted %d and smoked %d", sum(few$cure == "fresh"), sum(few$cure == "salted"),
                              sum(few$cure == "smoked")))
  row <- differences(effects)[1, ]
  expect_match(words, sprintf("salted vs fresh %s, 95%% interval", number_text(row$estimate)), fixed = TRUE)
  expect_no_match(words, "No effect was measured")
  expect_match(words, "by a multinomial logit of")
  rows <- as.data.frame(checklist(list(effects)))
  expect_match(rows$answer[grep("both arms occur", rows$question)], "where some arm is never found")
  file <- withr::local_tempfile(fileext = ".html")
  write_report(file, arms, designs = list(weights = weighted),
               effects = list(price = effects, survival = measure_hazard(weighted, "days", "gone")),
               probes = list(hidden = probe_ratio(effects)))
  text <- paste(readLines(file), collapse = " ")
  for (part in c("Balance of 3 arms", "Overlap of 3 arms", "hidden: smoked vs fresh", "survival: salted vs fresh",
                 "What did each of salted and smoked", "fresh [0-9]+, salted [0-9]+, smoked [0-9]+")) expect_match(text, part)
  table <- withr::local_tempfile(fileext = ".csv")
  export_table(assess_balance(weighted), table)
  expect_identical(nrow(read.csv(table)), nrow(tidy(assess_balance(weighted))))
  tex <- withr::local_tempfile(fileext = ".tex")
  export_table(assess_overlap(weighted), tex)
  expect_match(readLines(tex), "salted", all = FALSE)
  expect_true(all(c("imbens2000") %in% as.data.frame(references(effects))$key))
  expect_s3_class(summary(assess_balance(weighted)), "twin_summary")
})

test_that("with missing outcomes every contrast speaks of the same units, and any two are compared", {
  data <- three_gears(300)
  data$income[seq(3, 300, by = 11)] <- NA
  arms <- arms_of(data)
  known <- data[!is.na(data$income), ]
  model <- lm(income ~ gear * (boat + past + port), known)
  predicted <- sapply(gears, function(one) mean(predict(model, transform(known, gear = one))))
  regression <- measure_effect(arms, estimator = "regression")
  expect_equal(differences(regression)$estimate, unname(predicted[c("nets", "pots")] - predicted["lines"]))
  augmented <- measure_effect(score_units(arms), estimator = "augmented")
  reference <- vapply(augmented$effects, function(effect) effect$estimate[["mean_control"]], 0)
  expect_equal(reference[[1]], reference[[2]])
  rows <- tidy(augmented, part = "arms")
  own <- differences(augmented)$estimate
  expect_equal(rows$difference[3], own[2] - own[1])
  expect_match(paste(format(augmented), collapse = " "), "compares any two")
})
