# Parts of a study: its units of one subgroup, with all that belongs to them. The logbook stays shared.

restrict_study <- function(study, inside) study_rows(study, which(inside))

# keep: places among the study's rows, some perhaps several times.
study_rows <- function(study, keep) {
  refuse_remote(study)
  code <- function(role) {
    if (!is.null(study[[role]])) structure(study[[role]][keep], labels = attr(study[[role]], "labels"))
  }
  columns <- lapply(study$columns, column_rows, at = keep)
  amend(study, rows = study$rows[keep], z = study$z[keep], s = study$s[keep], cluster = code("cluster"),
        stratum = code("stratum"), columns = columns)
}

# A prepared column at some of its rows.
column_rows <- function(column, at) {
  column$values <- column$values[at]
  if (!is.null(column$flag)) column$flag <- column$flag[at]
  column
}

# The units of each level of a column of the data, as a named list of logical vectors over the study's rows. Levels in
# which an arm has fewer than 2 units are left out with a warning.
study_groups <- function(study, by, call = rlang::caller_env()) {
  check_string(by, arg = "by", call = call)
  check_columns(by, study$data, "by", call)
  groups <- rows_of_levels(study$data[[by]][study$rows], by, sampling_weight(study), call)
  thin <- vapply(groups, function(inside) min(sum(study$z[inside]), sum(1L - study$z[inside])) < 2L, NA)
  leave_thin_groups(groups, thin, by, call, "2 units in both arms", "fewer than 2 units in an arm")
}

# Logical vectors by level, in the order of text: no before yes, 0 before 1.
rows_of_levels <- function(x, by, s, call) {
  column <- prepare_column(x, by, s, call)
  if (column$kind %in% c("numeric", "date")) {
    abort_input(c("{.arg by} must name a column with a few levels.", x = "{.val {by}} is {column$kind}.",
                  i = "Cut it into groups first, for example with cut()."), call = call)
  }
  codes <- if (column$kind == "factor") column$values else 1 + (column$values == 1)
  levels <- if (column$kind == "factor") column$levels else rev(column_levels(column))
  if (!is.null(column$flag)) {  # of two values; a factor has a level for those not known
    codes[column$flag == 1] <- 0
    warn_kind("dropped", c("{column$missing} row{?s} {?is/are} in no group: {.val {by}} is missing there.",
                           i = "Fill {cli::qty(column$missing)}{?it/them} for a group of {?its/their} own."))
  }
  lapply(stats::setNames(seq_along(levels), levels), function(k) codes == k)
}

# has, lacks: what each level must have, and what the thin ones have instead, in words.
leave_thin_groups <- function(groups, thin, by, call, has, lacks) {
  if (all(thin)) {
    abort_input(c("No level of {.val {by}} has {has}.", i = "Choose another column for {.arg by}."),
                column = by, call = call)
  }
  if (any(thin)) {
    warn_kind("thin_group", c("{sum(thin)} level{?s} of {.val {by}} {?has/have} {lacks} and {?is/are} left out:
                               {.val {names(groups)[thin]}}."), levels = names(groups)[thin])
  }
  groups[!thin]
}
