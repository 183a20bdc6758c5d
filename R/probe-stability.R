#' Probe how the coefficient moves when covariates come in
#'
#' If the covariates that were measured move the coefficient this much and explain this much, what would those do that
#' were not (Oster 2019)? Two regressions are compared: the outcome on the treatment alone, and with the covariates, in
#' the sample before the design (a design that balances the covariates leaves nothing to move). `delta` says how
#' strongly the unobserved select into treatment relative to the observed, `r_max` what R2 the regression would reach
#' with all of them. The answer: the effect adjusted for a given `delta`, and the `delta` that brings it to 0, over a
#' grid of `r_max`.
#'
#' The adjusted effect solves a cubic equation (a quadratic at `delta` 1), which may have several real roots. The verb
#' takes the one nearest to the coefficient with covariates, among those whose bias goes the way the covariates moved
#' it, and says when there are others.
#'
#' @param x An effect (or [several], one by one) of [measure_effect()], or seven numbers with the names `short` and
#'   `short_r2` (coefficient and R2 without covariates), `long` and `long_r2` (with them), `var_outcome`,
#'   `var_treatment` and `var_left` (variance of what the covariates leave of the treatment).
#' @param r_max Maximal R2: above that with covariates, at most 1. By default a grid from there to 1, with 1.3 times
#'   `long_r2` (cut at 1) among its values.
#' @param delta Default 1: as strongly as the observed.
#' @param beta The effect that `delta` is to bring about, default 0.
#' @return A `twin_probe`. `tidy()` gives one row per maximal R2: `r_max`, `delta_needed` (brings the effect to `beta`),
#'   `estimate` (adjusted for `delta`; NA when there is no real root), `roots` (how many real ones), `others` (the other
#'   ones as text). `glance()`: `short`, `short_r2`, `long`, `long_r2`, and `r_max`, `delta_needed` and `estimate` at
#'   the smaller of 1 and 1.3 times `long_r2`.
#' @section Errors: `twin_error_input` for a maximal R2 that is not above `long_r2`, missing numbers, or covariates that
#'   explain nothing; `twin_error_unsupported` for hazard ratios.
#' @references Oster, E. (2019). Unobservable selection and coefficient stability: theory and evidence. Journal of
#'   Business & Economic Statistics 37. \doi{10.1080/07350015.2016.1227711}
#' @family hidden bias
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + past_income + port_size)
#' probe_stability(measure_effect(study, estimator = "regression"))
#' @export
probe_stability <- function(x, r_max = NULL, delta = 1, beta = 0) {
  if (are_effects(x)) return(in_each_part(x$effects, "effect", probe_stability, match.call()))
  if (is_pooled(x)) return(in_each_set(x, probe_stability, match.call()))
  check_number(delta, min = -1000, max = 1000)
  check_number(beta, min = -1e100, max = 1e100)
  about <- list()
  if (inherits(x, c("twin_effect", "twin_effects"))) {
    fit <- effect_regression(x, before = TRUE)
    facts <- core_stability_facts(fit)
    about <- fit$about
  } else {
    facts <- check_stability_numbers(x)
  }
  if (facts[["long_r2"]] - facts[["short_r2"]] < 1e-10) {
    abort_input("The covariates explain nothing of the outcome: there is no movement to read.")
  }
  usual <- min(1, 1.3 * facts[["long_r2"]])
  r_max <- check_r_max(r_max, facts[["long_r2"]], usual)
  row_at <- function(r) stability_row(facts, r, delta, beta)
  rows <- do.call(rbind, lapply(r_max, row_at))
  log_probed(x, "stability")
  new_probe("stability", rows, list(values = facts, delta = delta, beta = beta, usual = row_at(usual), about = about))
}

stability_row <- function(facts, r_max, delta, beta) {
  roots <- core_stability_effects(facts, r_max, delta)
  data.frame(r_max = r_max, delta_needed = core_stability_delta(facts, r_max, beta),
             estimate = if (length(roots) > 0L) roots[1L] else NA_real_, roots = length(roots),
             others = paste(number_text(roots[-1L]), collapse = "; "))
}

check_stability_numbers <- function(x, call = rlang::caller_env()) {
  names <- c("short", "short_r2", "long", "long_r2", "var_outcome", "var_treatment", "var_left")
  refuse_wider_effect(x, call)
  if (!is.numeric(x) || !all(names %in% names(x)) || !all(is.finite(x[names]))) {
    abort_input(c("{.arg x} must be an effect, or finite numbers with the names {.val {names}}."), call = call)
  }
  rising <- c(0, x[["short_r2"]], x[["long_r2"]], 1)
  spread <- c(0, x[["var_left"]], x[["var_treatment"]])
  if (is.unsorted(rising) || is.unsorted(spread) || min(spread[-1L], x[["var_outcome"]]) <= 0) {
    abort_input(c("These numbers can't belong to two regressions of the same data.",
                  i = "R2 lie between 0 and 1 and rise with covariates; {.val var_left} is at most
                       {.val var_treatment}."), call = call)
  }
  x[names]
}

check_r_max <- function(r_max, long_r2, usual, call = rlang::caller_env()) {
  if (is.null(r_max)) return(sort(unique(c(usual, long_r2 + (1 - long_r2) * (1:10) / 10))))
  must <- sprintf("above the R2 with covariates, %s, and at most 1", number_text(long_r2))
  check_numbers(r_max, must, long_r2, 1, "low", arg = "r_max", call = call)
}

#' @export
glance.twin_probe_stability <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(as.list(x$facts$values[c("short", "short_r2", "long", "long_r2")]),
             x$facts$usual[c("r_max", "delta_needed", "estimate")])
}
