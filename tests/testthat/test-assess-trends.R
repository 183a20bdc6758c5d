test_that("the joint test is the length of the path about its mean, by what clusters make of nothing", {
  panel <- harbour_panel()
  trends <- assess_trends(panel)
  path <- summarise_did(measure_did(panel, base = "fixed"), "event", bands = FALSE)
  before <- path$table$kind == "pre"
  expect_equal(tidy(trends, part = "path")$estimate, unname(path$estimate[before]))
  # periods -4 to -2: two cohorts of three reach -3 and -2, one reaches -4 and -5
  reached <- path$table$reach[before] >= 0.5
  b <- path$estimate[before][reached]
  k <- length(b)
  c <- core_contributions(path$source, path$combine[, which(before)[reached], drop = FALSE])
  cohort <- path$source$block
  size <- tabulate(cohort)
  for (h in 1:4) c[cohort == h, ] <- scale(c[cohort == h, ], scale = FALSE) * sqrt(size[h] / (size[h] - 1))
  shape <- diag(k) - 1 / (k + 1)
  d <- c %*% shape %*% t(c)
  a <- ave(diag(d), cohort)
  clusters <- sum(a)^2 / sum(a^2)
  df1 <- sum(diag(d))^2 / (sum(d[row(d) != col(d)]^2) / (1 - 1 / clusters))
  df1 <- min(max(df1, 1), k)
  q <- sum((c(b, 0) - mean(c(b, 0)))^2) / sum(diag(d))
  row <- tidy(trends)[1, ]
  expect_equal(unlist(row[c("statistic", "df", "df_below")], use.names = FALSE), c(q, df1, df1 * (clusters - 1)))
  expect_equal(row$p.value, pf(q, df1, df1 * (clusters - 1), lower.tail = FALSE))
  expect_equal(glance(trends)$clusters, clusters)
  drift <- tidy(trends)[2, ]
  away <- c(path$table$event_time[before][reached] + 1, 0)
  expect_equal(drift$estimate, coef(lm(c(b, 0) ~ away))[[2]])
  weight <- (away - mean(away))[-(k + 1)] / sum((away - mean(away))^2)
  expect_equal(drift$std.error, sqrt(sum((c %*% weight)^2)))
})

test_that("placebo dates are effects of a treatment moved back, on what came before the true one", {
  data <- many_harbours()
  data <- data[data$opened %in% c(2006, NA), ]
  early <- data[data$year < 2006, ]
  early$since <- ifelse(is.na(early$opened), NA, 2004)
  moved <- summarise_did(measure_did(frame_panel(early, outcome = "price", time = "year", unit = "harbour", first_treated = "since")))
  tests <- tidy(assess_trends(harbour_panel(data), placebo = 2))
  row <- tests[tests$test == "placebo", ]
  expect_equal(row$estimate, coef(moved)[["difference"]])
  expect_equal(row$std.error, sqrt(moved$vcov[1, 1]))
})

test_that("a cohort's trend is the slope through its cells, the base included", {
  panel <- harbour_panel()
  tests <- tidy(assess_trends(panel))
  cells <- tidy(measure_did(panel, base = "fixed"))
  own <- cells[cells$cohort == "2006" & cells$kind != "post", ]
  expect_equal(tests$estimate[tests$test == "cohort slope" & tests$at == "2006"],
               coef(lm(estimate ~ event_time, own))[[2]])
  last <- tidy(measure_did(panel))
  last <- last[last$event_time == -1, ]
  expect_equal(tests$estimate[tests$test == "last period"], weighted.mean(last$estimate, c(10, 10, 10)))
})

test_that("periods of anticipation are not judged", {
  trends <- assess_trends(harbour_panel(), anticipation = 1, placebo = 2)
  expect_identical(tidy(trends, part = "path")$event_time, c(-5, -4, -3))
  path <- summarise_did(measure_did(harbour_panel(), base = "fixed", anticipation = 1), "event", bands = FALSE)
  expect_equal(tidy(trends, part = "path")$estimate, unname(path$estimate[c("event -5", "event -4", "event -3")]))
  expect_error(assess_trends(harbour_panel(), anticipation = 1, placebo = 1), class = "twin_error_input")
})

test_that("power rises from the level of the test to 80 per cent at the slope it says", {
  panel <- harbour_panel()
  expect_equal(glance(assess_trends(panel, slope = 0))$power, 0.05)
  found <- glance(assess_trends(panel))$detectable
  expect_equal(glance(assess_trends(panel, slope = found))$power, 0.8, tolerance = 1e-3)
  by_default <- glance(assess_trends(panel))$slope
  cells <- tidy(measure_did(panel))
  post <- cells[cells$kind == "post", ]
  expect_equal(by_default, sum(post$estimate) / sum(post$event_time + 1))
})

test_that("a drift is found", {
  drifting <- many_harbours(80)
  drifting$price <- drifting$price + 0.8 * (drifting$year - 2001) * !is.na(drifting$opened)
  expect_lt(glance(assess_trends(harbour_panel(drifting)))$p.value, 0.001)
  expect_match(paste(format(assess_trends(harbour_panel(drifting))), collapse = " "), "speaks against parallel")
})

test_that("without periods before treatment there is nothing to judge", {
  data <- many_harbours()
  data <- data[data$opened %in% c(2003, NA) & data$year >= 2002, ]
  expect_error(assess_trends(harbour_panel(data)), class = "twin_error_unsupported")
  expect_error(assess_trends(harbour_panel(), placebo = 0), class = "twin_error_input")
})

fixed_cells <- function(...) measure_did(harbour_panel(...), base = "fixed")

test_that("bounds of 0 leave the effect, or carry the last drift on", {
  cells <- fixed_cells()
  path <- summarise_did(cells, "event", bands = FALSE)
  table <- tidy(path)
  plain <- tidy(probe_trends(cells, m = 0, interval = "direct"))
  expect_equal(c(plain$conf.low, plain$conf.high), unlist(table[table$term == "average", c("conf.low", "conf.high")]),
               ignore_attr = TRUE)
  at <- c("event 0", "event -2")
  carried <- tidy(probe_trends(cells, "curvature", m = 0, at = 0, interval = "direct"))
  expect_equal(carried$estimate, sum(path$estimate[at]))
  df <- table$df[table$term == "event 0"]
  expect_equal(carried$conf.high - carried$estimate, qt(0.975, df) * sqrt(sum(path$vcov[at, at])), tolerance = 1e-6)
})

test_that("by magnitude the interval is the union over the worst step, by curvature it holds the worst bias", {
  cells <- fixed_cells()
  path <- summarise_did(cells, "event", bands = FALSE)
  e <- path$estimate
  v <- path$vcov
  df <- path$df[path$table$term == "event 1"]
  row <- tidy(probe_trends(cells, m = 0.7, at = 1, interval = "direct"))
  steps <- list(c("event -2" = -1), c("event -2" = 1, "event -3" = -1), c("event -3" = 1, "event -4" = -1),
                c("event -4" = 1, "event -5" = -1))
  low <- unlist(lapply(steps, function(step) lapply(c(-1, 1), function(sign) {
    l <- c("event 1" = 1, sign * 0.7 * 2 * step)
    sum(l * e[names(l)]) - qt(0.975, df) * sqrt(drop(l %*% v[names(l), names(l)] %*% l))
  })))
  expect_equal(row$conf.low, min(low))
  bent <- tidy(probe_trends(cells, "curvature", m = 0.2, at = 1, interval = "direct"))
  l <- c("event 1" = 1, "event -2" = 2)
  se <- sqrt(drop(l %*% v[names(l), names(l)] %*% l))
  half <- (bent$conf.high - bent$conf.low) / 2
  covered <- withr::with_seed(1, mean(abs(rt(4e5, df) + 0.2 * 3 / se) <= half / se))  # 1 + 2 changes of slope
  expect_equal(covered, 0.95, tolerance = 0.003)
})

test_that("the headline is where the interval first holds 0", {
  cells <- fixed_cells()
  for (violation in c("magnitude", "curvature")) {
    for (interval in c("direct", if (violation == "curvature") "shortest")) {
      probe <- probe_trends(cells, violation, m = 0.1, interval = interval)
      limit <- tidy(probe_trends(cells, violation, m = glance(probe)$change * c(0.999, 1, 1.001), interval = interval))$conf.low
      expect_true(limit[1] > 0 && limit[3] < 0)
      if (interval == "direct") expect_lt(abs(limit[2]), 1e-4)  # the shortest jumps from one estimator to the next
      expect_match(paste(format(probe), collapse = " "), "conclusion changes at")
    }
  }
  probe <- probe_trends(cells, m = 0.1, at = 1)
  around <- tidy(probe_trends(cells, m = glance(probe)$change * c(0.99, 1.01), at = 1))
  expect_true(around$conf.low[1] > 0 && around$conf.low[2] < 0)
  none <- many_harbours()
  none$price <- withr::with_seed(1, rnorm(nrow(none)))
  expect_identical(glance(probe_trends(fixed_cells(none), m = 0.5))$change, 0)
  expect_s3_class(plot(probe_trends(cells, m = c(0, 0.5), interval = "direct")), "ggplot")
})

test_that("what the bounds need is asked for", {
  expect_error(probe_trends(fixed_cells(), at = 9), class = "twin_error_input")
  expect_error(probe_trends(fixed_cells(), m = -1), class = "twin_error_input")
  expect_error(probe_trends(measure_did(harbour_panel(), estimator = "two_way")), class = "twin_error_input")
  data <- many_harbours()
  short <- data[data$opened %in% c(2003, NA) & data$year >= 2002, ]
  expect_error(probe_trends(fixed_cells(short)), class = "twin_error_unsupported")
  expect_s3_class(probe_trends(measure_did(harbour_panel(), estimator = "interaction"), m = 0, interval = "direct"),
                  "twin_probe_trends")
})

# A path of two periods before its base and one or two after, with any covariance.
small_path <- function(seed, after = 1) {
  withr::with_seed(seed, {
    horizon <- c(-2, -1, seq_len(after))
    root <- matrix(rnorm(length(horizon)^2), length(horizon))
    target <- c(0, 0, rep(1 / after, after))
    list(estimate = rnorm(length(horizon)) + c(0, 0, rep(2, after)), vcov = crossprod(root) / 10, horizon = horizon,
         target = target, df = Inf, steps = core_path_steps(horizon))
  })
}

test_that("with one period after, the conditional test is that of a maximum of two", {
  # moments e - theta - m s and -(e - theta) - m s, s a step before treatment: the larger, in its standard errors, is
  # normal, cut from below where the other would be the larger
  by_hand <- function(path, step, m, theta, level) {
    a <- rbind(c(0, 0, 1) - m * step, c(0, 0, -1) - m * step)
    y <- drop(a %*% path$estimate) + c(-theta, theta)
    v <- a %*% path$vcov %*% t(a)
    z <- y / sqrt(diag(v))
    first <- which.max(z)
    other <- 3 - first
    if (z[first] <= 0) return(FALSE)
    rho <- stats::cov2cor(v)[1, 2]
    low <- (z[other] - rho * z[first]) / (1 - rho)
    tail <- function(x) pnorm(x, lower.tail = FALSE, log.p = TRUE)
    1 - exp(tail(z[first]) - tail(low)) > level
  }
  skip_if_not_installed("Rglpk")
  compared <- 0
  compare <- function(seed, m) {
    path <- small_path(seed)
    tests <- core_magnitude_tests(path, m)
    steps <- rbind(path$steps, -path$steps)
    steps <- steps[order(-drop(steps %*% path$estimate)), ]
    sum(outer(seq_along(tests), c(-1, 0.5, 2, 4), Vectorize(function(k, theta) {
      ours <- core_conditional_reject(tests[[k]], theta, 0.95, linear_programme)
      expect_identical(ours, by_hand(path, steps[k, ], m, theta, 0.95))
      ours
    })))
  }
  for (seed in 1:12) for (m in c(0.2, 1)) compared <- compared + compare(seed, m)
  expect_gt(compared, 40)  # both answers occur
  expect_lt(compared, 12 * 2 * 4 * 4 - 40)
})

test_that("the interval of fixed length is the shortest of all linear ones whose worst bias it allows for", {
  skip_if_not_installed("quadprog")
  for (seed in 1:2) {
    path <- small_path(seed, after = 2)
    path$estimate <- c(0.1, path$estimate)
    path$horizon <- c(-3, path$horizon)
    path$target <- c(0, path$target)
    path$vcov <- withr::with_seed(seed, crossprod(matrix(rnorm(25), 5)) / 10)
    found <- core_drift_estimators(path, quadratic_programme)
    expect_lt(max(abs(found$weight %*% path$horizon)), 1e-8)
    for (m in c(0, 0.05, 0.5)) {
      # worst bias over drifts with changes of slope of m, by enumeration of their signs
      worst <- function(weight) {
        signs <- as.matrix(expand.grid(rep(list(c(-m, m)), 4)))
        drifts <- apply(signs, 1, function(change) {
          delta <- cumsum(cumsum(c(0, 0, change)))  # periods -3..2, any level and slope
          delta <- delta - delta[4]
          slope <- delta[4] - delta[3]
          delta[-4] - slope * c(-3, -2, -1, 1, 2)
        })
        max(abs(weight %*% drifts))
      }
      half <- function(v) {
        weight <- c(v[1], v[2], -(sum(c(0.5, 1)) + (-3) * v[1] + (-2) * v[2]) / -1, 0.5, 0.5)
        se <- sqrt(drop(weight %*% path$vcov %*% weight))
        se * core_folded_quantile(worst(weight) / se, 0.95, Inf)
      }
      best <- min(vapply(1:6, function(start) {
        stats::optim(withr::with_seed(start, rnorm(2)), half, control = list(reltol = 1e-12, maxit = 5000))$value
      }, 0))
      ours <- core_fixed_length(path, found, m, 0.95, Inf)
      expect_equal(diff(ours) / 2, best, tolerance = 2e-3)
    }
  }
})

test_that("shortest intervals are not longer than direct ones, and agree with them where nothing is allowed", {
  cells <- fixed_cells()
  for (m in c(0, 0.5)) {
    short <- tidy(probe_trends(cells, m = m, at = 0:1))
    direct <- tidy(probe_trends(cells, m = m, at = 0:1, interval = "direct"))
    expect_lte(short$conf.high - short$conf.low, (direct$conf.high - direct$conf.low) * 1.001)
    if (m == 0) expect_equal(short$conf.low, direct$conf.low, tolerance = 1e-3)
  }
  later <- tidy(probe_trends(cells, m = 0, at = c(0, 2), contrast = c(-1, 1), interval = "direct"))
  path <- coef(summarise_did(cells, "event", bands = FALSE))
  expect_equal(later$estimate, path[["event 2"]] - path[["event 0"]])
  expect_error(probe_trends(cells, at = 0:1, contrast = 1), class = "twin_error_input")
  expect_error(probe_trends(cells, interval = "short"), class = "twin_error_input")
})

test_that("a bound on curvature that the time before treatment breaks is marked", {
  data <- many_harbours()
  data$price <- data$price + 3 * (data$year == 2003) * (data$opened %in% 2006)  # a bump long before
  cells <- measure_did(harbour_panel(data), base = "fixed")
  probe <- probe_trends(cells, "curvature", m = c(0, 0.1, 50), at = 0, interval = "direct")
  path <- summarise_did(cells, "event", bands = FALSE)
  before <- path$table$kind == "pre"
  b <- c(path$estimate[before], 0)
  bends <- b[1:3] - 2 * b[2:4] + b[3:5]
  weights <- rbind(c(1, -2, 1, 0), c(0, 1, -2, 1), c(0, 0, 1, -2))
  se <- sqrt(diag(weights %*% path$vcov[before, before] %*% t(weights)))
  df <- path$df[path$table$term == "event 0"]
  least <- max(abs(bends) - qt(1 - 0.05 / 3 / 2, df) * se)
  expect_gt(least, 0.1)
  expect_equal(probe$facts$least, least, ignore_attr = TRUE)
  expect_identical(tidy(probe)$refuted, c(TRUE, TRUE, FALSE))
  text <- gsub("\\s+", " ", paste(format(probe), collapse = " "))
  expect_match(text, "\\(refuted\\)")
  expect_match(text, "Before treatment the slope changed by at least .* smaller m are refuted by the data")
  calm <- probe_trends(fixed_cells(), "curvature", m = 0.2, at = 0, interval = "direct")
  expect_false(tidy(calm)$refuted)
  expect_no_match(paste(format(calm), collapse = " "), "refuted")
  expect_true(is.na(tidy(probe_trends(fixed_cells(), m = 0.2, at = 0, interval = "direct"))$refuted))
})

test_that("averages are bounded as the cells they are made of", {
  panel <- harbour_panel()
  overall <- summarise_did(measure_did(panel))
  probe <- probe_trends(overall, m = c(0, 1), interval = "direct")
  expect_equal(probe$facts$effect, unname(coef(overall)))
  expect_match(paste(format(probe), collapse = " "), "by\\s+their share of what is treated \\(taken as given\\)")
  # cells measured from the period before are measured again from a fixed base
  path <- summarise_did(measure_did(panel), "event", window = c(-3, 2))
  fixed <- probe_trends(measure_did(panel, base = "fixed"), m = c(0, 1), at = 0:2, interval = "direct")
  expect_equal(tidy(probe_trends(path, m = c(0, 1), interval = "direct")), tidy(fixed))
  row <- tidy(probe_effect(overall))
  expect_equal(row$yardstick_value, fixed$facts$worst)
  expect_error(probe_trends(summarise_did(measure_did(panel), "cohort")), "over all or by event", class = "twin_error_input")
  expect_error(probe_trends(measure_did(panel, estimator = "two_way")), "an estimator with cells",
               class = "twin_error_input")
  expect_error(probe_trends(summarise_did(measure_did(panel, estimator = "imputation"))),
               "measured from a\\s+fixed base", class = "twin_error_input")
})
