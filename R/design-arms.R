# Designs of more than two arms; see frame_arms(). Either all arms are weighed for one population (design-arms-weigh.R),
# or each is compared with the reference as a study of two arms, by the verbs for two: in_each_contrast().

#' Take the contrasts out of a study of several arms
#'
#' @param x A `twin_arms`, from [frame_arms()] or, with weights, strata, pairs or sets, from the verbs that make them;
#'   or a [panel][frame_panel] whose treatment is of several kinds.
#' @return A named list with one entry per arm other than the reference: two-arm studies of the units of both arms
#'   when `x` has no score yet, two-arm designs when it has weights, strata, pairs or sets. In these differences are arm
#'   minus reference. Standard errors of weights account for the multinomial score, which the units of every arm helped
#'   to estimate; pairs, full matching and strata for the ATT and ATC rest on a logit of each two arms. Of a panel, one
#'   panel per kind of treatment: its own units, those never treated, and those of other kinds for as long as they are
#'   untreated.
#' @section Errors: `twin_error_input` when there is a score but no design, or a panel's treatment is of one kind.
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
  if (!is.null(x$score)) stop_undesigned(x)
  lapply(compared_arms(x), function(k) arm_study(x, k, whole = FALSE))
}

stop_undesigned <- function(x, call = rlang::caller_env()) {
  abort_input(c("These arms have {if (!is.null(x$score)) 'a score but '}no weights, strata, pairs or sets yet.",
                i = "Call {.fn weigh_units}, {.fn stratify_units}, {.fn pair_units} or {.fn group_units} first."),
              call = call)
}

# Designs that are made: those of all contrasts, or the one at hand.
finished_designs <- function(x) if (is_arms(x)) x$designs else list(x)

# The contrasts, called "nets vs pots".
contrasts_by_name <- function(x) {
  parts <- contrasts_of(x)
  stats::setNames(parts, vapply(parts, function(part) contrast_name(study_of(part)$levels), ""))
}

contrast_name <- function(levels) paste(levels[["treated"]], "vs", levels[["control"]])

check_arms_undesigned <- function(x, verb, call = rlang::caller_env()) {
  if (is.null(x$designs)) return(invisible(x))
  abort_unsupported(c("{.fn {verb}} can't be put on top of a design that these arms already have.",
                      i = "Start again from the scored arms."), call = call)
}

check_arms_scored <- function(x, verb, call = rlang::caller_env()) {
  if (!is.null(x$score)) return(invisible(x))
  abort_input(c("{.fn {verb}} needs a score.", i = "Call {.fn score_units} first."), call = call)
}

# Arms with the designs of a further step, which is logged once for all of them.
arms_with <- function(x, designs, step, settings = list()) {
  x <- step_arms(x, step, designs = lapply(designs, function(design) {
    amend(design, study = amend(design$study, logbook = x$base$logbook))
  }))
  log_step(x$base, step$verb, step$label, sprintf("%d contrasts with %s", length(designs), x$levels[1L]),
           c(list(estimand = x$base$estimand), settings), worst = max(unlist(lapply(designs, worst_imbalance))),
           design = x$hash)
  x
}

# A verb for two arms, called within each comparison with the reference. verb: its name among the steps of a design;
# called: its match.call(), whose first argument is x.
in_each_contrast <- function(x, verb, called, env = rlang::caller_env()) {
  given <- mget(names(called)[-(1:2)], envir = env)
  name <- paste0(verb, "_units")
  check_arms_undesigned(x, name, env)
  check_pairwise_estimand(x$base$estimand, name, env)
  designs <- in_contrasts(x, env, function(start) do.call(name, c(list(start), given), quote = TRUE))
  steps <- design_steps(designs[[1L]])
  made <- steps[[length(steps)]]
  arms_with(x, designs, list(verb = verb, label = paste(made$label, "within each contrast")), given)
}

# run(start) for each contrast. Errors and warnings say which one they are about.
in_contrasts <- function(x, call, run) {
  lapply(compared_arms(x), function(k) {
    where <- sprintf("\"%s\" against \"%s\"", x$levels[k], x$levels[1L])
    withCallingHandlers(
      tryCatch(run(contrast_start(x, k)), twin_error = function(e) stop_within(e, where, call)),
      twin_warning = function(w) {
        w$message <- sprintf("In %s: %s", where, w$message)
        warning(w)
        rlang::cnd_muffle(w)
      }
    )
  })
}

# Who is paired, or cut into strata with, are units of two arms: that speaks of one of them, not of everybody.
check_pairwise_estimand <- function(estimand, verb, call) {
  answers <- estimands_for(c("treated", "control"))
  if (estimand %in% answers) return(invisible(estimand))
  other <- if (has_known_population(estimand)) "{.fn weigh_units}, {.fn stratify_units}, {.fn pair_units} with
    replacement and full, exact or coarsened {.fn group_units} speak of everybody" else
    "{.fn weigh_units} can speak of them"
  abort_unsupported(c(
    "Of more than two arms {.fn {verb}} compares two at a time, which can't answer the {estimand}.",
    i = paste0("Frame the arms for the {.or {answers}}; ", other, ".")
  ), call = call, .envir = environment())
}

# What the verbs for two arms start from in one contrast: its study, trimmed and scored as the arms are.
contrast_start <- function(x, k) {
  inside <- x$arm %in% c(1L, k)
  study <- arm_study(x, k, whole = FALSE)
  start <- amend(study, logbook = NULL)
  if (!is.null(x$kept)) start <- trimmed_contrast(start, trimming_of(x), x$kept[inside])
  if (is.null(x$score)) return(start)
  if (isTRUE(x$score$known)) return(learnt_contrast(start, x, k, inside))
  score_units(start, model = x$score$asked$model)
}

trimmed_contrast <- function(study, trimming, kept) {
  step <- c(trimming[c("verb", "rule", "bounds", "label")],
            list(arms = TRUE, range = c(low = NA_real_, high = NA_real_)))
  step$fallen <- vapply(c(treated = 1L, control = 0L), function(arm) sum(!kept & study$z == arm), 0L)
  new_design(study, step, kind = "raw", kept = kept, note = if (all(kept)) character() else trimming$note)
}

# The chance of arm k among those in it or in the reference, from learners' scores of all arms.
learnt_contrast <- function(start, x, k, inside) {
  e <- x$score$fitted[inside, , drop = FALSE]
  fitted <- e[, k] / (e[, 1L] + e[, k])
  score <- list(link = "logit", terms = x$score$terms, fitted = fitted, linear = log(e[, k] / e[, 1L]), known = TRUE,
                aliased = character(), settings = x$score$settings,
                learners = x$score$learners[x$score$learners$arm == x$levels[k], -1L])
  if (!all(design_kept(start))) score$inside <- design_kept(start)
  new_design(start, list(verb = "score", arms = TRUE, label = x$score$label, settings = x$score$recipe,
                         model = x$score$terms), kind = "raw", score = score)
}

# Designs on one of several arms that can't be made anew without the others.
is_contrast_of_arms <- function(x) {
  !is.null(study_of(x)$outside) || any(vapply(design_steps(x), function(step) isTRUE(step$arms), NA))
}
