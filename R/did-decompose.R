#' Take a two-way regression apart
#'
#' The coefficient of treatment in a regression with unit and period effects is a weighted mean of two-by-two
#' comparisons between cohorts (Goodman-Bacon 2021). Some use units as a comparison that are treated already, whose own
#' effects are then subtracted; those come first. Seen from the other side it is a weighted sum of the effects of all
#' cohorts and periods, in which some weights may be negative (de Chaisemartin & D'Haultfoeuille 2020). Both are exact,
#' without covariates, in a balanced panel; a repeated cross-section is decomposed by its means by group and period,
#' each group counting once.
#'
#' @param panel A [panel][frame_panel].
#' @param outcome Name of one of its outcomes; the first by default.
#' @param complete Leave out units that are not seen with an outcome in every period? By default such units are an
#'   error, since the comparisons would not add up.
#' @return A `twin_decomposition`. `tidy()` or `as.data.frame()` gives one row per comparison: `type` ("later against
#'   earlier", "earlier against later", "treated against untreated"), `treated`, `control` (cohorts), `estimate`,
#'   `weight`; weights sum to 1 and weighted estimates to the coefficient. `tidy(x, part = "types")` sums them by type
#'   (`type, comparisons, weight, estimate`, the mean within the type). `tidy(x, part = "cells")` gives the implicit
#'   weight of every treated cell: `cohort, time, event_time, weight, estimate` (its own effect by group-time
#'   differences against units not yet treated). `glance()`: `estimate` (the coefficient), `forbidden_weight`,
#'   `clean_estimate` (mean of the other comparisons), `cells`, `negative_cells`, `negative_weight`, `att` (mean of the
#'   cells' effects by treated rows), `std.error` (of the coefficient, clustered) and `trusted`: is the coefficient
#'   within half its standard error, or a tenth of its size, of `att`? Where nothing clean is known of `att`, are less
#'   than 5 per cent of the weight on comparisons with units treated already, and negative weights above -0.01?
#'   Of a panel with doses: the coefficient of the amount (dose times under treatment), which weighs effects at doses
#'   below the average negatively (Callaway, Goodman-Bacon & Sant'Anna 2024). `tidy()` then gives one row per dose
#'   (tenths where there are many): `from, to, dose, units, effect` (against units not yet treated), `weight` in the
#'   coefficient, `share` (weight over the sum of all weights by size), `adds` (weights times effects); `glance()`:
#'   `estimate, negative_share` (of all weights by size), `average_slope` over the treated with its error, `remainder`
#'   (what differs before treatment adds), `trusted` (is the coefficient within half that error, or a tenth of its size,
#'   of the average slope?).
#' @section Errors: `twin_error_unsupported` for panels that are not balanced (unless `complete`), weights that change
#'   over time, or a repeated cross-section without groups.
#' @references
#' Goodman-Bacon, A. (2021). Difference-in-differences with variation in treatment timing. Journal of Econometrics 225.
#' \doi{10.1016/j.jeconom.2021.03.014}
#'
#' de Chaisemartin, C., D'Haultfoeuille, X. (2020). Two-way fixed effects estimators with heterogeneous treatment
#' effects. American Economic Review 110. \doi{10.1257/aer.20181169}
#' @family effects
#' @examples
#' panel <- frame_panel(harbours, outcome = "price", time = "quarter", unit = "harbour", treatment = "cold_store")
#' decompose_did(panel)
#' @export
decompose_did <- function(panel, outcome = NULL, complete = FALSE) {
  check_class(panel, "twin_panel", "frame_panel")
  check_flag(complete)
  refuse_switching(panel, "The two-way number taken apart")
  refuse_held(panel, "The two-way number taken apart")
  outcome <- panel_outcome(panel, outcome)
  opened <- open_panel(panel, outcome, "decompose_did")
  log_step(panel, "decompose", paste("two_way on", outcome))
  if (has_dose(panel) && panel$repeats) {
    return(decompose_dose(panel, opened$y, outcome, complete, rlang::current_env()))
  }
  note <- NULL
  original <- panel
  panel <- opened$panel
  y <- opened$y
  if (!panel$repeats) {
    used <- collapse_panel(panel, y, "groups")
    panel <- used$panel
    y <- used$y
    note <- sprintf("Decomposed are the means by %s and period, each %s counting once.", panel$roles$group,
                    panel$roles$group)
  }
  shape <- balanced_outcome(panel, y, complete)
  parts <- decompose_means(panel, shape)
  structure(c(list(panel = original, outcome = outcome, note = c(note, shape$note),
                   covariates = length(panel$columns) > 0L, std_error = two_way_error(panel, y, shape)), parts),
            class = "twin_decomposition")
}

# The clustered standard error of the coefficient; NA where clusters cut across units.
two_way_error <- function(panel, y, shape) {
  if (is_own_remote(panel)) {
    y[!shape$whole[panel$unit]] <- NA
    found <- estimate_two_way(panel, y, list(anticipation = 0, adjustment = "none"), NULL) |> of_pieces_alone(panel)
    return(sqrt(drop(core_source_vcov(found$source, diag(1), NULL, found$cluster, core_count_in_use(found$source)))))
  }
  start <- panel$cohorts$position[shape$cohort]
  treated <- outer(start, panel$periods$position, `<=`) + 0
  core_two_way_error(shape$y, treated, shape$s, shape$cluster)
}

# Units x periods without gaps, and their weights.
balanced_outcome <- function(panel, y, complete, call = rlang::caller_env()) {
  wide <- wide_outcome(panel, y)$y
  s <- unit_weight(panel)
  if (!has_constant_weight(panel)) {
    abort_unsupported(c("The comparisons add up only with weights that are constant over time.",
                        i = "Frame the panel with such a {.arg weight}, or without."), call = call)
  }
  whole <- rowSums(is.na(wide)) == 0
  copies <- unit_copies(panel)
  note <- NULL
  if (!all(whole) && !complete) {
    abort_unsupported(c(
      "The comparisons add up only in a balanced panel.",
      x = "{sum(copies[!whole])} of {sum(copies)} unit{?s} {?is/are} not seen with an outcome in every period.",
      i = "Use {.code complete = TRUE} to go on with the others."
    ), call = call)
  }
  if (!all(whole)) note <- sprintf("%s not seen in every period left out.", plural(sum(copies[!whole]), "unit"))
  if (length(unique(panel$cohort[whole])) < 2L) {
    abort_unsupported("Fewer than two cohorts are left to compare.", call = call)
  }
  list(y = wide[whole, , drop = FALSE], s = s[whole], cohort = panel$cohort[whole],
       cluster = as.vector(panel$cluster)[whole], whole = whole, note = note)
}

decompose_means <- function(panel, shape) {
  cohorts <- sort(unique(shape$cohort))
  code <- match(shape$cohort, cohorts)
  weight <- core_sums_by(shape$s, code)
  mean <- rowsum(shape$s * shape$y, code) / weight
  position <- panel$periods$position
  start <- vapply(panel$cohorts$position[cohorts], function(onset) which(c(position, Inf) >= onset)[1L], 0L)
  share <- weight / sum(weight)
  found <- core_decompose(mean, share, start)
  label <- panel$cohorts$label[cohorts]
  rows <- data.frame(type = found$kind, treated = label[found$treated], control = label[found$control],
                     estimate = found$estimate, weight = found$weight)
  rows <- rows[order(match(rows$type, comparison_types), -rows$weight), ]
  rownames(rows) <- NULL
  implicit <- core_implicit_weights(share, start, length(position))
  at <- which(outer(start, seq_along(position), `<=`), arr.ind = TRUE)
  cells <- data.frame(cohort = label[at[, 1L]], time = panel$periods$label[at[, 2L]],
                      event_time = position[at[, 2L]] - panel$cohorts$position[cohorts[at[, 1L]]],
                      weight = implicit[at], estimate = clean_effects(mean, share, start, at), share = share[at[, 1L]])
  list(rows = rows, cells = cells[order(at[, 1L], at[, 2L]), ], estimate = sum(rows$weight * rows$estimate))
}

comparison_types <- c("later against earlier", "earlier against later", "treated against untreated")

# Each cell against all cohorts not treated yet; NA where there are none.
clean_effects <- function(mean, share, start, at) {
  apply(at, 1L, function(cell) {
    others <- which(start > cell[2L])
    if (length(others) == 0L) return(NA_real_)
    change <- mean[, cell[2L]] - mean[, start[cell[1L]] - 1L]
    change[cell[1L]] - sum(share[others] * change[others]) / sum(share[others])
  })
}

#' @exportS3Method
study_of.twin_decomposition <- function(x) x$panel # nolint: object_name_linter. An S3 method.

#' @export
tidy.twin_decomposition <- function(x, part = c("comparisons", "types", "cells"), # nolint: object_name_linter.
                                    ...) {
  rlang::check_dots_empty()
  part <- check_choice(part, c("comparisons", "types", "cells"))
  if (part == "comparisons") return(x$rows)
  if (part == "cells") return(x$cells[c("cohort", "time", "event_time", "weight", "estimate")])
  types <- intersect(comparison_types, x$rows$type)
  rows <- lapply(types, function(type) {
    own <- x$rows[x$rows$type == type, ]
    data.frame(type = type, comparisons = nrow(own), weight = sum(own$weight),
               estimate = sum(own$weight * own$estimate) / sum(own$weight))
  })
  do.call(rbind, rows)
}

#' @export
as.data.frame.twin_decomposition <- function(x, ...) generics::tidy(x)

#' @export
glance.twin_decomposition <- function(x, ...) {
  rlang::check_dots_empty()
  forbidden <- x$rows$type == comparison_types[1L]
  clean <- x$rows[!forbidden, ]
  negative <- x$cells$weight < 0
  known <- !is.na(x$cells$estimate)
  out <- data.frame(
    estimate = x$estimate, forbidden_weight = sum(x$rows$weight[forbidden]),
    clean_estimate = if (nrow(clean) == 0L) NA_real_ else sum(clean$weight * clean$estimate) / sum(clean$weight),
    cells = nrow(x$cells), negative_cells = sum(negative), negative_weight = sum(x$cells$weight[negative]),
    att = if (!any(known)) NA_real_ else stats::weighted.mean(x$cells$estimate[known], x$cells$share[known])
  )
  out$std.error <- x$std_error
  out$trusted <- is_two_way_trusted(out)
  out
}

# Trusted when it lies within half its standard error, or a tenth of its size, of the mean effect under treatment; where
# that is not known, when forbidden comparisons and negative weights hardly matter.
is_two_way_trusted <- function(facts) {
  if (is.na(facts$att)) return(facts$forbidden_weight < 0.05 && facts$negative_weight > -0.01)
  abs(facts$estimate - facts$att) <= max(0.5 * facts$std.error, 0.1 * abs(facts$att), na.rm = TRUE)
}
