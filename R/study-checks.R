# Checks of arguments at the edge. Each returns its input invisibly or raises an error that names the argument.

check_string <- function(x, null = FALSE, arg = rlang::caller_arg(x), call = rlang::caller_env()) {
  if (null && is.null(x)) return(invisible(x))
  if (rlang::is_string(x) && !is.na(x) && nzchar(x)) return(invisible(x))
  abort_input(c(
    "{.arg {arg}} must be one name in quotes.",
    x = "It is {describe_value(x)}."
  ), call = call)
}

check_number <- function(x, min = -Inf, max = Inf, open = FALSE, null = FALSE, infinite = FALSE,
                         arg = rlang::caller_arg(x), call = rlang::caller_env()) {
  if (null && is.null(x)) return(invisible(x))
  if (is_number(x, infinite) && is_inside(x, min, max, open)) return(invisible(x))
  range <- c(
    if (is.finite(min)) paste(if (open) "above" else "at least", min),
    if (is.finite(max)) paste(if (open) "below" else "at most", max)
  )
  must <- paste(c("one number", paste(range, collapse = " and ")), collapse = " ")
  abort_input(c("{.arg {arg}} must be {trimws(must)}.", x = "It is {describe_value(x)}."), call = call)
}

# One whole number.
check_count <- function(x, min = 1, max = 1e6, null = FALSE, arg = rlang::caller_arg(x), call = rlang::caller_env()) {
  if (null && is.null(x)) return(invisible(x))
  if (is_number(x) && x == round(x) && x >= min && x <= max) return(invisible(x))
  abort_input(c("{.arg {arg}} must be one whole number from {min} to {count_text(max)}.",
                x = "It is {describe_value(x)}."), call = call)
}

# The level of an interval.
check_level <- function(x, arg = rlang::caller_arg(x), call = rlang::caller_env()) {
  if (is_number(x) && x >= 0.01 && x <= 0.9999) return(invisible(x))
  abort_input(c("{.arg {arg}} must be one number from 0.01 to 0.9999, such as 0.95.", x = "It is {describe_value(x)}."),
              call = call)
}

# Several numbers within limits, at least one; must: what they must be, to follow "must be". open: which limits are
# themselves out, "low", "high" or both; most: how many there may be.
check_numbers <- function(x, must, min = -Inf, max = Inf, open = character(), null = FALSE, advice = NULL, most = 1000L,
                          arg = rlang::caller_arg(x), call = rlang::caller_env()) {
  if (null && is.null(x)) return(invisible(x))
  if (is_plain_numbers(x) && length(x) > 0L && length(x) <= most && all(is.finite(x))) {
    low <- if ("low" %in% open) x > min else x >= min
    high <- if ("high" %in% open) x < max else x <= max
    if (all(low & high)) return(invisible(x))
  }
  abort_input(c("{.arg {arg}} must be {must}{if (length(x) > most) paste(', at most', count_text(most), 'of them')}.",
                x = "It is {describe_value(x)}.", i = advice), call = call)
}

# A list as plans hold it as the vector it stands for, an empty one for none; empty vectors are mistakes.
as_given <- function(x, arg = rlang::caller_arg(x), call = rlang::caller_env()) {
  if (is.null(x) || identical(x, list())) return(NULL)
  plain <- if (is.list(x) && !is.data.frame(x)) unlist(x) else x
  if (!is.null(plain) && is.atomic(plain) && length(plain) > 0L) return(plain)
  abort_input(c("{.arg {arg}} must hold at least one value.", x = "It is {describe_value(x)}.",
                i = "Leave it out for none."), call = call)
}

is_number <- function(x, infinite = FALSE) {
  is_plain_numbers(x) && length(x) == 1L && !is.na(x) && (infinite || is.finite(x))
}

# Numbers without a class or dimensions, that are what they look like.
is_plain_numbers <- function(x) is.numeric(x) && !is.object(x) && is.null(dim(x))

# One number, text, factor or date: something that can be compared with the values of a column.
is_single_value <- function(x) is.atomic(x) && length(x) == 1L

is_inside <- function(x, min, max, open) if (open) x > min && (x < max || is.infinite(max)) else x >= min && x <= max

check_flag <- function(x, arg = rlang::caller_arg(x), call = rlang::caller_env()) {
  if (is.logical(x) && length(x) == 1L && !is.na(x)) return(invisible(x))
  abort_input(c("{.arg {arg}} must be TRUE or FALSE.", x = "It is {describe_value(x)}."), call = call)
}

check_choice <- function(x, choices, arg = rlang::caller_arg(x), call = rlang::caller_env()) {
  if (identical(x, choices)) return(choices[1L])
  if (is.character(x) && length(x) == 1L && x %in% choices) return(x)
  near <- if (rlang::is_string(x)) nearest_name(x, choices)
  abort_input(c(
    "{.arg {arg}} must be one of {.or {.val {choices}}}.",
    x = "It is {describe_value(x)}.",
    i = if (!is.null(near)) "Did you mean {.val {near}}?"
  ), call = call)
}

# Columns named by an argument must exist; the error suggests the nearest name.
check_columns <- function(names, data, arg = rlang::caller_arg(names), call = rlang::caller_env()) {
  unknown <- setdiff(names, names(data))
  if (length(unknown) == 0L) return(invisible(names))
  near <- nearest_name(unknown[1L], names(data))
  abort_input(c(
    "{.arg {arg}} must name columns of the data.",
    x = "There is no column {.val {unknown}}.",
    i = if (is.null(near)) "The columns are {.val {names(data)}}." else "Did you mean {.val {near}}?"
  ), unknown = unknown, nearest = near, call = call)
}

check_class <- function(x, class, made_by, arg = rlang::caller_arg(x), call = rlang::caller_env()) {
  if (inherits(x, class)) return(invisible(x))
  abort_input(c(
    "{.arg {arg}} must come from {.or {.fn {made_by}}}.",
    x = "It is {describe_value(x)}."
  ), call = call)
}

# Any object in a few words, for messages: its value where that is short, else what it is.
describe_value <- function(x) {
  if (is.null(x)) return("NULL")
  if (!is_plain_vector(x)) return(describe_object(x))
  shown <- utils::head(x, 3L)
  text <- if (is.character(x)) ifelse(is.na(shown), "NA", dQuote(shorten(shown, 40L), FALSE)) else
    vapply(shown, format, "", digits = 10L, trim = TRUE)
  names <- names(x)[seq_along(shown)]
  if (!is.null(names)) text <- ifelse(nzchar(names), paste(shorten(names, 40L), "=", text), text)
  if (length(x) > 3L) text <- c(text, sprintf("and %s more", count_text(length(x) - 3L)))
  paste(text, collapse = ", ")
}

# Numbers, text or truth values, at least one, and nothing but these.
is_plain_vector <- function(x) {
  kind <- is.numeric(x) || is.character(x) || is.logical(x)
  kind && length(x) > 0L && is.null(dim(x)) && !is.object(x)
}

describe_object <- function(x) {
  if (is.data.frame(x)) return(sprintf("a data frame of %s and %s", plural(nrow(x), "row"), plural(ncol(x), "column")))
  what <- cli::format_inline("{.obj_type_friendly {x}}")
  counted <- is.object(x) || is.function(x) || is.environment(x) || is.language(x) || length(x) == 0L
  if (counted) what else paste(what, "of length", count_text(length(x)))
}

# The known name at the least edit distance, when that is at most a third of its length (NULL otherwise).
nearest_name <- function(name, known) {
  if (length(known) == 0L || length(name) == 0L || is.na(name)) return(NULL)
  distance <- utils::adist(name, known, ignore.case = TRUE)[1L, ]
  best <- which.min(distance)
  if (distance[best] <= max(2, nchar(known[best]) %/% 3)) known[best] else NULL
}

# Words that name another way to an effect than comparing units alike in what was observed.
out_of_scope <- c("instrument", "instruments", "instrumented", "cutoff", "cut_off", "threshold", "running",
                  "discontinuity", "bandwidth")

scope_sentence <- paste("Instruments and cut-offs are out of scope: here units are compared that are alike in what was",
                        "observed before treatment.")

# Arguments of a framing verb that it does not know: their names (NULL where none has one), how many there are.
check_no_more <- function(names, count, known, call) {
  if (count == 0L) return(invisible())
  name <- Filter(nzchar, names)
  if (any(tolower(name) %in% out_of_scope)) abort_unsupported(scope_sentence, call = call)
  if (length(name) == 0L) abort_input("There are more arguments than are known.", call = call)
  near <- nearest_name(name[1L], known)
  abort_input(c("There is no argument {.arg {name[1L]}}.",
                i = if (is.null(near)) "The help page lists those there are." else "Did you mean {.arg {near}}?"),
              argument = name[1L], call = call)
}

first_rows <- function(rows) utils::head(rows, 3L)

is_named_list <- function(x) is.list(x) && (length(x) == 0L || (!is.null(names(x)) && all(nzchar(names(x)))))

# where: " among ..." for a group.
check_cluster_count <- function(cluster, name, call, where = "") {
  count <- length(unique(cluster))
  if (count < 2L) {
    abort_input(c("A clustered standard error needs at least 2 clusters.",
                  x = "{.val {name}} has {count} among the units in use{where}."), call = call)
  }
  if (count < 20L) {
    warn_kind("few_clusters", c(
      "Only {count} clusters in {.val {name}}{where}: clustered standard errors tend to be too small.",
      i = "Intervals use t with {count - 1} degrees of freedom; read them with care."
    ))
  }
}

# A named list of objects of these classes.
check_parts <- function(parts, class, made_by, arg = rlang::caller_arg(parts), call = rlang::caller_env()) {
  if (!is_named_list(parts)) {
    abort_input("{.arg {arg}} must be a list with names, such as list(pairs = ...).", call = call)
  }
  for (part in parts) check_class(part, class, made_by, arg, call)
}

need_package <- function(package, purpose, call = rlang::caller_env(2)) {
  if (requireNamespace(package, quietly = TRUE)) return(invisible(package))
  abort_kind("package", c(
    "The package {.pkg {package}} is needed to {purpose}.",
    i = "Install it: {.code install.packages(\"{package}\")}"
  ), package = package, call = call, .envir = environment())
}

check_units <- function(data, call) {
  if (!is.data.frame(data)) {
    abort_input(c("{.arg data} must be a data frame with one row per unit.",
                  x = "It is {.obj_type_friendly {data}}."), call = call)
  }
  if (nrow(data) == 0L) abort_input("{.arg data} must have rows; it has none.", call = call)
  repeated <- unique(names(data)[duplicated(names(data))])
  if (length(repeated) > 0L) {
    abort_input(c("Column names of {.arg data} must not repeat.", x = "Repeated: {.val {repeated}}."), call = call)
  }
}
