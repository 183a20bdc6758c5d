# What a plan asks for, made by the verbs: study, designs, balances, effects, probes, powers.

plan_study <- function(plan) {
  if (!is.null(plan$study$dose)) return(plan_other(plan, frame_dose, c("dose", "outcome", "covariates")))
  if (!is.null(plan$study$unit)) return(plan_other(plan, frame_course, c("treatment", "outcome", "time", "unit")))
  settings <- plan_data(plan, "study", c("treatment", "outcome", if (is.null(plan$study$graph)) "covariates"))
  at_place(plan, "study", {
    if (!is.null(settings$graph)) settings$graph <- plan_graph(plan, settings$graph)
    if (is.null(settings$reference)) settings["reference"] <- NULL
    do.call(if (is.null(settings$reference)) frame_study else frame_arms, settings)
  })
}

# A study of a dose or of treatment over time.
plan_other <- function(plan, frame, needed) {
  settings <- plan_data(plan, "study", needed)
  for (key in intersect(names(settings), c("changing", if (identical(frame, frame_course)) "covariates"))) {
    settings[[key]] <- unlist(settings[[key]])
  }
  at_place(plan, "study", do.call(frame, settings))
}

# The settings of `study:` or `panel:` with the data read, and formulas and conditions for text. needed: keys that must
# be there.
plan_data <- function(plan, part, needed) {
  settings <- plan[[part]]
  database <- part %in% c("study", "panel") && !is.null(names(settings$data))
  if (!database && (!is.character(settings$data) || length(settings$data) != 1L)) {
    abort_plan(plan, c(part, "data"), "The {part} must name its {.code data}: one file, or a table in a database.")
  }
  if (!database && runs_code(settings$data)) {
    abort_plan(plan, c(part, "data"), c("A plan takes no {.file {basename(settings$data)}}: such a file can run code.",
                                        i = "Write its data as .csv or .parquet."))
  }
  at_place(plan, part, {
    how <- intersect(names(settings), reading_keys())
    settings$data <- if (database) plan_database(plan, part, as.list(settings$data)) else
      do.call(read_units, c(list(beside_plan(plan, settings$data)), settings[how]))
    settings[how] <- NULL
    for (key in needed) {
      if (length(unlist(settings[[key]])) == 0L) abort_input("The {part} must name its {.code {key}}.", call = NULL)
    }
    settings$covariates <- plan_formula_or_names(settings$covariates, "covariates")
    if (!is.null(settings$subset)) settings$subset <- plan_condition(settings$subset)
    for (key in c("event", "unknown", "logged")) settings[[key]] <- unlist(settings[[key]])
    settings
  })
}

beside_plan <- function(plan, file) {
  path_from(file, dirname(plan$path))
}

plan_designs <- function(plan, study) {
  lapply(stats::setNames(nm = names(plan$designs)), function(name) {
    at_place(plan, c("designs", name), {
      design <- study
      for (step in plan_steps(plan, name)) {
        settings <- step$settings
        for (key in intersect(names(settings), formula_keys)) {
          if (!identical(settings[[key]], "all")) settings[[key]] <- plan_formula(settings[[key]], key)
        }
        if (!is.null(settings$covariates)) {
          settings$covariates <- plan_formula_or_names(settings$covariates, "covariates")
        }
        for (key in intersect(names(settings), c("exact", "apart", "caliper", "caliper_unit", "ratio", "metric"))) {
          settings[[key]] <- plan_numbers(unlist(settings[[key]]))
        }
        design <- do.call(design_verbs()[[step$verb]], c(list(design), settings))
      }
      check_class(design, c("twin_design", "twin_arms", "twin_imputed", "twin_dose", "twin_course"), "score_units",
                  "design", NULL)
      design
    })
  })
}

# How the report judges balance: arguments of assess_balance().
plan_judging <- function(plan) {
  lapply(plan$report[intersect(names(plan$report), setdiff(names(formals(assess_balance)), c("x", "custom")))], unlist)
}

# Of designs of several arms, by the same limits.
plan_arms <- function(plan, designs) {
  judging <- plan_judging(plan)
  arms_judged(designs, if (is.null(judging$limit)) "standard" else judging$limit, judging$ratio_range)
}

plan_balances <- function(plan, designs) {
  at_place(plan, "report", lapply(designs, function(design) {
    do.call(assess_balance, c(list(design), plan_judging(plan)))
  }))
}

plan_groups <- function(plan, study) {
  at_place(plan, c("report", "groups"), do.call(describe_groups, c(list(study), lapply(plan$report$groups, unlist))))
}

plan_effects <- function(plan, study, designs) {
  lapply(stats::setNames(nm = names(plan$effects)), function(name) {
    at_place(plan, c("effects", name), {
      settings <- plan$effects[[name]]
      for (key in intersect(names(settings), formula_keys)) {
        settings[[key]] <- if (is.list(settings[[key]])) lapply(settings[[key]], plan_formula, key) else
          plan_formula(settings[[key]], key)
      }
      if (is.list(settings$family)) settings$family <- unlist(settings$family)
      from <- if (is.null(settings$design)) study else designs[[settings$design]]
      measure <- plan_measures()[[if (is.null(settings$measure)) "effect" else settings$measure]]
      do.call(measure, c(list(from), settings[setdiff(names(settings), c("design", "measure"))]))
    })
  })
}

plan_probe_results <- function(plan, effects) {
  lapply(stats::setNames(nm = names(plan$probes)), function(name) {
    at_place(plan, c("probes", name), {
      settings <- plan$probes[[name]]
      about <- if (is.null(settings$effect)) unlist(settings$estimate) else effects[[settings$effect]]
      if (inherits(about, "twin_dids")) {
        abort_input(c("The effect {.val {settings$effect}} is several: {.val {names(about)}}; a probe is of one.",
                      i = "Measure one of them by itself, with {.arg subset} in the panel."), call = NULL)
      }
      given <- settings[setdiff(names(settings), c("probe", "effect", "estimate"))]
      grouped <- is.list(given$covariates) && !is.null(names(given$covariates))
      plain <- setdiff(names(given), c("groups", if (grouped) "covariates"))
      given[plain] <- lapply(given[plain], unlist)
      if (grouped) given$covariates <- lapply(given$covariates, unlist)
      if (!is.null(given$groups)) given$groups <- lapply(given$groups, plan_condition)
      do.call(verb_of_probe(probes[[settings$probe]]), c(list(about), given))
    })
  })
}

# What designs could detect, before any outcome is opened.
plan_powers <- function(plan, study, designs) plan_entries(plan, "power", assess_power, study, designs)

# Who gains.
plan_variations <- function(plan, study, designs) plan_entries(plan, "variation", measure_variation, study, designs)

# A verb on every entry of a part, each of its design or of the study.
plan_entries <- function(plan, part, verb, study, designs) {
  lapply(stats::setNames(nm = names(plan[[part]])), function(name) {
    at_place(plan, c(part, name), {
      settings <- lapply(plan[[part]][[name]], unlist)
      if (!is.null(settings$model)) settings$model <- plan_formula(settings$model, "model")
      from <- if (is.null(settings$design)) study else designs[[settings$design]]
      do.call(verb, c(list(from), settings[setdiff(names(settings), "design")]))
    })
  })
}

# DOT text, or a file beside the plan.
plan_graph <- function(plan, text) {
  is_file <- is.character(text) && length(text) == 1L && grepl("[.](csv|dot|gv)$", text, ignore.case = TRUE)
  assume_graph(if (is_file) beside_plan(plan, text) else text)
}

# The part that names the data: of a study or of a panel.
plan_question <- function(plan) if (is_panel_plan(plan)) plan$panel else plan$study

# Tells data from others: what logbooks are kept by.
data_key <- function(plan) rlang::hash(plan_question(plan)$data)

# The estimator that an effect of a plan asks for.
plan_estimator <- function(settings) {
  if (is.null(settings$estimator)) formals(measure_effect)$estimator else settings$estimator
}
