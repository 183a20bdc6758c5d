# Outcome models: one per arm or one for both, by regression or learnt.

# What was asked for one outcome: formula and family may differ by outcome.
outcome_formula <- function(asked, block) if (is.list(asked$model)) asked$model[[block$outcome]] else asked$model

outcome_family <- function(asked, block) {
  family <- asked$family
  if (!is.null(names(family))) family <- if (block$outcome %in% names(family)) family[[block$outcome]]
  if (is.null(family)) if (block$shares) "binomial" else "gaussian" else unname(family)
}

# For treated and control, lists for the core's estimators; weight: per unit at hand, 0 where it does not take part.
arm_models <- function(block, units, weight, asked, call) {
  study <- study_of(block$x)
  family <- outcome_family(asked, block)
  check_family_outcome(family, block, units, call)
  terms <- model_terms(study, outcome_formula(asked, block), call)
  matrix <- terms_matrix(study, terms)
  if (length(units$rows) < nrow(matrix)) matrix <- matrix[units$rows, , drop = FALSE]
  if (!is.null(units$group)) matrix <- columns_that_vary(matrix, weight > 0)
  scale_matrix <- if (family == "heteroskedastic_probit") {
    spread <- scale_formula_of(asked$scale_model, study, call)
    study_matrix(study, study$columns[all.vars(spread)], spread)[units$rows, , drop = FALSE]
  }
  if (!is.null(asked$products)) {
    products <- arm_products(study, asked$products, units, call)
    return(shared_model(matrix, products, units, weight, family, study, call))
  }
  lapply(c(treated = 1L, control = 0L), function(arm) {
    outcome_model(matrix, units$y, weight * (units$z == arm), family, scale_matrix, arm, study, call)
  })
}

# The columns whose slopes differ between the arms in one model for both: n x k, without columns for "none".
arm_products <- function(study, products, units, call) {
  if (identical(products, "none")) return(matrix(0, length(units$rows), 0L))
  formula <- if (rlang::is_formula(products)) products else stats::reformulate(formula_names(products))
  formula <- score_formula(formula, study, call, "products")
  terms_matrix(study, model_terms(study, formula, call))[units$rows, , drop = FALSE]
}

# One regression for both arms, as a model of each.
shared_model <- function(matrix, products, units, weight, family, study, call) {
  name <- "both arms"
  check_arm_outcome(units$y[weight > 0], family, name, call)
  fit <- core_fit_both_arms(matrix, products, as.double(units$z), units$y, weight, family)
  check_outcome_fit(fit, name, call)
  columns <- c(colnames(matrix), "treatment", sprintf("treatment x %s", colnames(products)))
  if (length(fit$aliased) > 0L) warn_outcome_aliased(columns[fit$aliased], name)
  fit[c("treated", "control")]
}

# Within a group, what makes it one is constant.
columns_that_vary <- function(matrix, inside) {
  varies <- apply(matrix[inside, , drop = FALSE], 2L, function(column) any(column != column[1L]))
  matrix[, varies, drop = FALSE]
}

outcome_model <- function(matrix, y, weight, family, scale_matrix, arm, study, call) {
  name <- arm_name(arm, study)
  check_arm_outcome(y[weight > 0], family, name, call)
  fit <- core_fit_outcome(matrix, y, weight, family, scale_matrix)
  check_outcome_fit(fit, name, call)
  if (length(fit$aliased) > 0L) warn_outcome_aliased(colnames(matrix)[fit$aliased], name)
  fit
}

check_outcome_fit <- function(fit, name, call) {
  if (fit$status == "separated") {
    abort_separation(c(
      "The outcome model of {name} is separated: covariates tell its 0s from its 1s without error.",
      i = "Use {.code family = \"gaussian\"}, a smaller {.arg model}, or {.code estimator = \"difference\"}."
    ), call = call)
  }
  if (fit$status != "converged") {
    abort_convergence(c(
      "The outcome model of {name} did not converge.",
      i = "Use a smaller {.arg model} or another {.arg family}; look for levels whose outcome is always 0."
    ), call = call)
  }
}

arm_name <- function(arm, study) {
  word <- if (arm == 1L) "treated" else "control"
  sprintf("the %s arm (%s)", word, study$levels[[word]])
}

# A column that is constant within one arm can't be estimated there; predictions for the other arm then lean on 0.
warn_outcome_aliased <- function(terms, name) {
  warn_kind("aliased", c(
    "The outcome model of {name} leaves out {.val {terms}}: the other terms explain {?it/them} there.",
    i = "Its predictions do not vary with {cli::qty(length(terms))}{?it/them}; name a smaller {.arg model} to say so."
  ), terms = terms)
}

check_arm_outcome <- function(y, family, name, call) {
  if (family == "gaussian" || any(y != y[1L])) return(invisible(y))
  abort_input(c(
    "The outcome does not vary in {name}: it is {y[1L]} for all {length(y)} units.",
    x = "A {family} model has nothing to explain there.",
    i = "Use {.code estimator = \"difference\"} or {.code family = \"gaussian\"}."
  ), call = call)
}

check_family_outcome <- function(family, block, units, call) {
  y <- units$y[units$used]
  entry <- outcome_families[[family]]
  if (entry$fits(y, block$shares)) return(invisible(family))
  needs <- entry$needs
  abort_input(c("{.code family = \"{family}\"} needs {needs}.",
                x = "The values of {.val {block$outcome}} go from {number_text(min(y))} to {number_text(max(y))}.",
                i = "Use {.code family = \"gaussian\"}."), column = block$outcome, call = call)
}

# Predictions of stacked learners, each unit's from folds without it: they enter in second order only.
learnt_models <- function(block, units, asked, call) {
  learnt <- learn_targets(block, units, asked, fold_sets(block, units, asked, 1L, call), FALSE, call)
  lapply(learnt[[1L]][c("treated", "control")], known_model)
}

# Fitted values taken as known, as a model for the core's estimators.
known_model <- function(fitted) list(fitted = fitted, slope = 0, carry = function(v) 0)

# Cross-fitted augmented weighting (Chernozhukov et al. 2018, definition 3.2): score and outcome models learnt on other
# folds, the median over repeats of the draw of folds.
crossfit_means <- function(block, units, asked, call) {
  means <- if (is.null(study_of(block$x)$outside)) crossfit_repeats(block, units, asked, call) else
    arm_crossfit_repeats(block, units, asked, call)
  repeats <- lapply(means, function(part) {
    found <- effect_vcov(block$x, part$influence, units, asked$clusters, asked$lonely, call)
    c(part, list(vcov = found$vcov, df = found$df, text = found$text))
  })
  chosen <- core_median_repeat(repeats)
  list(estimate = chosen$estimate, influence = function() chosen$influence, vcov = chosen$vcov,
       made = Reduce(`+`, lapply(repeats, `[[`, "v")) / length(repeats), df = repeats[[1L]]$df,
       text = paste0(repeats[[1L]]$text, ", cross-fitted in ", plural(round(asked$folds), "fold"),
                     if (length(repeats) > 1L) sprintf(", median of %d repeats", length(repeats))))
}

# Per repeat list(estimate, influence, v) of both means. arms: whose outcome models are learnt; the mean of the other is
# of no use.
crossfit_repeats <- function(block, units, asked, call, arms = c("treated", "control")) {
  study <- study_of(block$x)
  s <- unit_sampling(block$x, units)
  none <- core_known(length(s))
  folds <- fold_sets(block, units, asked, round(asked$repeats), call)
  lapply(learn_targets(block, units, asked, folds, TRUE, call, arms), function(learnt) {
    v <- s * core_inverse_weight(learnt$score, units$z, study$estimand)
    t <- s * core_target_weight(learnt$score, units$z, study$estimand)
    models <- lapply(learnt[rep_len(arms, 2L)], known_model)
    means <- core_augmented_means(units$y, units$z, v, none, t, none, models)
    list(estimate = means$estimate, influence = means$influence(), v = v)
  })
}

# Of several arms the mean of each for everybody is that of its arm against all others together.
arm_crossfit_repeats <- function(block, units, asked, call) {
  each_arm_mean(block, units, function(part, part_units, j) {
    asked$clusters <- effect_clusters(study_of(part$x), asked$cluster, call)
    if (is.null(asked$learners)) asked$learners <- score_behind(block$x)$settings$learners
    crossfit_repeats(part, part_units, asked, call, "treated")
  })
}

# means_of(block, units, j) gives one list(estimate, influence, v) or several for arm j against all others; what is kept
# of each is the mean of arm j. Gives such lists for the contrast.
each_arm_mean <- function(block, units, means_of) {
  behind <- arms_behind(block$x)
  n <- length(units$rows)
  both <- lapply(c(behind$k, 1L), function(j) {
    part <- block
    part$x <- one_against_others(behind$arms, j)
    part_units <- effect_units(part$x, part$y, part$inside, part$outcome)
    lapply(means_of(part, part_units, j), function(means) {
      own <- numeric(n)
      own[part_units$rows] <- means$influence[, 1L] * n / length(part_units$rows)
      weight <- replace(numeric(n), part_units$rows, means$v * (part_units$z == 1L))
      list(estimate = means$estimate[[1L]], influence = own, v = weight)
    })
  })
  Map(function(first, second) {
    list(estimate = c(mean_treated = first$estimate, mean_control = second$estimate),
         influence = cbind(mean_treated = first$influence, mean_control = second$influence),
         v = ifelse(units$z == 1L, first$v, second$v))
  }, both[[1L]], both[[2L]])
}

# All units, arm j against the others; its score is learnt as that of the arms was.
one_against_others <- function(x, j) {
  study <- one_arm_study(x, j)
  settings <- x$score$settings
  score <- if (!is.null(settings)) list(link = "logit", fitted = x$score$fitted[, j], known = TRUE, settings = settings)
  if (is.null(score) && is.null(x$kept)) return(study)
  new_design(study, list(), kind = "raw", steps = list(), score = score, kept = x$kept)
}

# One vector of folds per repeat, over the units at hand; 0 for those that are not averaged.
fold_sets <- function(block, units, asked, repeats, call) {
  cluster <- if (length(asked$clusters$codes) > 0L) asked$clusters$codes[[1L]][units$rows]
  lapply(seq_len(repeats), function(r) {
    with_own_seed(sub_seed(asked$seed, "folds", r),
                  draw_folds(units$z, units$used, round(asked$folds), study_of(block$x)$levels, call, cluster))
  })
}

# Per repeat a list of out-of-fold predictions for the units at hand: score (where asked), treated, control.
# arms: whose outcomes are learnt.
learn_targets <- function(block, units, asked, folds, with_score, call, arms = c("treated", "control")) {
  x <- block$x
  study <- study_of(x)
  s <- unit_sampling(x, units)
  s <- s / mean(s[units$used])
  chosen <- if (is.null(asked$learners)) x$score$settings$learners else asked$learners
  learners <- check_learners(chosen, call, numbers = !block$shares)
  data <- learner_columns(study, outcome_formula(asked, block), call)[units$rows, , drop = FALSE]
  score <- if (with_score) score_task(x, units, chosen, call)
  targets <- unlist(lapply(folds, function(fold) {
    outcome <- lapply(c(treated = 1L, control = 0L)[arms], function(arm) {
      list(learners = learners, x = data, y = units$y, s = s, fold = fold, train = units$z == arm,
           numbers = !block$shares)
    })
    score <- if (!is.null(score$learners)) {
      list(score = c(score, list(y = units$z, s = s, fold = fold, train = TRUE, numbers = FALSE)))
    }
    c(score, outcome)
  }), recursive = FALSE)
  stacks <- Map(function(target, result) stack_target(target, result, call), targets,
                run_targets(unname(targets), asked$seed))
  each <- split(stacks, rep(seq_along(folds), each = length(stacks) / length(folds)))
  lapply(each, function(part) {
    if (with_score && is.null(score$learners)) part$score <- score$known
    part
  })
}

# Mixed out-of-fold predictions of one target.
stack_target <- function(target, result, call) {
  learners <- working_learners(target$learners, result$failures, call)
  predictions <- result$predictions[, names(learners), drop = FALSE]
  inside <- target$fold > 0L & target$train
  weigh <- if (target$numbers) core_blend_weights else core_stack_weights
  drop(predictions %*% weigh(predictions[inside, , drop = FALSE], target$y[inside], target$s[inside]))
}

# How the score is learnt anew in every fold: by the design's own learners, its regression, the outcome's learners when
# there is no score; or list(known) where it can't be.
score_task <- function(x, units, chosen, call) {
  score <- design_score(x)
  study <- study_of(x)
  source <- if (is.null(score)) "learners" else score$settings$source
  if (source == "learners") {
    own <- if (is.null(score)) list(learners = chosen) else score$settings
    return(list(learners = check_learners(own$learners, call),
                x = learner_columns(study, own$model, call)[units$rows, , drop = FALSE]))
  }
  if (!source %in% c("regression", "ladder")) return(list(known = score$fitted[units$rows]))
  matrix <- score_matrix(score, study)[units$rows, , drop = FALSE]
  link <- score$link
  list(x = as.data.frame(matrix), learners = list(own = list(
    fit = function(x, z, weight) fit_regression_learner(as.matrix(x), z, weight, link),
    predict = function(model, x) {
      linear <- drop(cbind(1, as.matrix(x)) %*% model)
      switch(link, logit = stats::plogis(linear), probit = stats::pnorm(linear), cloglog = -expm1(-exp(linear)))
    }
  )))
}
