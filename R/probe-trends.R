#' Probe an effect over time: what if trends are not parallel?
#'
#' Parallel trends may fail under treatment as they may have failed before it. Two ways of saying by how much (Rambachan
#' & Roth 2023): by `"magnitude"`, from one period to the next both sides drift apart at most `m` times as much as in
#' the worst period before treatment; by `"curvature"`, the slope of the drift changes by at most `m` from period to
#' period, so that 0 allows for any straight drift. The headline is the `m` at which the conclusion
#' changes.
#'
#' The intervals keep their level for every violation within the bounds. By magnitude an effect is kept when for some
#' worst step before treatment a conditional test of the inequalities that it implies does not reject (Andrews, Roth &
#' Pakes 2023). By curvature the interval is of fixed length: the linear estimator that makes it shortest, whose length
#' allows for its worst bias (Armstrong & Kolesar 2018). Their linear and quadratic programmes are solved by the
#' packages Rglpk and quadprog. `interval = "direct"` needs neither: by magnitude the union over all periods before
#' treatment of the interval in which that period is the worst, by curvature the last slope before treatment carried on
#' with its worst bias added. With few clusters the path's covariance is widened until normal quantiles give those of t.
#'
#' @param x A `twin_did` with cells, from [measure_did()], or their average over all or by event time, from
#'   [summarise_did()]. Group-time effects measured from the previous period are measured again from a fixed base, which
#'   leaves those under treatment as they are; imputation needs two periods or more that it holds out (`leads`), and is
#'   then measured from the last of them; single regressions have no such cells.
#' @param violation `"magnitude"` (default) or `"curvature"`.
#' @param m Grid of bounds, from 0 on. By default 0 to 2 in steps of a quarter for magnitudes, and for curvatures from 0
#'   to twice the point of change.
#' @param at Event times whose effects are combined; all under treatment (and in the window of `x`) by default.
#' @param contrast Their weights, such as `c(-1, 1)` for how the effect changes between two event times; by default a
#'   plain mean, and for `summarise_did(over = "all")` the shares that give its estimate, taken as given.
#' @param level Confidence level; that of `x` by default.
#' @param cohort Label of a treated cohort: bounds for its effects alone, by its own time before treatment.
#' @param interval `"shortest"` (default: conditional by magnitude, of fixed length by curvature) or `"direct"`.
#' @return A `twin_probe`. `plot()` shows the interval by bound, `plot(view = "path")` the event path with the bounds
#'   drawn on it; `tidy(part = "path")` holds these: the path's own intervals (`m` NA) and, after treatment, those of
#'   each effect by itself for every `m`, by the direct way. `tidy()` gives one row per bound: `violation, m, estimate,
#'   conf.low, conf.high, refuted`
#'   (estimate: the effect as measured by magnitude, the middle of the interval by curvature; refuted: does the time
#'   before treatment itself bend by more than m? NA by magnitude). `glance()`: `violation`, `interval`,
#'   `change` (the bound at which the interval first holds 0: 0 when it does so with parallel trends, infinite when no
#'   bound within 1,000 does).
#' @section Errors: `twin_error_input` for effects without cells that a fixed base could measure, gaps in the path,
#'   event times that are not there, weights that do not fit them; `twin_error_unsupported` without periods before
#'   treatment (two for curvature, base included), or without the packages.
#' @references Andrews, I., Roth, J., Pakes, A. (2023). Inference for linear conditional moment inequalities. Review of
#'   Economic Studies 90. \doi{10.1093/restud/rdad004}
#'
#'   Armstrong, T. B., Kolesar, M. (2018). Optimal inference in a class of regression models. Econometrica 86.
#'   \doi{10.3982/ECTA14434}
#'
#'   Rambachan, A., Roth, J. (2023). A more credible approach to parallel trends. Review of Economic Studies
#'   90. \doi{10.1093/restud/rdad018}
#' @family hidden bias
#' @examples
#' panel <- frame_panel(harbours, outcome = "price", time = "quarter", unit = "harbour", treatment = "cold_store")
#' cells <- measure_did(panel, base = "fixed")
#' probe_trends(cells, m = c(0, 0.5, 1), at = 0:3, interval = "direct")
#' @export
probe_trends <- function(x, violation = c("magnitude", "curvature"), m = NULL, at = NULL, contrast = NULL,
                         level = x$level, interval = c("shortest", "direct"), cohort = NULL) {
  check_class(x, "twin_did", "measure_did")
  violation <- check_choice(violation, c("magnitude", "curvature"))
  interval <- check_choice(interval, c("shortest", "direct"))
  check_level(level)
  check_numbers(m, "numbers from 0 to 1,000", 0, 1000, null = TRUE)
  path <- fixed_path(x, at, contrast, cohort)
  bound <- trend_bound(path, violation, level, interval)
  change <- bound_at_change(bound)
  if (is.null(m)) m <- default_bounds(violation, change, path)
  limits <- do.call(rbind, run_pieces("Intervals", m, bound$limits))
  rows <- data.frame(violation = violation, m = m, estimate = rowMeans(limits), conf.low = limits[, 1L],
                     conf.high = limits[, 2L])
  if (violation == "magnitude") rows$estimate <- path$effect
  least <- if (violation == "curvature") core_least_curvature(path, level) else NULL
  rows$refuted <- if (violation == "curvature") m < least else NA
  log_probed(x, "trends")
  new_probe("trends", rows, list(
    violation = violation, interval = interval, change = change, level = level, at = path$at, contrast = contrast,
    weighing = path$weighing, effect = path$effect, outcome = x$outcome, treatment = treatment_of(x$study),
    worst = path$worst,
    periods = sum(path$horizon < 0), least = least
  ), list(path = path_bounds(path, m, violation, level)))
}

# The event path with, after treatment, the bounds of each effect by itself for every m, in the direct way.
path_bounds <- function(path, m, violation, level) {
  quantile <- core_t_quantile(level, path$own_df)
  se <- sqrt(diag(path$vcov))
  known <- data.frame(event_time = path$event, m = NA_real_, estimate = path$estimate,
                      conf.low = path$estimate - quantile * se, conf.high = path$estimate + quantile * se)
  after <- which(path$event >= 0)
  bounds <- lapply(after, function(k) {
    own <- path
    own$target <- as.double(seq_along(path$event) == k)
    limits <- vapply(m, function(m) {
      if (violation == "magnitude") core_bound_magnitude(own, m, quantile[k]) else
        core_carried_slope(own, m, level, path$own_df[k])
    }, c(0, 0))
    data.frame(event_time = path$event[k], m = m, estimate = path$estimate[k], conf.low = limits[1L, ],
               conf.high = limits[2L, ])
  })
  out <- rbind(known, do.call(rbind, bounds))
  rownames(out) <- NULL
  out
}

# The event path without its base: estimate, vcov, horizon (periods from the base), target (weights), effect, df, at,
# weighing (what the weights are: "mean", "size" or "contrast"), worst (largest step before treatment).
fixed_path <- function(x, at, contrast, cohort = NULL, call = rlang::caller_env()) {
  if (isTRUE(x$asked$normalise)) {
    abort_unsupported(c("Drifts are measured in the outcome, and these effects are per unit of treatment.",
                        i = "Give {.fn probe_trends} the effects without {.code normalise = TRUE}."), call = call)
  }
  x <- one_cohort(with_fixed_base(x, call), cohort, call)
  path <- event_path(x)
  if (held_out(x$asked) > 0) path <- from_last_held(path)
  use <- path$table$term != "average" & path$table$kind != "base"
  event <- path$table$event_time[use]
  base <- -1 - x$asked$anticipation
  if (!any(event < base)) {
    abort_unsupported(c("Nothing is known of the time before treatment, which the bounds are measured by.",
                        i = "The panel needs at least two periods before it."), call = call)
  }
  after <- event[event >= 0]
  chosen <- if (is.null(at)) within_window(after, x$asked$window) else at
  if (!is.numeric(chosen) || length(chosen) == 0L || !all(chosen %in% after)) {
    abort_input(c("{.arg at} must be event times under treatment.", x = "The path has {.val {after}}."), call = call)
  }
  gaps <- setdiff(seq(min(event), max(event)), c(event, base))
  if (length(gaps) > 0L) {
    abort_input(c("The path must have no gaps.", x = "It lacks event time{?s} {.val {gaps}}."), call = call)
  }
  check_contrast(contrast, chosen, call)
  by_size <- is.null(contrast) && is.null(at) && x$over == "all"
  if (by_size) contrast <- event_sizes(x, chosen)
  target <- numeric(length(event))
  target[match(chosen, event)] <- if (is.null(contrast)) 1 / length(chosen) else contrast
  estimate <- unname(path$estimate[use])
  steps <- core_path_steps(event - base)
  list(estimate = estimate, vcov = unname(path$vcov[use, use, drop = FALSE]), horizon = event - base, target = target,
       event = event, own_df = rep_len(path$df, length(use))[use],
       effect = sum(target * estimate), df = target_df(path, use, target), at = chosen, steps = steps,
       weighing = if (by_size) "size" else if (is.null(contrast)) "mean" else "contrast",
       worst = max(abs(steps %*% estimate)))
}

# The same cells measured from a fixed base; what is under treatment stays what it is.
with_fixed_base <- function(x, call) {
  if (!x$over %in% c("cells", "all", "event") || is.null(x$cells)) {
    abort_input(c("{.arg x} must be an effect with cells, or their average over all or by event time.",
                  i = if (is.null(x$cells)) "Use an estimator with cells, such as {.val group_time}."
                  else "Use {.code summarise_did(over = \"all\")} or {.code over = \"event\"}."), call = call)
  }
  if (is_fixed_base(x) || held_out(x$asked) > 1) return(x)
  if (!"base" %in% did_estimator_of(x)$arguments || collapses(x$asked)) {
    abort_input(c("{.arg x} must have cells that can be measured from a fixed base.",
                  i = "Use {.code measure_did(base = \"fixed\")}, {.code estimator = \"interaction\"}, or imputation
                       that holds out two periods or more before treatment ({.arg leads})."),
                call = call)
  }
  asked <- utils::modifyList(x$asked, list(base = "fixed", inference = "analytic"))
  y <- panel_values(x$study, x$outcome, "probe_trends")
  again <- suppressWarnings(infer_did(x$study, y, estimate_did(x$study, y, asked), asked, x$outcome))
  amend(again, over = x$over)
}

# The effect with the cells of one treated cohort alone.
one_cohort <- function(x, cohort, call) {
  if (is.null(cohort)) return(x)
  labels <- x$study$cohorts$label[is_treated_cohort(x$study)]
  if (!rlang::is_string(cohort) || !cohort %in% labels || is.null(x$cells)) {
    abort_input(c("{.arg cohort} must be the label of a treated cohort, of an effect with cells.",
                  x = "It is {describe_value(cohort)}.", i = "They are {.val {labels}}."), call = call)
  }
  cells <- x$cells
  cells$reason[x$study$cohorts$label[cells$cohort] != cohort] <- "of another cohort"
  amend(x, cells = cells)
}

# A path of imputation, measured from the last period that was held out: its own distance from the fit is taken off all.
from_last_held <- function(path) {
  last <- which(path$table$event_time == -1 - path$asked$anticipation)
  moved <- path$table$term != "average"
  away <- diag(nrow(path$table))
  away[last, moved] <- away[last, moved] - 1  # columns: what each row becomes
  table <- path$table
  unknown <- is.na(diag(path$vcov))
  vcov <- replace(path$vcov, is.na(path$vcov), 0)
  vcov <- crossprod(away, vcov %*% away)
  vcov[unknown, ] <- NA_real_
  vcov[, unknown] <- NA_real_
  table$estimate <- drop(crossprod(away, ifelse(is.na(table$estimate), 0, table$estimate))) +
    ifelse(is.na(table$estimate), NA_real_, 0)
  table$kind[last] <- "base"
  amend(path, table = table, estimate = stats::setNames(table$estimate, table$term), combine = path$combine %*% away,
        shift = if (!is.null(path$shift)) path$shift %*% away, vcov = vcov)
}

# The path by event time behind cells or their average.
event_path <- function(x) {
  averaged_did(x, average_plan(x$study, x$cells, "event", balanced = x$asked$balanced), "event")
}

within_window <- function(event, window) {
  if (is.null(window)) event else event[event >= window[1L] & event <= window[2L]]
}

# The shares of event times in the average over all cells, which weighs each by the size of its cohort.
event_sizes <- function(x, at) {
  plan <- average_plan(x$study, x$cells, "event", balanced = x$asked$balanced)
  size <- vapply(plan$sets[match(at, plan$values)], function(set) sum(x$size[x$cells$cohort[set]]), 0)
  size / sum(size)
}

# Degrees of freedom of the effect that is bounded, as its own interval has them.
target_df <- function(path, use, target) {
  of_target <- function(columns) columns[, use, drop = FALSE] %*% target
  core_cohort_vcov(path$source, of_target(path$combine), if (!is.null(path$shift)) of_target(path$shift), path$cluster,
                   lending_blocks(path$study, path$source))$df
}

check_contrast <- function(contrast, at, call) {
  if (is.null(contrast)) return(invisible(contrast))
  fits <- is.numeric(contrast) && length(contrast) == length(at) && all(is.finite(contrast)) && any(contrast != 0)
  if (fits && !anyDuplicated(at)) return(invisible(contrast))
  abort_input(c("{.arg contrast} must hold one weight for each event time of {.arg at}, not all 0.",
                x = "There are {length(contrast)} weight{?s} for {length(at)} event time{?s}."), call = call)
}

# list(limits, gap): the interval as a function of the bound m, and how far it is from 0 (at most 0 where it holds it).
trend_bound <- function(path, violation, level, interval, call = rlang::caller_env()) {
  by_limits <- function(limits) {
    list(limits = limits, gap = function(m) {
      ends <- limits(m)
      max(ends[1L], -ends[2L])
    })
  }
  if (violation == "magnitude") {
    quantile <- core_t_quantile(level, path$df)
    direct <- function(m) core_bound_magnitude(path, m, quantile)
    if (interval == "direct") return(by_limits(direct))
    need_solver("Rglpk", call)
    path$vcov <- path$vcov * (quantile / core_t_quantile(level, Inf))^2
    return(list(limits = function(m) conditional_limits(path, m, level, direct(m)), gap = function(m) {
      if (core_keeps_effect(core_magnitude_tests(path, m), 0, level, linear_programme)) -1 else 1
    }))
  }
  if (interval == "direct") return(by_limits(function(m) core_carried_slope(path, m, level, path$df)))
  need_solver("quadprog", call)
  estimators <- core_drift_estimators(path, quadratic_programme)
  by_limits(function(m) core_fixed_length(path, estimators, m, level, path$df))
}

need_solver <- function(package, call) {
  if (rlang::is_installed(package)) return(invisible(package))
  abort_unsupported(c("The shortest interval needs the package {.pkg {package}}.",
                      i = "Install it, or use {.code interval = \"direct\"}."), call = call)
}

# NULL where the programme has no bound or no solution. Thousands of small programmes are solved: a matrix of triplets
# and free variables as differences of two spare the solver's door most of its work.
linear_programme <- function(objective, matrix, sign, rhs, free, max) {
  if (free) {
    objective <- c(objective, -objective)
    matrix <- cbind(matrix, -matrix)
  }
  at <- which(matrix != 0)
  rows <- nrow(matrix)
  triplets <- structure(list(i = (at - 1L) %% rows + 1L, j = (at - 1L) %/% rows + 1L, v = matrix[at], nrow = rows,
                             ncol = ncol(matrix), dimnames = NULL), class = "simple_triplet_matrix")
  found <- Rglpk::Rglpk_solve_LP(objective, triplets, sign, rhs, max = max)
  if (found$status == 0L) list(value = found$optimum, solution = found$solution)
}

quadratic_programme <- function(d, linear, constraint, bound) {
  quadprog::solve.QP(d, linear, constraint, bound, meq = 1L)$solution
}

# Ends of the effects kept; `direct` says how far to look at first.
conditional_limits <- function(path, m, level, direct) {
  tests <- core_magnitude_tests(path, m)
  end <- function(side) core_kept_end(tests, path$effect, side * diff(direct) / 2, 1e-4, level, linear_programme)
  c(end(-1), end(1))
}

# The least bound at which the interval holds 0.
bound_at_change <- function(bound) {
  if (bound$gap(0) <= 0) return(0)
  top <- 1e-3
  while (bound$gap(top) > 0 && top < 1000) top <- 2 * top
  if (top >= 1000) return(Inf)
  core_edge_of(function(m) bound$gap(m) > 0, top / 2 * (top > 1e-3), top, 1e-6 * top)
}

default_bounds <- function(violation, change, path) {
  if (violation == "magnitude") return(seq(0, 2, by = 0.25))
  top <- if (is.finite(change) && change > 0) 2 * change else 2 * path$worst
  seq(0, top, length.out = 9L)
}

#' @export
glance.twin_probe_trends <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(violation = x$facts$violation, interval = x$facts$interval, change = x$facts$change)
}
