# Frequency weights: a row that stands for k units is k rows from here on, so that every number is that of k rows.

# list(data, subset, row_of): the data with each row as often as its count says, the subset as a logical vector for
# them, and which row each came from. id: a column that identifies rows, whose copies get names of their own.
repeat_rows <- function(data, count, subset, id, call) {
  times <- row_counts(data[[count]], count, call)
  inside <- subset_rows(subset, data, call)
  if (!is.null(id)) check_id(data[[id]], id, seq_len(nrow(data)), call)
  row_of <- rep(seq_len(nrow(data)), times)
  out <- lapply(data, some_rows, row_of)
  if (!is.null(id)) out[[id]] <- copy_names(out[[id]], row_of)
  list(data = structure(out, class = "data.frame", row.names = .set_row_names(length(row_of))),
       subset = inside[row_of], row_of = row_of)
}

# The same for rows of a panel, whose units become as many units.
repeat_panel_rows <- function(data, roles, subset, call) {
  unit <- roles$unit
  if (!is.null(unit)) {
    mixed <- tapply(data[[roles$frequency]], data[[unit]], function(k) any(k != k[1L]))
    changing <- names(which(mixed))
    if (length(changing) > 0L) {
      abort_input(c("The count {.val {roles$frequency}} must not change within a unit.",
                    x = "It does in {length(changing)} unit{?s} of {.val {unit}}: {.val {first_rows(changing)}}."),
                  column = roles$frequency, call = call)
    }
  }
  out <- repeat_rows(data, roles$frequency, subset, NULL, call)
  if (!is.null(unit)) out$data[[unit]] <- copy_names(out$data[[unit]], out$row_of)
  out
}

row_counts <- function(x, name, call) {
  if (!is.numeric(x)) abort_input("The count {.val {name}} must be numbers.", column = name, call = call)
  bad <- which(!is.finite(x) | x < 0 | x != round(x))
  if (length(bad) > 0L) {
    abort_input(c(
      "The count {.val {name}} must be whole numbers of units, 0 or more.",
      x = "It is not in {length(bad)} row{?s}; first: {first_rows(bad)}.",
      i = "Weights that are no counts of units are sampling weights: name them as {.arg weight}."
    ), column = name, rows = bad, call = call)
  }
  if (sum(x) == 0) abort_input("The count {.val {name}} is 0 in every row.", column = name, call = call)
  if (sum(x) > .Machine$integer.max) {
    abort_input(c("The rows stand for {format(sum(x), big.mark = ',')} units, more than can be held as rows.",
                  i = "Name {.val {name}} as {.arg weight}: estimates are the same, errors those of the rows."),
                column = name, call = call)
  }
  as.integer(x)
}

# "12", "12 (2)", "12 (3)": the copies of a row.
copy_names <- function(x, row_of) {
  copy <- sequence(rle(row_of)$lengths)
  if (all(copy == 1L)) return(x)
  ifelse(copy == 1L, as.character(x), sprintf("%s (%d)", x, copy))
}
