#' Estimate the propensity score
#'
#' The chance of treatment given the covariates ([Methods, "Propensity score"](../doc/methods.html#propensity-score)),
#' with what later standard errors need to account for its estimation. It comes from one of four sources:
#'
#' * a binary regression fitted by maximum likelihood, weighted by the sampling weights (the default). Linearly
#'   dependent columns are dropped and named; separation is an error that names the covariates. A level of a factor, or
#'   missing values, that only one arm has are left out with the warning `twin_warning_one_arm`: such units are scored
#'   as if they were at the commonest other level, and the balance table shows what they have no counterpart in;
#' * the same with its terms searched for, `select = "ladder"` (Imbens & Rubin 2015, chapter 13): starting from
#'   `model`, the linear term with the largest likelihood-ratio statistic is added while that exceeds
#'   `thresholds["linear"]`; then squares and pairwise products of the terms chosen, while it exceeds
#'   `thresholds["second"]`. A factor enters whole, its statistic divided by its degrees of freedom. Sampling weights
#'   are scaled to mean 1 for the statistics;
#' * stacked learners (van der Laan, Polley & Hubbard 2007): every learner predicts each unit from folds without it
#'   (folds keep the arms' shares), and convex weights that minimise the out-of-fold log-loss mix the predictions;
#' * a column of the data that holds a score already.
#'
#' Effects on regression scores account for their estimation; a column or learners' predictions are taken as known, and
#' every effect says so. With learners prefer `measure_effect(estimator = "augmented")`, to which the score's error
#' matters only in second order. On a trimmed design the score is fitted to the units that are left.
#'
#' @param x A `twin_study`, or a `twin_design` (its score is replaced; it must not have pairs, weights or strata yet). A
#'   `twin_arms` of [frame_arms()] gets a multinomial logit, of which `model` can be chosen, or `learners`, which tell
#'   each arm from all others; the chances are made to add up to 1.
#' @param model A one-sided formula for the score in the study's covariates, such as
#'   `~ boat_length + I(boat_length^2)`; by default the study's own covariates, as framed. With `select = "ladder"`: the
#'   terms to start from (none by default). With `learners`: the columns they see.
#' @param link `"logit"` (default), `"probit"`, `"cloglog"` (complementary log-log), or `"heteroskedastic_probit"`, a
#'   probit whose scale varies: P = Phi(x'b / exp(v'g)).
#' @param scale_model For `link = "heteroskedastic_probit"`: a one-sided formula for v in the study's covariates; its
#'   numeric and yes/no columns by default.
#' @param select `"none"` (default) or `"ladder"`.
#' @param thresholds For the ladder: named numbers `linear` (default 1) and `second` (default 2.71).
#' @param second_order For the ladder: whose squares and products are tried, those of the terms `"chosen"` so far
#'   (default) or of `"all"` covariates. One that is added brings the plain terms it is made of with it.
#' @param learners Names among `"logit"`, `"lasso"`, `"ridge"`, `"elastic_net"` (all glmnet, penalty by
#'   cross-validation), `"tree"` (rpart, pruned), `"forest"` (ranger, 500 trees; beyond 1,500 rows fewer, each grown on
#'   at most 10,000 rows of numbers cut into 64 groups; of more than 250,000 rows so many are drawn), `"boosted"` (gbm,
#'   300 trees of depth 2), `"splines"` (mgcv, additive), or a list that holds such names and learners of your own: each
#'   named, a list of two functions, `fit(x, z, weight)` and `predict(model, x)`, with `x` a data frame of covariates
#'   without missing values, `z` 0/1 and `weight` the sampling weights; `predict` gives one probability per row.
#' @param folds For learners: number of folds, default 5.
#' @param prediction For learners: which prediction is the score, `"out_of_fold"` (default) or `"refitted"` (the
#'   learners fitted again to all units).
#' @param seed For learners: a whole number, default 1; the same seed gives the same score whatever the number of
#'   workers. The session's random stream is left as it was. Folds run in parallel under `future::plan()`.
#' @param score Name of a numeric column of scores, each above 0 and below 1.
#' @param density For a dose of [frame_dose()], of which a density takes the score's place: `"normal"` (default) about a
#'   linear mean, `"splines"` for a mean in natural splines of the numeric columns, `"kernel"` for a kernel density of
#'   the residuals. A dose of two values gets a logit.
#' @param pooled,lags For treatment over time of [frame_course()]: one logit for all periods, with an intercept for each
#'   (default `TRUE`), or one for each period; and how many periods back changing columns and treatment are in it,
#'   default 1, beside those of the period itself (the treatment before always is).
#' @return A `twin_design` with a score: fitted probabilities, the linear score (link scale; log odds for learners and
#'   columns). `tidy()` gives one row per coefficient (`term`, `estimate`, `std.error`, `statistic`, `p.value`);
#'   `tidy(x, part = "steps")` the ladder (`step`, `term`, `kind`, `df`, `statistic`, `loglik`, `added`);
#'   `tidy(x, part = "learners")` the stack (`learner`, `weight`, `loss`, `auc`).
#' @section Errors: `twin_error_separation` when covariates tell the arms apart (field `covariates`),
#'   `twin_error_convergence`, and `twin_error_input` for a model with unknown columns, options that do not belong
#'   together, an arm smaller than the number of folds, or a score column that is missing or outside (0, 1). Dropped
#'   columns raise the warning `twin_warning_aliased`; a learner that fails is left out with `twin_warning_learner`.
#'   Of doses: `twin_warning_density` where many units share the least dose or the largest.
#' @references Albert, A., Anderson, J. A. (1984). On the existence of maximum likelihood estimates in logistic
#'   regression models. Biometrika 71. \doi{10.1093/biomet/71.1.1}
#'
#'   Imbens, G. W., Rubin, D. B. (2015). Causal Inference for Statistics, Social, and Biomedical Sciences. Cambridge.
#'   \doi{10.1017/CBO9781139025751}
#'
#'   van der Laan, M. J., Polley, E. C., Hubbard, A. E. (2007). Super learner. Statistical Applications in Genetics and
#'   Molecular Biology 6. \doi{10.2202/1544-6115.1309}
#' @family design
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' score_units(study)
#' tidy(score_units(study, select = "ladder"), part = "steps")
#' score_units(study, learners = c("logit", "tree"), folds = 3, seed = 2)
#' @export
score_units <- function(x, model = NULL, link = c("logit", "probit", "cloglog", "heteroskedastic_probit"),
                        scale_model = NULL, select = c("none", "ladder"), thresholds = c(linear = 1, second = 2.71),
                        second_order = c("chosen", "all"), learners = NULL, folds = 5,
                        prediction = c("out_of_fold", "refitted"), seed = NULL, score = NULL,
                        density = c("normal", "splines", "kernel"), pooled = TRUE, lags = 1) {
  if (is_imputed(x)) return(in_each_set(x, score_units, match.call()))
  again <- given_arguments(match.call())
  if (is_dose(x)) {
    density <- check_choice(density, c("normal", "splines", "kernel"))
    return(remember(score_dose(x, model, density, names(match.call())[-1L]), x, "score", again))
  }
  if (is_course(x)) return(remember(score_course(x, pooled, lags, names(match.call())[-1L]), x, "score", again))
  if (is_arms(x)) {
    asked <- list(model = model, learners = learners, folds = folds, seed = seed,
                  prediction = check_choice(prediction, c("out_of_fold", "refitted")))
    return(remember(score_arms(x, asked, names(match.call())[-1L]), x, "score", again))
  }
  check_design(x, remote = TRUE)
  check_undesigned(x, "score_units")
  link <- check_choice(link, c("logit", "probit", "cloglog", "heteroskedastic_probit"))
  select <- check_choice(select, c("none", "ladder"))
  prediction <- check_choice(prediction, c("out_of_fold", "refitted"))
  second_order <- check_choice(second_order, c("chosen", "all"))
  source <- score_source(score, learners, select, link)
  check_score_options(names(match.call())[-(1:2)], source, list(model, scale_model, learners, seed, score))
  settings <- list(source = source, model = model, link = link, scale_model = scale_model, thresholds = thresholds,
                   second_order = second_order, learners = learners, folds = folds, prediction = prediction,
                   seed = seed, column = score)
  call <- rlang::current_env()
  remember(if (is_remote(x)) remote_score(x, settings, call) else score_design(x, settings, call), x, "score", again)
}

score_source <- function(column, learners, select, link) {
  if (!is.null(column)) return("column")
  if (!is.null(learners)) return("learners")
  if (select == "ladder") return("ladder")
  if (link == "heteroskedastic_probit") "heteroskedastic_probit" else "regression"
}

# Options of one source have no use with another.
check_score_options <- function(given, source, values, call = rlang::caller_env()) {
  empty <- c("model", "scale_model", "learners", "seed", "score")[vapply(values, is.null, NA)]
  known <- list(
    column = "score", learners = c("learners", "model", "folds", "prediction", "seed"),
    ladder = c("select", "model", "link", "thresholds", "second_order"),
    heteroskedastic_probit = c("link", "model", "scale_model", "select"),
    regression = c("link", "model", "select")
  )[[source]]
  source <- c(column = "a score column", learners = "learners", ladder = "the ladder",
              heteroskedastic_probit = "a heteroskedastic probit", regression = "a plain regression")[[source]]
  refuse_stray(setdiff(given, c(known, empty, "x")), source, call = call)
}

# Arguments that were given but have no use with what else was asked for.
refuse_stray <- function(stray, with, advice = "Leave {cli::qty(length(stray))}{?it/them} out.", call) {
  if (length(stray) == 0L) return(invisible(stray))
  abort_input(c("{.arg {stray}} {?has/have} no use with {with}.", i = advice), call = call)
}

# The score as `settings` ask for, fitted to the units that are still in.
score_design <- function(x, settings, call = rlang::caller_env()) {
  score <- switch(settings$source,
    column = score_from_column(x, settings, call),
    learners = score_from_learners(x, settings, call),
    ladder = score_from_ladder(x, settings, call),
    heteroskedastic_probit = score_from_heteroskedastic(x, settings, call),
    regression = score_from_regression(x, settings$model, settings$link, call)
  )
  score$settings <- settings
  if (!all(design_kept(x))) score$inside <- design_kept(x)
  recipe <- settings[settings_of[[settings$source]]]
  if (!is.null(recipe$learners)) recipe$learners <- score$learners$learner  # functions have no lasting hash
  step <- list(verb = "score", label = score_label(settings, score), settings = recipe, model = score$terms,
               inside = score$inside)
  design <- new_design(x, step, kind = "raw", score = score)
  log_design(design, "score", score_counts(score), score_log(settings, score),
             if (settings$source == "learners") learner_seed(settings) else NA_integer_)
}

learner_seed <- function(settings) if (is.null(settings$seed)) 1 else settings$seed

settings_of <- list(column = "column", learners = c("learners", "folds", "prediction", "seed"),
                    ladder = c("link", "thresholds", "second_order"), heteroskedastic_probit = c("link", "scale_model"),
                    regression = "link")

score_label <- function(settings, score) {
  label <- source_label(settings, score)
  if (is.null(score$inside)) return(label)
  if (label == plain_score) "score fitted again" else paste0(label, ", fitted again")
}

source_label <- function(settings, score) {
  switch(settings$source,
    column = sprintf("score from column %s", settings$column),
    learners = stack_label(setdiff(score$learners$learner, "stack")),
    ladder = sprintf("%s score by ladder", settings$link),
    heteroskedastic_probit = "heteroskedastic probit score",
    regression = paste0(
      if (settings$link != "logit") paste0(settings$link, " score") else if (is.null(settings$model)) plain_score else
        "score",
      if (!is.null(settings$model)) paste(" on", score$terms)
    )
  )
}

stack_label <- function(names) {
  if (length(names) > 3L) return(sprintf("score stacked from %d learners", length(names)))
  if (length(names) == 1L) paste("score by", names) else paste("score stacked from", and_list(names))
}

score_counts <- function(score) {
  if (is.null(score$coefficients)) return("")
  plural(length(score$coefficients) - 1L, "term")
}

score_log <- function(settings, score) {
  switch(settings$source,
    column = list(column = settings$column),
    learners = list(learners = score$learners$learner, folds = settings$folds, prediction = settings$prediction),
    list(link = settings$link, model = score$terms)
  )
}

# Where a score came from.
score_text <- function(score) {
  settings <- score$settings
  terms <- length(score$coefficients) - 1L
  switch(settings$source,
    column = sprintf("column %s, taken as known", settings$column),
    learners = sprintf("%s prediction of %s, %d folds, seed %d; taken as known",
                       c(out_of_fold = "out-of-fold", refitted = "refitted")[[settings$prediction]],
                       plural(nrow(score$learners) - 1L, "learner"), round(settings$folds),
                       as.integer(learner_seed(settings))),
    balancing = sprintf("logit solving the balance conditions, %s", plural(terms, "term")),
    sprintf("%s, %s", link_words[[score$link]], plural(terms, "term"))
  )
}

link_words <- c(logit = "logit", probit = "probit", cloglog = "complementary log-log",
                heteroskedastic_probit = "heteroskedastic probit")

score_from_regression <- function(x, model, link, call) {
  study <- study_of(x)
  terms <- score_model(x, model, call)
  matrix <- terms_matrix(study, terms)
  fit <- core_fit(matrix, as.double(study$z), fit_weight(x), link)
  check_fit(fit, matrix, x, call, terms$columns)
  new_score(fit, matrix, terms, link)
}

score_from_heteroskedastic <- function(x, settings, call) {
  study <- study_of(x)
  terms <- score_model(x, settings$model, call)
  spread <- scale_formula_of(settings$scale_model, study, call)
  matrix <- terms_matrix(study, terms)
  scale_matrix <- scale_matrix_of(study, spread, terms$lone)
  fit <- core_fit_heteroskedastic(matrix, scale_matrix, as.double(study$z), fit_weight(x))
  check_fit(fit, matrix, x, call, terms$columns)
  score <- new_score(fit, matrix, terms, "heteroskedastic_probit", paste("log scale:", colnames(scale_matrix)))
  c(score, list(scale_formula = spread, scale = fit$scale))
}

scale_matrix_of <- function(study, spread, lone) {
  study_matrix(study, pool_levels(study$columns[all.vars(spread)], lone), spread, lone = lone)
}

# The formula of a scale; by default all numeric and yes/no covariates.
scale_formula_of <- function(scale_model, study, call) {
  if (!is.null(scale_model)) return(score_formula(scale_model, study, call, "scale_model"))
  plain <- names(Filter(function(column) column$kind != "factor", study$columns))
  if (length(plain) > 0L) return(stats::reformulate(sprintf("`%s`", plain)))
  abort_input(c("A heteroskedastic probit needs a {.arg scale_model}.",
                x = "The study has no numeric or yes/no covariate to take by default."), call = call)
}

score_from_column <- function(x, settings, call) {
  study <- study_of(x)
  name <- settings$column
  check_string(name, arg = "score", call = call)
  check_columns(name, study$data, "score", call)
  values <- study$data[[name]][study$rows]
  if (!is.numeric(values)) abort_input("The score {.val {name}} must be numbers.", column = name, call = call)
  bad <- which(is.na(values) | values <= 0 | values >= 1)
  if (length(bad) > 0L) {
    abort_input(c(
      "The score {.val {name}} must lie above 0 and below 1.",
      x = "It does not in {length(bad)} row{?s}, {sum(is.na(values[bad]))} of them missing; first rows:
           {first_rows(study$rows[bad])}.",
      i = "Correct {cli::qty(length(bad))}{?it/them}, or leave {?the row/the rows} out with {.arg subset}."
    ), column = name, rows = study$rows[bad], call = call)
  }
  list(link = "logit", terms = name, fitted = as.double(values), linear = stats::qlogis(values), known = TRUE,
       aliased = character())
}

# Weights that a model of the treatment is fitted with: NULL when all are 1.
fit_weight <- function(x) {
  study <- study_of(x)
  if (is.null(study$s) && all(design_kept(x))) NULL else kept_weight(x)
}

# The columns and the formula (NULL for plain columns) of a model in the study's covariates, by default the study's own,
# and both as text.
model_terms <- function(study, model, call) {
  if (is.null(model)) return(list(columns = study$columns, formula = study$formula, text = study_terms(study)))
  formula <- score_formula(model, study, call)
  list(columns = study$columns[all.vars(formula)], formula = formula, text = deparse1(formula[[2L]]))
}

# The matrix of a model.
terms_matrix <- function(study, terms) study_matrix(study, terms$columns, terms$formula, lone = terms$lone)

score_terms <- function(score, study) {
  list(columns = pool_levels(study$columns[score$columns], score$lone), formula = score$formula, text = score$terms,
       lone = score$lone)
}

score_matrix <- function(score, study) terms_matrix(study, score_terms(score, study))

# terms: from model_terms(). fitted, linear: one per study row; covariance: inverse of minus the second derivatives,
# the intercept first. known: is the score taken as known?
new_score <- function(fit, matrix, terms, link, scale_terms = NULL) {
  names <- c("(intercept)", colnames(matrix), scale_terms)
  covariance <- fit$covariance
  dimnames(covariance) <- list(names, names)
  list(link = link, terms = terms$text, formula = terms$formula, columns = names(terms$columns), lone = terms$lone,
       linear = fit$linear, fitted = fit$fitted, coefficients = stats::setNames(fit$coefficients, names),
       covariance = covariance,
       aliased = colnames(matrix)[fit$aliased], iterations = fit$iterations, loglik = fit$loglik, known = FALSE)
}

score_formula <- function(model, study, call = rlang::caller_env(), arg = "model") {
  if (!rlang::is_formula(model)) {
    abort_input(c("{.arg {arg}} must be a one-sided formula.", x = "It is {.obj_type_friendly {model}}."), call = call)
  }
  outside <- setdiff(all.vars(model), c(names(study$columns), "."))
  if (length(outside) > 0L) {
    abort_input(c(
      "{.arg {arg}} must use the study's covariates.",
      x = "Not among them: {.val {outside}}.",
      i = "Name {cli::qty(length(outside))}{?it/them} in {.fn frame_study}: balance is judged on {?it/them} too."
    ), unknown = outside, call = call)
  }
  filled <- study$data[1L, names(study$columns), drop = FALSE]
  parse_covariate_formula(model, filled, character(), arg, call)
  stats::formula(stats::terms(model, data = filled))
}

# Turns the facts of a fit into errors and warnings.
check_fit <- function(fit, matrix, x, call = rlang::caller_env(), columns = study_of(x)$columns) {
  if (fit$status == "separated") stop_separated(separating_columns(fit, matrix, x, columns), call)
  check_converged(fit, colnames(matrix), call)
}

# names: of the columns.
check_converged <- function(fit, names, call) {
  if (fit$status != "converged") {
    abort_convergence(c(
      "The score did not converge after {fit$iterations} steps.",
      i = "Look for covariates on wildly different scales, or for terms that nearly repeat each other."
    ), call = call)
  }
  if (length(fit$aliased) > 0L) {
    warn_kind("aliased", c(
      "The score leaves out {length(fit$aliased)} term{?s} that the others already explain:
       {.val {names[fit$aliased]}}.",
      i = "The fitted score is the same with or without {cli::qty(length(fit$aliased))}{?it/them}."
    ), terms = names[fit$aliased])
  }
}

# Columns that separate the arms by themselves; failing those, the ones the likelihood runs away along.
separating_columns <- function(fit, matrix, x, columns) {
  study <- study_of(x)
  counted <- kept_weight(x) > 0
  candidates <- cbind(matrix, reference_levels(columns))
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

stop_separated <- function(terms, call) {
  abort_separation(c(
    "The arms are separated: {.val {terms}} tell{?s/} treated from control without error for some units.",
    x = "No finite score exists; such units have no counterpart in the other arm.",
    i = "Merge rare levels, leave the {cli::qty(length(terms))}{?term/terms} out, or narrow the study with
         {.arg subset} to where both arms occur."
  ), covariates = terms, call = call)
}

# The linear score as a nuisance of core-nuisance.R.
score_nuisance <- function(design) {
  study <- design$study
  score <- design$score
  if (score$known) return(core_known(length(study$z)))
  terms <- score_terms(score, study)
  x <- study_parts(study, terms$columns, terms$formula, terms$lone)
  if (!is.null(score$residual)) return(core_regression_nuisance(x, score$covariance, score$residual))
  weight <- sampling_weight(study) * (if (is.null(score$inside)) 1 else score$inside)
  residual <- weight * core_link_residual(score$linear, score$fitted, study$z, score$link)
  if (score$link != "heteroskedastic_probit") return(core_regression_nuisance(x, score$covariance, residual))
  scale_matrix <- scale_matrix_of(study, score$scale_formula, score$lone)
  core_heteroskedastic_nuisance(terms_matrix(study, terms), scale_matrix, score$linear, score$scale, score$covariance,
                                residual)
}

# A function f of the fitted score as a nuisance; slope: df / de per unit.
score_function_nuisance <- function(design, slope) {
  score <- design$score
  core_scaled(score_nuisance(design), slope * core_link_slope(score$linear, score$fitted, score$link))
}
