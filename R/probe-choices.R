#' Probe an effect by other choices of the design
#'
#' Runs the whole design anew over a grid of choices that could have been made: every combination of the values given,
#' and, from the design as it was, without each covariate and without each cluster. Every run is judged by the balance
#' it leaves on all covariates, those left out included. The answer: how many runs pass the limits of balance, and the
#' range of effects among those only.
#'
#' Each run stands in the logbook as a sensitivity run, not as a new design.
#'
#' @param x An effect (or [several], one by one) of [measure_effect()] on a design.
#' @param caliper,ratio Values for [pair_units()].
#' @param trimming Rules for [trim_units()], or `"none"`. Where the design does not trim, it is put behind the score.
#' @param link Links for [score_units()].
#' @param estimator Estimators of [measure_effect()].
#' @param leave_out What is left out, one at a time: `"covariates"` (default), `"clusters"` of the study, both, or
#'   `"none"`.
#' @param limit,ratio_range When a covariate counts as balanced, as in [assess_balance()].
#' @param level Confidence level; that of `x` by default.
#' @return A `twin_probe`. `tidy()` gives one row per run, the design as it was first: `run`, `changed` (what differs
#'   from it, in words), one column per choice, `estimate`, `std.error`, `p.value`, `conf.low`, `conf.high`,
#'   `n_treated`, `n_control`, `rows` and `passing` (of the balance table), `worst_smd`, `pass` (all rows pass),
#'   `failed` (why the run could not be made, else NA). `glance()`: `runs`, `failed`, `passing`, `least` and `greatest`
#'   (effects among those that pass), `least_all`, `greatest_all`, `significant` (share of those that pass whose
#'   interval does not hold 0).
#' @section Errors: `twin_error_input` for choices that the design does not have, or when nothing is to be varied;
#'   `twin_error_unsupported` for effects over time, several arms and bare studies.
#' @references Imbens, G. W. (2003). Sensitivity to exogeneity assumptions in program evaluation. American Economic
#'   Review 93. \doi{10.1257/000282803321946921}
#' @family hidden bias
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + past_income + port_size)
#' effect <- study |> score_units() |> pair_units(caliper = 0.2) |> measure_effect()
#' probe_choices(effect, caliper = c(0.1, 0.2), link = c("logit", "probit"))
#' @export
probe_choices <- function(x, caliper = NULL, ratio = NULL, trimming = NULL, link = NULL, estimator = NULL,
                          leave_out = "covariates", limit = "standard", ratio_range = NULL, level = x$level) {
  if (are_effects(x)) return(in_each_part(x$effects, "effect", probe_choices, match.call()))
  if (is_pooled(x)) return(in_each_set(x, probe_choices, match.call()))
  check_designed_effect(x)
  leave_out <- check_left_out(leave_out)
  check_level(level)
  design <- design_of(x)
  check_choosable(x, design)
  choices <- Filter(Negate(is.null), list(caliper = caliper, ratio = ratio, trimming = trimming, link = link,
                                          estimator = estimator))
  choices <- Map(check_values, choices, names(choices))
  base <- base_choices(x, names(choices))
  check_choices_fit(choices, design)
  if (!is.null(choices$estimator) && inherits(x, "twin_hazard")) {
    abort_input("A hazard ratio has one {.arg estimator}; leave it out.")
  }
  runs <- c(list(list()), choice_grid(choices, base), if ("covariates" %in% leave_out) left_out_covariates(x),
            if ("clusters" %in% leave_out) left_out_clusters(x))
  if (length(runs) < 2L) {
    abort_input(c("There is nothing to vary.", i = "Give values for {.arg caliper}, {.arg trimming}, {.arg link},
                   {.arg estimator} or {.arg ratio}, or something to {.arg leave_out}."))
  }
  study <- study_of(x)
  judge <- list(limit = limit, ratio_range = ratio_range)
  balance_limits(limit, ratio_range)  # a run that fails later is the design's doing
  rows <- run_pieces("Design choices", runs, function(run) choice_row(x, run, judge, level))
  rows <- do.call(rbind, Map(function(row, run, k) {
    cbind(data.frame(run = k, changed = run_words(run, base)), run_columns(run, base), row)
  }, rows, runs, seq_along(runs)))
  for (k in seq_len(nrow(rows))) {
    log_probe(x, paste("run:", rows$changed[k]), sprintf("%s of %s rows pass", rows$passing[k], rows$rows[k]),
              worst = rows$worst_smd[k])
  }
  new_probe("choices", rows, list(
    outcome = x$outcome, design = x$design, level = level, choices = c(names(choices), leave_out),
    base = base, cluster = study$roles$cluster, covariates = names(study$columns)
  ))
}

check_left_out <- function(leave_out, call = rlang::caller_env()) {
  known <- c("covariates", "clusters")
  leave_out <- unlist(leave_out)
  if (is.null(leave_out) || identical(leave_out, "none")) return(character())
  if (is.character(leave_out) && all(leave_out %in% known)) return(unique(leave_out))
  abort_input(c("{.arg leave_out} must be {.or {.val {known}}}, both, or {.val none}.",
                x = "It is {describe_value(leave_out)}."), call = call)
}

check_values <- function(values, arg, call = rlang::caller_env()) {
  values <- unlist(values)
  if (length(values) > 0L && is.atomic(values) && !anyNA(values)) return(unique(unname(values)))
  abort_input("{.arg {arg}} must be values to try, none missing.", call = call)
}

check_choosable <- function(x, design, call = rlang::caller_env()) {
  if (length(design_recipe(design)) > 0L) return(invisible(x))
  abort_unsupported(c("{.fn probe_choices} needs an effect on a design that can be run anew.",
                      x = "It was measured on: {x$design}.",
                      i = "Score, pair or weigh a study of two arms first."), call = call)
}

# Where each choice lives: verb and argument of the recipe.
choice_places <- list(caliper = c("pair", "caliper"), ratio = c("pair", "ratio"), trimming = c("trim", "rule"),
                      link = c("score", "link"))

verbs_of <- function(recipe) vapply(recipe, `[[`, "", "verb")

check_choices_fit <- function(choices, design, call = rlang::caller_env()) {
  verbs <- verbs_of(design_recipe(design))
  for (name in intersect(names(choices), names(choice_places))) {
    needs <- if (name == "trimming") "score" else choice_places[[name]][1L]
    if (needs %in% verbs) next
    abort_input(c("{.arg {name}} has no place in this design: it has no step {.val {needs}}.",
                  x = "Its steps are {.val {verbs}}."), argument = name, call = call)
  }
  known <- list(trimming = c("none", eval(formals(trim_units)$rule)), link = eval(formals(score_units)$link),
                estimator = measure_estimators())
  for (name in names(choices)) {
    for (value in choices[[name]]) {
      if (name %in% names(known)) check_choice(value, known[[name]], name, call) else
        check_number(value, min = 0, open = TRUE, arg = name, call = call)
    }
  }
}

# The values of the design as it was, for the choices that vary.
base_choices <- function(x, names) {
  recipe <- design_recipe(design_of(x))
  value <- function(name) {
    if (name == "estimator") return(x$estimator)
    place <- choice_places[[name]]
    step <- Find(function(step) step$verb == place[1L], recipe)
    if (is.null(step)) return("none")
    given <- step$arguments[[place[2L]]]
    if (!is.null(given)) return(unlist(given)[1L])
    default <- eval(formals(design_verbs()[[place[1L]]])[[place[2L]]])
    if (is.null(default)) "none" else default[1L]
  }
  lapply(stats::setNames(nm = names), value)
}

# Every combination of the values, but for the design as it was; each a list of choices.
choice_grid <- function(choices, base) {
  if (length(choices) == 0L) return(NULL)
  grid <- expand.grid(choices, stringsAsFactors = FALSE)
  runs <- lapply(seq_len(nrow(grid)), function(k) list(choices = as.list(grid[k, , drop = FALSE])))
  Filter(function(run) length(changed_choices(run, base)) > 0L, runs)
}

# Names of the choices of a run that differ from the design as it was.
changed_choices <- function(run, base) {
  as_text <- function(values) vapply(values, function(value) format(unname(value)), "")
  names(base)[as_text(run$choices[names(base)]) != as_text(base)]
}

left_out_covariates <- function(x) {
  names <- names(study_of(x)$columns)
  if (length(names) < 2L) return(NULL)
  lapply(names, function(name) list(covariate = name))
}

left_out_clusters <- function(x, call = rlang::caller_env()) {
  study <- study_of(x)
  if (is.null(study$cluster)) {
    abort_input(c("The study names no {.arg cluster} to leave out.", i = "Name it in {.fn frame_study}."), call = call)
  }
  labels <- attr(study$cluster, "labels")
  lapply(sort(unique(study$cluster)), function(code) list(cluster = code, label = labels[code]))
}

run_words <- function(run, base) {
  if (!is.null(run$covariate)) return(paste("without", run$covariate))
  if (!is.null(run$cluster)) return(paste("without", run$label))
  if (is.null(run$choices)) return("as it was")
  differs <- changed_choices(run, base)
  paste(differs, vapply(run$choices[differs], format, ""), collapse = ", ")
}

run_columns <- function(run, base) {
  values <- if (is.null(run$choices)) base else run$choices[names(base)]
  without <- if (!is.null(run$covariate)) run$covariate else if (!is.null(run$cluster)) run$label else NA_character_
  data.frame(c(lapply(values, format), list(without = without)))
}

choice_row <- function(x, run, judge, level) {
  tryCatch({
    made <- run_choice(x, run)
    judged <- amend(design_of(made$effect), study = amend(study_of(made$effect), columns = made$columns))
    balance <- summary(do.call(assess_balance, c(list(judged), Filter(Negate(is.null), judge))))
    row <- main_row(made$effect, level)
    data.frame(row[c("estimate", "std.error", "p.value", "conf.low", "conf.high")],
               n_treated = made$effect$counts[["treated"]], n_control = made$effect$counts[["control"]],
               rows = balance$rows, passing = balance$passing, worst_smd = balance$worst_smd,
               pass = balance$passing == balance$rows,
               failed = NA_character_, row.names = NULL)
  }, twin_error = function(e) failed_row(e))
}

failed_row <- function(e) {
  none <- NA_real_
  data.frame(estimate = none, std.error = none, p.value = none, conf.low = none, conf.high = none,
             n_treated = NA_integer_, n_control = NA_integer_, rows = NA_integer_, passing = NA_integer_,
             worst_smd = none, pass = FALSE,
             failed = sub("\n.*", "", conditionMessage(e)))
}

# list(effect: that under other choices, columns: all covariates of the study, on the rows of the run).
run_choice <- function(x, run) {
  study <- study_of(x)
  recipe <- design_recipe(design_of(x))
  asked <- x$source$asked
  rows <- NULL
  if (!is.null(run$choices)) {
    recipe <- recipe_with(recipe, run$choices)
    asked <- asked_with(asked, run$choices$estimator)
  }
  if (!is.null(run$cluster)) {
    rows <- which(study$cluster != run$cluster)
    study <- study_rows(study, rows)
  }
  columns <- study$columns
  made <- if (!is.null(run$covariate)) {
    remeasure_without(x, run$covariate)
  } else {
    design <- remake(study, recipe)
    if (!is.null(run$choices$estimator)) check_estimator(design, asked, rlang::caller_env())
    remeasure(x, design, asked, rows = rows)
  }
  list(effect = made, columns = columns)
}

# Another estimator takes none of the options of the one it replaces.
asked_with <- function(asked, estimator) {
  if (is.null(estimator) || estimator == asked$estimator) return(asked)
  asked$estimator <- estimator
  asked["quantiles"] <- list(NULL)
  asked$normalise <- TRUE
  if (!"learners" %in% estimators[[estimator]]$arguments) asked["learners"] <- list(NULL)
  asked
}

recipe_with <- function(recipe, choices) {
  for (name in intersect(names(choices), names(choice_places))) {
    place <- choice_places[[name]]
    value <- choices[[name]]
    at <- match(place[1L], verbs_of(recipe))
    if (name == "trimming" && value == "none") {
      if (!is.na(at)) recipe <- recipe[-at]
    } else if (is.na(at)) {
      after <- match("score", verbs_of(recipe))
      recipe <- append(recipe, list(list(verb = "trim", arguments = list(rule = value))), after)
    } else {
      recipe[[at]]$arguments[[place[2L]]] <- value
      if (name == "trimming") recipe[[at]]$arguments$bounds <- NULL
    }
  }
  recipe
}

#' @export
glance.twin_probe_choices <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows[is.na(x$rows$failed), ]
  good <- rows[rows$pass, ]
  ends <- function(values) if (length(values) > 0L) range(values) else c(NA_real_, NA_real_)
  data.frame(
    runs = nrow(x$rows), failed = sum(!is.na(x$rows$failed)), passing = nrow(good), least = ends(good$estimate)[1L],
    greatest = ends(good$estimate)[2L], least_all = ends(rows$estimate)[1L], greatest_all = ends(rows$estimate)[2L],
    significant = if (nrow(good) > 0L) mean(good$conf.low > 0 | good$conf.high < 0) else NA_real_
  )
}
