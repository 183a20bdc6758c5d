# From a column of the user's data to numbers: a prepared column is a list with kind ("numeric", "date", "binary",
# "factor"), label, values (double without NA for all kinds but factor; integer codes for factor), levels (factor:
# all of them; binary: the value that counts as 1), missing (count) and flag (0/1 double, NULL when nothing was
# missing or the missing ones have a level of their own).

missing_level <- "(missing)"

column_label <- function(x, name) {
  label <- attr(x, "label", exact = TRUE)
  if (is.character(label) && length(label) == 1L && nzchar(label)) label else name
}

# Indexing alone would drop a plain column's label.
some_rows <- function(x, rows) {
  out <- x[rows]
  attr(out, "label") <- attr(x, "label", exact = TRUE)
  out
}

# Labelled columns become factors when every value has a label; strings are sorted in the same order on any machine.
plain_column <- function(x, name, call) {
  if (inherits(x, "haven_labelled")) x <- labelled_to_plain(x)
  if (inherits(x, "integer64")) stop_integer64(name, call)
  if (is.factor(x)) return(droplevels(x))
  if (is.character(x)) return(text_to_factor(x))
  if (inherits(x, "POSIXt")) return(structure(as.double(as.POSIXct(x)) / 86400, class = "Date"))
  if (is.logical(x) || inherits(x, "Date")) return(x)
  if (is_numbers(x)) return(as.double(x))
  abort_input(c(
    "Column {.val {name}} can't be used: it is {.obj_type_friendly {x}}.",
    i = "Turn it into numbers, text, a factor, TRUE/FALSE or dates first."
  ), column = name, call = call)
}

# Their bits read as doubles are other numbers, and only the package that made them can turn them back.
stop_integer64 <- function(name, call) {
  abort_input(c("Column {.val {name}} holds 64-bit integers.", i = "Turn it into numbers with as.numeric() first."),
              column = name, call = call)
}

is_numbers <- function(x) is.numeric(x) && is.null(dim(x))

# Blank text is missing. Text read in the session's own encoding is marked as UTF-8: not every locale can sort it else.
text_to_factor <- function(x) {
  x <- enc2utf8(x)
  x[!nzchar(trimws(x))] <- NA
  factor(x, levels = sort(unique(x), method = "radix"))
}

labelled_to_plain <- function(x) {
  labels <- attr(x, "labels", exact = TRUE)
  values <- unclass(x)
  attributes(values) <- NULL
  if (length(labels) == 0L || !all(values[!is.na(values)] %in% labels)) return(values)
  factor(values, levels = unname(labels), labels = names(labels))
}

prepare_column <- function(x, name, weight, call) {
  label <- column_label(x, name)
  x <- plain_column(x, name, call)
  ends <- check_column(x, name, call)
  absent <- if (anyNA(x)) is.na(x)  # long columns are copied no more often than they must be
  column <- list(kind = "numeric", label = label, levels = NULL, missing = sum(absent), flag = NULL)
  if (is.factor(x)) return(prepare_factor(x, absent, column))
  if (inherits(x, "Date")) column$kind <- "date"
  values <- as.double(x)
  if (is.logical(x) || is_zero_one(values, ends)) {
    column$kind <- "binary"
    column$levels <- if (is.logical(x)) "TRUE" else "1"
  }
  if (column$missing > 0L) {
    values[absent] <- stats::weighted.mean(values[!absent], weight[!absent])
    column$flag <- as.double(absent)
  }
  c(column, list(values = values))
}

prepare_factor <- function(x, absent, column) {
  column$kind <- "factor"
  column$levels <- levels(x)
  codes <- as.integer(x)
  if (column$missing > 0L) {
    column$levels <- c(column$levels, missing_level)
    codes[absent] <- length(column$levels)
  }
  c(column, list(values = codes))
}

# Names of all values of a factor or binary column; for a binary one the value that counts as 1 comes first.
column_levels <- function(column) {
  if (column$kind == "factor") return(column$levels)
  c(column$levels, c(`TRUE` = "FALSE", `1` = "0")[[column$levels]])
}

# The least and the greatest value; range() would copy the column.
value_ends <- function(x, na.rm = FALSE) c(min(x, na.rm = na.rm), max(x, na.rm = na.rm)) # nolint: object_name_linter.

is_zero_one <- function(values, ends = value_ends(values, na.rm = TRUE)) {
  ends[1L] == 0 && ends[2L] == 1 && all(values == 0 | values == 1, na.rm = TRUE)
}

# The least and the greatest value, NULL for factors.
check_column <- function(x, name, call) {
  present <- if (anyNA(x)) x[!is.na(x)] else x
  if (length(present) == 0L) {
    abort_input(c(
      "Covariate {.val {name}} has no values: all {length(x)} are missing.",
      i = "Leave it out of {.arg covariates}."
    ), column = name, call = call)
  }
  ends <- if (!is.factor(x)) as.double(value_ends(present))
  infinite <- if (is.numeric(x) && !all(is.finite(ends))) which(is.infinite(x)) else integer()
  if (length(infinite) > 0L) {
    abort_input(c(
      "Covariate {.val {name}} must be finite.",
      x = "{length(infinite)} value{?s} {?is/are} infinite; first rows: {first_rows(infinite)}.",
      i = "Recode {cli::qty(length(infinite))}{?it/them} or set {?it/them} to NA."
    ), column = name, rows = infinite, call = call)
  }
  check_column_varies(x, present, ends, name, call)
  ends
}

check_column_varies <- function(x, present, ends, name, call) {
  some_missing <- length(present) < length(x)
  constant <- if (is.factor(x)) nlevels(x) < 2L && !some_missing else ends[1L] == ends[2L]
  if (constant) {
    abort_input(c(
      "Covariate {.val {name}} can't be adjusted for: it is constant.",
      x = "Every {if (some_missing) 'recorded '}value is {.val {as.character(present[1L])}}.",
      i = if (some_missing) "Recode the missing values if they mean something else."
      else "Leave it out of {.arg covariates}."
    ), column = name, call = call)
  }
  if (is.factor(x) && nlevels(x) > 50L && nlevels(x) > length(x) / 2) {
    abort_input(c(
      "Covariate {.val {name}} looks like an identifier: {nlevels(x)} different values in {length(x)} rows.",
      i = "Name it as {.arg id} or {.arg cluster}, or group its values."
    ), column = name, call = call)
  }
}

# The rows of a column as numeric vectors, in the order of the balance table.
column_indicators <- function(column) {
  own <- if (column$kind == "factor") lapply(seq_along(column$levels), function(k) as.double(column$values == k))
         else list(column$values)
  c(own, if (!is.null(column$flag)) list(column$flag))
}
