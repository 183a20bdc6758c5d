# summary(), glance(), tidy(), plot() and as.data.frame() on everything; widths, digits, labels.

first_results <- function() {
  data <- many_crews(300)
  data$crew <- sprintf("c%03d", seq_len(300))
  study <- frame_study(data, "joined", c("income", "direct"), c("boat", "past", "port"), id = "crew", cluster = "harbour")
  scored <- score_units(study)
  weighed <- weigh_units(scored)
  graph <- assume_graph("digraph { port -> joined; port -> income; joined -> income }", exposure = "joined", outcome = "income")
  arms <- frame_arms(data, "port", "income", c("boat", "past"), reference = "small")
  list(study = study, scored = scored, weighed = weighed, pairs = pair_units(scored), panel = harbour_panel(many_harbours(12)),
       arms = weigh_units(score_units(arms)), groups = describe_groups(study), logbook = logbook(weighed), graph = graph,
       sets = sets_to_adjust(graph), check = explain_set(graph, "port"), claims = test_claims(assume_graph("digraph {boat -> past; boat -> income}"), data),
       effect = measure_effect(weighed), balance = assess_balance(weighed),
       scores = compare_scores(list(logit = scored, probit = score_units(study, link = "probit"))))
}

test_that("summary, glance, tidy and as.data.frame say something on every main object", {
  results <- first_results()
  for (name in names(results)) {
    x <- results[[name]]
    expect_s3_class(glance(x), "data.frame")
    expect_equal(nrow(glance(x)), 1, info = name)
    expect_s3_class(as.data.frame(x), "data.frame")
    expect_s3_class(tidy(x), "data.frame")
    if (!name %in% c("panel", "logbook")) {
      short <- summary(x)
      expect_s3_class(short, "twin_summary")
      expect_identical(as.data.frame(short), glance(x))
      text <- paste(format(short), collapse = "\n")
      for (field in names(glance(x))) expect_match(text, sprintf("  %s +", field), info = name)
    }
  }
  for (name in c("study", "scored", "weighed", "pairs", "panel", "arms", "groups", "logbook", "graph", "effect", "balance", "scores")) {
    expect_s3_class(plot(results[[name]]), "ggplot")
  }
  expect_output(print(summary(results$logbook)), "still sealed; 2 designs tried")
})

test_that("glance() of what comes before effects counts what is there", {
  results <- first_results()
  data <- results$study$data
  g <- glance(results$study)
  expect_equal(g[c("nobs", "n_treated", "n_control", "outcomes", "covariates")],
               data.frame(nobs = 300L, n_treated = sum(data$joined == 1), n_control = sum(data$joined == 0), outcomes = 2L, covariates = 3L))
  w <- weights(results$weighed)
  g <- glance(results$weighed)
  expect_equal(g$ess_control, sum(w[data$joined == 0])^2 / sum(w[data$joined == 0]^2))
  expect_equal(g$worst_smd, glance(results$balance)$worst_smd)
  expect_identical(g$worst_covariate, glance(results$balance)$worst_covariate)
  expect_equal(glance(results$pairs)$sets, nrow(pairs_of(results$pairs)))
  expect_equal(tidy(results$study)$levels, c(NA, NA, 3))
  expect_equal(glance(results$panel)$units, 12)
  expect_identical(tidy(results$graph), as.data.frame(results$graph))
  rows <- tidy(results$groups)
  expect_equal(glance(results$groups)$worst_smd, max(abs(rows$smd)))
})

test_that("predictions, partners and ids are those of the user's own units", {
  results <- first_results()
  data <- results$study$data
  predicted <- tidy(results$scored, part = "predictions")
  expect_identical(predicted$id, data$crew)
  expect_equal(predicted$score, unname(glm(joined ~ boat + past + port, binomial, data)$fitted.values), tolerance = 1e-6)
  learnt <- score_units(results$study, learners = c("logit", "tree"), folds = 2)
  expect_true(all(c("learner_logit", "learner_tree") %in% names(tidy(learnt, part = "predictions"))))
  reused <- pair_units(results$scored, replacement = TRUE)
  pairs <- pairs_of(reused)
  expect_identical(pairs$treated_id, data$crew[pairs$treated])
  expect_identical(pairs$control_id, data$crew[pairs$control])
  units <- design_data(reused, outcome = FALSE)
  expect_identical(nrow(units), nrow(data))
  most <- names(which.max(table(pairs$control_id)))
  expect_setequal(strsplit(units$.partners[units$crew == most], "; ")[[1]], pairs$treated_id[pairs$control_id == most])
  expect_true(all(is.na(units$.partners[units$.weight == 0])))
  file <- withr::local_tempfile(fileext = ".csv")
  write_units(reused, file)
  expect_identical(read_units(file)$.partners, units$.partners)
  expect_false("income" %in% names(read_units(file)))
  counted <- frame_study(transform(utils::head(data, 60), k = rep(1:2, 30)), "joined", "income", c("boat", "past"), frequency = "k")
  expect_equal(design_data(score_units(counted), outcome = FALSE)$.row, rep(1:60, rep(1:2, 30)))
})

test_that("a searched design without a score is its metric, as rows and as a picture", {
  searched <- search_metric(study_of_many(many_crews(100)), population = 10, generations = 2)
  expect_identical(tidy(searched), tidy(searched, part = "metric"))
  drawn <- ggplot2::ggplot_build(plot(searched))
  expect_equal(drawn$data[[3]]$y, cummin(searched$metric$history$best))
  expect_error(plot(weigh_units(score_units(study_of_many())), view = "search"), "no metric", class = "twin_error_input")
})

test_that("a learner that tells nobody apart is warned of", {
  set.seed(5)
  data <- data.frame(z = rep(0:1, 40), y = rnorm(80), x = rnorm(80))
  none <- list(fit = function(x, z, weight) mean(z), predict = function(model, x) rep(model, nrow(x)))
  expect_warning(score_units(frame_study(data, "z", "y", "x"), learners = list("logit", none = none), folds = 3), "1 learner predicts.*none",
                 class = "twin_warning_learner")
})

test_that("prints keep to the width of the screen, and name what does not fit", {
  results <- first_results()
  results$six <- assess_balance(stats::setNames(rep(list(results$weighed, results$pairs), 3), paste("a design with a name", 1:6)))
  results$tests <- describe_groups(results$study, tests = TRUE, overall = TRUE)
  results$compared <- compare_effects(weights = results$effect, pairs = measure_effect(results$pairs))
  for (width in c(60, 80, 140)) {
    withr::with_options(list(width = width), {
      for (name in names(results)) {
        lines <- if (inherits(results[[name]], "twin_claims")) format.twin_claims(results[[name]]) else format(results[[name]])
        expect_lte(max(nchar(lines, "width")), width, label = paste(name, width))
      }
      text <- paste(format(results$tests), collapse = "\n")
      gone <- regmatches(text, regexpr("Too wide to show: [^.]+", text))
      for (column in c("SMD", "SE", "Difference", "Both")) {
        expect_true(grepl(paste0("  ", column), text, fixed = TRUE) || any(grepl(column, gone, fixed = TRUE)), label = paste(column, width))
      }
      for (k in 1:6) expect_match(paste(format(results$six), collapse = "\n"), paste("name", k), fixed = TRUE)
    })
  }
})

test_that("names that are cut stay distinct", {
  long <- paste0("the very long name of a covariate that ends in ", c("one", "two"))
  cut <- shorten(long, 20)
  expect_identical(anyDuplicated(cut), 0L)
  expect_lte(max(nchar(cut)), 20)
  same_ends <- c("aaaaaaaaaaaaaaaaaaaa middle 1 zzzzzzzzzzzzzzzzzz", "aaaaaaaaaaaaaaaaaaaa middle 2 zzzzzzzzzzzzzzzzzz")
  expect_identical(anyDuplicated(shorten(same_ends, 18)), 0L)
  expect_identical(shorten(c("short", "short"), 10), c("short", "short"))
})

test_that("a column has one number of decimals, and digits count for all of it", {
  expect_identical(column_text(c(0.1234, 3.9e-7, 3.63)), c("0.12", "0.00", "3.63"))
  expect_identical(column_text(c(1234.5, 0.25)), c("1,234.50", "0.25"))
  expect_identical(column_text(c(2e-7, 3e-8)), c("2.0e-07", "3.0e-08"))
  expect_identical(column_text(c(NA, Inf, -0.0001, 1)), c("-", "Inf", "0.00", "1.00"))
  expect_identical(interval_text(c(3.9e-7, 1), c(3.63, 2)), c("0.00 to 3.63", "1.00 to 2.00"))
  results <- first_results()
  file <- withr::local_tempfile(fileext = ".md")
  export_table(results$groups, file, digits = 1)
  cells <- unlist(strsplit(grep("^\\| (boat|past|port)", readLines(file), value = TRUE), "|", fixed = TRUE))
  decimals <- nchar(sub("^[^.]*[.]?", "", unlist(regmatches(cells, gregexpr("[0-9]+[.][0-9]+", cells)))))
  expect_true(length(decimals) > 20 && all(decimals == 1))
  export_table(results$effect, file, digits = 1)
  expect_match(readLines(file), "[0-9][.][0-9] to -?[0-9.]+[.][0-9] \\|", all = FALSE)
})

test_that("shares and their differences are in one unit", {
  study <- study_of_many()
  rows <- tidy(describe_groups(study))
  large <- rows[which(rows$level == "large"), ]
  text <- format(describe_groups(study))
  line <- grep("port: large", text, value = TRUE, fixed = TRUE)
  expect_match(line, sprintf("%.1f%%", 100 * large$mean_treated), fixed = TRUE)
  expect_match(line, sprintf("%.1f pp", 100 * large$difference), fixed = TRUE)
  expect_match(line, sprintf("%.1f pp", 100 * large$std.error), fixed = TRUE)
  expect_match(paste(text, collapse = " "), "percentage\\s+points \\(pp\\)")
})

test_that("labels that the data bring stand in prints, and labels of levels in tables", {
  data <- many_crews(150)
  attr(data$boat, "label") <- "length of the boat (m)"
  attr(data$income, "label") <- "income per trip"
  study <- frame_study(data, "joined", "income", c("boat", "past", "port"))
  expect_match(paste(format(study), collapse = " "), "income = income per trip; boat = length of the\\s+boat")
  expect_match(paste(format(describe_groups(study)), collapse = " "), "Labels: boat = length of the boat (m).", fixed = TRUE)
  expect_match(paste(format(assess_balance(study)), collapse = " "), "Labels: boat = length", fixed = TRUE)
  file <- withr::local_tempfile(fileext = ".md")
  export_table(describe_groups(study), file, labels = c("port: large" = "a large harbour", past = "earnings"))
  expect_match(readLines(file), "^\\| a large harbour \\|", all = FALSE)
  expect_match(readLines(file), "^\\| earnings \\|", all = FALSE)
  expect_match(readLines(file), "^\\| port: small \\|", all = FALSE)
})

test_that("groups by 0 and 1 stand in the order of text, with the column's name; strata too", {
  data <- many_crews(300)
  data$fresh <- rep(c(1, 0), 150)
  data$word <- ifelse(data$fresh == 1, "yes", "no")
  data$code <- ifelse(data$fresh == 1, "1", "0")
  study <- frame_study(data, "joined", "income", c("boat", "past"))
  weighed <- weigh_units(score_units(study))
  for (by in c("fresh", "code")) {
    effects <- measure_effect(weighed, by = by)
    expect_identical(names(effects), c("0", "1"))
    expect_identical(unique(tidy(effects, part = "groups")$second), "0")
  }
  expect_identical(names(measure_effect(weighed, by = "word")), c("no", "yes"))
  expect_match(format(describe_groups(study, by = "fresh")), "^fresh: 0$", all = FALSE)
  strata <- stratify_units(score_units(study), 3)
  balance <- assess_balance(strata, by = ".stratum")
  expect_match(format(balance), "^stratum: 2$", all = FALSE)
  g <- glance(balance)
  expect_identical(g$group, c(NA, "1", "2", "3"))
  inside <- strata$set == 2
  w <- weights(strata)[inside & data$joined == 0]
  expect_equal(g$ess_control[3], sum(w)^2 / sum(w^2))
  rows <- tidy(balance)
  rows <- rows[rows$sample == "after" & rows$group %in% "2", ]
  expect_equal(g$worst_smd[3], max(abs(rows$smd)))
  drawn <- ggplot2::ggplot_build(plot(balance))
  expect_identical(as.character(drawn$layout$layout$part), c("all units", paste("stratum:", 1:3)))
})
