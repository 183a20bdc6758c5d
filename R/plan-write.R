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

# Lines of R that do what a plan of a study says. Formulas and conditions were checked when the plan was read.
plan_script <- function(plan) {
  study <- plan$study
  reading <- study[intersect(names(study), reading_keys())]
  framing <- study[setdiff(names(study), c("data", reading_keys()))]
  frame <- if (is.null(framing$reference)) "frame_study" else "frame_arms"
  designs <- unlist(lapply(names(plan$designs), function(name) {
    steps <- vapply(plan_steps(plan, name), function(step) script_call(plan_verbs[[step$verb]], step$settings), "")
    sprintf("designs[[%s]] <- %s", deparse(name), paste(c("study", steps), collapse = " |>\n  "))
  }))
  effects <- unlist(lapply(names(plan$effects), function(name) {
    settings <- plan$effects[[name]]
    verb <- if (identical(settings$measure, "hazard")) "measure_hazard" else "measure_effect"
    from <- if (is.null(settings$design)) "study" else sprintf("designs[[%s]]", deparse(settings$design))
    given <- settings[setdiff(names(settings), c("design", "measure"))]
    sprintf("effects[[%s]] <- %s", deparse(name), script_call(verb, given, from))
  }))
  probed <- unlist(lapply(names(plan$probes), function(name) {
    settings <- plan$probes[[name]]
    from <- if (is.null(settings$effect)) script_value("estimate", settings$estimate) else
      sprintf("effects[[%s]]", deparse(settings$effect))
    given <- settings[setdiff(names(settings), c("probe", "effect", "estimate"))]
    sprintf("probes[[%s]] <- %s", deparse(name), script_call(probes[[settings$probe]]$verb, given, from))
  }))
  c("library(carefultwin)", "",
    sprintf("units <- %s", script_call("read_units", c(list(study$data), reading))),
    sprintf("study <- %s", script_call(frame, framing, "units")), "describe_groups(study)", "",
    if (length(designs) > 0L) c("designs <- list()", designs, "assess_balance(designs)"),
    if (length(effects) > 0L) c("", "effects <- list()", effects, "effects"),
    if (length(probed) > 0L) c("", "probes <- list()", probed, "probes"),
    "", sprintf("write_report(\"report.html\", study%s%s%s)", if (length(designs) > 0L) ", designs = designs" else "",
                if (length(effects) > 0L) ", effects = effects" else "",
                if (length(probed) > 0L) ", probes = probes" else ""))
}

script_call <- function(verb, settings, first = NULL) {
  named <- if (is.null(names(settings))) rep("", length(settings)) else names(settings)
  values <- vapply(seq_along(settings), function(k) script_value(named[k], settings[[k]]), "")
  arguments <- c(first, paste0(ifelse(nzchar(named), paste0(named, " = "), ""), values))
  arguments <- arguments[nzchar(arguments)]
  one_line <- sprintf("%s(%s)", verb, paste(arguments, collapse = ", "))
  if (nchar(one_line) <= 100L) one_line else sprintf("%s(\n  %s\n)", verb, paste(arguments, collapse = ",\n  "))
}

script_value <- function(key, value) {
  if (rlang::is_string(value) && key %in% c("model", "scale_model", "interactions", "response") && value != "all") {
    return(deparse1(plan_formula(value, key)))
  }
  if (rlang::is_string(value) && key == "subset") return(deparse1(plan_condition(value)))
  if (rlang::is_string(value) && key == "covariates" && startsWith(trimws(value), "~")) {
    return(deparse1(plan_formula(value, key)))
  }
  nested <- is.list(value) && any(lengths(value) > 1L)
  deparse1(if (nested || length(value) == 0L) value else plan_numbers(unlist(value)))
}
