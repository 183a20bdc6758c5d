#' Measure effects over time: difference-in-differences
#'
#' The change of treated units less the change of units that are not treated yet, under parallel trends: without
#' treatment both would have moved alike. Standard errors are clustered by groups, or units, or what [frame_panel()] was
#' told. Those of one number use t with clusters less one degrees of freedom; those of cells and their averages are made
#' cohort by cohort, each with degrees of freedom of its own, so that they hold with few clusters. A cohort of a single
#' cluster has no variance of its own: it borrows that of the other treated cohorts, or there is no standard error, and
#' a warning says which. Clusters smaller than what is treated as a whole are used as named, with a caution.
#'
#' * `"group_time"`: one effect per cohort and period, ATT(g, t), each a two-by-two comparison (Callaway &
#'   Sant'Anna 2021).
#' * `"imputation"`: unit and period effects from untreated rows alone; effects are what treated rows lie above
#'   them (Borusyak, Jaravel & Spiess 2024), with their conservative variance.
#' * `"interaction"`: one regression with a term for every cohort and period (Sun & Abraham 2021).
#' * `"two_way"`: outcome on treatment with unit and period effects: one number, which mixes effects of different
#'   ages; see [decompose_did()].
#' * `"event_study"`: outcome on periods since treatment, with unit and period effects, all cohorts together. Where
#'   effects differ between cohorts its path mixes effects of other times, before treatment too (Sun & Abraham 2021);
#'   `"interaction"` does not.
#' * `"two_period"`: means before and after, for a single date of treatment.
#' * `"synthetic"`: each cohort against a weighted mean of units never treated that ran as it did before treatment,
#'   with periods before it weighed too (Arkhangelsky, Athey, Hirshberg, Imbens & Wager 2021), or that met its level
#'   (`parallel = FALSE`; Abadie, Diamond & Hainmueller 2010). By default ranked among placebos, units never treated in
#'   the place of the treated, whose spread is the standard error (as if the treated varied like them); a single treated
#'   unit has ranks only. With fewer units never treated than treated ones there are no such placebos, and the weights
#'   are held, as with `inference = "analytic"` (the jackknife of the first paper). `tidy(part =
#'   "units")`, `"periods"` and `"fit"` give the weights and how well they do; `plot(view = "paths")` shows both paths.
#' * `"dose"`: of a panel with doses, the effect at each dose and its slope (Callaway, Goodman-Bacon & Sant'Anna 2024):
#'   the change of each treated unit less that of its comparison, period by period, on a spline of the dose. An effect
#'   at a dose is that on units which have it, and needs their trends to be parallel to those of the untreated. A slope,
#'   or one dose against another, needs more: that units of all doses would gain alike from the same one (strong
#'   parallel trends). The rows "before" are the same of the last step before treatment.
#' * `"triple"`: group-time effects among those affected less those among the others of the same groups, against one
#'   comparison cohort at a time, averaged by their size; adjusted effects are all over the covariates of those treated
#'   and affected (Ortiz-Villavicencio & Sant'Anna 2025).
#'
#' With `adjustment` (for `"group_time"`, `"triple"` and `"two_period"`) trends need to be parallel only among units
#' with like covariates: `"regression"` models the comparison units' change, `"ipw"` weighs them by a logit score of
#' belonging to the cohort, `"augmented"` does both and is right when either model is (Sant'Anna & Zhao 2020). In a
#' repeated cross-section the score is of both periods together, and models and weights are used within each. Units that
#' stay are described by their covariates in the base period. For `"two_way"`, `"interaction"` and `"imputation"`
#' covariates enter the regression as they stand in each row; what is constant within units drops out, with a note.
#'
#' Where treatment switches on and off (`frame_panel(switching = TRUE)`), `"group_time"` follows units from their first
#' switch, against units that began with the same treatment and have not switched so far (de Chaisemartin &
#' D'Haultfoeuille 2024); effects of switching off count with the sign turned. An effect so many periods later is that
#' of all treatment since the switch, carried over or gone back; `summarise_did(normalise = TRUE)` divides by it.
#'
#' @param panel A [panel][frame_panel]; what works on one in a database: [remote_units()].
#' @param outcome Name of one of its outcomes; the first by default.
#' @param estimator See above; `"group_time"` by default.
#' @param adjustment `"none"`, `"regression"`, `"ipw"` or `"augmented"`. By default `"augmented"` where the panel has
#'   covariates (`"regression"` for the regressions and in a database), `"none"` otherwise.
#' @param comparison Units to compare with: `"never"` treated (default where there are some) or `"not_yet"` treated.
#'   For `"group_time"`, `"triple"` and `"dose"`.
#' @param anticipation How many periods before treatment may already be affected; they are not used as a base.
#' @param base For periods before treatment: measured from the one `"previous"` (default) or from the same `"fixed"`
#'   base as those after, the last one before treatment (and anticipation; default where treatment switches). For
#'   `"group_time"` and `"triple"`.
#' @param third For `"triple"`: name of a two-valued column that tells the affected from the unaffected.
#' @param affected The value of `third` that means affected; TRUE, 1 and yes need no naming.
#' @param absorb For `"two_way"` and `"imputation"`: further columns whose levels are absorbed as fixed effects, such as
#'   `"coast:quarter"` for every combination of two columns. (Effects of a covariate that change from period to period
#'   are covariates: `~ market_km:quarter`.)
#' @param trends For `"two_way"` and `"imputation"`: `"unit"` or `"group"` for a straight line in time of its own for
#'   each. In the regression it takes away what grows under treatment along with differing trends; imputation draws
#'   lines from untreated rows alone. Both need several periods before treatment.
#' @param leads,lags For `"event_study"`: how many periods before (beyond the base) and after the onset have a term of
#'   their own; those beyond are joined in the outermost one. All by default. For `"imputation"` `leads` is how many
#'   periods before treatment are held out and foretold like those after it: rows "pre", which should be 0. None by
#'   default.
#' @param covariates_of For `"group_time"` and `"two_period"` in a repeated cross-section with `"regression"` or
#'   `"augmented"`: are regressions averaged over the covariates of the treated of their own `"period"` (default) or of
#'   `"all"` treated of both? With `"augmented"` and `"all"` the treated are modelled too, which is the locally
#'   efficient doubly robust form (Sant'Anna & Zhao 2020). `"all"` supposes that the treated are alike in both periods.
#' @param unseen For `"group_time"` in a panel without adjustment: treated units that are not seen in the period just
#'   before their onset are left out (`"drop"`, default; a note counts them), or measured from the last period they were
#'   seen before it (`"earlier"`), moved on by what comparison units changed in between.
#' @param collapse Take means by group and period first, and go on with those (Bertrand, Duflo & Mullainathan 2004):
#'   `"rows"` weighs each mean by its rows, which for a regression without covariates is that of the rows;
#'   `"groups"` lets each count once, as [decompose_did()] does. Default `"no"`.
#' @param inference `"analytic"` (default); `"wild"`, the wild cluster bootstrap of a two-way regression with the null
#'   imposed, with an interval by inversion (Cameron, Gelbach & Miller 2008); or `"randomization"`, p-values and
#'   intervals from drawing anew which groups are treated when (of treatment that switches: among those that began
#'   alike; where another is held: that share its path), of the estimate over its standard error; all assignments are
#'   visited where they are no more than `draws`. The interval holds the constant effects that are not rejected;
#'   rows that no treatment can move have none. `"bootstrap"` draws clusters within cohorts (one fewer than each has,
#'   with weights to match, Rao & Wu 1988; all together for regressions, and where clusters cut across cohorts) and
#'   estimates anew; [summarise_did()] averages the same draws. What rests on a cohort of one cluster then has no error.
#'   Where a design is carried into the panel all are drawn together and it is made anew on each draw; matching with
#'   replacement is refused.
#' @param parallel For `"synthetic"`: may the synthetic comparison run at another level than the treated, with periods
#'   weighed as well as units (default TRUE)? With FALSE units alone are weighed, to meet the treated's level.
#' @param factors For `"imputation"`: beside unit and period effects 1 to 3 factors that all units feel, each in its own
#'   measure (interactive fixed effects; Xu 2017), or `"choose"`, the number that best foretells untreated rows left out
#'   in turn. Errors by `"bootstrap"` then, with 199 draws by default.
#' @param doses For `"dose"`: where effect and slope are told; by default tenths of the doses of treated units, or every
#'   dose where there are at most 6, between which the curve is then straight (a slope is that up to the next dose).
#' @param knots For `"dose"`: how many inner knots the cubic spline has, at quantiles of the doses. Default 1 with 20
#'   different doses or more, else none.
#' @param since For `"dose"`: the periods since treatment that are averaged, such as `c(0, 3)`; all by default.
#' @param small_sample For `"two_way"`: `"CR1"` (default, factor G / (G - 1)), `"CR2"` with Satterthwaite degrees of
#'   freedom (Bell & McCaffrey 2002), or `"CR3"`, their jackknife with its factor (G - 1) / G. With sampling weights the
#'   working model behind them has variances of 1 over the weight.
#' @param multiplier For `"wild"`: `"rademacher"` (all sign vectors when they are no more than `draws`) or `"webb"`, the
#'   default below 10 clusters.
#' @param draws Of `"wild"` (9,999 by default), `"randomization"` or `"bootstrap"` (999; of placebos 199, and all units
#'   never treated where there is one treated and no more of them).
#' @param interval For `"bootstrap"`: `"percentile"` (default) or `"normal"` (t with clusters less cohorts degrees of
#'   freedom; default with `factors`).
#' @param level Confidence level, default 0.95.
#' @param seed Of the draws.
#' @param crossed Name of a second column of clusters: errors are clustered by it and by the panel's own at once
#'   (Cameron, Gelbach & Miller 2011), with the fewer clusters' degrees of freedom. For regressions, `"interaction"` and
#'   `"imputation"` it may change within units, as the period does, and the panel may be a repeated cross-section; cells
#'   of group-time differences are sums over whole units.
#' @param near,reach Names of two columns that tell where a unit is, and how far, in their units, units still move
#'   together: errors by distance (Conley 1999). Two units count by (1 - gap / reach) in either direction, multiplied;
#'   degrees of freedom are those of blocks as wide as the reach. Instead of clusters: a unit's own periods move
#'   together whatever the reach.
#' @param by Name of a column with a few levels: effects within each, from its units alone, side by side. In a panel
#'   units must not change level.
#' @return With `by`, and of a panel whose treatment is of several kinds, a `twin_dids`: a list of effects, one per
#'   level or kind, whose `tidy()` has a column `group` or `arm`; `tidy(part = "groups")` gives how each differs from
#'   the first (`term, first, second, difference` and its error; clusters that hold units of both count),
#'   [summarise_did()] averages each, `plot()` shows them side by side. Else a `twin_did`, which is a `twin_effect`.
#'   `tidy()` gives one row per effect: the columns of any effect, `cohort`, `time`, `event_time` (periods since
#'   treatment, NA where they don't apply), `kind` ("post", "pre", or "base", the period others are measured from),
#'   `df`, `n_treated`, `n_comparison`, `reason` (why there is no estimate; NA where there is one) and `reach` (the
#'   share of treated units whose cohorts the row rests on); of outcomes in logs also `percent`, 100 (exp(estimate) -
#'   1), with `percent.error`, `percent.low` and `percent.high`. `glance()` gives one row about all of it. `coef()`,
#'   `vcov()`, `confint()`, `nobs()` as usual; `plot()` shows the cells of each cohort over time (a map of tiles with
#'   more than 12), `plot(view = "paths")` each cohort's mean beside what it would have been. [summarise_did()]
#'   averages cells.
#' @section Errors: `twin_error_input` for settings that do not belong to the estimator, fewer than 2 clusters, no
#'   usable outcome; `twin_error_unsupported` where the estimator can't answer on this panel, with what can. Cells that
#'   can't be estimated stay in the table with their reason. `twin_warning_few_clusters`, `twin_warning_tiny_cohort`,
#'   `twin_warning_no_error` (nothing varies that an error could be measured by) and `twin_warning_cells` say what to
#'   read with care.
#' @references
#' Callaway, B., Sant'Anna, P. H. C. (2021). Difference-in-differences with multiple time periods. Journal of
#' Econometrics 225. \doi{10.1016/j.jeconom.2020.12.001}
#'
#' Sant'Anna, P. H. C., Zhao, J. (2020). Doubly robust difference-in-differences estimators. Journal of Econometrics
#' 219. \doi{10.1016/j.jeconom.2020.06.003}
#'
#' Borusyak, K., Jaravel, X., Spiess, J. (2024). Revisiting event-study designs: robust and efficient estimation. Review
#' of Economic Studies 91. \doi{10.1093/restud/rdae007}
#'
#' Sun, L., Abraham, S. (2021). Estimating dynamic treatment effects in event studies with heterogeneous treatment
#' effects. Journal of Econometrics 225. \doi{10.1016/j.jeconom.2020.09.006}
#'
#' Arkhangelsky, D., Athey, S., Hirshberg, D. A., Imbens, G. W., Wager, S. (2021). Synthetic difference-in-differences.
#' American Economic Review 111. \doi{10.1257/aer.20190159}
#'
#' Abadie, A., Diamond, A., Hainmueller, J. (2010). Synthetic control methods for comparative case studies. Journal of
#' the American Statistical Association 105. \doi{10.1198/jasa.2009.ap08746}
#'
#' Callaway, B., Goodman-Bacon, A., Sant'Anna, P. H. C. (2024). Difference-in-differences with a continuous treatment.
#' NBER working paper 32117. \doi{10.3386/w32117}
#'
#' Ortiz-Villavicencio, M., Sant'Anna, P. H. C. (2025). Better understanding triple differences estimators.
#' arXiv 2505.09942. \doi{10.48550/arXiv.2505.09942}
#'
#' Xu, Y. (2017). Generalized synthetic control method: causal inference with interactive fixed effects models.
#' Political Analysis 25. \doi{10.1017/pan.2016.2}
#'
#' de Chaisemartin, C., D'Haultfoeuille, X. (2024). Difference-in-differences estimators of intertemporal treatment
#' effects. Review of Economics and Statistics. \doi{10.1162/rest_a_01414}
#'
#' Cameron, A. C., Gelbach, J. B., Miller, D. L. (2011). Robust inference with multiway clustering. Journal of Business
#' & Economic Statistics 29. \doi{10.1198/jbes.2010.07136}
#'
#' Conley, T. G. (1999). GMM estimation with cross sectional dependence. Journal of Econometrics 92.
#' \doi{10.1016/S0304-4076(98)00084-0}
#'
#' Cameron, A. C., Gelbach, J. B., Miller, D. L. (2008). Bootstrap-based improvements for inference with clustered
#' errors. Review of Economics and Statistics 90. \doi{10.1162/rest.90.3.414}
#' @family effects
#' @examples
#' panel <- frame_panel(harbours, outcome = "price", time = "quarter", unit = "harbour", treatment = "cold_store")
#' cells <- measure_did(panel)
#' cells
#' summarise_did(cells, over = "event")
#' @export
measure_did <- function(panel, outcome = NULL, estimator = "group_time", adjustment = NULL, comparison = NULL,
                        anticipation = 0, base = NULL, third = NULL, affected = NULL, absorb = NULL, trends = NULL,
                        leads = NULL, lags = NULL, covariates_of = NULL, unseen = NULL,
                        collapse = c("no", "rows", "groups"),
                        inference = c("analytic", "wild", "randomization", "bootstrap"), small_sample = NULL,
                        multiplier = NULL, interval = NULL, level = 0.95, draws = NULL, seed = 1, parallel = NULL,
                        factors = NULL, by = NULL, doses = NULL, knots = NULL, since = NULL,
                        crossed = NULL, near = NULL, reach = NULL) {
  check_class(panel, "twin_panel", "frame_panel")
  if (!is.null(by) || has_arms(panel)) {
    given <- setdiff(names(match.call())[-1L], c("panel", "by"))
    return(measure_several(panel, by, mget(given), rlang::current_env()))
  }
  estimator <- check_choice(estimator, names(did_estimators))
  inference <- fitting_inference(panel, estimator, missing(inference),
                                 check_choice(inference, c("analytic", "wild", "randomization", "bootstrap")), parallel,
                                 factors)
  given <- list(adjustment = adjustment, comparison = comparison, base = base, third = third, affected = affected,
                absorb = absorb, trends = trends, leads = leads, lags = lags,
                covariates_of = covariates_of, unseen = unseen, parallel = parallel, factors = factors,
                doses = doses, knots = knots, since = since,
                crossed = crossed, near = near, reach = reach, small_sample = small_sample,
                multiplier = multiplier, interval = interval, draws = draws)
  asked <- did_settings(panel, estimator, inference, given, anticipation, collapse, level, seed)
  outcome <- panel_outcome(panel, outcome)
  opened <- open_panel(panel, outcome, "measure_did", alone = asked$adjustment == "none")
  log_did(panel, outcome, asked)
  used <- if (collapses(asked)) collapse_panel(opened$panel, opened$y, asked$collapse) else opened
  asked <- settled_factors(used$panel, used$y, asked, rlang::current_env())
  asked <- settled_dose(used$panel, asked, rlang::current_env())
  found <- if (is_remote(panel)) estimate_remote_did(panel, used, asked) else
    estimate_did(used$panel, used$y, asked)
  with_cautions({
    effect <- infer_did(used$panel, used$y, found, asked, outcome)
    warn_did(effect)
    effect
  })
}

# The settings, each checked; those that belong to another estimator or inference are refused.
did_settings <- function(panel, estimator, inference, given, anticipation, collapse, level, seed,
                         call = rlang::caller_env()) {
  entry <- did_estimators[[estimator]]
  of_inference <- switch(inference, wild = c("multiplier", "draws"), randomization = "draws",
                         bootstrap = c("interval", "draws"))
  known <- c(entry$arguments, "crossed", "near", "reach", of_inference)
  if (inference == "bootstrap") known <- setdiff(known, "small_sample")
  stray <- setdiff(names(Filter(Negate(is.null), given)), known)
  if (length(stray) > 0L) {
    abort_input(c("{.arg {stray}} do{?es/} not belong to {.code estimator = \"{estimator}\"} with
                   {.code inference = \"{inference}\"}.", i = "Leave {cli::qty(length(stray))}{?it/them} out."),
                arguments = stray, call = call)
  }
  if (inference == "wild" && !entry$regression) {
    regressions <- names(Filter(function(entry) entry$regression, did_estimators))
    abort_unsupported(c("The wild cluster bootstrap is for regressions: estimator {.val {regressions}}.",
                        i = "With few clusters use {.code inference = \"randomization\"}."), call = call)
  }
  collapse <- check_choice(collapse, c("no", "rows", "groups"), call = call)
  if (is_remote(panel)) refuse_remote_did(panel, inference, given, collapse, call)
  if (is_carried(panel)) refuse_carried(panel, entry, inference, given, collapse, call)
  if (is_switching(panel)) refuse_for_switching(panel, estimator, collapse, call)
  if (is_held(panel)) refuse_for_held(panel, estimator, collapse, call)
  check_count(anticipation, min = 0, call = call)
  if (collapse != "no" && (!entry$collapses || !is.null(given$absorb))) {
    abort_unsupported("Means by group and period know neither sides nor absorbed columns; leave out {.arg collapse}.",
                      call = call)
  }
  check_level(level, call = call)
  check_seed(seed, call = call)
  choose <- function(name, choices, default) {
    if (is.null(given[[name]])) default else check_choice(given[[name]], choices, name, call)
  }
  list(
    estimator = estimator, inference = inference, adjustment = did_adjustment(panel, estimator, given$adjustment, call),
    comparison = panel_comparison(panel, given$comparison, call),
    anticipation = anticipation,
    base = choose("base", c("previous", "fixed"), if (is_switching(panel)) "fixed" else "previous"),
    spread = did_spread(panel, given, inference, entry, collapse, call),
    third = did_third(panel, estimator, given, call), absorb = absorbed_codes(panel, given$absorb, call),
    absorbed = given$absorb, trends = panel_trends(panel, given$trends, given$absorb, call), collapse = collapse,
    leads = did_window(given$leads, "leads", call), lags = did_window(given$lags, "lags", call),
    covariates_of = did_covariates_of(panel, given, call), unseen = did_unseen(panel, given, call),
    doses = did_doses(given, call), knots = did_knots(given, call), since = did_since(given, call),
    parallel = did_parallel(given, call), factors = did_factors(given, call),
    small_sample = choose("small_sample", c("CR1", "CR2", "CR3"), "CR1"),
    multiplier = choose("multiplier", c("rademacher", "webb"), NULL),
    interval = choose("interval", c("percentile", "normal"), if (is.null(given$factors)) "percentile" else "normal"),
    draws = did_draws(given$draws, inference, entry, call, !is.null(given$factors)), level = level, seed = seed
  )
}

# Only regressions in a repeated cross-section have treated of two periods to be averaged over.
did_covariates_of <- function(panel, given, call) {
  if (is.null(given$covariates_of)) return("period")
  chosen <- check_choice(given$covariates_of, c("period", "all"), "covariates_of", call)
  fits <- !panel$repeats && length(panel$columns) > 0L && !isTRUE(given$adjustment %in% c("none", "ipw"))
  if (fits) return(chosen)
  abort_input(c("{.arg covariates_of} is for regression and augmented adjustment in a repeated cross-section.",
                i = "Leave it out."), call = call)
}

did_unseen <- function(panel, given, call) {
  if (is.null(given$unseen)) return("drop")
  chosen <- check_choice(given$unseen, c("drop", "earlier"), "unseen", call)
  adjusts <- length(panel$columns) > 0L && !identical(given$adjustment, "none")
  if (chosen == "drop" || (panel$repeats && !adjusts)) return(chosen)
  abort_unsupported(c("{.code unseen = \"earlier\"} is for panels, without adjustment.",
                      i = "Leave it out, or use {.code adjustment = \"none\"}."), call = call)
}

did_doses <- function(given, call) {
  check_numbers(given$doses, "doses, numbers above 0", 0, open = "low", null = TRUE, most = 100L, arg = "doses",
                call = call)
  given$doses
}

did_knots <- function(given, call) {
  check_count(given$knots, min = 0, null = TRUE, arg = "knots", call = call)
  if (isTRUE(given$knots > 10)) abort_input("{.arg knots} must be at most 10.", call = call)
  given$knots
}

did_since <- function(given, call) {
  since <- given$since
  if (is.null(since)) return(NULL)
  pair <- is.numeric(since) && length(since) == 2L && !anyNA(since)
  if (pair && since[1L] >= 0 && since[1L] <= since[2L]) return(since)
  abort_input(c("{.arg since} must be two numbers of periods since treatment, the first not above the second.",
                x = "It is {describe_value(since)}.", i = "For example c(0, 3)."), call = call)
}

did_parallel <- function(given, call) {
  if (is.null(given$parallel)) return(TRUE)
  check_flag(given$parallel, arg = "parallel", call = call)
  given$parallel
}

# What is ranked among placebos, where there are enough, unless other errors are asked for; a single treated unit has no
# others, and weights that meet levels none that hold them.
fitting_inference <- function(panel, estimator, unasked, inference, parallel, factors, call = rlang::caller_env()) {
  if (!is.null(factors)) {
    if (unasked || inference == "bootstrap") return("bootstrap")
    abort_unsupported(c("Factors that are estimated have errors by drawing clusters anew.",
                        i = "Leave out {.arg inference}, or use {.code inference = \"bootstrap\"}."), call = call)
  }
  if (did_estimators[[estimator]]$lone_errors || is_remote(panel)) return(inference)
  level <- if (is.null(panel$group)) seq_along(panel$cohort) else panel$group
  count_of <- function(inside) length(unique(level[inside[panel$cohort]]))
  count <- count_of(is_treated_cohort(panel))
  if (unasked) {
    few <- count > 1L && count_of(panel$cohorts$position == Inf) < count + 2L
    return(if (!few) "randomization" else if (isFALSE(parallel)) "bootstrap" else "analytic")
  }
  if (inference == "randomization") return(inference)
  if (inference == "analytic" && isFALSE(parallel)) {
    abort_unsupported(c("Weights that meet levels have no error that holds them: differences of level would be in it.",
                        i = "Leave out {.arg inference}, which ranks among placebos, or use {.code inference =
                             \"bootstrap\"}."), call = call)
  }
  if (count > 1L) return(inference)
  what <- if (is.null(panel$group)) panel$roles$unit else panel$roles$group
  abort_input(c("One treated {what} has no standard error: nothing of it varies.",
                i = "Leave out {.arg inference}: it is ranked among placebos, each other {what} in its place."),
              call = call)
}

did_window <- function(count, name, call) {
  check_count(count, min = 0, null = TRUE, arg = name, call = call)
  if (is.null(count)) Inf else count
}

# several: does each draw take a while?
did_draws <- function(draws, inference, entry, call, several = FALSE) {
  check_count(draws, min = 99, null = TRUE, arg = "draws", call = call)
  if (is.null(draws) && (several || (inference == "randomization" && !entry$lone_errors))) return(199)
  if (is.null(draws)) c(analytic = 0, wild = 9999, randomization = 999, bootstrap = 999)[[inference]] else draws
}

did_adjustment <- function(panel, estimator, adjustment, call) {
  entry <- did_estimators[[estimator]]
  entry$refusal(panel, call)
  if (is_remote(panel)) check_remote_adjustment(panel, estimator, adjustment, call)
  panel_adjustment(panel, adjustment, if (is_remote(panel)) entry$remote else entry$adjustments, call)
}

# list(name, side = per unit 1 where affected, -1 elsewhere).
did_third <- function(panel, estimator, given, call) {
  if (!"third" %in% did_estimators[[estimator]]$arguments) return(NULL)
  check_string(given$third, arg = "third", call = call)
  check_columns(given$third, panel$data, "third", call)
  x <- some_rows(panel$data[[given$third]], panel$rows)
  read <- read_treatment(x, given$third, given$affected, rep(TRUE, length(x)), call)
  if (anyNA(read$z)) {
    abort_input("{.arg third} {.val {given$third}} must not be missing; it is in {sum(is.na(read$z))} row{?s}.",
                column = given$third, call = call)
  }
  if (panel$repeats) {
    check_of_units(read$z, panel, given$third, call)
  }
  list(name = given$third, levels = read$levels, side = ifelse(read$z[panel$first_row] == 1L, 1L, -1L))
}

# Every different way of estimating counts as a design in the logbook.
log_did <- function(panel, outcome, asked) {
  settings <- asked[c("adjustment", "comparison", "anticipation", "base", "absorbed", "trends", "factors", "leads",
                      "knots", "since", "collapse", "inference")]
  settings$third <- asked$third$name
  settings$beyond <- asked$spread$names
  log_step(panel, "measure", paste(asked$estimator, "on", outcome), settings = settings, seed = asked$seed,
           design = rlang::hash(list(panel$hash, outcome, asked$estimator, settings)))
}

collapses <- function(asked) asked$collapse != "no"

# Means by group and period, as a panel whose units are the groups; rows without an outcome are left out first. count:
# does each mean count by its "rows", or do "groups" count once?
collapse_panel <- function(panel, y, count = "rows", call = rlang::caller_env()) {
  if (is.null(panel$group)) {
    abort_input(c("{.arg collapse} takes means by group and period; this panel has no groups.",
                  i = "Name {.arg group} in {.fn frame_panel}."), call = call)
  }
  inside <- which(!is.na(y))
  group <- panel$group[panel$unit[inside]]
  cell <- (group - 1L) * nrow(panel$periods) + panel$time[inside]
  cells <- sort(unique(cell))
  code <- match(cell, cells)
  s <- if (is.null(panel$s)) rep(1, length(inside)) else panel$s[inside]
  total <- core_sums_by(s, code)
  mean_of <- function(values) core_sums_by(s * values, code) / total
  x <- if (length(panel$columns) > 0L) covariate_matrix(panel$columns, panel$formula)[inside, , drop = FALSE]
  columns <- lapply(stats::setNames(nm = colnames(x)), function(j) {
    list(kind = "numeric", label = j, levels = NULL, missing = 0L, flag = NULL, values = mean_of(x[, j]))
  })
  of_cell <- (cells - 1L) %/% nrow(panel$periods) + 1L
  groups <- unique(of_cell)
  first <- match(groups, panel$group)
  unit <- match(of_cell, groups)
  out <- amend(
    panel, group = NULL, formula = NULL, s = if (count == "rows") total,
    unit_labels = attr(panel$group, "labels")[groups], unit = unit,
    time = (cells - 1L) %% nrow(panel$periods) + 1L, cohort = panel$cohort[first],
    cluster = structure(panel$cluster[first], name = attr(panel$cluster, "name"),
                        labels = cluster_labels(panel, seq_len(max(panel$cluster)), attr(panel$cluster, "name"))),
    columns = columns,
    varying = if (length(columns) == 0L) character() else columns_over_time(columns, which(!duplicated(unit)), unit),
    rows = panel$rows[inside[match(cells, cell)]], in_order = FALSE,
    repeats = TRUE, first_row = which(!duplicated(unit)),
    dose = if (has_dose(panel)) list(name = panel$dose$name, amount = panel$dose$amount[first])
  )
  if (is_remote(panel)) out <- amend(out, copies = NULL, lost = 0, known = length(unit))
  list(panel = out, y = mean_of(y[inside]))
}

# list(cells or NULL, estimate, source, size, fixed, cluster, notes, ...), see did-estimate.R.
estimate_did <- function(panel, y, asked, call = rlang::caller_env()) {
  if (anyNA(y) && all(is.na(y))) abort_input("The outcome has no values.", call = call)
  found <- did_estimators[[asked$estimator]]$estimate(panel, y, asked, call)
  if (!is_carried(panel) || inherits(found$source, "twin_carried_source")) return(found)
  found$source <- carried_source(panel, found$source)
  found
}

# Estimators whose cells name the units they are compared with.
cell_estimators <- function() names(Filter(function(entry) entry$compares, did_estimators))

refuse_for_held <- function(panel, estimator, collapse, call) {
  if (!estimator %in% cell_estimators()) refuse_held(panel, sprintf("The estimator \"%s\"", estimator), call)
  if (collapse != "no") refuse_held(panel, "Collapsing to groups", call, "Leave out {.arg collapse}.")
}

refuse_for_switching <- function(panel, estimator, collapse, call) {
  able <- cell_estimators()
  if (!estimator %in% able) {
    refuse_switching(panel, sprintf("The estimator \"%s\"", estimator), call,
                     sprintf("Use %s: switchers against units that have not switched so far.",
                             paste(dQuote(able, FALSE), collapse = " or ")))
  }
  if (collapse != "no") refuse_switching(panel, "Collapsing to groups", call, "Leave out {.arg collapse}.")
}

# The bootstrap makes the design anew on each draw; what else draws or counts units anew does not.
refuse_carried <- function(panel, entry, inference, given, collapse, call) {
  if (inference == "bootstrap" && collapse == "no") {
    check_redrawn(panel, call)
  } else if (inference != "analytic" || isTRUE(given$small_sample %in% c("CR2", "CR3")) || collapse != "no") {
    what <- if (inference != "analytic") sprintf("inference = \"%s\"", inference) else if (collapse != "no")
      sprintf("collapse = \"%s\"", collapse) else sprintf("small_sample = \"%s\"", given$small_sample)
    abort_unsupported(c("{.code {what}} does not know that the weights of a design were estimated.",
                        i = "Leave it out: analytic errors account for it, and so do those by {.code \"bootstrap\"}."),
                      call = call)
  }
  if (!panel$carried$by_cohort || entry$compares) return(invisible(panel))
  able <- cell_estimators()
  abort_unsupported(c("A design for each cohort weighs comparisons of cohorts; one regression has one weight per unit.",
                      i = "Use {.code estimator = \"{able}\"}{cli::qty(length(able))}, or carry one design for all
                           cohorts."), call = call)
}

check_redrawn <- function(panel, call) {
  if (!any(vapply(panel$carried$designs, `[[`, NA, "reuses"))) return(invisible(panel))
  abort_unsupported(c("The bootstrap is wrong for matching with replacement (Abadie & Imbens 2008).",
                      i = "Use {.code inference = \"analytic\"}, or carry pairs without replacement, sets or
                           weights."), call = call)
}
