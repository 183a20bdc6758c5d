#' Judge the time before treatment
#'
#' Parallel trends can't be tested where they matter, under treatment. What can be looked at is whether cohorts moved
#' like their comparison before it: a joint test of the path before treatment, with its power, since a test without
#' power finds nothing; a drift that all cohorts share; effects of placebo dates; a trend of each cohort's own; and the
#' last period before treatment by itself. All use data from before treatment only.
#'
#' The joint test asks how far the averaged path lies from a level line, measured by what clusters make of nothing,
#' cohort by cohort; its size holds with few clusters and few cohorts
#' ([Methods, "Difference-in-differences"](../doc/methods.html#difference-in-differences)). It rests on the periods that
#' cohorts with at least half of the treated reach. A cohort of one cluster has no variance of its own: it stays out of
#' all tests but its row among the cohorts, which has no error.
#'
#' @param panel A [panel][frame_panel].
#' @param outcome Name of one of its outcomes; the first by default.
#' @param adjustment,comparison,anticipation As in [measure_did()], for group-time effects.
#' @param slope The violation to give the power for: how much further apart both sides drift each period. By default the
#'   slope that would by itself make the whole average effect.
#' @param placebo How many periods before treatment placebo dates lie; those that leave no period before are dropped.
#' @param leads Of the test among untreated rows (Borusyak, Jaravel & Spiess 2024, the one that belongs to imputation):
#'   how many of the last periods before treatment have a term in a regression with unit and period effects, 3 by
#'   default; 0 for no such test. Terms that can't be told from the effects drop out.
#' @param trends,absorb Of the test among untreated rows: lines in time of each `"unit"` or `"group"`, and further
#'   effects, as in [measure_did()] with imputation, whose test it then is.
#' @param level Of intervals; the tests' power is for tests at `1 - level`.
#' @return A `twin_trends`. `tidy()` gives one row per test: `test` ("joint", "common drift", "placebo", "last period",
#'   "leads", "cohort slope"), `at` (periods before treatment, or cohort), `estimate`, `std.error`, `statistic` (F of
#'   the joint test, t of the others), `df` and `df_below` (degrees of freedom above and below in F; of t, 1 and its
#'   own), `p.value`, `conf.low`, `conf.high`. `tidy(x, part = "path")` gives the path before treatment (`event_time,
#'   estimate, std.error, conf.low, conf.high, tested`), measured from the last period before it. `glance()`: `p.value`
#'   (joint), `periods` (tested), `clusters` (how many the test effectively rests on), `slope`, `power`, `detectable`
#'   (slope found with 80 per cent power).
#'   `plot()` shows the path beside the slope.
#' @section Errors: `twin_error_unsupported` when no cohort has two periods before treatment; for panels in a database
#'   whose single units are the clusters, or with adjustment.
#' @references Borusyak, K., Jaravel, X., Spiess, J. (2024). Revisiting event-study designs: robust and efficient
#'   estimation. Review of Economic Studies 91. \doi{10.1093/restud/rdae007}
#'
#'   Roth, J. (2022). Pretest with caution: event-study estimates after testing for parallel trends. American
#'   Economic Review: Insights 4. \doi{10.1257/aeri.20210236}
#' @family judging
#' @examples
#' panel <- frame_panel(harbours, outcome = "price", time = "quarter", unit = "harbour", treatment = "cold_store")
#' assess_trends(panel)
#' @export
assess_trends <- function(panel, outcome = NULL, adjustment = NULL, comparison = NULL, anticipation = 0, slope = NULL,
                          placebo = 1:3, leads = 3, level = 0.95, trends = NULL, absorb = NULL) {
  check_class(panel, "twin_panel", "frame_panel")
  call <- rlang::current_env()
  if (is_remote(panel)) check_remote_trends(panel, adjustment, call)
  check_count(anticipation, min = 0)
  check_number(slope, null = TRUE)
  check_level(level)
  check_count(leads, min = 0)
  if (!is_plain_numbers(placebo) || any(!is.finite(placebo)) || any(placebo < 1 + anticipation | placebo > 1e6)) {
    abort_input(c("{.arg placebo} must be numbers of periods, each above {.arg anticipation}.",
                  x = "It is {describe_value(placebo)}."))
  }
  outcome <- panel_outcome(panel, outcome)
  settings <- list(adjustment = panel_adjustment(panel, adjustment, cell_adjustments, call), base = "fixed",
                   comparison = panel_comparison(panel, comparison, call), anticipation = anticipation,
                   trends = panel_trends(panel, trends, absorb, call), absorb = absorbed_codes(panel, absorb, call))
  opened <- open_panel(panel, outcome, "assess_trends")
  panel <- opened$panel
  y <- opened$y
  log_step(panel, "trends", paste("before treatment, on", outcome),
           settings = utils::modifyList(settings, list(absorb = absorb)))
  settings$without <- lone_cohorts(panel)
  found <- panel_group_time(panel, y, settings)
  path <- path_before(panel, found, settings)
  if (length(path$event) == 0L) {
    alone <- panel$cohorts$label[settings$without]
    abort_unsupported(c("Nothing can be tested of the time before treatment.",
                        x = if (length(alone) > 0L) "{cli::qty(length(alone))}Cohort{?s} {.val {alone}} {?has/each have}
                            a single {attr(panel$cluster, 'name')}, and so no variance of {?its/their} own.",
                        x = "No {if (length(alone) > 0L) 'other '}cohort has two periods before
                             it{if (anticipation > 0) ' and its anticipation'}.",
                        i = if (length(alone) > 0L) "Look at the path itself: {.code summarise_did(over = \"event\")} of
                            an effect with {.code inference = \"randomization\"}."))
  }
  if (is.null(slope)) slope <- slope_of_effect(panel, found)
  tests <- rbind(joint_row(path), drift_row(panel, found, path),
                 placebo_rows(panel, y, settings, sort(unique(round(placebo)))),
                 last_period_row(panel, y, settings), leads_row(panel, y, settings, leads),
                 cohort_slopes(panel, found, settings$anticipation))
  tests <- with_limits(tests, level)
  power <- function(b) trend_power(path, b, 1 - level)
  cautions <- hear_cautions(warn_lone_cohorts(panel, settings$without))$cautions
  structure(list(panel = panel, cautions = cautions, outcome = outcome, settings = settings, tests = tests,
                 path = path, slope = slope, power = power(slope), detectable = detectable_slope(path, power),
                 level = level),
            class = "twin_trends")
}

# The joint test counts how far single clusters stand out, which sums over units don't tell.
check_remote_trends <- function(panel, adjustment, call) {
  if (is_own_remote(panel)) {
    abort_unsupported(c("Tests of trends need clusters of several units, in a database.",
                        x = "Here every {attr(panel$cluster, 'name')} is a cluster of its own.",
                        i = "Name {.arg cluster} or {.arg group} in {.fn frame_panel}; or look at the periods before
                             treatment in {.code summarise_did(over = \"event\")}."), call = call)
  }
  asked <- if (is.null(adjustment) && length(panel$columns) > 0L) "regression" else adjustment
  if (is.null(asked) || asked == "none") return(invisible(panel))
  abort_unsupported(c("Adjusted tests of trends need rows in memory.", i = "Use {.code adjustment = \"none\"}."),
                    call = call)
}

# Treated cohorts in one cluster, by code.
lone_cohorts <- function(panel) {
  inside <- which(unit_copies(panel) > 0)
  cohort <- panel$cohort[inside]
  cluster <- panel$cluster[inside]
  spread <- unique(cohort[cluster != cluster[match(cohort, cohort)]])
  setdiff(which(is_treated_cohort(panel)), spread)
}

warn_lone_cohorts <- function(panel, without) {
  if (length(without) == 0L) return(invisible(panel))
  labels <- panel$cohorts$label[without]
  warn_kind("tiny_cohort", c(
    "{cli::qty(length(labels))}Cohort{?s} {.val {labels}} {?has/each have} a single {attr(panel$cluster, 'name')}, and
     so no variance of {?its/their} own: {?it stays/they stay} out of the tests.",
    i = "Merge cohorts, or look at {cli::qty(length(labels))}{?its path/their paths} with
         {.code measure_did(inference = \"randomization\")}."
  ), cohorts = labels)
}

# Event-time averages of the periods before treatment. away: how many periods each lies from its base; tested: which of
# them the joint test takes; test: see core_profile_test(), NULL where there is nothing to test.
path_before <- function(panel, found, settings) {
  cells <- found$cells
  usable <- cells$kind == "pre" & !is.na(cells$estimate) & !cells$cohort %in% settings$without &
    cells$event_time < -settings$anticipation
  event <- sort(unique(cells$event_time[usable]))
  if (length(event) == 0L) return(list(event = event))
  sets <- lapply(event, function(value) which(usable & cells$event_time == value))
  averages <- core_average_cells(cells$estimate, cells$cohort, found$size, sets)
  away <- ifelse(is.na(cells$estimate), 0, periods_from_base(panel, cells))
  size <- replace(cohort_sizes(panel) * is_treated_cohort(panel), settings$without, 0)
  reach <- vapply(sets, function(set) sum(size[unique(cells$cohort[set])]) / sum(size), 0)
  tested <- reach >= 0.5
  combine <- averages$combine
  own <- cohort_wise(panel, found$source, combine)
  path <- list(event = event, estimate = averages$estimate, vcov = own$vcov, df = own$df,
               away = drop(crossprod(combine, away)), combine = combine, tested = tested)
  if (any(tested)) {
    path$test <- core_profile_test(found$source, combine[, tested, drop = FALSE], cluster_codes(panel),
                                   averages$estimate[tested])
  }
  path
}

cohort_wise <- function(panel, source, combine, shift = NULL) {
  core_cohort_vcov(source, combine, shift, cluster_codes(panel))
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
  se <- unname(se)
  data.frame(test = test, at = at, estimate = estimate, std.error = se, statistic = estimate / se, df = 1,
             df_below = df, p.value = core_t_p_value(estimate / se, df))
}

joint_row <- function(path) {
  test <- path$test
  if (is.null(test) || !is.finite(test$statistic)) test <- list(statistic = NA, df1 = NA, df2 = NA, p.value = NA)
  numbers <- lapply(test[c("statistic", "df1", "df2", "p.value")], as.double)
  data.frame(test = "joint", at = NA_character_, estimate = NA_real_, std.error = NA_real_,
             statistic = numbers$statistic, df = numbers$df1, df_below = numbers$df2, p.value = numbers$p.value)
}

# The least-squares slope through the tested periods and their base.
drift_row <- function(panel, found, path) {
  if (!any(path$tested)) return(NULL)
  away <- path$away[path$tested]
  centred <- away - mean(c(away, 0))
  weight <- centred / (sum(centred^2) + mean(c(away, 0))^2)
  own <- cohort_wise(panel, found$source, path$combine[, path$tested, drop = FALSE] %*% weight)
  test_row("common drift", NA_character_, sum(weight * path$estimate[path$tested]), sqrt(own$vcov[1L, 1L]), own$df)
}

with_limits <- function(tests, level) {
  half <- core_t_quantile(level, tests$df_below) * tests$std.error
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

# The last periods before treatment among untreated rows: terms for each in one regression, tested together.
leads_row <- function(panel, y, settings, leads) {
  if (leads == 0 || isTRUE(panel$carried$by_cohort) || is_switching(panel) || is_held(panel)) return(NULL)
  since <- periods_since(panel)
  alone <- panel$cohort[panel$unit] %in% settings$without
  untreated <- as.double(since < -settings$anticipation & !alone)
  view <- within_view(panel, y, list(adjustment = settings$adjustment), untreated)
  events <- -settings$anticipation - seq_len(leads)
  onset <- panel$cohorts$position
  treat <- lapply(seq_along(onset), function(h) {
    own <- panel$periods$position - onset[h]
    outer(own, events, function(a, b) as.double(is.finite(a) & a == b))
  })
  wide <- !is.null(settings$trends) || length(settings$absorb) > 0L
  fit <- if (wide) {
    wide_leads(panel, view, since, events, settings)
  } else {
    core_within_fit(core_within_grams(view$rows, view$cohort, length(treat)), treat, ncol(view$rows$columns) - 1L)
  }
  kept <- !fit$aliased[fit$own]
  if (!any(kept)) return(NULL)
  source <- if (wide) fit$source else core_within_source(view$rows, view$cohort, fit, view$s)
  source <- carried_source(panel, source)
  cluster <- match(as.vector(view$cluster), unique(as.vector(view$cluster)))
  count <- length(unique(cluster[core_units_in_use(source)]))
  if (count < 2L) return(NULL)
  vcov <- core_source_vcov(source, diag(length(events))[, kept, drop = FALSE], NULL, cluster, count)
  test <- core_zero_test(fit$estimate[kept], vcov, count - 1)
  rank <- test[["df"]]
  below <- count - rank
  data.frame(test = "leads", at = span_of(range(events[kept])), estimate = NA_real_, std.error = NA_real_,
             statistic = test[["statistic"]] / rank * below / (count - 1), df = rank, df_below = as.double(below),
             p.value = test[["p.value"]])
}

# The same with lines of units or groups, or further effects.
wide_leads <- function(panel, view, since, events, settings, call = rlang::caller_env(2)) {
  if (is_remote(panel)) refuse_panel_options("trends", call)
  rows <- view$rows
  if (!is.null(view$order)) since <- since[view$order]
  more <- trend_columns(panel, view, settings, call)
  leads <- outer(since, events, function(a, b) as.double(is.finite(a) & a == b))
  # leads last: what lines and effects explain is not theirs
  fit <- core_untreated_fit(rows$columns[, 1L], cbind(more$x, leads), rows$unit, rows$time, rows$periods, more$slope,
                            rows$weight)
  own <- length(fit$beta) - length(events) + seq_along(events)
  source <- core_wide_source(fit, rows, view$cohort, own, view$s)
  list(estimate = fit$beta[own], own = own, aliased = fit$aliased, source = source)
}

span_of <- function(ends) if (ends[1L] == ends[2L]) paste(ends[1L]) else paste(ends[1L], "to", ends[2L])

# One average over cells by size of cohort, as a row; NULL where none can be estimated.
one_average <- function(panel, y, settings, cells, test, at) {
  if (is.null(cells)) return(NULL)
  rownames(cells) <- NULL
  found <- panel_group_time(panel, y, settings, cells)
  set <- which(!is.na(found$cells$estimate) & !found$cells$cohort %in% settings$without)
  if (length(set) == 0L) return(NULL)
  average <- core_average_cells(found$cells$estimate, found$cells$cohort, found$size, list(set))
  own <- cohort_wise(panel, found$source, average$combine, average$shift)
  test_row(test, at, average$estimate, sqrt(own$vcov[1L, 1L]), own$df)
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
  own <- cohort_wise(panel, found$source, combine)
  test_row("cohort slope", vapply(of_cohort, `[[`, "", "cohort"), estimate, sqrt(diag(own$vcov)), own$df)
}

# Power of the joint test when both sides drift apart by `slope` each period.
trend_power <- function(path, slope, alpha) {
  test <- path$test
  if (is.na(slope) || is.null(test) || !is.finite(test$statistic)) return(NA_real_)
  stats::pf(stats::qf(1 - alpha, test$df1, test$df2), test$df1, test$df2, lower.tail = FALSE,
            ncp = test$away(slope * path$away[path$tested]))
}

# The slope found with 80 per cent power; the power rises with its size.
detectable_slope <- function(path, power) {
  if (is.na(power(0))) return(NA_real_)
  unit <- 1 / sqrt(path$test$away(path$away[path$tested]))  # noncentrality 1
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
             conf.high = x$path$estimate + half, tested = x$path$tested)
}

#' @export
as.data.frame.twin_trends <- function(x, ...) generics::tidy(x)

#' @export
glance.twin_trends <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(outcome = x$outcome, p.value = x$tests$p.value[1L], periods = sum(x$path$tested),
             clusters = if (is.null(x$path$test)) NA_real_ else x$path$test$clusters, slope = x$slope, power = x$power,
             detectable = x$detectable, cautions = caution_cell(x))
}
