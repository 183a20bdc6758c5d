#' Set effects side by side
#'
#' Collects effects on the same data and the same outcome, whatever their design or estimator, with their joint
#' covariance, and asks whether they agree. Raw comparisons come first. Variances are each effect's own; correlations
#' are those of the influence contributions, summed within the study's clusters, on matched sets, or unit by unit.
#' Beside an effect on pairs with replacement covariances are NA: no influence contributions give them.
#'
#' @param ... Effects from [measure_effect()], [measure_hazard()], or of one number from [measure_did()] and
#'   [summarise_did()], and fits of `lm()` or `glm()` to [design_data()], see [measure_model()]; names become labels. A
#'   `twin_effects` or `twin_dids` counts as the effects in it, which must then be on one outcome. Averages of
#'   [summarise_did()] by event time, cohort or calendar time count as one effect per row under treatment: `glance()`
#'   then tests that effects are the same over event time, or over cohorts.
#' @param term Which term to compare, default `"difference"`.
#' @param truth The true value, where it is known (practice data): one number. Marked in print and plot.
#' @return A `twin_comparison`. `tidy()` gives one row per effect: `label`, `design`, the columns of an effect's
#'   `tidy()`, `ess_treated`, `ess_control`, `worst_smd`, and with a truth also `truth` and `covers` (does the interval
#'   hold it?). `tidy(x, part = "agreement")` compares every two: `first`, `second`, `difference`, `std.error`,
#'   `statistic`, `p.value`, `conf.low`, `conf.high` (ratios as differences of logs). `glance()` gives the joint test
#'   that all effects but raw comparisons agree: `effects`, `statistic`, `df`, `p.value`. `vcov()` gives the joint
#'   covariance, `plot()` the estimates with their intervals.
#' @section Errors: `twin_error_input` when the effects are on different data or outcomes, or lack the term.
#' @family effects
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' scored <- score_units(study)
#' both <- compare_effects(
#'   raw = measure_effect(study),
#'   pairs = measure_effect(pair_units(scored, caliper = 0.2)),
#'   weights = measure_effect(weigh_units(scored))
#' )
#' both
#' tidy(both, part = "agreement")
#' @export
compare_effects <- function(..., term = "difference", truth = NULL) {
  given <- lapply(rlang::list2(...), function(one) if (inherits(one, "lm")) effect_of_fit(one) else one)
  joint <- if (length(given) == 1L && is_averages(given[[1L]])) vcov_of_rows(given[[1L]])
  effects <- single_effects(given)
  check_number(truth, null = TRUE)
  check_string(term)
  check_comparable(effects, term)
  labels <- names(effects)
  unnamed <- !nzchar(labels)
  labels[unnamed] <- vapply(effects[unnamed], function(effect) paste0(effect$design, ": ", effect$estimator), "")
  effects <- stats::setNames(effects, make.unique(labels))
  raw <- vapply(effects, is_unadjusted, NA)
  structure(list(effects = c(effects[raw], effects[!raw]), term = term, truth = truth, joint = joint),
            class = "twin_comparison")
}

# A list with names, in which several effects measured in one call stand one by one.
single_effects <- function(effects) {
  if (is.null(names(effects))) names(effects) <- rep("", length(effects))
  parts <- Map(function(effect, name) {
    several <- inherits(effect, c("twin_effects", "twin_dids"))
    if (!several && !is_averages(effect)) return(stats::setNames(list(effect), name))
    own <- if (several) effect$effects else effects_of_rows(effect)
    if (nzchar(name)) stats::setNames(own, paste(name, names(own), sep = ": ")) else own
  }, unname(effects), names(effects))
  unlist(parts, recursive = FALSE)
}

# Averages by event time, cohort or period, whose rows under treatment are effects to be compared.
is_averages <- function(effect) inherits(effect, "twin_did") && effect$over %in% c("event", "cohort", "calendar")

compared_rows <- function(x) which(x$table$kind == "post" & x$table$term != "average" & !is.na(diag(x$vcov)))

vcov_of_rows <- function(x) {
  rows <- compared_rows(x)
  unname(x$vcov[rows, rows, drop = FALSE])
}

# One effect per row, by its name.
effects_of_rows <- function(x) {
  rows <- compared_rows(x)
  df <- rep_len(x$df, nrow(x$table))
  made <- lapply(rows, function(row) {
    table <- x$table[row, ]
    table$term <- "difference"
    amend_effect(x, table = table, estimate = c(difference = table$estimate),
                 vcov = x$vcov[row, row, drop = FALSE], df = df[row], combine = x$combine[, row, drop = FALSE],
                 shift = if (!is.null(x$shift)) x$shift[, row, drop = FALSE], over = "single", bands = NULL)
  })
  stats::setNames(made, paste0(c(event = "", cohort = "from ", calendar = "in ")[[x$over]], x$table$term[rows]))
}

check_comparable <- function(effects, term, call = rlang::caller_env()) {
  if (length(effects) == 0L) abort_input("{.fn compare_effects} needs at least one effect.", call = call)
  for (effect in effects) check_class(effect, "twin_effect", "measure_effect", "...", call)
  outcomes <- unique(vapply(effects, `[[`, "", "outcome"))
  if (length(outcomes) > 1L) {
    abort_input(c("Effects side by side must be on one outcome.", x = "These are on {.val {outcomes}}."), call = call)
  }
  first <- effects[[1L]]$study
  for (effect in effects[-1L]) {
    same_arms <- identical(effect$study$levels, first$levels) ||
      (!is.null(first$family) && identical(effect$study$family, first$family))
    if (!identical(effect$study$data, first$data) || !identical(effect$study$source$from, first$source$from) ||
          !same_arms) {
      abort_input("Effects side by side must come from the same data and the same treated level.", call = call)
    }
  }
  check_pooled_alike(effects, call)
  check_has_term(effects, term, call)
}

check_has_term <- function(effects, term, call) {
  lacking <- which(!vapply(effects, function(effect) term %in% names(effect$estimate), NA))
  if (length(lacking) > 0L) {
    terms <- names(effects[[lacking[1L]]]$estimate)
    cells <- inherits(effects[[lacking[1L]]], "twin_did") && effects[[lacking[1L]]]$over == "cells"
    abort_input(c("{.arg term} {.val {term}} is not in effect {lacking[1L]}.",
                  x = "It has {.val {utils::head(terms, 4)}}{if (length(terms) > 4) ', ...'}.",
                  i = if (cells) "{.fn summarise_did} makes one number of cells."), call = call)
  }
}

#' @export
tidy.twin_comparison <- function(x, part = c("effects", "agreement"), ...) {
  rlang::check_dots_empty()
  part <- check_choice(part, c("effects", "agreement"))
  if (part == "agreement") return(agreement_rows(x))
  rows <- Map(function(effect, label) {
    row <- generics::tidy(effect)
    data.frame(label = label, design = effect$design, row[row$term == x$term, seq_len(10L)],
               ess_treated = effect$sizes[["treated"]], ess_control = effect$sizes[["control"]],
               worst_smd = effect$worst_smd)
  }, x$effects, names(x$effects))
  table <- do.call(rbind, unname(rows))
  rownames(table) <- NULL
  if (is.null(x$truth)) return(table)
  cbind(table, truth = x$truth, covers = table$conf.low <= x$truth & x$truth <= table$conf.high)
}

#' @export
as.data.frame.twin_comparison <- function(x, ...) generics::tidy(x)

#' @export
vcov.twin_comparison <- function(object, ...) {
  joint <- compared_vcov(object, object$effects)
  dimnames(joint) <- list(names(object$effects), names(object$effects))
  joint
}

# Estimates with their joint covariance and the degrees of freedom to read them with; ratios by their logs, per cents by
# those of their differences.
compared_estimates <- function(x, effects = x$effects) {
  estimate <- vapply(effects, function(effect) effect$estimate[[x$term]], 0)
  joint <- compared_vcov(x, effects)
  scaled <- interval_scale(estimate, 1, rep(term_scale(x$term), length(estimate)))
  joint <- joint * outer(scaled$spread, scaled$spread)
  estimate <- scaled$centre
  list(estimate = estimate, vcov = joint, df = least_df(effects))
}

# Rows of one effect over time have their own joint covariance.
compared_vcov <- function(x, effects) {
  if (!is.null(x$joint)) return(x$joint)
  joint_vcov(effects, rep(list(x$term), length(effects)))
}

agreement_rows <- function(x) {
  if (length(x$effects) < 2L) abort_input("It takes two effects to agree.", call = NULL)
  found <- compared_estimates(x)
  pairs <- utils::combn(length(x$effects), 2L)
  first <- pairs[1L, ]
  second <- pairs[2L, ]
  apart <- diag(found$vcov)[first] + diag(found$vcov)[second]
  variance <- apart - 2 * found$vcov[cbind(first, second)]
  variance[!is.na(variance) & variance < 1e-10 * apart] <- 0  # the same estimate twice
  names <- names(x$effects)
  contrast_rows(data.frame(first = names[first], second = names[second]),
                unname(found$estimate[first] - found$estimate[second]), sqrt(pmax(unname(variance), 0)), found$df,
                x$effects[[1L]]$level)
}

#' @export
glance.twin_comparison <- function(x, ...) {
  rlang::check_dots_empty()
  adjusted <- Filter(Negate(is_unadjusted), x$effects)
  test <- c(statistic = NA_real_, df = NA_real_, p.value = NA_real_)
  if (length(adjusted) > 1L) {
    found <- compared_estimates(x, adjusted)
    test <- core_equality_test(found$estimate, found$vcov, found$df)
  }
  data.frame(effects = length(adjusted), t(test))
}
