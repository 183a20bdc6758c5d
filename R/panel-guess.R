# Do the columns look like units over time: a time, units or groups that come back, and a treatment that sets in and
# stays?

# list(time, unit, group, treatment, first_treated, ...) like guess_roles(), or NULL where the data are no panel.
guess_panel <- function(data) {
  kinds <- vapply(data, column_kind, "")
  for (time in time_candidates(data, kinds)) {
    at <- read_times(data[[time]], time)
    if (is.null(at)) next
    for (unit in setdiff(unit_candidates(data, kinds), time)) {
      found <- panel_of(data, kinds, time, unit, at)
      if (!is.null(found)) return(panel_roles(data, kinds, found))
    }
  }
  NULL
}

time_candidates <- function(data, kinds) {
  named <- names_like(data, "(^|[_. ])(year|quarter|month|week|period|wave|season|date|time|day|round)s?([_. ]|$)")
  counts <- vapply(data, function(x) length(unique(x[!is.na(x)])), 0L)
  likely <- union(named, names(kinds)[kinds %in% c("year", "date")])
  likely[counts[likely] >= 2L & counts[likely] <= nrow(data) / 3]
}

# Places in time, NULL where the column can't be read as one.
read_times <- function(x, name) {
  tryCatch(time_scale(x, name, NULL, rlang::current_env())$at, twin_error = function(e) NULL)
}

# Text, codes and whole numbers of which each value comes back.
unit_candidates <- function(data, kinds) {
  often <- vapply(data, function(x) {
    values <- length(unique(x[!is.na(x)]))
    !anyNA(x) && values >= 4L && values <= nrow(data) / 2 && (is_text(x) || is_whole(x))
  }, NA)
  names <- names(data)[often & !kinds %in% c("year", "date")]
  named <- grep("(^|[_. ])(id|unit|name|code|nr|no)[.]?$", names, ignore.case = TRUE, value = TRUE)
  text <- names[vapply(data[names], is_text, NA)]
  unique(c(named, text, names))
}

# Does this unit make a panel, or a group a repeated cross-section? list(time, unit or group, treatment or
# first_treated).
panel_of <- function(data, kinds, time, unit, at) {
  once <- is_seen_once(data[[unit]], at)
  two_valued <- setdiff(two_valued_columns(kinds), c(time, unit))
  switches <- Filter(function(name) sets_in(data[[name]], data[[unit]], at), two_valued)
  if (length(switches) > 0L) {
    return(list(time = time, unit = if (once) unit, group = if (!once) unit, treatment = switches))
  }
  onset <- if (once) {
    Filter(function(name) is_onset(data[[name]], data[[unit]], data[[time]]), setdiff(names(data), c(time, unit)))
  }
  if (length(onset) > 0L) list(time = time, unit = unit, first_treated = onset)
}

# Is it one value in all rows of a unit and period, and does the unit go from one value to the other at most once, the
# same way everywhere, and some of them do?
sets_in <- function(x, unit, at) {
  known <- which(!is.na(x) & !is.na(at))
  rows <- list(unit = match(unit, unit)[known], at = at[known], code = match(x, sort(unique(x)))[known])
  rows <- lapply(rows, `[`, do.call(order, unname(rows)))
  step <- diff(rows$code)
  same_unit <- diff(rows$unit) == 0
  if (any(step[same_unit & diff(rows$at) == 0] != 0)) return(FALSE)
  step <- step[same_unit & step != 0]
  length(unique(sign(step))) == 1L
}

# The first treated period of each unit: constant within it (unit: NULL where that is known), some of them periods, the
# others never.
is_onset <- function(x, unit, time) {
  values <- unique(x)
  periods <- unique(time)
  if (length(values) > length(periods) + 20L) return(FALSE)  # there are not so many words for never
  read <- as.character(values) %in% as.character(periods)
  never <- is.na(values) | tolower(trimws(as.character(values))) %in% c("", "0", "never", "inf")
  sum(read) >= 1L && any(never) && all(read | never) &&
    (is.null(unit) || !varies_within(x, unit))
}

varies_within <- function(x, unit) {
  code <- match(x, x)
  any(code != code[match(unit, unit)])
}

# Has no unit two rows of one time?
is_seen_once <- function(unit, at) !anyDuplicated(match(unit, unit) * (length(unit) + 1) + match(at, at))

# Is every unit or group seen with an outcome in every period?
seen_everywhere <- function(data, time, whole, outcome) {
  seen <- unique(data[!is.na(data[[outcome]]), c(time, whole)])
  nrow(seen) == length(unique(data[[time]])) * length(unique(data[[whole]]))
}

panel_roles <- function(data, kinds, found) {
  onsets <- Filter(function(name) is_onset(data[[name]], NULL, data[[found$time]]), setdiff(names(data), unlist(found)))
  used <- c(unlist(found), onsets)
  numeric <- names(kinds)[kinds == "number"]
  weight <- first_of(setdiff(intersect(numeric, names_like(data, "weight|population|^wt$")), used))
  ids <- setdiff(looks_like_id(data, kinds), used)
  rest <- setdiff(names(data), c(used, weight, ids))
  numbers <- rest[kinds[rest] %in% c("number", "true/false", "two values")]
  whole <- data[[if (is.null(found$unit)) found$group else found$unit]]
  varies <- vapply(rest, function(name) varies_within(data[[name]], whole), NA)
  moving <- intersect(rest[varies], numbers)
  measured <- moving[kinds[moving] == "number"]
  measured <- measured[order(vapply(data[measured], is_whole, NA), -seq_along(measured))]  # counts and codes last
  outcome <- c(measured, moving, rev(numbers))[1L]
  if (is.na(outcome)) return(NULL)
  no_covariate <- names(kinds)[kinds %in% no_covariate_kinds]
  covariates <- setdiff(rest[!varies], c(outcome, no_covariate))
  list(
    time = found$time, unit = found$unit, group = found$group, treatment = first_of(found$treatment),
    first_treated = first_of(found$first_treated), outcome = outcome, weight = weight, covariates = covariates,
    after = setdiff(rest[varies], outcome), kinds = kinds,
    complete = seen_everywhere(data, found$time, c(found$unit, found$group), outcome),
    unsure = c(
      unsure_of("treatment", first_of(found$treatment), found$treatment), unsure_of("outcome", outcome, moving),
      unsure_of("first_treated", first_of(found$first_treated), found$first_treated),
      left_out_as("columns that change over time and may follow from the treatment", setdiff(rest[varies], outcome)),
      left_out_as("identifiers", ids)
    )
  )
}

# Do they look like treatment that comes and goes, of units that stay? list(time, unit, treatment, outcome, weight,
# covariates, changing, varies: all columns that change within units, final: is the outcome known in last periods
# alone?, kinds, unsure) or NULL.
guess_course <- function(data) {
  kinds <- vapply(data, column_kind, "")
  two_valued <- two_valued_columns(kinds)
  for (time in time_candidates(data, kinds)) {
    at <- read_times(data[[time]], time)
    if (is.null(at)) next
    for (unit in setdiff(unit_candidates(data, kinds), time)) {
      if (!is_seen_once(data[[unit]], at)) next
      moving <- Filter(function(name) varies_within(data[[name]], data[[unit]]), setdiff(two_valued, c(time, unit)))
      if (length(moving) > 0L) return(course_roles(data, kinds, time, unit, at == max(at, na.rm = TRUE), moving))
    }
  }
  NULL
}

# last: rows of the last period. The outcome is a number that is known there alone, or else the last that changes.
course_roles <- function(data, kinds, time, unit, last, treatments) {
  treatment <- treatments[1L]
  weight <- likely_weight(data, kinds)
  rest <- setdiff(names(data), c(time, unit, treatment, weight, looks_like_id(data, kinds)))
  usable <- rest[kinds[rest] %in% c("number", "true/false", "two values")]
  at_end <- Filter(function(name) all(is.na(data[[name]][!last])) && !all(is.na(data[[name]])), usable)
  varies <- Filter(function(name) varies_within(data[[name]], data[[unit]]), rest)
  outcome <- c(at_end, rev(intersect(usable, varies)))[1L]
  if (is.na(outcome)) return(NULL)
  rest <- setdiff(rest, c(outcome, at_end, names(kinds)[kinds %in% no_covariate_kinds]))
  list(
    time = time, unit = unit, treatment = treatment, outcome = outcome, weight = weight,
    covariates = setdiff(rest, varies), changing = intersect(rest, varies), varies = varies,
    final = length(at_end) > 0L, kinds = kinds,
    unsure = c(unsure_of("treatment", treatment, treatments),
               unsure_of("outcome", outcome, if (length(at_end) > 0L) at_end else intersect(usable, varies)),
               left_out_as("other outcomes at the end", setdiff(at_end, outcome)))
  )
}
