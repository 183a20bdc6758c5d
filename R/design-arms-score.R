# Scores of more than two arms: the chance of each arm given the covariates, and who is left where they overlap.

# asked: the arguments of score_units() that arms know; given: names of all arguments given.
score_arms <- function(x, asked, given, call = rlang::caller_env()) {
  check_arms_undesigned(x, "score_units", call)
  learnt <- !is.null(asked$learners)
  refuse_stray(setdiff(given, c("x", "model", "learners", if (learnt) c("folds", "prediction", "seed"))),
               if (learnt) "learners of more than two arms" else "more than two arms",
               "Their score is a multinomial logit, of which {.arg model} can be chosen, or by {.arg learners}.", call)
  score <- c(if (learnt) learnt_score(x, asked, call) else multinomial_score(x, asked$model, call), list(asked = asked))
  if (!is.null(x$kept)) score$inside <- x$kept
  label <- paste0(score$label, if (!is.null(x$kept)) ", fitted again")
  step <- list(verb = "score", label = label, model = score$terms)
  x <- step_arms(x, step, score = score)
  log_step(x$base, "score", label, sprintf("%d arms", length(x$levels)), c(list(model = score$terms), score$recipe),
           if (learnt) learner_seed(asked) else NA_integer_)
  x
}

multinomial_score <- function(x, model, call) {
  study <- x$base
  terms <- model_terms(study, model, call)
  matrix <- terms_matrix(study, terms)
  s <- arms_weight(x)
  aliased <- arm_aliases(matrix, x, s, call)
  if (length(aliased) > 0L) matrix <- matrix[, -aliased, drop = FALSE]
  fit <- core_fit_multinomial(matrix, x$arm, s)
  if (fit$status != "converged") {
    abort_convergence(c("The multinomial score did not converge.",
                        i = "Look for covariates on wildly different scales, or nearly empty levels."), call = call)
  }
  dimnames(fit$coefficients) <- list(c("(intercept)", colnames(matrix)), x$levels[-1L])
  c(fit, list(columns = names(terms$columns), formula = terms$formula, aliased = aliased, terms = terms$text,
              known = FALSE, label = "multinomial score"))
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

# Learners tell each arm from all others; the chances are made to add up to 1.
learnt_score <- function(x, asked, call) {
  settings <- c(asked, list(source = "learners"))
  parts <- lapply(seq_along(x$levels), function(j) {
    study <- one_arm_study(x, j)
    if (!is.null(x$kept)) {
      study <- new_design(study, list(verb = "trim", label = ""), kind = "raw", kept = x$kept)
    }
    score_from_learners(study, settings, call)
  })
  chance <- vapply(parts, `[[`, numeric(length(x$arm)), "fitted")
  learners <- do.call(rbind, Map(function(part, name) cbind(arm = name, part$learners), parts, x$levels))
  names <- setdiff(unique(learners$learner), "stack")
  list(fitted = chance / rowSums(chance), known = TRUE, terms = parts[[1L]]$terms, learners = learners,
       label = stack_label(names), settings = settings,
       recipe = list(learners = names, folds = asked$folds, prediction = asked$prediction))
}

# The linear scores of all arms, and how their estimation enters.
arm_score_nuisance <- function(x) {
  score <- x$score
  if (isTRUE(score$known)) return(core_known(length(x$arm)))
  matrix <- score_matrix(score, x$base)
  if (length(score$aliased) > 0L) matrix <- matrix[, -score$aliased, drop = FALSE]
  s <- sampling_weight(x$base) * (if (is.null(score$inside)) 1 else score$inside)
  core_multinomial_nuisance(matrix, x$arm, s, score)
}

# Who is left where every arm can be found: Methods, "Overlap and trimming".
trim_arms <- function(x, rule, bounds, rescore, call = rlang::caller_env()) {
  check_arms_scored(x, "trim_units", call)
  check_arms_undesigned(x, "trim_units", call)
  e <- x$score$fitted
  s <- arms_weight(x)
  support <- switch(rule,
    common_support = core_arm_support(e, x$arm, s),
    quantile = core_arm_support(e, x$arm, s, bounds),
    range = matrix(bounds, ncol(e), 2L, byrow = TRUE),
    least_variance = NULL
  )
  most <- if (is.null(support)) core_least_variance_cut(rowSums(1 / e)[s > 0], s[s > 0])
  inside <- if (is.null(support)) rowSums(1 / e) <= most else
    rowSums(t(t(e) >= support[, 1L] & t(e) <= support[, 2L])) == ncol(e)
  kept <- arms_kept(x) & inside
  check_arms_left(kept, x, call)
  fallen <- tabulate(x$arm[arms_kept(x) & !kept], length(x$levels))
  step <- list(
    verb = "trim", rule = rule, bounds = bounds, most = most, support = support, rescore = rescore,
    label = sprintf("trimmed (%s of all arms)", c(least_variance = "least variance", common_support = "common support",
                                                  quantile = "quantiles", range = "chances")[[rule]]),
    fallen = fallen,
    note = sprintf("those who could have been in any arm (%s of %s units)", count_text(sum(kept)),
                   count_text(sum(arms_kept(x))))
  )
  log_step(x$base, "trim", step$label, paste("fell off:", paste(fallen, x$levels, collapse = ", ")),
           list(rule = rule, bounds = bounds, rescore = rescore))
  x <- step_arms(x, step, kept = kept)
  if (!rescore) return(x)
  asked <- x$score$asked
  score_arms(x, asked, c("model", if (!is.null(asked$learners)) c("learners", "folds", "prediction", "seed")), call)
}

check_arms_left <- function(kept, x, call) {
  left <- tabulate(x$arm[kept & sampling_weight(x$base) > 0], length(x$levels))
  if (all(left >= 2L)) return(invisible(kept))
  thin <- x$levels[which.min(left)]
  abort_input(c("Trimming must leave at least 2 units in each arm.",
                x = "The arm {.val {thin}} keeps {min(left)} of {sum(x$arm == which.min(left))}.",
                i = "Use wider {.arg bounds} or another rule, or leave the arm out with {.arg subset}."),
              arm = thin, counts = stats::setNames(left, x$levels), call = call)
}

# One row per arm: the chances of being in it that are kept, and how many of it fell off.
arms_trimming <- function(x) {
  step <- trimming_of(x)
  if (is.null(step)) abort_input("These arms are not trimmed; see {.fn trim_units}.", call = NULL)
  support <- if (is.null(step$support)) matrix(c(0, 1), length(x$levels), 2L, byrow = TRUE) else step$support
  data.frame(rule = step$rule, arm = x$levels, low = support[, 1L], high = support[, 2L],
             most = if (is.null(step$most)) NA_real_ else step$most, fallen = step$fallen)
}
