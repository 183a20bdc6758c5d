# Studies, designs and results of several completed data sets.

#' @export
format.twin_imputed <- function(x, ...) {
  rlang::check_dots_empty()
  first <- x$sets[[1L]]
  if (inherits(first, "twin_study")) return(imputed_study_lines(x))
  c(wrap_lines(sprintf("%s, within each of %s", if (is_arms(first)) "Arms" else
    design_label(first), plural(length(x), "imputed data set"))), range_lines(x), wrap_lines(imputed_next(first)))
}

imputed_next <- function(first) {
  if (is_arms(first)) return("contrasts_of() gives the comparison of each arm; x[[2]] is data set 2.")
  on <- if (alters_sample(first)) "measure_effect() pools." else "pair_units(), weigh_units() and others go on in each."
  paste("Next: assess_balance() for the mean and the worst of all data sets;", on,
        "x[[2]] is the design in data set 2.")
}

# The study of the first data set, with what was imputed.
imputed_study_lines <- function(x) {
  lines <- format(x$sets[[1L]])
  after <- grep("^ *Missing", lines)[1L]
  c(lines[seq_len(after - 1L)], field_lines("Imputed", imputed_text(study_of(x)$imputed)), lines[-seq_len(after - 1L)])
}

# imputed: of a study, see mark_imputed().
imputed_text <- function(imputed) {
  counts <- imputed$counts
  sets <- plural(imputed$of, "completed data set")
  if (length(counts) == 0L) return(sprintf("%s, which hold the same values", sets))
  sprintf("%s, which differ in %s", sets, paste(sprintf("%s (%s)", names(counts), vapply(counts, plural, "", "row")),
                                               collapse = ", "))
}

#' @export
print.twin_imputed <- function(x, ...) print_lines(x, format(x, ...))

#' @export
format.twin_by_imputation <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(sprintf("In each of %s:", plural(length(x), "imputed data set"))), range_lines(x),
    "The first of them, x[[1]] (tidy() has all):", "", format(x$sets[[1L]]))
}

#' @export
print.twin_by_imputation <- function(x, ...) print_lines(x, format(x, ...))

range_lines <- function(x) {
  table <- range_table(x)
  if (is.null(table)) "" else c("", table_lines(table), "")
}

# The numbers of glance() in which the data sets differ; NULL where there are none.
range_table <- function(x, number = number_text) {
  rows <- generics::glance(x)
  if (anyDuplicated(rows$.imputation) > 0L) return(NULL)  # several rows each: tidy() tells
  numbers <- setdiff(names(rows)[vapply(rows, is.numeric, NA)], ".imputation")
  known <- numbers[vapply(rows[numbers], function(x) any(is.finite(x)), NA)]
  if (length(known) == 0L) return(NULL)
  of <- function(f) unname(vapply(rows[known], function(x) number(f(x[is.finite(x)])), ""))
  table <- data.frame(Quantity = gsub("_", " ", known), least = of(min), mean = of(mean), greatest = of(max))
  table <- table[table$least != table$greatest, ]
  if (nrow(table) > 0L) table
}

#' Results of imputed data
#'
#' With several completed data sets (see [frame_study()]) designs, and results that have no pooled form, are kept for
#' each of them. `print()` shows the range over the data sets and the first of them, `tidy()` and `glance()` the rows of
#' all, `plot()` one of them, `x[[2]]` is that of the second.
#'
#' @param x A study, design or result of imputed data: `twin_imputed` or `twin_by_imputation`.
#' @param set Which data set is drawn: its number or name.
#' @param ... Passed on to the method of the single result.
#' @return `tidy()`, `glance()`: a data frame with `.imputation`, the data set's name, before the columns of the single
#'   result. `plot()`: a ggplot.
#' @section Errors: `twin_error_input` for a data set that is not there.
#' @family judging
#' @examples
#' filled <- lapply(1:3, function(k) {
#'   gap <- is.na(crews$skipper_age)
#'   data <- crews
#'   data$skipper_age[gap] <- sample(crews$skipper_age[!gap], sum(gap), replace = TRUE)
#'   data
#' })
#' study <- frame_study(filled, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + skipper_age)
#' design <- study |> score_units() |> weigh_units()
#' assess_balance(design)
#' measure_effect(design)
#' assess_weights(design)
#' @name imputed
NULL

#' @rdname imputed
#' @export
tidy.twin_imputed <- function(x, ...) rows_by_set(x$sets, generics::tidy, ...) # nolint: object_name_linter.

#' @rdname imputed
#' @export
glance.twin_imputed <- function(x, ...) rows_by_set(x$sets, generics::glance, ...)

#' @rdname imputed
#' @export
tidy.twin_by_imputation <- function(x, ...) rows_by_set(x$sets, generics::tidy, ...) # nolint: object_name_linter.

#' @rdname imputed
#' @export
glance.twin_by_imputation <- function(x, ...) rows_by_set(x$sets, generics::glance, ...)

rows_by_set <- function(sets, rows_of, ...) {
  tables <- lapply(sets, rows_of, ...)
  over_sets(tables[[1L]], tables)
}

#' @export
as.data.frame.twin_imputed <- function(x, ...) rows_by_set(x$sets, as.data.frame, ...)

#' @export
as.data.frame.twin_by_imputation <- function(x, ...) rows_by_set(x$sets, as.data.frame, ...)

#' @export
nobs.twin_imputed <- function(object, ...) stats::nobs(object$sets[[1L]])

#' @rdname imputed
#' @export
plot.twin_imputed <- function(x, set = 1, ...) plot_of_set(x, set, ...)

#' @rdname imputed
#' @export
plot.twin_by_imputation <- function(x, set = 1, ...) plot_of_set(x, set, ...)

plot_of_set <- function(x, set, ...) {
  at <- if (is.character(set)) match(set, names(x$sets)) else set
  drawn <- plot(x[[set]], ...)
  if (!inherits(drawn, "ggplot") || length(x) == 1L) return(drawn)
  told <- c(drawn$labels$caption, sprintf("Data set %s, one of %d imputed ones.", names(x$sets)[at], length(x)))
  drawn + ggplot2::labs(caption = paste(told, collapse = " "))
}

#' @export
format.twin_pooled <- function(x, ...) {
  lines <- NextMethod()
  at <- length(lines) - length(wrap_lines(seal_sentence(summary(logbook(x)))))
  c(lines[seq_len(at)], wrap_lines(pooled_sentence(x)), lines[-seq_len(at)])
}

# How far data sets differ, and which part of the error is that values are missing.
pooled_sentence <- function(x) {
  row <- x$pooling[match(main_terms(x), x$pooling$term), ]
  if (row$imputations == 1L) return("One imputed data set: the error takes its imputed values as known.")
  what <- term_text(row$term)
  sprintf("Pooled over %d imputed data sets (%ss from %s to %s); %s of the information on the %s is missing.",
          row$imputations, what, number_text(row$least), number_text(row$most),
          share_text(row$missing_information), what)
}

# Of several effects: the most that is missing in any.
pooled_range_sentence <- function(effects) {
  pooled <- Filter(is_pooled, effects)
  if (length(pooled) == 0L) return(NULL)
  if (length(pooled) == 1L) return(pooled_sentence(pooled[[1L]]))
  missing <- vapply(pooled, function(x) x$pooling$missing_information[match(main_terms(x), x$pooling$term)], 0)
  sets <- pooled[[1L]]$pooling$imputations[1L]
  if (sets == 1L) return("One imputed data set: errors take its imputed values as known.")
  shares <- unique(share_text(range(missing)))
  sprintf("Pooled over %d imputed data sets; %s of the information on each is missing.", sets,
          paste(shares, collapse = " to "))
}

# The first data set's table, with the range over all of them in the note.
#' @exportS3Method
table_parts.twin_by_imputation <- function(x, number = column_text) { # nolint: object_name_linter. An S3 method.
  parts <- table_parts(x[[1L]], number)
  parts$note <- c(parts$note, range_sentence(x))
  parts$note <- paste(parts$note, collapse = " ")
  parts
}

#' @exportS3Method
probe_verdict.twin_by_imputation <- function(x) { # nolint: object_name_linter. An S3 method.
  paste(probe_verdict(x[[1L]]), range_sentence(x))
}

range_sentence <- function(x) {
  table <- range_table(x)
  if (is.null(table)) return(sprintf("It is the same in %s.", plural(length(x), "imputed data set")))
  sprintf("This is the first of %s; over all of them: %s.", plural(length(x), "imputed data set"),
          paste(sprintf("%s %s to %s", table$Quantity, table$least, table$greatest), collapse = ", "))
}
