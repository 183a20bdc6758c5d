#' Average the effects of cohorts and periods
#'
#' Turns the cells of [measure_did()] into what a paper reports: one overall effect, the path by periods since
#' treatment, or effects by cohort or by calendar period. Cells are weighed by the size of their cohort (by treated rows
#' for imputation); that sizes are estimated is part of the standard errors, which are made cohort by cohort (see
#' [measure_did()]). Rows of an event path that fewer than half of the treated units reach are marked. Nothing is
#' estimated anew, but for randomization with a `window` or `balanced`.
#'
#' @param x A `twin_did` with cells, or a `twin_dids` of such, each of which is averaged.
#' @param over `"all"` (default): all cells under treatment, one number; `"event"`: by periods since treatment, before
#'   and after; `"cohort"`; `"calendar"`. The last three end with a row "average" over what is under treatment: over
#'   event times and periods a plain mean, over cohorts by their size.
#' @param window Event times to keep, such as `c(-4, 6)`; all by default.
#' @param balanced Keep only cohorts that are seen under treatment up to this event time, and nothing later, so that the
#'   path does not change because its cohorts do.
#' @param normalise Of a panel whose treatment switches: divide by the change of treatment behind each number, so that
#'   it is an effect per unit of treatment? By event time it is divided by all treatment since the first switch,
#'   placebos by that of as many periods; other averages by the treatment in force. Default FALSE. How much treatment
#'   there was is taken as given.
#' @param bands Uniform bands, which hold the whole path at once with the confidence level? Default `TRUE`. They use the
#'   least degrees of freedom among the rows that half of the treated reach; there are none with randomization.
#' @param level Confidence level; that of `x` by default.
#' @param seed For the draws behind the bands.
#' @return A `twin_did`; `tidy()` as in [measure_did()], with `band.low` and `band.high`. The base period of an event
#'   path with a fixed base is a row with estimate 0 and no standard error.
#' @section Errors: `twin_error_input` when `x` has no cells or nothing is left of the window.
#' @family effects
#' @examples
#' panel <- frame_panel(harbours, outcome = "price", time = "quarter", unit = "harbour", treatment = "cold_store")
#' cells <- measure_did(panel, base = "fixed")
#' summarise_did(cells)
#' path <- summarise_did(cells, over = "event", window = c(-4, 8))
#' plot(path)
#' @export
summarise_did <- function(x, over = c("all", "event", "cohort", "calendar"), window = NULL, balanced = NULL,
                          bands = TRUE, level = x$level, seed = 1, normalise = FALSE) {
  over <- check_choice(over, c("all", "event", "cohort", "calendar"))
  if (inherits(x, "twin_dids")) {
    averaged <- Map(function(effect, named) {
      said_of_part(named, summarise_did(effect, over, window, balanced, bands, level, seed, normalise))
    }, x$effects, names(x))
    return(new_dids(averaged, x$labels, x$by, level))
  }
  check_class(x, "twin_did", "measure_did")
  if (x$over != "cells") {
    abort_input(c("{.fn summarise_did} averages cells; this effect has none to average.",
                  i = if (x$over == "dose") "{.arg since} of {.fn measure_did} chooses the periods." else
                    if (x$over == "single") "{.code estimator = \"{x$estimator}\"} gives one number." else
                    "Give it what {.fn measure_did} returned."))
  }
  check_window(window)
  check_count(balanced, min = 0, null = TRUE)
  check_flag(bands)
  check_normalise(normalise, x)
  check_level(level)
  check_seed(seed)
  plan <- average_plan(x$study, x$cells, over, window, balanced)
  if (!any(plan$post)) {
    abort_input(c("No effect under treatment is left to average.",
                  x = if (!is.null(balanced)) "No cohort is seen up to event time {balanced} within the window.",
                  i = "Widen {.arg window} or lower {.arg balanced}."))
  }
  x$asked[c("window", "balanced", "normalise")] <- list(window, balanced, normalise)
  with_cautions(finish_summary(amend(x, level = level), plan, over, bands, level, seed), x$cautions)
}

finish_summary <- function(x, plan, over, bands, level, seed) {
  out <- averaged_did(x, plan, over)
  if (x$asked$inference == "randomization") return(did_estimator_of(x)$ranked(out, plan))
  if (x$asked$inference == "bootstrap") out <- with_cluster_draws(out, plan)
  moving <- out$table$kind != "base" & out$table$term != "average" & !is.na(diag(out$vcov))
  if (!bands || sum(moving) < 2L) return(out)
  correlation <- stats::cov2cor(out$vcov[moving, moving, drop = FALSE])
  amend_effect(out, bands = with_own_seed(seed, core_band_quantile(correlation, level, band_df(out, moving))))
}

# The least degrees of freedom among the rows that half of the treated reach; among all where none does.
band_df <- function(x, moving) {
  wide <- moving & x$table$reach >= 0.5
  min(x$df[if (any(wide)) wide else moving])
}

check_normalise <- function(normalise, x, call = rlang::caller_env()) {
  check_flag(normalise, call = call)
  if (!normalise || is_switching(x$study)) return(invisible(normalise))
  abort_input(c("{.code normalise = TRUE} is for treatment that switches, whose amount differs over time.",
                i = "Frame the panel with {.code switching = TRUE}, or leave it out."), call = call)
}

check_window <- function(window, call = rlang::caller_env()) {
  good <- is.null(window) || (is.numeric(window) && length(window) == 2L && !anyNA(window) && window[1L] <= window[2L])
  if (!good) {
    abort_input(c("{.arg window} must be two event times, the first not above the second.",
                  i = "For example c(-4, 6)."), call = call)
  }
}

# Averages with their mean as last one, where there are several.
did_averages <- function(x, plan, over, size, estimate = x$cells$estimate) {
  out <- core_average_cells(estimate, x$cells$cohort, size, plan$sets, x$fixed)
  if (over == "all") return(out)
  by <- if (x$fixed && over == "cohort") core_sums_by(size[plan$post], x$cells$cohort[plan$post]) else size
  weight <- average_weights(over, plan$values, by)
  moves <- 0
  if (!x$fixed && over == "cohort") {
    moves <- numeric(length(size))
    mean <- sum(weight * out$estimate)
    moves[plan$values] <- (out$estimate - mean) / sum(size[plan$values])
  }
  last <- core_mean_of_averages(out, weight, moves)
  list(estimate = c(out$estimate, last$estimate), combine = cbind(out$combine, last$combine),
       shift = if (!is.null(out$shift)) cbind(out$shift, last$shift))
}

# Labels of the averages.
average_table <- function(panel, cells, plan, over) {
  values <- plan$values
  blank <- rep(NA_character_, length(values))
  term <- switch(over, all = "difference", event = sprintf("event %d", as.integer(values)),
                 cohort = panel$cohorts$label[values], calendar = panel$periods$label[values])
  only_base <- vapply(plan$sets, function(set) all(cells$kind[set] == "base"), NA)
  counted <- function(name) vapply(plan$sets, function(set) sum(cells[[name]][set], na.rm = TRUE), 0)
  table <- data.frame(
    term = term, cohort = if (over == "cohort") term else blank, time = if (over == "calendar") term else blank,
    event_time = if (over == "event") values else rep(NA_real_, length(values)),
    kind = ifelse(only_base, "base", if (over == "event") ifelse(values < 0, "pre", "post") else "post"),
    reach = vapply(plan$sets, function(set) treated_share(panel, cells$cohort[set]), 0),
    n_treated = counted("n_treated"), n_comparison = rep(NA_real_, length(values)), reason = blank
  )
  if (over == "all") return(table)
  last <- table[1L, ]
  last[c("term", "cohort", "time", "kind")] <- list("average", NA, NA, "post")
  last[c("event_time", "n_treated", "reach")] <- list(NA_real_, counted_post(cells, plan),
                                                      treated_share(panel, cells$cohort[plan$post]))
  rbind(table, last)
}

# The share of treated units that cohorts hold.
treated_share <- function(panel, cohorts) {
  size <- cohort_sizes(panel) * is_treated_cohort(panel)
  sum(size[unique(cohorts)]) / sum(size)
}

counted_post <- function(cells, plan) sum(cells$n_treated[plan$post])

# How far treatment was moved behind each average, in the direction of the switch: list(changed: on average over its
# cells, so_far: the same of its sum since the switch). Rows before the switch have none.
average_changes <- function(panel, cells, plan, over, size) {
  known <- treatment_changes(panel)
  mean_of <- function(values, set) {
    own <- values[cbind(cells$cohort[set], cells$time[set])]
    if (anyNA(own)) NA_real_ else sum(size[cells$cohort[set]] * own) / sum(size[cells$cohort[set]])
  }
  sets <- c(plan$sets, if (over != "all") list(which(plan$post)))
  out <- lapply(known, function(values) vapply(sets, function(set) mean_of(values, set), 0))
  if (over == "all") return(list(out$now, out$so_far))
  # the last row is the mean of those above it
  last <- length(sets)
  weight <- average_weights(over, plan$values, size)
  out$now[last] <- sum((weight * out$now[-last])[weight > 0])
  out$so_far[last] <- NA_real_
  list(out$now, out$so_far)
}

# Each average by the treatment behind it; a period before the switch by that of as many periods after.
per_treatment <- function(averages, table, over, asked) {
  if (!asked) return(averages)
  by <- treatment_behind(table, over)
  scaled <- function(x) x * rep(1 / by, each = nrow(x))
  list(estimate = averages$estimate / by, combine = scaled(averages$combine),
       shift = if (!is.null(averages$shift)) scaled(averages$shift))
}

treatment_behind <- function(table, over) {
  by <- table$changed
  if (over == "event") {
    moving <- !is.na(table$event_time)
    mirror <- match(-2 - table$event_time, table$event_time)
    by <- ifelse(!moving, table$changed, ifelse(table$event_time >= 0, table$so_far, table$so_far[mirror]))
    by[table$kind == "base"] <- 1
  }
  ifelse(abs(by) < 1e-12, NA_real_, by)
}

# The averages of a plan as an effect.
averaged_did <- function(x, plan, over) {
  averages <- did_averages(x, plan, over, x$size)
  table <- average_table(x$study, x$cells, plan, over)
  if (is_switching(x$study)) {
    table[c("changed", "so_far")] <- average_changes(x$study, x$cells, plan, over, x$size)
    averages <- per_treatment(averages, table, over, isTRUE(x$asked$normalise))
  }
  table$estimate <- averages$estimate
  columns <- c("term", "cohort", "time", "event_time", "kind", "estimate", "n_treated", "n_comparison", "reason",
               "reach", if (is_switching(x$study)) c("changed", "so_far"))
  own <- did_vcov(x$study, x$source, table, averages$combine, averages$shift, list(cluster = x$cluster, over = over),
                  x$scale, x$asked$spread)
  amend_effect(x, table = table[columns], combine = averages$combine, shift = averages$shift, over = over,
               estimate = stats::setNames(table$estimate, table$term), p.value = NULL, limits = NULL,
               vcov = own$vcov, df = own$df,
               alone = own$alone, lent = own$lent)
}
