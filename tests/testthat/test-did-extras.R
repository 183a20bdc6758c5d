# What else is asked of effects over time: one regression on event time, trends of units, means that count once, forms of
# the regression in cross-sections, tests of equal effects, and the verdict on two-way numbers.

year_of <- function(data) factor(data$year)

test_that("the event study is lm's, its errors those of clustered sums, with its base and average", {
  data <- many_harbours()
  effect <- measure_did(harbour_panel(data), estimator = "event_study")
  since <- data$year - data$opened
  since[is.na(since)] <- -1
  indicators <- sapply(setdiff(sort(unique(since)), -1), function(k) as.double(since == k))
  colnames(indicators) <- paste("event", setdiff(sort(unique(since)), -1))
  fit <- lm(data$price ~ indicators + factor(data$harbour) + year_of(data))
  b <- coef(fit)[grepl("^indicators", names(coef(fit)))]
  names(b) <- sub("indicators", "", names(b))
  ours <- tidy(effect)
  at <- match(names(b)[!is.na(b)], ours$term)
  expect_equal(ours$estimate[at], unname(b[!is.na(b)]), tolerance = 1e-6)
  x <- model.matrix(fit)[, !is.na(coef(fit))]
  bread <- solve(crossprod(x))
  sums <- rowsum(x * resid(fit), data$harbour)
  G <- length(unique(data$harbour))
  own <- sqrt(diag(bread %*% crossprod(sums) %*% bread) * G / (G - 1))
  names(own) <- sub("indicators", "", names(own))
  expect_equal(ours$std.error[at], unname(own[names(b)[!is.na(b)]]), tolerance = 1e-6)
  expect_identical(ours$estimate[ours$kind == "base"], 0)
  expect_equal(ours$estimate[ours$term == "average"], mean(ours$estimate[ours$kind == "post" & ours$term != "average"]))
  text <- gsub("\\s+", " ", paste(format(effect), collapse = " "))
  expect_match(text, "this path mixes effects of other times, before treatment too")
  draw_quietly(plot(effect))
  short <- tidy(measure_did(harbour_panel(data), estimator = "event_study", leads = 1, lags = 1))
  expect_identical(short$event_time, c(-2, -1, 0, 1, NA))
  expect_error(summarise_did(effect), "none to average", class = "twin_error_input")
  expect_error(probe_trends(effect), "estimator with cells", class = "twin_error_input")
})

test_that("a line for each unit or group is lm's", {
  data <- many_harbours()
  own <- measure_did(harbour_panel(data), estimator = "two_way", trends = "unit")
  d <- as.double(!is.na(data$opened) & data$year >= data$opened)
  harbour <- factor(data$harbour)
  fit <- lm(price ~ d + harbour + year_of(data) + harbour:year, data)
  expect_equal(tidy(own)$estimate, unname(coef(fit)["d"]), tolerance = 1e-6)
  x <- model.matrix(fit)[, !is.na(coef(fit))]
  bread <- solve(crossprod(x))
  sums <- rowsum(x * resid(fit), data$harbour)
  G <- nlevels(harbour)
  expect_equal(tidy(own)$std.error, sqrt((bread %*% crossprod(sums) %*% bread)["d", "d"] * G / (G - 1)), tolerance = 1e-5)
  expect_match(paste(format(own), collapse = " "), "linear\\s+trend\\s+for\\s+each\\s+unit")
  data$side <- data$harbour %in% unique(data$harbour)[1:6]
  data$side <- ifelse(is.na(data$opened), "never", paste(data$opened))
  grouped <- measure_did(harbour_panel(data, group = "side", cluster = "harbour"), estimator = "two_way", trends = "group")
  fit <- lm(price ~ d + harbour + year_of(data) + side:year, data)
  expect_equal(tidy(grouped)$estimate, unname(coef(fit)["d"]), tolerance = 1e-6)
  expect_error(measure_did(harbour_panel(data), estimator = "two_way", trends = "group"), "no groups", class = "twin_error_input")
  expect_error(measure_did(harbour_panel(data), trends = "unit"), "do(es)? not belong", class = "twin_error_input")
})

test_that("group means count by rows or once, and say so", {
  data <- withr::with_seed(5, {
    data <- many_harbours()
    data[rep(seq_len(nrow(data)), sample(1:4, nrow(data), TRUE)), ]
  })
  data$price <- data$price + withr::with_seed(6, rnorm(nrow(data)))
  panel <- frame_panel(data, outcome = "price", time = "year", group = "harbour", first_treated = "opened")
  two_way <- function(...) measure_did(panel, estimator = "two_way", ...)
  d <- as.double(!is.na(data$opened) & data$year >= data$opened)
  rows <- lm(price ~ d + factor(harbour) + year_of(data), data)
  expect_equal(tidy(two_way())$estimate, unname(coef(rows)["d"]), tolerance = 1e-6)
  expect_equal(tidy(two_way(collapse = "rows"))$estimate, unname(coef(rows)["d"]), tolerance = 1e-6)
  expect_equal(two_way(collapse = "rows")$estimate, two_way(collapse = "rows")$estimate)
  once <- two_way(collapse = "groups")
  expect_equal(tidy(once)$estimate, glance(decompose_did(panel))$estimate, tolerance = 1e-6)
  expect_match(paste(format(once), collapse = " "), "each\\s+counting\\s+once")
  expect_match(paste(format(two_way(collapse = "rows")), collapse = " "), "each\\s+weighed\\s+by\\s+its\\s+rows")
  expect_equal(glance(decompose_did(panel))$std.error, tidy(once)$std.error, tolerance = 1e-6)
  expect_error(two_way(collapse = "means"), "must be one of", class = "twin_error_input")
})

test_that("effects over event time and over cohorts are tested to be the same", {
  cells <- measure_did(harbour_panel())
  by <- summarise_did(cells, "cohort")
  test <- compare_effects(by)
  rows <- which(by$table$term != "average")
  contrast <- cbind(-1, diag(length(rows) - 1))
  gap <- contrast %*% by$table$estimate[rows]
  wald <- drop(t(gap) %*% solve(contrast %*% by$vcov[rows, rows] %*% t(contrast)) %*% gap)
  expect_equal(glance(test)$statistic, wald)
  expect_identical(glance(test)$df, length(rows) - 1L + 0)
  expect_equal(unname(vcov(test)), unname(by$vcov[rows, rows]))
  expect_identical(tidy(test)$label, paste("from", by$table$term[rows]))
  path <- summarise_did(cells, "event")
  expect_identical(nrow(tidy(compare_effects(path))), sum(path$table$kind == "post") - 1L)
  expect_match(paste(format(compare_effects(path)), collapse = " "), "event 0")
  few <- many_harbours()
  few <- few[few$opened %in% c(2003, NA) & few$harbour %in% c("h01", "h02", "h09", "h10", "h07", "h08", "h15"), ]
  few <- suppressWarnings(compare_effects(summarise_did(measure_did(harbour_panel(few)), "event")))
  expect_match(paste(format(few), collapse = " "), "No joint test of the [0-9] estimates")
  same <- many_harbours()
  same$price <- withr::with_seed(3, rnorm(nrow(same)))
  expect_gt(glance(compare_effects(summarise_did(measure_did(harbour_panel(same)), "cohort")))$p.value, 0.01)
})

test_that("two-way numbers are judged against their own error and the effect's size", {
  verdict <- function(estimate, att, se, forbidden = 0, negative = 0) {
    carefultwin:::is_two_way_trusted(list(estimate = estimate, att = att, std.error = se, forbidden_weight = forbidden,
                                          negative_weight = negative))
  }
  expect_false(verdict(0.069, 0.017, 0.05))  # three times the size, a whole error away
  expect_true(verdict(0.069, 0.05, 0.05))
  expect_true(verdict(1.05, 1, 0.01))
  expect_false(verdict(1.2, 1, 0.1, 0.5, -0.2))
  expect_true(verdict(1, NA, 0.1))
  expect_false(verdict(1, NA, 0.1, 0.2))
  text <- gsub("\\s+", " ", paste(format(decompose_did(harbour_panel())), collapse = " "))
  expect_match(text, "away from it; it would do within half its standard error \\([0-9.]+\\) or a tenth of its size")
})

# Two periods of a cross-section with a cohort treated in the second; trends and composition differ by boat.
two_landings <- function(n = 800, seed = 1, shift = 0.4, grow = 0.5) {
  withr::with_seed(seed, {
    after <- rbinom(n, 1, 0.5)
    boat <- rnorm(n, shift * after)
    z <- rbinom(n, 1, plogis(0.6 * boat - 0.2))
    value <- 1 + boat + 0.5 * z + after * (0.3 + 0.8 * boat + z * (1 + grow * boat)) + rnorm(n)
    data.frame(value, after, boat, z, s = runif(n, 0.5, 2), year = 2001 + after, opened = ifelse(z == 1, 2002, NA))
  })
}

test_that("in cross-sections regressions may be averaged over all treated, and influence is the derivative in the weights", {
  data <- two_landings()
  panel <- function(data, ...) {
    frame_panel(data, outcome = "value", time = "year", first_treated = "opened", covariates = ~boat, ...)
  }
  measure <- function(...) measure_did(panel(data), estimator = "two_period", ...)
  fits <- lapply(0:1, function(p) lm(value ~ boat, data, subset = z == 0 & after == p))
  treated <- data[data$z == 1, ]
  change <- mean(predict(fits[[2]], treated)) - mean(predict(fits[[1]], treated))
  means <- tapply(treated$value, treated$after, mean)
  all <- measure(adjustment = "regression", covariates_of = "all")
  expect_equal(unname(all$estimate), means[[2]] - means[[1]] - change)
  own <- vapply(0:1, function(p) mean(predict(fits[[p + 1]], treated[treated$after == p, ])), 0)
  expect_equal(unname(measure(adjustment = "regression")$estimate), means[[2]] - means[[1]] - (own[2] - own[1]))
  # the locally efficient form by its formula
  models <- lapply(0:1, function(arm) lapply(0:1, function(p) lm(value ~ boat, data, subset = z == arm & after == p)))
  gap <- function(p) predict(models[[2]][[p + 1]], data) - predict(models[[1]][[p + 1]], data)
  z <- data$z == 1
  added <- (mean(gap(1)[z]) - mean(gap(1)[z & data$after == 1])) - (mean(gap(0)[z]) - mean(gap(0)[z & data$after == 0]))
  expect_equal(unname(measure(covariates_of = "all")$estimate - measure()$estimate), added)
  for (adjustment in c("regression", "augmented")) {
    at <- function(s) core_cell_levels(data$value, data$after, data$z, s, cbind(data$boat), adjustment, "all")
    found <- at(data$s)
    for (i in c(3, 50, 211)) {
      by <- replace(numeric(800), i, 1e-4)
      slope <- (at(data$s + by)$estimate - at(data$s - by)$estimate) / 2e-4
      expect_equal(found$contributions[i], data$s[i] * slope, tolerance = 1e-5)
    }
  }
  expect_match(paste(format(all), collapse = " "), "over\\s+the\\s+covariates\\s+of\\s+all\\s+treated")
  expect_error(measure(adjustment = "ipw", covariates_of = "all"), "Leave it out", class = "twin_error_input")
  expect_error(measure_did(harbour_panel(covariates = ~depth), covariates_of = "all"), "repeated cross-section",
               class = "twin_error_input")
})

test_that("the locally efficient form varies less than the other, around the same truth", {
  draws <- vapply(1:80, function(seed) {
    data <- two_landings(400, seed, shift = 0, grow = 3)
    panel <- frame_panel(data, outcome = "value", time = "year", first_treated = "opened", covariates = ~boat)
    c(measure_did(panel, estimator = "two_period")$estimate,
      measure_did(panel, estimator = "two_period", covariates_of = "all")$estimate)
  }, numeric(2))
  expect_lt(var(draws[2, ]), 0.8 * var(draws[1, ]))
  expect_lt(abs(mean(draws[2, ] - draws[1, ])), 4 * sd(draws[2, ] - draws[1, ]) / sqrt(80))
})

test_that("the test that belongs to imputation is a regression of untreated rows on leads", {
  data <- many_harbours()
  tests <- tidy(assess_trends(harbour_panel(data), leads = 2))
  row <- tests[tests$test == "leads", ]
  since <- data$year - data$opened
  untreated <- data[is.na(since) | since < 0, ]
  since <- untreated$year - untreated$opened
  leads <- sapply(1:2, function(k) as.double(since %in% -k))
  fit <- lm(untreated$price ~ leads + factor(untreated$harbour) + year_of(untreated))
  x <- model.matrix(fit)[, !is.na(coef(fit))]
  bread <- solve(crossprod(x))
  sums <- rowsum(x * resid(fit), untreated$harbour)
  at <- c("leads1", "leads2")
  vcov <- (bread %*% crossprod(sums) %*% bread)[at, at] * 40 / 39
  wald <- drop(coef(fit)[at] %*% solve(vcov, coef(fit)[at]))
  expect_equal(row$statistic, wald / 2 * 38 / 39, tolerance = 1e-6)
  expect_equal(row$p.value, pf(wald / 2 * 38 / 39, 2, 38, lower.tail = FALSE), tolerance = 1e-6)
  expect_identical(row$at, "-2 to -1")
  expect_false("leads" %in% tidy(assess_trends(harbour_panel(data), leads = 0))$test)
  expect_match(paste(format(assess_trends(harbour_panel(data))), collapse = " "), "untreated leads")
})

test_that("units away just before their onset may be measured from an earlier period", {
  data <- many_harbours()
  first <- unique(data$harbour[data$opened %in% 2004])[1:3]
  away <- data[!(data$harbour %in% first[1:2] & data$year == 2003), ]
  away <- away[!(away$harbour == first[2] & away$year == 2002), ]
  dropped <- measure_did(harbour_panel(away))
  expect_match(gsub("\\s+", " ", paste(format(dropped), collapse = " ")),
               "2 treated units are not seen just before their onset and left out; unseen = .earlier. measures them")
  cells <- measure_did(harbour_panel(away), unseen = "earlier")
  row <- function(x) subset(tidy(x), cohort == "2004" & time == "2005")
  # by hand: the base of each is its last outcome, moved on by the never treated
  never <- unique(data$harbour[is.na(data$opened)])
  y <- function(harbours, year) away$price[match(paste(harbours, year), paste(away$harbour, away$year))]
  moved <- function(from) mean(y(never, 2003) - y(never, from))
  own <- unique(data$harbour[data$opened %in% 2004])
  base <- y(own, 2003)
  base[own == first[1]] <- y(first[1], 2002) + moved(2002)
  base[own == first[2]] <- y(first[2], 2001) + moved(2001)
  expect_equal(row(cells)$estimate, mean(y(own, 2005) - base) - mean(y(never, 2005) - y(never, 2003)))
  expect_identical(row(cells)$n_treated, as.double(length(own)))
  # contributions are the derivative in a unit's weight
  weigh <- function(harbour, by) {
    away$w <- 1 + by * (away$harbour == harbour)
    row(measure_did(harbour_panel(away, weight = "w"), unseen = "earlier"))$estimate
  }
  found <- augment(cells)
  for (harbour in c(never[1], first[1], own[5])) {
    slope <- (weigh(harbour, 1e-4) - weigh(harbour, -1e-4)) / 2e-4
    place <- which(found$.cluster == harbour)
    expect_equal(found[[".influence_cohort 2004, 2005"]][place] / 40, slope, tolerance = 1e-4)
  }
  expect_error(measure_did(harbour_panel(away, covariates = ~depth), unseen = "earlier"), "without adjustment",
               class = "twin_error_unsupported")
})
