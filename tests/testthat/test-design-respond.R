# many_crews() whose income goes missing by covariates and treatment.
unanswered <- function(n = 300, seed = 1) {
  data <- many_crews(n, seed)
  gone <- withr::with_seed(seed + 1, rbinom(n, 1, plogis(-1 + data$boat + 0.5 * data$joined)))
  data$income[gone == 1] <- NA
  data
}

answered_by <- function(data, study = study_of_many(data), ...) weigh_responses(weigh_units(score_units(study)), ...)

test_that("the chance of an outcome is glm's, and multiplies the weights", {
  data <- unanswered()
  design <- answered_by(data)
  known <- !is.na(data$income)
  fit <- glm(known ~ joined + boat + past + port, binomial, data, control = list(epsilon = 1e-14))
  expect_equal(design$responses$income$fitted, unname(fitted(fit)), tolerance = 1e-7)
  v <- weights(design) / fitted(fit)
  mean_of <- function(arm) weighted.mean(data$income[known & data$joined == arm], v[known & data$joined == arm])
  effect <- measure_effect(design)
  expect_equal(unname(coef(effect)[1:2]), c(mean_of(1), mean_of(0)))
  each <- answered_by(data, each_arm = TRUE, model = ~boat)
  for (arm in 1:0) {
    own <- data$joined == arm
    fit <- glm(known[own] ~ boat, binomial, data[own, ], control = list(epsilon = 1e-14))
    expect_equal(each$responses$income$fitted[own], unname(fitted(fit)), tolerance = 1e-7)
  }
  text <- gsub("\\s+", " ", paste(format(design), collapse = " "))
  expect_match(text, "income known for [0-9]+ of 153 treated, [0-9]+ of 147 control; weighed by a logit on treatment and boat")
  said <- gsub("\\s+", " ", paste(format(effect), collapse = " "))
  expect_match(said, "with the response weights accounted for. [0-9]+ values of the outcome are missing: units with one stand in")
  expect_no_match(said, "whose outcome is known")
})

test_that("influence is the derivative in the sampling weight, the chance's estimation included", {
  cases <- list(
    function(data) measure_effect(answered_by(data, study_of_many(data, weight = "s", estimand = "ATE"))),
    function(data) measure_effect(answered_by(data, study_of_many(data, weight = "s")), estimator = "augmented"),
    function(data) measure_effect(answered_by(data, study_of_many(data, weight = "s", estimand = "ATO"), each_arm = TRUE),
                                  estimator = "augmented"),
    function(data) measure_effect(answered_by(data, study_of_many(data, weight = "s", estimand = "ATE")),
                                  estimator = "regression"),
    function(data) measure_effect(answered_by(data, study_of_many(data, weight = "s", estimand = "ATE")),
                                  estimator = "targeted"),
    function(data) measure_effect(weigh_responses(weigh_units(study_of_many(data, weight = "s"), "entropy"))),
    function(data) measure_effect(weigh_responses(study_of_many(data, weight = "s"))),
    function(data) measure_effect(weigh_responses(score_units(study_of_many(data, weight = "s"))), estimator = "augmented")
  )
  gaps <- vapply(cases, function(make) max(influence_gap(make, unanswered(200))), 0)
  expect_lt(max(gaps), 2e-5, label = paste("case", which.max(gaps)))
})

test_that("everybody's effect comes back where outcomes go missing by covariates", {
  draws <- vapply(1:60, function(seed) {
    data <- unanswered(800, seed)
    design <- weigh_units(score_units(study_of_many(data, estimand = "ATE")))
    c(complete = difference_of(measure_effect(design)), weighed = difference_of(measure_effect(weigh_responses(design))))
  }, numeric(2))
  error <- apply(draws, 1, sd) / sqrt(60)
  away <- abs(rowMeans(draws) - 2)  # the effect is 2 + boat, on average 2
  expect_gt(away[["complete"]], 5 * error[["complete"]])
  expect_lt(away[["weighed"]], 3 * error[["weighed"]])
})

test_that("who responds is compared with all of the arm, before and after", {
  data <- unanswered()
  design <- answered_by(data)
  responses <- assess_responses(design)
  rows <- tidy(responses)
  w <- weights(design)
  known <- !is.na(data$income)
  own <- data$joined == 0
  boat <- rows[rows$arm == "control" & rows$covariate == "boat", ]
  all <- weighted.mean(data$boat[own], w[own])
  v <- w[own]
  sd <- sqrt(sum(v * (data$boat[own] - all)^2) / (sum(v) - sum(v^2) / sum(v)))
  expect_equal(boat$mean_known, weighted.mean(data$boat[own & known], w[own & known]))
  expect_equal(boat$smd_known, (boat$mean_known - all) / sd)
  chance <- design$responses$income$fitted
  expect_equal(boat$mean_weighted, weighted.mean(data$boat[own & known], (w / chance)[own & known]))
  expect_lt(max(abs(rows$smd_weighted)), max(abs(rows$smd_known)))
  numbers <- glance(responses)
  expect_identical(numbers$known, c(sum(known & !own), sum(known & own)))
  expect_equal(numbers$lowest[2], min(chance[own & known]))
  text <- format(responses)
  expect_lte(max(nchar(text, "width")), 80)
  expect_match(paste(text, collapse = " "), "Treated \\(\"1\"\\): known for [0-9]+ of 153")
  drawn <- ggplot2::layer_data(plot(responses), 2)
  expect_setequal(round(drawn$x, 10), round(abs(c(rows$smd_known, rows$smd_weighted)), 10))
  expect_error(assess_responses(weigh_units(score_units(study_of_many()))), "no response weights", class = "twin_error_input")
  expect_error(assess_responses(design, "direct"), "must be one of", class = "twin_error_input")
})

test_that("the study counts missing outcomes by arm, may leave them out, and opens nothing", {
  data <- unanswered()
  study <- study_of_many(data)
  gone <- is.na(data$income)
  text <- gsub("\\s+", " ", paste(format(study), collapse = " "))
  expect_match(text, sprintf("income is missing for %d of 153 treated and %d of 147 control units",
                             sum(gone & data$joined == 1), sum(gone & data$joined == 0)))
  among <- study_of_many(data, missing_outcome = "drop")
  expect_identical(among$rows, which(!gone))
  expect_match(paste(format(among), collapse = " "), sprintf("%d rows, an outcome missing", sum(gone)))
  effect <- measure_effect(pair_units(score_units(among)))
  expect_identical(effect$counts[["missing"]], 0L)
  expect_true(is.na(summary(logbook(answered_by(data)))$opened))
  expect_match(paste(format(measure_effect(weigh_units(score_units(study)))), collapse = " "),
               "about\\s+complete\\s+cases;\\s+see\\s+weigh_responses\\(\\)")
})

test_that("what response weights can't do is refused with what can", {
  data <- unanswered()
  scored <- score_units(study_of_many(data))
  expect_error(weigh_responses(pair_units(scored)), "no place on pairs.*missing_outcome", class = "twin_error_unsupported")
  design <- weigh_responses(weigh_units(scored))
  expect_error(weigh_responses(design), "already", class = "twin_error_unsupported")
  expect_error(pair_units(weigh_responses(scored)), "comes before", class = "twin_error_unsupported")
  expect_error(weigh_responses(score_units(study_of_many())), "No outcome has missing", class = "twin_error_input")
  expect_error(weigh_responses(score_units(study_of_many(data, outcome = c("income", "direct"))), "direct"), "has none",
               class = "twin_error_input")
  expect_error(probe_weights(measure_effect(design)), "under response weights.*probe_omitted", class = "twin_error_unsupported")
  expect_error(measure_effect(weigh_responses(scored), estimator = "crossfit", learners = "logit"), "augmented",
               class = "twin_error_unsupported")
  gate <- data
  gate$tide <- ifelse(is.na(gate$income), 1, 0) + seq_len(300) / 1000
  expect_error(weigh_responses(study_of_many(gate, covariates = c("boat", "tide"))), "whether \"income\" is known",
               class = "twin_error_separation")
})

test_that("response weights stand in plans, are drawn anew, and go by outcome", {
  data <- unanswered()
  data$direct[1:20] <- NA
  study <- study_of_many(data, outcome = c("income", "direct"), estimand = "ATE")
  design <- answered_by(data, study)
  expect_named(design$responses, c("income", "direct"))
  both <- measure_effect(design, outcome = c("income", "direct"))
  expect_equal(coef(both[[2]]), coef(measure_effect(answered_by(data, study, outcome = "direct"), "direct")))
  drawn <- measure_effect(design, inference = "bootstrap", draws = 60, seed = 3)
  expect_equal(sqrt(vcov(drawn)["difference", "difference"]), sqrt(vcov(both[[1]])["difference", "difference"]),
               tolerance = 0.35)
  expect_s3_class(probe_omitted(measure_effect(design)), "twin_probe")
  folder <- plan_folder(function(lines) sub("[score, weigh]", "[score, weigh, respond: {each_arm: true, model: ~ boat}]",
                                            slim(lines), fixed = TRUE))
  file <- file.path(folder, "data.csv")
  data.table::fwrite(transform(data.table::fread(file), income = data$income), file)
  result <- twin("run", file.path(folder, "plan.yml"))
  expect_identical(result$status, 0L, label = paste(result$err, collapse = " "))
  read <- read_units(file)
  planned <- weigh_responses(weigh_units(score_units(frame_study(read, "joined", c("income", "direct"), ~ boat + past + port))),
                             model = ~boat, each_arm = TRUE)
  table <- read_units(file.path(folder, "results", "tables", "responses-weights.csv"))
  expect_equal(table, tidy(assess_responses(planned)), ignore_attr = TRUE)
  expect_match(paste(readLines(file.path(folder, "results", "report.html"), warn = FALSE), collapse = " "),
               "Units with a known outcome against all of their arm")
  placebo <- probe_placebo(measure_effect(design), outcomes = "s")
  expect_true(is.finite(tidy(placebo)$estimate[1]))
})

test_that("weigh_units(response = ) is the weights and then the response weights, in draws and plans too", {
  study <- study_of_many(unanswered(), estimand = "ATE")
  scored <- score_units(study)
  short <- weigh_units(scored, response = ~ boat + past)
  long <- weigh_responses(weigh_units(scored), model = ~ boat + past)
  expect_equal(short$responses$income$fitted, long$responses$income$fitted)
  expect_equal(weights(short), weights(long))
  draw <- function(x) measure_effect(x, inference = "bootstrap", draws = 20, seed = 4)$draws
  expect_equal(draw(short), draw(long))
  expect_error(weigh_units(scored, response = "boat"), class = "twin_error_input")
  expect_error(weigh_units(score_units(study_of_many()), response = ~ boat), "No outcome has missing values", class = "twin_error_input")
  folder <- plan_folder(function(lines) sub("[score, weigh]", "[score, {weigh: {response: ~ boat}}]", lines, fixed = TRUE))
  data <- data.table::fread(file.path(folder, "data.csv"), data.table = FALSE)
  data.table::fwrite(transform(data, income = ifelse(id %% 7 == 0, NA, income)), file.path(folder, "data.csv"))
  plan <- read_plan(file.path(folder, "plan.yml"))
  expect_identical(plan_designs(plan, plan_study(plan))$weights$responses$income$terms$text, "boat")
})
