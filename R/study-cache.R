# Model matrices are made once per study and shared by everything made from it: score, weights, balance, outcome models,
# replicates, probes. A cache belongs to columns and rows: amend() gives a study a new one when either changes.

new_matrix_cache <- function() new.env(parent = emptyenv())

# The n x p matrix of some of a study's columns, or of a formula in them. See covariate_matrix(). lone: the levels
# pooled in these columns, see pool_levels().
study_matrix <- function(study, columns = study$columns, formula = study$formula, call = rlang::caller_env(),
                         lone = NULL) {
  refuse_remote(study, call)
  cached_matrix(study, matrix_key(names(columns), formula, lone), function() {
    wide <- study$matrices$wide
    if (is.null(formula) && !is.null(wide) && length(lone) == 0L) return(wide[, plain_names(columns), drop = FALSE])
    covariate_matrix(columns, formula, call)
  })
}

# The same as core_regression_nuisance() takes it: the matrix where it is kept or a formula makes it, else its columns
# side by side in a list, of which the numeric ones are not copied.
study_parts <- function(study, columns, formula, lone = NULL) {
  kept <- study$matrices[[matrix_key(names(columns), formula, lone)]]
  if (!is.null(kept)) return(kept)
  if (!is.null(formula)) return(study_matrix(study, columns, formula, lone = lone))
  column_vectors(columns)
}

matrix_key <- function(names, formula, lone = NULL) {
  paste(c("columns", names, if (!is.null(formula)) c("~", deparse1(formula)),
          if (length(lone) > 0L) rlang::hash(lone)), collapse = "\r")
}

# The matrix kept under a key; made, and kept where there is room, when it is asked for first.
cached_matrix <- function(study, key, make) {
  cache <- study$matrices
  if (is.null(cache)) return(make())
  if (is.null(cache[[key]])) {
    made <- make()
    if (!has_room(cache, made)) return(made)
    cache[[key]] <- made
  }
  cache[[key]]
}

# Not more than the option carefultwin.cache_mb, 64 by default, in all: larger matrices are made again when they are
# asked for, which takes less than what is done with them.
has_room <- function(cache, matrix) {
  held <- sum(vapply(mget(setdiff(ls(cache), "ones"), envir = cache), function(kept) 8 * as.double(length(kept)), 0))
  most <- getOption("carefultwin.cache_mb", 64)
  check_number(most, min = 0, arg = "carefultwin.cache_mb", call = NULL)
  held + 8 * as.double(length(matrix)) <= most * 2^20
}

# A study without some covariates takes its matrix from the whole study's, column by column.
narrowed_cache <- function(study) {
  cache <- new_matrix_cache()
  if (is.null(study$formula)) cache$wide <- study_matrix(study)
  cache
}

# What the columns of their matrix are called, as plain_part() names them.
plain_names <- function(columns) {
  unlist(Map(function(column, name) {
    c(if (column$kind == "factor") sprintf("%s: %s", name, column$levels[-1L]) else name,
      if (!is.null(column$flag) && column$kind != "factor") paste0(name, ": ", missing_level))
  }, columns, names(columns)), use.names = FALSE)
}
