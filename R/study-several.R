# What a verb gives for each of several things by itself: effects measured in one call, or the contrasts of arms.

# parts: named list of results of one verb; of: what the names stand for, in the singular.
new_several <- function(parts, of) {
  stopifnot(length(parts) > 0L, !is.null(names(parts)))
  structure(list(parts = parts, of = of), class = "twin_several")
}

# In place of a verb's own body: the verb as it was called, for each part. called: match.call() of the verb, whose first
# argument holds the parts.
in_each_part <- function(parts, of, verb, called, env = rlang::caller_env()) {
  given <- mget(names(called)[-(1:2)], envir = env)
  results <- Map(function(part, name) {
    tryCatch(do.call(verb, c(list(part), given), quote = TRUE), twin_error = function(e) stop_within(e, name, env))
  }, parts, names(parts))
  new_several(Map(with_part_name, results, names(results)), of)
}

# An error of one of several parts, which says of which.
stop_within <- function(e, where, call) {
  e$message <- sprintf("In %s: %s", where, e$message)
  in_the_name_of(call, rlang::cnd_signal(e))
}

# A probe knows which of several effects it is of.
with_part_name <- function(result, name) {
  if (inherits(result, "twin_probe")) amend(result, facts = c(result$facts, list(part = name))) else result
}

#' @export
`[[.twin_several` <- function(x, i) part_called(unclass(x)$parts, i)

#' @export
length.twin_several <- function(x) length(unclass(x)$parts)

#' @export
names.twin_several <- function(x) names(unclass(x)$parts)

parts_of <- function(x) unclass(x)$parts
