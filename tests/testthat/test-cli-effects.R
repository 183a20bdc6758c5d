# Effects named in a plan and the same measured in R; results and report hold all of them.

effects_of_plan <- function(lines, outcomes = "[income, direct, days, months, left]", env = parent.frame()) {
  folder <- plan_folder(env = env, edit = function(plan) {
    plan <- sub("\\[income, direct\\]", outcomes, plan)
    c(plan[seq_len(which(plan == "effects:"))], lines)
  })
  data <- more_outcomes()
  for (k in 1:3) data[[paste0("rep_", k)]] <- core_draw_counts(300, k)
  data.table::fwrite(data, file.path(folder, "data.csv"))
  lines <- readLines(file.path(folder, "plan.yml"))
  writeLines(lines[!grepl("id: id", lines)], file.path(folder, "plan.yml"))
  plan <- read_plan(file.path(folder, "plan.yml"))
  study <- plan_study(plan)
  list(effects = suppressWarnings(plan_effects(plan, study, plan_designs(plan, study))), folder = folder)
}

effects_study <- function() {
  study_of_many(more_outcomes(), outcome = c("income", "direct", "days", "months", "left"), cluster = "harbour")
}

test_that("every option of measure_effect and measure_hazard can stand in a plan", {
  study <- effects_study()
  design <- weigh_units(score_units(study))
  found <- effects_of_plan(c(
    "  models: {design: weights, outcome: [income, days], estimator: augmented, model: {income: \"~ boat\"},",
    "           family: {days: poisson}, adjust: holm, bands: true}",
    "  spread: {design: weights, outcome: direct, estimator: targeted, family: heteroskedastic_probit, scale_model: \"~ boat\"}",
    "  learnt: {estimator: crossfit, learners: [logit, tree], folds: 3, repeats: 1, seed: 4}",
    "  plain: {design: weights, normalise: false, quantiles: [], level: 0.9}",
    "  tails: {design: weights, quantiles: [0.1, 0.9], cluster: [harbour, coast]}",
    "  ports: {design: weights, by: port}",
    "  drawn: {design: weights, inference: bootstrap, draws: 5, interval: normal, seed: 3}",
    "  knife: {design: weights, inference: jackknife}",
    "  copies: {design: weights, inference: replicates, replicates: \"rep_*\", replicate_scale: 0.5}",
    "  lasting: {measure: hazard, design: weights, time: months, event: left, horizon: 20}"
  ))$effects
  quiet <- suppressWarnings
  expect_equal(tidy(found$models), tidy(measure_effect(design, c("income", "days"), "augmented",
                                                       model = list(income = ~boat), family = c(days = "poisson"),
                                                       adjust = "holm", bands = TRUE)))
  expect_equal(tidy(found$spread), tidy(measure_effect(design, "direct", "targeted", family = "heteroskedastic_probit",
                                                       scale_model = ~boat)))
  expect_equal(tidy(found$learnt), tidy(measure_effect(study, estimator = "crossfit", learners = c("logit", "tree"),
                                                       folds = 3, repeats = 1, seed = 4)))
  expect_equal(tidy(found$plain), tidy(measure_effect(design, normalise = FALSE, level = 0.9)))
  expect_equal(tidy(found$tails), tidy(quiet(measure_effect(design, quantiles = c(0.1, 0.9),
                                                            cluster = c("harbour", "coast")))))
  expect_equal(tidy(found$ports, part = "groups"), tidy(measure_effect(design, by = "port"), part = "groups"))
  expect_equal(tidy(found$drawn), tidy(measure_effect(design, inference = "bootstrap", draws = 5, interval = "normal",
                                                      seed = 3)))
  expect_equal(tidy(found$knife), tidy(measure_effect(design, inference = "jackknife")))
  expect_match(found$copies$inference, "3 replicate weights, scale 0.5")
  expect_equal(tidy(found$lasting), tidy(measure_hazard(design, "months", "left", horizon = 20)))
})

test_that("a run writes and reports hazards, groups and several outcomes", {
  skip_if_not_installed("future")
  folder <- effects_of_plan(c(
    "  raw: {}", "  weights: {design: weights}", "  augmented: {design: weights, estimator: augmented}",
    "  lasting: {measure: hazard, design: weights, time: months, event: left}",
    "  ports: {design: weights, by: port}", "  both: {design: weights, outcome: [income, days], adjust: bh}",
    "report:", "  truth: {income: 2}"
  ))$folder
  result <- twin("run", file.path(folder, "plan.yml"))
  expect_identical(result$status, 0L)
  out <- paste(result$out, collapse = "\n")
  expect_match(out, "Do the 2 adjusted estimates agree")
  expect_match(out, "within each port")
  expect_match(out, "hazard ratio")
  expect_lte(max(nchar(result$out)), 80)
  files <- list.files(file.path(folder, "results"), recursive = TRUE)
  expect_true(all(c("tables/effects-ports.csv", "tables/effects-both.tex", "tables/effects-months-hazard.csv",
                    "figures/curves-lasting.png", "figures/effects-ports.png") %in% files))
  page <- paste(readLines(file.path(folder, "results", "report.html")), collapse = "\n")
  for (text in c("Curves: lasting", "Between groups", "Do they agree?", "Hazard ratio", "p (BH)")) {
    expect_match(page, text, fixed = TRUE)
  }
})

test_that("several arms can stand in a plan", {
  folder <- plan_folder(function(plan) {
    plan <- sub("treatment: joined", "treatment: gear", plan)
    plan <- sub("estimand: ATT", "estimand: ATE\n  reference: pots", plan)
    c(plan[seq_len(which(plan == "designs:"))], "  weights: [score, weigh]", "effects:", "  raw: {}",
      "  weights: {design: weights, estimator: augmented}")
  })
  data <- data.table::fread(file.path(folder, "data.csv"), data.table = FALSE)
  data$gear <- withr::with_seed(1, sample(c("pots", "nets", "lines"), 300, replace = TRUE))
  data.table::fwrite(data, file.path(folder, "data.csv"))
  result <- twin("run", file.path(folder, "plan.yml"))
  expect_identical(result$status, 0L)
  out <- paste(result$out, collapse = "\n")
  expect_match(out, "weights: nets")
  expect_match(out, "nets vs pots")
  arms <- frame_arms(data, "gear", "income", ~ boat + past + port, reference = "pots", estimand = "ATE",
                     cluster = "harbour")
  table <- data.table::fread(file.path(folder, "results", "tables", "effects-weights.csv"))
  effects <- tidy(measure_effect(weigh_units(score_units(arms)), estimator = "augmented"))
  expect_equal(table$estimate, effects$estimate, tolerance = 1e-6)
})

test_that("wrong keys of effects are named with their line", {
  folder <- plan_folder(function(plan) sub("  raw: \\{\\}", "  raw: {measure: hazzard}", plan))
  expect_stopped(twin("run", file.path(folder, "plan.yml")), 2L, "Did you mean \"hazard\"")
  folder <- plan_folder(function(plan) sub("  raw: \\{\\}", "  raw: {measure: hazard, draw: 5}", plan))
  expect_stopped(twin("run", file.path(folder, "plan.yml")), 2L, "Did you mean \"draws\"")
})
