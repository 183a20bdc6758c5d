# Scores and weights of more than two arms; see frame_arms().

score_arms <- function(x, model, given, call = rlang::caller_env()) {
  if (!is.null(x$designs)) abort_unsupported("These arms already have weights.", call = call)
  refuse_stray(setdiff(given, c("x", "model")), "more than two arms",
               "Their score is a multinomial logit; only {.arg model} can be chosen.", call)
  study <- x$base
  terms <- model_terms(study, model, call)
  matrix <- terms_matrix(study, terms)
  s <- sampling_weight(study)
  aliased <- arm_aliases(matrix, x, s, call)
  if (length(aliased) > 0L) matrix <- matrix[, -aliased, drop = FALSE]
  fit <- core_fit_multinomial(matrix, x$arm, s)
  if (fit$status != "converged") {
    abort_convergence(c("The multinomial score did not converge.",
                        i = "Look for covariates on wildly different scales, or nearly empty levels."), call = call)
  }
  dimnames(fit$coefficients) <- list(c("(intercept)", colnames(matrix)), x$levels[-1L])
  score <- c(fit, list(columns = names(terms$columns), formula = terms$formula, aliased = aliased, terms = terms$text))
  x <- new_arms(study, x$arm, x$levels, score, NULL,
                list(list(verb = "score", label = "multinomial score", model = score$terms)))
  log_step(study, "score", "multinomial score", sprintf("%d arms", length(x$levels)), list(model = score$terms))
  x
}

# Every arm must overlap with the reference (then a score exists: a direction that separates arms separates one of them
# from it); columns that repeat others are left out with a warning.
arm_aliases <- function(matrix, x, s, call) {
  for (k in compared_arms(x)) {
    inside <- x$arm %in% c(1L, k)
    pair <- arm_study(x, k, whole = FALSE)
    fit <- core_fit(matrix[inside, , drop = FALSE], as.double(pair$z), s[inside], "logit")
    if (fit$status == "separated") {
      stop_separated(separating_columns(fit, matrix[inside, , drop = FALSE], pair, pair$columns), call)
    }
  }
  aliased <- core_fit(matrix, as.double(x$arm > 1L), s, "logit")$aliased
  if (length(aliased) > 0L) {
    warn_kind("aliased", "The score leaves out {length(aliased)} term{?s} that the others already explain:
                          {.val {colnames(matrix)[aliased]}}.", terms = colnames(matrix)[aliased])
  }
  aliased
}

weigh_arms <- function(x, given, method, truncate, call = rlang::caller_env()) {
  check_arms_estimand(x$base$estimand, call)
  if (is.null(x$score)) {
    abort_input(c("{.fn weigh_units} needs a score.", i = "Call {.fn score_units} first."), call = call)
  }
  refuse_stray(setdiff(given, c("x", "truncate", if (method[1L] == "inverse") "method")), "more than two arms",
               "They are weighed by inverse weights, which {.arg truncate} may cut.", call)
  truncate <- check_truncate(truncate, call)
  step <- list(verb = "weigh", label = sprintf("inverse weights (%s%s)", x$base$estimand,
                                               if (is.null(truncate)) "" else ", truncated"), truncate = truncate)
  designs <- lapply(compared_arms(x), function(k) arm_design(x, k, step, truncate, call))
  out <- new_arms(x$base, x$arm, x$levels, x$score, designs, c(x$steps, list(step)))
  log_step(x$base, "weigh", step$label, sprintf("%d contrasts with %s", length(designs), x$levels[1L]),
           list(estimand = x$base$estimand, truncate = unlist(truncate)),
           worst = max(unlist(lapply(designs, worst_imbalance))), design = rlang::hash(list(x$base$hash, out$steps)))
  out
}

check_arms_estimand <- function(estimand, call) {
  if (!is.null(estimands[[estimand]]$arms)) return(invisible(estimand))
  known <- names(Filter(function(entry) !is.null(entry$arms), estimands))
  abort_unsupported(c("The {estimand} is not defined for more than two arms.",
                      i = "Frame the arms for {.or {.val {known}}}."), call = call)
}

# Codes of the arms that are compared with the reference, by name.
compared_arms <- function(x) stats::setNames(seq_along(x$levels)[-1L], x$levels[-1L])

# The two-arm design of arm k against the reference.
arm_design <- function(x, k, step, truncate, call) {
  study <- arm_study(x, k, whole = TRUE)
  kept <- !study$outside
  made <- core_arm_weight(x$score$fitted, x$arm, k, x$base$estimand)
  weight <- replace(made$weight, !kept, 0)
  check_finite_weights(weight, study, call)
  limits <- truncation_limits(weight, truncate, study$z, study$s)
  cut <- truncate_weights(weight, limits, study$z) * kept
  design <- new_design(study, step, kind = "weights", kept = kept, weight = cut,
                       weighing = list(method = "arms", arms = x, k = k, free = cut == weight,
                                       truncation = truncation_counts(weight, cut, limits, study$z)),
                       steps = c(x$steps, list(step)))
  warn_heavy_units(design)
  design
}

arm_weight_nuisance <- function(design) {
  facts <- design$weighing
  x <- facts$arms
  slope <- core_arm_weight(x$score$fitted, x$arm, facts$k, x$base$estimand)$slope
  core_scaled(arm_score_nuisance(x), slope)
}

# Designs on one of several arms are made together with the others and can't be made alone.
is_contrast_of_arms <- function(x) !is.null(study_of(x)$outside)

# The arms behind such a design, and the code of the one compared.
arms_behind <- function(x) x$weighing[c("arms", "k")]

# The linear scores of all arms.
arm_score_nuisance <- function(x) {
  score <- x$score
  matrix <- score_matrix(score, x$base)
  if (length(score$aliased) > 0L) matrix <- matrix[, -score$aliased, drop = FALSE]
  core_multinomial_nuisance(matrix, x$arm, sampling_weight(x$base), score)
}

#' Take the contrasts out of a study of several arms
#'
#' @param x A `twin_arms`, from [frame_arms()] or, weighted, from [weigh_units()]; or a [panel][frame_panel] whose
#'   treatment is of several kinds.
#' @return A named list with one entry per arm other than the reference: two-arm studies of the units of both arms
#'   when `x` has no score yet, two-arm designs when it has weights. In these designs differences are arm minus
#'   reference, and standard errors account for the multinomial score, which the units of every arm helped to
#'   estimate. Of a panel, one panel per kind of treatment: its own units, those never treated, and those of other kinds
#'   for as long as they are untreated.
#' @section Errors: `twin_error_input` when there is a score but no weights, or a panel's treatment is of one kind.
#' @family design
#' @examples
#' arms <- frame_arms(crews, treatment = "gear", outcome = "income", reference = "pots", estimand = "ATE",
#'                    covariates = ~ boat_length + crew_size + past_income)
#' designs <- contrasts_of(weigh_units(score_units(arms)))
#' assess_balance(designs$lines)
#' compare_effects(!!!lapply(designs, measure_effect))
#' @export
contrasts_of <- function(x) UseMethod("contrasts_of")

#' @export
contrasts_of.default <- function(x) check_class(x, "twin_arms", "frame_arms", call = rlang::caller_env())

#' @export
contrasts_of.twin_imputed <- function(x) {
  parts <- lapply(x$sets, contrasts_of)
  lapply(stats::setNames(nm = names(parts[[1L]])), function(name) new_imputed(lapply(parts, `[[`, name)))
}

#' @export
contrasts_of.twin_arms <- function(x) {
  if (!is.null(x$designs)) return(x$designs)
  if (!is.null(x$score)) {
    abort_input(c("These arms have a score but no weights yet.", i = "Call {.fn weigh_units} first."))
  }
  lapply(compared_arms(x), function(k) arm_study(x, k, whole = FALSE))
}
