#' State the question over time: who was treated when, and what came of it
#'
#' The first step of a difference-in-differences. Takes a panel (units seen in several periods) or a repeated
#' cross-section (other units each time), works out when each unit is first treated, and checks what every later step
#' leans on: treatment that does not switch off, groups treated as a whole, one row per unit and period. Treatment is
#' absorbing: once treated, always treated.
#'
#' Which of both it is follows from `unit`: where units repeat it is a panel; where none does, or without `unit`, a
#' repeated cross-section. The print says so, and shows the cohorts with their sizes and periods.
#'
#' @param data A data frame with one row per unit and period, or such a table in a database ([remote_units()]).
#' @param outcome Name of the outcome column, or several names; see `event`.
#' @param time Name of the time column: numbers, dates, quarters (`"2021Q1"`), months (`"2021-03"`), an ordered factor,
#'   or other text with `periods`. Periods are a regular grid where their gaps allow it; gaps are reported.
#' @param unit Name of the column that identifies units over time.
#' @param group Name of the column of groups that are treated as a whole, such as harbours; units by default.
#' @param treatment Name of a two-valued column: is the row treated in its period? Either this or `first_treated`.
#' @param first_treated Name of a column with the first treated period of each row's unit; missing, blank, 0, `Inf` or
#'   "never" for units never treated.
#' @param covariates What makes trends differ: column names, or a one-sided formula, as in [frame_study()]. Cells of
#'   [measure_did()] use their values in the base period; where they vary over time the print says so.
#' @param weight Name of a column of sampling weights. Where a unit's weight changes over time, a group-time cell uses
#'   that of its base period, and averages over cohorts count a unit by its mean weight.
#' @param frequency Name of a column of frequency weights, as in [frame_study()]: a row counts as so many rows of units
#'   that are alike. In a panel a unit's count must not change.
#' @param cluster Name of a column of clusters; by default groups, else units; in a cross-section without groups none,
#'   which gives robust errors. Units must not change cluster. What is named is used, with a caution where it is smaller
#'   than what is treated as a whole.
#' @param periods All periods in order, where `time` is text that does not show it.
#' @param treated The value of `treatment` that means treated; TRUE, 1 and yes need no naming.
#' @param subset Which rows to use, as in [frame_study()].
#' @param missing What to do about missing covariate values, as in [frame_study()].
#' @param event For outcomes with two values, the one that counts as 1, as in [frame_study()].
#' @param logged,unknown,categories As in [frame_study()]; effects on outcomes in logs come in per cent too.
#' @param design A design (pairs, sets, strata or weights) made on [baseline_rows()], one row per unit, whose weights
#'   count the units of every cell: matched or weighted first, then differenced. With several dates of treatment also a
#'   list of designs, one per treated cohort, named by its label. Errors account for the estimation of the weights, and
#'   take pairs and sets as clusters where no cluster or group is named.
#' @param switching Does treatment switch on and off, or change its amount? Default FALSE, which refuses a panel whose
#'   treatment goes back. With TRUE units are followed from their first switch, against units that began with the same
#'   treatment and have not switched so far; `treatment` may be numbers of more than two values.
#' @param reference For a `treatment` of several kinds: its value that means no treatment. Each unit comes under one
#'   kind and stays with it; [measure_did()] gives one effect per kind, against units of no kind or not yet of any, and
#'   [contrasts_of()] the panel of each.
#' @param held Names of columns of other treatments that are held: effects are measured against units in which these
#'   have run alike up to then (de Chaisemartin & D'Haultfoeuille 2023).
#' @return A `twin_panel`. `summary()` gives the timing table: a data frame with one row per cohort, `cohort` (label of
#'   the first treated period, or "never"), `units`, `rows`, `groups` (what is treated as a whole), `first`, `last`
#'   (first and last period seen), `untreated_to` (last period seen without treatment) and `treated_from` (first with
#'   it). `plot()` shows the timing (`view = "timing"`), outcome means by cohort (`"means"`) or the same by periods
#'   since treatment (`"event"`).
#' @section Errors: `twin_error_input` for unknown columns, treatment that switches off (the units are named), groups
#'   treated in part, repeated rows of a unit in a period, periods without order, a panel without treated or without
#'   comparison units. Units treated in their first period are set aside with the warning `twin_warning_always_treated`;
#'   rows whose treatment is missing with `twin_warning_dropped`.
#' @param dose Name of a column of doses: how much of the treatment a treated row has, a number above 0 that stays the
#'   same from the first treated period on; untreated rows may hold anything. Without `treatment` and `first_treated`
#'   rows are treated where it is above 0. For `measure_did(estimator = "dose")`; every other estimator takes all doses
#'   together.
#' @param ... Nothing: an argument that is not known is refused with the nearest name; instruments and cut-offs are out
#'   of scope (`twin_error_unsupported`).
#' @references de Chaisemartin, C., D'Haultfoeuille, X. (2023). Two-way fixed effects and differences-in-differences
#'   estimators with several treatments. Journal of Econometrics 236. \doi{10.1016/j.jeconom.2023.105480}
#' @family question
#' @examples
#' frame_panel(harbours, outcome = "price", time = "quarter", unit = "harbour", treatment = "cold_store")
#' @export
frame_panel <- function(data, treatment = NULL, outcome, time, unit = NULL, group = NULL, first_treated = NULL,
                        covariates = NULL, weight = NULL, frequency = NULL, cluster = NULL, periods = NULL,
                        treated = NULL, subset = NULL, missing = c("flag", "drop", "stop"), event = NULL,
                        logged = NULL, unknown = NULL, categories = NULL, design = NULL, switching = FALSE,
                        reference = NULL, held = NULL, dose = NULL, ...) {
  call <- rlang::current_env()
  check_no_more(...names(), ...length(), setdiff(names(formals()), "..."), call)
  missing <- check_choice(missing, c("flag", "drop", "stop"))
  roles <- list(outcome = outcome, time = time, unit = unit, group = group, treatment = treatment,
                first_treated = first_treated, weight = weight, cluster = cluster, frequency = frequency)
  check_flag(switching)
  roles <- dose_as_treatment(roles, dose)
  if (inherits(data, "twin_remote")) {
    if (!is.null(design)) refuse_in_memory("Designs are carried into panels", call)
    if (switching) refuse_in_memory("Treatment that switches is followed", call)
    if (!is.null(reference)) refuse_in_memory("Treatment of several kinds is told apart", call)
    if (!is.null(held)) refuse_in_memory("Another treatment is held", call)
    if (!is.null(dose)) refuse_in_memory("Doses are read", call)
    return(frame_remote_panel(data, roles, list(
      covariates = covariates, periods = periods, treated = treated, subset = subset, missing = missing, event = event,
      logged = logged, unknown = unknown, categories = categories
    ), call))
  }
  check_units(data, call)
  attr(data, "class") <- "data.frame"
  check_panel_roles(data, roles, call)
  if (!is.null(dose)) check_can_dose(dose, data, roles, switching, call)
  if (!is.null(held)) check_can_hold(held, roles, switching, design, data, call)
  if (!is.null(reference)) check_can_have_arms(roles, treated, switching, design, call)
  row_of <- NULL
  if (!is.null(frequency)) {
    again <- repeat_panel_rows(data, roles, subset, call)
    data <- again$data
    subset <- again$subset
    row_of <- again$row_of
  }
  wanted <- if (!is.null(covariates)) {
    parse_covariates(covariates, data, unlist(roles[c("outcome", "treatment", "first_treated")]), call = call)
  }
  check_logged(logged, outcome, data, call)
  if (!is.null(wanted)) check_panel_covariates(roles, wanted$names, call)
  data <- declared_columns(data, c(wanted$names, outcome, treatment, dose, held), unknown, categories, call)
  chosen <- panel_rows(data, c(roles, list(held = held)), wanted$names, subset, missing, call)
  rows <- chosen$rows
  scale <- time_scale(data[[time]][rows], time, periods, call)
  if (switching) check_can_switch(roles, design, call)
  asked <- list(treated = treated, switching = switching, reference = reference, held = held, dose = dose)
  timing <- panel_timing(data, roles, asked, rows, scale, call)
  order <- timing$order
  rows <- rows[order]
  pick <- function(name) some_rows(data[[name]], rows)
  s <- if (!is.null(weight)) check_panel_weight(pick(weight), weight, rows, call)
  mean_weight <- if (is.null(s)) rep(1, length(rows)) else s
  columns <- lapply(stats::setNames(nm = wanted$names),
                    function(name) prepare_column(pick(name), name, mean_weight, call))
  for (name in wanted$names) warn_stray_text(data[[name]], name, rows)
  if (!is.null(wanted$formula)) covariate_matrix(columns, wanted$formula, call)
  dropped <- c(chosen$dropped, "treated when first seen" = timing$set_aside)
  new_panel(with_design(c(
    list(data = data, row_of = row_of, rows = rows, roles = roles, s = s,
         in_order = length(rows) == nrow(data) && !is.unsorted(rows), columns = columns, formula = wanted$formula,
         varying = columns_over_time(columns, timing$fields$first_row, timing$fields$unit),
         missing = missing, logged = logged, dropped = dropped[dropped > 0], treated = timing$treated,
         events = check_outcomes(data, outcome, event, rows, call)),
    timing$fields
  ), design, call))
}

# what: what is done in memory alone.
refuse_in_memory <- function(what, call) {
  abort_unsupported(c("{what} in memory.",
                      i = "Read all rows of some units, drawn in a query of your own, and frame them."), call = call)
}

# The only door. fields: rows of the data sorted by unit and period (in_order: as they stand, all of them); unit, time:
# codes per row (units contiguous, time into `periods`); cohort, group, cluster: codes per unit, group and cluster with
# labels; cohorts, periods: data frames of label and position on the time grid, the cohorts ending with "never" (Inf)
# where there is one; s: per row or NULL.
new_panel <- function(fields) {
  stopifnot(length(fields$unit) == length(fields$rows), !is.unsorted(fields$unit),
            length(fields$cohort) == max(fields$unit), length(fields$cluster) == length(fields$cohort))
  fields$hash <- rlang::hash(fields[setdiff(names(fields), c("formula", "scale", "carried"))])
  fields$logbook <- new_logbook()
  panel <- structure(fields, class = "twin_panel")
  log_step(panel, "frame", paste0(paste(fields$roles$outcome, collapse = ", "), ", ", kind_of_panel(panel)),
           counts = sprintf("%.0f treated, %.0f never", sum(cohort_sizes(panel)[is_treated_cohort(panel)]),
                            sum(cohort_sizes(panel)[panel$cohorts$position == Inf])),
           settings = list(covariates = panel_terms(panel), missing = fields$missing))
  panel
}

#' @exportS3Method
study_of.twin_panel <- function(x) x # nolint: object_name_linter. An S3 method.

panel_terms <- function(panel) {
  if (length(panel$columns) == 0L) return(NULL)
  if (is.null(panel$formula)) paste(names(panel$columns), collapse = " + ") else deparse1(panel$formula[[2L]])
}

kind_of_panel <- function(panel) if (panel$repeats) "panel" else "repeated cross-section"

# Is each cohort (row of panel$cohorts) treated within the periods seen? Those of other arms are not (panel-part.R).
is_treated_cohort <- function(panel) {
  seen <- panel$cohorts$position <= max(panel$periods$position)
  if (is.null(panel$cohorts$foreign)) seen else seen & !panel$cohorts$foreign
}

check_panel_roles <- function(data, roles, call) {
  if (!is.character(roles$outcome) || length(roles$outcome) == 0L || anyNA(roles$outcome)) {
    abort_input("{.arg outcome} must be one or several column names in quotes.", call = call)
  }
  check_columns(roles$outcome, data, "outcome", call)
  check_string(roles$time, arg = "time", call = call)
  for (role in setdiff(names(roles), "outcome")) {
    check_string(roles[[role]], null = TRUE, arg = role, call = call)
    if (!is.null(roles[[role]])) check_columns(roles[[role]], data, role, call)
  }
  if (is.null(roles$treatment) == is.null(roles$first_treated)) {
    abort_input(c("Give one of {.arg treatment} and {.arg first_treated}.",
                  i = "{.arg treatment}: is the row treated in its period? {.arg first_treated}: from when on?"),
                call = call)
  }
  single <- unlist(roles[c("time", "treatment", "first_treated")])
  clash <- intersect(roles$outcome, c(single, roles$unit, roles$group))
  if (length(clash) > 0L) {
    abort_input("The outcome {.val {clash}} can't have another role too.", column = clash, call = call)
  }
}

check_panel_covariates <- function(roles, covariates, call) {
  taken <- intersect(covariates, c(roles$outcome, roles$treatment, roles$first_treated))
  if (length(taken) > 0L) {
    abort_input(c("{.val {taken}} can't be among the covariates: {?it is/they are} outcome or treatment.",
                  i = "Take {cli::qty(length(taken))}{?it/them} out of {.arg covariates}."),
                column = taken, call = call)
  }
}

# Which rows take part, and why others do not.
panel_rows <- function(data, roles, covariates, subset, missing, call) {
  inside <- subset_rows(subset, data, call)
  check_used_columns(data, c(unlist(roles), covariates), c(roles$outcome, roles$weight, covariates), which(inside),
                     call)
  dropped <- c("outside the subset" = sum(!inside))
  if (!is.null(roles$treatment)) {
    absent <- inside & is.na(data[[roles$treatment]])
    if (any(absent)) {
      warn_kind("dropped", c(
        "{sum(absent)} row{?s} {?is/are} left out: the treatment {.val {roles$treatment}} is missing there.",
        i = "First rows: {first_rows(which(absent))}."
      ))
    }
    dropped <- c(dropped, "treatment missing" = sum(absent))
    inside <- inside & !absent
  }
  if (missing != "flag" && length(covariates) > 0L) {
    incomplete <- incomplete_rows(data, covariates, inside, missing, call)
    dropped <- c(dropped, "a covariate missing" = sum(incomplete))
    inside <- inside & !incomplete
  }
  if (!any(inside)) abort_input("No rows are left.", call = call)
  list(rows = which(inside), dropped = dropped)
}

check_can_switch <- function(roles, design, call) {
  if (is.null(roles$treatment)) {
    abort_input(c("{.code switching = TRUE} needs a {.arg treatment} column, which says what each row's treatment is.",
                  i = "{.arg first_treated} knows no way back."), call = call)
  }
  if (is.null(design)) return(invisible(roles))
  abort_unsupported(c("A design speaks of one date of treatment; this treatment switches.",
                      i = "Leave out {.arg design}, and use {.arg covariates} with {.arg adjustment}."), call = call)
}

check_can_have_arms <- function(roles, treated, switching, design, call) {
  if (is.null(roles$treatment) || !is.null(treated)) {
    abort_input(c("{.arg reference} goes with {.arg treatment}, a column that says which kind of treatment each row is
                   under.", i = "Leave out {.arg {if (is.null(roles$treatment)) 'first_treated' else 'treated'}}."),
                call = call)
  }
  what <- if (switching) "treatment that switches" else if (!is.null(design)) "a design"
  if (is.null(what)) return(invisible(roles))
  abort_unsupported(c("Several kinds of treatment and {what} don't go together.",
                      i = "Choose the rows of one kind and of the reference with {.arg subset}."), call = call)
}

# Who is treated when. asked: list(treated, switching, reference, held, dose). Returns the order of the rows, and the
# panel's fields that follow from it.
panel_timing <- function(data, roles, asked, rows, scale, call) {
  codes_of <- function(name, role) if (!is.null(name)) group_codes(data[[name]][rows], name, role, rows, call)
  unit <- codes_of(roles$unit, "unit")
  group <- codes_of(roles$group, "group")
  position <- time_position(scale$at, scale)
  repeats <- !is.null(unit) && anyDuplicated(unit) > 0L
  if (repeats) check_unit_periods(unit, position, roles, rows, call)
  if (repeats && !is.null(group)) check_constant(group, unit, roles$group, roles$unit, rows, call)
  level <- if (!is.null(group)) group else if (repeats) unit
  told <- told_treatment(data, roles, asked, level, position, rows, scale, repeats && is.null(group), call)
  aside <- told$entered_treated
  if (any(aside)) warn_always_treated(level, aside, level_name(roles), rows)
  if (asked$switching) check_switchers(told, position, roles, call) else
    check_both_sides(told$onset, aside, position, roles, call)
  if (!repeats) unit <- seq_along(rows)
  order <- order(unit, position)
  order <- order[!aside[order]]
  history <- lapply(Filter(Negate(is.null), told[c("baseline", "direction", "arm", "path")]), `[`, order)
  fields <- panel_fields(data, roles, rows[order], unit[order], group[order], position[order], told$onset[order], scale,
                         attr(group, "labels"), call, history)
  fields <- named_cohorts(fields, told, asked, order, roles, scale)
  list(order = order, set_aside = sum(aside), fields = c(fields, list(repeats = repeats, scale = scale[c(
    "kind", "raw", "label", "origin", "step", "seen")])), treated = treated_value(data, roles, asked, rows))
}

# Per row the onset of its level, and what else is told of the treatment: entered_treated; of one that switches also
# baseline, direction, value, plain and back; arm, of several kinds; amount, of doses; path and paths, of what is held.
told_treatment <- function(data, roles, asked, level, position, rows, scale, one_row, call) {
  what <- level_name(roles)
  given <- if (!is.null(roles$treatment)) some_rows(data[[roles$treatment]], rows)
  arms <- if (!is.null(asked$reference)) read_arms(given, roles$treatment, asked$reference, rows, call)
  if (!is.null(arms)) given <- arms$on
  if (is_own_treatment(roles, asked$dose)) given <- given > 0
  out <- if (asked$switching) {
    first_switches(given, roles, asked$treated, level, position, rows, one_row, call)
  } else if (is.null(given)) {
    onset_by_column(data[[roles$first_treated]][rows], roles, level, scale, rows, call)
  } else {
    onset_by_treatment(given, roles, asked$treated, level, position, rows, one_row, call)
  }
  if (!is.null(arms)) {
    check_whole_groups(arms$arm, level, position, what, roles$treatment, rows, call)
    out$arm <- arm_of_level(arms$arm, arms$on, position, out$onset, level, roles$treatment, what, rows, call)
  }
  if (!is.null(asked$dose)) {
    out$amount <- doses_of_level(data[[asked$dose]][rows], asked$dose, level, position >= out$onset, what, rows, call)
  }
  if (!is.null(asked$held)) {
    out$paths <- held_paths(data, asked$held, roles, level, position, rows, call)
    out$path <- out$paths$path
  }
  out
}

# Is the dose what says who is treated?
is_own_treatment <- function(roles, dose) !is.null(dose) && identical(roles$treatment, dose)

# Cohorts called by what tells them apart, and the fields behind it.
named_cohorts <- function(fields, told, asked, order, roles, scale) {
  if (asked$switching) {
    fields$cohorts$label <- switch_labels(fields$cohorts, told$plain, scale)
    fields$switches <- list(value = told$value[order], back = told$back, plain = told$plain)
  }
  if (!is.null(asked$dose)) fields$dose <- list(name = asked$dose, amount = told$amount[order][fields$first_row])
  cohorts <- fields$cohorts
  if (!is.null(asked$reference)) {
    moved <- is.finite(cohorts$position)
    fields$cohorts$label[moved] <- paste0(cohorts$label, arm_suffix(cohorts$arm, roles$treatment))[moved]
    fields$arms <- list(reference = as.character(asked$reference), levels = sort(unique(stats::na.omit(cohorts$arm))))
  }
  if (!is.null(asked$held)) {
    fields$held <- held_fields(asked$held, told$paths, cohorts$path)
    fields$cohorts$label <- paste(fields$cohorts$label, held_labels(told$paths, cohorts$path, scale), sep = ", ")
  }
  fields
}

# For prints: which value of the treatment column means treated.
treated_value <- function(data, roles, asked, rows) {
  if (is.null(roles$treatment)) return(NULL)
  if (!is.null(asked$reference)) return(paste("other than", asked$reference))
  if (is_own_treatment(roles, asked$dose)) return("above 0")
  if (!is.null(asked$treated)) return(as.character(asked$treated))
  if (is.logical(data[[roles$treatment]])) "TRUE" else "1"
}

# history: of rows, what tells cohorts apart beside their onset.
panel_fields <- function(data, roles, rows, unit, group, position, onset, scale, labels, call, history = NULL) {
  unit <- match(unit, unique(unit))
  first <- which(!duplicated(unit))
  seen <- sort(unique(position))
  told <- c(list(position = onset[first]), lapply(history, `[`, first))
  code <- Reduce(function(a, b) (a - 1) * max(b) + b, lapply(told, function(own) {
    match(own, sort(unique(own), na.last = TRUE))
  }))
  example <- match(sort(unique(code)), code)
  cohorts <- as.data.frame(lapply(told, `[`, example))
  starts <- cohorts$position
  cohorts$label <- "never"
  cohorts$label[is.finite(starts)] <- onset_labels(starts[is.finite(starts)], scale)
  kept_group <- if (!is.null(group)) match(group[first], unique(group[first]))
  if (!is.null(kept_group)) attr(kept_group, "labels") <- labels[unique(group[first])]
  list(
    unit = unit, time = match(position, seen), cohort = match(code, code[example]), first_row = first,
    unit_labels = if (!is.null(roles$unit)) as.character(data[[roles$unit]][rows[first]]),
    arms = NULL, held = NULL, dose = NULL, group = kept_group,
    cluster = panel_clusters(data, roles, rows, unit, kept_group, call), cohorts = cohorts,
    periods = data.frame(position = seen, label = position_label(seen, scale))
  )
}

# A period after the last one that ordered text knows has no label of its own.
onset_labels <- function(position, scale) {
  label <- position_label(position, scale)
  ifelse(is.na(label), "later", label)
}

# Codes per unit with labels and the attribute `name`.
panel_clusters <- function(data, roles, rows, unit, group, call) {
  first <- which(!duplicated(unit))
  if (is.null(roles$cluster)) {
    if (!is.null(group)) return(structure(group, name = roles$group))
    return(structure(seq_along(first), name = if (is.null(roles$unit)) "single row" else roles$unit))
  }
  codes <- group_codes(data[[roles$cluster]][rows], roles$cluster, "cluster", rows, call)
  own <- structure(unit, labels = if (is.null(roles$unit)) as.character(rows) else
    as.character(data[[roles$unit]][rows[first]]))
  check_constant(codes, own, roles$cluster, if (is.null(roles$unit)) "row" else roles$unit, rows, call)
  structure(as.integer(codes)[first], labels = attr(codes, "labels"), name = roles$cluster)
}

check_unit_periods <- function(unit, position, roles, rows, call) {
  cell <- unit + length(attr(unit, "labels")) * (match(position, unique(position)) - 1)
  if (anyDuplicated(cell) == 0L) return(invisible())
  repeated <- which(duplicated(cell))
  labels <- attr(unit, "labels")[unique(unit[repeated])]
  abort_input(c(
    "Each {roles$unit} must have one row per period.",
    x = "{length(labels)} ha{?s/ve} more: {.val {first_rows(labels)}}; first repeated rows:
         {first_rows(rows[repeated])}.",
    i = "Several units of one group and period? Name the group as {.arg group}, and the units as {.arg unit} or not at
         all."
  ), units = labels, rows = rows[repeated], call = call)
}

check_both_sides <- function(onset, aside, position, roles, call) {
  if (!any(onset[!aside] <= max(position))) {
    abort_input(c("There must be units that become treated while they are seen.",
                  x = if (any(aside)) "All that are treated are so when first seen." else "Nobody is treated."),
                call = call)
  }
  if (length(unique(onset[!aside])) < 2L) {
    abort_input(c("There must be units to compare with: never treated, or treated later.",
                  x = "All become treated in the same period."), call = call)
  }
}

check_panel_weight <- function(s, name, rows, call) {
  if (!is.numeric(s)) abort_input("The weight {.val {name}} must be numbers.", column = name, call = call)
  bad <- which(!is.finite(s) | s <= 0)
  if (length(bad) > 0L) {
    abort_input(c("The weight {.val {name}} must be finite and above 0.",
                  x = "It is not in {length(bad)} row{?s}; first: {first_rows(rows[bad])}.",
                  i = "Correct {cli::qty(length(bad))}{?it/them} or leave {?the row/the rows} out with {.arg subset}."),
                column = name, rows = rows[bad], call = call)
  }
  as.double(s)
}

#' @export
summary.twin_panel <- function(object, ...) {
  rlang::check_dots_empty()
  of_row <- object$cohort[object$unit]
  position <- object$periods$position[object$time]
  label <- function(at) object$periods$label[match(at, object$periods$position)]
  copies <- unit_copies(object)
  rows <- lapply(seq_len(nrow(object$cohorts)), function(k) {
    inside <- position[of_row == k]
    onset <- object$cohorts$position[k]
    before <- inside[inside < onset]
    after <- inside[inside >= onset]
    data.frame(
      cohort = object$cohorts$label[k], units = sum(copies[object$cohort == k]),
      groups = if (is.null(object$group)) sum(copies[object$cohort == k]) else
        length(unique(object$group[object$cohort == k])),
      rows = sum(copies[object$unit[of_row == k]]),
      first = label(min(inside)), last = label(max(inside)),
      untreated_to = if (length(before) > 0L) label(max(before)) else NA_character_,
      treated_from = if (length(after) > 0L) label(min(after)) else NA_character_
    )
  })
  do.call(rbind, rows)
}

#' @export
as.data.frame.twin_panel <- function(x, ...) summary(x)

#' @export
nobs.twin_panel <- function(object, ...) panel_rows_count(object)
