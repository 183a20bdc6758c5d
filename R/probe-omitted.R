#' Probe a regression for an omitted variable
#'
#' How strongly would a confounder that was left out have to be tied to the treatment and to the outcome to change the
#' conclusion? Strength is the share of what the covariates leave that it would explain (partial R2; Cinelli & Hazlett
#' 2020). From an effect the verb runs the linear regression of its outcome on the treatment and the covariates with the
#' design's weights, and prints its coefficient beside the effect, since it is the coefficient that the answer is about.
#'
#' The robustness value is the strength, alike with treatment and outcome, that moves the estimate to 0, or its interval
#' onto 0. As a yardstick every covariate (or group of covariates) stands for a confounder 1, 2, 3 times as strong as
#' itself.
#'
#' A design has taken the covariates' own ties to the treatment away, but not those of a hidden confounder: how strong a
#' covariate is, is read in the sample before the design.
#'
#' Adjusted estimates are exact: a regression with such a confounder added would give them. Intervals follow the
#' regression's own standard error: robust, clustered by the study's clusters or else by matched sets; the classical one
#' from bare numbers. A confounder is taken to widen it as it would the classical one.
#'
#' @param x An effect (or [several], one by one) of [measure_effect()], or a regression's t statistic for the treatment
#'   (with `std_error` its coefficient).
#' @param covariates What stands as yardstick: names of covariates, or a list of groups of them with names, such as
#'   `list(size = c("boat_length", "crew_size"))`; every covariate by default.
#' @param times How many times as strong; default 1 to 3.
#' @param r2_outcome Shares of what is left of the outcome that a worst-case confounder explains; default 1, 0.75 and
#'   0.5.
#' @param level Confidence level, default 0.95.
#' @param towards Does the confounder pull the estimate towards 0 once it is added (`TRUE`, default), or away from it?
#' @param df Residual degrees of freedom, where `x` is a number.
#' @param std_error The coefficient's standard error, where `x` is the coefficient.
#' @return A `twin_probe`. `tidy()` gives one row per covariate or group and multiple: `covariate`, `times`,
#'   `r2_treatment`, `r2_outcome` (partial R2 of such a confounder; NA where none can be that strong, the outcome's cut
#'   at 1), `estimate`, `std.error`, `conf.low`, `conf.high` as adjusted for it. From bare numbers it has no rows.
#'   `glance()`: `estimate`, `std.error`, `df`, `r2` (partial R2 of treatment with outcome), `robustness` (value for the
#'   estimate), `robustness_interval` (for its significance). `tidy(part = "scenarios")`: `r2_outcome` (as asked) and
#'   `r2_treatment`, what the confounder must then explain of the treatment to move the estimate to 0.
#' @section Errors: `twin_error_input` for numbers without degrees of freedom, unknown covariates or shares outside 0 to
#'   1; `twin_error_unsupported` for hazard ratios.
#' @references Cinelli, C., Hazlett, C. (2020). Making sense of sensitivity: extending omitted variable bias. Journal of
#'   the Royal Statistical Society B 82. \doi{10.1111/rssb.12348}
#' @family hidden bias
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + past_income + port_size)
#' effect <- study |> score_units() |> pair_units(caliper = 0.2) |> measure_effect()
#' probe_omitted(effect, covariates = c("past_income", "boat_length"))
#' probe_omitted(4.2, df = 780)
#' @export
probe_omitted <- function(x, covariates = NULL, times = 1:3, r2_outcome = c(1, 0.75, 0.5), towards = TRUE,
                          df = NULL, std_error = NULL, level = 0.95) {
  if (are_effects(x)) return(in_each_part(x$effects, "effect", probe_omitted, match.call()))
  if (is_pooled(x)) return(in_each_set(x, probe_omitted, match.call()))
  check_level(level)
  check_flag(towards)
  check_numbers(r2_outcome, "shares above 0 and at most 1", 0, 1, "low")
  check_numbers(times, "numbers above 0", 0, open = "low")
  if (!inherits(x, c("twin_effect", "twin_effects"))) {
    fit <- bare_regression(x, df, std_error, covariates)
    groups <- list()
  } else {
    if (!is.null(df) || !is.null(std_error)) {
      abort_input("{.arg df} and {.arg std_error} come from the effect; leave them out.")
    }
    fit <- effect_regression(x)
    groups <- covariate_groups(x, covariates, fit)
    before <- effect_regression(x, before = TRUE)
  }
  critical <- core_t_quantile(level, min(fit$clusters_df, fit$df - 1))
  t <- fit$estimate / fit$se
  strengths <- lapply(groups, function(columns) core_group_strength(before, columns))
  rows <- do.call(rbind, Map(function(strength, name) strength_rows(fit, strength, name, times, critical, towards),
                             strengths, names(strengths)))
  nothing <- c(treatment = 0, outcome = 0)
  if (is.null(rows)) rows <- strength_rows(fit, nothing, character(), numeric(), critical, towards)
  log_probed(x, "omitted")
  new_probe("omitted", rows, list(
    fit = fit[c("estimate", "se", "df", "inflation")], critical = critical, level = level, towards = towards,
    r2 = core_partial_r2(t, fit$df), robustness = core_robustness_value(t, fit$df),
    robustness_interval = core_robustness_value(t, fit$df, critical, fit$inflation), about = fit$about,
    strengths = strengths
  ), list(scenarios = data.frame(r2_outcome = r2_outcome, r2_treatment = core_treatment_needed(t, fit$df, r2_outcome))))
}

# times: multiples; a row for each.
strength_rows <- function(fit, strength, name, times, critical, towards) {
  at <- core_times_as_strong(strength, times)
  adjusted <- core_adjusted_estimate(fit$estimate, fit$se, fit$df, at$treatment, at$outcome, towards, fit$inflation)
  data.frame(
    covariate = rep(name, length(times)), times = times, r2_treatment = at$treatment, r2_outcome = at$outcome,
    estimate = adjusted$estimate, std.error = adjusted$se, conf.low = adjusted$estimate - critical * adjusted$se,
    conf.high = adjusted$estimate + critical * adjusted$se
  )
}

# The linear regression behind an effect: list as core_treatment_regression() makes it, with names (of the
# columns), inflation (robust over classical standard error), clusters_df and about (for prints). before: in the sample
# before the design, with sampling weights alone.
effect_regression <- function(x, before = FALSE, call = rlang::caller_env()) {
  check_designed_effect(x, call, remote = TRUE)
  if (is_remote(study_of(x))) {
    fit <- remote_treatment_fit(x, before, call)
    check_regression_fit(x, fit, call)
    fit$about <- if (before) list(outcome = x$outcome) else regression_about(x, fit$terms, fit$by)
    return(fit)
  }
  if (inherits(x, "twin_hazard")) {
    abort_unsupported(c("A hazard ratio has no partial R2.", i = "Use {.fn probe_ratio}."), call = call)
  }
  block <- x$source$block
  design <- if (before) study_of(block$x) else block$x
  study <- study_of(design)
  units <- effect_units(design, block$y, block$inside, block$outcome)
  v <- unit_sampling(design, units) * units$w
  terms <- model_terms(study, outcome_formula(x$source$asked, block), call)
  matrix <- terms_matrix(study, terms)[units$rows, , drop = FALSE]
  fit <- core_treatment_regression(units$y, as.double(units$z), matrix, v)
  check_regression_fit(x, fit, call)
  if (before) return(c(fit, list(about = list(outcome = x$outcome))))
  robust <- regression_vcov(x, cbind(fit$influence), units$rows, v > 0)
  fit$inflation <- sqrt(robust$vcov[1L]) / fit$se
  fit$clusters_df <- if (length(x$clusters) > 0L) robust$clusters - 1 else Inf
  fit$names <- colnames(matrix)
  fit$about <- regression_about(x, terms, regression_words(x))
  fit
}

check_regression_fit <- function(x, fit, call) {
  if (fit$df >= 3 && is.finite(fit$se) && fit$se > 0) return(invisible(fit))
  abort_input(c("The regression of {.val {x$outcome}} can't be probed: {fit$df} degrees of freedom, standard error
                 {number_text(fit$se)}."), call = call)
}

regression_about <- function(x, terms, by) {
  list(outcome = x$outcome, design = x$design, effect = main_row(x)$estimate, estimator = x$estimator,
       covariates = names(terms$columns), by = by)
}

# By the effect's clusters, one way or two, else by matched sets, else by unit.
regression_vcov <- function(x, influence, rows, used) {
  codes <- lapply(x$clusters, function(code) code[rows])
  if (length(codes) == 2L) return(core_vcov_two_way(influence, codes[[1L]], codes[[2L]], used))
  own <- if (length(codes) == 1L) codes[[1L]] else x$sets[rows]
  if (!is.null(own)) own <- ifelse(is.na(own), -seq_along(own), own)
  core_vcov(influence, own, used = used)
}

regression_words <- function(x) {
  if (length(x$clusters) > 0L) return(c("clustered", "clustered two ways")[[length(x$clusters)]])
  if (!is.null(x$sets)) "clustered by matched set" else "robust"
}

bare_regression <- function(x, df, std_error, covariates, call = rlang::caller_env()) {
  refuse_wider_effect(x, call)
  check_number(x, call = call)
  if (is.null(df)) {
    abort_input(c("A bare number needs {.arg df}, the residual degrees of freedom of its regression.",
                  i = "They are the rows less the coefficients."), call = call)
  }
  check_number(df, min = 2, call = call)
  check_number(std_error, min = 0, open = TRUE, null = TRUE, call = call)
  if (!is.null(covariates)) abort_input("{.arg covariates} need an effect: a bare number has none.", call = call)
  if (x == 0) abort_input("An estimate of 0 leaves nothing to explain away.", call = call)
  list(estimate = x, se = if (is.null(std_error)) 1 else std_error, df = df, inflation = 1, clusters_df = Inf,
       about = list(bare = if (is.null(std_error)) "t" else "coefficient"))
}

# Named list of places in the regression's matrix.
covariate_groups <- function(x, covariates, fit, call = rlang::caller_env()) {
  known <- fit$about$covariates
  if (is.null(covariates)) covariates <- known
  if (length(covariates) == 0L) as_given(covariates, call = call)
  if (!is.list(covariates) && !is.character(covariates)) covariates <- list(covariates)  # told below
  groups <- if (is.list(covariates)) covariates else stats::setNames(as.list(covariates), covariates)
  if (!is_named_list(groups) || !all(vapply(groups, is.character, NA))) {
    abort_input(c("{.arg covariates} must be names of covariates, or a list of such names with a name for each group.",
                  i = "For example {.code list(size = c(\"boat_length\", \"crew_size\"))}."), call = call)
  }
  unknown <- setdiff(unlist(groups), known)
  if (length(unknown) > 0L) {
    near <- nearest_name(unknown[1L], known)
    abort_input(c("{.arg covariates} must be covariates of the regression.", x = "Not among them: {.val {unknown}}.",
                  i = if (is.null(near)) "They are {.val {known}}." else "Did you mean {.val {near}}?"),
                unknown = unknown, call = call)
  }
  places <- column_places(fit$names, known)
  lapply(groups, function(names) unlist(places[names]))
}

# Which columns of a model matrix belong to a covariate: its own name, a level of it, or any term it takes part in.
column_places <- function(columns, known) {
  words <- lapply(columns, function(column) {
    if (column %in% known) return(column)
    stem <- known[vapply(known, function(name) startsWith(column, paste0(name, ": ")), NA)]
    if (length(stem) > 0L) return(stem)
    bare <- gsub(": [^:]*", "", column)
    tryCatch(intersect(known, all.vars(str2lang(bare))), error = function(e) {
      known[vapply(known, function(name) grepl(name, column, fixed = TRUE), NA)]
    })
  })
  lapply(stats::setNames(nm = known), function(name) which(vapply(words, function(word) name %in% word, NA)))
}

#' @export
glance.twin_probe_omitted <- function(x, ...) {
  rlang::check_dots_empty()
  fit <- x$facts$fit
  data.frame(estimate = fit$estimate, std.error = fit$se * fit$inflation, df = fit$df, r2 = x$facts$r2,
             robustness = x$facts$robustness, robustness_interval = x$facts$robustness_interval)
}
