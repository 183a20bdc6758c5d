# A plan as text: YAML that read_plan() takes back as it was, and the same analysis in R.

# Lines of YAML of the parts of a plan (a list as read_plan() gives it).
plan_text <- function(plan) {
  parts <- plan[setdiff(names(plan), c("path", "lines"))]
  parts <- parts[lengths(parts) > 0L]
  text <- yaml::as.yaml(parts, precision = 15L, line.sep = "\n", indent.mapping.sequence = TRUE,
                        handlers = list(logical = function(x) {
                          structure(ifelse(x, "true", "false"), class = "verbatim")
                        }))
  strsplit(text, "\n", fixed = TRUE)[[1L]]
}

# The R verbs of a plan's keys.
plan_verbs <- c(score = "score_units", trim = "trim_units", pair = "pair_units", group = "group_units",
                stratify = "stratify_units", weigh = "weigh_units", respond = "weigh_responses",
                search = "search_metric")

# Lines of R that do what a plan says. Formulas and conditions were checked when the plan was read.
plan_script <- function(plan) if (is_panel_plan(plan)) panel_script(plan) else study_script(plan)

study_script <- function(plan) {
  study <- plan$study
  frame <- if (is_dose_plan(plan)) "frame_dose" else if (is_course_plan(plan)) "frame_course" else
    if (is.null(study$reference)) "frame_study" else "frame_arms"
  each_by_itself <- is_other_plan(plan) || !is.null(study$reference)
  designs <- unlist(lapply(names(plan$designs), function(name) {
    steps <- vapply(plan_steps(plan, name), function(step) script_call(plan_verbs[[step$verb]], step$settings), "")
    sprintf("designs[[%s]] <- %s", deparse(name), paste(c("study", steps), collapse = " |>\n  "))
  }))
  effects <- unlist(lapply(names(plan$effects), function(name) {
    settings <- plan$effects[[name]]
    verb <- paste0("measure_", if (is.null(settings$measure)) "effect" else settings$measure)
    from <- if (is.null(settings$design)) "study" else sprintf("designs[[%s]]", deparse(settings$design))
    given <- settings[setdiff(names(settings), c("design", "measure"))]
    sprintf("effects[[%s]] <- %s", deparse(name), script_call(verb, given, from))
  }))
  c(script_data(study, frame, "study"), if (is_other_plan(plan)) "study" else "describe_groups(study)", "",
    if (length(designs) > 0L) c("designs <- list()", designs, if (each_by_itself) "lapply(designs, assess_balance)" else
      "assess_balance(designs)"),
    if (length(effects) > 0L) c("", "effects <- list()", effects, "effects"),
    script_variations(plan), script_probes(plan, "effects"),
    script_report("study", plan, c(designs = length(designs), effects = length(effects), probes = length(plan$probes))))
}

# Who gains, each printed and kept.
script_variations <- function(plan) {
  if (length(plan$variation) == 0L) return(NULL)
  rows <- vapply(names(plan$variation), function(name) {
    settings <- plan$variation[[name]]
    from <- if (is.null(settings$design)) "study" else sprintf("designs[[%s]]", deparse(unlist(settings$design)))
    sprintf("variations[[%s]] <- %s", deparse(name),
            script_call("measure_variation", settings[setdiff(names(settings), "design")], from))
  }, "")
  c("", "variations <- list()", unname(rows), "variations")
}

panel_script <- function(plan) {
  averaging <- setdiff(names(formals(summarise_did)), c("x", "level", "seed"))
  effects <- unlist(lapply(names(plan$effects), function(name) {
    settings <- plan$effects[[name]]
    average <- settings[intersect(names(settings), averaging)]
    measured <- sprintf("measured[[%s]]", deparse(name))
    given <- settings[setdiff(names(settings), c("design", averaging))]
    c(sprintf("%s <- %s", measured, script_call("measure_did", given, script_panel(settings))),
      sprintf("effects[[%s]] <- %s", deparse(name), if (length(average) == 0L) measured else
        script_call("summarise_did", average, measured)))
  }))
  judged <- unlist(Map(function(part, verb, name) {
    settings <- plan[[part]]
    if (is.null(settings) || isFALSE(settings)) return(NULL)
    given <- if (isTRUE(settings)) list() else settings
    c(sprintf("%s <- %s", name, script_call(verb, given[setdiff(names(given), "design")], script_panel(given))), name)
  }, c("composition", "trends", "decompose"), c("assess_composition", "assess_trends", "decompose_did"),
  c("composition", "trends", "decomposition")))
  c(script_data(plan$panel, "frame_panel", "panel"), "panel", "", script_baseline(plan), unname(judged),
    if (length(effects) > 0L) c("", "measured <- list()", "effects <- list()", effects, "effects"),
    script_probes(plan, "measured"),
    script_report("panel", plan, c(designs = length(plan$designs), effects = length(effects),
                                   probes = length(plan$probes)), composition = "composition", trends = "trends",
                  decompose = "decomposition"))
}

script_panel <- function(settings) {
  if (is.null(settings$design)) "panel" else sprintf("designs[[%s]]", deparse(unlist(settings$design)))
}

# Designs on the time before treatment, each carried into a panel: `designs` are panels.
script_baseline <- function(plan) {
  if (length(plan$designs) == 0L) return(NULL)
  settings <- plan$baseline
  each <- isTRUE(settings$each_cohort)
  taken <- settings[setdiff(intersect(names(settings), names(formals(baseline_rows))), if (each) "cohort")]
  outcome <- unlist(plan$panel$outcome)[1L]
  framing <- settings[intersect(names(settings), baseline_framing())]
  if (is.null(framing$covariates)) framing$covariates <- script_covariates(plan$panel$covariates, outcome)
  frame <- c(list(treatment = "treated", outcome = paste0(outcome, "_after")), framing,
             list(id = plan$panel$unit), if (!is.null(plan$panel$weight)) list(weight = plan$panel$weight))
  rows <- script_call("baseline_rows", c(if (each) list(), taken), c("panel", if (each) "cohort = cohort"))
  study <- script_call("frame_study", frame, "rows")
  steps <- lapply(names(plan$designs), function(name) {
    calls <- vapply(plan_steps(plan, name), function(step) script_call(plan_verbs[[step$verb]], step$settings), "")
    paste(c("study", calls), collapse = " |>\n    ")
  })
  panel <- script_call("frame_panel", plan$panel[setdiff(names(plan$panel), c("data", reading_keys()))],
                       c("units", "design = design"))
  named <- sprintf("    %s = %s", vapply(names(plan$designs), script_name, ""), unlist(steps))
  made <- sprintf("design_of <- function(study) {\n  list(\n%s\n  )\n}", paste(named, collapse = ",\n"))
  by <- if (each) c(
    "cohorts <- with(summary(panel), cohort[!is.na(treated_from)])",
    "made <- lapply(setNames(nm = cohorts), function(cohort) {",
    paste0("  rows <- ", rows), paste0("  design_of(", study, ")"), "})",
    "made <- lapply(setNames(nm = names(made[[1]])), function(name) lapply(made, `[[`, name))"
  ) else c(paste0("rows <- ", rows), sprintf("made <- design_of(%s)", study))
  c(made, by, sprintf("designs <- lapply(made, function(design) %s)", panel), "lapply(designs, assess_balance)", "")
}

# A name as it stands in a call.
script_name <- function(name) if (make.names(name) == name) name else sprintf("`%s`", name)

# The panel's covariates with the outcome's past, as baseline_designs() takes them.
script_covariates <- function(covariates, outcome) {
  past <- paste(outcome, c("mean", "slope"), sep = "_")
  known <- if (is_formula_text(covariates)) all.vars(plan_formula(covariates, "covariates")) else unlist(covariates)
  as.list(c(known, past))
}

# Reading and framing.
script_data <- function(question, frame, name) {
  reading <- question[intersect(names(question), reading_keys())]
  framing <- question[setdiff(names(question), c("data", reading_keys()))]
  units <- if (is.null(names(question$data))) {
    sprintf("units <- %s", script_call("read_units", c(list(question$data), reading)))
  } else {
    script_connection(as.list(question$data))
  }
  c("library(carefultwin)", "", units,
    sprintf("%s <- %s", name, script_call(frame, framing, "units")))
}

# A table in a database, as plan_database() opens it.
script_connection <- function(data) {
  door <- c(sqlite = "RSQLite::SQLite()", postgres = "RPostgres::Postgres()", mariadb = "RMariaDB::MariaDB()")
  given <- data[setdiff(names(data), c("connect", "table", "query"))]
  where <- if (data$connect == "sqlite") unname(given) else given
  table <- if (is.null(data$query)) deparse1(data$table) else sprintf("DBI::SQL(%s)", deparse1(data$query))
  c(sprintf("connection <- %s", script_call("DBI::dbConnect", where, door[[data$connect]])),
    sprintf("units <- remote_units(connection, %s)", table))
}

# from: the list of R objects that the probes ask.
script_probes <- function(plan, from) {
  if (length(plan$probes) == 0L) return(NULL)
  lines <- unlist(lapply(names(plan$probes), function(name) {
    settings <- plan$probes[[name]]
    about <- if (is.null(settings$effect)) script_value("estimate", settings$estimate) else
      sprintf("%s[[%s]]", from, deparse(settings$effect))
    given <- settings[setdiff(names(settings), c("probe", "effect", "estimate"))]
    sprintf("probes[[%s]] <- %s", deparse(name), script_call(probes[[settings$probe]]$verb, given, about))
  }))
  c("", "probes <- list()", lines, "probes")
}

# counts: of lists that are there; ...: further arguments by the part of the plan they come from.
script_report <- function(question, plan, counts, ...) {
  lists <- names(counts)[counts > 0L]
  further <- unlist(Filter(Negate(is.null), Map(function(name, part) {
    if (!is.null(plan[[part]]) && !isFALSE(plan[[part]])) name
  }, list(...), names(list(...)))))
  shown <- c(lists, further)
  words <- vapply(intersect(names(plan$report), c("title", "headline")), function(key) {
    sprintf("%s = %s", key, deparse(unlist(plan$report[[key]])))
  }, "")
  given <- c(sprintf("%s = %s", shown, shown), words)
  c("", sprintf("write_report(\"report.html\", %s)", paste(c(question, given), collapse = ", ")))
}

script_call <- function(verb, settings, first = NULL) {
  named <- if (is.null(names(settings))) rep("", length(settings)) else names(settings)
  values <- vapply(seq_along(settings), function(k) script_value(named[k], settings[[k]]), "")
  arguments <- c(first, paste0(ifelse(nzchar(named), paste0(named, " = "), ""), values))
  arguments <- arguments[nzchar(arguments)]
  one_line <- sprintf("%s(%s)", verb, paste(arguments, collapse = ", "))
  if (nchar(one_line) <= 100L) one_line else sprintf("%s(\n  %s\n)", verb, paste(arguments, collapse = ",\n  "))
}

# Keys of a plan that hold a formula as text.
formula_keys <- c("model", "scale_model", "curve_model", "censoring_model", "interactions", "response")

script_value <- function(key, value) {
  if (rlang::is_string(value) && key %in% formula_keys && value != "all") {
    return(deparse1(plan_formula(value, key)))
  }
  if (rlang::is_string(value) && key == "subset") return(deparse1(plan_condition(value)))
  if (key == "covariates" && is_formula_text(value)) {
    return(deparse1(plan_formula(value, key)))
  }
  if (key == "graph") return(sprintf("assume_graph(%s)", deparse1(unlist(value))))
  nested <- is.list(value) && any(lengths(value) > 1L)
  deparse1(if (nested || length(value) == 0L) value else plan_numbers(unlist(value)))
}
