# Double selection (Belloni, Chernozhukov & Hansen 2014): with many covariates the lasso picks those that tell of
# treatment and those that tell of the outcome in either arm; the augmented estimator then adjusts for all of them.

check_selection <- function(x, asked, call) {
  need_package("glmnet", "select covariates", call)
  if (design_kind(x) != "raw" || !is.null(design_score(x))) {
    abort_unsupported(c("Double selection makes its own score from the covariates it picks; it can't use that of a
                         design.", i = "Give it the study."), call = call)
  }
  if (!has_known_population(study_of(x)$estimand)) {
    abort_unsupported(c("Double selection answers the ATE, ATT and ATC.",
                        i = "The {study_of(x)$estimand} is about a population defined by a score."), call = call)
  }
}

selection_means <- function(block, units, asked, call) {
  whole <- is.null(study_of(block$x)$outside)
  means <- if (whole) selected_means(block, units, asked, call) else
    each_arm_mean(block, units, function(part, part_units, j) {
      list(selected_means(part, part_units, asked, call, whose = "treated"))
    })[[1L]]
  found <- effect_vcov(block$x, means$influence, units, asked$clusters, asked$lonely, call)
  list(estimate = means$estimate, influence = function() means$influence, vcov = found$vcov, df = found$df,
       made = means$v, text = paste0(found$text, if (whole) sprintf(", %s of %s selected", count_text(means$chosen),
                                                                    plural(means$columns, "column"))))
}

# list(estimate, influence, v, chosen, columns): both means, the units' weights, how many columns were picked of how
# many. whose: the arms whose outcome is modelled; the mean of the other is of no use.
selected_means <- function(block, units, asked, call, whose = c("treated", "control")) {
  study <- study_of(block$x)
  terms <- model_terms(study, outcome_formula(asked, block), call)
  matrix <- terms_matrix(study, terms)[units$rows, , drop = FALSE]
  if (ncol(matrix) < 2L) {
    abort_input(c("Double selection needs at least 2 columns to choose from; there {?is/are} {ncol(matrix)}.",
                  i = "Use {.code estimator = \"augmented\"}."), call = call)
  }
  s <- unit_sampling(block$x, units)
  chosen <- double_selection(matrix, units, s, block$shares, asked, whose)
  own <- matrix[, chosen, drop = FALSE]
  score <- selected_score(own, units$z, s, call)
  v <- s * core_inverse_weight(score$fitted, units$z, study$estimand)
  weights <- core_scaled(score$nuisance, s * core_inverse_weight_slope(score$fitted, units$z, study$estimand) *
                           score$fitted * (1 - score$fitted))
  t <- s * core_target_weight(score$fitted, units$z, study$estimand)
  family <- outcome_family(asked, block)
  check_family_outcome(family, block, units, call)
  models <- lapply(c(treated = 1L, control = 0L)[whose], function(arm) {
    suppressWarnings(outcome_model(own, units$y, s * (units$z == arm), family, NULL, arm, study, call),
                     classes = "twin_warning_aliased")
  })
  means <- core_augmented_means(units$y, units$z, v, weights, t, core_known(length(s)), models[rep_len(whose, 2L)])
  list(estimate = means$estimate, influence = means$influence(), v = v, chosen = length(chosen),
       columns = ncol(matrix))
}

# Places of the columns that any of the three lassos picks, by the largest penalty within a standard error of the least
# loss: the least itself picks many that tell of nothing, and their noise makes intervals too short.
double_selection <- function(matrix, units, s, shares, asked, whose) {
  pick <- function(y, inside, binary, part) {
    if (length(unique(y[inside])) < 2L) return(integer())
    fold <- with_own_seed(sub_seed(asked$seed, "selection", part),
                          sample(rep_len(seq_len(round(asked$folds)), sum(inside))))
    fit <- glmnet::cv.glmnet(matrix[inside, , drop = FALSE], y[inside], weights = s[inside] / mean(s[inside]),
                             family = if (binary) "binomial" else "gaussian", foldid = fold)
    which(as.numeric(stats::coef(fit, s = "lambda.1se"))[-1L] != 0)
  }
  used <- units$used & s > 0
  chosen <- c(pick(as.double(units$z), used, TRUE, 1L),
              if ("treated" %in% whose) pick(units$y, used & units$z == 1L, shares, 2L),
              if ("control" %in% whose) pick(units$y, used & units$z == 0L, shares, 3L))
  sort(unique(chosen))
}

# A logit of treatment on the columns picked; the arm's share where there are none.
selected_score <- function(matrix, z, s, call) {
  if (ncol(matrix) == 0L) matrix <- cbind(none = numeric(length(z)))
  fit <- core_fit(matrix, as.double(z), s, "logit")
  if (fit$status != "converged") {
    separated <- fit$status == "separated"
    refuse <- if (separated) abort_separation else abort_convergence
    how <- if (separated) "tells the arms apart without error" else "did not converge"
    refuse(c("The score of the columns picked {how}.",
             x = "{ncol(matrix)} columns were picked for {sum(z)} treated and {sum(1 - z)} control units.",
           i = "Name fewer covariates, or leave out those that tell who is treated."), call = call)
  }
  list(fitted = fit$fitted, nuisance = core_regression_nuisance(matrix, fit$covariance, s * (z - fit$fitted)))
}
