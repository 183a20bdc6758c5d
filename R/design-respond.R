#' Weigh units with a known outcome for those without one
#'
#' Where outcomes are missing, effects are about the units whose outcome is known, and miss everybody's effect wherever
#' the outcome goes missing by covariates. This step lets units with a known outcome stand in for those without
#' ([Methods, "Missing outcomes"](../doc/methods.html#missing-outcomes)): the chance that the outcome is known, given
#' treatment and covariates, is a second score, and its inverse multiplies the design's weight. Right where nothing but
#' these makes outcomes go missing.
#'
#' It comes last, on a study, a score, weights, strata or cells; pairs and sets lose their partners instead, so make
#' them among units with an outcome (`frame_study(missing_outcome = "drop")`). Which outcomes are missing is read, their
#' values are not: nothing is opened. Estimators with outcome models average their predictions over everybody, known or
#' not, and are right when either the models or both scores are. Standard errors account for this score too.
#'
#' @param x A `twin_study` or `twin_design`.
#' @param outcome Names of outcomes; by default all that have missing values.
#' @param model A one-sided formula for the chance in the study's covariates; the study's own by default. The treatment
#'   is always in it.
#' @param each_arm A model for each arm? By default (`FALSE`) one for both, with the treatment as a term.
#' @return A `twin_design`. [assess_responses()] judges it; [weights()][weights.twin_design] are those of the design
#'   without this step, since they differ by outcome.
#' @section Errors: `twin_error_input` for outcomes without missing values; `twin_error_unsupported` on pairs, sets and
#'   contrasts of arms, and when the step is made twice; `twin_error_separation` and `twin_error_convergence` as in
#'   [score_units()].
#' @references Robins, J. M., Rotnitzky, A., Zhao, L. P. (1994). Estimation of regression coefficients when some
#'   regressors are not always observed. JASA 89. \doi{10.1080/01621459.1994.10476818}
#' @family design
#' @examples
#' some <- transform(crews, income = ifelse(past_income > 40 & seq_along(income) %% 3 == 0, NA, income))
#' study <- frame_study(some, treatment = "joined", outcome = "income", estimand = "ATE",
#'                      covariates = ~ boat_length + crew_size + past_income)
#' design <- study |> score_units() |> weigh_units() |> weigh_responses()
#' assess_responses(design)
#' measure_effect(design, estimator = "augmented")
#' @export
weigh_responses <- function(x, outcome = NULL, model = NULL, each_arm = FALSE) {
  if (is_imputed(x)) return(in_each_set(x, weigh_responses, match.call()))
  again <- given_arguments(match.call())
  check_design(x)
  check_flag(each_arm)
  check_respondable(x)
  study <- study_of(x)
  names <- if (is.null(outcome)) names(Filter(function(gap) gap > 0, missing_outcomes(study))) else
    check_outcomes_asked(outcome, study)
  if (length(names) == 0L) {
    abort_input(c("No outcome has missing values.", i = "Leave {.fn weigh_responses} out."))
  }
  call <- rlang::current_env()
  responses <- lapply(stats::setNames(nm = names), function(name) fit_response(x, name, model, each_arm, call))
  terms <- responses[[1L]]$terms$text
  step <- list(verb = "respond", label = "response weights", outcome = names, model = terms, each_arm = each_arm)
  own <- if (inherits(x, "twin_design")) x[c("weight", "set", "weighing")]
  design <- amend(new_design(x, step, weight = own$weight, set = own$set, weighing = own$weighing),
                  responses = responses)
  log_design(design, "respond", paste(vapply(responses, response_counts, "", study = study), collapse = "; "),
             list(outcome = names, model = terms, each_arm = each_arm))
  remember(design, x, "respond", again)
}

check_respondable <- function(x, call = rlang::caller_env()) {
  if (has_pairs(x)) {
    abort_unsupported(c("Response weights have no place on {design_kind(x)}: who loses a partner is out.",
                        i = "Make them among units with an outcome: {.code frame_study(missing_outcome = \"drop\")}."),
                      call = call)
  }
  if (is_contrast_of_arms(x)) {
    abort_unsupported("Response weights are for two arms; this is a contrast of several.", call = call)
  }
  if (!is.null(design_responses(x))) abort_unsupported("The design has response weights already.", call = call)
}

design_responses <- function(x) if (inherits(x, "twin_design")) x$responses

# How many values of each outcome are missing among the study's rows. A count opens nothing.
missing_outcomes <- function(study) {
  vapply(stats::setNames(nm = study$roles$outcome), function(name) sum(!outcome_known(study, name)), 0L)
}

outcome_known <- function(study, name) !is.na(study$data[[name]][study$rows])

# list(known, fitted: n; terms, parts: one per model, list(inside, covariance, residual)).
fit_response <- function(x, name, model, each_arm, call) {
  study <- study_of(x)
  known <- outcome_known(study, name)
  if (all(known)) {
    abort_input(c("{.arg outcome} must name outcomes with missing values.", x = "{.val {name}} has none."), call = call)
  }
  terms <- model_terms(study, model, call)
  terms$lone <- lone_levels(terms$columns, as.integer(known), kept_weight(x))
  terms$columns <- pool_levels(terms$columns, terms$lone)
  terms$each_arm <- each_arm
  matrix <- response_matrix(study, terms)
  fitted <- rep(1, length(known))
  parts <- lapply(if (each_arm) 1:0 else 2L, function(arm) {
    inside <- as.double(arm == 2L | study$z == arm)
    weight <- kept_weight(x) * inside
    if (all(known[weight > 0])) return(NULL)
    fit <- core_fit(matrix, as.double(known), weight, "logit")
    check_response_fit(fit, matrix, name, call)
    fitted[inside == 1] <<- fit$fitted[inside == 1]
    list(inside = inside, covariance = fit$covariance, residual = weight * (known - fit$fitted))
  })
  list(known = known, fitted = fitted, terms = terms, parts = Filter(Negate(is.null), parts))
}

response_matrix <- function(study, terms) {
  matrix <- terms_matrix(study, terms)
  if (terms$each_arm) matrix else cbind(treatment = as.double(study$z), matrix)
}

check_response_fit <- function(fit, matrix, name, call) {
  if (fit$status == "separated") {
    abort_separation(c(
      "Covariates tell without error for some units whether {.val {name}} is known.",
      i = "Use a smaller {.arg model}{if (!'treatment' %in% colnames(matrix)) ', or one for both arms'}."
    ), call = call)
  }
  if (fit$status != "converged") {
    abort_convergence(c("The model of who has {.val {name}} did not converge.", i = "Use a smaller {.arg model}."),
                      call = call)
  }
}

# "income: known for 590 of 612 treated, 1,700 of 1,792 control".
response_counts <- function(response, study) {
  of_arm <- function(arm, word) {
    sprintf("%s of %s %s", count_text(sum(response$known & study$z == arm)), count_text(sum(study$z == arm)), word)
  }
  sprintf("known for %s, %s", of_arm(1L, "treated"), of_arm(0L, "control"))
}

# The linear predictors of the chance to respond, as a nuisance of core-nuisance.R.
response_nuisance <- function(study, response) {
  matrix <- response_matrix(study, response$terms)
  core_joined(lapply(response$parts, function(part) {
    core_scaled(core_regression_nuisance(matrix, part$covariance, part$residual), part$inside)
  }))
}
