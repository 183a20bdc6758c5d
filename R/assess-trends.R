#' Judge the time before treatment
#'
#' Parallel trends can't be tested where they matter, under treatment. What can be looked at is whether cohorts moved
#' like their comparison before it: a joint test of all periods before, with its power, since a test without power finds
#' nothing; effects of placebo dates; a trend of each cohort's own; and the last period before treatment by itself. All
#' use data from before treatment only.
#'
#' @param panel A [panel][frame_panel].
#' @param outcome Name of one of its outcomes; the first by default.
#' @param adjustment,comparison,anticipation As in [measure_did()], for group-time effects.
#' @param slope The violation to give the power for: how much further apart both sides drift each period. By default the
#'   slope that would by itself make the whole average effect.
#' @param placebo How many periods before treatment placebo dates lie; those that leave no period before are dropped.
#' @param level Of intervals; the tests' power is for tests at `1 - level`.
#' @return A `twin_trends`. `tidy()` gives one row per test: `test` ("joint", "placebo", "last period", "cohort slope",
#'   "all slopes"), `at` (periods before treatment, or cohort), `estimate`, `std.error`, `statistic` (t, or Wald), `df`
#'   (numerator, for joint tests), `p.value`, `conf.low`, `conf.high`. `tidy(x, part = "path")` gives the path before
#'   treatment (`event_time, estimate, std.error, conf.low, conf.high`), measured from the last period before it.
#'   `glance()`: `p.value` (joint), `periods`, `slope`, `power`, `detectable` (slope found with 80 per cent power).
#'   `plot()` shows the path beside the slope.
#' @section Errors: `twin_error_unsupported` when no cohort has two periods before treatment.
#' @references Roth, J. (2022). Pretest with caution: event-study estimates after testing for parallel trends. American
#'   Economic Review: Insights 4. \doi{10.1257/aeri.20210236}
#' @family judging
#' @examples
#' panel <- frame_panel(harbours, outcome = "price", time = "quarter", unit = "harbour", treatment = "cold_store")
#' assess_trends(panel)
#' @export
assess_trends <- function(panel, outcome = NULL, adjustment = NULL, comparison = NULL, anticipation = 0, slope = NULL,
                          placebo = 1:3, level = 0.95) {
  check_class(panel, "twin_panel", "frame_panel")
  call <- rlang::current_env()
  check_number(anticipation, min = 0)
  check_number(slope, null = TRUE)
  check_number(level, min = 0, max = 1, open = TRUE)
  if (!is.numeric(placebo) || any(!is.finite(placebo)) || any(placebo < 1 + anticipation)) {
    abort_input("{.arg placebo} must be numbers of periods, each above {.arg anticipation}.")
  }
  outcome <- panel_outcome(panel, outcome)
  settings <- list(adjustment = panel_adjustment(panel, adjustment, cell_adjustments, call), base = "fixed",
                   comparison = panel_comparison(panel, comparison, call), anticipation = round(anticipation))
  y <- panel_values(panel, outcome, "assess_trends")
  log_step(panel, "trends", paste("before treatment, on", outcome), settings = settings)
  found <- panel_group_time(panel, y, settings)
  path <- path_before(panel, found, settings$anticipation)
  if (length(path$event) == 0L) {
    abort_unsupported(c("Nothing can be seen of the time before treatment.",
                        x = "No cohort has two periods before it{if (anticipation > 0) ' and its anticipation'}."))
  }
  if (is.null(slope)) slope <- slope_of_effect(panel, found)
  slopes <- cohort_slopes(panel, found, settings$anticipation)
  tests <- rbind(joint_row("joint", path$estimate, path$vcov, path$df),
                 placebo_rows(panel, y, settings, sort(unique(round(placebo)))),
                 last_period_row(panel, y, settings), slopes)
  tests <- with_limits(tests, path$df, level)
  power <- function(b) trend_power(path, b, 1 - level)
  structure(list(panel = panel, outcome = outcome, settings = settings, tests = tests, path = path, slope = slope,
                 power = power(slope), detectable = detectable_slope(path, power), level = level),
            class = "twin_trends")
}

# Event-time averages of the periods before treatment. away: how many periods each lies from its base.
path_before <- function(panel, found, anticipation) {
  plan <- average_plan(panel, found$cells, "event")
  only <- vapply(plan$sets, function(set) any(found$cells$kind[set] == "pre"), NA) & plan$values < -anticipation
  sets <- lapply(plan$sets[only], function(set) set[found$cells$kind[set] == "pre"])
  averages <- core_average_cells(found$cells$estimate, found$cells$cohort, found$size, sets)
  away <- ifelse(is.na(found$cells$estimate), 0, periods_from_base(panel, found$cells))
  list(event = plan$values[only], estimate = averages$estimate,
       vcov = clustered_vcov(panel, found$source, averages$combine, averages$shift),
       away = drop(crossprod(averages$combine, away)),
       df = clusters_of(panel, found$source) - 1)
}

# Of the units that the source uses.
clusters_of <- function(panel, source) length(unique(panel$cluster[core_units_in_use(source)]))

clustered_vcov <- function(panel, source, combine, shift) {
  core_source_vcov(source, combine, shift, match(panel$cluster, unique(panel$cluster)), clusters_of(panel, source))
}

periods_from_base <- function(panel, cells) panel$periods$position[cells$time] - panel$periods$position[cells$base]

# The average effect divided by the average distance from the base period.
slope_of_effect <- function(panel, found) {
  post <- which(found$cells$kind == "post" & !is.na(found$cells$estimate))
  if (length(post) == 0L) return(NA_real_)
  size <- found$size[found$cells$cohort[post]]
  sum(size * found$cells$estimate[post]) / sum(size * periods_from_base(panel, found$cells)[post])
}

test_row <- function(test, at, estimate, se, df) {
  data.frame(test = test, at = at, estimate = estimate, std.error = se, statistic = estimate / se, df = 1,
             p.value = core_t_p_value(estimate / se, df))
}

joint_row <- function(test, estimate, vcov, df) {
  found <- core_zero_test(estimate, vcov, df)
  data.frame(test = test, at = NA_character_, estimate = NA_real_, std.error = NA_real_,
             statistic = found[["statistic"]], df = found[["df"]], p.value = found[["p.value"]])
}

with_limits <- function(tests, df, level) {
  half <- core_t_quantile(level, df) * tests$std.error
  cbind(tests, conf.low = tests$estimate - half, conf.high = tests$estimate + half)
}

# Treatment moved earlier by `early` periods: cells between the placebo date and the true one.
placebo_rows <- function(panel, y, settings, early) {
  rows <- lapply(early, function(p) {
    cells <- shifted_cells(panel, settings, p)
    one_average(panel, y, settings, cells, "placebo", sprintf("%d %s early", p, if (p == 1) "period" else "periods"))
  })
  do.call(rbind, rows)
}

shifted_cells <- function(panel, settings, early) {
  position <- panel$periods$position
  rows <- lapply(which(is_treated_cohort(panel)), function(h) {
    onset <- panel$cohorts$position[h]
    time <- which(position >= onset - early & position <= onset - 1 - settings$anticipation)
    before <- which(position < onset - early)
    if (length(time) == 0L || length(before) == 0L) return(NULL)
    new_cells(h, time, max(before), position[time] - onset)
  })
  do.call(rbind, rows)
}

new_cells <- function(cohort, time, base, event_time) {
  data.frame(cohort = cohort, time = time, base = base, event_time = event_time, kind = "pre", reason = NA_character_)
}

# The last period before treatment (and anticipation), measured from the one before.
last_period_row <- function(panel, y, settings) {
  position <- panel$periods$position
  rows <- lapply(which(is_treated_cohort(panel)), function(h) {
    onset <- panel$cohorts$position[h]
    before <- which(position <= onset - 1 - settings$anticipation)
    if (length(before) < 2L) return(NULL)
    new_cells(h, max(before), max(before) - 1L, position[max(before)] - onset)
  })
  one_average(panel, y, settings, do.call(rbind, rows), "last period", "anticipation")
}

# One average over cells by size of cohort, as a row; NULL where none can be estimated.
one_average <- function(panel, y, settings, cells, test, at) {
  if (is.null(cells)) return(NULL)
  rownames(cells) <- NULL
  found <- panel_group_time(panel, y, settings, cells)
  set <- which(!is.na(found$cells$estimate))
  if (length(set) == 0L) return(NULL)
  average <- core_average_cells(found$cells$estimate, found$cells$cohort, found$size, list(set))
  variance <- clustered_vcov(panel, found$source, average$combine, average$shift)
  test_row(test, at, average$estimate, sqrt(variance[1L, 1L]), clusters_of(panel, found$source) - 1)
}

# Each cohort's trend against its comparison: the least-squares slope through its cells before treatment, base included.
cohort_slopes <- function(panel, found, anticipation) {
  cells <- found$cells
  away <- periods_from_base(panel, cells)
  of_cohort <- lapply(which(is_treated_cohort(panel)), function(h) {
    at <- which(cells$cohort == h & cells$event_time < -anticipation & !is.na(cells$estimate))
    if (length(at) < 2L) return(NULL)
    centred <- away[at] - mean(away[at])
    combine <- numeric(nrow(cells))
    combine[at] <- centred / sum(centred^2)
    list(cohort = panel$cohorts$label[h], combine = combine)
  })
  of_cohort <- Filter(Negate(is.null), of_cohort)
  if (length(of_cohort) == 0L) return(NULL)
  combine <- vapply(of_cohort, `[[`, numeric(nrow(cells)), "combine")
  estimate <- drop(crossprod(combine, ifelse(is.na(cells$estimate), 0, cells$estimate)))
  vcov <- clustered_vcov(panel, found$source, combine, NULL)
  df <- clusters_of(panel, found$source) - 1
  rows <- test_row("cohort slope", vapply(of_cohort, `[[`, "", "cohort"), estimate, sqrt(diag(vcov)), df)
  if (length(of_cohort) > 1L) rows <- rbind(joint_row("all slopes", estimate, vcov, df), rows)
  rows
}

# Power of the joint test when both sides drift apart by `slope` each period.
trend_power <- function(path, slope, alpha) {
  if (is.na(slope)) return(NA_real_)
  far <- core_zero_test(slope * path$away, path$vcov, path$df)
  core_zero_power(far[["statistic"]], far[["df"]], path$df, alpha)
}

# The slope found with 80 per cent power; the power rises with its size.
detectable_slope <- function(path, power) {
  if (is.na(power(0))) return(NA_real_)
  unit <- 1 / sqrt(core_zero_test(path$away, path$vcov, path$df)[["statistic"]])  # noncentrality 1
  stats::uniroot(function(b) power(b * unit) - 0.8, c(0.1, 100))$root * unit
}

#' @exportS3Method
study_of.twin_trends <- function(x) x$panel # nolint: object_name_linter. An S3 method.

#' @export
tidy.twin_trends <- function(x, part = c("tests", "path"), ...) { # nolint: object_name_linter. broom-style name.
  rlang::check_dots_empty()
  part <- check_choice(part, c("tests", "path"))
  if (part == "tests") return(x$tests)
  se <- sqrt(diag(x$path$vcov))
  half <- core_t_quantile(x$level, x$path$df) * se
  data.frame(event_time = x$path$event, estimate = x$path$estimate, std.error = se, conf.low = x$path$estimate - half,
             conf.high = x$path$estimate + half)
}

#' @export
as.data.frame.twin_trends <- function(x, ...) generics::tidy(x)

#' @export
glance.twin_trends <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(outcome = x$outcome, p.value = x$tests$p.value[1L], periods = length(x$path$event), slope = x$slope,
             power = x$power, detectable = x$detectable)
}
