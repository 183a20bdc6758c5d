#' Measure who gains: how an effect varies among units
#'
#' From unit scores (augmented, every unit's score and outcome models learnt on other folds): the best linear predictor
#' of the effect in named columns, the effect along or within each of them, a prediction of the effect from all
#' covariates with a test of whether it foretells anything, effects by groups of it, what treating those with the
#' largest predicted effects would bring against treating at random, and a rule of at most two questions with its value
#' on units that it was not learnt from. Nothing is said to vary unless a test says so.
#'
#' Each fold is predicted from what was learnt on folds before it, so that its units never had a say in their
#' prediction and tests keep their size; the first fold only teaches. With several `repeats` the draw of folds is
#' repeated and medians over draws are shown.
#'
#' @param x A study, a scored study, or a design of weights. Scores are learnt anew in every fold, as in
#'   `measure_effect(estimator = "crossfit")`; weights of a design are used as they are. The estimand says whose effects
#'   are meant: of everybody, the treated or the controls.
#' @param columns Which columns the effect may vary with, by name: covariates, or others that treatment can't have
#'   moved. All covariates by default.
#' @param outcome Names of one or several outcomes; the study's first by default.
#' @param learners Of score, outcomes and effect, as in [score_units()]; those of the design's score by default, else
#'   `c("logit", "splines")`. Trees and forests alone leave differences between the arms in the scores of units: a
#'   warning (`twin_warning_learner`) says how far that carries.
#' @param model Formula of the covariates that learners see; all by default.
#' @param folds How many folds, default 5, at least 3.
#' @param repeats How often folds are drawn, default 1.
#' @param groups How many groups of the predicted effect, default 5.
#' @param depth How many questions the rule asks one unit at most: 0, 1 or 2 (default).
#' @param costs What treating a unit costs, in units of the outcome: a number, or the name of a column; default 0.
#'   Targeting and rule then are about effects net of costs.
#' @param budget The largest share of units that can be treated, default 1.
#' @param adjust `"holm"` (default), `"bh"` or `"none"`: p-values for the number of columns, and of outcomes.
#' @param cluster Column to cluster by; that of the study by default. Folds keep clusters whole.
#' @param level Confidence level, default 0.95.
#' @param seed Of folds, learners and bands.
#' @return A `twin_variation`. `tidy(part = )`: `"columns"` (default) has a row per column with the joint test of
#'   whether the effect varies along it (of numbers, along a spline of two inner knots); `"predictor"` the coefficients
#'   of the best linear predictor (of centred columns, so that the first is the average effect); `"levels"` the effect
#'   at each level, or along numeric columns (a natural spline that bends more often the more units there are), with a
#'   uniform band; `"groups"` effects by predicted effect, and the last less the first; `"targeting"` the curve and its
#'   area; `"rule"` what treating by the rule, everybody, and the best within the budget bring. `glance()`: the average
#'   effect, both tests, the slope of calibration. `augment()`: scores and predictions by unit (NA in the first fold).
#' @section Errors: `twin_error_input` for columns without values or variation, folds, shares or costs out of range;
#'   `twin_error_unsupported` for pairs, strata, several arms, response weights, tables in a database and the ATO, whose
#'   population is defined by the score.
#' @references Chernozhukov, V., Demirer, M., Duflo, E., Fernandez-Val, I. (2025). Fisher-Schultz Lecture: generic
#'   machine learning inference on heterogeneous treatment effects in randomized experiments, with an application to
#'   immunization in India. Econometrica 93. \doi{10.3982/ECTA19303}
#'
#'   Kennedy, E. H. (2023). Towards optimal doubly robust estimation of heterogeneous causal effects. Electronic Journal
#'   of Statistics 17. \doi{10.1214/23-EJS2157}
#'
#'   Semenova, V., Chernozhukov, V. (2021). Debiased machine learning of conditional average treatment effects and other
#'   causal functions. Econometrics Journal 24. \doi{10.1093/ectj/utaa027}
#'
#'   Yadlowsky, S., Fleming, S., Shah, N., Brunskill, E., Wager, S. (2025). Evaluating treatment prioritization rules
#'   via rank-weighted average treatment effects. Journal of the American Statistical Association 120.
#'   \doi{10.1080/01621459.2024.2393466}
#' @family effects
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + past_income)
#' measure_variation(study, learners = "logit", folds = 3)
#' @export
measure_variation <- function(x, columns = NULL, outcome = NULL, learners = NULL, model = NULL, folds = 5,
                              repeats = 1, groups = 5, depth = 2, costs = 0, budget = 1,
                              adjust = c("holm", "bh", "none"), cluster = NULL, level = 0.95, seed = 1) {
  if (is_imputed(x)) return(in_each_set(x, measure_variation, match.call()))
  call <- rlang::current_env()
  check_varying_design(x, call)
  study <- study_of(x)
  asked <- variation_settings(x, list(
    outcome = check_outcomes_asked(outcome, study), learners = learners, model = model, folds = folds,
    repeats = repeats, groups = groups, depth = depth, budget = budget, cluster = as_given(cluster),
    adjust = check_choice(adjust, c("holm", "bh", "none")), level = level, seed = seed
  ), call)
  asked$columns <- columns_of_variation(study, columns, call)
  asked$costs <- unit_costs(study, costs, call)
  asked$clusters <- effect_clusters(study, asked$cluster, call)
  found <- once_each(lapply(asked$outcome, function(name) {
    y <- open_outcome(study, name, "measure_variation")
    block <- list(x = x, outcome = name, y = as.double(y), shares = attr(y, "shares"))
    vary_block(block, asked, call)
  }))
  log_once(study, "measure", sprintf("variation of the effect on %s, %s", and_list(asked$outcome), design_label(x)),
           settings = list(columns = names(asked$columns), folds = folds, repeats = repeats,
                           learners = names(asked$chosen)))
  new_variation(x, found, asked)
}

check_varying_design <- function(x, call) {
  if (is_arms(x) || (inherits(x, "twin_design") && is_contrast_of_arms(x))) {
    abort_unsupported(c("Who gains is asked of two arms.", i = "Frame a study of two of them with {.arg subset}."),
                      call = call)
  }
  check_design(x, call = call, remote = TRUE)
  if (is_remote(x)) refuse_remote(x, call)
  if (!design_kind(x) %in% c("raw", "weights")) {
    abort_unsupported(c("Scores of units are made of weights and models, not of {design_kind(x)}.",
                        i = "Give {.fn measure_variation} the study, or a design of {.fn weigh_units}."), call = call)
  }
  if (!is.null(design_responses(x))) {
    abort_unsupported(c("Scores of units know no response weights.", i = "Use the design from before
                                                                        {.fn weigh_responses}."), call = call)
  }
  if (has_known_population(study_of(x)$estimand)) return(invisible(x))
  abort_unsupported(c("The population of the {study_of(x)$estimand} is defined by the score: who belongs to it would
                       vary with what is learnt.", i = "Frame the study for the ATE, ATT or ATC."), call = call)
}

variation_settings <- function(x, asked, call) {
  check_count(asked$folds, min = 3, arg = "folds", call = call)
  check_count(asked$repeats, min = 1, arg = "repeats", call = call)
  check_count(asked$groups, min = 2, arg = "groups", call = call)
  check_count(asked$depth, min = 0, arg = "depth", call = call)
  if (asked$depth > 2) abort_input("{.arg depth} must be 0, 1 or 2.", call = call)
  check_numbers(asked$budget, "one share above 0, at most 1", 0, 1, "low", most = 1L, arg = "budget", call = call)
  check_level(asked$level, call = call)
  check_seed(asked$seed, call = call)
  own <- design_score(x)$settings$learners
  if (is.null(asked$learners)) asked$learners <- if (is.null(own)) c("logit", "splines") else own
  asked$chosen <- check_learners(asked$learners, call, numbers = TRUE)
  warn_learners_in_steps(asked$chosen)
  asked
}

# validation/results/variation.csv has the numbers, of forests.
warn_learners_in_steps <- function(chosen) {
  if (!all(vapply(chosen, function(own) isTRUE(own$steps), NA))) return(invisible(chosen))
  warn_kind("learner", c(
    "{.val {names(chosen)}} follow{?s/} slopes slowly: scores of units by {cli::qty(length(chosen))}{?it/them} alone
     keep some of the arms' differences.",
    x = "With forests alone, the test of a single column found variation that was not there in 17 of 100 simulations of
         1,000 units and in 7 of 4,000.",
    i = "Put a regression beside: {.code learners = {learners_beside(names(chosen))}}."
  ), learners = names(chosen))
}

learners_beside <- function(names) sprintf("c(%s)", paste0("\"", c("logit", names), "\"", collapse = ", "))

# Columns that the effect may vary with, prepared, of all study rows. A missing number is filled and flagged.
columns_of_variation <- function(study, columns, call) {
  if (is.null(columns)) columns <- names(study$columns)
  if (!is.character(columns) || anyNA(columns) || length(columns) == 0L || anyDuplicated(columns) > 0L) {
    abort_input(c("{.arg columns} must name columns that the effect may vary with.",
                  x = "It is {describe_value(columns)}.",
                  i = if (length(study$columns) == 0L) "The study has no covariates."), call = call)
  }
  check_columns(columns, study$data, "columns", call)
  taken <- intersect(columns, c(study$roles$treatment, study$roles$outcome))
  if (length(taken) > 0L) {
    abort_input("{.val {taken}} {?is/are} the study's treatment or outcome: {?it/they} can't tell who gains.",
                call = call)
  }
  out <- lapply(stats::setNames(nm = columns), function(name) {
    if (!is.null(study$columns[[name]])) return(study$columns[[name]])
    prepare_column(study$data[[name]][study$rows], name, sampling_weight(study), call)
  })
  still <- names(Filter(function(column) length(unique(column$values)) < 2L, out))
  if (length(still) == 0L) return(out)
  abort_input("{.val {still}} {?does/do} not vary among the study's units.", columns = still, call = call)
}

# What treating each unit costs.
unit_costs <- function(study, costs, call) {
  if (is.numeric(costs)) {
    check_number(costs, min = -1e15, max = 1e15, arg = "costs", call = call)
    return(rep(as.double(costs), length(study$z)))
  }
  check_string(costs, arg = "costs", call = call)
  check_columns(costs, study$data, "costs", call)
  values <- study$data[[costs]][study$rows]
  if (is.numeric(values) && all(is.finite(values))) return(as.double(values))
  bad <- if (is.numeric(values)) study$rows[!is.finite(values)] else study$rows
  abort_input(c("{.arg costs} must be a number, or a column of numbers without gaps.",
                x = "{.val {costs}} has none in {length(bad)} row{?s}; first: {first_rows(bad)}."), column = costs,
              rows = bad, call = call)
}

# One outcome: list(outcome, rows of the study that were used, n, and the tables of told_splits()).
vary_block <- function(block, asked, call) {
  x <- block$x
  study <- study_of(x)
  units <- effect_units(x, block$y, NULL, block$outcome)
  units$where <- ""
  check_measured_arms(units, study, block, call)
  asked$numbers <- !block$shares
  asked$outcome_learners <- check_learners(asked$learners, call, numbers = asked$numbers)
  folds <- fold_sets(block, units, asked, asked$repeats, call)
  with_score <- !has_weights(x)
  learnt <- learn_targets(block, units, asked, folds, with_score, call)
  ground <- list(s = unit_sampling(x, units), z = units$z, rows = units$rows,
                 x = learner_columns(study, asked$model, call)[units$rows, , drop = FALSE],
                 columns = lapply(asked$columns, column_rows, at = units$rows), cost = asked$costs[units$rows])
  ground$t <- core_target_weight(NULL, units$z, study$estimand)
  ground$questions <- rule_questions(ground)
  ground$bases <- lapply(ground$columns, function(column) {  # NULL where levels are told
    if (!is_told_by_level(column)) curve_basis(column, ground$s * ground$t)
  })
  ground$test_bases <- lapply(ground$columns[lengths(ground$bases) > 0L], curve_basis, ground$s * ground$t, knots = 2)
  splits <- Map(function(fold, models, r) {
    v <- if (with_score) core_inverse_weight(models$score, units$z, study$estimand) else
      weights_to_target(units$w, ground)
    g <- core_unit_scores(units$y, units$z, models$treated, models$control, v, ground$t)
    g[ground$s == 0] <- 0
    predicted <- predict_effects(units$y, v, ground, fold, asked, r, call)
    late <- units
    late$asked <- late$used <- fold > 1L
    foretold <- parts_by_prediction(g, predicted, ground, fold, asked)
    list(g = g, predicted = predicted, shares = foretold$shares,
         early = with_errors(parts_by_columns(g, ground), x, units, asked, call),
         late = with_errors(foretold[names(foretold) != "shares"], x, late, asked, call))
  }, folds, learnt, seq_along(folds))
  c(list(outcome = block$outcome, rows = units$rows[units$used], n = sum(units$used)),
    told_splits(splits, ground, units, asked))
}

# Weights of a design that add up to whom they stand for.
weights_to_target <- function(w, ground) {
  out <- w
  for (arm in 1:0) {
    own <- ground$z == arm
    out[own] <- w[own] * sum(ground$s * ground$t) / sum(ground$s[own] * w[own])
  }
  out
}

# By fold (NULL for the first): scores of the units before it, 0 elsewhere.
past_scores <- function(y, v, ground, fold, asked, r, call) {
  cluster <- if (length(asked$clusters$codes) > 0L) asked$clusters$codes[[1L]][ground$rows]
  half <- with_own_seed(sub_seed(asked$seed, "halves", r), draw_folds(ground$z, fold > 0L, 2L, NULL, call, cluster))
  s <- ground$s / mean(ground$s[fold > 0L])
  later <- seq_len(asked$folds)[-1L]
  targets <- unlist(lapply(later, function(now) {
    rows <- which(fold > 0L & fold < now)
    lapply(1:0, function(arm) {
      list(learners = asked$outcome_learners, x = ground$x[rows, , drop = FALSE], y = y[rows], s = s[rows],
           fold = half[rows], train = ground$z[rows] == arm, numbers = asked$numbers)
    })
  }), recursive = FALSE)
  found <- Map(function(target, result) stack_target(target, result, call), targets,
               run_targets(targets, sub_seed(asked$seed, "past", r)))
  c(list(NULL), lapply(seq_along(later), function(k) {
    rows <- which(fold > 0L & fold < later[k])
    out <- numeric(length(y))
    out[rows] <- core_unit_scores(y[rows], ground$z[rows], found[[2L * k - 1L]], found[[2L * k]], v[rows],
                                  ground$t[rows])
    out
  }))
}

# The answer of each task's learner for the task's fold, learnt from the folds before. On its own, so that workers are
# sent what they use and no more.
learn_effects <- function(tasks, learners, x, outcomes, weight, fold, able) {
  run_pieces("Predicted effects", seq_len(nrow(tasks)), function(k) {
    now <- tasks$fold[k]
    data <- list(x = x, y = outcomes[[now]], s = weight, numbers = TRUE)
    run_learner(learners[[tasks$learner[k]]], data, fold > 0L & fold < now & able, fold == now,
                tasks$seed[k])
  })
}

# Predicted effects of the units of each fold but the first, learnt from the folds before it and from nothing else:
# their scores are made of outcome models of their own, either half's from the other. Scores and weights hang on
# treatment and covariates alone, and may come from everywhere. Scores over whom they speak of are outcomes to the
# learners (Kennedy 2023), which are mixed by how they did on folds before.
predict_effects <- function(y, v, ground, fold, asked, r, call) {
  past <- past_scores(y, v, ground, fold, asked, r, call)
  able <- ground$t > 0 & ground$s > 0
  weight <- ground$s * ground$t
  weight <- weight / mean(weight[able])
  outcomes <- lapply(past, function(score) if (!is.null(score)) ifelse(able, score / pmax(ground$t, 1e-300), 0))
  tasks <- expand.grid(learner = seq_along(asked$chosen), fold = seq_len(asked$folds)[-1L])
  tasks$seed <- vapply(seq_len(nrow(tasks)), function(k) sub_seed(asked$seed, paste("effect", r), k), 0)
  answers <- learn_effects(tasks, asked$chosen, ground$x, outcomes, weight, fold, able)
  predictions <- matrix(NA_real_, length(y), length(asked$chosen), dimnames = list(NULL, names(asked$chosen)))
  failures <- list()
  for (k in seq_len(nrow(tasks))) {
    name <- names(asked$chosen)[tasks$learner[k]]
    if (is.character(answers[[k]])) failures[[name]] <- c(failures[[name]], answers[[k]])[1L] else
      predictions[fold == tasks$fold[k], name] <- answers[[k]]
  }
  working <- names(working_learners(asked$chosen, failures, call))
  predictions <- predictions[, working, drop = FALSE]
  out <- rep(NA_real_, length(y))
  for (now in seq_len(asked$folds)[-1L]) {
    known <- which(fold > 1L & fold < now & able)
    mix <- if (length(known) == 0L || length(working) == 1L) rep(1 / length(working), length(working)) else
      core_blend_weights(predictions[known, , drop = FALSE], outcomes[[now]][known], weight[known])
    out[fold == now] <- drop(predictions[fold == now, , drop = FALSE] %*% mix)
  }
  out
}
