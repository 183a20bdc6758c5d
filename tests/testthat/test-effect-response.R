# Effects along a dose.

dosed <- function(n = 400, seed = 1) {
  withr::with_seed(seed, {
    size <- rnorm(n)
    port <- sample(c("small", "large"), n, TRUE)
    past <- rnorm(n)
    tonnes <- 3 + 0.5 * size + 0.4 * (port == "large") + rnorm(n)
    data.frame(size, port, past, tonnes, s = runif(n, 0.5, 2), bay = rep_len(1:20, n),
               income = 2 * tonnes - 0.1 * tonnes^2 + size + past + rnorm(n), spoiled = rbinom(n, 1, plogis(1 - 0.4 * tonnes + size)))
  })
}

framed_dose <- function(data = dosed(), ..., outcome = c("income", "spoiled")) {
  frame_dose(data, "tonnes", outcome, ~ size + port + past, ...)
}

contrast_of <- function(x, ...) tidy(measure_response(x, ...), part = "contrasts")

test_that("inverse weights are the density of the dose over that given covariates", {
  data <- dosed()
  design <- weigh_units(score_units(framed_dose(data)))
  fit <- lm(tonnes ~ size + port + past, data)
  d <- data$tonnes
  by_hand <- dnorm(d, mean(d), sqrt(mean((d - mean(d))^2))) / dnorm(residuals(fit), 0, sqrt(mean(residuals(fit)^2)))
  expect_equal(weights(design), unname(by_hand) / mean(by_hand), tolerance = 1e-7)
  bent <- lm(tonnes ~ splines::ns(size, 3) + port + splines::ns(past, 3), data)
  by_splines <- dnorm(d, mean(d), sqrt(mean((d - mean(d))^2))) / dnorm(residuals(bent), 0, sqrt(mean(residuals(bent)^2)))
  expect_equal(weights(weigh_units(score_units(framed_dose(data), density = "splines"))), unname(by_splines) / mean(by_splines), tolerance = 1e-7)
  kernel <- weigh_units(score_units(framed_dose(data), density = "kernel"))
  drawn_in <- function(x) {  # normal kernels about points drawn in, so that they add no variance
    width <- bw.nrd0(x)
    share <- 1 / sqrt(1 + width^2 / mean((x - mean(x))^2))
    vapply(x, function(at) mean(dnorm(at, mean(x) + share * (x - mean(x)), share * width)), 0)
  }
  by_kernels <- drawn_in(d) / drawn_in(residuals(fit))
  middle <- abs(d - mean(d)) < 2 * sd(d) & abs(residuals(fit)) < 2 * sd(residuals(fit))
  scale <- unname(weights(kernel) / by_kernels)
  expect_equal(scale[middle], rep(scale[1], sum(middle)), tolerance = 2e-3)
  cut <- weigh_units(score_units(framed_dose(data)), truncate = c(quantile = 0.95))
  expect_lt(max(weights(cut)), max(weights(design)))
})

test_that("entropy weights leave no correlation and keep all means, and balance says so", {
  data <- dosed()
  design <- weigh_units(framed_dose(data, weight = "s"), "entropy", moments = 2)
  v <- weights(design, full = TRUE)
  mean_of <- function(x, w) sum(w * x) / sum(w)
  for (x in list(data$size, data$port == "large", data$past, data$size^2)) {
    away <- function(x) x - mean_of(x, v)
    expect_lt(abs(sum(v * away(x) * away(data$tonnes))) / sum(v), 1e-6)
    expect_equal(mean_of(x, v), mean_of(x, data$s), tolerance = 1e-6)
  }
  expect_equal(mean_of(data$tonnes, v), mean_of(data$tonnes, data$s), tolerance = 1e-6)
  balance <- assess_balance(design)
  rows <- tidy(balance)
  before <- cov.wt(cbind(data$size, data$tonnes), data$s, cor = TRUE)$cor[1, 2]
  expect_equal(rows$correlation[rows$covariate == "size" & rows$sample == "before"], before)
  expect_true(all(rows$pass[rows$sample == "after"]))
  text <- paste(format(balance), collapse = " ")
  expect_match(text, "4 of 4 rows pass")
  expect_match(text, sprintf("Effective sample: %s of 400 units", format(round(sum(v)^2 / sum(v^2)))))
  both <- assess_balance(list(raw = framed_dose(data, weight = "s"), entropy = design))
  expect_identical(glance(both)$sample, "entropy")
  draw_quietly(plot(both))
})

test_that("a dose of two values gives the two-arm answers", {
  data <- dosed()
  data$tonnes <- as.numeric(data$tonnes > 3) * 2 + 1
  data$z <- data$tonnes == 3
  arms <- frame_study(data, "z", "income", ~ size + port + past, estimand = "ATE", weight = "s")
  dose <- framed_dose(data, weight = "s")
  same <- function(x, effect, ..., tolerance = 1e-7) {
    own <- contrast_of(x, contrasts = list(c(1, 3)), ...)
    two <- tidy(effect)[tidy(effect)$term == "difference", ]
    expect_equal(own$estimate, two$estimate, tolerance = tolerance)
    expect_equal(own$std.error, two$std.error, tolerance = 0.02)
    expect_equal(tidy(measure_response(x, ...), part = "slope")$estimate, own$estimate / 2)
  }
  same(dose, measure_effect(arms))
  same(weigh_units(score_units(dose)), measure_effect(weigh_units(score_units(arms))))
  same(weigh_units(dose, "entropy"), measure_effect(weigh_units(arms, "entropy")), tolerance = 1e-5)
  same(weigh_units(score_units(dose)), measure_effect(weigh_units(score_units(arms)), estimator = "augmented"), estimator = "augmented")
})

test_that("without weights a straight line is the regression's, and local lines are weighted regressions", {
  data <- dosed()
  fit <- lm(income ~ tonnes, data)
  line <- measure_response(framed_dose(data), knots = 0, contrasts = list(c(2, 4)), doses = c(1.5, 3, 4.5))
  expect_equal(tidy(line, part = "slope")$estimate, coef(fit)[["tonnes"]])
  expect_equal(tidy(line)$estimate, unname(predict(fit, data.frame(tonnes = c(1.5, 3, 4.5)))))
  x <- cbind(1, data$tonnes)
  h <- hatvalues(fit)
  bread <- solve(crossprod(x))
  third <- bread %*% crossprod(x * residuals(fit) / (1 - h)) %*% bread
  expect_equal(tidy(line, part = "slope")$std.error, sqrt(third[2, 2]) * sqrt(400 / 399), tolerance = 1e-3)
  local <- measure_response(framed_dose(data), curve = "local", bandwidth = 0.5, doses = c(2, 3))
  near <- dnorm((data$tonnes - 2) / 0.5)
  expect_equal(tidy(local)$estimate[1], coef(lm(income ~ I(tonnes - 2), data, weights = near))[[1]])
  chosen <- measure_response(framed_dose(data), curve = "local")
  expect_match(glance(chosen)$curve, "local lines \\(bandwidth")
})

test_that("a spline has the fifth root of the units as knots, no more than doses allow", {
  knots_of <- function(dose, outcome = dose + cos(seq_along(dose)), ...) {
    data <- data.frame(dose, outcome, size = sin(seq_along(dose)))
    glance(suppressWarnings(measure_response(frame_dose(data, "dose", "outcome", "size"), ...)))$curve
  }
  expect_match(knots_of(qnorm(ppoints(1000))), "4 inner knots at -0.843, -0.255, 0.252 and 0.840")
  expect_match(knots_of(qnorm(ppoints(400))), "3 inner knots")
  expect_match(knots_of(qnorm(ppoints(400)), knots = 1), "1 inner knot at")
  expect_match(knots_of(qnorm(ppoints(1e5))), "10 inner knots")
  expect_match(knots_of(rep_len(1:3, 1000)), "1 inner knot at 2.00")
  expect_match(knots_of(rep_len(1:2, 1000)), "both of its values")
  # only units with a known outcome count, and so do their doses
  expect_match(knots_of(rep_len(1:6, 1000), ifelse(rep_len(1:6, 1000) > 3, NA, sin(1:1000))), "1 inner knot at 2.00")
  at_three <- ifelse(rep_len(1:6, 1000) == 3, sin(1:1000), NA)
  expect_error(knots_of(rep_len(1:6, 1000), at_three), "outcome have the dose 3", class = "twin_error_input")
  # where nine in ten have no dose, the curve bends among the others
  others <- qexp(ppoints(100))
  most <- c(rep(0, 900), others)
  among <- sprintf("%.3g", quantile(others, 1:4 / 5, type = 1))
  expect_match(knots_of(most), sprintf("4 inner knots at %s, %s, %s and %s", among[1], among[2], among[3], among[4]))
  expect_match(knots_of(-most, knots = 1), format(-quantile(others, 0.5, type = 1), digits = 3))
})

test_that("entries of a dose that mean not known are none; text that is nearly all numbers says which are not", {
  data <- data.frame(dose = ppoints(200) * 10, size = sin(1:200), outcome = cos(1:200))
  framed <- function(given, ...) frame_dose(transform(data, dose = given), "dose", "outcome", "size", ...)
  curve <- function(study) tidy(measure_response(weigh_units(score_units(study))))
  with_none <- replace(data$dose, 11:15, NA)
  own <- suppressWarnings(framed(with_none))
  expect_warning(by_code <- framed(replace(data$dose, 11:15, 99), unknown = "99"), "5 rows are left out.*dose",
                 class = "twin_warning_dropped")
  expect_identical(by_code$d, own$d)
  expect_identical(curve(by_code), curve(own))
  text <- replace(as.character(data$dose), 11:15, "n/a")
  expect_equal(suppressWarnings(framed(text, unknown = "n/a"))$d, own$d)
  said <- expect_error(framed(text), "numbers, but for \"n/a\"", class = "twin_error_input")
  expect_match(conditionMessage(said), "unknown = \"n/a\"", fixed = TRUE)
  expect_error(framed(rep(c("some", "much"), 100)), "frame_arms", class = "twin_error_input")
  expect_error(framed(rep_len(1:4, 200), categories = "dose"), "categories.* makes kinds", class = "twin_error_input")
  skip_if_not_installed("haven")
  labelled <- haven::labelled(replace(data$dose, 11:15, -9), c("not asked" = -9))
  expect_identical(suppressWarnings(framed(labelled, unknown = "not asked"))$d, own$d)
})

test_that("weights that can't part a level from the dose name it", {
  data <- data.frame(dose = ppoints(200) * 10, size = sin(1:200), outcome = cos(1:200), owner = rep(c("crew", "bank"), 100))
  stopped <- function(rows, owner) {
    data$owner[rows] <- owner
    expect_error(weigh_units(frame_dose(data, "dose", "outcome", c("size", "owner")), "entropy"), class = "twin_error_infeasible")
  }
  few <- stopped(c(2, 5, 9), "town")
  expect_identical(few$columns, "owner: town")
  expect_match(cli::ansi_strip(conditionMessage(few)), "3 units with \"owner: town\": all their doses are less than the\\s+mean")
  expect_match(cli::ansi_strip(conditionMessage(stopped(199, "town"))), "1 unit with \"owner: town\": its dose is more than the\\s+mean")
  expect_s3_class(weigh_units(frame_dose(transform(data, owner = replace(owner, c(2, 199), "town")), "dose", "outcome",
                                         c("size", "owner")), "entropy"), "twin_dose")  # on both sides
  data$mate <- data$dose
  told <- expect_error(weigh_units(frame_dose(data, "dose", "outcome", "mate"), "entropy"), "nearly tells the dose",
                       class = "twin_error_infeasible")
  expect_length(told$columns, 0)
})

test_that("a dose that many share, or that hardly differs, is told of", {
  framed <- function(dose, ...) {
    data <- data.frame(dose, size = sin(seq_along(dose)), outcome = cos(seq_along(dose)))
    frame_dose(data, "dose", "outcome", "size", ...)
  }
  none <- framed(c(rep(0, 60), 1 + ppoints(140)))
  said <- expect_warning(score_units(none), "60 of 200 units share the dose 0; a density knows no such share",
                         class = "twin_warning_density")
  expect_identical(said$rows, 1:60)
  scored <- suppressWarnings(score_units(none))
  expect_match(scored$cautions, "share the dose 0")
  measured <- measure_response(weigh_units(scored), contrasts = list(c(1.2, 1.8)), doses = c(1.2, 1.8))
  expect_match(measured$cautions, "share the dose 0", all = FALSE)
  expect_warning(score_units(framed(c(rep(7, 60), ppoints(140))), density = "kernel"), "share the dose 7")
  expect_warning(score_units(framed(c(0, 0, 0, 0, 0, 1 + ppoints(15)))), "5 of 20 units share the dose 0", class = "twin_warning_density")
  expect_no_warning(score_units(framed(c(0, 0, 0, 0, 1 + ppoints(16)))), class = "twin_warning_density")  # too few to be a heap
  expect_no_warning(score_units(framed(rep_len(1:5, 200))))
  expect_no_warning(score_units(framed(c(rep(0, 19), ppoints(181)))))
  expect_no_warning(score_units(framed(rep_len(0:1, 200))))
  expect_no_warning(weigh_units(none, "entropy"))
  expect_error(framed(c(rep(0, 9), 1)), "Of 10 units, 1 has more than 0 and 0 have less", class = "twin_error_input")
  expect_error(framed(c(rep(0, 9), 1, -1)), "Of 11 units, 1 has more than 0 and 1 has less", class = "twin_error_input")
  expect_identical(framed(c(-1, -1, rep(0, 9), 1))$d, c(-1, -1, rep(0, 9), 1))
})

test_that("what is said of support counts doses between and beyond", {
  said <- function(supported, dose = seq_along(supported)) support_sentence(list(curve = data.frame(dose, supported)))
  expect_identical(said(c(TRUE, TRUE, TRUE)), "Supported by data from 1 to 3, all doses told.")
  expect_identical(said(c(FALSE, FALSE)), "No dose told is supported: few units are near, or many could not have had it.")
  expect_identical(said(c(FALSE, TRUE, TRUE)), "Supported by data from 2 to 3; the rest of 1 to 3 is the curve carried on.")
  expect_identical(said(c(FALSE, TRUE, FALSE)), "Supported by data at 2; the rest of 1 to 3 is the curve carried on.")
  expect_identical(said(c(TRUE, FALSE, TRUE)), "Supported by data from 1 to 3, but for 1 dose told between them.")
  expect_identical(said(c(TRUE, FALSE, FALSE, TRUE, FALSE)),
                   paste("Supported by data from 1 to 4, but for 2 doses told between them; the rest of 1 to 5 is the curve",
                         "carried on."))
})

test_that("influence is n times the derivative in a unit's weight, everything estimated anew", {
  data <- dosed(150, seed = 3)
  data$s <- 1
  estimate <- function(data, make, ...) {
    contrast_of(make(framed_dose(data, weight = "s")), contrasts = list(c(2, 4)), doses = c(2, 3, 4), ...)$estimate
  }
  ways <- list(
    list(make = function(x) weigh_units(score_units(x)), more = list()),
    list(make = function(x) weigh_units(x, "entropy"), more = list()),
    list(make = function(x) weigh_units(score_units(x)), more = list(estimator = "augmented")),
    list(make = function(x) weigh_units(score_units(x)), more = list(estimator = "augmented", outcome = "spoiled")),
    list(make = function(x) weigh_units(x, "entropy"), more = list(estimator = "augmented", products = FALSE))
  )
  for (way in ways) {
    design <- way$make(framed_dose(data, weight = "s"))
    found <- do.call(measure_response, c(list(design, contrasts = list(c(2, 4)), doses = c(2, 3, 4), knots = 0), way$more))
    for (i in c(5, 80)) {
      moved <- function(by) {
        data$s[i] <- data$s[i] + by
        do.call(estimate, c(list(data, way$make, knots = 0), way$more))
      }
      derivative <- 150 * (moved(1e-4) - moved(-1e-4)) / 2e-4
      own <- augment(found)[[3]][i]
      # what the residual counts more for its leverage
      v <- weights(design)
      x <- cbind(1, data$tonnes)
      left <- if (length(way$more) == 0) residuals(lm(income ~ tonnes, data, weights = v))[i] else NA
      h <- hatvalues(lm(income ~ tonnes, data, weights = v))[i]
      if (is.na(left)) {
        expect_equal(own, derivative, tolerance = 0.05 + 2 * h)
      } else {
        hat <- drop(x %*% solve(crossprod(x, v * x), c(0, 2)))[i]
        direct <- 150 * v[i] * left * hat
        expect_equal(own - direct / (1 - h) + direct, derivative, tolerance = 1e-3, ignore_attr = TRUE)
      }
    }
  }
})

test_that("prints name doses, support and what was used; unsupported contrasts warn", {
  design <- weigh_units(score_units(framed_dose(cluster = "bay")))
  found <- measure_response(design, estimator = "augmented", contrasts = list(more = c(2, 4), less = c(4, 2)))
  rows <- tidy(found, part = "contrasts")
  expect_equal(rows$estimate[1], -rows$estimate[2])
  text <- paste(format(found), collapse = " ")
  expect_match(text, "With tonnes = 4 rather than 2, income changes by")
  expect_match(text, "clustered by bay \\(20\\), with the estimated weights accounted for")
  expect_match(text, "Supported by data from")
  expect_equal(glance(found)$df, 19)
  curve <- tidy(found)
  expect_true(all(curve$band.low <= curve$conf.low & curve$band.high >= curve$conf.high))
  expect_warning(measure_response(design, contrasts = list(range(dosed()$tonnes))), "beyond what the data support",
                 class = "twin_warning_support")
  raw <- paste(format(measure_response(framed_dose())), collapse = " ")
  expect_match(raw, "income differs by .* nothing adjusted by weights")
  expect_match(paste(format(design), collapse = " "), "Dose +tonnes: 400 units, from")
  draw_quietly(plot(found))
  missing <- dosed()
  missing$income[1:7] <- NA
  expect_match(paste(format(measure_response(framed_dose(missing))), collapse = " "), "393 units used, 7 without the outcome left out")
})

test_that("what does not fit is refused, with the place", {
  data <- dosed()
  expect_error(frame_dose(data, "port", "income", "size"), "must be numbers", class = "twin_error_input")
  expect_error(frame_dose(transform(data, tonnes = 1), "tonnes", "income", "size"), "must differ", class = "twin_error_input")
  expect_error(frame_dose(transform(data, tonnes = replace(tonnes, 3, Inf)), "tonnes", "income", "size"), "infinite in 1 row",
               class = "twin_error_input")
  expect_error(frame_dose(data, "tonnes", "income", "size", estimand = "ATT"), class = "twin_error_unsupported")
  expect_warning(frame_dose(transform(data, tonnes = replace(tonnes, 3, NA)), "tonnes", "income", "size"), "1 row is left out")
  dose <- framed_dose(data)
  expect_error(weigh_units(dose), "needs a score", class = "twin_error_input")
  expect_error(score_units(dose, link = "probit"), class = "twin_error_input")
  misnamed <- expect_error(frame_dose(data, "tonnes", "incom", "size"), "Did you mean", class = "twin_error_input")
  expect_identical(deparse(conditionCall(misnamed)), "frame_dose()")
  expect_error(score_units(dose, density = "splines", model = ~size), "no use with a formula", class = "twin_error_input")
  expect_error(score_units(frame_study(data, "port", "income", "size", treated = "large"), density = "kernel"), class = "twin_error_input")
  expect_error(pair_units(score_units(dose)), "of a dose", class = "twin_error_unsupported")
  expect_error(measure_effect(dose), "of a dose", class = "twin_error_unsupported")
  expect_error(measure_response(dose, doses = c(1, 99)), "Outside: 99", class = "twin_error_input")
  expect_error(measure_response(dose, contrasts = list(c(2, 2))), "different doses", class = "twin_error_input")
  expect_error(measure_response(dose, family = "binomial", estimator = "augmented"), "does not fit", class = "twin_error_input")
  expect_error(measure_response(dose, curve = "local", knots = 3), class = "twin_error_input")
  few <- transform(data, tonnes = round(tonnes / 3))
  expect_error(measure_response(frame_dose(few, "tonnes", "income", "size"), knots = 9), "different doses", class = "twin_error_input")
  expect_error(score_units(frame_dose(transform(data, twin = 2 * tonnes), "tonnes", "income", c("size", "twin"))), "without error",
               class = "twin_error_separation")
  near <- transform(data, almost = tonnes + size / 1e4)
  expect_error(weigh_units(frame_dose(near, "tonnes", "income", c("almost", "size")), "entropy"), class = "twin_error_infeasible")
})

test_that("the E-value is that of the first contrast, leaving out covariates beside it", {
  found <- measure_response(weigh_units(score_units(framed_dose())), contrasts = list(c(2, 4)))
  row <- tidy(found, part = "contrasts")
  probe <- probe_ratio(found)
  sd <- sd(dosed()$income)
  expect_equal(tidy(probe)$e_value, tidy(probe_ratio(row$estimate / sd, low = row$conf.low / sd, high = row$conf.high / sd,
                                                     scale = "mean_difference"))$e_value)
  without <- frame_dose(dosed(), "tonnes", "income", ~ port + past)
  again <- contrast_of(weigh_units(score_units(without)), contrasts = list(c(2, 4)))
  left <- tidy(probe, part = "covariates")
  expect_equal(left$risk_ratio[left$covariate == "size"], exp(0.91 * again$estimate / sd))
})

test_that("the E-value of shares is that of their ratio", {
  data <- transform(dosed(), spoiled = as.integer(income > median(income)))
  design <- weigh_units(score_units(frame_dose(data, "tonnes", "spoiled", ~ size + port + past)))
  found <- measure_response(design, doses = c(2, 4), contrasts = list(c(2, 4)))
  means <- tidy(found)
  together <- (sum(means$std.error^2) - tidy(found, part = "contrasts")$std.error^2) / 2  # covariance of both means
  error <- sqrt(sum((means$std.error / means$estimate)^2) - 2 * together / prod(means$estimate))
  ratio <- means$estimate[2] / means$estimate[1]
  bare <- probe_ratio(ratio, low = ratio * exp(-qnorm(0.975) * error), high = ratio * exp(qnorm(0.975) * error))
  probe <- probe_ratio(found)
  expect_equal(tidy(probe), tidy(bare))
  expect_identical(glance(probe)$scale, "risk_ratio")
  expect_setequal(tidy(probe, part = "covariates")$covariate, c("size", "port", "past"))
})

test_that("imputed doses are pooled, and plans and reports hold them", {
  sets <- lapply(1:3, function(k) transform(dosed(), past = past + k / 20 * (size > 1)))
  pooled <- measure_response(weigh_units(score_units(framed_dose(sets))), contrasts = list(c(2, 4)), doses = 1:5)
  own <- lapply(sets, function(data) contrast_of(weigh_units(score_units(framed_dose(data))), contrasts = list(c(2, 4)), doses = 1:5))
  each <- vapply(own, `[[`, 0, "estimate")
  row <- tidy(pooled, part = "contrasts")
  expect_equal(row$estimate, mean(each))
  expect_equal(row$std.error, sqrt(mean(vapply(own, `[[`, 0, "std.error")^2) + 4 / 3 * var(each)))
  expect_match(paste(format(pooled), collapse = " "), "Pooled over 3 imputed data sets")

  folder <- withr::local_tempdir()
  data.table::fwrite(dosed(), file.path(folder, "d.csv"))
  writeLines(c(
    "study: {data: d.csv, dose: tonnes, outcome: income, covariates: [size, port, past]}",
    "designs: {inverse: [score, weigh], entropy: [{weigh: {method: entropy}}]}",
    "effects: {raw: {measure: response}, both: {measure: response, design: inverse, estimator: augmented, contrasts: [[2, 4]]}}",
    "probes: {ratio: {probe: ratio, effect: both}}"
  ), file.path(folder, "plan.yml"))
  result <- twin("run", file.path(folder, "plan.yml"), "--out", file.path(folder, "out"))
  expect_identical(result$status, 0L)
  html <- paste(readLines(file.path(folder, "out", "report.html"), warn = FALSE), collapse = "\n")
  expect_match(html, "were everybody given a dose of tonnes")
  expect_match(html, "This is &quot;both&quot;, the first one that adjusts|This is \"both\", the first one that adjusts")
  curve <- data.table::fread(file.path(folder, "out", "tables", "curve-both.csv"))
  expect_identical(nrow(curve), 25L)
  expect_identical(twin("balance", file.path(folder, "plan.yml"))$status, 0L)
  expect_identical(twin("describe", file.path(folder, "plan.yml"))$status, 0L)
  lines <- readLines(file.path(folder, "plan.yml"))
  for (more in c("power: {p: {}}", "report: {truth: {income: 1}}")) {
    writeLines(c(lines, more), file.path(folder, "other.yml"))
    expect_stopped(twin("run", file.path(folder, "other.yml")), 2L, "no use for")
  }
  page <- new.env()
  page$made <- page$books <- list()
  answer <- answer_step(read_plan(file.path(folder, "plan.yml")), "question", page)
  expect_identical(unname(answer$failed), character())
  expect_match(answer$html, "were everybody given a dose of tonnes")
  writeLines(c(lines, "power: {p: {}}"), file.path(folder, "other.yml"))
  expect_match(answer_step(read_plan(file.path(folder, "other.yml")), "question", page)$failed, "no use for")
  words <- paste(as.character(methods_text(measure_response(weigh_units(framed_dose(), "entropy"), estimator = "augmented"))), collapse = " ")
  expect_match(words, "entropy weights \\(1 moment\\) \\(Vegetabile and others, 2021\\)")
  expect_match(words, "Kennedy and others, 2017")
})

test_that("the test that a curve is flat is about how far its means lie apart, read by how many units they rest on", {
  withr::local_seed(5)
  c <- matrix(rnorm(120), 30) * rexp(30)^2
  b <- c(1.2, 0.3, 0.8, 0.1)
  found <- core_flat_test(b, crossprod(c), core_effective_size(core_path_lengths(c)))
  shape <- diag(4) - 1 / 4
  d <- c %*% shape %*% t(c)
  number <- sum(diag(d))^2 / sum(diag(d)^2)
  off <- sum(d^2) - sum(diag(d)^2)
  df <- min(max(sum(diag(d))^2 / (off / (1 - 1 / number)), 1), 3)
  statistic <- drop(b %*% shape %*% b) / sum(diag(d))
  expect_equal(found[["statistic"]], statistic)
  expect_equal(found[["df2"]], df * (number - 1))
  expect_equal(found[["p.value"]], pf(statistic, df, df * (number - 1), lower.tail = FALSE))
  expect_true(is.na(core_flat_test(b[1], matrix(1), 30)[["p.value"]]))
  expect_true(is.na(core_flat_test(b, crossprod(c), 1)[["p.value"]]))
  # many even contributions, all means alike: the F is a chi-squared over its degrees of freedom
  even <- core_flat_test(b, diag(4), Inf)
  expect_equal(even[["p.value"]], pchisq(sum((b - mean(b))^2), 3, lower.tail = FALSE))
})

test_that("a curve is flat or not where most doses are, and the print names the doses compared", {
  design <- weigh_units(score_units(framed_dose()))
  found <- measure_response(design)
  at <- found$flat_doses
  tenths <- quantile(dosed()$tonnes, c(0.1, 0.9), type = 1)
  expect_length(at, 5)
  expect_true(all(at >= tenths[1] & at <= tenths[2]))
  expect_lt(min(at) - tenths[1], 0.2)
  expect_lt(tenths[2] - max(at), 0.2)
  expect_equal(glance(measure_response(design, doses = at))$p_flat, glance(found)$p_flat)
  expect_length(measure_response(design, knots = 1)$flat_doses, 3)
  expect_identical(measure_response(design, curve = "local", bandwidth = 1, doses = c(2, 3, 5))$flat_doses, c(2, 3, 5))
  two <- measure_response(weigh_units(score_units(framed_dose(transform(dosed(), tonnes = as.numeric(tonnes > 5) + 1)))))
  expect_match(paste(format(two), collapse = " "), fixed = TRUE,
               "Is the mean of income the same with tonnes = 1 and 2? Joint test: p")
  # nine in ten have none: the tenths of doses hold too few
  none <- data.frame(tonnes = c(rep(0, 900), 1 + ppoints(100)), income = c(sin(1:900), 5 + sin(1:100)), size = cos(1:1000))
  spread <- suppressWarnings(measure_response(frame_dose(none, "tonnes", "income", "size")))
  expect_gt(max(spread$flat_doses), 1)
  expect_lt(glance(spread)$p_flat, 1e-6)
})

test_that("bands widen where few units carry the curve", {
  data <- many_crews(300)
  study <- frame_dose(data, "past", "income", c("boat", "port"))
  found <- measure_response(weigh_units(score_units(study)), doses = seq(-1.5, 1.5, 0.25))
  curve <- tidy(found)
  inside <- which(curve$supported)
  width <- (curve$band.high - curve$estimate) / curve$std.error
  plain <- uniform_quantile(found$vcov[inside, inside], 0.95, Inf, 1)
  expect_true(all(width > plain))
  df <- pmax(found$numbers$each - 1, 4)
  expect_equal(width, qt(pnorm(plain), df))
  expect_equal(core_dose_quantile(2.5, 9, c(3, 1e6)), c(qt(pt(2.5, 9), 4), 2.5))
  clustered <- measure_response(weigh_units(score_units(study)), doses = seq(-1, 1, 0.25), cluster = "harbour")
  expect_true(all(clustered$numbers$each < 30))
})
