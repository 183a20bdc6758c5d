#' State the question for treatment over time
#'
#' Like [frame_study()], for treatment that is given or not in each of several periods, where what decides on it changes
#' along the way and is itself moved by earlier treatment. Adjusting for such a confounder takes away part of the
#' effect, leaving it out leaves its bias: neither answers what a history of treatment does. The outcome is that after
#' the last period.
#'
#' [score_units()] then estimates each period's chance of treatment given the past, [weigh_units()] multiplies them up
#' to stabilised weights (times those of staying observed, where units leave early), [assess_balance()] compares who is
#' treated with who is not by period and by what they had before, and [measure_course()] opens the outcome.
#'
#' @param data A data frame with one row per unit and period.
#' @param treatment,outcome,... As in [frame_study()]; `...` takes its `treated`, `weight`, `cluster`, `stratum`,
#'   `event`, `unknown`, `categories` and `missing`. An outcome's value is that in the unit's row of the last period.
#' @param time Name of the column of periods; their values are sorted.
#' @param unit Name of the column that identifies units.
#' @param covariates Names of columns that do not change within a unit.
#' @param changing Names of columns that change from period to period, measured before the treatment of their period.
#' @return A `twin_course`.
#' @section Errors: As [frame_study()]; `twin_error_input` for two rows of one unit and period, gaps in a unit's
#'   periods, units that begin late, covariates that change (with the units), a single period in which nobody is treated
#'   or everybody is.
#' @references Robins, J. M., Hernan, M. A., Brumback, B. (2000). Marginal structural models and causal inference in
#'   epidemiology. Epidemiology 11. \doi{10.1097/00001648-200009000-00011}
#' @family question
#' @examples
#' study <- frame_course(seasons, treatment = "stored", outcome = "savings", time = "season", unit = "crew",
#'                       covariates = c("boat_length", "port_size"), changing = c("debt", "catch"))
#' study
#' design <- study |> score_units() |> weigh_units()
#' assess_balance(design)
#' @export
frame_course <- function(data, treatment, outcome, time, unit, covariates = NULL, changing = NULL, ...) {
  call <- rlang::current_env()
  check_units(data, call)
  attr(data, "class") <- "data.frame"
  for (role in c("time", "unit")) {
    check_string(get(role), arg = role, call = call)
    check_columns(get(role), data, role, call)
  }
  if (any(c("estimand", "id", "subset", "frequency", "missing_outcome") %in% ...names())) {
    abort_unsupported(c("{.fn frame_course} speaks of everybody and takes all rows.",
                        i = "Leave {.arg estimand}, {.arg id}, {.arg subset}, {.arg frequency} and
                             {.arg missing_outcome} out; choose rows beforehand."))
  }
  for (role in c("covariates", "changing")) {
    names <- get(role)
    if (!is.null(names) && (!is.character(names) || anyNA(names))) {
      abort_input("{.arg {role}} must be names of columns in quotes.", call = call)
    }
    check_columns(names, data, role, call)
  }
  both <- intersect(covariates, changing)
  if (length(both) > 0L) abort_input("{.val {both}} can't be both constant and changing.", call = call)
  order <- course_order(data, time, unit, call)
  check_course_constant(data[order$rows, , drop = FALSE], covariates, order$unit, unit, call)
  base <- in_the_name_of(call, frame_study(data, treatment, outcome, c(covariates, changing), estimand = "ATE", ...))
  if (length(base$rows) < nrow(data)) {
    gone <- setdiff(seq_len(nrow(data)), base$rows)
    of <- as.character(first_rows(unique(data[[unit]][gone])))
    abort_input(c("The treatment {.val {treatment}} must be known in every row.",
                  x = "It is missing in {plural(length(gone), 'row')}; first units: {.val {of}}.",
                  i = "Leave such units out, or end their rows before."), rows = gone, call = call)
  }
  base <- study_rows(base, order$rows)
  check_periods_treated(base$z, order, call)
  new_course(base, order[c("unit", "period", "periods", "names")], list(time = time, unit = unit,
                                                                        covariates = covariates,
                                                                        changing = changing), list())
}

# Rows sorted by unit and period, with codes of both: list(rows, unit, period, periods: values as text, names: of
# units).
course_order <- function(data, time, unit, call) {
  for (name in c(time, unit)) {
    if (anyNA(data[[name]])) {
      abort_input(c("The column {.val {name}} must not be missing.",
                    x = "First rows: {first_rows(which(is.na(data[[name]])))}."), column = name, call = call)
    }
  }
  values <- sort(unique(data[[time]]))
  names <- unique(data[[unit]])
  period <- match(data[[time]], values)
  code <- match(data[[unit]], names)
  twice <- which(duplicated(cbind(code, period)))
  if (length(twice) > 0L) {
    abort_input(c("Each unit must have one row per period.",
                  x = "Repeated: {plural(length(twice), 'row')}; first: {first_rows(twice)}."), rows = twice,
                  call = call)
  }
  if (length(values) > 100L) {
    abort_input(c("{.arg time} must name a column of few periods.", x = "{.val {time}} has {length(values)} values."),
                column = time, call = call)
  }
  rows <- order(code, period)
  code <- code[rows]
  period <- period[rows]
  place <- sequence(rle(code)$lengths)
  holes <- unique(code[period != place])
  if (length(holes) > 0L) {
    shown <- as.character(names[utils::head(holes, 3L)])
    abort_input(c("Histories must begin in the first period and have no gaps.",
                  x = "{length(holes)} unit{?s} {?does/do} not: {.val {shown}}{if (length(holes) > 3) ', ...'}.",
                  i = "Units may leave early (then they are weighed for), not come late; fill gaps or leave such units
                       out."), units = as.character(names[holes]), call = call)
  }
  list(rows = rows, unit = code, period = period, periods = as.character(values), names = as.character(names))
}

check_course_constant <- function(data, covariates, code, unit, call) {
  first <- which(!duplicated(code))[code]
  for (name in covariates) {
    x <- data[[name]]
    moved <- unique(data[[unit]][which(!same_entries(as.character(x), as.character(x[first])))])
    if (length(moved) > 0L) {
      shown <- as.character(utils::head(moved, 3L))
      abort_input(c("The covariate {.val {name}} must not change within a unit.",
                    x = "It does in {plural(length(moved), 'unit')}: {.val {shown}}.",
                    i = "Name it in {.arg changing}, or take its first value."), column = name, call = call)
    }
  }
}

check_periods_treated <- function(z, order, call) {
  treated <- core_sums_by(as.double(z), order$period, length(order$periods))
  count <- tabulate(order$period, length(order$periods))
  lone <- which(treated < 2 | count - treated < 2)
  if (length(lone) == 0L) return(invisible(z))
  abort_input(c("In every period at least 2 units must be treated and 2 not.",
                x = "In {.val {order$periods[lone[1L]]}} {treated[lone[1L]]} of {count[lone[1L]]} are treated.",
                i = "Leave such periods out, or join them with others."), periods = order$periods[lone], call = call)
}

# base: a study of the rows, sorted by unit and period, whose treatment is each period's; at: codes of unit and period
# per row, the periods' values and the units' names; roles: see frame_course(); score: score_course(); weight: per row,
# running, NULL for none; kept: what its derivative needs.
new_course <- function(base, at, roles, steps, score = NULL, weight = NULL, kept = NULL, recipe = list(),
                       cautions = character()) {
  stopifnot(length(at$unit) == length(base$z), !is.unsorted(at$unit))
  structure(list(base = base, at = at, roles = roles, score = score, weight = weight, kept = kept, steps = steps,
                 recipe = recipe, cautions = cautions, hash = rlang::hash(list(base$hash, at, steps))),
            class = "twin_course")
}

is_course <- function(x) inherits(x, "twin_course")

#' @exportS3Method
study_of.twin_course <- function(x) x$base # nolint: object_name_linter. An S3 method.

# Values of rows as a matrix of units and periods, NA where a unit has left.
as_periods <- function(x, values) {
  out <- matrix(NA, length(x$at$names), length(x$at$periods))
  out[cbind(x$at$unit, x$at$period)] <- values
  out
}

# A value per unit: that of its first row.
of_units <- function(x, values) values[!duplicated(x$at$unit)]
