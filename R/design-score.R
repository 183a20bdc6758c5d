#' Estimate the propensity score
#'
#' Fits a weighted logit of treatment on the study's covariates by Newton's method (METHODS, "Propensity score") and
#' keeps what later standard errors need to account for its estimation. Linearly dependent columns are dropped and
#' named; separation is an error that names the covariates.
#'
#' @param x A `twin_study`, or a `twin_design` (its score is replaced; it must not have pairs or weights yet).
#' @param model A one-sided formula for the score in the study's covariates, such as
#'   `~ boat_length + I(boat_length^2)`; by default the study's own covariates, as framed.
#' @param link The link function. `"logit"` is the only one so far.
#' @return A `twin_design` with a score: fitted probabilities, the linear score (log odds), coefficients.
#'   `tidy()` gives one row per coefficient: `term`, `estimate`, `std.error`, `statistic`, `p.value`.
#' @section Errors: `twin_error_separation` when covariates tell the arms apart (field `covariates`),
#'   `twin_error_convergence`, and `twin_error_input` for a model with unknown columns. Dropped columns raise the
#'   warning `twin_warning_aliased`.
#' @references Albert, A., Anderson, J. A. (1984). On the existence of maximum likelihood estimates in logistic
#'   regression models. Biometrika 71. \doi{10.1093/biomet/71.1.1}
#' @family design
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' score_units(study)
#' @export
score_units <- function(x, model = NULL, link = c("logit")) {
  check_design(x)
  check_undesigned(x, "score_units")
  link <- check_choice(link, "logit")
  study <- study_of(x)
  formula <- if (is.null(model)) study$formula else score_formula(model, study)
  columns <- if (is.null(model)) study$columns else study$columns[all.vars(formula)]
  matrix <- covariate_matrix(columns, formula)
  fit <- core_fit(matrix, as.double(study$z), study$s, "binomial")
  check_fit(fit, matrix, study)
  score <- new_score(fit, matrix, names(columns), formula, link)
  label <- if (is.null(model)) plain_score else paste("score on", deparse1(formula[[2L]]))
  design <- new_design(x, list(verb = "score", label = label, link = link, model = score$terms), kind = "raw",
                       score = score)
  log_design(design, "score", sprintf("%d terms", length(score$coefficients) - 1L),
             list(link = link, model = score$terms))
}

# fitted, linear: one per study row; covariance: inverse information with the intercept first.
new_score <- function(fit, matrix, columns, formula, link) {
  terms <- if (is.null(formula)) paste(columns, collapse = " + ") else deparse1(formula[[2L]])
  names <- c("(intercept)", colnames(matrix))
  covariance <- fit$covariance
  dimnames(covariance) <- list(names, names)
  list(link = link, terms = terms, formula = formula, columns = columns, linear = fit$linear, fitted = fit$fitted,
       coefficients = stats::setNames(fit$coefficients, names), covariance = covariance,
       aliased = colnames(matrix)[fit$aliased], iterations = fit$iterations, loglik = fit$loglik)
}

score_formula <- function(model, study, call = rlang::caller_env()) {
  if (!rlang::is_formula(model)) {
    abort_input(c("{.arg model} must be a one-sided formula.", x = "It is {.obj_type_friendly {model}}."), call = call)
  }
  outside <- setdiff(all.vars(model), c(names(study$columns), "."))
  if (length(outside) > 0L) {
    abort_input(c(
      "{.arg model} must use the study's covariates.",
      x = "Not among them: {.val {outside}}.",
      i = "Name {cli::qty(length(outside))}{?it/them} in {.fn frame_study}: balance is judged on {?it/them} too."
    ), unknown = outside, call = call)
  }
  filled <- study$data[1L, names(study$columns), drop = FALSE]
  stats::formula(stats::terms(parse_covariate_formula_checked(model, filled, call), data = filled))
}

parse_covariate_formula_checked <- function(model, data, call) {
  parse_covariate_formula(model, data, character(), "model", call)
  model
}

# Turns the facts of a fit into errors and warnings.
check_fit <- function(fit, matrix, study, call = rlang::caller_env()) {
  if (fit$status == "separated") stop_separated(separating_columns(fit, matrix, study), study, call)
  if (fit$status != "converged") {
    abort_convergence(c(
      "The score did not converge after {fit$iterations} steps.",
      i = "Look for covariates on wildly different scales, or for terms that nearly repeat each other."
    ), call = call)
  }
  if (length(fit$aliased) > 0L) {
    warn_kind("aliased", c(
      "The score leaves out {length(fit$aliased)} term{?s} that the others already explain:
       {.val {colnames(matrix)[fit$aliased]}}.",
      i = "The fitted score is the same with or without {cli::qty(length(fit$aliased))}{?it/them}."
    ), terms = colnames(matrix)[fit$aliased])
  }
}

# Columns that separate the arms by themselves; failing those, the ones the likelihood runs away along.
separating_columns <- function(fit, matrix, study) {
  counted <- sampling_weight(study) > 0
  candidates <- cbind(matrix, reference_levels(study$columns))
  alone <- vapply(seq_len(ncol(candidates)), function(j) separates_alone(candidates[counted, j], study$z[counted]), NA)
  if (any(alone)) return(colnames(candidates)[alone])
  spread <- apply(matrix, 2L, stats::sd)
  weight <- abs(fit$direction) * (spread > 0)
  colnames(matrix)[weight > 0.05 * max(weight)]
}

# Indicators of the first level of every factor: the model matrix has none, yet it may be the one that separates.
reference_levels <- function(columns) {
  factors <- Filter(function(column) column$kind == "factor", columns)
  first <- lapply(factors, function(column) as.double(column$values == 1L))
  names(first) <- paste0(names(factors), rep(": ", length(factors)), vapply(factors, function(x) x$levels[1L], ""))
  do.call(cbind, first)
}

# An indicator seen in one arm only, or a column whose values do not overlap between the arms (Albert & Anderson 1984:
# (2z - 1) x'd >= 0 for all, > 0 for some, with d this column and the intercept).
separates_alone <- function(x, z) {
  treated <- range(x[z == 1L])
  control <- range(x[z == 0L])
  constant <- treated[1L] == treated[2L] && control[1L] == control[2L] && treated[1L] == control[1L]
  !constant && (treated[1L] >= control[2L] || control[1L] >= treated[2L])
}

stop_separated <- function(terms, study, call) {
  abort_separation(c(
    "The arms are separated: {.val {terms}} tell{?s/} treated from control without error for some units.",
    x = "No finite score exists; such units have no counterpart in the other arm.",
    i = "Merge rare levels, leave the {cli::qty(length(terms))}{?term/terms} out, or narrow the study with
         {.arg subset} to where both arms occur."
  ), covariates = terms, call = call)
}

# Everything an influence vector needs from the score: v |-> influence of the score's coefficients through units'
# linear scores, as in core_carry().
score_carry <- function(design) {
  study <- design$study
  score <- design$score
  matrix <- covariate_matrix(study$columns[score$columns], score$formula)
  residual <- study$z - score$fitted
  if (!is.null(study$s)) residual <- residual * study$s
  function(derivative) core_carry(matrix, score$covariance, residual, derivative)
}
