#' Measure the effect of the treatment on outcomes
#'
#' Opens the outcome, the first verb to do so, and estimates both potential-outcome means and their contrasts on a
#' design, with standard errors that account for the estimated score, weights and outcome models ([Methods,
#' "Effects"](../doc/methods.html#effects) and "Standard errors").
#'
#' * `"difference"`, on every design: weighted means. The raw comparison on a bare study, the matching estimator on
#'   pairs and sets, the weighted one on weights (Hajek: normalised by arm), the stratified one on strata and cells.
#' * `"regression"`, on every design: mean predictions of one outcome model per arm, fitted with the design's weights,
#'   over the estimand's population. With replacement it is the bias-corrected matching estimator (Abadie & Imbens
#'   2011).
#' * `"augmented"`, on scores, weights, strata and cells: weights and one outcome model per arm; right when either is.
#' * `"targeted"`, on the same: the models' predictions, shifted on the outcome's range until the weighted residuals
#'   vanish (van der Laan & Rubin 2006); right when either is, and never outside the range.
#' * `"crossfit"`, on bare and scored studies with `learners`: the augmented estimator with score and outcome models
#'   learnt on other folds (Chernozhukov et al. 2018), the median over `repeats`.
#'
#' * `"selection"`, on bare studies with many covariates: the lasso picks columns that tell of treatment and of the
#'   outcome in either arm, and the augmented estimator adjusts for all of them (Belloni, Chernozhukov & Hansen 2014).
#'
#' ATE, ATT and ATC are answered by all of them; ATO and ATM by all but regression without a score. Several outcomes,
#' subgroups (`by`) and studies of several arms give one effect for each, side by side in a `twin_effects` with their
#' joint covariance.
#'
#' @section Standard errors: `inference = "analytic"` sums influence contributions (on pairs, and on sets on covariates,
#'   by set, Abadie & Spiess 2022; with replacement Abadie & Imbens 2006, with their 2016 adjustment on an estimated
#'   score; on full matching on a score, and on sets of all of several arms, by unit, about what each arm's fit on the
#'   scores or covariates explains). A score by maximum likelihood is accounted for in weights, strata, pairs and sets.
#'   Clusters and strata named in the study are used without being asked, a column or two named in `cluster` instead.
#'   With clusters intervals use Student's t with G - 1 degrees of freedom, with survey strata G minus the strata; where
#'   none are left, or nothing varies, there is no interval and a warning says why. On pairs and sets with clusters the
#'   variance sums by cluster what units contribute about their arm's fit on the score; on other distances pairs that
#'   share a cluster on either side are dependent. It is never below that of independent sets or units (survey strata
#'   are then not centred, which is conservative). Learners' scores, trimming bounds, where strata are cut and
#'   truncation points are taken as given, and the print says so.
#'
#'   `"bootstrap"` draws units (or clusters; within survey strata one fewer than each has, with weights to match, Rao &
#'   Wu 1988), and runs the whole design anew for every draw, as it
#'   was made: score, trimming, weights or matching. `"jackknife"` leaves out one cluster at a time, without clusters
#'   one unit (up to 5,000 of them; any number for the difference without estimated weights, which has a closed form).
#'   `"replicates"` re-runs it with every column of replicate weights. All three are refused for matching with
#'   replacement, for which they are wrong (Abadie & Imbens 2008).
#'
#'   In simulations (`validation/results/errors.md`: 1,000 draws of 600 units, so that a ratio is certain to about 2 per
#'   cent and a coverage to 1.4 points) standard errors on an estimated score were 0.96 to 1.04 times the spread of
#'   estimates (of full matching 1.01 to 1.13, most with clusters), without clusters and with 40, and 95% intervals held
#'   the truth 92 to 97% of the time: less than 93% only where strata or pairs keep some of the bias. On a score taken
#'   as known it was 0.92 to 1.02 times (of full matching 1.00 to 1.07) and 92 to 97%.
#'   Where overlap is poor (`coverage.md`: 400 draws of 800 units) intervals of weights or strata alone held it 84 to
#'   93% of the time, augmented and targeted ones on weights 92.5 to 93%; matches with replacement, which take units as
#'   independent, 91 to 92% with 40 clusters.
#'
#' @param x A `twin_study`, a `twin_design`, or a `twin_arms` of [frame_arms()]: as framed, or with weights, strata,
#'   pairs or sets; scored alone for `"augmented"` and `"targeted"` (which then weigh by the score) and `"crossfit"`.
#' @param outcome Names of the study's outcomes; the first by default.
#' @param estimator `"difference"` (default), `"regression"`, `"augmented"`, `"targeted"`, `"crossfit"` or
#'   `"selection"`.
#' @param model A one-sided formula for the outcome models in the study's covariates; the study's covariates, as framed,
#'   by default. A list of formulas named by outcome gives each its own. Not for `"difference"`.
#' @param family `"gaussian"`, `"binomial"` (logit), `"probit"`, `"heteroskedastic_probit"` (heteroskedastic probit),
#'   `"poisson"` (counts and other outcomes that are never negative), `"negative_binomial"` (counts that vary more),
#'   `"two_part"` (a logit of any at all, times log-linear means of how much), `"fractional"` (logit for shares between
#'   0 and 1) or `"ordered"` (ordered logit for codes in order, whose mean is compared); by default binomial for
#'   outcomes that are 0/1 and gaussian for others. A vector named by outcome gives each its own. With replacement
#'   always gaussian; learners look at the outcome themselves.
#' @param scale_model For `"heteroskedastic_probit"`: a one-sided formula of the scale; all numeric and yes/no
#'   covariates by default.
#' @param products By default the outcome has one model per arm. Given, it has one model for both arms, with the
#'   treatment in it: `"none"` for slopes that are the same in both, or a one-sided formula (or names) of covariates
#'   whose slopes differ, such as `~ boat_length + port_size`. Not for `"heteroskedastic_probit"`, nor with replacement.
#' @param correction For `"regression"` on matches with replacement, which linear regressions correct the matches:
#'   `"matched"` (default), one per arm on the units used as partners, as often as they are used; `"all"`, one per arm
#'   on every unit that could be matched; `"pooled"`, one for both arms on the matched units.
#' @param learners For `"crossfit"` and `"targeted"`: learners of the outcome, as in [score_units()]; `"logit"` then is
#'   a linear regression for outcomes that are not 0/1. `"crossfit"` uses those of the design's score by default, and on
#'   a study without a score the same learners for the score.
#' @param folds With `learners`: how many folds, default 5; they keep the arms' shares, or clusters whole. For
#'   `"selection"`: folds of the lasso's cross-validation.
#' @param repeats For `"crossfit"`: how often the folds are drawn, default 5. The estimate is that of the repeat whose
#'   difference is the median; the variance adds how far repeats lie apart, as their median too.
#' @param normalise For `"difference"` and `"augmented"` with inverse weights: divide by the sum of the weights (default
#'   `TRUE`)? `FALSE` gives the Horvitz-Thompson form, divided by the size of the population.
#' @param quantiles For `"difference"` and `"augmented"`: shares such as `c(0.25, 0.5, 0.75)`, to get quantiles of the
#'   outcome by arm and their differences too (Firpo 2007); augmented ones are those of augmented shares below, with a
#'   logit of each arm for being below.
#' @param by Name of a column with a few levels: effects within each, and how they differ. Weights and scores stay those
#'   of the whole design, outcome models are fitted within the group. On pairs the group is the seeker's.
#' @param inference `"analytic"` (default), `"bootstrap"`, `"jackknife"` or `"replicates"`.
#' @param draws For `"bootstrap"`: how many, default 1,000.
#' @param interval For `"bootstrap"`: `"percentile"` (default) or `"normal"`.
#' @param replicates For `"replicates"`: names of columns with replicate weights, at least 2, or one text that they all
#'   start with, such as `"rep_*"`.
#' @param replicate_scale For `"replicates"`: what the sum of squared deviations is multiplied by; 1 / number of
#'   replicates by default. A jackknife of R replicates wants (R - 1) / R.
#' @param error For `"difference"`, to reproduce other people's errors: `"robust"` (default, or clustered as the study
#'   says); for the raw comparison `"classical"` (one variance for both arms), `"welch"` (one for each, with Welch's
#'   degrees of freedom) or `"hc1"` (that of a regression on the treatment, factor n / (n - 2)); on strata and cells
#'   `"stratified"` (variances within each stratum and arm, the strata's sizes as given).
#' @param neighbours For matching with replacement: how many units of the same arm the conditional variance of an
#'   outcome is taken from, default 2.
#' @param conditional For matching with replacement: `TRUE` for the standard error of the effect among the units at
#'   hand, whose covariates and matches are held; by default it is that of the population's effect.
#' @param cluster Name of a column of clusters, or of two for two-way clustering, in place of the study's.
#' @param level Confidence level, default 0.95.
#' @param adjust With several effects: p-values adjusted for looking at all of them, `"holm"` or `"bh"` (Benjamini &
#'   Hochberg); `"none"` by default.
#' @param bands With several effects: `TRUE` for simultaneous intervals, which hold all true values at once with
#'   probability `level`.
#' @param lonely_stratum What to do when a survey stratum is left with one cluster: `"stop"` (default) names it;
#'   `"centre"` centres it on the grand mean.
#' @param estimand Estimands to measure in one call, such as `c("ATE", "ATT", "ATC")`: score, trimming, pairs, strata or
#'   weights are made anew for each, all before the outcome is opened. By default the study's own alone. Weights of your
#'   own and searched metrics are for one only.
#' @param seed For draws, folds and bands: one number; 1 by default. Answers do not depend on the number of workers
#'   (`future::plan()`).
#' @return A `twin_effect`. `tidy()` gives one row per term with the columns `outcome`, `estimator`, `estimand`,
#'   `term` (`"mean_treated"`, `"mean_control"`, `"difference"`, `"ratio"` where the outcome is never negative and
#'   both means are positive, `"odds_ratio"` for shares, `"percent"` for outcomes in logs (100 (exp(difference) - 1),
#'   with the interval of the difference turned into per cent); `"quantile_0.5_treated"`, `"..._control"`,
#'   `"..._difference"`; for the difference on strata also `"stratum 1"`, ..., the difference within each), `estimate`,
#'   `std.error`, `statistic`, `p.value`, `conf.low`, `conf.high`. Differences are treated minus control. For ratios the
#'   statistic, p-value and interval are worked out on the log scale, the standard error is that of the ratio. `coef()`,
#'   `vcov()`, `confint()`, `nobs()` and `glance()` work as usual; `augment()` gives each unit's influence contribution.
#'
#'   With several outcomes, groups, arms or estimands a `twin_effects`: `tidy()` has the columns `contrast` and `group`
#'   where they differ, `p.adjusted`, `band.low` and `band.high` where asked for; `tidy(x, part = "groups")` compares
#'   each group with the first one, `tidy(x, part = "arms")` every two arms with each other (`first` minus `second`;
#'   where all speak of one population, as under the ATE), and `print()` tests whether arms differ at all; `glance()`
#'   has one row per effect; `x[[2]]` is one of them.
#' @section Warnings: On weights from learners' scores the difference raises `twin_warning_known_score`, since no
#'   standard error accounts for their estimation. `twin_warning_clusters` when a study has clusters and its pairs are
#'   with replacement, `twin_warning_few_clusters` below 20, `twin_warning_constant_arm` when the outcome does not vary
#'   in one arm, `twin_warning_draws` when draws fail.
#' @section Errors: `twin_error_input` for unknown outcomes, a family that does not fit the outcome or too few clusters,
#'   `twin_error_unsupported` for an estimator that does not fit the design (with the nearest that does),
#'   `twin_error_separation` and `twin_error_convergence` from outcome models.
#' @references Abadie, A., Imbens, G. W. (2006). Large sample properties of matching estimators for average treatment
#'   effects. Econometrica 74. \doi{10.1111/j.1468-0262.2006.00655.x}
#'
#'   Abadie, A., Imbens, G. W. (2008). On the failure of the bootstrap for matching estimators. Econometrica 76.
#'
#'   Rao, J. N. K., Wu, C. F. J. (1988). Resampling inference with complex survey data. Journal of the American
#'   Statistical Association 83. \doi{10.1080/01621459.1988.10478591}
#'   \doi{10.3982/ECTA6474}
#'
#'   Abadie, A., Imbens, G. W. (2011). Bias-corrected matching estimators for average treatment effects. Journal of
#'   Business & Economic Statistics 29. \doi{10.1198/jbes.2009.07333}
#'
#'   Abadie, A., Imbens, G. W. (2016). Matching on the estimated propensity score. Econometrica 84.
#'   \doi{10.3982/ECTA11293}
#'
#'   Abadie, A., Spiess, J. (2022). Robust post-matching inference. JASA 117.
#'   \doi{10.1080/01621459.2020.1840383}
#'
#'   Belloni, A., Chernozhukov, V., Hansen, C. (2014). Inference on treatment effects after selection among
#'   high-dimensional controls. Review of Economic Studies 81. \doi{10.1093/restud/rdt044}
#'
#'   Chernozhukov, V., Chetverikov, D., Demirer, M., Duflo, E., Hansen, C., Newey, W., Robins, J. (2018).
#'   Double/debiased machine learning for treatment and structural parameters. Econometrics Journal 21.
#'   \doi{10.1111/ectj.12097}
#'
#'   Firpo, S. (2007). Efficient semiparametric estimation of quantile treatment effects. Econometrica 75.
#'   \doi{10.1111/j.1468-0262.2007.00738.x}
#'
#'   Lunceford, J. K., Davidian, M. (2004). Stratification and weighting via the propensity score in estimation of
#'   causal treatment effects. Statistics in Medicine 23. \doi{10.1002/sim.1903}
#'
#'   van der Laan, M. J., Rubin, D. (2006). Targeted maximum likelihood learning. International Journal of
#'   Biostatistics 2. \doi{10.2202/1557-4679.1043}
#' @family effects
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = c("income", "sold_direct"),
#'                      covariates = ~ boat_length + crew_size + port_size, cluster = "harbour")
#' design <- study |> score_units() |> weigh_units()
#' measure_effect(design)
#' measure_effect(design, outcome = "sold_direct", estimator = "augmented")
#' measure_effect(design, outcome = c("income", "sold_direct"), adjust = "holm")
#' measure_effect(design, by = "port_size")
#' @export
measure_effect <- function(x, outcome = NULL, estimator = "difference", model = NULL, family = NULL,
                           scale_model = NULL, products = NULL, correction = c("matched", "all", "pooled"),
                           learners = NULL, folds = 5, repeats = 5, normalise = TRUE, quantiles = NULL, by = NULL,
                           inference = c("analytic", "bootstrap", "jackknife", "replicates"),
                           interval = c("percentile", "normal"), replicates = NULL, replicate_scale = NULL,
                           error = c("robust", "classical", "welch", "hc1", "stratified"), neighbours = 2,
                           conditional = FALSE, cluster = NULL, adjust = c("none", "holm", "bh"), bands = FALSE,
                           lonely_stratum = c("stop", "centre"), estimand = NULL, level = 0.95, draws = 1000,
                           seed = NULL) {
  if (is_imputed(x)) return(in_each_set(x, measure_effect, match.call()))
  given <- names(Filter(Negate(is.null), given_arguments(match.call())))
  check_measured(x, estimator)
  study <- study_of(x)
  asked <- list(
    outcome = check_outcomes_asked(outcome, study),
    estimator = check_choice(estimator, measure_estimators()),
    model = model, family = family, scale_model = scale_model, products = products,
    correction = check_choice(correction, c("matched", "all", "pooled")),
    learners = learners, folds = folds, repeats = repeats, normalise = normalise, quantiles = as_given(quantiles),
    by = by, inference = check_choice(inference, c("analytic", "bootstrap", "jackknife", "replicates")), draws = draws,
    interval = check_choice(interval, c("percentile", "normal")), replicates = as_given(replicates),
    replicate_scale = replicate_scale, error = check_choice(error, names(error_kinds)), neighbours = neighbours,
    conditional = conditional, cluster = as_given(cluster), level = level,
    adjust = check_choice(adjust, c("none", "holm", "bh")), bands = bands,
    lonely = check_choice(lonely_stratum, c("stop", "centre")), seed = if (is.null(seed)) 1 else seed
  )
  check_options(x, asked, given)
  asked$estimand <- estimand
  designs <- estimand_designs(x, estimand)
  designs <- lapply(designs, ready_arms, asked)
  for (design in unlist(lapply(designs, designs_in, asked), recursive = FALSE)) check_estimator(design, asked)
  check_inference(x, asked)
  call <- rlang::current_env()
  if (is_remote(x)) return(measure_remote(x, asked, given, call))
  measured <- lapply(designs, measure_design, asked, call)
  for (part in measured) log_effects(part$effects, asked)
  effects <- unlist(lapply(measured, `[[`, "effects"), recursive = FALSE, use.names = FALSE)
  if (length(effects) == 1L && is.null(by)) return(effects[[1L]])
  new_effects(effects, asked, if (length(designs) == 1L) measured[[1L]]$joint)
}

# One line per design and outcome, however many groups.
log_effects <- function(effects, asked) {
  for (effect in effects) {
    log_once(effect$study, "measure", sprintf("%s on %s, %s", asked$estimator, effect$outcome, effect$design),
             settings = list(errors = effect$inference, by = asked$by,
                             adjust = if (!identical(asked$adjust, "none")) asked$adjust))
  }
}

# Every effect of one design, with the joint covariance of its replicates where they were run: list(effects, joint).
measure_design <- function(x, asked, call) {
  common <- hear_cautions(asked$clusters <- effect_clusters(study_of(x), asked$cluster, call))$cautions
  blocks <- effect_blocks(x, asked, call)
  check_looks(blocks, asked, call)
  effects <- once_each(lapply(blocks, function(block) with_cautions(measure_block(block, asked, call), common)))
  if (asked$inference == "analytic") return(list(effects = effects))
  again <- hear_cautions(resample_effects(x, effects, blocks, asked, call))
  list(effects = lapply(again$value$effects, with_cautions, again$cautions), joint = again$value$vcov)
}

# The design made anew for each estimand asked for; the design itself for its own, or where none is named.
estimand_designs <- function(x, estimand, call = rlang::caller_env()) {
  if (is.null(as_given(estimand, call = call))) return(list(x))
  if (!is.character(estimand) || anyNA(estimand) || anyDuplicated(estimand) || !all(estimand %in% names(estimands))) {
    abort_input(c("{.arg estimand} must be one or several of {.val {names(estimands)}}.",
                  x = "It is {describe_value(estimand)}."), call = call)
  }
  lapply(estimand, function(one) {
    if (one == study_of(x)$estimand) return(x)
    given <- inherits(x, "twin_design") && (!is.null(x$metric) || (has_weights(x) && !weighing_of(x)$estimated))
    if (given) {
      abort_unsupported(c("This design can't be made anew for the {one}: its weights or metric are for the
                           {study_of(x)$estimand}.", i = "Make one for the {one} from a study framed for it."),
                        call = call)
    }
    study <- study_of(x)
    study <- amend(study, estimand = one, hash = rlang::hash(list(study$hash, one)),
                   family = if (is.null(study$family)) study$hash else study$family)
    in_the_name_of(call, replay_on(x, study))
  })
}

# The two-arm designs behind x. asked: how they are to be measured.
designs_in <- function(x, asked = NULL) {
  if (!is_arms(x)) return(list(x))
  if (!is.null(x$designs) || is.null(asked)) return(contrasts_of(x))
  models <- estimators[[asked$estimator]]$models
  if (models && population_of(x$base$estimand) == "everybody") return(modelled_contrasts(x))
  if (is.null(x$score)) contrasts_of(x) else lapply(compared_arms(x), function(k) contrast_start(x, k))
}

# Models of two arms are averaged over the units of all: each contrast keeps the others' units.
modelled_contrasts <- function(x) {
  lapply(compared_arms(x), function(k) {
    new_design(arm_study(x, k, whole = TRUE), list(), kind = "raw", kept = x$kept, weighing = list(arms = x, k = k),
               steps = x$steps, note = arms_note_of(x))
  })
}

# Scored arms are weighed for estimators that weigh by the score. Whom a score chooses is not the same for two arms as
# for all of them.
ready_arms <- function(x, asked, call = rlang::caller_env()) {
  if (!is_arms(x) || !is.null(x$designs)) return(x)
  entry <- estimators[[asked$estimator]]
  if (entry$learns == "always" && !has_known_population(x$base$estimand)) {
    abort_unsupported(c("The {asked$estimator} estimator can't answer the {x$base$estimand} of more than two arms.",
                        i = "Frame the arms for the {.or {known_population_estimands()}}."), call = call)
  }
  if (!is.null(x$score) && entry$by_score) weigh_units(x) else x
}

# One block per contrast of arms, outcome and group: list(x, outcome, y, shares, contrast, group, inside), NULL where
# there is only one of them.
effect_blocks <- function(x, asked, call = rlang::caller_env()) {
  blocks <- list()
  designs <- designs_in(x, asked)
  for (k in seq_along(designs)) {
    design <- designs[[k]]
    study <- study_of(design)
    groups <- if (!is.null(asked$by)) study_groups(study, asked$by, call) else list(NULL)
    for (outcome in asked$outcome) {
      y <- open_outcome(study, outcome, "measure_effect")
      for (g in seq_along(groups)) {
        blocks[[length(blocks) + 1L]] <- list(
          x = design, outcome = outcome, y = as.double(y), shares = attr(y, "shares"),
          contrasts = outcome_contrasts(study, outcome, y), inside = groups[[g]],
          group = names(groups)[g], contrast = if (is_arms(x)) paste(study$levels, collapse = " vs ")
        )
      }
    }
  }
  blocks
}

# Which contrasts make sense for an outcome: a ratio of means only where it can't be negative, and not of logs.
outcome_contrasts <- function(study, outcome, y) {
  if (attr(y, "shares")) return(c("difference", "ratio", "odds_ratio"))
  if (outcome %in% study$logged) return(c("difference", "percent"))
  c("difference", if (!any(y < 0, na.rm = TRUE)) "ratio")
}

measure_block <- function(block, asked, call = rlang::caller_env()) {
  x <- block$x
  asked$clusters <- effect_clusters(study_of(x), asked$cluster, call)
  if (reuses_units(x) && length(asked$clusters$codes) > 0L) asked$clusters <- warn_clusters(asked$clusters$name)
  units <- effect_units(x, block$y, block$inside, block$outcome)
  units$where <- group_phrase(block)
  check_measured_arms(units, study_of(x), block, call)
  means <- effect_means(block, units, asked, call)
  result <- block_terms(block, units, means, asked)
  influence <- result$influence()
  if (sums_by_unit(x)) {
    given <- block_influence(block, utils::modifyList(units, list(given = TRUE)), asked, call)
    influence <- set_influence(x, units, given, influence)
  }
  inference <- if (asked$error == "stratified") {
    stratified_errors(x, units, result)
  } else if (is.null(means$vcov)) {
    carried <- function() influence - block_influence(block, utils::modifyList(units, list(given = TRUE)), asked, call)
    found <- effect_vcov(x, influence, units, asked$clusters, asked$lonely, call, carried)
    if (design_kind(x) %in% c("cells", "strata") && estimators[[asked$estimator]]$plain) {
      found$vcov <- found$vcov + contrast_vcov(cell_shortfalls(x, units), result)
    }
    found
  } else {
    list(vcov = contrast_vcov(means$vcov, result), df = if (is.null(means$df)) Inf else means$df, text = means$text)
  }
  inference$given <- taken_as_given(x, asked)
  reused <- if (!is.null(means$reuse)) means$reuse %*% result$slopes
  if (!is.null(reused)) colnames(reused) <- names(result$estimate)
  new_effect(block, list(estimate = result$estimate, influence = influence, v = means$made, reused = reused,
                         by_unit = sums_by_unit(x)), inference, units, asked)
}

# Influence of all terms; units$given: with weights taken as given.
block_influence <- function(block, units, asked, call) {
  block_terms(block, units, effect_means(block, units, asked, call), asked)$influence()
}

# The estimates of a block alone: what a replicate needs. A ratio of means is asked for by name: in a draw one of them
# may be negative where neither is in the sample.
block_estimate <- function(block, asked, terms) {
  asked$clusters <- effect_clusters(study_of(block$x), asked$cluster)
  units <- effect_units(block$x, block$y, block$inside, block$outcome)
  check_measured_arms(units, study_of(block$x), block, NULL)
  estimators[[asked$estimator]]$again(block, units, asked, terms)
}

# The same for estimators that give two means.
means_again <- function(block, units, asked, terms) {
  means <- effect_means(block, units, asked, NULL)
  block_terms(block, units, means, asked, core_contrasts(means, block$contrasts, terms))$estimate
}

# Means, their contrasts, and what else was asked for.
block_terms <- function(block, units, means, asked, result = core_contrasts(means, block$contrasts)) {
  if (!is.null(asked$quantiles)) {
    result <- with_terms(result, if (estimators[[asked$estimator]]$models) augmented_quantiles(block, units, asked) else
      quantile_terms(block$x, units, asked$quantiles))
  }
  if (design_kind(block$x) == "strata" && estimators[[asked$estimator]]$plain && is.null(block$inside)) {
    result <- with_terms(result, stratum_differences(block$x, units))
  }
  result
}

with_terms <- function(result, more) {
  none <- matrix(0, 2L, length(more$estimate))
  list(estimate = c(result$estimate, more$estimate),
       influence = function() cbind(result$influence(), more$influence()), slopes = cbind(result$slopes, none))
}

contrast_vcov <- function(vcov, result) {
  out <- crossprod(result$slopes, vcov %*% result$slopes)
  dimnames(out) <- list(names(result$estimate), names(result$estimate))
  out
}

effect_means <- function(block, units, asked, call) {
  x <- block$x
  entry <- estimators[[asked$estimator]]
  if (reuses_units(x)) return(match_means(block, units, asked, call))
  entry$means(block, units, asked, call)
}

# The difference within each stratum.
stratum_differences <- function(x, units) {
  s <- unit_sampling(x, units) * (if (is.null(units$response)) 1 else units$w)
  set <- x$set[units$rows]
  parts <- lapply(seq_len(max(set, na.rm = TRUE)), function(k) {
    inside <- s * (set %in% k)
    if (any(tapply(inside > 0, units$z, sum) == 0L)) return(NULL)  # no outcome left in one arm of it
    core_weighted_means(units$y, units$z, inside)
  })
  names(parts) <- paste("stratum", seq_along(parts))
  parts <- Filter(Negate(is.null), parts)
  list(estimate = vapply(parts, function(means) means$estimate[[1L]] - means$estimate[[2L]], 0),
       influence = function() do.call(cbind, lapply(parts, function(means) drop(means$influence() %*% c(1, -1)))))
}

quantile_terms <- function(x, units, quantiles) {
  own <- unit_weights(x, units)
  warn_tied_quantiles(units, own$v, quantiles)
  core_quantiles(units$y, units$z, own$v, quantiles, own$nuisance)
}

# Quantiles of augmented shares: where the arm's augmented share of outcomes below is p. Found by steps of the share
# that lacks over the density; influence - IF of the share / density (Firpo 2007, with Methods' augmented mean for the
# share).
augmented_quantiles <- function(block, units, asked) {
  own <- score_weights(block$x, units)
  target <- effect_target(block$x, units)
  warn_tied_quantiles(units, own$v, asked$quantiles)
  below <- utils::modifyList(asked, list(family = "binomial"))
  share <- function(q, arm) {
    units$y <- as.double(units$y <= q)
    flagged <- utils::modifyList(block, list(shares = TRUE))
    models <- suppressWarnings(arm_models(flagged, units, unit_sampling(block$x, units), below, NULL))
    core_augmented_mean(units$y, as.double(units$z == arm), own$v, own$nuisance, target$t, target$nuisance,
                        models[[2L - arm]])
  }
  core_quantile_terms(asked$quantiles, lapply(both_arms, function(arm) {
    inside <- units$z == arm & own$v > 0
    core_share_quantiles(units$y[inside], own$v[inside], asked$quantiles, function(q) share(q, arm))
  }))
}

# The density at a value that many units share is not what the standard error needs.
warn_tied_quantiles <- function(units, v, quantiles) {
  tied <- vapply(1:0, function(arm) {
    inside <- units$z == arm & v > 0
    at <- core_weighted_quantiles(units$y[inside], v[inside], quantiles)
    max(vapply(at, function(q) sum(v[inside & units$y == q]), 0)) / sum(v[inside])
  }, 0)
  if (max(tied) < 0.05) return(invisible(tied))
  warn_kind("ties", c(
    "The outcome has many equal values: {share_text(max(tied))} of an arm stand at a quantile.",
    i = "Standard errors of quantiles are for outcomes that hardly tie; use {.code inference = \"bootstrap\"}."
  ))
}
