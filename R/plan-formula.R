# Formulas and conditions of a plan: text that may call a short list of functions and nothing else.

plan_formula_or_names <- function(value, arg) {
  value <- unlist(value)
  if (is.null(value)) return(NULL)
  if (is_formula_text(value)) plan_formula(value, arg) else value
}

# A formula as a plan writes it, rather than names.
is_formula_text <- function(value) {
  value <- unlist(value)
  length(value) == 1L && grepl("^\\s*~", value)
}

formula_words <- c("~", "+", "-", "*", "/", ":", "^", "(", "%in%", "I", "log", "exp", "sqrt", "poly", "factor", "bs",
                   "ns", "cut", "c")

condition_words <- c("(", "!", "&", "|", "==", "!=", "<", "<=", ">", ">=", "%in%", "c", "is.na", "+", "-", "*", "/",
                     "^")

plan_formula <- function(text, arg) {
  expr <- parse_plan_text(text, arg, formula_words)
  if (!is.call(expr) || !identical(expr[[1L]], quote(`~`)) || length(expr) != 2L) {
    abort_input(c("{.arg {arg}} must be a one-sided formula such as \"~ a + b\".", x = "It is {describe_value(text)}."),
                call = NULL)
  }
  stats::as.formula(expr, env = plan_environment(formula_words))
}

plan_condition <- function(text) {
  expr <- parse_plan_text(text, "subset", condition_words)
  stats::as.formula(call("~", expr), env = plan_environment(condition_words))
}

parse_plan_text <- function(text, arg, words) {
  if (!is.character(text) || length(text) != 1L) abort_input("{.arg {arg}} must be text in quotes.", call = NULL)
  expr <- tryCatch(str2lang(text), error = function(e) {
    abort_input(c("{.arg {arg}} can't be read.", x = "{.val {text}}"), call = NULL)
  })
  refuse_calls(expr, words, text, arg)
  expr
}

# Model frames evaluate what they are given, so a plan may call a short list of functions by their plain names only.
refuse_calls <- function(expr, words, text, arg) {
  if (!is.call(expr)) {
    if (mode(expr) %in% c("name", "numeric", "character", "logical")) return(invisible())
    abort_input("{.arg {arg}} holds something that is neither a name nor a number: {.val {text}}.", call = NULL)
  }
  head <- expr[[1L]]
  if (!is.name(head) || !as.character(head) %in% words) {
    abort_input(c(
      "A plan is data and can't run code: {.arg {arg}} may not call {.code {deparse1(head)}}.",
      x = "It is {.val {text}}.",
      i = "Allowed: {.code {words}}."
    ), arg = arg, call = NULL)
  }
  if (as.character(head) %in% c("bs", "ns", "poly")) {
    size <- Filter(is.numeric, as.list(expr)[-1L])
    if (any(vapply(size, function(x) any(x > 100), NA))) {
      abort_input("{.arg {arg}} asks for more than 100 columns of one covariate: {.val {text}}.", arg = arg,
                  call = NULL)
    }
  }
  for (part in as.list(expr)[-1L]) refuse_calls(part, words, text, arg)
}

# Only the words themselves can be found from here, and what R's model frame calls on its own (list).
plan_environment <- function(words) {
  env <- new.env(parent = emptyenv())
  for (word in setdiff(words, c("bs", "ns", "poly"))) assign(word, get(word, envir = baseenv()), envir = env)
  if ("poly" %in% words) {
    env$poly <- stats::poly
    env$bs <- splines::bs
    env$ns <- splines::ns
  }
  env$list <- list
  env
}

# Fractions such as "1/3" are text to YAML and numbers to a user.
plan_numbers <- function(values) {
  if (!is.character(values) || !any(grepl("/", values))) return(values)
  parts <- strsplit(values, "/")
  numbers <- suppressWarnings(vapply(parts, function(part) {
    part <- as.numeric(part)
    if (length(part) == 2L) part[1L] / part[2L] else part[1L]
  }, 0))
  if (anyNA(numbers) || any(!is.finite(numbers))) values else stats::setNames(numbers, names(values))
}
