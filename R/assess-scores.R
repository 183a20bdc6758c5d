#' Compare scores by the balance they reach
#'
#' Prediction is not the goal of a propensity score, balance is. Makes the same design from each learner's score and
#' from their stack (or from each of several scored designs) and sets the balance reached beside log-loss and AUC.
#' Every design is entered in the logbook: they are tried before the outcome is seen.
#'
#' @param x A `twin_design` with a score stacked from learners, not yet trimmed, or a named list of scored designs of
#'   one study.
#' @param design What to make of each score: `"weights"` (default; [weigh_units()], inverse), `"pairs"` ([pair_units()])
#'   or `"strata"` ([stratify_units()]).
#' @param settings Named list of further arguments of that verb, such as `list(caliper = 0.1)`.
#' @param limit,ratio_range What counts as passing, as in [assess_balance()].
#' @return A `twin_scores`. `tidy()` gives one row per score: `score`, `weight` (in the stack; NA for a list of
#'   designs), `loss`, `auc` (out-of-fold for learners), `rows`, `passing`, `worst_smd`, `worst_covariate`, `mean_smd`
#'   (mean |SMD|), `ess_treated`, `ess_control`, `largest_share` (of its arm's weight by one unit), best balance
#'   first; scores with which no design could be made stand last with NA and their `problem`. `designs` in the object
#'   holds the designs.
#' @section Errors: `twin_error_input` when `x` is neither.
#' @family judging
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + past_income)
#' scored <- score_units(study, learners = c("logit", "tree"), folds = 3)
#' compare_scores(scored)
#' compare_scores(list(logit = score_units(study), probit = score_units(study, link = "probit")),
#'                design = "pairs", settings = list(caliper = 0.1))
#' @export
compare_scores <- function(x, design = c("weights", "pairs", "strata"), settings = list(), limit = "standard",
                           ratio_range = NULL) {
  if (is_imputed(x)) return(in_each_set(x, compare_scores, match.call()))
  if (are_imputed(x)) return(in_each_set(side_by_side(x), compare_scores, match.call()))
  design <- check_choice(design, c("weights", "pairs", "strata"))
  if (is.data.frame(settings) || !is_named_list(settings)) abort_input("{.arg settings} must be a list with names.")
  balance_limits(limit, ratio_range)
  verb <- list(weights = weigh_units, pairs = pair_units, strata = stratify_units)[[design]]
  stray <- setdiff(names(settings), setdiff(names(formals(verb)), "x"))
  if (length(stray) > 0L) {
    abort_input("{.arg settings} names {.val {stray}}, which {cli::qty(length(stray))}{?is/are} not among the arguments
                 of {.fn {c(weights = 'weigh_units', pairs = 'pair_units', strata = 'stratify_units')[[design]]}}.")
  }
  candidates <- score_candidates(x)
  made <- show_progress("Comparing scores", steps = length(candidates), work = function(tick) {
    Map(function(candidate, name) {
      tick(name)
      tryCatch(withCallingHandlers(do.call(verb, c(list(candidate), settings)),
                                   twin_warning_weights = function(w) rlang::cnd_muffle(w)),
               twin_error_input = function(e) e)
    }, candidates, names(candidates))
  })
  failed <- vapply(made, inherits, NA, "error")
  if (all(failed)) rlang::cnd_signal(made[[1L]])
  rows <- Map(score_row, candidates, made, names(made), MoreArgs = list(limit = limit, ratio_range = ratio_range))
  rows <- do.call(rbind, unname(rows))
  rows <- rows[order(is.na(rows$worst_smd), -rows$passing, rows$worst_smd), ]
  rownames(rows) <- NULL
  structure(list(rows = rows, designs = made[!failed], kind = design, settings = settings,
                 limits = balance_limits(limit, ratio_range), estimand = study_of(candidates[[1L]])$estimand),
            class = "twin_scores")
}

# Named list of scored designs: the learners' own scores and their stack, or those given.
score_candidates <- function(x, call = rlang::caller_env()) {
  if (!inherits(x, "twin_design")) {
    if (is.object(x) || !is_named_list(x) || length(x) == 0L) {
      abort_input(c("{.arg x} must be a design with learners, or a named list of scored designs.",
                    x = "It is {.obj_type_friendly {x}}."), call = call)
    }
    for (design in x) {
      check_score(design, "compare_scores", call)
      check_undesigned(design, "compare_scores", call)
    }
    balance_designs(x, call)
    return(x)
  }
  if (is.null(x$score$learners) || x$steps[[length(x$steps)]]$verb != "score") {
    abort_input(c("{.arg x} must have a score stacked from learners, not trimmed since.",
                  i = "Use {.code score_units(learners = )}, or give a named list of scored designs."), call = call)
  }
  own <- lapply(stats::setNames(nm = colnames(x$score$predictions)), function(name) design_by_learner(x, name))
  c(own, list(stack = x))
}

# The design as if it had been scored by one of the learners alone.
design_by_learner <- function(x, name) {
  score <- x$score
  score$fitted <- score$predictions[, name]
  score$linear <- stats::qlogis(score$fitted)
  step <- list(verb = "score", label = paste("score by", name), learner = name, settings = score$settings)
  new_design(x, step, kind = "raw", score = score, steps = c(x$steps[-length(x$steps)], list(step)))
}

score_row <- function(candidate, design, name, limit, ratio_range) {
  score <- candidate$score
  s <- kept_weight(candidate)
  inside <- s > 0
  facts <- score$learners[score$learners$learner == name, ]
  z <- candidate$study$z[inside]
  row <- data.frame(
    score = name, weight = if (NROW(facts) == 1L) facts$weight else NA_real_,
    loss = if (NROW(facts) == 1L) facts$loss else core_log_loss(score$fitted[inside], z, s[inside]),
    auc = if (NROW(facts) == 1L) facts$auc else core_auc(score$fitted[inside], z, s[inside])
  )
  if (inherits(design, "error")) {
    return(cbind(row, rows = NA, passing = NA, worst_smd = NA_real_, worst_covariate = NA, mean_smd = NA_real_,
                 ess_treated = NA_real_, ess_control = NA_real_, largest_share = NA_real_,
                 problem = cli::ansi_strip(rlang::cnd_header(design))))
  }
  balance <- assess_balance(design, limit = limit, ratio_range = ratio_range)
  judged <- generics::glance(balance)
  after <- generics::tidy(balance)
  cbind(row, judged[c("rows", "passing", "worst_smd", "worst_covariate")],
        mean_smd = mean(abs(after$smd[after$sample == "after"]), na.rm = TRUE), judged[c("ess_treated", "ess_control")],
        largest_share = generics::glance(assess_weights(design))$largest_share, problem = NA_character_)
}

#' @export
tidy.twin_scores <- function(x, ...) {
  rlang::check_dots_empty()
  x$rows
}

#' @export
as.data.frame.twin_scores <- function(x, ...) x$rows
