#' Set effects side by side
#'
#' Collects effects on the same units and the same outcome, whatever their design or estimator, with their joint
#' covariance. Covariances between estimates come from the products of their influence contributions, summed within
#' the study's clusters if it has them; variances are each effect's own. Beside an effect on pairs with replacement
#' covariances are NA: no influence contributions give them.
#'
#' @param ... Effects from [measure_effect()]; names become labels. Put the raw comparison first.
#' @param term Which term to compare, default `"difference"`.
#' @param truth The true value, where it is known (practice data): one number. Marked in print and plot.
#' @return A `twin_comparison`. `tidy()` gives one row per effect: `label`, `design`, the columns of an effect's
#'   `tidy()`, `ess_treated`, `ess_control`, `worst_smd`, and with a truth also `truth` and `covers` (does the interval
#'   hold it?). `vcov()` gives the joint covariance, `plot()` the estimates with their intervals.
#' @section Errors: `twin_error_input` when the effects are on different data or outcomes, or lack the term.
#' @family effects
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' scored <- score_units(study)
#' compare_effects(
#'   raw = measure_effect(study),
#'   pairs = measure_effect(pair_units(scored, caliper = 0.2)),
#'   weights = measure_effect(weigh_units(scored))
#' )
#' @export
compare_effects <- function(..., term = "difference", truth = NULL) {
  effects <- rlang::list2(...)
  check_number(truth, null = TRUE)
  check_string(term)
  check_comparable(effects, term)
  labels <- names(effects)
  if (is.null(labels)) labels <- rep("", length(effects))
  unnamed <- !nzchar(labels)
  labels[unnamed] <- vapply(effects[unnamed], function(effect) paste0(effect$design, ": ", effect$estimator), "")
  structure(list(effects = stats::setNames(effects, make.unique(labels)), term = term, truth = truth),
            class = "twin_comparison")
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
    if (!identical(effect$study$data, first$data) || !same_arms) {
      abort_input("Effects side by side must come from the same data and the same treated level.", call = call)
    }
  }
  lacking <- which(!vapply(effects, function(effect) term %in% names(effect$estimate), NA))
  if (length(lacking) > 0L) {
    abort_input("{.arg term} {.val {term}} is not in effect {lacking[1L]}; it has
                 {.val {names(effects[[lacking[1L]]]$estimate)}}.", call = call)
  }
}

#' @export
tidy.twin_comparison <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- Map(function(effect, label) {
    row <- generics::tidy(effect)
    data.frame(label = label, design = effect$design, row[row$term == x$term, ],
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
  contributions <- vapply(object$effects, row_contributions, numeric(nrow(object$effects[[1L]]$study$data)),
                          term = object$term)
  studies <- lapply(object$effects, `[[`, "study")
  study <- studies[[which.max(vapply(studies, function(study) length(study$rows), 0L))]]
  cluster <- if (!is.null(study$cluster)) spread_codes(study)
  joint <- core_vcov(contributions * nrow(contributions), cluster,
                     used = rowSums(contributions != 0) > 0)$vcov
  reuse <- vapply(object$effects, `[[`, NA, "reuse")
  joint[outer(reuse, reuse, `|`)] <- NA
  diag(joint) <- vapply(object$effects, function(effect) effect$vcov[object$term, object$term], 0)
  joint
}

# Influence / n on all rows of the data, so that effects on different units line up.
row_contributions <- function(effect, term) {
  out <- numeric(nrow(effect$study$data))
  out[effect$study$rows[effect$rows]] <- effect$influence[, term] / length(effect$rows)
  out
}

# Cluster codes on all rows of the data; rows outside the study contribute nothing and share the code 0.
spread_codes <- function(study) {
  out <- integer(nrow(study$data))
  out[study$rows] <- study$cluster
  out
}
