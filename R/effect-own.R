#' Take a regression of your own as an effect
#'
#' Turns an [lm()] or [glm()] that was fitted to [design_data()] into an effect, so that it can stand beside others in
#' [compare_effects()] (which takes the bare fit too). Its predictions with everybody treated and with nobody treated
#' are averaged over whom the estimand speaks of; in a linear model without products of the treatment their difference
#' is its coefficient.
#'
#' Standard errors sum the influence of each row within the study's clusters, without any within the design's sets, and
#' take weights and matches as given: unlike [measure_effect()] they do not account for the score.
#'
#' @param model An `lm` or `glm` whose response is one of the study's outcomes, with the treatment column, as it is, on
#'   the right. Other terms, offsets apart, are free; so are `weights` and `subset`.
#' @param design The [design][score_units] or [study][frame_study] that its data came from.
#' @param level Confidence level, default 0.95.
#' @return A `twin_effect`, with the terms of [measure_effect()].
#' @section Errors: `twin_error_input` when the model has another response, lacks the treatment, has an offset, or rows
#'   that are not the data's (they are told by their row names).
#' @family effects
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' design <- study |> score_units() |> weigh_units()
#' fit <- lm(income ~ joined * boat_length + port_size, design_data(design), weights = .weight)
#' compare_effects(weights = measure_effect(design), own = measure_model(fit, design))
#' @export
measure_model <- function(model, design, level = 0.95) {
  check_class(model, "lm", c("lm", "glm"))
  if (is_imputed(design)) {
    abort_unsupported(c("A fit is to one data set; this design is of several imputed ones.",
                        i = "Fit it in each ({.code design[[1]]}, ...), or use {.fn measure_effect}, which pools."))
  }
  check_design(design)
  check_level(level)
  study <- study_of(design)
  outcome <- model_outcome(model, study)
  rows <- model_rows(model, study)
  y <- open_outcome(study, outcome, "measure_model")
  block <- list(x = design, outcome = outcome, y = as.double(y), shares = attr(y, "shares"),
                contrasts = outcome_contrasts(study, outcome, y), contrast = NULL, group = NULL, inside = NULL)
  asked <- list(estimator = "own", normalise = TRUE, level = level, inference = "analytic", interval = "normal",
                by = NULL, words = sprintf("own regression (%s)", model_text(model)), clusters = own_clusters(design))
  s <- sampling_weight(study)[rows]
  fitted_with <- stats::model.extract(stats::model.frame(model), "weights")
  v <- if (is.null(fitted_with)) rep(1, length(rows)) else unname(fitted_with)
  units <- list(rows = rows, used = v > 0, w = ifelse(s > 0, v / s, 0), y = block$y[rows], z = study$z[rows],
                pairs = NULL, missing = 0L, group = NULL, where = "")
  means <- model_means(model, study, units, s)
  result <- core_contrasts(means, block$contrasts)
  influence <- result$influence()
  codes <- asked$clusters$codes
  found <- core_vcov(influence, if (length(codes) > 0L) codes[[1L]][rows], used = units$used)
  inference <- list(
    vcov = found$vcov, df = if (length(codes) > 0L) core_known_df(found$clusters - 1) else Inf,
    text = if (length(codes) > 0L) sprintf("clustered by %s (%d)", asked$clusters$name, found$clusters) else "robust",
    given = if (alters_sample(design)) "taking the design as given"
  )
  new_effect(block, list(estimate = result$estimate, influence = influence), inference, units, asked)
}

model_text <- function(model) {
  kind <- if (inherits(model, "glm")) paste0(model$family$family, ", ", model$family$link) else "linear"
  paste0(kind, ": ", shorten(deparse1(stats::formula(model)), 60L))
}

model_outcome <- function(model, study, call = rlang::caller_env()) {
  response <- deparse1(stats::formula(model)[[2L]])
  if (!response %in% study$roles$outcome) {
    abort_input(c("The model's response must be one of the study's outcomes, as it is.",
                  x = "It is {.code {response}}; the study has {.val {study$roles$outcome}}."), call = call)
  }
  frame <- stats::model.frame(model)
  if (!study$roles$treatment %in% names(frame)) {
    abort_input(c("The treatment {.val {study$roles$treatment}} must stand in the model, as it is.",
                  x = "Its terms are {.code {deparse1(stats::formula(model)[[3L]])}}."), call = call)
  }
  if (!is.null(stats::model.offset(frame))) abort_input("The model must not have an offset.", call = call)
  response
}

# Rows of the study, by the names of the model's rows.
model_rows <- function(model, study, call = rlang::caller_env()) {
  known <- match(rownames(stats::model.frame(model)), rownames(study$data)[study$rows])
  if (anyNA(known)) {
    abort_input(c("The model must be fitted to rows of the study's data.",
                  x = "{sum(is.na(known))} of its {length(known)} rows {?is/are} not among them.",
                  i = "Fit it to {.code design_data(design)}, whose row names say which row is which."), call = call)
  }
  known
}

# The study's clusters, else sets without replacement.
own_clusters <- function(design) {
  clusters <- effect_clusters(study_of(design), NULL)
  if (length(clusters$codes) > 0L || !has_pairs(design) || reuses_units(design)) return(clusters)
  set <- design$set
  list(codes = list(ifelse(is.na(set), -seq_along(set), set)), name = "set")
}

# Mean predictions for each arm over the estimand's population; the coefficients' influence is that of the model's own
# estimating equations.
model_means <- function(model, study, units, s) {
  scores <- unname(model$residuals * working_weights(model))
  kept <- !is.na(stats::coef(model))
  x <- stats::model.matrix(model)[, kept, drop = FALSE]
  bread <- summary(model)$cov.unscaled
  n <- length(units$y)
  one <- function(arm) {
    own <- arm_matrix(model, study, arm)[, kept, drop = FALSE]
    linear <- drop(own %*% stats::coef(model)[kept])
    link <- if (inherits(model, "glm")) model$family
    list(fitted = unname(if (is.null(link)) linear else link$linkinv(linear)),
         slope = unname(if (is.null(link)) rep(1, n) else link$mu.eta(linear)),
         carry = function(v) unname(n * scores * drop(x %*% (bread %*% crossprod(own, v)))))
  }
  t <- s * units$used * core_target_weight(NULL, units$z, population_estimand(study$estimand))
  core_regression_means(as.double(units$used), core_known(n), t, core_known(n), list(one(1L), one(0L)))
}

# Whom the score alone defines is here everybody the model was fitted to.
population_estimand <- function(estimand) if (has_known_population(estimand)) estimand else "ATE"

working_weights <- function(model) {
  if (inherits(model, "glm")) return(model$weights)
  if (is.null(model$weights)) rep(1, length(model$residuals)) else model$weights
}

# The model's matrix with the treatment set to one of its levels everywhere.
arm_matrix <- function(model, study, arm) {
  frame <- stats::model.frame(model)
  name <- study$roles$treatment
  example <- which(study$z == arm)[1L]
  value <- study$data[[name]][study$rows[example]]
  levels <- model$xlevels[[name]]  # of factors and text
  frame[[name]] <- rep(if (is.null(levels)) value else factor(as.character(value), levels), nrow(frame))
  stats::model.matrix(stats::delete.response(stats::terms(model)), frame, contrasts.arg = model$contrasts,
                      xlev = model$xlevels)
}

# The fit's effect, for comparisons: its data remember the design they came from.
effect_of_fit <- function(fit, call = rlang::caller_env()) {
  data <- tryCatch(eval(fit$call$data, environment(stats::formula(fit))), error = function(e) NULL)
  design <- attr(data, "design")
  if (!is.null(design)) return(measure_model(fit, design))
  abort_input(c("A fit beside effects must come from the data of a design.",
                i = "Fit it to {.code design_data(design)}, or use {.code measure_model(fit, design)}."), call = call)
}
