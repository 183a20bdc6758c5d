# Covariates: which columns, in which terms, and the matrix that a model of the score or the outcome uses.

# Returns list(names, formula): the columns, and the formula when it holds more than plain columns (NULL otherwise).
parse_covariates <- function(covariates, data, others, arg = "covariates", call = rlang::caller_env()) {
  if (rlang::is_formula(covariates)) return(parse_covariate_formula(covariates, data, others, arg, call))
  if (!is.character(covariates) || length(covariates) == 0L || anyNA(covariates)) {
    abort_input(c(
      "{.arg {arg}} must be column names in quotes or a one-sided formula.",
      x = "It is {.obj_type_friendly {covariates}}.",
      i = "For example: c(\"boat_length\", \"port_size\") or ~ boat_length + port_size."
    ), call = call)
  }
  check_columns(covariates, data, arg, call)
  list(names = unique(covariates), formula = NULL)
}

parse_covariate_formula <- function(formula, data, others, arg, call) {
  if (length(formula) != 2L) {
    abort_input(c(
      "{.arg {arg}} must be a one-sided formula.",
      x = "It has {.code {deparse1(formula[[2L]])}} on its left."
    ), call = call)
  }
  check_columns(setdiff(all.vars(formula), "."), data, arg, call)
  # one row is enough to expand the dot and keeps terms() from copying the data
  free <- data[1L, setdiff(names(data), others), drop = FALSE]
  terms <- tryCatch(stats::terms(formula, data = free), error = function(e) stop_formula(e, arg, call))
  strange <- setdiff(all.names(formula, functions = TRUE), all.vars(formula))
  unknown <- strange[!vapply(strange, exists, NA, envir = environment_of(formula), mode = "function")]
  if (length(unknown) > 0L) {
    abort_input("{.arg {arg}} calls {.fn {unknown}}, which {cli::qty(length(unknown))}{?is/are} not known here.",
                call = call)
  }
  variables <- as.list(attr(terms, "variables"))[-1L]
  if (!all(vapply(variables, function(v) length(all.vars(v)) > 0L, NA))) {
    abort_input("{.arg {arg}} must be made of columns; {.code {deparse1(formula)}} has a part without any.",
                call = call)
  }
  if (attr(terms, "intercept") == 0L || !is.null(attr(terms, "offset"))) {
    abort_input("{.arg {arg}} must keep its intercept and hold no offset.", call = call)
  }
  labels <- attr(terms, "term.labels")
  names <- all.vars(attr(terms, "variables"))
  if (length(labels) == 0L) abort_input("{.arg {arg}} must name at least one column.", call = call)
  plain <- vapply(labels, function(label) is.name(str2lang(label)), NA)
  list(names = names, formula = if (!all(plain)) stats::formula(terms))
}

environment_of <- function(formula) if (is.null(environment(formula))) globalenv() else environment(formula)

stop_formula <- function(error, arg, call) {
  said <- conditionMessage(error)
  abort_input(c("{.arg {arg}} can't be computed.", x = "{said}"), call = call)
}

# n x p matrix of doubles without an intercept; column names are what messages show. Plain columns are laid side by
# side; a formula with more than that goes through R's own model matrix on the filled columns.
covariate_matrix <- function(columns, formula = NULL, call = rlang::caller_env()) {
  if (is.null(formula)) {
    return(do.call(cbind, column_vectors(columns)))
  }
  frame <- as.data.frame(Map(filled_column, columns), optional = TRUE)
  units <- nrow(frame)
  frame <- tryCatch(stats::model.frame(formula, frame, na.action = stats::na.pass),
                    error = function(e) stop_formula(e, "covariates", call))
  whole <- vapply(frame, NROW, 0L) == units
  if (!all(whole)) {
    abort_input(c("A term of a formula must have one value per unit.",
                  x = "{.code {names(frame)[!whole]}} {cli::qty(sum(!whole))}{?has/have} not."), call = call)
  }
  factors <- names(frame)[vapply(frame, is.factor, NA)]
  treatment <- lapply(stats::setNames(nm = factors), function(name) "contr.treatment")  # whatever the session's options
  matrix <- stats::model.matrix(formula, frame, contrasts.arg = if (length(factors) > 0L) treatment)
  flags <- Map(flag_part, columns, names(columns))
  matrix <- do.call(cbind, c(list(matrix[, -1L, drop = FALSE]), unlist(unname(flags), recursive = FALSE)))
  check_model_matrix(matrix, call)
  matrix
}

# The columns of that matrix in a named list, numeric ones without a copy.
column_vectors <- function(columns) unlist(unname(Map(plain_part, columns, names(columns))), recursive = FALSE)

plain_part <- function(column, name) {
  if (column$kind != "factor") return(c(stats::setNames(list(column$values), name), flag_part(column, name)))
  codes <- seq_along(column$levels)[-1L]
  indicators <- lapply(codes, function(code) as.double(column$values == code))
  stats::setNames(indicators, paste0(name, ": ", column$levels[codes]))
}

flag_part <- function(column, name) {
  if (is.null(column$flag)) return(list())
  stats::setNames(list(column$flag), paste0(name, ": ", missing_level))
}

# For formulas. The levels carry ": " so that R's model matrix names its columns as plain_part() does; treatment
# contrasts whatever the factor was.
filled_column <- function(column) {
  if (column$kind != "factor") return(column$values)
  factor(column$values, levels = seq_along(column$levels), labels = paste0(": ", column$levels))
}

check_model_matrix <- function(matrix, call) {
  bad <- which(colSums(!is.finite(matrix)) > 0)
  if (length(bad) == 0L) return(invisible(matrix))
  rows <- which(!is.finite(matrix[, bad[1L]]))
  abort_input(c(
    "Every term of the formula must be a finite number in every row.",
    x = "{.code {colnames(matrix)[bad[1L]]}} is not in {length(rows)} row{?s}; first rows of the study:
         {first_rows(rows)}.",
    i = "Change the term, for example log(x + 1) where x can be 0."
  ), rows = rows, call = call)
}
