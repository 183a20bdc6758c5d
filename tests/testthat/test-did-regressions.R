# lm with every effect as a column: coefficients named by `wanted`, and their clustered variance (CR1).
by_columns <- function(formula, data, wanted, cluster, weights = NULL) {
  data$own <- if (is.null(weights)) rep(1, nrow(data)) else weights
  fit <- lm(formula, data, weights = own)
  x <- model.matrix(fit)
  kept <- !is.na(coef(fit))
  x <- x[, kept]
  w <- fit$weights
  inverse <- solve(crossprod(x, w * x))
  used <- as.integer(rownames(x))
  rows <- match(rownames(x), rownames(data))
  sums <- rowsum(x * w * residuals(fit), cluster[rows])
  count <- nrow(sums)
  vcov <- inverse %*% crossprod(sums) %*% inverse * count / (count - 1)
  list(estimate = unname(coef(fit)[wanted]), vcov = unname(vcov[wanted, wanted, drop = FALSE]))
}

expect_as_columns <- function(effect, expected) {
  expect_equal(unname(effect$estimate), expected$estimate, tolerance = 1e-8)
  expect_equal(unname(effect$vcov), expected$vcov, tolerance = 1e-7)
}

test_that("two-way fixed effects are the regression with all columns: gaps, weights, covariates, clusters", {
  data <- many_harbours(gaps = TRUE)
  rownames(data) <- NULL
  two_way <- function(...) measure_did(harbour_panel(data, ...), estimator = "two_way")
  formula <- price ~ open + harbour + factor(year)
  expect_as_columns(two_way(), by_columns(formula, data, "open", data$harbour))
  expect_as_columns(two_way(weight = "s", cluster = "bay"), by_columns(formula, data, "open", data$bay, data$s))
  covariates <- update(formula, . ~ . + tide)
  expect_as_columns(two_way(covariates = ~ tide + depth), by_columns(covariates, data, "open", data$harbour))
  expect_match(paste(format(two_way(covariates = ~ tide + depth)), collapse = " "), "Depth is left out")
  expect_equal(measure_did(harbour_panel(data, covariates = ~ tide), estimator = "two_way", adjustment = "none")$estimate,
               two_way()$estimate)
})

test_that("a cross-section has group effects, or cohort effects where there are no groups", {
  data <- many_landings()
  effect <- measure_did(landing_panel(data, weight = "s", covariates = ~ boat), estimator = "two_way")
  expect_as_columns(effect, by_columns(value ~ open + boat + harbour + factor(year), data, "open", data$harbour, data$s))
  cohorts <- frame_panel(data, outcome = "value", time = "year", first_treated = "opened")
  expect_warning(plain <- measure_did(cohorts, estimator = "two_way"), class = "twin_warning_few_clusters")
  data$opened[is.na(data$opened)] <- 0
  expect_as_columns(plain, by_columns(value ~ open + factor(opened) + factor(year), data, "open", data$opened))
})

test_that("any number of effects are absorbed", {
  data <- many_harbours(gaps = TRUE)
  rownames(data) <- NULL
  data$reef <- rep_len(c("near", "far", "none", "near"), nrow(data))
  effect <- measure_did(harbour_panel(data, weight = "s", covariates = ~ tide), estimator = "two_way",
                        absorb = c("coast:year", "reef"))
  formula <- price ~ open + tide + harbour + factor(year) + coast:factor(year) + reef
  expect_as_columns(effect, by_columns(formula, data, "open", data$harbour, data$s))
  expect_match(gsub("\\s+", " ", paste(format(effect), collapse = " ")), "also absorbing coast:year and reef")
  expect_error(measure_did(harbour_panel(data), estimator = "two_way", absorb = "harbour:year"), "told apart",
               class = "twin_error_input")
  expect_error(measure_did(harbour_panel(data), estimator = "two_way", absorb = "cost"), class = "twin_error_input")
})

test_that("treatment that is constant within a period can't be told apart", {
  data <- many_harbours()
  data <- data[!is.na(data$opened) & data$year != 2005, ]
  data$open <- as.integer(data$year >= 2004)
  data$open[data$harbour == "h01"] <- 0L
  only <- frame_panel(data[data$harbour != "h01" | data$year < 2004, ], outcome = "price", time = "year", unit = "harbour",
                      first_treated = "opened")
  expect_s3_class(only, "twin_panel")
  alike <- data[data$harbour != "h01", ]
  alike$since <- ifelse(alike$harbour == "h02" & alike$year < 2004, "never", "2004")
  alike$since[alike$harbour == "h02"] <- "never"
  alike <- alike[!(alike$harbour == "h02" & alike$year >= 2004), ]
  panel <- frame_panel(alike, outcome = "price", time = "year", unit = "harbour", first_treated = "since")
  expect_error(measure_did(panel, estimator = "two_way"), "told apart", class = "twin_error_input")
})

test_that("the interaction-weighted cells are one regression with a column for each", {
  data <- many_harbours(gaps = TRUE)
  rownames(data) <- NULL
  effect <- measure_did(harbour_panel(data, weight = "s"), estimator = "interaction")
  data$cell <- ifelse(is.na(data$opened) | data$year == data$opened - 1, "none", paste(data$opened, data$year))
  data$cell <- relevel(factor(data$cell), "none")
  table <- tidy(effect)
  moving <- table$kind != "base"
  wanted <- paste0("cell", table$cohort, " ", table$time)[moving]
  expected <- by_columns(price ~ cell + harbour + factor(year), data, wanted, data$harbour, data$s)
  expect_equal(table$estimate[moving], expected$estimate, tolerance = 1e-8)
  expect_equal(unname(effect$vcov[moving, moving]), expected$vcov, tolerance = 1e-7)
})

test_that("without anybody never treated the last cohort stands for them", {
  data <- many_harbours()
  data <- data[!is.na(data$opened), ]
  expect_warning(effect <- measure_did(harbour_panel(data), estimator = "interaction"), class = "twin_warning_cells")
  table <- tidy(effect)
  expect_identical(unique(table$reason[table$cohort == "2006"]), "the last cohort serves as comparison")
  expect_equal(table$estimate[table$cohort == "2003" & table$time == "2005"],
               two_by_two(data, data$opened == 2003, data$opened == 2006, 2005, 2002))
})

test_that("imputed cells are what treated outcomes lie above a regression on untreated rows", {
  data <- many_harbours(gaps = TRUE)
  rownames(data) <- NULL
  effect <- measure_did(harbour_panel(data, weight = "s", covariates = ~ tide), estimator = "imputation")
  fit <- lm(price ~ tide + harbour + factor(year), data, weights = s, subset = open == 0)
  data$above <- data$price - predict(fit, data)
  treated <- data[data$open == 1 & !is.na(data$above), ]
  key <- interaction(treated$opened, treated$year, drop = TRUE)
  by_hand <- vapply(split(treated, key), function(cell) weighted.mean(cell$above, cell$s), 0)
  table <- tidy(effect)
  expect_equal(table$estimate, unname(by_hand[paste(table$cohort, table$time, sep = ".")]))
  over_all <- summarise_did(effect)
  expect_equal(over_all$estimate[[1]], weighted.mean(treated$above, treated$s))
})

expect_conservative <- function(effect, data) {
  data <- data[!is.na(data$price), ]
  rownames(data) <- NULL
  z <- model.matrix(~ tide + harbour + factor(year), data)
  off <- data$open == 0
  z0 <- z[off, ]
  projection <- z0 %*% solve(crossprod(z0))
  residual <- data$price - drop(z %*% solve(crossprod(z0), crossprod(z0, data$price[off])))
  key <- ifelse(data$open == 1, paste(data$opened, data$year), NA)
  mean_by_cell <- tapply(residual, key, mean)
  residual[!off] <- residual[!off] - mean_by_cell[key[!off]]
  weigh <- function(target) {
    v <- numeric(nrow(data))
    v[!off] <- target
    v[off] <- -drop(projection %*% crossprod(z[!off, ], target))
    v
  }
  targets <- cbind(as.double(data$opened == 2003 & data$year == 2005 & data$open == 1)[!off] / sum(
    data$opened %in% 2003 & data$year == 2005), 1 / sum(!off))
  targets[is.na(targets)] <- 0
  sums <- rowsum(apply(targets, 2L, weigh) * residual, data$bay)
  expected <- sqrt(colSums(sums^2) * 20 / 19)
  expect_equal(cell_of(effect, 2003, 2005)$std.error, expected[1])
  expect_equal(sqrt(summarise_did(effect)$vcov[1, 1]), expected[2])
}

test_that("the variance of imputation is the conservative one, written out with the implied weights", {
  data <- many_harbours(gaps = TRUE)
  panel <- frame_panel(data, outcome = "price", time = "year", unit = "harbour", first_treated = "opened", covariates = ~ tide,
                       cluster = "bay")
  expect_conservative(measure_did(panel, estimator = "imputation"), data)
  # several rows of a harbour in a year
  crossing <- many_landings()
  crossing$price <- crossing$value
  rows <- frame_panel(crossing, outcome = "price", time = "year", group = "harbour", first_treated = "opened", covariates = ~ tide,
                      cluster = "bay")
  expect_conservative(measure_did(rows, estimator = "imputation"), crossing)
})

test_that("with one date and two periods all estimators give one number", {
  data <- many_harbours()
  data <- data[data$opened %in% c(2004, NA) & data$year %in% 2003:2004, ]
  panel <- harbour_panel(data)
  expected <- two_by_two(data, data$opened %in% 2004, is.na(data$opened), 2004, 2003)
  for (estimator in c("group_time", "imputation", "interaction", "two_way", "two_period")) {
    effect <- measure_did(panel, estimator = estimator)
    if (effect$over == "cells") effect <- summarise_did(effect)
    expect_equal(effect$estimate[["difference"]], expected)
  }
})

test_that("before and after are means of each unit, adjusted as cells are", {
  data <- many_harbours()
  data <- data[data$opened %in% c(2004, NA), ]
  panel <- harbour_panel(data, covariates = ~ depth)
  effect <- measure_did(panel, estimator = "two_period", adjustment = "regression", anticipation = 1)
  wide <- wide_harbours(data)
  dy <- rowMeans(wide[paste0("price.", 2004:2006)]) - rowMeans(wide[paste0("price.", 2001:2002)])
  m <- predict(lm(dy ~ depth, wide, subset = is.na(opened)), wide)
  expect_equal(effect$estimate[["difference"]], mean((dy - m)[!is.na(wide$opened)]))
  both <- many_landings()
  both <- both[both$opened %in% c(2004, NA), ]
  cross <- measure_did(landing_panel(both), estimator = "two_period")
  both$after <- both$year >= 2004
  mean_of <- function(treated, after) mean(both$value[!is.na(both$opened) == treated & both$after == after])
  expect_equal(cross$estimate[["difference"]],
               mean_of(TRUE, TRUE) - mean_of(TRUE, FALSE) - mean_of(FALSE, TRUE) + mean_of(FALSE, FALSE))
})

test_that("collapsing is measuring the means", {
  data <- many_landings()
  means <- aggregate(cbind(value, boat) ~ harbour + year + open, data, mean)
  means$rows <- aggregate(value ~ harbour + year + open, data, length)$value
  expected <- measure_did(frame_panel(means, outcome = "value", time = "year", unit = "harbour", treatment = "open", weight = "rows",
                                      covariates = ~ boat), adjustment = "regression")
  collapsed <- measure_did(landing_panel(data, covariates = ~ boat), adjustment = "regression", collapse = TRUE)
  expect_equal(collapsed$estimate, expected$estimate)
  expect_equal(collapsed$vcov, expected$vcov)
})

test_that("periods of anticipation are left out of the two-way regression", {
  data <- many_harbours()
  rownames(data) <- NULL
  effect <- measure_did(harbour_panel(data), estimator = "two_way", anticipation = 1)
  early <- !is.na(data$opened) & data$year == data$opened - 1
  expect_as_columns(effect, by_columns(price ~ open + harbour + factor(year), data[!early, ], "open",
                                       data$harbour[!early]))
  expect_error(measure_did(landing_panel(), estimator = "two_way", collapse = TRUE, absorb = "coast:year"),
               class = "twin_error_unsupported")
  expect_error(measure_did(landing_panel(), estimator = "triple", third = "fresh", affected = "yes", collapse = TRUE),
               class = "twin_error_unsupported")
})
