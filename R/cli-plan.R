# The plan file: YAML with the words of the R verbs. A plan is data and never code.

# Which keys each part of a plan may have; those of verbs are the verbs' own arguments.
plan_keys <- function() {
  arguments <- function(verb, drop) setdiff(names(formals(verb)), drop)
  list(
    top = c("study", "designs", "power", "effects", "probes", "report"),
    panel_top = c("panel", "trends", "decompose", "effects", "probes", "report"),
    panel = arguments(frame_panel, character()),
    trends = arguments(assess_trends, "panel"), decompose = arguments(decompose_did, "panel"),
    did = c(arguments(measure_did, "panel"), arguments(summarise_did, c("x", "level", "seed"))),
    panel_report = c("title", "truth"),
    study = c(arguments(frame_study, character()), "reference"),
    score = arguments(score_units, "x"), trim = arguments(trim_units, "x"), pair = arguments(pair_units, "x"),
    group = arguments(group_units, "x"), search = arguments(search_metric, "x"),
    stratify = arguments(stratify_units, "x"), weigh = arguments(weigh_units, "x"),
    effect = c("design", "measure", arguments(measure_effect, "x")),
    hazard = c("design", "measure", arguments(measure_hazard, "x")),
    power = c("design", arguments(assess_power, "x")),
    probes = lapply(probes, function(probe) {
      c("probe", "effect", if (probe$bare) "estimate", arguments(verb_of_probe(probe), "x"))
    }),
    report = c("title", "truth", "groups", arguments(assess_balance, c("x", "custom"))),
    groups = arguments(describe_groups, "study")
  )
}

plan_measures <- function() list(effect = measure_effect, hazard = measure_hazard)

# list(path, lines, and the five parts), with every key checked.
read_plan <- function(path) {
  if (!file.exists(path) || dir.exists(path)) {
    abort_file(c("Can't read the plan {.file {path}}.", x = "There is no such file."), path = path)
  }
  lines <- readLines(path, warn = FALSE, encoding = "UTF-8")
  refuse_tags(lines, path)
  plan <- tryCatch(
    yaml::yaml.load(paste(lines, collapse = "\n"), eval.expr = FALSE, handlers = plain_yaml_handlers()),
    error = function(e) {
      abort_input(c("Can't read the plan {.file {path}}.", x = "{conditionMessage(e)}"), path = path, call = NULL)
    }
  )
  if (!is.list(plan) || is.null(names(plan))) {
    abort_input(c("The plan {.file {path}} must be YAML with the keys {.val {plan_keys()$top}}.",
                  i = "{.code twin draft DATA} writes one to start from."), path = path)
  }
  plan <- c(list(path = path, lines = lines), plan)
  check_plan(plan)
  plan
}

# yes, no, on and off stay text: they are levels more often than truth values.
plain_yaml_handlers <- function() {
  keep <- function(x) if (tolower(x) %in% c("true", "false")) tolower(x) == "true" else x
  list(`bool#yes` = keep, `bool#no` = keep)
}

refuse_tags <- function(lines, path) {
  bare <- gsub("\"[^\"]*\"|'[^']*'|#.*$", "", lines)
  tagged <- grep("(^|[][:space:],{[-])!", bare)
  if (length(tagged) == 0L) return(invisible(lines))
  abort_input(c(
    "A plan is data and can't run code: YAML tags are refused.",
    x = "{.file {path}}, line {tagged[1L]}: {.code {trimws(lines[tagged[1L]])}}",
    i = "A condition that starts with ! goes in quotes."
  ), line = tagged[1L])
}

check_plan <- function(plan) {
  keys <- plan_keys()
  if (is_panel_plan(plan)) return(check_panel_plan(plan, keys))
  check_keys(plan[setdiff(names(plan), c("path", "lines"))], keys$top, plan, character())
  if (is.null(plan$study)) abort_plan(plan, character(), "The plan must have a part {.code study:} or {.code panel:}.")
  check_keys(plan$study, keys$study, plan, "study")
  for (name in names(check_map(plan$designs, plan, "designs"))) {
    for (step in plan_steps(plan, name)) check_keys(step$settings, keys[[step$verb]], plan, c("designs", name))
  }
  for (name in names(check_map(plan$effects, plan, "effects"))) {
    kind <- plan$effects[[name]]$measure
    check_reference(kind, names(plan_measures()), "measure", plan, c("effects", name))
    check_keys(plan$effects[[name]], keys[[if (is.null(kind)) "effect" else kind]], plan, c("effects", name))
    check_reference(plan$effects[[name]]$design, names(plan$designs), "design", plan, c("effects", name))
  }
  for (name in names(check_map(plan$probes, plan, "probes"))) check_plan_probe(plan, name, keys, "study")
  check_plan_powers(plan, keys)
  check_keys(plan$report, keys$report, plan, "report")
  check_keys(plan$report$groups, keys$groups, plan, c("report", "groups"))
}

check_plan_powers <- function(plan, keys) {
  for (name in names(check_map(plan$power, plan, "power"))) {
    check_keys(plan$power[[name]], keys$power, plan, c("power", name))
    check_reference(plan$power[[name]]$design, names(plan$designs), "design", plan, c("power", name))
  }
}

# where: "study" or "panel".
check_plan_probe <- function(plan, name, keys, where) {
  settings <- plan$probes[[name]]
  place <- c("probes", name)
  kind <- if (is.list(settings)) settings$probe
  known <- names(Filter(function(probe) where %in% probe$about, probes))
  check_reference(kind, known, "probe", plan, place)
  if (is.null(kind)) abort_plan(plan, place, "A probe must name its kind, such as {.code probe: {known[1L]}}.")
  check_keys(settings, keys$probes[[kind]], plan, place)
  check_reference(settings$effect, names(plan$effects), "effect", plan, place)
  if (is.null(settings$effect) && is.null(settings$estimate)) {
    abort_plan(plan, place, "A probe must name the {.code effect} it is about{if (probes[[kind]]$bare) ', or an
                             estimate'}.")
  }
}

check_map <- function(part, plan, place) {
  if (is.null(part) || (is.list(part) && !is.null(names(part)))) return(part)
  abort_plan(plan, place, "{.code {place}:} must be a list of names, each with its settings below it.")
}

check_keys <- function(part, known, plan, place) {
  if (is.null(part)) return(invisible(part))
  if (!is.list(part)) abort_plan(plan, place, "Here must stand keys and values, not {describe_value(part)}.")
  unknown <- setdiff(names(part), known)
  if (length(unknown) == 0L && !is.null(names(part))) return(invisible(part))
  if (length(part) == 0L) return(invisible(part))
  key <- unknown[1L]
  near <- nearest_name(key, known)
  abort_plan(plan, c(place, key), c("The plan has an unknown key {.val {key}}.", i = if (is.null(near))
    "Known here: {.val {known}}." else "Did you mean {.val {near}}?"), key = key, nearest = near, known = known)
}

check_reference <- function(value, known, what, plan, place) {
  if (is.null(value) || (is.character(value) && length(value) == 1L && value %in% known)) return(invisible(value))
  near <- if (rlang::is_string(value)) nearest_name(value, known)
  abort_plan(plan, c(place, what), c(
    "The plan names a {what} {describe_value(value)} that it does not have.",
    i = if (is.null(near)) "It has {.val {known}}." else "Did you mean {.val {near}}?"
  ), value = value, known = known, near = near, what = what)
}

# place: keys from the top; the message ends with the file and the line where the last of them stands.
abort_plan <- function(plan, place, message, ..., .envir = parent.frame()) {
  line <- plan_line(plan$lines, place)
  where <- paste0(basename(plan$path), if (!is.na(line)) paste0(", line ", line),
                  if (length(place) > 0L) paste0(" (", paste(place, collapse = " > "), ")"))
  abort_input(message, ..., place = where, line = line, call = NULL, .envir = .envir)
}

# The line of a nested key, found by walking down the file; NA when it is not there word for word.
plan_line <- function(lines, place) {
  lines <- sub("(^|\\s)#.*$", "", lines)
  at <- 0L
  for (key in place) {
    pattern <- paste0("(?<![A-Za-z0-9_.])\\Q", key, "\\E(?![A-Za-z0-9_.])")
    found <- grep(pattern, lines, perl = TRUE)
    # a key may stand on its parent's own line, in braces
    found <- found[found >= max(at, 1L)]
    if (length(found) == 0L) return(NA_integer_)
    at <- found[1L]
  }
  if (at == 0L) NA_integer_ else at
}

# Steps of a design as list(verb, settings).
plan_steps <- function(plan, name) {
  steps <- plan$designs[[name]]
  place <- c("designs", name)
  if (is.character(steps)) steps <- as.list(steps)
  if (is.list(steps) && !is.null(names(steps))) steps <- Map(function(value, key) stats::setNames(list(value), key),
                                                             steps, names(steps))
  lapply(unname(steps), function(step) {
    verb <- if (is.character(step)) step else names(step)
    if (length(verb) != 1L) abort_plan(plan, place, "Each step must be one verb with its settings.")
    if (!verb %in% names(design_verbs())) {
      near <- nearest_name(verb, names(design_verbs()))
      abort_plan(plan, c(place, verb), c("The plan has an unknown step {.val {verb}}.", i = if (is.null(near))
        "Steps are {.val {names(design_verbs())}}." else "Did you mean {.val {near}}?"), verb = verb, near = near)
    }
    list(verb = verb, settings = if (is.list(step)) step[[1L]])
  })
}

plan_study <- function(plan) {
  settings <- plan_data(plan, "study", c("treatment", "outcome", if (is.null(plan$study$graph)) "covariates"))
  at_place(plan, "study", {
    if (!is.null(settings$graph)) settings$graph <- plan_graph(plan, settings$graph)
    do.call(if (is.null(settings$reference)) frame_study else frame_arms, settings)
  })
}

# The settings of `study:` or `panel:` with the data read, and formulas and conditions for text. needed: keys that must
# be there.
plan_data <- function(plan, part, needed) {
  settings <- plan[[part]]
  if (!is.character(settings$data) || length(settings$data) != 1L) {
    abort_plan(plan, c(part, "data"), "The {part} must name its {.code data}, one file.")
  }
  at_place(plan, part, {
    settings$data <- read_units(beside_plan(plan, settings$data))
    for (key in needed) {
      if (is.null(settings[[key]])) abort_input("The {part} must name its {.code {key}}.", call = NULL)
    }
    settings$covariates <- plan_formula_or_names(settings$covariates, "covariates")
    if (!is.null(settings$subset)) settings$subset <- plan_condition(settings$subset)
    settings$event <- unlist(settings$event)
    settings
  })
}

beside_plan <- function(plan, file) {
  if (grepl("^(/|~|[A-Za-z]:)", file)) file else file.path(dirname(plan$path), file)
}

plan_designs <- function(plan, study) {
  lapply(stats::setNames(nm = names(plan$designs)), function(name) {
    at_place(plan, c("designs", name), {
      design <- study
      for (step in plan_steps(plan, name)) {
        settings <- step$settings
        for (key in intersect(names(settings), c("model", "scale_model", "interactions"))) {
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
      check_class(design, c("twin_design", "twin_arms"), "score_units", "design", NULL)
      design
    })
  })
}

# Fractions such as "1/3" are text to YAML and numbers to a user.
plan_numbers <- function(values) {
  if (!is.character(values) || !any(grepl("/", values))) return(values)
  parts <- strsplit(values, "/")
  numbers <- suppressWarnings(vapply(parts, function(part) {
    part <- as.numeric(part)
    if (length(part) == 2L) part[1L] / part[2L] else part[1L]
  }, 0))
  if (anyNA(numbers)) values else stats::setNames(numbers, names(values))
}

# How the report judges balance: arguments of assess_balance().
plan_judging <- function(plan) {
  lapply(plan$report[intersect(names(plan$report), setdiff(names(formals(assess_balance)), c("x", "custom")))], unlist)
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
      for (key in intersect(names(settings), c("model", "scale_model"))) {
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
plan_powers <- function(plan, study, designs) {
  lapply(stats::setNames(nm = names(plan$power)), function(name) {
    at_place(plan, c("power", name), {
      settings <- lapply(plan$power[[name]], unlist)
      from <- if (is.null(settings$design)) study else designs[[settings$design]]
      do.call(assess_power, c(list(from), settings[setdiff(names(settings), "design")]))
    })
  })
}

# Errors of verbs say where in the plan they came from.
at_place <- function(plan, place, expr) {
  withCallingHandlers(expr, twin_error = function(e) {
    if (!is.null(e$place)) return()
    line <- plan_line(plan$lines, place)
    e$place <- paste0("In ", basename(plan$path), if (!is.na(line)) paste0(", line ", line), " (",
                      paste(place, collapse = " > "), ").")
    stop(e)
  })
}

# DOT text, or a file beside the plan.
plan_graph <- function(plan, text) {
  is_file <- is.character(text) && length(text) == 1L && grepl("[.](csv|dot|gv)$", text, ignore.case = TRUE)
  assume_graph(if (is_file) beside_plan(plan, text) else text)
}

plan_formula_or_names <- function(value, arg) {
  value <- unlist(value)
  if (is.null(value)) return(NULL)
  if (length(value) == 1L && grepl("^\\s*~", value)) plan_formula(value, arg) else value
}

formula_words <- c("~", "+", "-", "*", "/", ":", "^", "(", "%in%", "I", "log", "exp", "sqrt", "poly", "factor", "bs",
                   "ns", "cut", "c")
condition_words <- c("(", "!", "&", "|", "==", "!=", "<", "<=", ">", ">=", "%in%", "c", "is.na", "+", "-", "*", "/",
                     "^")

plan_formula <- function(text, arg) {
  expr <- parse_plan_text(text, arg, formula_words)
  if (!is.call(expr) || !identical(expr[[1L]], quote(`~`)) || length(expr) != 2L) {
    abort_input(c("{.arg {arg}} must be a one-sided formula such as \"~ a + b\".", x = "It is {describe_value(text)}."),
                call = NULL)
  }
  stats::as.formula(expr, env = plan_environment(formula_words))
}

plan_condition <- function(text) {
  expr <- parse_plan_text(text, "subset", condition_words)
  stats::as.formula(call("~", expr), env = plan_environment(condition_words))
}

parse_plan_text <- function(text, arg, words) {
  if (!is.character(text) || length(text) != 1L) abort_input("{.arg {arg}} must be text in quotes.", call = NULL)
  expr <- tryCatch(str2lang(text), error = function(e) {
    abort_input(c("{.arg {arg}} can't be read.", x = "{.val {text}}"), call = NULL)
  })
  refuse_calls(expr, words, text, arg)
  expr
}

# Model frames evaluate what they are given, so a plan may call a short list of functions by their plain names only.
refuse_calls <- function(expr, words, text, arg) {
  if (!is.call(expr)) {
    if (mode(expr) %in% c("name", "numeric", "character", "logical")) return(invisible())
    abort_input("{.arg {arg}} holds something that is neither a name nor a number: {.val {text}}.", call = NULL)
  }
  head <- expr[[1L]]
  if (!is.name(head) || !as.character(head) %in% words) {
    abort_input(c(
      "A plan is data and can't run code: {.arg {arg}} may not call {.code {deparse1(head)}}.",
      x = "It is {.val {text}}.",
      i = "Allowed: {.code {words}}."
    ), arg = arg, call = NULL)
  }
  for (part in as.list(expr)[-1L]) refuse_calls(part, words, text, arg)
}

# Only the words themselves can be found from here, and what R's model frame calls on its own (list).
plan_environment <- function(words) {
  env <- new.env(parent = emptyenv())
  for (word in setdiff(words, c("bs", "ns", "poly"))) assign(word, get(word, envir = baseenv()), envir = env)
  if ("poly" %in% words) {
    env$poly <- stats::poly
    env$bs <- splines::bs
    env$ns <- splines::ns
  }
  env$list <- list
  env
}
