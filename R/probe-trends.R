#' Probe an effect over time: what if trends are not parallel?
#'
#' Parallel trends may fail under treatment as they may have failed before it. Two ways of saying by how much (Rambachan
#' & Roth 2023): by `"magnitude"`, from one period to the next both sides drift apart at most `m` times as much as in
#' the worst period before treatment; by `"curvature"`, the slope of the drift changes by at most `m` from period to
#' period, around the slope of the last two periods before treatment. The headline is the `m` at which the conclusion
#' changes.
#'
#' The intervals keep their level for every violation within the bounds. By magnitude they are the union over all
#' periods before treatment of the interval in which that period is the worst; by curvature they add the worst bias to
#' the interval's length. They need not be the shortest.
#'
#' @param x A `twin_did` with cells measured from a fixed base, from [measure_did()]: `base = "fixed"`, or
#'   `estimator = "interaction"`.
#' @param violation `"magnitude"` (default) or `"curvature"`.
#' @param m Grid of bounds, from 0 on. By default 0 to 2 in steps of a quarter for magnitudes, and for curvatures from 0
#'   to twice the point of change.
#' @param at Event times whose effects are averaged; all under treatment by default.
#' @param level Confidence level; that of `x` by default.
#' @return A `twin_probe`. `tidy()` gives one row per bound: `violation, m, estimate, conf.low, conf.high` (estimate:
#'   the middle of the interval; by magnitude the effect as measured). `glance()`: `violation`, `change` (the bound at
#'   which the interval first holds 0: 0 when it does so with parallel trends, infinite when no bound within 1,000
#'   does).
#' @section Errors: `twin_error_input` for effects without cells or with another base, gaps in the path, event times
#'   that are not there; `twin_error_unsupported` without periods before treatment (two for curvature, base included).
#' @references Rambachan, A., Roth, J. (2023). A more credible approach to parallel trends. Review of Economic Studies
#'   90. \doi{10.1093/restud/rdad018}
#' @family hidden bias
#' @examples
#' panel <- frame_panel(harbours, "price", "quarter", unit = "harbour", treatment = "cold_store")
#' probe_trends(measure_did(panel, base = "fixed"))
#' @export
probe_trends <- function(x, violation = c("magnitude", "curvature"), m = NULL, at = NULL, level = x$level) {
  check_class(x, "twin_did", "measure_did")
  violation <- check_choice(violation, c("magnitude", "curvature"))
  check_number(level, min = 0, max = 1, open = TRUE)
  check_bounds(m)
  path <- fixed_path(x, at)
  bound <- trend_bound(path, violation, level)
  change <- bound_at_change(bound)
  if (is.null(m)) m <- default_bounds(violation, change, path)
  limits <- t(vapply(m, bound, numeric(2)))
  rows <- data.frame(violation = violation, m = m, estimate = rowMeans(limits), conf.low = limits[, 1L],
                     conf.high = limits[, 2L])
  if (violation == "magnitude") rows$estimate <- path$effect
  new_probe("trends", rows, list(
    violation = violation, change = change, level = level, at = path$at, effect = path$effect, outcome = x$outcome,
    treatment = treatment_of(x$study), worst = path$worst, periods = sum(path$horizon < 0)
  ))
}

check_bounds <- function(m, call = rlang::caller_env()) {
  if (is.null(m) || (is.numeric(m) && length(m) > 0L && all(is.finite(m)) && all(m >= 0))) return(invisible(m))
  abort_input(c("{.arg m} must be numbers of 0 or more.", x = "It is {.val {m}}."), call = call)
}

# The event path without its base: estimate, vcov, horizon (periods from the base), target (weights), effect, df, at,
# worst (largest step before treatment).
fixed_path <- function(x, at, call = rlang::caller_env()) {
  if (x$over != "cells" || !is_fixed_base(x)) {
    abort_input(c("{.arg x} must be an effect with cells measured from a fixed base.",
                  i = "Use {.code measure_did(..., base = \"fixed\")} without {.fn summarise_did}."), call = call)
  }
  path <- summarise_did(x, over = "event", bands = FALSE)
  use <- path$table$term != "average" & path$table$kind != "base"
  event <- path$table$event_time[use]
  base <- -1 - x$asked$anticipation
  if (!any(event < base)) {
    abort_unsupported(c("Nothing is known of the time before treatment, which the bounds are measured by.",
                        i = "The panel needs at least two periods before it."), call = call)
  }
  after <- event[event >= 0]
  chosen <- if (is.null(at)) after else at
  if (!is.numeric(chosen) || length(chosen) == 0L || !all(chosen %in% after)) {
    abort_input(c("{.arg at} must be event times under treatment.", x = "The path has {.val {after}}."), call = call)
  }
  gaps <- setdiff(seq(min(event), max(event)), c(event, base))
  if (length(gaps) > 0L) {
    abort_input(c("The path must have no gaps.", x = "It lacks event time{?s} {.val {gaps}}."), call = call)
  }
  target <- ifelse(event %in% chosen, 1 / length(chosen), 0)
  estimate <- unname(path$estimate[use])
  steps <- core_path_steps(event - base)
  list(estimate = estimate, vcov = unname(path$vcov[use, use, drop = FALSE]), horizon = event - base, target = target,
       effect = sum(target * estimate), df = x$df, at = chosen, steps = steps, worst = max(abs(steps %*% estimate)))
}

is_fixed_base <- function(x) {
  x$estimator == "interaction" || (x$estimator %in% c("group_time", "triple") && x$asked$base == "fixed")
}

# The interval as a function of the bound m.
trend_bound <- function(path, violation, level) {
  horizon <- pmax(path$horizon, 0)
  kappa <- sum(path$target * horizon)
  if (violation == "magnitude") {
    quantile <- core_t_quantile(level, path$df)
    return(function(m) core_bound_magnitude(path$estimate, path$vcov, path$steps, path$target, kappa, m, quantile))
  }
  carried <- path$target
  last <- which(path$horizon == -1)
  carried[last] <- carried[last] + kappa
  bias <- sum(path$target * horizon * (horizon + 1) / 2)
  function(m) core_bound_curvature(path$estimate, path$vcov, carried, bias, m, level, path$df)
}

# The least bound at which the interval holds 0.
bound_at_change <- function(bound) {
  clear <- function(m) {
    limits <- bound(m)
    max(limits[1L], -limits[2L])
  }
  if (clear(0) <= 0) return(0)
  top <- 1e-3
  while (clear(top) > 0 && top < 1000) top <- 2 * top
  if (top >= 1000) return(Inf)
  stats::uniroot(clear, c(0, top), tol = 1e-10)$root
}

default_bounds <- function(violation, change, path) {
  if (violation == "magnitude") return(seq(0, 2, by = 0.25))
  top <- if (is.finite(change) && change > 0) 2 * change else 2 * path$worst
  seq(0, top, length.out = 9L)
}

#' @export
glance.twin_probe_trends <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(violation = x$facts$violation, change = x$facts$change)
}
