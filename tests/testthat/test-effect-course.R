# Treatment over time.

# Two periods of yes/no columns, with what happened before in one column, so that models of it are saturated.
two_periods <- function(n = 4000, seed = 1, leave = FALSE) {
  withr::with_seed(seed, {
    l1 <- rbinom(n, 1, 0.5)
    a1 <- rbinom(n, 1, 0.3 + 0.4 * l1)
    l2 <- rbinom(n, 1, 0.2 + 0.3 * l1 + 0.3 * (1 - a1))
    a2 <- rbinom(n, 1, 0.2 + 0.3 * l2 + 0.2 * a1)
    y <- 1 + 2 * a1 + a2 - l2 + 0.5 * l1 + rnorm(n)
    stays <- if (leave) runif(n) < 0.95 - 0.3 * l1 else rep(TRUE, n)
    first <- data.frame(unit = seq_len(n), time = 1, cell = as.character(l1), a = a1, y = NA_real_)
    second <- data.frame(unit = seq_len(n), time = 2, cell = paste(l1, a1, l2), a = a2, y = y)
    rbind(first, second[stays, ])
  })
}

framed_course <- function(data, ..., changing = "cell") {
  frame_course(data, "a", "y", "time", "unit", changing = changing, treated = 1, ...)
}

# Mean outcome had all followed (a1, a2), by the table of shares.
by_table <- function(data, own) {
  first <- data[data$time == 1, ]
  second <- data[data$time == 2, ]
  l1 <- first$cell
  total <- 0
  for (one in unique(l1)) {
    after <- second[startsWith(second$cell, paste(one, own[1])), ]
    for (cell in unique(after$cell)) {
      share <- mean(l1 == one) * mean(after$cell == cell)
      total <- total + share * mean(after$y[after$cell == cell & after$a == own[2]])
    }
  }
  total
}

test_that("where models are saturated, weights and sequential regressions give the table's answer", {
  for (leave in c(FALSE, TRUE)) {
    data <- two_periods(leave = leave)
    design <- weigh_units(suppressWarnings(score_units(framed_course(data), pooled = FALSE, lags = 0)))
    close <- if (leave) 0.01 else 1e-6  # staying has no term for both columns at once
    truth <- by_table(data, c(1, 1)) - by_table(data, c(0, 0))
    weighted <- measure_course(design, form = "exact")
    augmented <- measure_course(design, estimator = "augmented")
    expect_equal(tidy(weighted)$estimate, truth, tolerance = close)
    expect_equal(tidy(augmented)$estimate, truth, tolerance = close)
    expect_equal(tidy(augmented)$std.error, tidy(weighted)$std.error, tolerance = 0.02)
    expect_equal(tidy(augmented, part = "means")$estimate, c(by_table(data, c(1, 1)), by_table(data, c(0, 0))), tolerance = close)
    late <- list(late = c(0, 1), never = c(0, 0))
    expect_equal(tidy(measure_course(design, histories = late, form = "exact"))$estimate, by_table(data, c(0, 1)) - by_table(data, c(0, 0)),
                 tolerance = close)
  }
})

test_that("running weights are the chances of treatment given the one before over those given all, times those of staying", {
  data <- two_periods(800, leave = TRUE)
  design <- weigh_units(suppressWarnings(score_units(framed_course(data), pooled = FALSE, lags = 0)))
  first <- data[data$time == 1, ]
  second <- data[data$time == 2, ]
  own <- function(fit, a) ifelse(a == 1, fitted(fit), 1 - fitted(fit))
  w1 <- own(glm(a ~ 1, binomial, first), first$a) / own(glm(a ~ cell, binomial, first), first$a)
  before <- first$a[match(second$unit, first$unit)]
  w2 <- own(glm(second$a ~ before, family = binomial), second$a) / own(glm(a ~ cell, binomial, second), second$a)
  first$stays <- first$unit %in% second$unit
  staying <- fitted(glm(stays ~ a, binomial, first)) / fitted(glm(stays ~ cell + a, binomial, first))
  at <- match(second$unit, first$unit)
  by_hand <- rbind(data.frame(first[c("unit", "time")], w = w1), data.frame(second[c("unit", "time")], w = w1[at] * w2 * staying[at]))
  by_hand <- by_hand[match(paste(data$unit, data$time), paste(by_hand$unit, by_hand$time)), ]
  expect_equal(weights(design), by_hand$w, tolerance = 1e-6)
  cut <- weigh_units(suppressWarnings(score_units(framed_course(data), pooled = FALSE, lags = 0)), truncate = c(bound = 1.5))
  expect_equal(weights(cut), pmin(by_hand$w, 1.5), tolerance = 1e-6)
  table <- tidy(assess_balance(design), part = "weights")
  expect_equal(table$greatest[2], max(by_hand$w[by_hand$time == 2]), tolerance = 1e-6)
  expect_identical(table$units, c(800L, nrow(second)))
})

test_that("one period is the cross-section", {
  data <- many_crews(300)
  data$time <- 1
  data$unit <- seq_len(300)
  course <- frame_course(data, "joined", "income", "time", "unit", covariates = c("boat", "past", "port"))
  arms <- frame_study(data, "joined", "income", c("boat", "past", "port"), estimand = "ATE")
  design <- weigh_units(score_units(course))
  two <- weigh_units(score_units(arms))
  effect <- tidy(measure_effect(two))
  for (form in c("cumulative", "exact", "periods")) {
    own <- tidy(measure_course(design, histories = list(yes = 1, no = 0), form = form))
    expect_equal(own$estimate, effect$estimate[3], tolerance = 1e-7)
    expect_equal(own$std.error, effect$std.error[3], tolerance = 0.03)
  }
  augmented <- tidy(measure_effect(two, estimator = "augmented", products = "none", normalise = FALSE))
  own <- tidy(measure_course(design, histories = list(yes = 1, no = 0), estimator = "augmented"))
  expect_equal(own$estimate, augmented$estimate[3], tolerance = 1e-7)
  expect_equal(own$std.error, augmented$std.error[3], tolerance = 0.01)
  gaps <- tidy(assess_balance(design))
  smd <- function(v, x) (weighted.mean(x[data$joined == 1], v[data$joined == 1]) - weighted.mean(x[data$joined == 0], v[data$joined == 0])) / sd(x)
  expect_equal(gaps$smd[gaps$covariate == "boat"], c(smd(rep(1, 300), data$boat), smd(weights(design), data$boat)), tolerance = 1e-3)
})

# A course with numbers, and a weight per unit.
numbers <- function(n = 150, seed = 2) {
  withr::with_seed(seed, {
    size <- rnorm(n)
    debt <- rnorm(n)
    rows <- list()
    before <- 0
    for (t in 1:3) {
      a <- rbinom(n, 1, plogis(0.6 * debt - 0.2 + 0.5 * before))
      rows[[t]] <- data.frame(unit = sprintf("u%03d", seq_len(n)), time = t, size, debt, a)
      debt <- 0.5 * debt - 0.4 * a + rnorm(n)
      before <- a
    }
    data <- do.call(rbind, rows)
    data$y <- ifelse(data$time == 3, debt + data$a + data$size, NA)
    data$w <- 1
    data$bay <- match(data$unit, unique(data$unit)) %% 15
    data <- data[!(data$unit %in% sprintf("u%03d", seq(4, n, 9)) & data$time == 3), ]
    data[sample.int(nrow(data)), ]
  })
}

of_numbers <- function(data = numbers(), ...) {
  frame_course(data, "a", "y", "time", "unit", covariates = "size", changing = "debt", treated = 1, weight = "w", ...)
}

test_that("influence is n times the derivative in a unit's weight, scores and regressions estimated anew", {
  data <- numbers()
  make <- function(data, ...) measure_course(weigh_units(score_units(of_numbers(data))), ...)
  for (more in list(list(estimator = "augmented"), list(), list(form = "periods"))) {
    found <- do.call(make, c(list(data), more))
    for (unit in c("u010", "u077")) {
      moved <- function(by) {
        data$w[data$unit == unit] <- 1 + by
        tidy(do.call(make, c(list(data), more)))$estimate
      }
      derivative <- 150 * (moved(1e-4) - moved(-1e-4)) / 2e-4
      own <- augment(found)$.influence_always[augment(found)$unit == unit]
      if (identical(more$estimator, "augmented")) expect_equal(own, derivative, tolerance = 1e-4) else
        expect_equal(own, derivative, tolerance = 0.15)  # residuals count over 1 - leverage
    }
  }
})

test_that("the order of rows does not matter, and prints say who left and what ordinary ways would have said", {
  data <- numbers()
  design <- weigh_units(score_units(of_numbers(data)))
  sorted <- weigh_units(score_units(of_numbers(data[order(data$unit, data$time), ])))
  expect_equal(tidy(measure_course(design)), tidy(measure_course(sorted)))
  expect_equal(weights(design)[order(data$unit, data$time)], weights(sorted))
  text <- paste(format(of_numbers(data)), collapse = " ")
  expect_match(text, "unit \\(150\\), 3 periods of time; 17 of them leave early")
  expect_warning(found <- measure_course(design, cluster = "bay"), "15 clusters", class = "twin_warning_few_clusters")
  expect_match(found$inference, "clustered by bay \\(15\\)")
  text <- paste(format(found), collapse = " ")
  expect_match(text, "With a always \\(1-1-1\\) rather than never \\(0-0-0\\), y changes by")
  expect_match(text, "133 units with the outcome; 17 left before or have none")
  wide <- data[data$time == 3, ]
  taken <- tapply(data$a, data$unit, sum)[wide$unit]
  expect_equal(tidy(found, part = "beside")$estimate[2], 3 * coef(lm(wide$y ~ taken))[[2]])
  debts <- sapply(1:3, function(t) with(data[data$time == t, ], debt[match(wide$unit, unit)]))
  expect_equal(tidy(found, part = "beside")$estimate[3], 3 * coef(lm(wide$y ~ taken + wide$size + debts))[[2]])
  expect_identical(tidy(found, part = "slopes")$term[2], "each period treated")
  draw_quietly(plot(found))
  balance <- assess_balance(design)
  draw_quietly(plot(balance))
  draw_quietly(plot(balance, view = "weights"))
  expect_match(paste(format(balance), collapse = " "), "of \\d+ rows pass; the worst is")
  imbalance <- tidy(balance)
  own <- imbalance[imbalance$period == "2" & imbalance$had == "treated before" & imbalance$covariate == "debt" & imbalance$sample == "before", ]
  second <- data[data$time == 2, ]
  second <- second[second$unit %in% data$unit[data$time == 1 & data$a == 1], ]
  all_second <- data$debt[data$time == 2]
  expect_equal(own$smd, (mean(second$debt[second$a == 1]) - mean(second$debt[second$a == 0])) / sd(all_second))
})

test_that("treatment that never stops needs no score where it is told", {
  data <- numbers()
  data <- data[order(data$unit, data$time), ]
  data$a <- ave(data$a, data$unit, FUN = cummax)
  design <- weigh_units(score_units(of_numbers(data)))
  v <- weights(design)
  expect_true(all(is.finite(v) & v > 0))
  expect_true(is.finite(tidy(measure_course(design, estimator = "augmented", histories = list(late = c(0, 0, 1), never = c(0, 0, 0))))$estimate))
})

test_that("histories that do not fit together are refused, with the units", {
  data <- numbers()
  refused <- function(data, pattern, ...) {
    expect_error(frame_course(data, "a", "y", "time", "unit", covariates = "size", changing = "debt", treated = 1, ...), pattern,
                 class = "twin_error_input")
  }
  refused(rbind(data, data[1, ]), "one row per period")
  e <- refused(data[!(data$unit == "u005" & data$time == 2), ], "begin in the first period")
  expect_identical(e$units, "u005")
  refused(data[!(data$unit == "u006" & data$time == 1), ], "u006")
  moving <- data
  moving$size[moving$unit == "u007"] <- 1:3
  refused(moving, "must not change within a unit")
  refused(transform(data, a = replace(a, 5, NA)), "must be known in every row") |> expect_warning()
  refused(transform(data, a = ifelse(time == 2, 1, a)), "at least 2 units must be treated")
  refused(transform(data, time = replace(time, 3, NA)), "must not be missing")
  expect_error(frame_course(data, "a", "y", "time", "unit", changing = "debt", treated = 1, estimand = "ATT"), class = "twin_error_unsupported")
  expect_error(frame_course(data, "a", "y", "time", "unit", covariates = "debt", changing = "debt"), "both constant and changing",
               class = "twin_error_input")
  course <- of_numbers(data)
  expect_error(measure_course(course), "no scores", class = "twin_error_input")
  expect_error(weigh_units(course), "needs scores", class = "twin_error_input")
  expect_error(measure_course(score_units(course)), "no weights", class = "twin_error_input")
  design <- weigh_units(score_units(course))
  expect_error(measure_course(design, histories = list(always = c(1, 1), never = c(0, 0))), "3 periods", class = "twin_error_input")
  expect_error(measure_course(design, histories = list(odd = c(1, 0, 1), never = c(0, 0, 0)), form = "exact"), NA)
  expect_error(measure_course(design, estimator = "augmented", form = "exact"), "no use", class = "twin_error_input")
  expect_error(score_units(course, link = "probit"), class = "twin_error_input")
  expect_error(weigh_units(score_units(course), "entropy"), class = "twin_error_input")
  expect_error(pair_units(design), "over time", class = "twin_error_unsupported")
  weighty <- transform(data, w = time)
  expect_error(measure_course(weigh_units(score_units(of_numbers(weighty)))), "must not change within a unit", class = "twin_error_input")
})

test_that("the E-value of histories is that of their difference, or of their ratio where shares are compared", {
  data <- numbers()
  design <- weigh_units(score_units(of_numbers(data)), truncate = c(quantile = 0.98))
  found <- measure_course(design)
  probe <- probe_ratio(found)
  ends <- data$y[data$time == 3]
  row <- tidy(found)
  bare <- probe_ratio(row$estimate / sd(ends), low = row$conf.low / sd(ends), high = row$conf.high / sd(ends),
                      scale = "mean_difference")
  expect_equal(tidy(probe), tidy(bare))
  left <- tidy(probe, part = "covariates")
  expect_setequal(left$covariate, c("size", "debt"))
  without <- frame_course(data, "a", "y", "time", "unit", covariates = "size", treated = 1)
  again <- tidy(measure_course(weigh_units(score_units(without), truncate = c(quantile = 0.98))))
  expect_equal(left$risk_ratio[left$covariate == "debt"], exp(0.91 * again$estimate / sd(ends)))
  expect_identical(sum(as.data.frame(logbook(found))$verb == "probe"), 1L)

  shares <- transform(data, y = as.integer(y > median(y, na.rm = TRUE)))
  found <- measure_course(weigh_units(score_units(of_numbers(shares))), estimator = "augmented",
                          histories = list(late = c(0, 0, 1), early = c(1, 0, 0), never = c(0, 0, 0)))
  means <- tidy(found, part = "means")[c(1, 3), ]
  together <- (sum(means$std.error^2) - tidy(found)$std.error[1]^2) / 2  # covariance of both means
  error <- sqrt(sum((means$std.error / means$estimate)^2) - 2 * together / prod(means$estimate))
  ratio <- means$estimate[1] / means$estimate[2]
  bare <- probe_ratio(ratio, low = ratio * exp(-qnorm(0.975) * error), high = ratio * exp(qnorm(0.975) * error))
  expect_equal(tidy(probe_ratio(found, yardstick = FALSE)), tidy(bare))
  alone <- frame_course(data, "a", "y", "time", "unit", changing = "debt", treated = 1)
  of_one <- probe_ratio(measure_course(weigh_units(score_units(alone))))
  expect_error(tidy(of_one, part = "covariates"), class = "twin_error_input")
})

test_that("probes of one treatment at one time say so", {
  found <- measure_course(weigh_units(score_units(of_numbers())))
  single <- list(probe_pairs, probe_weights, probe_omitted, probe_effect, probe_stability, probe_choices)
  for (probe in single) {
    expect_error(probe(found), "treatment over time", class = "twin_error_unsupported")
  }
  expect_error(probe_placebo(found, outcomes = "y"), "probe_ratio", class = "twin_error_unsupported")
  study <- frame_study(numbers(), "a", "y", c("size", "debt"), treated = 1)
  varies <- measure_variation(study, learners = "logit", folds = 3)
  for (probe in c(single, probe_ratio)) {
    expect_error(probe(varies), "Who gains has no probe", class = "twin_error_unsupported")
  }
})

test_that("plans, reports and methods paragraphs tell of histories", {
  folder <- withr::local_tempdir()
  data.table::fwrite(numbers(), file.path(folder, "d.csv"))
  writeLines(c(
    "study: {data: d.csv, treatment: a, treated: 1, outcome: y, time: time, unit: unit, covariates: [size], changing: [debt]}",
    "designs: {weights: [score, weigh]}",
    "effects: {w: {measure: course, design: weights}, a: {measure: course, design: weights, estimator: augmented, histories: {late: [0, 0, 1], never: [0, 0, 0]}}}",
    "probes: {hidden: {probe: ratio, effect: w}}"
  ), file.path(folder, "plan.yml"))
  result <- twin("run", file.path(folder, "plan.yml"), "--out", file.path(folder, "out"))
  expect_identical(result$status, 0L)
  html <- paste(readLines(file.path(folder, "out", "report.html"), warn = FALSE), collapse = "\n")
  expect_match(html, "were everybody to follow a history of a")
  expect_match(html, "Running weights by period")
  expect_match(html, "hidden confounder would have to be tied")
  expect_match(result$out, "hidden: A hidden confounder", all = FALSE)
  means <- data.table::fread(file.path(folder, "out", "tables", "means-a.csv"))
  expect_identical(means$history, c("late", "never"))
  found <- measure_course(weigh_units(score_units(of_numbers())))
  words <- paste(as.character(methods_text(found)), collapse = " ")
  expect_match(words, "ordinary adjustment for what changes")
  expect_match(words, "Robins, Hern.n and Brumback, 2000")
  expect_identical(sum(!as.data.frame(checklist(found))$done) <= 2L, TRUE)
  file <- withr::local_tempfile(fileext = ".html")
  write_report(file, of_numbers(), designs = list(w = weigh_units(score_units(of_numbers()))), effects = list(w = found))
  expect_gt(file.size(file), 1e4)
})
