#' Measure who gains: how an effect varies among units
#'
#' From unit scores (augmented, every unit's score and outcome models learnt on other folds): the best linear predictor
#' of the effect in named columns, the effect along or within each of them, a prediction of the effect from all
#' covariates with a test of whether it foretells anything, effects by groups of it, what treating those with the largest
#' predicted effects would bring against treating at random, and a rule of at most two questions with its value on units
#' that it was not learnt from. Nothing is said to vary unless a test says so.
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
#'   `c("logit", "splines")`.
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
#'   whether the effect varies along it; `"predictor"` the coefficients of the best linear predictor (of centred columns,
#'   so that the first is the average effect); `"levels"` the effect at each level, or along numeric columns, with a
#'   uniform band; `"groups"` effects by predicted effect, and the last less the first; `"targeting"` the curve and its
#'   area; `"rule"` what treating by the rule, everybody, and the best within the budget bring. `glance()`: the average
#'   effect, both tests, the slope of calibration. `augment()`: scores and predictions by unit (NA in the first fold).
#' @section Errors: `twin_error_input` for columns without values or variation, folds, shares or costs out of range;
#'   `twin_error_unsupported` for pairs, strata, several arms, response weights, tables in a database and the ATO, whose
#'   population is defined by the score.
#' @references Chernozhukov, V., Demirer, M., Duflo, E., Fernandez-Val, I. (2018). Generic machine learning inference on
#'   heterogeneous treatment effects in randomized experiments. NBER Working Paper 24678. \doi{10.3386/w24678}
#'
#'   Kennedy, E. H. (2023). Towards optimal doubly robust estimation of heterogeneous causal effects. Electronic Journal
#'   of Statistics 17. \doi{10.1214/23-EJS2157}
#'
#'   Semenova, V., Chernozhukov, V. (2021). Debiased machine learning of conditional average treatment effects and other
#'   causal functions. Econometrics Journal 24. \doi{10.1093/ectj/utaa027}
#'
#'   Yadlowsky, S., Fleming, S., Shah, N., Brunskill, E., Wager, S. (2025). Evaluating treatment prioritization rules via
#'   rank-weighted average treatment effects. Journal of the American Statistical Association 120.
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
  call <- rlang::current_env()
  check_varying_design(x, call)
  study <- study_of(x)
  asked <- variation_settings(x, list(
    outcome = check_outcomes_asked(outcome, study), learners = learners, model = model, folds = folds,
    repeats = repeats, groups = groups, depth = depth, budget = budget, cluster = as_given(cluster),
    adjust = check_choice(adjust, c("holm", "bh", "none")), level = level, seed = seed
  ), call)
  asked$columns <- varying_columns(study, columns, call)
  asked$costs <- unit_costs(study, costs, call)
  asked$clusters <- effect_clusters(study, asked$cluster, call)
  found <- lapply(asked$outcome, function(name) {
    y <- open_outcome(study, name, "measure_variation")
    block <- list(x = x, outcome = name, y = as.double(y), shares = attr(y, "shares"))
    vary_block(block, asked, call)
  })
  log_once(study, "measure", sprintf("variation of the effect on %s, %s", and_list(asked$outcome), design_label(x)),
           settings = list(columns = names(asked$columns), folds = folds, repeats = repeats,
                           learners = names(asked$chosen)))
  new_variation(x, found, asked)
}

check_varying_design <- function(x, call) {
  if (inherits(x, "twin_arms") || (inherits(x, "twin_design") && is_contrast_of_arms(x))) {
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
  asked
}

# Columns that the effect may vary with, prepared, of all study rows. A missing number is filled and flagged.
varying_columns <- function(study, columns, call) {
  if (is.null(columns)) columns <- names(study$columns)
  if (!is.character(columns) || anyNA(columns) || length(columns) == 0L || anyDuplicated(columns) > 0L) {
    abort_input(c("{.arg columns} must name columns that the effect may vary with.",
                  x = "It is {describe_value(columns)}.",
                  i = if (length(study$columns) == 0L) "The study has no covariates."), call = call)
  }
  check_columns(columns, study$data, "columns", call)
  taken <- intersect(columns, c(study$roles$treatment, study$roles$outcome))
  if (length(taken) > 0L) {
    abort_input("{.val {taken}} {?is/are} the study's treatment or outcome: {?it/they} can't tell who gains.", call = call)
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
    check_number(costs, arg = "costs", call = call)
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

# One outcome: list(outcome, units, parts: lists of estimate and vcov, df, text, ...).
vary_block <- function(block, asked, call) {
  x <- block$x
  study <- study_of(x)
  units <- effect_units(x, block$y, NULL, block$outcome)
  units$where <- ""
  check_measured_arms(units, study, block, call)
  folds <- fold_sets(block, units, asked, asked$repeats, call)
  with_score <- !has_weights(x)
  learnt <- learn_targets(block, units, asked, folds, with_score, call)
  ground <- list(s = unit_sampling(x, units), z = units$z, rows = units$rows,
                 x = learner_columns(study, asked$model, call)[units$rows, , drop = FALSE],
                 columns = lapply(asked$columns, column_rows, at = units$rows), cost = asked$costs[units$rows])
  ground$t <- core_target_weight(NULL, units$z, study$estimand)
  ground$questions <- rule_questions(ground)
  splits <- Map(function(fold, models, r) {
    v <- if (with_score) core_inverse_weight(models$score, units$z, study$estimand) else
      weights_to_target(units$w, ground)
    g <- core_unit_scores(units$y, units$z, models$treated, models$control, v, ground$t)
    g[ground$s == 0] <- 0
    predicted <- predict_effects(g, ground, fold, asked, r, call)
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

# parts: named list of list(estimate, influence). Returns list(estimate, vcov, df, text), terms of a part called by it.
with_errors <- function(parts, x, units, asked, call) {
  estimate <- unlist(lapply(unname(parts), `[[`, "estimate"))
  names(estimate) <- rep(names(parts), vapply(parts, function(part) length(part$estimate), 0L))
  influence <- do.call(cbind, lapply(unname(parts), `[[`, "influence"))
  found <- effect_vcov(x, influence, units, asked$clusters, "centre", call)
  list(estimate = estimate, vcov = found$vcov, df = found$df, text = found$text)
}

# What needs no prediction: of "predictor", of "at" and "shape" of each column.
parts_by_columns <- function(g, ground) {
  s <- ground$s
  t <- ground$t
  matrix <- covariate_matrix(ground$columns)
  centred <- sweep(matrix, 2L, colSums(s * t * matrix) / sum(s * t))
  predictor <- core_effect_predictor(cbind(1, centred), g, t, s)
  predictor$estimate[predictor$aliased] <- NA
  each <- lapply(ground$columns, function(column) {
    if (is_told_by_level(column)) return(list(at = level_effects(column, g, t, s)))
    curve_effects(column, g, t, s)
  })
  names(each) <- NULL
  parts <- unlist(each, recursive = FALSE)
  names(parts) <- unlist(Map(function(own, name) paste(names(own), name), each, names(ground$columns)))
  c(list(predictor = predictor), parts)
}

# Factors, columns of two values, and numbers of few.
is_told_by_level <- function(column) column$kind %in% c("factor", "binary") || length(unique(column$values)) <= 5L

# Codes of a column's levels (NA where missing and filled) and their names.
level_codes <- function(column) {
  if (column$kind == "factor") return(list(code = column$values, names = column$levels))
  values <- column$values
  if (!is.null(column$flag)) values[column$flag == 1] <- NA
  known <- sort(unique(values))
  list(code = match(values, known), names = if (column$kind == "binary") rev(column_levels(column)) else
    format_value(known, column))
}

format_value <- function(values, column) {
  if (column$kind == "date") format(as.Date(values, origin = "1970-01-01")) else format(values, trim = TRUE, digits = 4)
}

level_effects <- function(column, g, t, s) {
  told <- level_codes(column)
  member <- vapply(seq_along(told$names), function(k) as.double(told$code %in% k), numeric(length(g)))
  found <- core_effects_among(member, g, t, s)
  thin <- colSums(member * (s * t > 0)) < 5
  found$estimate[thin] <- NA
  found$influence[, thin] <- 0
  found
}

# Along a number: a natural cubic spline of three degrees of freedom, told at twentieths of whom the effect speaks of.
curve_effects <- function(column, g, t, s) {
  basis <- curve_basis(column, s * t)
  flag <- column$flag
  fit <- core_effect_predictor(cbind(1, basis$of(column$values), flag), g, t, s)
  there <- cbind(1, basis$of(basis$at), if (!is.null(flag)) 0)
  list(at = list(estimate = drop(there %*% fit$estimate), influence = tcrossprod(fit$influence, there)),
       shape = list(estimate = fit$estimate[2:4], influence = fit$influence[, 2:4, drop = FALSE]))
}

# list(at: where the curve is told, of: values as columns of the spline). mass: of each unit.
curve_basis <- function(column, mass) {
  known <- mass > 0 & (if (is.null(column$flag)) TRUE else column$flag == 0)
  quantile_at <- function(shares) core_weighted_quantiles(column$values[known], mass[known], shares)
  knots <- unique(quantile_at(c(1, 2) / 3))
  ends <- quantile_at(c(0.02, 0.98))
  knots <- knots[knots > ends[1L] & knots < ends[2L]]
  of <- function(values) {
    out <- splines::ns(values, knots = knots, Boundary.knots = ends)
    cbind(matrix(out, nrow(out)), matrix(0, nrow(out), max(0L, 3L - ncol(out))))
  }
  list(at = unique(quantile_at(1:19 / 20)), of = of)
}

# What rests on the predicted effect: "groups", "calibration", "targeting" (curve, then area), "values" (of the rule, of
# the best within the budget, of everybody); shares: whom these three treat.
parts_by_prediction <- function(g, predicted, ground, fold, asked) {
  later <- fold > 1L
  s <- ground$s * later
  t <- ground$t
  fold <- ifelse(later, fold, 0L)
  order <- with_own_seed(sub_seed(asked$seed, "ties"), sample.int(length(g)))
  above <- core_share_above(predicted, s * t, fold, order)
  band <- pmin(floor((1 - above) * asked$groups), asked$groups - 1)
  member <- vapply(seq_len(asked$groups) - 1, function(k) as.double(later & band == k), numeric(length(g)))
  groups <- core_effects_among(member, g, t, s)
  last <- ncol(member)
  groups$estimate <- c(groups$estimate, groups$estimate[last] - groups$estimate[1L])
  groups$influence <- cbind(groups$influence, groups$influence[, last] - groups$influence[, 1L])
  net <- g - ground$cost * t
  gain <- predicted - ground$cost
  above <- core_share_above(gain, s * t, fold, order)
  curve <- core_targeting(ifelse(later, above, 1), net, t, s, targeted_shares)
  best <- ifelse(later & above <= asked$budget & gain > 0, 1, 0)
  chosen <- list(rule_by_fold(net, ground, fold, asked), best, as.double(later))
  values <- lapply(chosen, core_value_of, g = net, t = t, s = s)
  list(groups = groups, calibration = core_calibration(predicted, g, t, s, fold), targeting = curve,
       values = list(estimate = vapply(values, `[[`, 0, "estimate"),
                     influence = vapply(values, `[[`, numeric(length(g)), "influence")),
       shares = vapply(chosen, function(own) sum(s * t * own) / sum(s * t), 0))
}

targeted_shares <- 1:20 / 20

# What a rule can ask of the units at hand: list(yes: n x C answers, column, text: of yes, otherwise: of no). Numbers are cut
# at their tenths; what nearly all answer alike is not asked.
rule_questions <- function(ground) {
  each <- Map(function(column, name) {
    if (column$kind %in% c("factor", "binary")) {
      told <- level_codes(column)
      keep <- if (length(told$names) == 2L) 2L else seq_along(told$names)
      yes <- vapply(keep, function(k) as.double(told$code %in% k), numeric(length(column$values)))
      names <- told$names[keep]
      other <- if (length(told$names) == 2L && is.null(column$flag)) sprintf("%s is %s", name, told$names[1L]) else
        sprintf("%s is not %s", name, names)
      return(list(yes = yes, text = sprintf("%s is %s", name, names), otherwise = other))
    }
    cuts <- unique(core_weighted_quantiles(column$values, ground$s, 1:9 / 10))
    yes <- vapply(cuts, function(cut) as.double(column$values > cut), numeric(length(column$values)))
    shown <- format_value(cuts, column)
    list(yes = yes, text = sprintf("%s > %s", name, shown), otherwise = sprintf("%s <= %s", name, shown))
  }, ground$columns, names(ground$columns))
  yes <- do.call(cbind, lapply(unname(each), `[[`, "yes"))
  share <- colSums(ground$s * yes) / sum(ground$s)
  keep <- which(share >= 0.05 & share <= 0.95)
  list(yes = yes[, keep, drop = FALSE], text = unlist(lapply(unname(each), `[[`, "text"))[keep],
       otherwise = unlist(lapply(unname(each), `[[`, "otherwise"))[keep])
}

# Whom the rule learnt from the folds before would treat; fold: 0 for the first and those that are out.
rule_by_fold <- function(net, ground, fold, asked) {
  out <- numeric(length(net))
  yes <- ground$questions$yes
  for (k in setdiff(sort(unique(fold)), 0L)) {
    s <- ground$s * (fold < k)  # the first fold's are those of 0 that take part
    rule <- core_shallow_rule(net, ground$t, s, yes, asked$depth, asked$budget)
    rows <- which(fold == k)
    out[rows] <- core_rule_answer(rule, yes[rows, , drop = FALSE])
  }
  out
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

# Predicted effects of the units of each fold but the first, learnt from scores of the folds before it (Kennedy 2023):
# scores over whom they speak of are outcomes to the learners. Learners are mixed by how they did on folds before.
predict_effects <- function(g, ground, fold, asked, r, call) {
  able <- ground$t > 0 & ground$s > 0
  outcome <- ifelse(able, g / pmax(ground$t, 1e-300), 0)
  weight <- ground$s * ground$t
  weight <- weight / mean(weight[able])
  tasks <- expand.grid(learner = seq_along(asked$chosen), fold = seq_len(asked$folds)[-1L])
  data <- list(x = ground$x, y = outcome, s = weight, numbers = TRUE)
  answers <- run_pieces("Predicted effects", seq_len(nrow(tasks)), function(k) {
    now <- tasks$fold[k]
    run_learner(asked$chosen[[tasks$learner[k]]], data, fold > 0L & fold < now & able, fold == now,
                sub_seed(asked$seed, paste("effect", r), k))
  })
  predictions <- matrix(NA_real_, length(g), length(asked$chosen), dimnames = list(NULL, names(asked$chosen)))
  failures <- list()
  for (k in seq_len(nrow(tasks))) {
    name <- names(asked$chosen)[tasks$learner[k]]
    if (is.character(answers[[k]])) failures[[name]] <- c(failures[[name]], answers[[k]])[1L] else
      predictions[fold == tasks$fold[k], name] <- answers[[k]]
  }
  working <- names(working_learners(asked$chosen, failures, call))
  predictions <- predictions[, working, drop = FALSE]
  out <- rep(NA_real_, length(g))
  for (now in seq_len(asked$folds)[-1L]) {
    known <- which(fold > 1L & fold < now & able)
    mix <- if (length(known) == 0L || length(working) == 1L) rep(1 / length(working), length(working)) else
      core_blend_weights(predictions[known, , drop = FALSE], outcome[known], weight[known])
    out[fold == now] <- drop(predictions[fold == now, , drop = FALSE] %*% mix)
  }
  out
}

# The numbers of an outcome, medians over splits, as tables.
told_splits <- function(splits, ground, units, asked) {
  early <- core_median_splits(lapply(splits, `[[`, "early"))
  late <- core_median_splits(lapply(splits, `[[`, "late"))
  df <- splits[[1L]]$early$df
  late_df <- splits[[1L]]$late$df
  of <- function(found, part) {
    at <- names(found$estimate) == part
    list(estimate = unname(found$estimate[at]), vcov = unname(found$vcov[at, at, drop = FALSE]))
  }
  rows <- function(own, df) estimate_rows(own$estimate, sqrt(diag(own$vcov)), df, asked$level)
  with_band <- function(own, df, part) {
    out <- rows(own, df)
    quantile <- uniform_quantile(own$vcov, asked$level, df, sub_seed(asked$seed, part))
    out$band.low <- own$estimate - quantile * out$std.error
    out$band.high <- own$estimate + quantile * out$std.error
    out
  }
  predictor <- of(early, "predictor")
  terms <- c("average", names(column_vectors(ground$columns)))
  slopes <- which(!is.na(predictor$estimate))[-1L]
  levels <- Map(function(column, name) {
    part <- paste("at", name)
    cbind(told_places(column, name, ground), with_band(of(early, part), df, part))
  }, ground$columns, names(ground$columns))
  groups <- of(late, "groups")
  calibration <- of(late, "calibration")
  targeting <- of(late, "targeting")
  last <- length(targeting$estimate)
  curve <- list(estimate = targeting$estimate[-last], vcov = targeting$vcov[-last, -last, drop = FALSE])
  g <- Reduce(`+`, lapply(splits, `[[`, "g")) / length(splits)
  predicted <- rowMeans(vapply(splits, `[[`, numeric(length(g)), "predicted"), na.rm = TRUE)
  list(
    predictor = data.frame(term = terms, rows(predictor, df)),
    joint = core_zero_test(predictor$estimate[slopes], predictor$vcov[slopes, slopes, drop = FALSE], df),
    columns = do.call(rbind, unname(Map(function(column, name, rows) {
      column_test(column, name, rows, early, of, df)
    }, ground$columns, names(ground$columns), levels))),
    levels = do.call(rbind, unname(levels)),
    groups = data.frame(group = c(as.character(seq_len(asked$groups)), "last less first"), rows(groups, late_df)),
    calibration = foretelling_rows(data.frame(term = c("per_sd", "slope"), rows(calibration, late_df)), late_df),
    targeting = data.frame(share = c(targeted_shares, NA), term = c(rep("curve", last - 1L), "area"),
                           rbind(with_band(curve, late_df, "targeting"),
                                 cbind(rows(targeting, late_df)[last, ], band.low = NA, band.high = NA))),
    values = data.frame(treated = c("rule", "predicted", "everybody"),
                        share = apply(vapply(splits, `[[`, numeric(3L), "shares"), 1L, stats::median),
                        rows(of(late, "values"), late_df)),
    rule = final_rule(g, ground, asked), text = splits[[1L]]$early$text, df = df,
    units = data.frame(score = g, predicted = ifelse(is.nan(predicted), NA_real_, predicted))[units$used, ]
  )
}

estimate_rows <- function(estimate, se, df, level) {
  unknown <- is.na(estimate) | se == 0
  se <- ifelse(unknown, NA_real_, se)
  half <- core_t_quantile(level, df) * se
  data.frame(estimate = estimate, std.error = se, p.value = core_t_p_value(estimate / se, df),
             conf.low = estimate - half, conf.high = estimate + half)
}

# A prediction that foretells has the sign of the effect: p-values are of one side.
foretelling_rows <- function(rows, df) {
  rows$p.value <- stats::pt(rows$estimate / rows$std.error, df, lower.tail = FALSE)
  rows
}

uniform_quantile <- function(vcov, level, df, seed) {
  known <- diag(vcov) > 0
  if (sum(known) < 2L) return(core_t_quantile(level, df))
  with_own_seed(seed, core_band_quantile(stats::cov2cor(vcov[known, known, drop = FALSE]), level, df))
}

# Where the effect is told: column, level (text, NA along numbers), at (the number, NA for levels), share.
told_places <- function(column, name, ground) {
  mass <- ground$s * ground$t
  if (!is_told_by_level(column)) {
    return(data.frame(column = name, level = NA_character_, at = curve_basis(column, mass)$at, share = NA_real_))
  }
  told <- level_codes(column)
  share <- vapply(seq_along(told$names), function(k) sum(mass[told$code %in% k]), 0) / sum(mass)
  data.frame(column = name, level = told$names, at = NA_real_, share = share)
}

# Does the effect vary along the column? least, most: of the effects told.
column_test <- function(column, name, rows, early, of, df) {
  test <- if (is_told_by_level(column)) {
    own <- of(early, paste("at", name))
    known <- !is.na(own$estimate)
    core_equality_test(own$estimate[known], own$vcov[known, known, drop = FALSE], df)
  } else {
    own <- of(early, paste("shape", name))
    core_zero_test(own$estimate, own$vcov, df)
  }
  data.frame(column = name, least = min(rows$estimate, na.rm = TRUE), most = max(rows$estimate, na.rm = TRUE),
             statistic = test[["statistic"]], df = test[["df"]], p.value = test[["p.value"]])
}

# The rule learnt from all units, in words.
final_rule <- function(g, ground, asked) {
  rule <- core_shallow_rule(g - ground$cost * ground$t, ground$t, ground$s, ground$questions$yes, asked$depth,
                            asked$budget)
  text <- ground$questions$text
  other <- ground$questions$otherwise
  if (is.na(rule$first)) return(if (rule$treat[1L]) "everybody" else "nobody")
  paths <- c(text[rule$first], other[rule$first])
  leaves <- unlist(lapply(1:2, function(side) {
    own <- rule$treat[2L * side - 1:0]
    if (all(own)) return(paths[side])
    if (!any(own)) return(NULL)
    narrower <- c(text[rule$second[side]], other[rule$second[side]])[own]
    sides <- sub(" [^ ]*$", "", c(paths[side], narrower))
    within <- sides[1L] == sides[2L] && grepl(" (>|<=)$", sides[1L])  # the second says more of the same number
    paste(c(if (!within) paths[side], narrower), collapse = " and ")
  }))
  if (length(leaves) == 0L) return("nobody")
  if (length(leaves) == 2L && all(leaves == paths)) return("everybody")
  paste0("where ", paste(leaves, collapse = ", or where "))
}

# found: one entry per outcome, see told_splits().
new_variation <- function(x, found, asked) {
  names(found) <- vapply(found, `[[`, "", "outcome")
  together <- function(part) {
    rows <- do.call(rbind, unname(Map(function(one, outcome) cbind(outcome = outcome, one[[part]]), found, names(found))))
    rownames(rows) <- NULL
    rows
  }
  parts <- c("columns", "predictor", "levels", "groups", "calibration", "targeting", "values")
  tables <- lapply(stats::setNames(nm = parts), together)
  tables$columns$p.adjusted <- variation_adjusted(tables$columns$p.value, asked$adjust)
  tests <- data.frame(outcome = names(found), p_columns = vapply(found, function(one) one$joint[["p.value"]], 0),
                      p_prediction = vapply(found, function(one) one$calibration$p.value[1L], 0))
  adjusted <- variation_adjusted(c(tests$p_columns, tests$p_prediction), asked$adjust)
  tests$adjusted_columns <- utils::head(adjusted, nrow(tests))
  tests$adjusted_prediction <- utils::tail(adjusted, nrow(tests))
  rownames(tests) <- NULL
  study <- study_of(x)
  structure(list(
    study = study, estimand = study$estimand, design = design_label(x), tables = tables, tests = tests,
    rules = vapply(found, `[[`, "", "rule"), text = found[[1L]]$text, df = found[[1L]]$df,
    units = lapply(found, function(one) cbind(row = study$rows[one$rows], one$units)),
    n = vapply(found, `[[`, 0L, "n"), level = asked$level, adjust = asked$adjust, folds = asked$folds,
    repeats = asked$repeats, groups = asked$groups, learners = names(asked$chosen), costs = any(asked$costs != 0),
    budget = asked$budget, depth = asked$depth
  ), class = "twin_variation")
}

variation_adjusted <- function(p, adjust) {
  if (adjust == "none") p else stats::p.adjust(p, c(holm = "holm", bh = "BH")[[adjust]])
}

#' @exportS3Method
study_of.twin_variation <- function(x) x$study # nolint: object_name_linter. An S3 method.

#' @export
tidy.twin_variation <- function(x, part = c("columns", "predictor", "levels", "groups", # nolint: object_name_linter.
                                            "calibration", "targeting", "rule"), ...) {
  rlang::check_dots_empty()
  part <- check_choice(part, c("columns", "predictor", "levels", "groups", "calibration", "targeting", "rule"))
  x$tables[[if (part == "rule") "values" else part]]
}

#' @export
as.data.frame.twin_variation <- function(x, ...) generics::tidy(x, ...)

#' @export
glance.twin_variation <- function(x, ...) {
  rlang::check_dots_empty()
  average <- x$tables$predictor[x$tables$predictor$term == "average", ]
  slope <- x$tables$calibration[x$tables$calibration$term == "slope", ]
  area <- x$tables$targeting[x$tables$targeting$term == "area", ]
  data.frame(x$tests["outcome"], estimand = x$estimand, average = average$estimate, std.error = average$std.error,
             x$tests[-1L], slope = slope$estimate, area = area$estimate, area_p = area$p.value, rule = unname(x$rules),
             nobs = unname(x$n), varies = unname(does_vary(x)))
}

#' @export
nobs.twin_variation <- function(object, ...) max(object$n)

#' @export
augment.twin_variation <- function(x, ...) {
  rlang::check_dots_empty()
  parts <- Map(function(own, outcome) {
    data.frame(outcome = outcome, .row = own$row, .score = own$score, .predicted = own$predicted)
  }, x$units, names(x$units))
  out <- do.call(rbind, unname(parts))
  rownames(out) <- NULL
  out
}

# By outcome: does either test find that the effect varies?
does_vary <- function(x) {
  p <- pmin(x$tests$adjusted_columns, x$tests$adjusted_prediction, na.rm = TRUE)
  !is.na(p) & p < 1 - x$level
}
