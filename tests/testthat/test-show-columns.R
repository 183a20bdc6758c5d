written <- function(x, ..., kind = "md") {
  file <- withr::local_tempfile(fileext = paste0(".", kind))
  export_table(x, file, ..., layout = "columns")
  readLines(file)
}

cells_of <- function(lines) lapply(strsplit(lines[grepl("^\\|", lines)], " *\\| *"), function(row) row[-1])

test_that("effects stand as columns with estimate over error and facts below", {
  study <- study_of_many(cluster = "harbour")
  scored <- score_units(study)
  comparison <- compare_effects(raw = measure_effect(study), weights = measure_effect(weigh_units(scored)))
  rows <- cells_of(written(comparison, stars = 0.05, labels = c(raw = "(1)", "N treated" = "Crews that joined")))
  table <- tidy(comparison)
  expect_identical(rows[[1]], c("", "(1)", "weights"))
  expect_identical(gsub("[\\*]", "", rows[[3]][-1]), column_text(table$estimate))
  expect_identical(rows[[4]][-1], sprintf("(%s)", column_text(table$std.error)))
  named <- function(name) rows[[which(vapply(rows, `[`, "", 1) == name)]][-1]
  expect_identical(named("Crews that joined"), rep(as.character(sum(study$z)), 2))
  clusters <- length(unique(many_crews()$harbour))
  expect_identical(named("Clusters"), rep(as.character(clusters), 2))
  expect_identical(named("Mean of the controls")[1], column_text(comparison$effects$raw$estimate[["mean_control"]]))
  expect_error(written(comparison, labels = c(rwa = "x")), "Did you mean \"raw\"", class = "twin_error_input")
  expect_error(written(assess_score(scored)), class = "twin_error_input")
})

test_that("several outcomes and lists of effects become columns; over time with fixed effects", {
  study <- study_of_many(outcome = c("income", "direct"))
  design <- weigh_units(score_units(study))
  both <- measure_effect(design, c("income", "direct"))
  rows <- cells_of(written(both))
  expect_length(rows[[1]], 3)
  expect_identical(rows[[5]][1], "Outcome")
  listed <- cells_of(written(list("A" = measure_effect(study, "direct"), "B" = both)))
  expect_identical(listed[[1]][2:3], c("A", "B: income"))
  panel <- harbour_panel()
  over_time <- written(compare_effects(a = measure_did(panel, estimator = "two_way"), b = summarise_did(measure_did(panel))))
  expect_match(over_time, "Fixed effects", all = FALSE, fixed = TRUE)
})

test_that("balance before and after stands side by side, with the reduction", {
  design <- weigh_units(score_units(study_of_many()))
  balance <- assess_balance(design, tests = TRUE)
  rows <- cells_of(written(balance, digits = 2))
  expect_identical(rows[[1]], c("Covariate", "Treated before", "Control before", "SMD before", "Treated after",
                                "Control after", "SMD after", "reduction", "variance ratio", "t", "p"))
  first <- tidy(balance)[tidy(balance)$covariate == "boat", ]
  expect_identical(rows[[3]][4], sprintf("%.2f", first$smd[first$sample == "before"]))
  expect_identical(rows[[3]][8], sprintf("%.0f%%", first$reduction[first$sample == "after"]))
})

test_that("balance is judged by several limits at once, with the rows that fail", {
  balance <- assess_balance(study_of_many(), limit = 0.2)
  limits <- tidy(balance, part = "limits")
  expect_identical(limits$limits, c("own", "strict", "standard", "lenient"))
  expect_identical(limits$smd, c(0.2, 0.05, 0.1, 0.25))
  for (k in seq_len(nrow(limits))) {
    rows <- tidy(balance)
    fails <- abs(rows$smd) > limits$smd[k] |
      (!is.na(rows$variance_ratio) & (rows$variance_ratio < limits$ratio_low[k] | rows$variance_ratio > limits$ratio_high[k]))
    expect_identical(limits$failing[k], paste(row_name(rows$covariate, rows$level)[fails], collapse = "; "))
    expect_identical(limits$passing[k], sum(!fails))
  }
})

test_that("the first table takes designs, arms, panels and several comparisons", {
  study <- study_of_many(weight = "s")
  scored <- score_units(study)
  weights <- weigh_units(scored)
  after <- tidy(describe_groups(weights))
  balance <- tidy(assess_balance(weights))
  balance <- balance[balance$sample == "after", ]
  expect_equal(after$mean_control, balance$mean_control, tolerance = 1e-10)
  expect_equal(after$smd, balance$smd, tolerance = 1e-10)
  both <- describe_groups(list(all = study, pairs = pair_units(scored)))
  rows <- tidy(both)
  expect_identical(unique(rows$group), c("all", "pairs"))
  expect_equal(rows$difference[rows$group == "all"], tidy(describe_groups(study))$difference)
  text <- paste(format(both), collapse = "\n")
  expect_match(text, sprintf("pairs \\(%d treated, %d control\\)", both$sizes$pairs[1], both$sizes$pairs[2]))
  expect_match(text, "standard errors take the weights as given", fixed = TRUE)
  data <- many_crews()
  arms <- frame_arms(data, "port", "income", ~ boat + past, reference = "small", estimand = "ATE")
  compared <- tidy(describe_groups(arms))
  expect_identical(nrow(compared), 4L)
  own <- diff(tapply(data$boat, factor(data$port, c("small", "large")), mean))
  expect_equal(compared$difference[compared$group == "large" & compared$covariate == "boat"], unname(own))
  panel <- frame_panel(harbours, "price", "quarter", unit = "harbour", treatment = "cold_store", covariates = "market_km")
  cohorts <- tidy(describe_groups(panel))
  expect_identical(nrow(cohorts), 4L)
  base <- harbours[harbours$quarter == min(harbours$quarter), ]
  started <- tapply(harbours$quarter[harbours$cold_store], harbours$harbour[harbours$cold_store], min)
  cohort <- started[base$harbour]
  expect_equal(cohorts$difference[1], mean(base$market_km[cohort %in% min(started)]) - mean(base$market_km[is.na(cohort)]))
  expect_error(describe_groups(list(all = study, pairs = pair_units(scored)), by = "port"), "one comparison",
               class = "twin_error_input")
  expect_error(describe_groups(frame_panel(harbours, "price", "quarter", unit = "harbour", treatment = "cold_store")),
               "no covariates", class = "twin_error_input")
})

test_that("results print as tables in documents of knitr", {
  skip_if_not_installed("knitr")
  groups <- describe_groups(study_of_many())
  withr::local_options(knitr.in.progress = TRUE)
  as_markdown <- knit_result(groups)
  expect_s3_class(as_markdown, "knit_asis")
  expect_match(as_markdown, "| Covariate |", fixed = TRUE)
  old <- knitr::opts_knit$get("rmarkdown.pandoc.to")
  withr::defer(knitr::opts_knit$set(rmarkdown.pandoc.to = old))
  knitr::opts_knit$set(rmarkdown.pandoc.to = "latex")
  expect_match(knit_result(groups, list(label = "first", tab.cap = "Mine")), "\\\\caption\\{Mine\\}\\\\label\\{tab:first\\}")
  knitr::opts_knit$set(rmarkdown.pandoc.to = "html")
  expect_match(knit_result(groups), "<table>", fixed = TRUE)
  withr::local_options(carefultwin.knit = "text")
  expect_false(grepl("<table>", paste(utils::capture.output(knit_result(groups)), collapse = "")))
})
