# What the user says of columns: entries that mean "not known", and numbers that are codes of categories. And what the
# package says of text that is nearly all numbers or dates.

# data with the columns `names` as declared. unknown: values; categories: see check_categories().
declared_columns <- function(data, names, unknown, categories, call) {
  check_unknown(unknown, call)
  categories <- check_categories(categories, data, call)
  for (name in intersect(names, names(data))) {
    if (!is.null(unknown)) data[[name]] <- without_unknown(data[[name]], unknown)
  }
  for (name in names(categories)) data[[name]] <- coded_categories(data[[name]], name, categories[[name]], call)
  data
}

# One column as declared, by itself. asked: `unknown` and `categories` as given, of any columns of the data.
declared_column <- function(data, name, asked, call) {
  categories <- check_categories(asked$categories, data, call)
  own <- categories[names(categories) == name]
  declared_columns(data[name], name, asked$unknown, if (length(own) > 0L) own, call)[[name]]
}

# asked, without categories of that column.
without_categories <- function(asked, name, data, call) {
  rest <- check_categories(asked$categories, data, call)
  rest <- rest[names(rest) != name]
  asked$categories <- if (length(rest) > 0L) rest
  asked
}

check_unknown <- function(unknown, call) {
  plain <- is.character(unknown) || is_plain_numbers(unknown)
  good <- is.null(unknown) || (plain && length(unknown) %in% 1:1000 && !anyNA(unknown))
  if (!good) {
    abort_input(c("{.arg unknown} must be entries that mean \"not known\".", x = "It is {describe_value(unknown)}.",
                  i = "For example c(\"n/a\", \"99\")."), call = call)
  }
}

# Named list: per column NULL (its values are their own labels) or labels named by value.
check_categories <- function(categories, data, call) {
  if (is.null(categories)) return(list())
  if (is.character(categories) && is.null(names(categories))) {
    categories <- stats::setNames(rep(list(NULL), length(categories)), categories)
  }
  good <- is.list(categories) && !is.data.frame(categories) && length(categories) > 0L && is_named_list(categories)
  if (!good) {
    abort_input(c("{.arg categories} must name columns, or be a list of labels named by column.",
                  x = "It is {describe_value(categories)}.",
                  i = "For example \"fuel\", or list(fuel = c(\"1\" = \"wood\", \"2\" = \"coal\"))."), call = call)
  }
  check_columns(names(categories), data, "categories", call)
  Map(function(labels, name) {
    labels <- unlist(labels)
    values <- names(labels)
    named <- !is.null(values) && all(nzchar(values)) && !anyDuplicated(values)
    if (is.null(labels) || (named && is.atomic(labels) && !anyNA(labels) && !anyDuplicated(labels))) return(labels)
    abort_input(c("The categories of {.val {name}} must be different labels, each named by its value.",
                  x = "They are {describe_value(labels)}."), column = name, call = call)
  }, categories, names(categories))
}

coded_categories <- function(x, name, labels, call) {
  text <- as.character(if (inherits(x, "haven_labelled")) unclass(x) else x)
  values <- unique(text[!is.na(text)])
  values <- values[order(suppressWarnings(as.numeric(values)), values)]
  if (is.null(labels)) return(factor(text, values))
  stray <- setdiff(values, names(labels))
  if (length(stray) > 0L) {
    abort_input(c("The categories of {.val {name}} lack {.val {utils::head(stray, 5)}}.",
                  x = "In {plural(sum(text %in% stray), 'row')}; first: {first_rows(which(text %in% stray))}.",
                  i = "Give {cli::qty(length(stray))}{?it a label/them labels}, or name {?it/them} in {.arg unknown}."),
                column = name, rows = which(text %in% stray), call = call)
  }
  factor(text, names(labels), unname(labels))
}

# Entries that mean "not known" are missing; text that then is all numbers is numbers.
without_unknown <- function(x, unknown) {
  labels <- attr(x, "labels", exact = TRUE)
  text <- as.character(x)
  gone <- trimws(text) %in% as.character(unknown)
  if (!is.null(labels)) gone <- gone | unclass(x) %in% labels[names(labels) %in% unknown]
  if (!any(gone)) return(x)
  x[gone] <- NA
  if (is.factor(x)) return(droplevels(x))
  if (!is.character(x)) return(x)
  numbers <- numbers_in_text(x)
  if (anyNA(numbers[!is.na(x)])) x else numbers
}

# A text column of many levels that are nearly all numbers, or dates: what is not, and where.
warn_stray_text <- function(x, name, rows) {
  if (!is.character(x)) return(invisible(x))
  x <- trimws(some_rows(x, rows))
  x[!nzchar(x)] <- NA
  levels <- unique(x[!is.na(x)])
  kind <- hidden_kind(levels)
  if (is.null(kind)) return(invisible(x))
  stray <- stray_entries(levels, kind)
  at <- rows[x %in% stray]
  warn_kind("stray_text", c(
    if (length(stray) > 0L) {
      "{.val {name}} holds {kind} as text, but for {.val {utils::head(stray, 5)}}: it is used as a factor of
       {length(levels)} levels."
    } else {
      "{.val {name}} holds {kind} as text: it is used as a factor of {length(levels)} levels."
    },
    x = if (length(stray) > 0L) "Other entries are in {plural(length(at), 'row')}; first: {first_rows(at)}.",
    i = if (length(stray) > 0L) "If they mean \"not known\": {.code unknown = {deparse1(stray[1L])}}." else
      "Turn it into {kind} first."
  ), column = name, rows = at)
}
