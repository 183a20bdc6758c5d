weighted_variance <- function(x, v) {
  m <- sum(v * x) / sum(v)
  sum(v * (x - m)^2) / (sum(v) - sum(v^2) / sum(v))
}

# Both empirical distribution functions at every pooled value, by plain loops.
gaps_by_loop <- function(x, z, v) {
  at <- sort(unique(x[v > 0]))
  abs(vapply(at, function(q) sum(v[z == 1 & x <= q]) / sum(v[z == 1]) - sum(v[z == 0 & x <= q]) / sum(v[z == 0]), 0))
}

test_that("means, variances, KS and mean gap of a numeric column agree with plain loops, ties and zeros included", {
  x <- c(1, 2, 2, 3, 5, 5, 7, 8)
  z <- c(1L, 0L, 1L, 0L, 1L, 0L, 0L, 1L)
  v <- c(1, 2, 0.5, 1, 0, 3, 1, 2)
  out <- core_numeric_balance(x, z, cbind(rep(1, 8), v))[, 2]
  expect_equal(out[["mean_treated"]], sum((v * x)[z == 1]) / sum(v[z == 1]))
  expect_equal(out[["var_treated"]], weighted_variance(x[z == 1], v[z == 1]))
  expect_equal(out[["var_control"]], weighted_variance(x[z == 0], v[z == 0]))
  gaps <- gaps_by_loop(x, z, v)
  expect_equal(out[["ks"]], max(gaps))
  expect_equal(out[["ecdf_mean"]], mean(gaps))
})

test_that("KS is the two-sample statistic without weights", {
  data <- many_crews()
  test <- suppressWarnings(ks.test(data$boat[data$joined == 1], data$boat[data$joined == 0]))
  rows <- tidy(assess_balance(study_of_many()))
  expect_equal(rows$ks[rows$covariate == "boat"], unname(test$statistic))
})

test_that("the reference sd is fixed before the design and follows the estimand", {
  data <- many_crews()
  sd_of <- function(arm) weighted_variance(data$boat[data$joined == arm], data$s[data$joined == arm])
  expected <- c(ATT = sqrt(sd_of(1)), ATC = sqrt(sd_of(0)), ATE = sqrt((sd_of(1) + sd_of(0)) / 2))
  got <- vapply(names(expected), function(estimand) {
    rows <- tidy(assess_balance(weigh_units(score_units(study_of_many(estimand = estimand, weight = "s")))))
    rows <- rows[rows$covariate == "boat", ]
    expect_equal(diff(range(rows$difference / rows$smd)), 0, tolerance = 1e-8)
    rows$difference[1] / rows$smd[1]
  }, 0)
  expect_equal(got, expected)
})

test_that("levels are shares with p(1 - p), every level and the missing one", {
  data <- many_crews()
  data$port[1:20] <- NA
  rows <- tidy(assess_balance(study_of_many(data)))
  rows <- rows[rows$covariate == "port", ]
  expect_identical(rows$level, c("large", "medium", "small", "(missing)"))
  p1 <- mean(ifelse(is.na(data$port), FALSE, data$port == "small")[data$joined == 1])
  expect_equal(rows$mean_treated[3], p1)
  expect_equal(rows$sd_treated[3], sqrt(p1 * (1 - p1)))
  expect_equal(rows$smd[3], rows$difference[3] / sqrt(p1 * (1 - p1)))
  expect_equal(sum(rows$mean_control), 1)
})

test_that("a weight of 2 is the unit entered twice in every mean and share", {
  data <- many_crews()
  data$s <- rep(1:2, 150)
  twice <- data[rep(1:300, data$s), ]
  one <- tidy(describe_groups(study_of_many(data, weight = "s")))
  two <- tidy(describe_groups(study_of_many(twice)))
  columns <- c("mean_treated", "mean_control", "difference")
  expect_equal(one[columns], two[columns])
})

test_that("rows fail on their difference or on their variance ratio, and undefined ones never pass", {
  data <- many_crews()
  data$wide <- withr::with_seed(1, rnorm(300, sd = ifelse(data$joined == 1, 3, 1)))
  data$wide <- data$wide - ave(data$wide, data$joined)
  rows <- tidy(assess_balance(study_of_many(data, covariates = c("boat", "wide"))))
  expect_lt(abs(rows$smd[2]), 1e-8)
  expect_gt(rows$variance_ratio[2], 2)
  expect_identical(rows$pass, c(FALSE, FALSE))
  data$flat <- ifelse(data$joined == 1, 1, seq_len(300) / 100)
  flat <- assess_balance(study_of_many(data, covariates = c("boat", "flat")))
  expect_true(is.na(tidy(flat)$smd[2]) && is.na(tidy(flat)$pass[2]))
  expect_identical(glance(flat)$passing, 0L)
  expect_identical(summary(flat)$undefined, 1L)
})

test_that("presets set both limits", {
  study <- study_of_many()
  expect_identical(assess_balance(study, "strict")$limits, list(smd = 0.05, ratio = c(0.8, 1.25)))
  expect_identical(assess_balance(study, 0.3)$limits, list(smd = 0.3, ratio = c(0.5, 2)))
  expect_error(assess_balance(study, "strct"), "Did you mean \"strict\"", class = "twin_error_input")
  expect_error(assess_balance(study, ratio_range = c(2, 3)), "around 1", class = "twin_error_input")
})

test_that("joint imbalance is the Mahalanobis distance, and does not mind a repeated column", {
  data <- many_crews()
  x <- as.matrix(data[c("boat", "past")])
  gap <- colMeans(x[data$joined == 1, ]) - colMeans(x[data$joined == 0, ])
  by_hand <- sqrt(drop(gap %*% solve(cov(x)) %*% gap))
  expect_equal(glance(assess_balance(study_of_many(covariates = c("boat", "past"))))$mahalanobis, by_hand)
  data$again <- data$boat * 1000
  repeated <- assess_balance(study_of_many(data, covariates = c("boat", "past", "again")))
  expect_equal(glance(repeated)$mahalanobis, by_hand)
})

test_that("effective sample sizes follow Kish", {
  design <- weigh_units(score_units(study_of_many(weight = "s")))
  v <- weights(design, full = TRUE)[many_crews()$joined == 0]
  expect_equal(glance(assess_balance(design))$ess_control, sum(v)^2 / sum(v^2))
})

test_that("groups show recorded values, count the missing, and cluster their standard errors", {
  data <- many_crews()
  data$boat[c(1, 5, 9)] <- NA
  rows <- tidy(describe_groups(study_of_many(data, covariates = c("boat", "port"))))
  expect_equal(rows$mean_treated[1], mean(data$boat[data$joined == 1], na.rm = TRUE))
  expect_identical(rows$missing_treated[1] + rows$missing_control[1], 3L)
  expect_identical(rows$n_treated[1] + rows$n_control[1], 297L)
  clustered <- tidy(describe_groups(study_of_many(covariates = "boat", cluster = "harbour")))
  arm <- split(seq_len(300), many_crews()$joined)
  contribution <- numeric(300)
  boat <- many_crews()$boat
  contribution[arm$`1`] <- (boat[arm$`1`] - mean(boat[arm$`1`])) / length(arm$`1`)
  contribution[arm$`0`] <- -(boat[arm$`0`] - mean(boat[arm$`0`])) / length(arm$`0`)
  expect_equal(clustered$std.error, sqrt(sum(tapply(contribution, many_crews()$harbour, sum)^2) * 30 / 29))
})

test_that("overlap counts units outside the other arm's range, and the AUC is the share of ordered pairs", {
  design <- score_units(study_of_many())
  e <- design$score$fitted
  z <- many_crews()$joined
  overlap <- assess_overlap(design)
  rows <- tidy(overlap)
  expect_identical(rows$outside[rows$arm == "treated"], sum(e[z == 1] < min(e[z == 0]) | e[z == 1] > max(e[z == 0])))
  pairs <- outer(e[z == 1], e[z == 0], "-")
  expect_equal(glance(overlap)$auc, mean((pairs > 0) + (pairs == 0) / 2))
  expect_equal(rows$median[1], unname(quantile(e[z == 1], 0.5, type = 1)))
  expect_error(assess_overlap(study_of_many()), class = "twin_error_input")
})

test_that("plots draw the numbers of their tables", {
  design <- weigh_units(score_units(study_of_many()))
  balance <- assess_balance(design)
  points <- ggplot2::layer_data(plot(balance), 4)
  expect_setequal(round(points$x, 10), round(abs(tidy(balance)$smd), 10))
  bars <- ggplot2::layer_data(plot(assess_overlap(design)), 2)
  expect_equal(sum(bars$ymax[bars$PANEL == 1]), 1)  # treated, upwards
  expect_equal(sum(bars$ymin[bars$PANEL == 2]), -1)
})

test_that("prints of tables fit 80 columns", {
  design <- pair_units(score_units(study_of_many(weight = "s")))
  lines <- c(format(design), format(assess_balance(design)), format(assess_overlap(design)),
             format(describe_groups(design$study)), format(logbook(design)))
  expect_lte(max(nchar(lines)), 80)
  expect_snapshot(assess_balance(design))
  expect_snapshot(describe_groups(design$study))
  expect_snapshot(assess_overlap(design))
})

test_that("several designs stand side by side, each row passing only when it does in all", {
  scored <- score_units(study_of_many())
  designs <- list(pairs = pair_units(scored), weights = weigh_units(scored))
  both <- assess_balance(designs)
  expect_identical(unique(tidy(both)$sample), c("before", "pairs", "weights"))
  alone <- tidy(assess_balance(designs$weights))
  expect_equal(tidy(both)$smd[tidy(both)$sample == "weights"], alone$smd[alone$sample == "after"])
  expect_equal(glance(both)$worst_smd[1], glance(assess_balance(designs$pairs))$worst_smd)
  expect_lte(max(nchar(format(both))), 80)
  expect_error(assess_balance(list(a = scored, b = score_units(study_of_many(many_crews(seed = 9))))), "one study",
               class = "twin_error_input")
})

test_that("squares, cubes, interactions and the score are rows on request", {
  data <- many_crews()
  design <- weigh_units(score_units(study_of_many(data)))
  rows <- tidy(assess_balance(design, extra = c("score", "squares", "cubes", "interactions")))
  before <- rows[rows$sample == "before", ]
  expect_identical(before$covariate[before$kind != "level"],
                   c("boat", "past", "linear score", "boat^2", "past^2", "boat^3", "past^3", "boat x past"))
  square <- (data$boat - mean(data$boat))^2
  arms <- split(square, data$joined)
  expect_equal(before$smd[before$covariate == "boat^2"], (mean(arms$`1`) - mean(arms$`0`)) / sd(arms$`1`))
  expect_error(assess_balance(design, extra = "square"), "Did you mean \"squares\"", class = "twin_error_input")
  expect_error(assess_balance(study_of_many(), extra = "score"), "needs a design with a score",
               class = "twin_error_input")
})

test_that("custom rows may use columns the design did not, and must be finite", {
  data <- many_crews()
  design <- weigh_units(score_units(study_of_many(data, covariates = "boat")))
  rows <- tidy(assess_balance(design, custom = list("past per s" = ~ past / s)))
  expect_equal(rows$mean_control[rows$covariate == "past per s"][1], mean((data$past / data$s)[data$joined == 0]))
  expect_error(assess_balance(design, custom = list(bad = ~ log(past))), "finite in every row.*first rows",
               class = "twin_error_input") |> suppressWarnings()
  expect_error(assess_balance(design, custom = list(~ past)), "named list", class = "twin_error_input")
})

test_that("the table per subgroup is that of the subgroup, on the whole sample's reference sd", {
  data <- many_crews()
  design <- weigh_units(score_units(study_of_many(data)))
  rows <- tidy(assess_balance(design, by = "coast"))
  expect_identical(unique(rows$group), c(NA, "east", "west"))
  row <- rows[rows$group %in% "east" & rows$covariate == "boat" & rows$sample == "after", ]
  w <- weights(design)
  mean_of <- function(z) weighted.mean(data$boat[data$coast == "east" & data$joined == z],
                                       w[data$coast == "east" & data$joined == z])
  expect_equal(row$difference, mean_of(1) - mean_of(0))
  expect_equal(row$smd, row$difference / sd(data$boat[data$joined == 1]))
  data$thin <- ifelse(seq_len(300) == 1, "rare", "usual")
  expect_warning(assess_balance(study_of_many(data), by = "thin"), "\"rare\"", class = "twin_warning_thin_group")
  expect_error(assess_balance(design, by = "past"), "a few levels", class = "twin_error_input")
})

test_that("reduction is the share of |SMD| that went, and tests are Welch's up to n / (n - 1)", {
  data <- many_crews()
  rows <- tidy(assess_balance(weigh_units(score_units(study_of_many(data))), tests = TRUE))
  boat <- rows[rows$covariate == "boat", ]
  expect_equal(boat$reduction, c(NA, 100 * (1 - abs(boat$smd[2]) / abs(boat$smd[1]))))
  arms <- split(data$boat, data$joined)
  size <- lengths(arms)
  variance <- sum(vapply(arms, var, 0) * (size - 1) / size^2) * 300 / 299
  expect_equal(boat$statistic[1], (mean(arms$`1`) - mean(arms$`0`)) / sqrt(variance))
  expect_match(paste(format(assess_balance(study_of_many(data), tests = TRUE)), collapse = " "), "a p-value shrinks with n")
})

test_that("medians, quartiles and the choice by skewness are weighted quantiles of each arm", {
  data <- many_crews()
  data$skewed <- exp(2 * data$boat)
  rows <- tidy(describe_groups(study_of_many(data, covariates = c("boat", "skewed")), summary = "by_skew"))
  expect_identical(rows$shown, c("mean", "median"))
  treated <- data$skewed[data$joined == 1]
  expect_equal(c(rows$q25_treated[2], rows$median_treated[2], rows$q75_treated[2]),
               unname(quantile(treated, c(0.25, 0.5, 0.75), type = 1)))
  twice <- data[rep(1:300, rep(1:2, 150)), ]
  data$s <- rep(1:2, 150)
  weighted <- tidy(describe_groups(study_of_many(data, covariates = "skewed", weight = "s"), summary = "median"))
  expect_equal(weighted$median_control, unname(quantile(twice$skewed[twice$joined == 0], 0.5, type = 1)))
})

test_that("overall columns, subgroups and other columns of the data are described on request", {
  data <- many_crews()
  study <- study_of_many(data)
  rows <- tidy(describe_groups(study, overall = TRUE))
  expect_equal(rows$mean_all[1], mean(data$boat))
  expect_equal(rows$sd_all[1], sd(data$boat))
  by <- tidy(describe_groups(study, columns = c("s", "harbour"), by = "coast"))
  expect_identical(unique(by$group), c("east", "west"))
  expect_equal(by$mean_treated[1], mean(data$s[data$joined == 1 & data$coast == "east"]))
  expect_true(is.na(summary(logbook(study))$opened))
  describe_groups(study, columns = "income")
  expect_false(is.na(summary(logbook(study))$opened))
})

test_that("tests of groups: t for a number, and a chi-squared near Pearson's for levels", {
  data <- many_crews(3000)
  rows <- tidy(describe_groups(study_of_many(data), tests = TRUE))
  expect_equal(rows$statistic[1], rows$difference[1] / rows$std.error[1])
  levels <- rows[rows$covariate == "port", ]
  expect_identical(unique(levels$df), 2)
  pearson <- chisq.test(table(data$port, data$joined), correct = FALSE)$statistic
  # Wald's form uses each arm's own variance: equal to first order
  expect_equal(levels$statistic[1], unname(pearson), tolerance = 0.1)
})

test_that("views of distributions draw weighted curves", {
  data <- many_crews()
  design <- weigh_units(score_units(study_of_many(data)))
  balance <- assess_balance(design)
  cumulative <- ggplot2::layer_data(plot(balance, "cumulative", "boat"), 1)
  half <- cumulative[cumulative$PANEL == 2 & cumulative$group == 1, ]
  w <- weights(design)[data$joined == 0]
  x <- data$boat[data$joined == 0]
  expect_equal(half$y[128], sum(w[x <= half$x[128]]) / sum(w))
  quantiles <- ggplot2::layer_data(plot(balance, "quantiles", "boat"), 2)
  expect_equal(quantiles$y[50], unname(quantile(data$boat[data$joined == 1], 0.5, type = 1)))
  density <- ggplot2::layer_data(plot(balance, "density", "boat"), 1)
  one <- density[density$PANEL == 1 & density$group == 2, ]
  expect_equal(sum(one$y) * diff(one$x[1:2]), 1, tolerance = 0.05)
  shares <- ggplot2::layer_data(plot(balance, "density", "port"), 1)
  expect_equal(sum(shares$ymax), 4)
  ratios <- ggplot2::layer_data(plot(balance, "ratios"), 3)
  expect_setequal(round(2^ratios$x, 8), round(na.omit(tidy(balance)$variance_ratio), 8))
  expect_s3_class(plot(balance, "density", "all"), "ggplot")
  expect_error(plot(balance, "density"), "needs a `covariate`", class = "twin_error_input")
  expect_error(plot(balance, "density", "baot"), "Did you mean \"boat\"", class = "twin_error_input")
  expect_error(plot(balance, "cumulative", "port"), "have no cumulative view", class = "twin_error_input")
})

test_that("the region without counterparts is found in the covariates' own terms", {
  units <- suppressMessages(simulate_units(2000, c(numeric = 2, binary = 1), overlap = "poor", seed = 4))
  overlap <- assess_overlap(score_units(frame_study(units, "treated", "outcome", c("x1", "x2", "b1"))))
  region <- overlap$region$control
  expect_gt(region$share[1], 2 * attr(region, "overall"))
  # controls without a counterpart are those least likely to be treated
  expect_match(region$where[1], "x1< -|x2< -")
  expect_identical(sum(region$outside), sum(overlap$outside & units$treated == 0))
  expect_match(paste(format(overlap), collapse = " "), "Where control units have no counterpart")
})

test_that("views of overlap draw the samples, weighted or not, on either scale", {
  data <- many_crews()
  overlap <- assess_overlap(weigh_units(score_units(study_of_many(data))))
  density <- ggplot2::layer_data(plot(overlap, "density", bandwidth = 0.05), 2)
  one <- density[density$PANEL == 2 & density$group == 2, ]
  expect_equal(sum(one$y) * diff(one$x[1:2]), 1, tolerance = 0.01)
  plain <- ggplot2::layer_data(plot(overlap, weighted = FALSE), 2)
  expect_equal(plain$ymin[plain$PANEL == 1], plain$ymin[plain$PANEL == 2])
  points <- ggplot2::layer_data(plot(overlap, "points", "linear"), 2)
  expect_equal(sort(points$x[points$PANEL == 1]), sort(qlogis(overlap$score)))
  expect_identical(sum(points$shape == 4), 2L * sum(overlap$outside))
  expect_error(plot(overlap, bandwidth = 1), "belong to", class = "twin_error_input")
})

test_that("differences can be divided by the whole sample's sd, or by one that is given", {
  data <- many_crews()
  study <- study_of_many(data, weight = "s")
  rows <- tidy(assess_balance(study, reference = "all"))
  v <- with(data, sum(s * (boat - weighted.mean(boat, s))^2) / (sum(s) - sum(s^2) / sum(s)))
  expect_equal(rows$smd[1], rows$difference[1] / sqrt(v))
  p <- with(data, weighted.mean(port == "large", s))
  large <- rows[rows$level %in% "large", ]
  expect_equal(large$smd, large$difference / sqrt(p * (1 - p)))
  plain <- tidy(assess_balance(study))
  given <- assess_balance(study, reference = c(boat = 2, "port: small" = 0.5))
  rows <- tidy(given)
  expect_equal(rows$smd[c(1, 5)], plain$difference[c(1, 5)] / c(2, 0.5))
  expect_equal(rows$smd[2:4], plain$smd[2:4])
  expect_match(paste(format(given), collapse = " "),
               "sd given for boat and port: small, and the treated units' sd for other\\s+rows before the design")
  expect_error(assess_balance(study, reference = c(baot = 2)), "Did you mean \"boat\"", class = "twin_error_input")
  for (wrong in list(2, c(boat = 0), c(boat = NA), "half")) {
    expect_error(assess_balance(study, reference = wrong), "`reference` must be", class = "twin_error_input")
  }
})

test_that("all levels of a factor have one difference together", {
  data <- many_crews()
  design <- weigh_units(score_units(study_of_many(data, estimand = "ATE")))
  rows <- subset(tidy(assess_balance(design, extra = "factors")), kind == "factor")
  by_hand <- function(v) {
    p1 <- prop.table(xtabs(v ~ port, data, subset = joined == 1))[-1]
    p0 <- prop.table(xtabs(v ~ port, data, subset = joined == 0))[-1]
    d <- as.vector(p1 - p0)
    sqrt(sum(d * solve(spread, d)))
  }
  share <- function(z) prop.table(table(data$port[data$joined == z]))[-1]
  one <- function(p) diag(as.vector(p)) - tcrossprod(as.vector(p))
  spread <- (one(share(1)) + one(share(0))) / 2
  expect_equal(rows$smd, c(by_hand(rep(1, 300)), by_hand(weights(design))))
  expect_identical(rows$level, rep("(all levels)", 2))
  expect_equal(rows$reduction[2], 100 * (1 - rows$smd[2] / rows$smd[1]))
  # of a factor with two levels it is what each of them has
  data$side <- ifelse(data$port == "small", "lee", "windward")
  two <- tidy(assess_balance(study_of_many(data, covariates = c("boat", "side")), extra = "factors"))
  expect_equal(two$smd[4], abs(two$smd[2]))
  expect_s3_class(plot(assess_balance(design, extra = "factors")), "ggplot")
})

test_that("a row that fails by its variance ratio alone says so, in the table and above it", {
  data <- many_crews()
  data$wide <- withr::with_seed(1, rnorm(300)) * ifelse(data$joined == 1, 3, 1)
  data$wide[data$joined == 1] <- data$wide[data$joined == 1] - mean(data$wide[data$joined == 1]) + mean(data$wide[data$joined == 0])
  balance <- assess_balance(study_of_many(data, covariates = c("wide", "past")), limit = "lenient")
  lines <- format(balance)
  expect_match(grep("^ +wide ", lines, value = TRUE), "NO: ratio$")
  ratio <- tidy(balance)$variance_ratio[1]
  expect_match(gsub("\\s+", " ", paste(lines, collapse = " ")), sprintf("1 row fails by the variance ratio alone, wide (%s)", number_text(ratio)),
               fixed = TRUE)
  expect_no_match(format(assess_balance(study_of_many())), "variance ratio alone")
})
