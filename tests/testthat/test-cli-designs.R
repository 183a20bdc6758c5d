# Designs made by a plan, one per name, and the same made in R.
designs_of_plan <- function(lines, estimand = "ATT") {
  folder <- plan_folder(function(plan) {
    cut <- which(plan == "designs:")
    plan <- sub("estimand: ATT", paste("estimand:", estimand), plan)
    c(plan[seq_len(cut)], lines)
  })
  plan <- read_plan(file.path(folder, "plan.yml"))
  suppressWarnings(plan_designs(plan, plan_study(plan)), classes = "twin_warning_weights")
}

study_of_plan <- function(estimand = "ATT") {
  study_of_many(cluster = "harbour", outcome = c("income", "direct"), estimand = estimand)
}

expect_same_weights <- function(plan, r) {
  expect_equal(lapply(plan, weights), lapply(r, weights))
  expect_identical(vapply(plan, design_label, ""), vapply(r, design_label, ""))
}

test_that("every option of score and trim can stand in a plan", {
  study <- study_of_plan("ATE")
  plan <- designs_of_plan(estimand = "ATE", c(
    "  model: [score: {model: \"~ boat + I(boat^2)\", link: probit}, weigh]",
    "  spread: [score: {link: heteroskedastic_probit, scale_model: \"~ boat\"}, weigh]",
    "  ladder: [score: {select: ladder, model: \"~ port\", thresholds: {linear: 2, second: 4}}, weigh]",
    "  stack: [score: {learners: [logit, tree], folds: 3, prediction: out_of_fold, seed: 4}, weigh]",
    "  column: [score: {score: chance}, weigh]",
    "  range: [score, trim: {rule: range, bounds: [0.2, 0.8], rescore: true}, weigh]",
    "  quantile: [score, trim: {rule: quantile, bounds: 0.05}, weigh]"
  ))
  expect_same_weights(plan, list(
    model = weigh_units(score_units(study, model = ~ boat + I(boat^2), link = "probit")),
    spread = weigh_units(score_units(study, link = "heteroskedastic_probit", scale_model = ~ boat)),
    ladder = weigh_units(score_units(study, select = "ladder", model = ~ port, thresholds = c(linear = 2, second = 4))),
    stack = weigh_units(score_units(study, learners = c("logit", "tree"), folds = 3, seed = 4)),
    column = {
      study$data$chance <- plogis(study$data$boat)
      weigh_units(score_units(study, score = "chance"))
    },
    range = weigh_units(trim_units(score_units(study), "range", bounds = c(0.2, 0.8), rescore = TRUE)),
    quantile = weigh_units(trim_units(score_units(study), "quantile", bounds = 0.05))
  ))
})

test_that("every option of stratify and weigh can stand in a plan", {
  study <- study_of_plan()
  plan <- designs_of_plan(c(
    "  strata: [score, stratify: {strata: 3, breaks_on: all}]", "  breaks: [score, stratify: {breaks_on: [0.4, 0.6]}]",
    "  inverse: [score, weigh: {method: inverse, stabilise: true, truncate: {quantile: [0.05, 0.95]}}]",
    "  bound: [score, weigh: {truncate: {bound: 2}}]",
    "  entropy: [weigh: {method: entropy, moments: 2, interactions: \"~ boat:port\"}]",
    "  all: [weigh: {method: entropy, interactions: all}]", "  stable: [weigh: {method: stable, tolerance: 0.05}]",
    "  balancing: [weigh: {method: balancing_score}]", "  own: [weigh: {weight: s}]"
  ))
  expect_same_weights(plan, list(
    strata = stratify_units(score_units(study), 3, "all"),
    breaks = stratify_units(score_units(study), breaks_on = c(0.4, 0.6)),
    inverse = weigh_units(score_units(study), stabilise = TRUE, truncate = list(quantile = c(0.05, 0.95))),
    bound = weigh_units(score_units(study), truncate = c(bound = 2)),
    entropy = suppressWarnings(weigh_units(study, "entropy", moments = 2, interactions = ~ boat:port)),
    all = weigh_units(study, "entropy", interactions = "all"),
    stable = weigh_units(study, "stable", tolerance = 0.05),
    balancing = weigh_units(study, "balancing_score"), own = weigh_units(study, weight = "s")
  ))
})

test_that("a plan knows every argument of the design verbs", {
  keys <- plan_keys()
  verbs <- list(score = score_units, trim = trim_units, stratify = stratify_units, weigh = weigh_units)
  for (verb in names(verbs)) expect_identical(keys[[verb]], names(formals(verbs[[verb]]))[-1], label = verb)
})

test_that("a run with learners, strata and trimming reports all of it", {
  folder <- plan_folder(function(plan) {
    sub("  weights: [score, weigh]", paste(
      "  weights: [score: {learners: [logit, tree], folds: 3}, trim: {rule: common_support}, weigh]",
      "  strata: [score: {select: ladder}, stratify: {strata: 4}]", sep = "\n"), plan, fixed = TRUE)
  })
  result <- twin("run", file.path(folder, "plan.yml"))
  expect_identical(result$status, 0L)
  out <- file.path(folder, "results")
  wanted <- c("tables/weights-strata.csv", "figures/weights-weights.png", "tables/calibration.tex")
  expect_true(all(file.exists(file.path(out, wanted))))
  report <- paste(readLines(file.path(out, "report.html")), collapse = " ")
  expect_match(report, "Calibration")
  expect_match(report, "those with scores from")
  expect_match(report, "<summary>Strata</summary>")
})

test_that("moments that can't be met stop the run with status 1 and their names", {
  folder <- plan_folder(function(plan) {
    plan <- sub("  weights: [score, weigh]", "  weights: [weigh: {method: stable, tolerance: 0}]", plan, fixed = TRUE)
    sub("~ boat + past + port", "~ boat + past + port + rare", plan, fixed = TRUE)
  })
  data <- many_crews()
  data$rare <- ifelse(data$joined == 1 & seq_len(300) %% 9 == 0, "island", "coast")
  data$id <- seq_len(300)
  data.table::fwrite(data, file.path(folder, "data.csv"))
  plan <- file.path(folder, "plan.yml")
  writeLines(sub("^  pairs:$|^    - .*$", "", readLines(plan)) |> sub(pattern = "pairs: \\{design: pairs\\}",
                                                                     replacement = "other: {design: weights}") |>
               sub(pattern = "^  hidden.*", replacement = ""), plan)
  expect_stopped(twin("run", plan), 1L, "rare: island")
  expect_false(dir.exists(file.path(folder, "results")))
})

test_that("every option of pair, group and search can stand in a plan", {
  study <- study_of_plan()
  plan <- designs_of_plan(c(
    "  calipers: [score, pair: {caliper: {score: 0.3, boat: 0.5}, caliper_unit: {boat: raw}, exact: port, apart: coast}]",
    "  ratio: [score, pair: {ratio: [1, 2], order: shuffled, seed: 3}]",
    "  optimal: [pair: {on: mahalanobis, covariates: [boat, past], spread: within, search: optimal}]",
    "  reuse: [pair: {on: diagonal, covariates: \"~ boat + past\", replacement: true, ties: first}]",
    "  metric: [pair: {on: metric, metric: {boat: 2, past: 1}}]",
    "  full: [score, group: {method: full, on: mahalanobis, ratio: [1/3, 4], exact: port}]",
    "  exact: [group: {method: exact, covariates: port}]",
    "  coarse: [group: {method: coarsened, bins: {boat: 3, past: [-1, 0, 1], port: [[small, medium], [large]]}}]",
    "  searched:",
    "    - search: {goal: ks, covariates: [boat, past], exact: coast, population: 10, generations: 2, patience: 2, seed: 2}",
    "    - pair: {on: metric, replacement: true, exact: coast}"
  ))
  scored <- score_units(study)
  searched <- search_metric(study, c("boat", "past"), goal = "ks", exact = "coast", population = 10, generations = 2,
                            patience = 2, seed = 2)
  expect_same_weights(plan, list(
    calipers = pair_units(scored, caliper = c(score = 0.3, boat = 0.5), caliper_unit = c(boat = "raw"), exact = "port",
                          apart = "coast"),
    ratio = pair_units(scored, ratio = c(1, 2), order = "shuffled", seed = 3),
    optimal = pair_units(study, on = "mahalanobis", covariates = c("boat", "past"), spread = "within",
                         search = "optimal"),
    reuse = pair_units(study, on = "diagonal", covariates = ~ boat + past, replacement = TRUE, ties = "first"),
    metric = pair_units(study, metric = c(boat = 2, past = 1)),
    full = group_units(scored, "full", on = "mahalanobis", ratio = c(1 / 3, 4), exact = "port"),
    exact = group_units(study, "exact", covariates = "port"),
    coarse = group_units(study, "coarsened", bins = list(boat = 3, past = c(-1, 0, 1),
                                                         port = list(c("small", "medium"), "large"))),
    searched = pair_units(searched, on = "metric", replacement = TRUE, exact = "coast")
  ))
})
