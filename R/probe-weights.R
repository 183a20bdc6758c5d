#' Probe a weighted effect for hidden bias
#'
#' The odds of treatment that the weights lean on may be wrong: a hidden confounder could multiply each unit's odds by
#' any factor between 1 / lambda and lambda (Tan 2006). For every lambda the verb gives the least and the greatest
#' effect that any such errors could have hidden, and an interval that allows for them and for sampling: percentiles of
#' the bounds over bootstrap draws which run the whole design anew (Zhao, Small & Bhattacharya 2019). The headline is
#' the lambda that moves the estimate, and the interval, to 0.
#'
#' What moves with the odds is, for ATE, the inverse weight less 1 in both arms; for ATT and ATC the whole weight of the
#' arm that stands for the other. With augmentation the residuals of the outcome models are bounded.
#'
#' To give lambda a yardstick every covariate is left out in turn, as if it had not been measured: how far are the odds
#' then from those with it?
#'
#' @param x An effect (or [several], one by one) of [measure_effect()] on weights, strata or cells for ATE, ATT or ATC,
#'   by `"difference"` (normalised) or `"augmented"`; or by `"augmented"` on a score.
#' @param lambda Factors, each at least 1; default 1 to 3 by 0.1.
#' @param draws Bootstrap draws for the interval, default 1,000; 0 for none. Clusters and survey strata are drawn as in
#'   [measure_effect()].
#' @param level Confidence level, default 0.95.
#' @param yardstick Leave out every covariate in turn, to have something to compare with? Default `TRUE`.
#' @param seed One number; 1 by default. Answers do not depend on the number of workers (`future::plan()`).
#' @return A `twin_probe`. `tidy()` gives one row per lambda: `lambda`, `estimate_low`, `estimate_high`, `conf_low`,
#'   `conf_high`. `glance()`: `estimate`, `lambda_change` (moves the estimate to 0), `lambda_change_interval` (moves the
#'   interval onto 0: 1 when it holds 0 without hidden bias; NA without draws) and `draws`. `tidy(part = "covariates")`:
#'   `covariate`, `lambda` (by which 95% of the units' odds change at most when it is left out), `lambda_most` (any
#'   unit's) and `estimate` without it.
#' @section Errors: `twin_error_input` for a lambda below 1; `twin_error_unsupported` for effects without weights, other
#'   estimators or estimands, truncated weights, and weights that are no inverse probabilities (below 1 for ATE).
#'   `twin_warning_draws` when draws fail.
#' @references Tan, Z. (2006). A distributional approach for causal inference using propensity scores. JASA 101.
#'   \doi{10.1198/016214506000000023}
#'
#'   Zhao, Q., Small, D. S., Bhattacharya, B. B. (2019). Sensitivity analysis for inverse probability weighting
#'   estimators via the percentile bootstrap. Journal of the Royal Statistical Society B 81. \doi{10.1111/rssb.12327}
#' @family hidden bias
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + past_income)
#' effect <- study |> score_units() |> weigh_units() |> measure_effect()
#' probe_weights(effect, lambda = c(1, 1.5, 2, 3), draws = 50)
#' @export
probe_weights <- function(x, lambda = seq(1, 3, by = 0.1), yardstick = TRUE, level = 0.95, draws = 1000, seed = 1) {
  if (are_effects(x)) return(in_each_part(x$effects, "effect", probe_weights, match.call()))
  if (is_pooled(x)) return(in_each_set(x, probe_weights, match.call()))
  check_designed_effect(x, remote = TRUE)
  check_numbers(lambda, "numbers from 1 to a million", 1, 1e6, advice = "Lambda 1 means no hidden bias; 2 that the
                odds of treatment may be off by twice.")
  check_count(draws, min = 0)
  check_level(level)
  check_flag(yardstick)
  check_seed(seed)
  check_bounded_weights(x)
  remote <- is_remote(study_of(x))
  if (remote) {
    asked <- c(draws = !missing(draws) && draws > 0, yardstick = !missing(yardstick) && yardstick)
    refuse_row_options(names(asked)[asked], rlang::current_env())
    draws <- 0
    yardstick <- FALSE
  } else if (draws > 0 && is_contrast_of_arms(design_of(x))) {
    warn_kind("draws", c("One contrast can't be drawn anew without the other arms: its bounds have no intervals.",
                         i = "{.code draws = 0} says so. Weights of the two arms alone ({.fn contrasts_of} of the arms
                              without a score) have them."))
    draws <- 0
  }
  arms <- (if (remote) remote_bounded_arms else bounded_arms)(x$source$block, x$source$asked)
  bounds <- core_difference_bounds(arms, lambda)
  estimate <- core_difference_bounds(arms, 1)[[1L]]
  above <- estimate >= 0
  rows <- data.frame(lambda = lambda, estimate_low = bounds[, 1L], estimate_high = bounds[, 2L],
                     conf_low = NA_real_, conf_high = NA_real_)
  change <- NA_real_
  made <- 0L
  if (draws > 0) {
    drawn <- bounded_draws(x, lambda, draws, above, seed)
    tail <- (1 - level) / 2
    wide <- length(lambda)
    rows$conf_low <- apply(drawn[, seq_len(wide), drop = FALSE], 2L, stats::quantile, tail, names = FALSE)
    rows$conf_high <- apply(drawn[, wide + seq_len(wide), drop = FALSE], 2L, stats::quantile, 1 - tail, names = FALSE)
    # a draw's bound lies beyond 0 from its own change on, so the bound's percentile does from the changes' one on
    change <- stats::quantile(drawn[, 2L * wide + 1L], tail, names = FALSE, type = 1L)
    made <- nrow(drawn)
  }
  log_probed(x, "weights")
  new_probe("weights", rows, list(
    estimate = estimate, level = level, draws = made, outcome = x$outcome, design = x$design,
    estimand = x$estimand, estimator = x$estimator, lambda_change = core_lambda_at_change(arms, above),
    lambda_change_interval = change
  ), list(covariates = if (yardstick) weight_covariates(x, arms)))
}

check_bounded_weights <- function(x, call = rlang::caller_env()) {
  design <- design_of(x)
  asked <- x$source$asked
  check_has_odds(x, design, estimators[[asked$estimator]], call)
  if (!estimators[[asked$estimator]]$bounded || !asked$normalise) {
    bounded <- names(Filter(function(entry) entry$bounded, estimators))
    abort_unsupported(c("Bounds are known for the normalised {.val {bounded}} estimators.",
                        i = "Measure the effect by one of them on the same design."), call = call)
  }
  if (!has_known_population(x$estimand)) {
    abort_unsupported(c("Bounds are known for {known_population_estimands()}; this effect is for {x$estimand}.",
                        i = "Weigh for another {.arg estimand}."), call = call)
  }
  if (is_truncated(design)) {
    abort_unsupported(c("Truncated weights are no inverse probabilities: their bounds would not hold.",
                        i = "Weigh without {.arg truncate}."), call = call)
  }
}

# Are there odds of treatment behind the weights of the effect?
check_has_odds <- function(x, design, estimator, call) {
  if (!is.null(design_responses(design))) {
    abort_unsupported(c("No bounds are known under response weights.",
                        i = "Use {.or {.fn {probes_that_fit(x, 'probe_weights')}}}."), call = call)
  }
  fits <- has_weights(design) || (estimator$bounded && estimator$by_score && !is.null(design_score(design)))
  if (!fits) {
    abort_unsupported(c("{.fn probe_weights} needs an effect on weights, strata or cells.",
                        x = "It was measured on: {x$design}.",
                        i = "Use {.or {.fn {probes_that_fit(x, 'probe_weights')}}}."), call = call)
  }
  if (has_weights(design) && is.null(weighing_of(design)$odds)) {
    abort_unsupported(c(weighing_of(design)$no_odds,
                        i = "Use {.or {.fn {probes_that_fit(x, 'probe_weights')}}}."), call = call)
  }
}

# For treated and control, what core_difference_bounds() needs; and the odds behind the moving part, per study row.
bounded_arms <- function(block, asked, call = rlang::caller_env()) {
  units <- effect_units(block$x, block$y, block$inside)
  s <- unit_sampling(block$x, units)
  weight <- moving_weight(block$x, units, s, call)
  augmented <- estimators[[asked$estimator]]$models
  models <- if (augmented) arm_models(block, units, s, asked, call)
  target <- if (augmented) effect_target(block$x, units)$t
  lapply(c(treated = 1L, control = 0L), function(arm) {
    inside <- s > 0 & units$z == arm
    model <- models[[2L - arm]]
    y <- if (augmented) units$y - model$fitted else units$y
    list(added = if (augmented) sum(target * model$fitted) / sum(target) else 0,
         table = core_bound_table(y[inside], (s * weight$fixed)[inside], (s * weight$odds)[inside]),
         rows = units$rows[inside], odds = weight$odds[inside])
  })
}

# The parts of each unit's weight that stay and that move with its odds of being in the other arm.
moving_weight <- function(x, units, s, call) {
  estimand <- study_of(x)$estimand
  by_score <- !has_weights(x) || weighing_of(x)$odds == "score"
  e <- if (by_score) x$score$fitted[units$rows]
  if (population_of(estimand) == "everybody") {
    odds <- if (by_score) ifelse(units$z == 1L, (1 - e) / e, e / (1 - e)) else
      probability_weights(x, units, s, call) - 1
    return(list(fixed = rep(1, length(s)), odds = odds))
  }
  treated_seek <- seeking_arms(estimand) == 1L
  moves <- units$z != treated_seek
  odds <- if (by_score) if (treated_seek) e / (1 - e) else (1 - e) / e else units$w
  list(fixed = ifelse(moves, 0, units$w), odds = ifelse(moves, odds, 0))
}

# Weights that each arm stands for everybody with, those of other arms among them, so that 1 / weight is a probability.
probability_weights <- function(x, units, s, call) {
  of_arms <- !is.null(study_of(x)$outside)
  everybody <- if (of_arms) sum(everybody_behind(x)) else sum(s)
  total <- core_sums_by(s * units$w, 2L - units$z)
  weight <- if (of_arms && weighing_of(x)$sums) units$w else units$w * everybody / total[2L - units$z]
  least <- min(weight[s > 0])
  if (least >= 1 - 1e-8) return(pmax(weight, 1))
  stop_no_probabilities(least, call)
}

# A row per draw: low bounds, high bounds, and the lambda at which the bound meets 0.
bounded_draws <- function(x, lambda, draws, above, seed, call = rlang::caller_env()) {
  block <- x$source$block
  asked <- x$source$asked
  asked[c("seed", "draws", "interval")] <- list(seed, draws, "percentile")
  design <- block$x
  plan <- bootstrap_plan(design, asked, call)
  block$x <- NULL
  width <- 2L * length(lambda) + 1L
  drawn <- run_draws("Bootstrap draws", draws, width, function(k) {
    tryCatch(suppressWarnings({
      block$x <- replicate_design(design, plan, k)$designs[[1L]]
      arms <- bounded_arms(block, asked)
      c(core_difference_bounds(arms, lambda), core_lambda_at_change(arms, above))
    }), twin_error = function(e) rep(NA_real_, width))
  })
  drawn[, width] <- pmin(drawn[, width], .Machine$double.xmax)
  check_draws(drawn, draws, call)
}

# How far the odds are from those of the design that leaves a covariate out.
weight_covariates <- function(x, arms, without = effects_without(x)) {
  covariate_table(without, by = "lambda", function(other, name) {
    again <- bounded_arms(other$source$block, other$source$asked)
    ratio <- unlist(Map(odds_ratios, arms, again))
    data.frame(covariate = name, lambda = stats::quantile(ratio, 0.95, names = FALSE), lambda_most = max(ratio),
               estimate = main_row(other)$estimate)
  })
}

odds_ratios <- function(arm, again) {
  at <- match(arm$rows, again$rows)
  both <- !is.na(at) & arm$odds > 0
  both[both] <- again$odds[at[both]] > 0
  ratio <- arm$odds[both] / again$odds[at[both]]
  pmax(ratio, 1 / ratio)
}

#' @export
glance.twin_probe_weights <- function(x, ...) {
  rlang::check_dots_empty()
  as.data.frame(x$facts[c("estimate", "lambda_change", "lambda_change_interval", "draws")])
}
