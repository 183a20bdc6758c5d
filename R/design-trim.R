#' Trim units whose score has no counterpart
#'
#' Leaves out units by their propensity score ([Methods, "Overlap and
#' trimming"](../doc/methods.html#overlap-and-trimming)). The effect then is that of the units that are left, and every
#' later print says so. Truncating weights is a different act; see [weigh_units()].
#'
#' @param x A `twin_design` with a score, without pairs, weights or strata. Of a scored `twin_arms` of [frame_arms()]
#'   units stay whose chances of all arms are in range, whatever the estimand: where every arm reaches
#'   (`"common_support"`, `"quantile"`), from `bounds[1]` to `bounds[2]` (`"range"`), or whose sum of 1 / chance is at
#'   most twice the mean of those kept (`"least_variance"`; Yang et al. 2016).
#' @param rule * `"least_variance"` (default; Crump, Hotz, Imbens & Mitnik 2009): keep scores in \[a, 1 - a\], the range
#'     in which the effect can be estimated most precisely. No unit falls off where overlap is good.
#'   * `"common_support"`: keep scores within the range of both arms; for the ATT within the range of the controls', for
#'     the ATC within that of the treated.
#'   * `"quantile"`: from the larger of the arms' `bounds` quantiles to the smaller of their 1 - `bounds` quantiles.
#'   * `"range"`: keep scores from `bounds[1]` to `bounds[2]`.
#' @param bounds For `"quantile"` one share below 0.5, default 0.01; for `"range"` two numbers, default `c(0.1, 0.9)`.
#'   Ends are kept.
#' @param rescore Fit the score again, as before, to the units that are left? Default `FALSE`.
#' @return A `twin_design`. Its print gives the units that fell off by arm, and in words whom the effect is now about;
#'   `tidy(x, part = "trimming")` gives `rule`, `low`, `high` (the scores kept) and how many `treated` and `control`
#'   units fell off, `tidy(x, part = "unmatched")` their rows.
#' @section Errors: `twin_error_input` without a score, for bounds that do not fit the rule, or when fewer than 2
#'   units of an arm are left; `twin_error_unsupported` on a design that has pairs, weights or strata, and for
#'   `rescore` with a score column.
#' @references Crump, R. K., Hotz, V. J., Imbens, G. W., Mitnik, O. A. (2009). Dealing with limited overlap in
#'   estimation of average treatment effects. Biometrika 96. \doi{10.1093/biomet/asn055}
#'
#'   Yang, S., Imbens, G. W., Cui, Z., Faries, D. E., Kadziola, Z. (2016). Propensity score matching and
#'   subclassification in observational studies with multi-level treatments. Biometrics 72. \doi{10.1111/biom.12505}
#' @family design
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income", estimand = "ATE",
#'                      covariates = ~ boat_length + crew_size + past_income)
#' study |> score_units() |> trim_units()
#' study |> score_units() |> trim_units("range", bounds = c(0.05, 0.95), rescore = TRUE)
#' @export
trim_units <- function(x, rule = c("least_variance", "common_support", "quantile", "range"), bounds = NULL,
                       rescore = FALSE) {
  if (is_imputed(x)) return(in_each_set(x, trim_units, match.call()))
  again <- given_arguments(match.call())
  rule <- check_choice(rule, c("least_variance", "common_support", "quantile", "range"))
  check_flag(rescore)
  if (is_arms(x)) {
    return(remember(trim_arms(x, rule, check_trim_bounds(bounds, rule), rescore), x, "trim", again))
  }
  check_score(x, "trim_units", remote = TRUE)
  check_undesigned(x, "trim_units")
  check_rescore(rescore, x)
  study <- study_of(x)
  bounds <- check_trim_bounds(bounds, rule)
  if (is_remote(x)) return(remember(remote_trim(x, rule, bounds, rescore, rlang::current_env()), x, "trim", again))
  e <- x$score$fitted
  s <- kept_weight(x)
  range <- switch(rule,
    least_variance = core_least_variance_bounds(e, s),
    common_support = core_common_support_bounds(e, study$z, s, study$estimand),
    quantile = core_quantile_bounds(e, study$z, s, bounds),
    range = c(low = bounds[1L], high = bounds[2L])
  )
  kept <- design_kept(x) & e >= range[["low"]] & e <= range[["high"]]
  check_trimmed_arms(kept, study, range)
  step <- list(verb = "trim", rule = rule, bounds = bounds, rescore = rescore, range = range,
               label = sprintf("trimmed (%s)", trim_label(rule, range)),
               fallen = vapply(c(treated = 1L, control = 0L),
                               function(arm) sum(design_kept(x) & !kept & study$z == arm), 0L))
  design <- new_design(x, step, kind = "raw", kept = kept, note = trim_note(study, kept, design_kept(x), range))
  log_design(design, "trim", sprintf("fell off: %d treated, %d control", step$fallen[["treated"]],
                                     step$fallen[["control"]]),
             list(rule = rule, low = range[["low"]], high = range[["high"]], rescore = rescore))
  if (rescore) design <- score_design(design, x$score$settings)
  remember(design, x, "trim", again)
}

trim_label <- function(rule, range) {
  words <- c(least_variance = "least variance", common_support = "common support", quantile = "quantile",
             range = "range")
  paste0(words[[rule]], ": ", score_range_text(range[["low"]], range[["high"]]))
}

# Whom the effect speaks of after the cut, in words; nothing when nobody fell off.
trim_note <- function(study, kept, before, range) {
  count <- function(inside, arm) count_text(sum(inside & study$z == arm))
  if (all(kept == before)) return(character())
  sprintf("those with scores from %s, %s of %s treated and %s of %s control units",
          score_range_text(range[["low"]], range[["high"]]), count(kept, 1L), count(before, 1L), count(kept, 0L),
          count(before, 0L))
}

check_rescore <- function(rescore, x, call = rlang::caller_env()) {
  if (!rescore || x$score$settings$source != "column") return(invisible(rescore))
  abort_unsupported(c("A score that came from a column can't be fitted again.",
                      i = "Leave {.arg rescore} out, or fit a score with {.fn score_units}."), call = call)
}

check_trim_bounds <- function(bounds, rule, call = rlang::caller_env()) {
  if (rule %in% c("least_variance", "common_support")) {
    if (is.null(bounds)) return(NULL)
    abort_input("{.arg bounds} has no use with {.code rule = \"{rule}\"}; leave it out.", call = call)
  }
  bounds <- unlist(bounds)
  if (is.null(bounds)) bounds <- if (rule == "quantile") 0.01 else c(0.1, 0.9)
  if (rule == "quantile") check_number(bounds, min = 0, max = 0.5, open = TRUE, call = call)
  if (rule == "range" && !is_score_range(bounds)) {
    abort_input(c("{.arg bounds} must be two numbers between 0 and 1, the smaller first.",
                  x = "It is {describe_value(bounds)}."), call = call)
  }
  bounds
}

is_score_range <- function(x) is.numeric(x) && length(x) == 2L && all(is.finite(x), x >= 0, x <= 1, x[1L] < x[2L])

check_trimmed_arms <- function(kept, study, range, call = rlang::caller_env()) {
  inside <- kept & sampling_weight(study) > 0
  size <- c(treated = sum(inside & study$z == 1L), control = sum(inside & study$z == 0L))
  if (all(size >= 2L)) return(invisible(kept))
  arm <- names(which.min(size))
  abort_input(c(
    "Trimming must leave at least 2 units in each arm.",
    x = "From {score_range_text(range[['low']], range[['high']])} the {arm} arm ({.val {study$levels[[arm]]}}) keeps
         {min(size)}.",
    i = "Look at {.fn assess_overlap}; use wider {.arg bounds} or another rule."
  ), arm = arm, counts = size, call = call)
}
