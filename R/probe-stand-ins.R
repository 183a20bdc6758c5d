#' Probe a synthetic comparison by the units it leans on
#'
#' Leaves out the units that stand in for the treated one at a time, those of the largest weight first, weighs the
#' others anew and measures the effect again. An effect that one unit makes or breaks is an effect of that unit's luck.
#'
#' @param x An effect of `measure_did(estimator = "synthetic")`, or its average.
#' @param least The least weight of a unit to be left out (the largest of its weights over cohorts); 0.01 by default.
#' @param most At most so many units are left out, those that weigh most; 50 by default.
#' @return A `twin_probe`. `tidy()` gives one row per unit left out: `unit`, `weight`, `estimate` (of the effect on
#'   average over treated units and periods), `change` (from that of all units), and `gap_before` (root mean square of
#'   what the weights leave before treatment). `glance()`: `units`, `effect`, `least`, `greatest`, `largest_change`.
#' @section Errors: `twin_error_input` when no unit weighs as much; `twin_error_unsupported` for other effects, and for
#'   means of groups (`collapse`).
#' @references Abadie, A., Diamond, A., Hainmueller, J. (2010). Synthetic control methods for comparative case studies.
#'   Journal of the American Statistical Association 105. \doi{10.1198/jasa.2009.ap08746}
#' @family hidden bias
#' @examples
#' panel <- frame_panel(harbours, outcome = "price", time = "quarter", unit = "harbour", treatment = "cold_store")
#' probe_stand_ins(measure_did(panel, estimator = "synthetic"), least = 0.06)
#' @export
probe_stand_ins <- function(x, least = 0.01, most = 50) {
  check_stands_in(x)
  check_number(least, min = 0, max = 1)
  check_count(most, min = 1)
  panel <- study_of(x)
  weight <- numeric(length(panel$cohort))
  for (one in x$synthetic) weight[one$used] <- pmax(weight[one$used], one$weight)
  asked <- which(weight > 0 & weight >= least)
  if (length(asked) == 0L) {
    abort_input(c("No unit weighs {least} or more.", x = "The largest weight is {number_text(max(weight))}.",
                  i = "Lower {.arg least}."))
  }
  asked <- utils::head(asked[order(weight[asked], decreasing = TRUE)], most)
  wide <- wide_outcome(panel, panel_values(panel, x$outcome, "probe_stand_ins"))$y
  s <- unit_weight(panel)
  plan <- average_plan(panel, x$cells, "all")
  whole <- unname(did_averages(x, plan, "all", x$size)$estimate)
  rows <- run_pieces("Units left out", asked, function(unit) {
    found <- synthetic_cells(panel, replace(wide, cbind(unit, seq_len(ncol(wide))), NA), s, x$asked, NULL)
    data.frame(unit = panel$unit_labels[unit], weight = weight[unit],
               estimate = unname(did_averages(x, plan, "all", x$size, found$cells$estimate)$estimate),
               gap_before = placebo_scale(found$made))
  })
  rows <- do.call(rbind, rows)
  rows$change <- rows$estimate - whole
  log_probed(x, "stand_ins")
  new_probe("stand_ins", rows[c("unit", "weight", "estimate", "change", "gap_before")], list(
    outcome = x$outcome, treatment = treatment_word(x), effect = whole, gap_before = placebo_scale(x$synthetic),
    units = sum(weight > 0), least = least
  ))
}

check_stands_in <- function(x, call = rlang::caller_env()) {
  check_class(x, "twin_did", "measure_did", call = call)
  if (is.null(x$synthetic)) {
    abort_unsupported(c("Units that stand in for the treated are those of a synthetic comparison.",
                        x = "This effect is {did_estimator_of(x)$words}.",
                        i = "Measure it with {.code estimator = \"synthetic\"}."), call = call)
  }
  if (!collapses(x$asked)) return(invisible(x))
  abort_unsupported(c("Means of groups can't be left out one by one.",
                      i = "Measure a panel of groups without {.arg collapse}."), call = call)
}

#' @export
glance.twin_probe_stand_ins <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows
  data.frame(units = nrow(rows), effect = x$facts$effect, least = min(rows$estimate), greatest = max(rows$estimate),
             largest_change = rows$change[which.max(abs(rows$change))])
}
