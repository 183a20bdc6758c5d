test_that("averages weigh cells by the size of their cohort", {
  data <- many_harbours()
  data <- data[!data$harbour %in% c("h01", "h09", "h17"), ]
  cells <- measure_did(harbour_panel(data))
  table <- tidy(cells)
  size <- c("2003" = 7, "2004" = 10, "2006" = 10)
  post <- table[table$kind == "post", ]
  expect_equal(coef(summarise_did(cells))[["difference"]], weighted.mean(post$estimate, size[post$cohort]))
  event <- tidy(summarise_did(cells, "event"))
  first <- post[post$event_time == 0, ]
  expect_equal(event$estimate[event$term == "event 0"], weighted.mean(first$estimate, size[first$cohort]))
  own <- event$event_time %in% 0:3
  expect_equal(event$estimate[event$term == "average"], mean(event$estimate[own]))
  cohort <- tidy(summarise_did(cells, "cohort"))
  expect_equal(cohort$estimate[1:3], unname(c(tapply(post$estimate, post$cohort, mean))))
  expect_equal(cohort$estimate[4], weighted.mean(cohort$estimate[1:3], size))
  calendar <- tidy(summarise_did(cells, "calendar"))
  expect_identical(calendar$time, c("2003", "2004", "2005", "2006", NA))
  expect_equal(calendar$estimate[5], mean(calendar$estimate[1:4]))
  expect_identical(sum(event$kind == "pre"), 4L)
})

test_that("a window keeps its event times, a balanced path its cohorts", {
  cells <- measure_did(harbour_panel(), base = "fixed")
  window <- tidy(summarise_did(cells, "event", window = c(-2, 1)))
  expect_identical(window$event_time, c(-2, -1, 0, 1, NA))
  table <- tidy(cells)
  balanced <- tidy(summarise_did(cells, "event", balanced = 2))
  expect_equal(balanced$estimate[balanced$term == "event 0"],
               mean(table$estimate[table$event_time == 0 & table$cohort != "2006"]))
  expect_identical(max(balanced$event_time, na.rm = TRUE), 2)
  expect_error(summarise_did(cells, window = c(3, -3)), class = "twin_error_input")
  expect_error(summarise_did(cells, balanced = 9), "up to event time 9", class = "twin_error_input")
  expect_error(summarise_did(summarise_did(cells)), class = "twin_error_input")
})

test_that("sizes of cohorts count as estimated: the variance is that of contributions that hold them", {
  cells <- measure_did(harbour_panel())
  for (over in c("all", "event", "cohort", "calendar")) {
    average <- summarise_did(cells, over)
    own <- carefultwin:::core_contributions(average$source, average$combine, average$shift)
    cohort <- average$source$block
    between <- Reduce(`+`, lapply(1:4, function(h) tcrossprod(colMeans(own[cohort == h, , drop = FALSE])) * sum(cohort == h)))
    expect_equal(unname(average$vcov), cohort_wise_by_hand(own, cohort) + between)
    expect_equal(max(abs(colSums(own))), 0, tolerance = 1e-10)
  }
})

test_that("scatters and rows lead to the same covariance, clustered or not", {
  data <- many_harbours()
  data$ones <- 1
  data$ones[1] <- 1 + 1e-12  # weights that vary go cell by cell
  for (cluster in list(NULL, "bay")) {
    quick <- measure_did(harbour_panel(data, cluster = cluster))
    slow <- measure_did(harbour_panel(data, cluster = cluster, weight = "ones"))
    expect_identical(c(class(quick$source), class(slow$source)), c("twin_block_source", "twin_row_source"))
    expect_equal(quick$vcov, slow$vcov, tolerance = 1e-9)
    expect_equal(summarise_did(quick, "event")$vcov, summarise_did(slow, "event")$vcov, tolerance = 1e-9)
  }
})

test_that("the band holds the whole path: its quantile is that of the largest |t|", {
  path <- summarise_did(measure_did(harbour_panel()), "event")
  table <- tidy(path)
  moving <- table$term != "average"
  ratio <- (table$band.high - table$estimate)[moving] / table$std.error[moving]
  expect_equal(diff(range(ratio)), 0)
  df <- min(table$df[moving & table$reach >= 0.5])
  expect_identical(table$event_time[moving & table$reach < 0.5], c(-4, -3, 3))  # one cohort of three reaches these
  expect_gt(ratio[1], qt(0.975, df))
  expect_lt(ratio[1], qt(1 - 0.025 / sum(moving), df) * 1.02)  # Bonferroni
  expect_true(all(is.na(table$band.low[!moving])))
  draws <- withr::with_seed(2, {
    r <- cov2cor(path$vcov[moving, moving])
    chol(r + diag(1e-10, nrow(r)))
    t(chol(r + diag(1e-10, nrow(r)))) %*% matrix(rnorm(nrow(r) * 2e4), nrow(r)) / rep(sqrt(rchisq(2e4, df) / df),
                                                                                      each = nrow(r))
  })
  expect_equal(ratio[1], unname(quantile(apply(abs(draws), 2, max), 0.95)), tolerance = 0.02)
  # the path alone: the average over it has no part
  expect_equal(ratio[1], with_own_seed(1, core_band_quantile(cov2cor(path$vcov[moving, moving]), 0.95, df)))
  expect_null(summarise_did(measure_did(harbour_panel()), "event", bands = FALSE)$bands)
  expect_error(tidy(path, conf.level = 0.9), class = "twin_error_input")
})

test_that("comparisons of two-by-twos sum to the two-way coefficient, with weights too", {
  data <- many_harbours()
  for (weight in list(NULL, "s")) {
    panel <- harbour_panel(data, weight = weight)
    parts <- as.data.frame(decompose_did(panel))
    expect_equal(sum(parts$weight), 1)
    expect_true(all(parts$weight > 0))
    expect_lt(abs(sum(parts$weight * parts$estimate) - coef(measure_did(panel, estimator = "two_way"))), 1e-8)
  }
  row <- parts[parts$treated == "2004" & parts$control == "2003", ]
  expect_identical(row$type, "later against earlier")
  mean_of <- function(cohort, years) {
    at <- data$opened %in% cohort & data$year %in% years
    mean(vapply(split(data[at, ], data$year[at]), function(rows) weighted.mean(rows$price, rows$s), 0))
  }
  by_hand <- mean_of(2004, 2004:2006) - mean_of(2004, 2003) - mean_of(2003, 2004:2006) + mean_of(2003, 2003)
  expect_equal(row$estimate, by_hand)
  nobody <- data[!is.na(data$opened), ]
  panel <- harbour_panel(nobody)
  parts <- as.data.frame(decompose_did(panel))
  expect_lt(abs(sum(parts$weight * parts$estimate) - coef(measure_did(panel, estimator = "two_way"))), 1e-8)
})

test_that("implicit weights turn true effects into the two-way coefficient", {
  data <- many_harbours()
  effect <- ifelse(data$open == 1, 3 * (data$year - data$opened)^2 - data$opened / 1000, 0)
  data$price <- as.integer(data$harbour) + data$year %% 5 + effect
  panel <- harbour_panel(data)
  parts <- decompose_did(panel)
  cells <- tidy(parts, part = "cells")
  expect_equal(sum(cells$weight), 1)
  truth <- 3 * cells$event_time^2 - as.numeric(cells$cohort) / 1000
  expect_equal(cells$estimate, truth)
  expect_equal(sum(cells$weight * truth), coef(measure_did(panel, estimator = "two_way"))[["difference"]])
  facts <- glance(parts)
  expect_lt(facts$negative_weight, 0)
  expect_false(facts$trusted)
  expect_match(paste(format(parts), collapse = " "), "don't\\s+trust")
})

test_that("a two-way number whose effects are alike may be trusted; one that can't be split is refused", {
  data <- many_harbours()
  data$price <- as.integer(data$harbour) + data$year %% 5 + 2 * data$open
  parts <- decompose_did(harbour_panel(data))
  expect_true(glance(parts)$trusted)
  expect_match(paste(format(parts), collapse = " "), "may be\\s+trusted")
  gaps <- harbour_panel(many_harbours(gaps = TRUE))
  expect_error(decompose_did(gaps), "balanced", class = "twin_error_unsupported")
  some <- decompose_did(gaps, complete = TRUE)
  expect_match(paste(format(some), collapse = " "), "7 units not seen in every period")
  cross <- decompose_did(landing_panel())
  expect_equal(sum(as.data.frame(cross)$weight), 1)
  expect_error(decompose_did(frame_panel(many_landings(), outcome = "value", time = "year", first_treated = "opened")),
               class = "twin_error_input")
})

test_that("estimates stand side by side with their joint covariance", {
  panel <- harbour_panel()
  two_way <- measure_did(panel, estimator = "two_way")
  cells <- summarise_did(measure_did(panel))
  both <- compare_effects(two_way = two_way, cells = cells)
  own <- function(effect) carefultwin:::core_contributions(effect$source, effect$combine, effect$shift)[, 1]
  joint <- vcov(both)
  expect_equal(cov2cor(joint)[1, 2], sum(own(two_way) * own(cells)) / sqrt(sum(own(two_way)^2) * sum(own(cells)^2)))
  expect_equal(unname(diag(joint)), c(two_way$vcov, cells$vcov))
  expect_false("|SMD|" %in% names(carefultwin:::comparison_table(both)))
  expect_error(compare_effects(two_way, measure_did(panel)), "summarise_did", class = "twin_error_input")
  rows <- frame_panel(many_landings(), outcome = "value", time = "year", first_treated = "opened")
  alone <- compare_effects(a = summarise_did(measure_did(rows)), b = summarise_did(measure_did(rows, base = "fixed")))
  expect_equal(cov2cor(vcov(alone))[1, 2], 1)
  collapsed <- measure_did(landing_panel(), estimator = "two_way", collapse = "rows")
  apart <- measure_did(landing_panel(), estimator = "two_way")
  expect_gt(cov2cor(vcov(compare_effects(a = collapsed, b = apart)))[1, 2], 0.8)
})

test_that("prints, plots and files say what was done", {
  panel <- harbour_panel(covariates = ~ depth)
  cells <- measure_did(panel, adjustment = "regression", comparison = "not_yet", anticipation = 1)
  text <- gsub("\\s+", " ", paste(format(cells), collapse = " "))
  expect_match(text, "adjusted by outcome regression, against units not yet treated, leaving 1 period for anticipation")
  expect_true(all(nchar(format(cells)) <= 80))
  path <- summarise_did(measure_did(panel, base = "fixed"), "event")
  expect_true(all(nchar(format(path)) <= 80))
  drawn <- plot(path)
  expect_equal(ggplot2::layer_data(drawn, 7)$y, tidy(path)$estimate[tidy(path)$kind == "base"])
  expect_identical(nrow(ggplot2::layer_data(plot(cells), 3)), sum(!is.na(tidy(cells)$estimate)))
  expect_s3_class(plot(summarise_did(cells, "cohort")), "ggplot")
  parts <- decompose_did(panel)
  expect_identical(nrow(ggplot2::layer_data(plot(parts), 4)), nrow(as.data.frame(parts)))
  file <- withr::local_tempfile(fileext = ".csv")
  export_table(cells, file)
  expect_equal(data.table::fread(file)$estimate, tidy(cells)$estimate)
  tex <- withr::local_tempfile(fileext = ".tex")
  for (result in list(cells, path, parts, assess_trends(panel))) expect_identical(export_table(result, tex), tex)
  expect_identical(sum(as.data.frame(logbook(panel))$verb == "measure"), 2L)
  expect_named(glance(cells), names(glance(path)))
  expect_identical(nobs(cells), 240L)
  expect_equal(colSums(augment(cells)[-1]), rep(0, 15), ignore_attr = TRUE)
})
