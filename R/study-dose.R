#' State the question for a dose
#'
#' Like [frame_study()], for a treatment of which units get more or less: tonnes of ice, hours of training. The question
#' is what the outcome would be on average were every unit given a dose, along all doses that units like them have.
#'
#' [score_units()] then estimates the density of each unit's dose given its covariates, [weigh_units()] makes weights
#' under which dose and covariates go apart, [assess_balance()] shows how they are still correlated, and
#' [measure_response()] opens the outcome.
#'
#' @param data,outcome,covariates,... As in [frame_study()]; `...` takes its `weight`, `frequency`, `cluster`,
#'   `stratum`, `id`, `subset`, `missing`, `event`, `missing_outcome`, `unknown` and `categories`.
#' @param dose Name of a numeric column: how much of the treatment each unit has. 0 is a dose like any other.
#' @return A `twin_dose`.
#' @section Errors: As [frame_study()]; `twin_error_input` for a dose that is no number, is the same for all, or is
#'   infinite; `twin_error_unsupported` for an estimand, since a dose-response speaks of everybody.
#' @family question
#' @examples
#' study <- frame_dose(ice, dose = "tonnes", outcome = "income",
#'                     covariates = ~ boat_length + crew_size + port_size + past_income)
#' study
#' design <- study |> score_units() |> weigh_units()
#' assess_balance(design)
#' @export
frame_dose <- function(data, dose, outcome, covariates = NULL, ...) {
  call <- rlang::current_env()
  more <- list(...)
  if (are_several_sets(data, more$imputation)) {
    return(frame_imputed(frame_dose, c(list(data = data, dose = dose, outcome = outcome, covariates = covariates),
                                       more),
                         call))
  }
  check_units(data, call)
  attr(data, "class") <- "data.frame"
  check_string(dose)
  check_columns(dose, data)
  if (any(c("estimand", "treated") %in% names(more))) {
    abort_unsupported(c("A dose has neither an estimand nor a treated level.",
                        i = "The curve is about everybody: leave {.arg estimand} and {.arg treated} out."))
  }
  given <- declared_column(data, dose, more, call)
  if (inherits(given, "haven_labelled")) given <- labelled_to_plain(given)
  check_dose_column(given, dose, subset_rows(more$subset, data, call), call)
  data[[dose]] <- upper_half(given, dose, which(subset_rows(more$subset, data, call) & !is.na(given)), call)
  base <- in_the_name_of(call, frame_study(data, dose, outcome, covariates, estimand = "ATE", ...))
  if (!is.null(base$row_of)) given <- given[base$row_of]
  base$data[[dose]] <- given
  d <- as.double(given[base$rows])
  base <- amend(base, hash = rlang::hash(list(base$hash, d)))
  new_dose(base, d, list())
}

check_dose_column <- function(given, dose, inside, call) {
  if (!is.numeric(given) || is.object(given)) {
    levels <- if (is_text(given)) unique(trimws(as.character(given[!is.na(given)])))
    stray <- if (identical(hidden_kind(levels), "numbers")) stray_entries(levels, "numbers")
    abort_input(c(
      "The dose {.val {dose}} must be numbers.", x = if (length(stray) == 0L) "It is {.obj_type_friendly {given}}." else
        "It is text: numbers, but for {.val {utils::head(stray, 5)}}.",
      i = if (length(stray) == 0L) "For kinds of treatment use {.fn frame_arms}; {.arg categories} makes kinds of
                                    numbers." else
        "If they mean \"not known\": {.code unknown = {deparse1(utils::head(stray, 5L))}}."
    ), column = dose, call = call)
  }
  values <- given[inside & !is.na(given)]
  endless <- which(inside & is.infinite(given))
  if (length(endless) > 0L) {
    abort_input(c("The dose {.val {dose}} must be finite.",
                  x = "It is infinite in {plural(length(endless), 'row')}; first: {first_rows(endless)}."),
                column = dose, rows = endless, call = call)
  }
  if (length(unique(values)) < 2L) {
    abort_input(c("The dose {.val {dose}} must differ between units.",
                  x = if (length(values) == 0L) "No unit has one." else "It is {values[1L]} for all."),
                column = dose, call = call)
  }
}

# Is a dose among the upper half? For the arms that mean nothing; see new_dose().
upper_half <- function(given, dose, inside, call) {
  middle <- stats::median(given[inside])
  above <- sum(given[inside] > middle)
  below <- sum(given[inside] < middle)
  if (max(above, below) < 2L) {
    abort_input(c("Too few units differ in the dose {.val {dose}}: at least 2 must have more than its median, or 2
                   less.",
                  x = "Of {plural(length(inside), 'unit')}, {above} {cli::qty(above)}{?has/have} more than
                       {signif(middle, 4)} and {below} {cli::qty(below)}{?has/have} less."), column = dose, call = call)
  }
  if (above >= 2L) given > middle else given >= middle
}

# base: a study of the same units, whose arms are the upper and the lower half of doses and mean nothing; d: the dose of
# each; score: core_dose_score() with its words; weight: per unit, NULL for none; nuisance: of the weights; steps,
# recipe, cautions: as of a design.
new_dose <- function(base, d, steps, score = NULL, weight = NULL, nuisance = NULL, recipe = list(),
                     cautions = character()) {
  stopifnot(length(d) == length(base$z), is.null(weight) || length(weight) == length(d))
  structure(list(base = base, d = d, score = score, weight = weight, nuisance = nuisance, steps = steps,
                 recipe = recipe,
                 cautions = cautions, hash = rlang::hash(list(base$hash, steps))), class = "twin_dose")
}

is_dose <- function(x) inherits(x, "twin_dose")

#' @exportS3Method
study_of.twin_dose <- function(x) x$base # nolint: object_name_linter. An S3 method.

#' @exportS3Method
over_sets.twin_dose <- function(first, results) new_imputed(results) # nolint: object_name_linter. An S3 method.

# s w: the weights of the design.
dose_weight <- function(x) {
  s <- sampling_weight(x$base)
  if (is.null(x$weight)) s else s * x$weight
}

# What was done so far, of a dose or a course.
question_label <- function(x) {
  labels <- vapply(x$steps, `[[`, "", "label")
  if (length(labels) == 0L) "raw sample" else paste(labels, collapse = ", ")
}
