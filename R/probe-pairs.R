#' Probe an effect on pairs for hidden bias
#'
#' Asks how strongly a hidden confounder would have to tilt the odds of treatment within pairs to change the conclusion
#' (METHODS, "Sensitivity"; Rosenbaum 2002). At each gamma the verb gives the least and the greatest one-sided p-value
#' of the signed-rank test, and the range of Hodges-Lehmann estimates and of their interval limits. Zero differences
#' are dropped from the test, tied ones share their average rank. When all non-zero differences have one size (0/1
#' outcomes) the test is McNemar's, with exact binomial p-values, and no shift is estimated.
#'
#' @param x An effect on pairs, or a numeric vector of pair differences (treated minus control).
#' @param gamma Hidden-bias odds, each at least 1; default 1 to 3 by 0.1.
#' @param side Which way the effect is claimed to go: `"observed"` (default; that of the estimate, said in the print),
#'   `"greater"` (treated higher) or `"less"`.
#' @param exact Use the exact distribution of the signed-rank statistic? By default up to 50 pairs. Limits of the
#'   interval use the normal approximation in either case.
#' @param level Confidence level; 1 - level is also the significance level of the verdict. Default 0.95.
#' @return A `twin_probe`. `tidy()` gives one row per gamma: `gamma`, `p_low`, `p_high`, `estimate_low`,
#'   `estimate_high`, `conf_low`, `conf_high`. `glance()` gives `pairs`, `zeros`, `side` and `gamma_change`: the
#'   largest gamma at which the greatest p-value is still at most 1 - level, found by root-finding (NA when even
#'   gamma = 1 does not reach it).
#' @section Errors: `twin_error_input` for a gamma below 1, an effect without pairs, no pairs, or all-zero differences.
#'   Sampling weights have no place in this test: when the study has them the warning is `twin_warning_unweighted`.
#' @references Rosenbaum, P. R. (2002). Observational Studies, 2nd ed. Springer. \doi{10.1007/978-1-4757-3692-2}
#' @family hidden bias
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + past_income + port_size)
#' effect <- study |> score_units() |> pair_units(caliper = 0.2) |> measure_effect()
#' probe_pairs(effect, gamma = seq(1, 3, by = 0.25))
#' @export
probe_pairs <- function(x, gamma = seq(1, 3, by = 0.1), side = c("observed", "greater", "less"), exact = NULL,
                        level = 0.95) {
  side <- check_choice(side, c("observed", "greater", "less"))
  check_number(level, min = 0, max = 1, open = TRUE)
  check_gamma(gamma)
  d <- pair_difference_values(x)
  if (!is.null(exact)) check_flag(exact)
  centre <- core_walsh_at(sort(d), length(d) * (length(d) + 1) / 4)
  direction <- if (side == "observed") if (observed_direction(d, centre) < 0) "less" else "greater" else side
  test <- signed_rank_test(if (direction == "less") -d else d, exact)
  p <- vapply(gamma, test$bounds, numeric(2))
  rows <- data.frame(gamma = gamma, p_low = p["p_low", ], p_high = p["p_high", ])
  rows <- cbind(rows, shift_rows(d, gamma, level, test$form))
  new_probe("pairs", rows, list(
    pairs = length(d), zeros = sum(d == 0), side = direction, side_chosen = side, form = test$form,
    exact = test$exact, level = level, gamma_change = gamma_at_change(test$bounds, 1 - level),
    effect = if (inherits(x, "twin_effect")) list(outcome = x$outcome, tidy = generics::tidy(x), design = x$design)
  ))
}

new_probe <- function(kind, rows, facts) {
  stopifnot(is.data.frame(rows), is.list(facts))
  rownames(rows) <- NULL
  structure(list(rows = rows, facts = facts), class = c(paste0("twin_probe_", kind), "twin_probe"))
}

# list(bounds = function(gamma) c(p_low, p_high), form, exact) for differences whose claimed direction is up.
signed_rank_test <- function(d, exact) {
  ranks <- core_signed_ranks(d)
  if (length(unique(abs(d[d != 0]))) == 1L) {
    positive <- sum(d > 0)
    return(list(bounds = function(gamma) core_sign_bounds(positive, ranks$pairs, gamma), form = "mcnemar",
                exact = TRUE))
  }
  if (is.null(exact)) exact <- ranks$pairs <= 50L
  list(bounds = function(gamma) core_signed_rank_bounds(ranks, gamma, exact), form = "signed_rank", exact = exact)
}

observed_direction <- function(d, centre) if (centre != 0) sign(centre) else sum(sign(d))

shift_rows <- function(d, gamma, level, form) {
  names <- c("estimate_low", "estimate_high", "conf_low", "conf_high")
  if (form == "mcnemar") {
    empty <- matrix(NA_real_, length(gamma), 4L, dimnames = list(NULL, names))
    return(as.data.frame(empty))
  }
  sorted <- sort(d)
  as.data.frame(t(vapply(gamma, function(g) core_shift_bounds(sorted, g, level), numeric(4))))
}

# The greatest p-value rises with gamma, so the change has one root.
gamma_at_change <- function(bounds, alpha) {
  excess <- function(gamma) bounds(gamma)[["p_high"]] - alpha
  if (excess(1) > 0) return(NA_real_)
  top <- 2
  while (excess(top) < 0 && top < 1e6) top <- top * 2
  if (top >= 1e6) return(Inf)
  stats::uniroot(excess, c(1, top), tol = 1e-8)$root
}

pair_difference_values <- function(x, call = rlang::caller_env()) {
  if (inherits(x, "twin_effect")) {
    if (is.null(x$pairs)) {
      abort_input(c("{.arg x} must be an effect on pairs of one treated and one control unit, nobody twice.",
                    x = "It was measured on: {x$design}.", i = "Use {.fn probe_ratio} for other designs."), call = call)
    }
    if (!is.null(x$study$s)) {
      warn_kind("unweighted", c("The signed-rank test takes every pair alike: sampling weights are not used here."))
    }
    d <- x$pairs$difference
  } else {
    d <- x
  }
  if (!is.numeric(d) || length(d) == 0L || any(!is.finite(d))) {
    abort_input("{.arg x} must be an effect on pairs, or finite pair differences (treated minus control).",
                call = call)
  }
  if (all(d == 0)) {
    abort_input(c("All {length(d)} pair difference{?s} {?is/are} 0.", i = "There is no effect to overturn."),
                call = call)
  }
  as.double(d)
}

check_gamma <- function(gamma, call = rlang::caller_env()) {
  if (is.numeric(gamma) && length(gamma) > 0L && all(is.finite(gamma)) && all(gamma >= 1)) return(invisible(gamma))
  abort_input(c(
    "{.arg gamma} must be numbers of at least 1.",
    x = "It is {.val {gamma}}.",
    i = "Gamma 1 means no hidden bias; 2 means a hidden confounder may double the odds of treatment within a pair."
  ), call = call)
}

#' @export
tidy.twin_probe <- function(x, ...) {
  rlang::check_dots_empty()
  x$rows
}

#' @export
as.data.frame.twin_probe <- function(x, ...) x$rows

#' @export
glance.twin_probe_pairs <- function(x, ...) {
  rlang::check_dots_empty()
  as.data.frame(x$facts[c("pairs", "zeros", "side", "form", "exact", "gamma_change")])
}
