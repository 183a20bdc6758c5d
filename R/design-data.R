#' Take a design elsewhere: weights, pairs and data
#'
#' `weights()` gives the design weights, `pairs_of()` the pairs, `design_data()` the data with the design beside it,
#' for use in any other regression. Handing out the outcome unseals it, which the logbook notes.
#'
#' @param object,design A `twin_design`, or several arms with designs.
#' @param outcome `FALSE` leaves the outcomes out and opens nothing. Default `TRUE`.
#' @param full Multiply by the sampling weight? Default `FALSE`.
#' @param ... Must be empty.
#' @return `weights()`: a numeric vector with one entry per row of the study's data, 0 where a unit is out.
#'   `pairs_of()`: a data frame with one row per pair: `set`, `treated` and `control` (rows of the study's data),
#'   `distance` (the one the design asked to keep small) and `weight`, such that a unit's design weight is the sum over
#'   its pairs; with an `id` in the study also `treated_id` and `control_id`. Of everybody among several arms: one row
#'   per `unit`, `arm` of the contrast and `partner` who stands for the unit there. `design_data()`: the study's data, a
#'   row for each of theirs, with the columns `.score`, `.linear_score`, `.kept`, `.weight` and `.set`; NA where a unit
#'   has none, and for the set of a unit that was matched in several. With pairs also `.partners`: who a unit was
#'   matched to, by `id` or else by row, several divided by "; "; with frequency weights `.row`, the row of the data
#'   given. Of imputed data: a matrix of weights with a column per data set, and tables one below the other with
#'   `.imputation`. Of several arms: a matrix with a column per contrast, and tables one below the other with
#'   `.contrast`; units of other arms than the two of a contrast have weight 0 there. Of both: an array of rows,
#'   contrasts and data sets.
#' @section Errors: `twin_error_input` when there are no pairs, when the data already have one of these columns, and
#'   for several arms without weights, strata, pairs or sets.
#' @family design
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' design <- study |> score_units() |> pair_units(caliper = 0.2)
#' sum(weights(design))
#' head(pairs_of(design), 3)
#' @name design_data
NULL

#' @rdname design_data
#' @export
weights.twin_design <- function(object, full = FALSE, ...) {
  rlang::check_dots_empty()
  check_flag(full)
  on_all_rows(object, if (full) full_weight(object) else design_weight(object), 0)
}

#' @rdname design_data
#' @export
weights.twin_imputed <- function(object, full = FALSE, ...) {
  rlang::check_dots_empty()
  simplify2array(lapply(object$sets, stats::weights, full = full))
}

#' @rdname design_data
#' @export
weights.twin_arms <- function(object, full = FALSE, ...) {
  rlang::check_dots_empty()
  check_flag(full)
  vapply(designed_contrasts(object), stats::weights, numeric(nrow(study_of(object)$data)), full = full)
}

designed_contrasts <- function(x, call = rlang::caller_env()) {
  if (is.null(x$designs)) stop_undesigned(x, call)
  contrasts_by_name(x)
}

# The tables of all contrasts, one below the other.
of_each_contrast <- function(x, table_of, call = rlang::caller_env()) {
  parts <- lapply(designed_contrasts(x, call), table_of)
  data.frame(.contrast = rep(names(parts), vapply(parts, nrow, 0L)), do.call(rbind, unname(parts)),
             row.names = NULL, check.names = FALSE)
}

#' @rdname design_data
#' @export
pairs_of <- function(design) {
  if (is_imputed(design)) return(in_each_set(design, pairs_of, match.call()))
  if (is_arms(design)) return(of_each_contrast(design, function(one) pairs_of(one)))
  if (inherits(design, "twin_remote_pairs")) {
    return(pairs_of(design$pairs)[c("set", "treated_id", "control_id", "distance", "weight")])
  }
  check_class(design, "twin_design", "pair_units")
  if (pairs_every_arm(design)) return(partners_by_arm(design))
  if (is.null(design$pairs)) {
    abort_input(c("This design has no pairs.",
                  i = "Make them with {.fn pair_units} or {.code group_units(x, \"full\")}."))
  }
  named_rows(design$pairs[c("set", "treated", "control", "distance", "weight")], c("treated", "control"), design)
}

# Places in the study become rows of the data, with the id beside them where there is one.
named_rows <- function(pairs, columns, design) {
  pairs[columns] <- lapply(pairs[columns], function(place) design$study$rows[place])
  id <- design$study$roles$id
  if (!is.null(id)) pairs[paste0(columns, "_id")] <- lapply(pairs[columns], function(row) design$study$data[[id]][row])
  pairs
}

#' @rdname design_data
#' @export
design_data <- function(design, outcome = TRUE) {
  if (is_imputed(design)) return(in_each_set(design, design_data, match.call()))
  check_flag(outcome)
  if (is_arms(design)) return(of_each_contrast(design, function(one) design_data(one, outcome)))
  check_class(design, "twin_design", "score_units")
  study <- design$study
  added <- c(".score", ".linear_score", ".kept", ".weight", ".set", if (!is.null(design$pairs)) ".partners",
             if (!is.null(study$row_of)) ".row")
  taken <- intersect(added, names(study$data))
  if (length(taken) > 0L) {
    abort_input(c("The data already have {.val {taken}}.", i = "Rename {cli::qty(length(taken))}{?it/them} first."))
  }
  if (outcome) for (name in study$roles$outcome) open_outcome(study, name, "design_data")
  data <- study$data
  if (!outcome) data <- data[setdiff(names(data), study$roles$outcome)]
  data$.score <- on_all_rows(design, design$score$fitted, NA_real_)
  data$.linear_score <- on_all_rows(design, design$score$linear, NA_real_)
  data$.kept <- on_all_rows(design, design_kept(design), FALSE)
  data$.weight <- on_all_rows(design, design_weight(design), 0)
  data$.set <- on_all_rows(design, design$set, NA_integer_)
  if (!is.null(design$pairs)) data$.partners <- partner_names(design)
  if (!is.null(study$row_of)) data$.row <- study$row_of
  if (outcome) attr(data, "design") <- design  # for compare_effects()
  data
}

# Of everybody among several arms: who stands for which unit in the arms of the contrast.
partners_by_arm <- function(design) {
  found <- matches_of(design)
  names(found)[1L] <- "unit"
  named_rows(found, c("unit", "partner"), design)
}

# Who each row of the data was matched to, NA for nobody.
partner_names <- function(design) {
  pairs <- pairs_of(design)
  names <- if (is.null(design$study$roles$id)) pairs[c("treated", "control")] else pairs[c("treated_id", "control_id")]
  listed <- function(of, who) {
    vapply(split(as.character(who), of), function(all) paste(unique(all), collapse = "; "), "")
  }
  both <- c(listed(pairs$treated, names[[2L]]), listed(pairs$control, names[[1L]]))
  unname(both[as.character(seq_len(nrow(design$study$data)))])
}

# Spread values of the study's rows over all rows of the data; nothing there gives `outside` everywhere.
on_all_rows <- function(design, values, outside) {
  study <- study_of(design)
  out <- rep(outside, nrow(study$data))
  if (!is.null(values)) out[study$rows] <- values
  out
}
