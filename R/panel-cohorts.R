# When each unit is first treated: from a column of treatment over time, or from a column that says so.

# Onset per row as a place on the time grid, Inf for never; level: codes of what is treated as a whole (groups, else
# units), NULL where rows stand alone; one_row: has a level one row per period?
onset_by_treatment <- function(treatment, roles, treated, level, position, rows, one_row, call) {
  name <- roles$treatment
  d <- read_treatment(treatment, name, treated, rep(TRUE, length(treatment)), call)$z
  what <- level_name(roles)
  if (is.null(level)) {
    abort_input(c("With a {.arg treatment} column in a repeated cross-section, {.arg group} must say what is treated.",
                  i = "Or give {.arg first_treated}, the first treated period of each row."), call = call)
  }
  if (!one_row) check_whole_groups(d, level, position, what, name, rows, call)
  onset <- first_where(position, d == 1L, level)
  seen <- first_where(position, rep(TRUE, length(d)), level)
  last_off <- -first_where(-position, d == 0L, level)
  back <- which(is.finite(onset) & last_off > onset)
  if (length(back) > 0L) {
    labels <- attr(level, "labels")[back]
    abort_input(c(
      "Treatment must not switch off: {.val {name}} goes back from treated to untreated.",
      x = "It does in {length(back)} {what}{cli::qty(length(back))}{?s}: {.val {first_rows(labels)}}.",
      i = "Follow units from their first switch: {.code switching = TRUE}. Or leave {cli::qty(length(back))}{?it/them}
           out with {.arg subset}, or define treatment as ever treated so far."
    ), units = labels, column = name, call = call)
  }
  entered <- is.finite(onset) & onset <= seen
  warn_unsure_onset(onset, last_off, entered, position, level, what)
  list(onset = onset[level], entered_treated = entered[level])
}

# A unit that is not seen in the period before it is first seen treated may have been treated then.
warn_unsure_onset <- function(onset, last_off, entered, position, level, what) {
  unsure <- which(!entered & away_before(onset, last_off, position))
  if (length(unsure) == 0L) return(invisible())
  labels <- attr(level, "labels")[unsure]
  warn_kind("onset", c(
    "{length(unsure)} {what}{cli::qty(length(unsure))}{?s} {?is/are} not seen just before treatment is first seen:
     {.val {first_rows(labels)}}.",
    i = "{cli::qty(length(unsure))}{?It counts/They count} as treated from then on; {.arg first_treated} can tell
         when it began."
  ), units = labels)
}

# Is a level not seen in the last period before its onset? last: its last position before that.
away_before <- function(onset, last, position) {
  seen <- sort(unique(position))
  is.finite(onset) & findInterval(onset, seen) > findInterval(last, seen) + 1L
}

level_name <- function(roles) if (!is.null(roles$group)) roles$group else roles$unit

# The least position per level where `inside`; Inf where there is none.
first_where <- function(position, inside, level) {
  out <- rep(Inf, length(attr(level, "labels")))
  order <- order(position[inside], decreasing = TRUE)
  out[level[inside][order]] <- position[inside][order]
  out
}

# All or none of a group's rows in a period.
check_whole_groups <- function(d, level, position, what, name, rows, call) {
  cell <- core_group_codes(level, position)
  first <- match(cell, cell)
  split <- which(d != d[first])
  if (length(split) == 0L) return(invisible(d))
  mixed <- unique(level[split])
  labels <- attr(level, "labels")[mixed]
  abort_input(c(
    "All rows with one value of {.val {what}} in one period must be treated alike.",
    x = "{.val {name}} differs within a period in {length(mixed)} of them: {.val {first_rows(labels)}}; first rows:
         {first_rows(rows[split])}.",
    i = "Name as {.arg group} the level at which treatment is decided."
  ), units = labels, rows = rows[split], column = name, call = call)
}

onset_by_column <- function(first, roles, level, scale, rows, call) {
  name <- roles$first_treated
  onset <- read_onset(first, name, scale, rows, call)
  if (!is.null(level)) check_constant(onset, level, name, level_name(roles), rows, call)
  list(onset = onset, entered_treated = onset <= 1)
}

# Missing, blank, 0 (where that is before the first period), Inf and "never" mean never treated.
read_onset <- function(x, name, scale, rows, call) {
  distinct <- unique(x)
  text <- trimws(as.character(distinct))
  zero <- text == "0" & !(scale$kind %in% "number" && 0 >= scale$origin)
  never <- is.na(distinct) | text == "" | tolower(text) %in% c("never", "inf") | zero
  position <- rep(Inf, length(distinct))
  if (any(!never)) {
    raw <- scale$raw(distinct[!never])
    position[!never] <- time_position(raw, scale)
  }
  bad <- which(!never & (is.na(position) | abs(position - round(position)) > 1e-6))
  if (length(bad) > 0L) {
    at <- which(x %in% distinct[bad])
    abort_input(c(
      "{.val {name}} must hold periods of {.arg time}, and nothing (or \"never\") for units never treated.",
      x = "{.val {first_rows(text[bad])}} {?is/are} no period; first rows: {first_rows(rows[at])}.",
      i = if (length(distinct) == 2L) "A column that says whether a row is treated is {.arg treatment}." else
      "Periods look like {.val {position_label(1, scale)}}."
    ), rows = rows[at], column = name, call = call)
  }
  round(position)[match(x, distinct)]
}

# A column that belongs to units or groups must not vary within them.
check_constant <- function(x, level, name, what, rows, call) {
  first <- match(level, level)
  varies <- which(x != x[first])
  if (length(varies) == 0L) return(invisible(x))
  which_ones <- unique(level[varies])
  labels <- attr(level, "labels")[which_ones]
  abort_input(c(
    "{.val {name}} must be the same in all rows with one value of {.val {what}}.",
    x = "It varies in {length(which_ones)} of them: {.val {first_rows(labels)}}; first rows:
         {first_rows(rows[varies])}.",
    i = "Correct the column, or leave {cli::qty(length(which_ones))}{?it/them} out with {.arg subset}."
  ), units = labels, rows = rows[varies], column = name, call = call)
}

# Units treated from the start have no time before: they can't be compared with themselves.
warn_always_treated <- function(level, inside, what, rows) {
  if (is.null(level)) {
    level <- structure(seq_along(rows), labels = as.character(rows))
    what <- "row"
  }
  gone <- unique(level[inside])
  labels <- attr(level, "labels")[gone]
  warn_kind("always_treated", c(
    "{length(gone)} {what}{cli::qty(length(gone))}{?s} {?is/are} treated when first seen and set aside:
     {.val {first_rows(labels)}}.",
    i = "Nothing is known of {cli::qty(length(gone))}{?it/them} before treatment."
  ), units = labels)
}
