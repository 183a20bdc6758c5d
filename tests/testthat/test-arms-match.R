# Matches of everybody among several arms: pairs in every arm, and sets of all arms.

gears <- c("lines", "nets", "pots")

differences <- function(effects) tidy(effects)[tidy(effects)$term == "difference", ]

# Of each unit its nearest of every arm, by plain loops: a list by arm of lists by unit. near: function(arm) giving n x p
# coordinates.
matches_by_loop <- function(arm, near, ratio = 1, width = Inf, allowed = function(i, j) TRUE) {
  lapply(seq_along(gears), function(j) {
    points <- as.matrix(near(j))
    lapply(seq_along(arm), function(i) {
      if (arm[i] == j) return(i)
      pool <- which(arm == j)
      pool <- pool[vapply(pool, function(k) allowed(i, k), NA)]
      distance <- sqrt(colSums((t(points[pool, , drop = FALSE]) - points[i, ])^2))
      pool <- pool[distance <= width]
      pool[order(distance[distance <= width])][seq_len(min(ratio, length(pool)))]
    })
  })
}

# Estimates of both contrasts and their covariance, by Methods' formula over all units and arms. gap: roots of the
# conditional variances.
answer_by_loop <- function(y, arm, matches, inside, gap) {
  total <- sum(inside)
  imputed <- matrix(0, length(y), 3)
  whole <- squares <- numeric(length(y))
  for (i in which(inside)) {
    for (j in 1:3) {
      found <- matches[[j]][[i]]
      imputed[i, j] <- mean(y[found])
      for (k in found) {
        whole[k] <- whole[k] + 1 / length(found)
        squares[k] <- squares[k] + 1 / length(found)^2
      }
    }
  }
  means <- colMeans(imputed[inside, ])
  away <- sweep(imputed[inside, ], 2, means)
  extra <- vapply(1:3, function(j) sum(((whole^2 - squares) * gap^2)[arm == j]), 0)
  vcov <- (crossprod(away) + diag(extra)) / total^2
  contrast <- rbind(c(-1, 1, 0), c(-1, 0, 1))
  list(difference = drop(contrast %*% means), vcov = contrast %*% vcov %*% t(contrast), weight = whole)
}

# J / (J + 1) (y - mean of the J nearest of the same arm)^2, as its root.
gaps_by_loop <- function(y, arm, near, count = 2) {
  vapply(seq_along(y), function(i) {
    points <- as.matrix(near(arm[i]))
    own <- setdiff(which(arm == arm[i]), i)
    distance <- sqrt(colSums((t(points[own, , drop = FALSE]) - points[i, ])^2))
    sqrt(count / (count + 1)) * (y[i] - mean(y[own[order(distance)[1:count]]]))
  }, 0)
}

test_that("pairs in every arm are the nearest by each arm's own chance; answer and covariance by plain loops", {
  data <- three_gears(150)
  arm <- match(data$gear, gears)
  scored <- score_units(arms_of(data))
  linear <- function(j) stats::qlogis(scored$score$fitted[, j])
  matches <- matches_by_loop(arm, linear, ratio = 2)
  expected <- answer_by_loop(data$income, arm, matches, rep(TRUE, 150), gaps_by_loop(data$income, arm, linear))
  paired <- suppressWarnings(pair_units(scored, replacement = TRUE, ratio = 2, caliper = Inf))
  nets <- contrasts_of(paired)$nets
  expect_equal(weights(nets)[data$gear != "pots"], expected$weight[data$gear != "pots"])
  listed <- pairs_of(nets)
  expect_setequal(paste(listed$unit, listed$partner)[listed$arm == "nets"],
                  unlist(lapply(which(arm != 2), function(i) paste(i, matches[[2]][[i]]))))
  effects <- measure_effect(paired)
  expect_equal(differences(effects)$estimate, expected$difference)
  # what the estimated score takes, by the same loop over pairs of neighbours
  terms <- rownames(scored$score$coefficients)[-(1:3)]
  x <- cbind(1, data$boat, data$past, sapply(sub("port: ", "", terms), function(level) data$port == level))
  e <- scored$score$fitted
  part <- function(m) {
    scores <- cbind(x * ((m == 2) - e[, 2]), x * ((m == 3) - e[, 3]))
    local <- t(vapply(seq_along(arm), function(i) {
      pool <- which(arm == m)
      two <- pool[order(abs(linear(m)[pool] - linear(m)[i]))[1:2]]
      (scores[two[1], ] - scores[two[2], ]) * diff(data$income[rev(two)]) / 2
    }, numeric(2 * ncol(x))))
    colMeans(local)
  }
  away <- part(2) - part(1)
  less <- drop(away %*% scored$score$covariance %*% away)
  expect_equal(differences(effects)$std.error[1]^2, expected$vcov[1, 1] - less)
  expect_match(effects[[1]]$inference, "with the estimated score accounted for")
})

test_that("contrasts of one matching have a joint covariance, with what repeated use adds to all of them", {
  data <- three_gears(150)
  arm <- match(data$gear, gears)
  arms <- frame_arms(data, "gear", "income", c("boat", "past"), reference = "lines", estimand = "ATE")
  root <- solve(chol(stats::cov(data[c("boat", "past")])))
  points <- as.matrix(data[c("boat", "past")]) %*% root
  near <- function(j) points
  expected <- answer_by_loop(data$income, arm, matches_by_loop(arm, near), rep(TRUE, 150),
                             gaps_by_loop(data$income, arm, near, 3))
  paired <- pair_units(arms, on = "mahalanobis", replacement = TRUE)
  effects <- measure_effect(paired, neighbours = 3)
  expect_equal(differences(effects)$estimate, expected$difference)
  at <- grep("difference", rownames(vcov(effects)))
  expect_equal(unname(diag(vcov(effects))[at]), diag(expected$vcov))
  expect_equal(unname(stats::cov2cor(vcov(effects)[at, at])[1, 2]), stats::cov2cor(expected$vcov)[1, 2], tolerance = 0.01)
  any <- tidy(effects, part = "arms")
  expect_equal(any$difference[any$first == "pots" & any$second == "nets"], diff(expected$difference))
  expect_match(format(effects), "Do the arms differ at all", all = FALSE)
  held <- measure_effect(paired, conditional = TRUE, neighbours = 3)
  expect_match(format(held), "no joint covariance", all = FALSE)
  gap <- gaps_by_loop(data$income, arm, near, 3)
  expect_equal(differences(held)$std.error[1]^2, sum(((expected$weight * gap)^2)[arm != 3]) / 150^2)
})

test_that("outcomes that are one in two units move together, on two arms as on several", {
  data <- three_gears(200)
  data$twice <- 5 - 2 * data$income
  two <- frame_study(data, "joined", c("income", "twice"), c("boat", "past"), estimand = "ATE")
  several <- frame_arms(data, "gear", c("income", "twice"), c("boat", "past"), reference = "lines", estimand = "ATE")
  for (x in list(two, several)) {
    paired <- pair_units(x, on = "diagonal", replacement = TRUE)
    effects <- measure_effect(paired, outcome = c("income", "twice"))
    joint <- stats::cov2cor(vcov(effects)[grep("difference", rownames(vcov(effects))), grep("difference", rownames(vcov(effects)))])
    first <- which(effects$labels$outcome == "income")[1]
    expect_equal(joint[first, first + 1], -1, tolerance = 1e-6)
    expect_s3_class(measure_effect(paired, outcome = c("income", "twice"), bands = TRUE), "twin_effects")
  }
})

test_that("a bias-corrected match moves each partner's outcome by its arm's regression", {
  data <- three_gears(150)
  arm <- match(data$gear, gears)
  arms <- arms_of(data)
  paired <- pair_units(arms, on = "diagonal", replacement = TRUE)
  nets <- contrasts_of(paired)$nets
  listed <- pairs_of(nets)
  corrected <- function(gear) {
    found <- listed[listed$arm == gear, ]
    times <- tabulate(found$partner, 150)
    fit <- stats::lm(income ~ boat + past + port, data[times > 0, ], weights = times[times > 0])
    own <- stats::predict(fit, data)
    imputed <- data$income
    imputed[found$unit] <- data$income[found$partner] + own[found$unit] - own[found$partner]
    mean(imputed)
  }
  effects <- measure_effect(paired, estimator = "regression")
  expect_equal(difference_of(effects[["nets vs lines"]]), corrected("nets") - corrected("lines"))
  for (way in c("all", "pooled")) {
    other <- measure_effect(paired, estimator = "regression", correction = way)
    expect_lt(abs(difference_of(other[[1]]) - difference_of(effects[[1]])), 0.3)
    expect_false(difference_of(other[[1]]) == difference_of(effects[[1]]))
  }
})

test_that("where one factor is all there is, matches with all their ties are the cells of everybody", {
  data <- three_gears(600)
  arms <- frame_arms(data, "gear", "income", "port", reference = "lines", estimand = "ATE")
  cells <- differences(measure_effect(group_units(arms, "exact")))
  tied <- differences(measure_effect(pair_units(arms, on = "mahalanobis", replacement = TRUE)))
  sets <- differences(measure_effect(group_units(arms, "full", on = "mahalanobis", exact = "port")))
  # a unit's own outcome stands for itself, so that cells are met in the limit only
  expect_lt(max(abs(tied$estimate - cells$estimate)), 0.5 * min(cells$std.error))
  expect_lt(max(abs(sets$estimate - cells$estimate)), 2 * max(cells$std.error))
  expect_lt(max(abs(tied$std.error / cells$std.error - 1)), 0.15)
})

test_that("who has no partner in some arm is out of every contrast, and is said to be", {
  data <- three_gears(200)
  arm <- match(data$gear, gears)
  scored <- score_units(arms_of(data))
  linear <- vapply(1:3, function(j) stats::qlogis(scored$score$fitted[, j]), numeric(200))
  width <- vapply(1:3, function(j) {
    own <- data$gear == gears[j]
    0.02 * sqrt((var(linear[own, j]) + var(linear[!own, j])) / 2)
  }, 0)
  reaches <- vapply(1:3, function(j) {
    vapply(1:200, function(i) arm[i] == j || any(abs(linear[arm == j, j] - linear[i, j]) <= width[j]), NA)
  }, logical(200))
  inside <- rowSums(reaches) == 3
  paired <- pair_units(scored, replacement = TRUE, caliper = 0.02)
  effects <- measure_effect(paired)
  expect_match(paste(format(effects), collapse = " "),
               sprintf("those with a partner in every arm \\(%d of 200 units\\)", sum(inside)))
  expect_setequal(pairs_of(contrasts_of(paired)$nets)$unit, c(which(inside & arm != 2), which(inside & arm == 2)))
  reference <- tidy(effects)$estimate[tidy(effects)$term == "mean_control"]
  expect_equal(reference[1], reference[2])
  out <- tidy(contrasts_of(paired)$nets, part = "unmatched")
  expect_true(all(out$reason == "nobody within the caliper"))
  expect_true(all(!inside[out$row]))
  port <- pair_units(scored, replacement = TRUE, exact = "port", caliper = Inf)
  found <- pairs_of(contrasts_of(port)$pots)
  expect_identical(data$port[found$unit], data$port[found$partner])
  data$berth <- rep(1:100, 2)
  apart <- pair_units(score_units(arms_of(data)), replacement = TRUE, apart = "berth", caliper = Inf)
  found <- pairs_of(contrasts_of(apart)$pots)
  expect_true(all(data$berth[found$unit] != data$berth[found$partner]))
})

test_that("units whose outcome is unknown leave with the matches that need them, of all contrasts alike", {
  data <- three_gears(150)
  arm <- match(data$gear, gears)
  data$income[c(3, 30, 77)] <- NA
  arms <- arms_of(data)
  paired <- pair_units(arms, on = "diagonal", replacement = TRUE, ratio = 2)
  effects <- suppressWarnings(measure_effect(paired))
  known <- !is.na(data$income)
  matches <- lapply(c("nets", "pots"), function(name) pairs_of(contrasts_of(paired)[[name]]))
  all <- unique(do.call(rbind, matches))
  all <- all[known[all$unit] & known[all$partner], ]
  inside <- which(known & vapply(1:150, function(i) length(unique(all$arm[all$unit == i])) == 2L, NA))
  mean_of <- function(gear) {
    mean(vapply(inside, function(i) {
      if (data$gear[i] == gear) data$income[i] else mean(data$income[all$partner[all$unit == i & all$arm == gear]])
    }, 0))
  }
  expect_equal(differences(effects)$estimate, c(mean_of("nets"), mean_of("pots")) - mean_of("lines"))
})

test_that("sets of all arms hold each of them, everybody is in one, and none is wider than four times what must be", {
  data <- three_gears(400)
  arm <- match(data$gear, gears)
  scored <- score_units(arms_of(data))
  sets <- group_units(scored, "full")
  nets <- contrasts_of(sets)$nets
  set <- nets$set
  expect_false(anyNA(set))
  counts <- table(set, data$gear)
  expect_true(all(counts > 0))
  logs <- log(scored$score$fitted)
  points <- logs - rowMeans(logs)
  distance <- as.matrix(stats::dist(points))
  needed <- max(vapply(1:400, function(i) max(vapply(1:3, function(j) min(distance[i, arm == j]), 0)), 0))
  within <- max(vapply(split(1:400, set), function(rows) max(distance[rows, rows]), 0))
  expect_lte(within, 4 * needed)
  own <- data$gear == "nets"
  expect_equal(weights(nets)[own], unname((rowSums(counts) / counts[, "nets"])[set[own]]), ignore_attr = TRUE)
  by_hand <- vapply(split(data, set), function(rows) {
    nrow(rows) * (mean(rows$income[rows$gear == "nets"]) - mean(rows$income[rows$gear == "lines"]))
  }, 0)
  expect_equal(difference_of(measure_effect(sets)[["nets vs lines"]]), sum(by_hand) / 400)
  table <- tidy(nets, part = "sets")
  expect_equal(table$of_other_arms, as.vector(counts[, "pots"]))
  expect_equal(table$weight_treated, as.vector(rowSums(counts)))
  expect_identical(design_data(nets)$.set, set)
  expect_match(format(nets), sprintf("%d sets that hold all 3 arms", nrow(table)), all = FALSE)
})

test_that("sets are begun by the closest who overlap with no earlier one", {
  row <- rbind(c(1, 3, 5), c(2, 3, 6), c(1, 3, 5), c(2, 4, 6), c(1, 3, 5), c(2, 4, 6), c(NA, 7, 5))
  distance <- rbind(c(0, 2, 1), c(0, 9, 1), c(3, 0, 1), c(1, 0, 2), c(1, 2, 0), c(4, 5, 0), c(0, 0, 9))
  # rows 1, 4 and 5 reach no further than 2; row 1 comes first and takes 1, 3, 5, row 4 takes 2, 4, 6
  expect_identical(core_arm_sets(row, distance), c(1L, 2L, 1L, 2L, 1L, 2L, NA))
  expect_identical(core_arm_sets(matrix(NA_integer_, 2, 2), matrix(0, 2, 2)), c(NA_integer_, NA_integer_))
})

test_that("the standard error of sets of all arms is that of units about their arms' fits", {
  data <- three_gears(300)
  arms <- frame_arms(data, "gear", "income", c("boat", "past"), reference = "lines", estimand = "ATE", cluster = "port")
  alone <- frame_arms(data, "gear", "income", c("boat", "past"), reference = "lines", estimand = "ATE")
  sets <- group_units(alone, "full", on = "mahalanobis")
  nets <- contrasts_of(sets)$nets
  w <- weights(nets)
  fit <- lapply(c(nets = "nets", lines = "lines"), function(gear) {
    inside <- data$gear == gear
    fitted <- stats::lm(income ~ boat + past, data[inside, ], weights = w[inside])
    list(all = stats::predict(fitted, data), mean = weighted.mean(data$income[inside], w[inside]),
         left = replace(numeric(300), inside, stats::resid(fitted) / (1 - stats::hatvalues(fitted))))
  })
  part <- function(gear) {
    (fit[[gear]]$all - fit[[gear]]$mean) + w * fit[[gear]]$left
  }
  own <- part("nets") - part("lines")
  effect <- measure_effect(sets)[["nets vs lines"]]
  expect_equal(unname(effect$influence[, "difference"]), own, ignore_attr = TRUE)
  used <- sum(data$gear != "pots")
  expect_equal(differences(measure_effect(sets))$std.error[1], sqrt(used / (used - 1) * sum(own^2)) / 300)
  expect_match(effect$inference, "taking the sets as given")
  few <- suppressWarnings(group_units(alone, "full", on = "mahalanobis", caliper = c(distance = 0.11)))
  own <- contrasts_of(few)$nets
  expect_lt(max(table(data$gear[weights(own) > 0])), 10)
  each <- suppressWarnings(measure_effect(few))
  part <- function(gear) {
    w <- weights(own)[data$gear == gear]
    y <- data$income[data$gear == gear]
    w * (y - weighted.mean(y, w)) / (1 - w / sum(w)) / sum(w)
  }
  m <- sum(weights(own) > 0)
  expect_equal(differences(each)$std.error[1], sqrt(m / (m - 1) * (sum(part("nets")^2) + sum(part("lines")^2))))
  scored <- measure_effect(group_units(score_units(alone), "full"))[[1]]
  expect_match(scored$inference, "with the estimated score accounted for, taking the sets as given")
  clustered <- suppressWarnings(measure_effect(group_units(arms, "full", on = "mahalanobis")))
  expect_match(clustered[[1]]$inference, "clustered by port \\(3\\)")
})

test_that("sets of all arms take draws, hazards, quantiles and regressions; matches what is known of them", {
  data <- three_gears(240)
  data$days <- stats::qexp(stats::pnorm(data$income, mean(data$income), stats::sd(data$income)))
  data$ended <- data$past > -1
  scored <- score_units(arms_of(data))
  sets <- group_units(scored, "full")
  drawn <- suppressWarnings(measure_effect(sets, inference = "bootstrap", draws = 60, seed = 1))
  plain <- measure_effect(sets)
  expect_equal(differences(drawn)$estimate, differences(plain)$estimate)
  expect_lt(max(abs(log(differences(drawn)$std.error / differences(plain)$std.error))), 0.5)
  expect_true(all(is.finite(tidy(measure_effect(sets, quantiles = 0.5))$std.error)))
  models <- differences(measure_effect(sets, estimator = "regression"))
  expect_lt(max(abs(models$estimate - differences(measure_effect(scored, estimator = "augmented"))$estimate)), 0.4)
  timed <- frame_arms(data, "gear", c("days", "ended"), c("boat", "past", "port"), reference = "lines", estimand = "ATE")
  lasting <- suppressWarnings(measure_hazard(group_units(score_units(timed), "full"), "days", "ended"))
  weighed <- suppressWarnings(measure_hazard(weigh_units(score_units(timed)), "days", "ended"))
  for (name in names(lasting)) {
    both <- rbind(tidy(lasting[[name]])[1, ], tidy(weighed[[name]])[1, ])
    expect_lt(abs(diff(log(both$estimate))), 2 * max(both$std.error))
    expect_true(all(is.finite(both$std.error)))
    expect_true(all(is.finite(tidy(lasting[[name]], part = "curves")$std.error)))
  }
  paired <- pair_units(scored, replacement = TRUE, caliper = Inf)
  refused <- function(code, text) expect_error(code, text, class = "twin_error_unsupported")
  refused(measure_effect(paired, inference = "bootstrap"), "wrong for nearest-neighbour matching")
  refused(measure_effect(paired, quantiles = 0.5), "No standard error of quantiles")
  refused(measure_effect(paired, estimator = "augmented"), "in place of\\s+`pair_units")
  refused(measure_effect(sets, estimator = "targeted"), "in place of\\s+`group_units")
  refused(measure_effect(sets, by = "port"), "can't be divided by")
  refused(probe_pairs(measure_effect(paired)[[1]]), "no pairs of treated and\\s+control units")
  refused(probe_weights(plain[[1]]), "no odds that could be\\s+wrong")
  expect_s3_class(probe_omitted(plain[[1]]), "twin_probe")
  by <- measure_effect(paired, by = "port")
  listed <- pairs_of(contrasts_of(paired)$nets)
  mean_of <- function(gear) {
    mean(vapply(which(data$port == "small"), function(i) {
      if (data$gear[i] == gear) data$income[i] else mean(data$income[listed$partner[listed$unit == i & listed$arm == gear]])
    }, 0))
  }
  rows <- differences(by)
  expect_equal(rows$estimate[rows$contrast == "nets vs lines" & rows$group == "small"], mean_of("nets") - mean_of("lines"))
})

test_that("what matches of everybody can't do is said before anything is made", {
  data <- three_gears(120)
  scored <- score_units(arms_of(data))
  expect_error(pair_units(scored), "without replacement can't answer the ATE", class = "twin_error_unsupported")
  expect_error(pair_units(arms_of(data), replacement = TRUE), "needs a score", class = "twin_error_input")
  expect_error(pair_units(scored, replacement = TRUE, search = "optimal"), "no use", class = "twin_error_input")
  expect_error(pair_units(scored, replacement = TRUE, on = "mahalanobis", spread = "within"),
               "matches of everybody among several arms", class = "twin_error_input")
  expect_error(group_units(scored, "full", ratio = c(1, 2)), "no use with sets of all arms", class = "twin_error_input")
  expect_error(group_units(scored, "full", on = "metric", metric = c(score = 1)), "one of every\\s+arm",
               class = "twin_error_unsupported")
  expect_error(pair_units(scored, replacement = TRUE, caliper = 1e-12), "nobody within the caliper: 120",
               class = "twin_error_input")
  expect_error(group_units(scored, "full", caliper = 1e-12), "near units of every other arm", class = "twin_error_input")
  paired <- suppressWarnings(pair_units(scored, replacement = TRUE))
  expect_error(pair_units(paired, replacement = TRUE), "already have", class = "twin_error_unsupported")
  data$own_place <- ifelse(data$gear == "nets", "north", "south")
  expect_error(pair_units(score_units(arms_of(data)), replacement = TRUE, exact = "own_place"),
               "No value of \"own_place\" is found in every arm", class = "twin_error_input")
  expect_error(group_units(scored, "cardinality"), "two at a time, which can't\\s+answer the ATE",
               class = "twin_error_unsupported")
})

test_that("prints, papers, methods paragraphs and reports tell of matches of everybody", {
  arms <- frame_arms(cures[1:300, ], "cure", "price", c("boat_length", "past_price"), reference = "fresh", estimand = "ATE")
  scored <- score_units(arms)
  paired <- pair_units(scored, replacement = TRUE)
  sets <- group_units(scored, "full")
  text <- gsub(" +", " ", paste(format(paired), collapse = " "))
  expect_match(text, "Pairs [0-9,]+; distance on the linear score of the partner's arm")
  expect_match(text, "most used: row [0-9]+ \\(\"(fresh|salted|smoked)\"\\)")
  expect_lte(max(nchar(c(format(paired), format(sets), format(contrasts_of(paired)$salted)))), 80L)
  used <- tidy(contrasts_of(paired)$salted, part = "reuse")
  listed <- pairs_of(contrasts_of(paired)$salted)
  expect_equal(used$times[1], max(table(listed$partner)))
  effects <- measure_effect(paired)
  expect_setequal(as.data.frame(references(effects[[1]]))$key,
                  c("rosenbaum1983", "yang2016", "austin2011", "abadie2006", "abadie2016"))
  expect_true("savje2021" %in% as.data.frame(references(measure_effect(sets)[[1]]))$key)
  expect_match(paste(as.character(methods_text(list(arms, sets, measure_effect(sets)))), collapse = " "),
               "Units were grouped: full matching of all arms")
  file <- withr::local_tempfile(fileext = ".html")
  write_report(file, arms, designs = list(pairs = paired, sets = sets), effects = list(price = effects))
  page <- paste(readLines(file), collapse = " ")
  expect_match(page, "Pairs: [0-9,]+; distance on the linear score")
  expect_match(page, "sets that hold all 3 arms")
  few <- arms_of(data.frame(gear = rep(gears, 2), income = c(1, 5, 2, 3, 4, 7), boat = 0:5, past = c(1, 3, 2, 6, 4, 9),
                            port = c("a", "b", "a", "b", "a", "b"))[c(1, 2, 3, 4, 5, 6), ])
  one <- group_units(few, "full", on = "diagonal", covariates = "boat", caliper = c(distance = 1.2))
  expect_match(format(contrasts_of(one)$nets), "set(s that hold| that holds) all 3 arms", all = FALSE)
})

test_that("plans make matches of everybody, and leave the pairs beside the tables", {
  folder <- withr::local_tempdir()
  data <- three_gears(200)
  data.table::fwrite(data, file.path(folder, "data.csv"))
  writeLines(c(
    "study: {data: data.csv, treatment: gear, reference: lines, outcome: income, estimand: ATE, covariates: [boat, past]}",
    "designs:", "  near: [score, {pair: {replacement: true, ratio: 2}}]", "  sets: [score, {group: {method: full}}]",
    "effects:", "  near: {design: near, estimator: regression}", "  sets: {design: sets}"
  ), file.path(folder, "plan.yml"))
  ran <- suppressWarnings(twin("run", file.path(folder, "plan.yml")))
  expect_identical(ran$status, 0L)
  expect_match(ran$out, "pairs in every arm", all = FALSE)
  scored <- score_units(frame_arms(data, "gear", "income", c("boat", "past"), reference = "lines", estimand = "ATE"))
  paired <- suppressWarnings(pair_units(scored, replacement = TRUE, ratio = 2))
  written <- read.csv(file.path(folder, "results", "tables", "pairs-near-nets.csv"))
  expect_identical(written$partner, pairs_of(contrasts_of(paired)$nets)$partner)
  effects <- read.csv(file.path(folder, "results", "tables", "effects-sets.csv"))
  expect_true(any(abs(effects$estimate - difference_of(measure_effect(group_units(scored, "full"))[[1]])) < 1e-4))
})
