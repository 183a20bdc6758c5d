# Imputed data: one study, design or set of arms for each completed data set. Every verb runs within each of them, and
# over_sets() says what becomes of the results.

# sets: named list, one entry per data set, of units that are the same and stand in the same order.
new_imputed <- function(sets) {
  stopifnot(length(sets) > 0L, !is.null(names(sets)))
  structure(list(sets = sets, hash = rlang::hash(lapply(sets, `[[`, "hash"))), class = "twin_imputed")
}

is_imputed <- function(x) inherits(x, "twin_imputed")

#' @exportS3Method
study_of.twin_imputed <- function(x) study_of(x$sets[[1L]]) # nolint: object_name_linter. An S3 method.

# What several data sets gave by themselves, or pooled.
sets_of <- function(x) UseMethod("sets_of")

#' @exportS3Method
sets_of.default <- function(x) NULL # nolint: object_name_linter. An S3 method.

#' @exportS3Method
sets_of.twin_imputed <- function(x) x$sets # nolint: object_name_linter. An S3 method.

# In place of a verb's own body where its data are imputed: the verb as it was called, within each set.
# called: match.call() of the verb, whose first argument is x.
in_each_set <- function(x, verb, called, env = rlang::caller_env()) {
  given <- mget(names(called)[-(1:2)], envir = env)
  run_in_sets(sets_of(x), function(set) do.call(verb, c(list(set), given), quote = TRUE), env)
}

run_in_sets <- function(sets, run, call) {
  one_by_one <- function(tick) {
    Map(function(set, name) {
      result <- tryCatch(run(set), twin_error = function(e) stop_in_set(e, name, length(sets), call))
      tick(name)
      result
    }, sets, names(sets))
  }
  results <- with_set_warnings(length(sets), show_progress("Imputed data sets", one_by_one, length(sets)))
  over_sets(results[[1L]], results)
}

stop_in_set <- function(e, name, count, call) stop_within(e, sprintf("data set %s (of %d)", name, count), call)

# What several data sets warn of is told once; where sets differ in numbers alone, with those of the first.
with_set_warnings <- function(count, expr) {
  heard <- list()
  value <- withCallingHandlers(expr, twin_warning = function(w) {
    heard <<- c(heard, list(w))
    rlang::cnd_muffle(w)
  })
  kinds <- vapply(heard, function(w) alike_text(w$caution), "")
  for (kind in unique(kinds)) {
    those <- heard[kinds == kind]
    w <- those[[1L]]
    where <- if (length(those) == count) sprintf("each of %d", count) else sprintf("%d of %d", length(those), count)
    if (count > 1L) w$message <- sprintf("%s (In %s imputed data sets.)", w$message, where)
    warning(w)
  }
  value
}

# A text without its numbers, for telling apart what is said.
alike_text <- function(text) gsub("[0-9]+([.,][0-9]+)*", "#", text)

# Cautions of several sets, each once, in the words of the first set that has it.
cautions_of_sets <- function(results) {
  all <- unlist(lapply(results, `[[`, "cautions"), use.names = FALSE)
  as.character(all[!duplicated(alike_text(all))])
}

# What becomes of the results of one verb in several data sets, named by set. first: the first of them.
over_sets <- function(first, results) UseMethod("over_sets")

#' @exportS3Method
over_sets.twin_study <- function(first, results) new_imputed(results) # nolint: object_name_linter. An S3 method.

#' @exportS3Method
over_sets.twin_arms <- function(first, results) new_imputed(results) # nolint: object_name_linter. An S3 method.

# What has no pooled form: each data set's own, side by side.
#' @exportS3Method
over_sets.default <- function(first, results) { # nolint: object_name_linter. An S3 method.
  structure(list(sets = results), class = "twin_by_imputation")
}

#' @exportS3Method
sets_of.twin_by_imputation <- function(x) x$sets # nolint: object_name_linter. An S3 method.

# Tables one below the other.
#' @exportS3Method
over_sets.data.frame <- function(first, results) { # nolint: object_name_linter. An S3 method.
  out <- do.call(rbind, Map(function(table, name) {
    cbind(data.frame(.imputation = rep(name, nrow(table))), table)
  }, unname(results), names(results)))
  rownames(out) <- NULL
  out
}

# A list in which designs of imputed data stand side by side, and the same as one list for each data set.
are_imputed <- function(x) is.list(x) && !is.object(x) && any(vapply(x, is_imputed, NA))

side_by_side <- function(x, call = rlang::caller_env()) {
  names <- unique(lapply(x, function(one) names(sets_of(one))))
  if (length(names) > 1L) {
    abort_input(c("Designs side by side must come from one study.", x = "Some of these are of imputed data, or of other
                   data sets."), call = call)
  }
  new_imputed(lapply(stats::setNames(nm = names[[1L]]), function(set) lapply(x, function(one) sets_of(one)[[set]])))
}

# The first data set's, where there are several.
first_set <- function(x) if (is_imputed(x) || inherits(x, "twin_by_imputation")) x$sets[[1L]] else x

#' @export
`[[.twin_imputed` <- function(x, i) set_called(unclass(x)$sets, i)

#' @export
`[[.twin_by_imputation` <- function(x, i) set_called(unclass(x)$sets, i)

#' @export
length.twin_imputed <- function(x) length(unclass(x)$sets)

#' @export
length.twin_by_imputation <- function(x) length(unclass(x)$sets)

set_called <- function(sets, i, call = rlang::caller_env()) {
  known <- if (is.character(i)) i %in% names(sets) else i %in% seq_along(sets)
  if (length(i) == 1L && known) return(sets[[i]])
  abort_input("There is no data set {.val {i}}; there are {.val {names(sets)}}.", call = call)
}

# Is data several data sets: a list of them, or long data with a column that tells them apart?
are_several_sets <- function(data, imputation) {
  !is.null(imputation) || (is.list(data) && !is.data.frame(data) && !inherits(data, "twin_remote"))
}

# verb: frame_study or frame_arms; asked: its arguments.
frame_imputed <- function(verb, asked, call) {
  sets <- completed_sets(asked$data, asked$imputation, asked, call)
  asked["imputation"] <- list(NULL)
  framed <- run_in_sets(sets, function(data) {
    asked$data <- data
    do.call(verb, asked, quote = TRUE)
  }, call)
  check_alike_sets(framed$sets, call)
  counts <- imputed_counts(lapply(framed$sets, study_of))
  if (length(sets) == 1L) {
    warn_kind("imputed", c("One imputed data set can't tell how uncertain its imputed values are: standard errors take
                            them as known.", i = "Give several, each imputed by itself."))
  }
  marked <- Map(function(set, name) mark_imputed(set, list(set = name, of = length(sets), counts = counts)),
                framed$sets, names(framed$sets))
  log_step(study_of(marked[[1L]]), "frame", sprintf("%d imputed data sets", length(sets)),
           "steps and counts below are those of the first")
  new_imputed(marked)
}

mark_imputed <- function(x, facts) {
  if (inherits(x, c("twin_arms", "twin_dose"))) amend(x, base = amend(x$base, imputed = facts)) else
    amend(x, imputed = facts)
}

# The data sets by name, with units in the same order where an id tells them.
completed_sets <- function(data, imputation, asked, call) {
  sets <- if (is.null(imputation)) listed_sets(data, call) else
    without_original(split_sets(data, imputation, call), imputation, asked, call)
  sizes <- vapply(sets, nrow, 0L)
  if (length(unique(sizes)) > 1L) {
    odd <- which(sizes != sizes[1L])[1L]
    abort_input(c("Imputed data sets must hold the same units.",
                  x = "Data set {names(sets)[1L]} has {sizes[[1L]]} rows, data set {names(sets)[odd]} has
                       {sizes[[odd]]}.", i = "Leave out the same rows in each, or use {.arg subset}."),
                sizes = sizes, call = call)
  }
  if (is.null(asked$id)) sets else lapply(sets, in_order_of, first = sets[[1L]], id = asked$id, call = call)
}

in_order_of <- function(set, first, id, call) {
  check_string(id, arg = "id", call = call)
  check_columns(id, set, "id", call)
  at <- match(first[[id]], set[[id]])
  if (!anyNA(at) && !anyDuplicated(at)) {
    return(if (identical(at, seq_along(at))) set else set[at, , drop = FALSE])
  }
  abort_input(c("Imputed data sets must hold the same units.",
                x = "Not in each of them, or not once: {.val {id}}
                     {.val {as.character(first_rows(unique(first[[id]][is.na(at) | duplicated(at)])))}}."),
              column = id, call = call)
}

listed_sets <- function(data, call) {
  if (length(data) == 0L) abort_input("{.arg data} is an empty list: there are no data sets in it.", call = call)
  bad <- which(!vapply(data, is.data.frame, NA))
  if (length(bad) > 0L) {
    abort_input(c("{.arg data} must be a data frame with one row per unit, or a list of imputed ones.",
                  x = "Entry {bad[1L]} of the list is {.obj_type_friendly {data[[bad[1L]]]}}."), call = call)
  }
  for (set in data) check_units(set, call)
  known <- !is.null(names(data)) && all(nzchar(names(data))) && !anyDuplicated(names(data))
  stats::setNames(lapply(unname(unclass(data)), as.data.frame), if (known) names(data) else seq_along(data))
}

split_sets <- function(data, imputation, call) {
  check_units(data, call)
  check_string(imputation, call = call)
  check_columns(imputation, data, "imputation", call)
  check_column_kind(data[[imputation]], imputation, call)
  if (anyNA(data[[imputation]])) {
    abort_input(c("The column of imputations {.val {imputation}} must not be missing.",
                  x = "First rows: {first_rows(which(is.na(data[[imputation]])))}."), column = imputation, call = call)
  }
  attr(data, "class") <- "data.frame"
  values <- sort(unique(data[[imputation]]))
  if (length(values) > 1000L) {
    abort_input(c("{.arg imputation} must name a column that tells data sets apart.",
                  x = "{.val {imputation}} has {length(values)} values."), column = imputation, call = call)
  }
  rest <- data[names(data) != imputation]
  sets <- lapply(values, function(value) {
    set <- rest[data[[imputation]] == value, , drop = FALSE]
    rownames(set) <- NULL
    set
  })
  stats::setNames(sets, as.character(values))
}

# Long data often hold the data before imputation too, as number 0: it is no completed data set.
without_original <- function(sets, imputation, asked, call) {
  original <- sets[["0"]]
  if (is.null(original) || length(sets) < 2L || !anyNA(original)) return(sets)
  blank <- vapply(original, anyNA, NA)
  filled <- names(original)[blank][vapply(sets[[2L]][blank], function(x) !anyNA(x), NA)]
  if (length(filled) == 0L) return(sets)
  warn_kind("dropped", c("The rows with {imputation} = 0 are left out: they are the data before imputation.",
                         i = "{.val {filled}} {?is/are} missing there and filled in the others."))
  sets[names(sets) != "0"]
}

# Arms, units and clusters can't differ between data sets: what was done to whom is known.
check_alike_sets <- function(sets, call) {
  studies <- lapply(sets, study_of)
  first <- studies[[1L]]
  for (k in seq_along(sets)[-1L]) {
    other <- studies[[k]]
    if (!identical(first$rows, other$rows)) stop_unlike_rows(first, other, names(sets)[c(1L, k)], call)
    same <- identical(first$levels, other$levels) && identical(first$z, other$z) &&
      identical(sets[[1L]]$arm, sets[[k]]$arm) && identical(sets[[1L]]$d, sets[[k]]$d)
    if (!same) stop_unlike("treatment", first, unlike_units(sets[[1L]], sets[[k]]), names(sets)[k], call)
    for (role in c("cluster", "stratum")) {
      apart <- which(labels_of_codes(first[[role]]) != labels_of_codes(other[[role]]))
      if (length(apart) > 0L) stop_unlike(role, first, apart, names(sets)[k], call)
    }
    if (!identical(first$s, other$s)) stop_unlike("weight", first, which(first$s != other$s), names(sets)[k], call)
  }
}

labels_of_codes <- function(codes) attr(codes, "labels")[codes]

unlike_units <- function(one, other) {
  if (!is.null(one$d)) return(which(one$d != other$d))
  if (!is.null(one$arm)) which(one$arm != other$arm) else which(study_of(one)$z != study_of(other)$z)
}

stop_unlike_rows <- function(first, other, names, call) {
  apart <- sort(c(setdiff(first$rows, other$rows), setdiff(other$rows, first$rows)))
  abort_input(c("Imputed data sets must keep the same rows.",
                x = "Data sets {names[1L]} and {names[2L]} differ in {plural(length(apart), 'row')}; first:
                     {first_rows(apart)}.",
                i = "Values are still missing in some of them, or {.arg subset} asks of imputed values; leave such units
                     out of all."), rows = apart, call = call)
}

stop_unlike <- function(role, study, at, set, call) {
  column <- study$roles[[role]]
  abort_input(c("The {role} {.val {column}} must be the same in all imputed data sets.",
                x = "Data set {set} differs in {plural(length(at), 'row')}; first: {first_rows(study$rows[at])}.",
                i = "Units stand in the same order in each (or name an {.arg id}); leave out those whose {role} is not
                     known."), column = column, rows = study$rows[at], call = call)
}

# Rows whose value is not the same in all data sets, for the columns where there are such: those imputed.
imputed_counts <- function(studies) {
  first <- studies[[1L]]
  names <- c(names(first$columns), first$roles$outcome)
  counts <- vapply(stats::setNames(nm = names), function(name) {
    values <- lapply(studies, function(study) as.character(study$data[[name]][study$rows]))
    sum(Reduce(`|`, lapply(values[-1L], function(x) !same_entries(x, values[[1L]])), logical(length(first$rows))))
  }, 0L)
  counts[counts > 0L]
}

# Which entries are the same, missing ones among them.
same_entries <- function(x, y) (is.na(x) & is.na(y)) | (!is.na(x) & !is.na(y) & x == y)
