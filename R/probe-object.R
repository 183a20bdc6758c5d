# What every probe gives, and how probes measure an effect again.

# rows: what tidy() gives; parts: further tables by name, for tidy(part = ); facts: what prints and plots read;
# probes: those it is made of.
new_probe <- function(kind, rows, facts, parts = list(), probes = NULL) {
  stopifnot(is.data.frame(rows), is.list(facts))
  rownames(rows) <- NULL
  structure(list(rows = rows, facts = facts, parts = parts, probes = probes),
            class = c(paste0("twin_probe_", kind), "twin_probe"))
}

#' Read the rows of a probe
#'
#' Every `probe_*` verb returns a `twin_probe`. `tidy()` gives its rows, as each verb describes them, `print()` the
#' table and a sentence, `plot()` a picture, `glance()` the headline in one row.
#'
#' @param x A `twin_probe`.
#' @param part `"rows"` (default), or the name of a further table that the verb describes: `"covariates"`,
#'   `"amplification"`, `"scenarios"`, `"joint"`, `"choices"` or `"path"`.
#' @param ... Nothing else.
#' @return A data frame.
#' @section Errors: `twin_error_input` for a part that this probe does not have.
#' @family hidden bias
#' @examples
#' probe <- probe_pairs(c(3, 1, 4, 1.5, -0.5, 2, 2.5, 5, 1, 2))
#' tidy(probe, part = "amplification")
#' @export
tidy.twin_probe <- function(x, part = "rows", ...) {
  rlang::check_dots_empty()
  part <- check_choice(part, c("rows", names(Filter(Negate(is.null), x$parts))))
  if (part == "rows") x$rows else x$parts[[part]]
}

#' @export
as.data.frame.twin_probe <- function(x, ...) x$rows

# A probe with a further table.
with_part <- function(probe, part, table) {
  amend(probe, parts = c(probe$parts[setdiff(names(probe$parts), part)], stats::setNames(list(table), part)))
}

# A curve along a dose, or the effects of histories: what probe_ratio() knows of.
is_wider_effect <- function(x) inherits(x, c("twin_response", "twin_course_effect"))

refuse_wider_effect <- function(x, call) {
  refuse_variation(x, call)
  if (!is_wider_effect(x)) return(invisible(x))
  what <- if (inherits(x, "twin_response")) "a dose" else "treatment over time"
  abort_unsupported(c("This probe is for the effect of one treatment at one time; this one is of {what}.",
                      i = "Use {.fn probe_ratio}."), call = call)
}

refuse_variation <- function(x, call) {
  if (!inherits(x, "twin_variation")) return(invisible(x))
  abort_unsupported(c("Who gains has no probe: each is about one effect.",
                      i = "Probe the average of {.fn measure_effect}. A hidden confounder that is stronger among some
                           than among others can look like variation."), call = call)
}

# A single effect of measure_effect() or measure_hazard().
check_effect <- function(x, call = rlang::caller_env(), arg = "x") {
  refuse_wider_effect(x, call)
  if (inherits(x, "twin_effects")) {
    abort_input(c("{.arg {arg}} must be one effect; this holds {length(x$effects)}.",
                  i = "Take one of them, such as {.code x[[1]]}."), call = call)
  }
  check_class(x, "twin_effect", c("measure_effect", "measure_hazard"), arg, call)
}

# The same, and measured on a design: not an effect over time.
# remote: can the probe work on a table in a database?
check_designed_effect <- function(x, call = rlang::caller_env(), remote = FALSE) {
  check_effect(x, call)
  if (!remote) refuse_remote(study_of(x), call)
  if (!inherits(x, "twin_did")) return(invisible(x))
  abort_unsupported(c("This probe is for effects of {.fn measure_effect}; this one is over time.",
                      i = "Use {.fn probe_trends} or {.fn probe_placebo}."), call = call)
}

# The row that the question is about: the hazard ratio, the difference, or over time their average (cells are averaged
# over all that is treated first).
main_term <- function(effect) intersect(c("hazard_ratio", "difference", "average"), names(effect$estimate))[1L]

main_row <- function(effect, level = effect$level) {
  effect <- main_number(effect)
  table <- generics::tidy(effect, conf.level = level)
  table[table$term == main_term(effect), ]
}

main_number <- function(effect) {
  if (inherits(effect, "twin_did") && effect$over == "cells") summarise_did(effect) else effect
}

design_of <- function(effect) effect$source$block$x

# The effect measured again as it was, without resampling: on another design, with other settings or another outcome.
# rows: where the design's study holds some of the study's rows only, which of them.
remeasure <- function(effect, design = design_of(effect), asked = effect$source$asked, y = effect$source$block$y,
                      rows = NULL) {
  block <- effect$source$block
  block$x <- design
  block$y <- y
  if (!is.null(rows)) for (name in c("y", "inside", "event")) block[[name]] <- block[[name]][rows]
  asked$inference <- "analytic"
  asked$clusters <- effect_clusters(study_of(design), asked$cluster)
  suppressWarnings(estimators[[asked$estimator]]$measure(block, asked, rlang::caller_env()))
}

# Runs the design anew on a study, without writing to the logbook.
remake <- function(study, recipe) {
  suppressWarnings(replay(amend(study, logbook = NULL), recipe))
}

# The study and a recipe without some covariates. Balance can still be judged on all of them, since their rows are the
# same.
study_without <- function(study, names) {
  amend(study, columns = study$columns[setdiff(names(study$columns), names)], matrices = narrowed_cache(study),
        formula = if (!is.null(study$formula)) formula_without(study$formula, names))
}

recipe_without <- function(recipe, names) {
  lapply(recipe, function(step) {
    step$arguments <- Filter(Negate(is.null), lapply(step$arguments, argument_without, names))
    step
  })
}

# Formulas lose their terms, vectors of names or with names their entries; what is left empty goes.
argument_without <- function(value, names) {
  if (rlang::is_formula(value)) return(formula_without(value, names))
  if (!is.null(names(value))) value <- value[setdiff(names(value), names)] else
    if (is.character(value)) value <- setdiff(value, names)
  if (length(value) > 0L) value
}

formula_without <- function(formula, names) {
  labels <- attr(stats::terms(formula), "term.labels")
  left <- Filter(function(label) !any(all.vars(str2lang(label)) %in% names), labels)
  if (length(left) > 0L) stats::reformulate(left, env = environment(formula))
}

# The effect without one covariate: the design made and the effect measured as if it had not been measured.
remeasure_without <- function(effect, name) {
  study <- study_without(study_of(effect), name)
  asked <- effect$source$asked
  asked["model"] <- list(if (is.list(asked$model)) lapply(asked$model, argument_without, name) else
    argument_without(asked$model, name))
  remeasure(effect, remake(study, recipe_without(design_recipe(design_of(effect)), name)), asked)
}

# again(name) for every covariate, on workers, with progress: what was measured, without it. NULL for one that can't be
# left out, as the only one can't.
without_each_covariate <- function(x, again, title = "Leaving out covariates") {
  names <- names(study_of(x)$columns)
  if (length(names) < 2L) return(NULL)
  stats::setNames(run_pieces(title, names, function(name) tryCatch(again(name), twin_error = function(e) NULL)), names)
}

effects_without <- function(effect, title = "Leaving out covariates") {
  if (is_contrast_of_arms(design_of(effect))) return(NULL)
  if (is_pooled(effect)) return(pooled_without(effect, title))
  without_each_covariate(effect, function(name) remeasure_without(effect, name), title)
}

# A response to a dose, weights made and curve measured as if the covariate had not been measured.
response_without <- function(x, name) {
  asked <- x$source$asked
  base <- study_without(amend(study_of(x), logbook = NULL), name)
  again <- replay(new_dose(base, x$source$x$d, list()), recipe_without(design_recipe(x$source$x), name))
  asked$model <- argument_without(asked$model, name)
  suppressWarnings(respond_to_dose(again, open_outcome(base, asked$outcome, "probe_ratio"), asked, NULL))
}

# Effects of histories, scores, weights and means made as if the covariate, constant or changing, had not been measured.
histories_without <- function(x, name) {
  suppressWarnings(measure_again(course_without(x$source$x, name), x$source$asked))
}

course_without <- function(x, name) {
  roles <- x$roles
  roles$covariates <- setdiff(roles$covariates, name)
  roles$changing <- setdiff(roles$changing, name)
  base <- study_without(amend(x$base, logbook = NULL), name)
  Reduce(function(made, step) {
    if (step$verb == "score") score_course(made, step$pooled, step$lags, character()) else
      weigh_course(made, character(), step$truncate)
  }, x$steps, new_course(base, x$at, roles, list()))
}

# The same within each of several imputed data sets, pooled.
pooled_without <- function(effect, title) {
  own <- lapply(sets_of(effect), effects_without, title)
  lapply(stats::setNames(nm = names(own[[1L]])), function(name) {
    parts <- lapply(own, `[[`, name)
    if (!any(vapply(parts, is.null, NA))) pool_effects(parts)
  })
}

# A row per covariate that could be left out, by row_of(the effect without it, its name); the greatest in `by` first.
covariate_table <- function(without, row_of, by) {
  rows <- Map(function(other, name) if (!is.null(other)) row_of(other, name), without, names(without))
  out <- do.call(rbind, unname(rows))
  if (!is.null(out)) out[order(-out[[by]]), ]
}

# In the direction claimed.
p_one_sided <- function(effect, above) {
  row <- main_row(effect)
  statistic <- row$statistic * if (above) 1 else -1
  if (is.finite(effect$df)) stats::pt(-statistic, effect$df) else stats::pnorm(-statistic)
}
