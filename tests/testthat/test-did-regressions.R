# lm with every effect as a column: coefficients named by `wanted`, and their clustered variance (CR1).
by_columns <- function(formula, data, wanted, cluster, weights = NULL, cohort = NULL) {
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
  if (!is.null(cohort)) {  # cluster sums about their cohort's mean
    vcov <- cohort_wise_by_hand(sums %*% inverse, cohort[match(rownames(sums), cluster)])
    dimnames(vcov) <- dimnames(inverse)
  }
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
  expect_match(paste(format(two_way(covariates = ~ tide + depth)), collapse = " "), "Left out: depth, which the fixed effects explain")
  expect_equal(measure_did(harbour_panel(data, covariates = ~ tide), estimator = "two_way", adjustment = "none")$estimate,
               two_way()$estimate)
})

test_that("a cross-section has group effects, or cohort effects where there are no groups", {
  data <- many_landings()
  effect <- measure_did(landing_panel(data, weight = "s", covariates = ~ boat), estimator = "two_way")
  expect_as_columns(effect, by_columns(value ~ open + boat + harbour + factor(year), data, "open", data$harbour, data$s))
  cohorts <- frame_panel(data, outcome = "value", time = "year", first_treated = "opened")
  plain <- measure_did(cohorts, estimator = "two_way")
  data$opened[is.na(data$opened)] <- 0
  expect_as_columns(plain, by_columns(value ~ open + factor(opened) + factor(year), data, "open", seq_len(nrow(data))))
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
  expect_error(measure_did(harbour_panel(data), estimator = "two_way", absorb = ""), "column names in quotes",
               class = "twin_error_input")
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
  expected <- by_columns(price ~ cell + harbour + factor(year), data, wanted, data$harbour, data$s, data$opened)
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
  contributions <- apply(targets, 2L, weigh) * residual
  expected <- sqrt(diag(cohort_wise_by_hand(contributions, data$opened, data$bay)))
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
  collapsed <- measure_did(landing_panel(data, covariates = ~ boat), adjustment = "regression", collapse = "rows")
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
  expect_error(measure_did(landing_panel(), estimator = "two_way", collapse = "rows", absorb = "coast:year"),
               class = "twin_error_unsupported")
  expect_error(measure_did(landing_panel(), estimator = "triple", third = "fresh", affected = "yes", collapse = "rows"),
               class = "twin_error_unsupported")
})

# Individuals of two coasts before and after, in towns; coasts (cohorts) are all that is treated as a whole.
two_coasts <- function(n = 600) {
  withr::with_seed(12, {
    data <- data.frame(town = sample(12, n, TRUE), year = sample(2001:2002, n, TRUE), boat = rnorm(n), s = runif(n, 1, 3))
    data$coast <- ifelse(data$town <= 5, "east", "west")
    data$opened <- ifelse(data$coast == "east", 2002, NA)
    data$crew <- sample(50, n, TRUE)  # seen on both coasts
    data$value <- rnorm(12)[data$town] + 0.5 * (data$coast == "east" & data$year == 2002) + 0.3 * data$boat + rnorm(n)
    data
  })
}

test_that("in a cross-section the cluster that was named is used, finer than groups or across them, or none", {
  data <- two_coasts()
  frame <- function(...) frame_panel(data, outcome = "value", time = "year", first_treated = "opened", weight = "s", ...)
  for (adjust in c(FALSE, TRUE)) {
    usual <- lm(if (adjust) value ~ coast * factor(year) + boat else value ~ coast * factor(year), data, weights = s)
    x <- model.matrix(usual)
    scores <- x * data$s * resid(usual)
    bread <- solve(crossprod(x, data$s * x))
    own <- ncol(x)
    for (cluster in list(NULL, "town", "crew")) {
      code <- if (is.null(cluster)) seq_len(600) else data[[cluster]]
      count <- length(unique(code))
      variance <- (bread %*% crossprod(rowsum(scores, code)) %*% bread)[own, own] * count / (count - 1)
      effect <- suppressWarnings(measure_did(frame(cluster = cluster, covariates = if (adjust) "boat"),
                                             estimator = "two_way"))
      expect_equal(tidy(effect)[, c("estimate", "std.error")], data.frame(estimate = -coef(usual)[[own]],
                                                                          std.error = sqrt(variance)), tolerance = 1e-6)
      expect_identical(glance(effect)$df, count - 1)
      text <- paste(format(effect), collapse = " ")
      expect_match(text, if (is.null(cluster)) "errors: robust" else sprintf("clustered by %s \\(%d\\)", cluster, count))
      expect_match(gsub("\\s+", " ", text), if (is.null(cluster)) "Rows count as independent: what shakes a whole group" else
        sprintf("Clusters \\(%s\\) are smaller than what is treated as a whole \\(2 cohorts\\)", cluster))
      expect_match(gsub("\\s+", " ", text), "with two groups it can't be told from an effect")
    }
  }
  data$reef <- rep_len(c("near", "far", "none"), 600)
  effect <- suppressWarnings(measure_did(frame(cluster = "town", covariates = "boat"), estimator = "two_way", absorb = "reef"))
  usual <- lm(value ~ coast * factor(year) + boat + reef, data, weights = s)
  x <- model.matrix(usual)
  bread <- solve(crossprod(x, data$s * x))
  variance <- bread %*% crossprod(rowsum(x * data$s * resid(usual), data$town)) %*% bread * 12 / 11
  expect_equal(tidy(effect)$std.error, sqrt(variance[ncol(x), ncol(x)]), tolerance = 1e-6)
  expect_match(paste(format(effect), collapse = " "), "clustered by town \\(12\\)")
  expect_error(suppressWarnings(measure_did(frame(cluster = "town"), estimator = "two_way", small_sample = "CR2")),
                        "clusters that hold whole groups", class = "twin_error_unsupported")
  suppressWarnings(by_coast <- measure_did(frame(cluster = "coast"), estimator = "two_way"))
  expect_no_match(paste(format(by_coast), collapse = " "), "shakes")
})

test_that("pieces of groups share out what the groups contribute, and imputation's are its implied weights", {
  data <- many_landings(n = 12)
  data$crew <- rep_len(1:37, nrow(data))
  whole <- landing_panel(data, covariates = "boat")
  pieces <- landing_panel(data, covariates = "boat", cluster = "crew")
  for (estimator in c("two_way", "interaction", "imputation")) {
    a <- suppressWarnings(measure_did(whole, estimator = estimator))
    b <- suppressWarnings(measure_did(pieces, estimator = estimator))
    known <- which(!is.na(a$estimate))
    pick <- diag(length(a$estimate))[, known, drop = FALSE]
    by_group <- function(x, code) core_cluster_sums(x$source, pick, NULL, code)
    view <- within_view(pieces, data$value, list(adjustment = "regression"))
    group <- view$unit[!duplicated(view$piece)]
    expect_equal(by_group(b, group), by_group(a, seq_len(12)), tolerance = 1e-8)
  }
  b <- suppressWarnings(measure_did(pieces, estimator = "imputation"))
  k <- 2L
  weight <- vapply(seq_len(nrow(data)), function(i) {
    moved <- data
    moved$value[i] <- moved$value[i] + 1
    again <- suppressWarnings(measure_did(landing_panel(moved, covariates = "boat", cluster = "crew"), estimator = "imputation"))
    again$estimate[[k]] - b$estimate[[k]]
  }, 0)
  untreated <- lm(value ~ harbour + factor(year) + boat, data, subset = data$open == 0)
  left <- data$value - suppressWarnings(predict(untreated, data))
  inside <- data$open == 1 & weight > 1e-8 & data$year == as.integer(b$table$time[k])
  left[inside] <- left[inside] - b$estimate[[k]]
  left[data$open == 1 & !inside] <- 0
  pick <- diag(length(b$estimate))[, k, drop = FALSE]
  sums <- core_cluster_sums(b$source, pick, NULL, b$cluster)
  expect_equal(sums[match(sort(unique(data$crew)), unique(as.integer(b$cluster_labels))), 1],
               unname(rowsum(weight * left, data$crew)[, 1]), tolerance = 1e-5)
})
