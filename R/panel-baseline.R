#' One row per unit, as it was before treatment
#'
#' What a design for a panel is made on: baseline covariates and the outcome's past, a row per unit. Frame the rows as a
#' study ([frame_study()]), make pairs, strata or weights of them, and carry these into the panel with
#' `frame_panel(design = )`: matched or weighted first, then differenced.
#'
#' With several dates of treatment there are two ways. All treated cohorts at once, against units never treated, by what
#' lies before the first of the dates; or one design per cohort (`cohort`), each by what lies before its own date, and
#' also against units treated later (`comparison = "not_yet"`).
#'
#' @param panel A [panel][frame_panel] of units seen repeatedly.
#' @param periods Which periods before treatment to take the outcome from, by their labels; all by default.
#' @param cohort Label of one treated cohort, or several; all by default.
#' @param comparison `"never"` treated (default where there are some), or `"not_yet"` treated: also units treated later
#'   than the cohort, which needs one `cohort`.
#' @param anticipation How many periods before treatment may already be affected; they are no baseline. Default 0.
#' @return A data frame with a row per unit that is seen in one of the periods: the unit (named as in the panel),
#'   `treated` (TRUE or FALSE), `cohort`; group, cluster and weight where the panel has them; the panel's covariates as
#'   last seen before treatment; and of every outcome `<outcome>_<period>` for each of the periods, `<outcome>_mean`
#'   over them, `<outcome>_slope` (least squares, per period; NA for units seen once) and, last, `<outcome>_after`: the
#'   mean from treatment on (for comparison units from the cohort's date on, while they are untreated). That is an
#'   outcome for [frame_study()], not a covariate.
#' @section Errors: `twin_error_input` for cohorts or periods that are not there or not before treatment, or no
#'   comparison units; `twin_error_unsupported` for repeated cross-sections, whose units have no past, and for tables in
#'   a database. Units seen in none of the periods are left out with `twin_warning_dropped`.
#' @family question
#' @examples
#' panel <- frame_panel(harbours, outcome = "price", time = "quarter", unit = "harbour", treatment = "cold_store")
#' rows <- baseline_rows(panel, cohort = "2022Q4", comparison = "not_yet")
#' study <- frame_study(rows, treatment = "treated", outcome = "price_after", covariates = ~ price_mean + price_slope,
#'                      id = "harbour")
#' design <- weigh_units(study, "entropy")
#' @export
baseline_rows <- function(panel, periods = NULL, cohort = NULL, comparison = NULL, anticipation = 0) {
  call <- rlang::current_env()
  check_class(panel, "twin_panel", "frame_panel")
  check_has_past(panel, call)
  check_count(anticipation, min = 0)
  cohorts <- asked_cohorts(panel, cohort, call)
  comparison <- baseline_comparison(panel, cohorts, comparison, call)
  onset <- min(panel$cohorts$position[cohorts])
  time <- baseline_periods(panel, periods, onset - anticipation, call)
  controls <- if (comparison == "never") which(panel$cohorts$position == Inf) else
    which(panel$cohorts$position > onset)
  unit <- which(panel$cohort %in% c(cohorts, controls))
  before <- which(panel$time %in% time)
  seen <- unit %in% panel$unit[before]
  warn_no_baseline(panel, unit[!seen])
  unit <- unit[seen]
  check_both_baselines(panel, unit, cohorts, call)
  last <- last_row_of(panel, before)[unit]
  start <- which(panel$periods$position >= onset)
  outcomes <- lapply(panel$roles$outcome, function(name) {
    past_columns(panel, name, unit, time, which(!seq_along(panel$cohorts$position) %in% cohorts), start)
  })
  log_step(panel, "baseline", sprintf("%s against %s", and_list(panel$cohorts$label[cohorts]),
                                      c(never = "never treated", not_yet = "not yet treated")[[comparison]]),
           settings = list(periods = panel$periods$label[time]))
  keep <- unique(c(unlist(panel$roles[c("group", "cluster", "weight")]), names(panel$columns)))
  known <- panel$data[panel$rows[last], setdiff(keep, panel$roles$unit), drop = FALSE]
  out <- cbind(stats::setNames(data.frame(panel$data[[panel$roles$unit]][panel$rows[last]]), panel$roles$unit),
               data.frame(treated = panel$cohort[unit] %in% cohorts, cohort = panel$cohorts$label[panel$cohort[unit]]),
               known[setdiff(names(known), c("treated", "cohort"))], do.call(cbind, outcomes))
  rownames(out) <- NULL
  out
}

check_has_past <- function(panel, call) {
  refuse_remote(panel, call)
  refuse_switching(panel, "A baseline", call)
  refuse_held(panel, "A baseline", call)
  if (!panel$repeats) {
    abort_unsupported(c("Units of a repeated cross-section are seen once: they have no row before treatment.",
                        i = "Name {.arg covariates} in {.fn frame_panel}, and use {.arg adjustment}."), call = call)
  }
  if (is.null(panel$roles$frequency)) return(invisible(panel))
  abort_unsupported(c("With {.arg frequency} a row stands for several units, which have no names.",
                      i = "Give {.fn frame_panel} a row per unit and period."), call = call)
}

# Codes of the treated cohorts by their labels.
asked_cohorts <- function(panel, cohort, call) {
  treated <- which(is_treated_cohort(panel))
  if (is.null(cohort)) return(treated)
  labels <- panel$cohorts$label[treated]
  cohort <- as.character(as_given(cohort, call = call))
  stray <- setdiff(cohort, labels)
  if (length(stray) > 0L || length(cohort) == 0L) {
    abort_input(c("{.arg cohort} must be the label of a treated cohort.", x = "There is no {.val {first_rows(stray)}}.",
                  i = "They are {.val {labels}}."), call = call)
  }
  treated[labels %in% cohort]
}

baseline_comparison <- function(panel, cohorts, comparison, call) {
  comparison <- panel_comparison(panel, comparison, call)
  if (comparison == "never" || length(cohorts) == 1L) return(comparison)
  abort_input(c("Cohorts treated at several dates can share a baseline against units never treated only.",
                x = "Asked for are {length(cohorts)} cohorts.",
                i = "Name one {.arg cohort}: those treated later are compared with it until they are treated."),
              call = call)
}

# Codes of the periods before `end`, or of those asked for.
baseline_periods <- function(panel, periods, end, call) {
  labels <- panel$periods$label
  before <- which(panel$periods$position < end)
  if (length(before) == 0L) {
    abort_input(c("There is no period before treatment.", i = "Choose a later {.arg cohort}."), call = call)
  }
  if (is.null(periods)) return(before)
  periods <- as.character(as_given(periods, call = call))
  at <- match(periods, labels)
  if (anyNA(at)) {
    abort_input(c("{.arg periods} must be labels of periods before treatment.",
                  x = "There is no {.val {first_rows(periods[is.na(at)])}}.",
                  i = "They are {.val {labels[before]}}."), call = call)
  }
  late <- setdiff(at, before)
  if (length(late) > 0L) {
    abort_input(c("{.arg periods} must lie before treatment.",
                  x = "{.val {first_rows(labels[late])}} {cli::qty(length(late))}{?does/do} not.",
                  i = "The last before it {cli::qty(1)}is {.val {labels[max(before)]}}."), call = call)
  }
  sort(unique(at))
}

warn_no_baseline <- function(panel, unit) {
  if (length(unit) == 0L) return(invisible(panel))
  warn_kind("dropped", c(
    "{length(unit)} unit{?s} {?is/are} not seen in any of the periods before treatment and left out:
     {.val {first_rows(panel$unit_labels[unit])}}.",
    i = "Ask for more {.arg periods}, or leave {cli::qty(length(unit))}{?it/them} out of the panel too."
  ), units = panel$unit_labels[unit])
}

check_both_baselines <- function(panel, unit, cohorts, call) {
  treated <- panel$cohort[unit] %in% cohorts
  if (any(treated) && !all(treated)) return(invisible(unit))
  abort_input(c("A baseline needs treated and comparison units.",
                x = "No {if (any(treated)) 'comparison' else 'treated'} unit is seen in these periods.",
                i = "Ask for other {.arg periods}, or {.code comparison = \"not_yet\"}."), call = call)
}

# Per unit the last of these rows, NA where it has none.
last_row_of <- function(panel, rows) {
  out <- rep(NA_integer_, length(panel$cohort))
  out[panel$unit[rows]] <- rows  # rows are sorted by period
  out
}

# Levels, mean, slope and what comes after, of one outcome. controls: codes of the comparison cohorts; start: periods
# from the date of treatment on.
past_columns <- function(panel, outcome, unit, time, controls, start) {
  y <- as.double(coded_outcome(panel$data[[outcome]][panel$rows], panel$events[[outcome]]))
  wide <- wide_outcome(panel, y)$y[unit, , drop = FALSE]
  position <- panel$periods$position
  past <- wide[, time, drop = FALSE]
  onset <- panel$cohorts$position[panel$cohort[unit]]
  own <- panel$cohort[unit] %in% controls
  later <- wide[, start, drop = FALSE]
  treated <- outer(onset, position[start], `<=`)
  later[treated == own] <- NA  # a comparison unit while it is untreated, a treated one while it is treated
  out <- data.frame(past, row_means(past), row_slopes(past, position[time]), row_means(later))
  names(out) <- paste(outcome, c(panel$periods$label[time], "mean", "slope", "after"), sep = "_")
  out
}

row_means <- function(x) {
  mean <- rowMeans(x, na.rm = TRUE)
  replace(mean, is.nan(mean), NA_real_)
}

# Least squares of each row on its known places; NA where fewer than two are known.
row_slopes <- function(x, at) {
  at <- matrix(at, nrow(x), ncol(x), byrow = TRUE)
  at[is.na(x)] <- NA
  centred <- at - row_means(at)
  spread <- rowSums(centred^2, na.rm = TRUE)
  ifelse(spread > 0, rowSums(centred * x, na.rm = TRUE) / spread, NA_real_)
}
