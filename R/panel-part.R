# Parts of a panel: some of its rows, with all that belongs to them, as if they alone had been framed. The logbook stays
# shared.

# inside: which of the panel's rows; name: of the part, for what is kept by hash.
panel_part <- function(panel, inside, name) {
  refuse_remote(panel)
  at <- which(inside)
  units <- sort(unique(panel$unit[at]))
  times <- sort(unique(panel$time[at]))
  cohorts <- sort(unique(panel$cohort[units]))
  kept <- function(codes) {
    if (is.null(codes)) return(NULL)
    own <- as.vector(codes)[units]
    known <- unique(own)
    structure(match(own, known), labels = attr(codes, "labels")[known], name = attr(codes, "name"))
  }
  unit <- match(panel$unit[at], units)
  columns <- lapply(panel$columns, column_rows, at = at)
  out <- amend(
    panel, rows = panel$rows[at], in_order = FALSE, s = panel$s[at], columns = columns, unit = unit,
    varying = columns_over_time(columns, which(!duplicated(unit)), unit),
    time = match(panel$time[at], times), cohort = match(panel$cohort[units], cohorts),
    first_row = which(!duplicated(unit)), unit_labels = panel$unit_labels[units], group = kept(panel$group),
    cluster = kept(panel$cluster), cohorts = plain_rows(panel$cohorts, cohorts),
    periods = plain_rows(panel$periods, times),
    dose = if (has_dose(panel)) list(name = panel$dose$name, amount = panel$dose$amount[units]),
    hash = rlang::hash(list(panel$hash, name))
  )
  if (is_held(panel)) {
    differ <- panel$held$differ[cohorts, cohorts, drop = FALSE]
    out <- amend(out, held = list(names = panel$held$names, differ = differ))
  }
  if (is_switching(panel)) out <- amend(out, switches = part_of_switches(out, panel$switches, at))
  out
}

plain_rows <- function(table, at) {
  out <- table[at, , drop = FALSE]
  rownames(out) <- NULL
  out
}

part_of_switches <- function(part, switches, at) {
  switches$value <- switches$value[at]
  level <- if (is.null(part$group)) part$unit else part$group[part$unit]
  back <- periods_since(part) > 0 & switches$value == part$cohorts$baseline[part$cohort[part$unit]]
  switches$back <- length(unique(level[back]))
  switches
}

# The rows of each level of a column, by level. In a panel a unit must not change level. Levels without treated or
# without comparison units are left out with a warning.
panel_groups <- function(panel, by, call = rlang::caller_env()) {
  check_string(by, arg = "by", call = call)
  check_columns(by, panel$data, "by", call)
  if (is_carried(panel)) {
    abort_unsupported(c("A design that weighs all groups together can't be taken apart by {.arg by}.",
                        i = "Choose a group with {.arg subset} in {.fn frame_panel}, make its own design on its
                             {.fn baseline_rows}, and carry that."), call = call)
  }
  x <- some_rows(panel$data[[by]], panel$rows)
  groups <- rows_of_levels(x, by, if (is.null(panel$s)) rep(1, length(x)) else panel$s, call)
  codes <- Reduce(`+`, Map(function(inside, k) inside * k, groups, seq_along(groups)))
  if (panel$repeats) {
    check_of_units(codes, panel, by, call)
  }
  thin <- vapply(groups, function(inside) {
    own <- unique(panel$cohort[panel$unit[inside]])
    treated <- is_treated_cohort(panel)[own]
    !any(treated) || length(own) < 2L
  }, NA)
  leave_thin_groups(groups, thin, by, call, "treated units and units to compare them with",
                    "no treated units with units to compare them with")
}

# Treatment of several kinds: each unit comes under one of them and stays. `arms` of the panel: list(reference, levels:
# none in the panel of one arm); cohorts has arm (NA where none is seen), and foreign, in the panel of one arm: are they
# there to be compared with, for as long as no other arm has reached them?

has_arms <- function(panel) length(panel$arms$levels) > 0L

# What tells a cohort's kind in its label: " nets", and of numbers " gear 2".
arm_suffix <- function(arm, name) paste0(" ", ifelse(grepl("^[0-9.-]+$", arm), paste(name, arm), arm))

# Treatment told by its kind: list(arm: text per row, on: is it any but the reference?).
read_arms <- function(x, name, reference, rows, call) {
  x <- if (is.logical(x)) factor(x) else plain_column(x, name, call)
  text <- as.character(x)
  listing <- table(text)
  counts <- sprintf("%s (%d)", dQuote(names(listing), FALSE), as.integer(listing))
  if (!is_single_value(reference) || !as.character(reference) %in% names(listing)) {
    abort_input(c("{.arg reference} must be the value of {.val {name}} that means no treatment.",
                  x = "It is {describe_value(reference)}; the values are {utils::head(counts, 10)}."), column = name,
                call = call)
  }
  if (length(listing) < 3L) {
    abort_input(c("{.arg reference} is for treatment of several kinds.", x = "{.val {name}} has {counts}.",
                  i = "Leave it out."), column = name, call = call)
  }
  if (length(listing) > 21L) {
    abort_input(c("{.val {name}} has {length(listing)} values, too many for kinds of treatment.",
                  i = "Amounts of one treatment are followed with {.code switching = TRUE}."), column = name,
                call = call)
  }
  list(arm = text, on = text != as.character(reference))
}

# Per row the arm that what is treated as a whole comes under, NA where none.
arm_of_level <- function(arm, on, position, onset, level, name, what, rows, call) {
  at <- which(on & position == onset)
  of_level <- rep(NA_character_, length(attr(level, "labels")))
  of_level[level[at]] <- arm[at]
  moved <- which(on & arm != of_level[level])
  if (length(moved) > 0L) {
    labels <- attr(level, "labels")[unique(level[moved])]
    abort_input(c(
      "Each {what} must come under one kind of treatment and stay with it.",
      x = "{length(labels)} {?moves/move} on to another value of {.val {name}}: {.val {first_rows(labels)}}; first rows:
           {first_rows(rows[moved])}.",
      i = "Leave out {cli::qty(length(labels))}{?its/their} rows from the second kind on with {.arg subset}, or
           {?it/them} altogether."
    ), units = labels, rows = rows[moved], column = name, call = call)
  }
  of_level[level]
}

#' @exportS3Method
contrasts_of.twin_panel <- function(x) panel_contrasts(x) # nolint: object_name_linter. An S3 method.

# One panel per arm: its own units, those never treated, and those of other arms for as long as they are untreated.
panel_contrasts <- function(panel, call = rlang::caller_env()) {
  if (!has_arms(panel)) {
    abort_input(c("This panel's treatment is of one kind.",
                  i = "Several kinds are framed with {.arg reference} in {.fn frame_panel}."), call = call)
  }
  lapply(stats::setNames(nm = panel$arms$levels), function(arm) {
    foreign <- !is.na(panel$cohorts$arm) & panel$cohorts$arm != arm
    inside <- !foreign[panel$cohort[panel$unit]] | periods_since(panel) < 0
    cohorts <- panel$cohorts
    cohorts$foreign <- foreign
    cohorts$label[foreign] <- paste(cohorts$label[foreign], "(until then)")
    cohorts$label[!foreign] <- sub(arm_suffix(arm, panel$roles$treatment), "", cohorts$label[!foreign], fixed = TRUE)
    arms <- list(reference = panel$arms$reference, levels = character())
    amend(panel_part(amend(panel, cohorts = cohorts), inside, c("arm", arm)), treated = arm, arms = arms)
  })
}
