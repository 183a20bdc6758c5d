test_that("trimming lists its bounds, counts by arm and the units it left out", {
  data <- many_crews()
  scored <- score_units(study_of_many(data))
  trimmed <- trim_units(scored, "range", bounds = c(0.3, 0.8))
  e <- scored$score$fitted
  fell <- e < 0.3 | e > 0.8
  table <- tidy(trimmed, part = "trimming")
  expect_identical(table, data.frame(rule = "range", low = 0.3, high = 0.8, treated = sum(fell & data$joined == 1),
                                     control = sum(fell & data$joined == 0)))
  out <- tidy(trimmed, part = "unmatched")
  expect_identical(out$row, which(fell))
  expect_identical(unique(out$reason), "trimmed")
  both <- tidy(pair_units(trimmed, caliper = 0.01), part = "unmatched")
  expect_identical(both$row[both$reason == "trimmed"], which(fell))
  expect_true("nobody within the caliper" %in% both$reason)
  expect_error(tidy(scored, part = "trimming"), "trim_units", class = "twin_error_input")
})

test_that("truncation says where it cuts and how many weights of each arm it moves", {
  data <- many_crews()
  scored <- score_units(study_of_many(data, estimand = "ATE"))
  plain <- weights(weigh_units(scored))
  cut <- weigh_units(scored, truncate = list(quantile = c(0.05, 0.9)))
  table <- tidy(cut, part = "truncation")
  expect_identical(table$arm, c("treated", "control"))
  for (k in 1:2) {
    own <- data$joined == 2 - k
    expect_equal(range(weights(cut)[own]), c(table$low[k], table$high[k]))
    expect_identical(table$raised[k], sum(plain[own] < table$low[k]))
    expect_identical(table$lowered[k], sum(plain[own] > table$high[k]))
  }
  text <- gsub("\\s+", " ", paste(format(cut), collapse = " "))
  expect_match(text, "Truncated treated weights at [0-9.]+ and [0-9.]+ \\([0-9]+ raised and [0-9]+ lowered\\), control")
  expect_match(paste(format(weigh_units(scored, truncate = c(bound = 1e6))), collapse = " "), "control\\s+weights\\s+at 1,000,000\\s+\\(none\\)")
  moved <- table$raised + table$lowered
  expect_match(paste(format(logbook(cut)), collapse = " "),
               sprintf("truncated %d treated, %d\\s+control", moved[1], moved[2]))
  expect_error(tidy(scored, part = "truncation"), "truncate", class = "twin_error_input")
})

test_that("bandwidths of densities go by number or by rule", {
  data <- many_crews()
  overlap <- assess_overlap(score_units(study_of_many(data)))
  curve <- function(bandwidth) ggplot2::layer_data(plot(overlap, "density", bandwidth = bandwidth), 2)
  e <- overlap$score[data$joined == 1]
  for (rule in c("silverman", "scott", "sheather_jones", "cross_validation")) {
    bw <- switch(rule, silverman = bw.nrd0(e), scott = bw.nrd(e), sheather_jones = bw.SJ(e), cross_validation = bw.ucv(e))
    ours <- suppressWarnings(curve(rule))
    by_hand <- density(e, bw = bw, n = 512)
    expect_equal(sort(ours$y[ours$group == 2]), sort(by_hand$y), tolerance = 1e-6)
  }
  expect_error(plot(overlap, "density", bandwidth = "silver"), "Did you mean", class = "twin_error_input")
  expect_error(plot(overlap, "density", bandwidth = -1), "above 0", class = "twin_error_input")
  expect_error(plot(overlap, bandwidth = 0.1), "belong to", class = "twin_error_input")
})
