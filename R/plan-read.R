# The plan file: YAML with the words of the R verbs. A plan is data and never code. Read here, every key checked.

# list(path, lines, and the five parts), with every key checked.
read_plan <- function(path) {
  if (!file.exists(path) || dir.exists(path)) {
    abort_file(c("Can't read the plan {.file {path}}.", x = "There is no such file."), path = path)
  }
  plan_from_lines(readLines(path, warn = FALSE, encoding = "UTF-8"), path)
}

# path: where they stand or would stand; files that a plan names lie beside it.
plan_from_lines <- function(lines, path) {
  refuse_tags(lines, path)
  refuse_nesting(lines, path)
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
  own <- intersect(c("path", "lines"), names(plan))
  plan <- c(list(path = path, lines = lines), plan[setdiff(names(plan), own)])
  if (length(own) > 0L) abort_plan(plan, own[1L], "The plan has an unknown key {.val {own[1L]}}.", key = own[1L])
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

# Readers of deeply nested text run out of room; no plan needs it.
refuse_nesting <- function(lines, path) {
  depth <- nchar(gsub("[^][(){}]", "", lines))
  if (all(depth <= 200L) && max(0L, nchar(lines)) <= 20000L) return(invisible(lines))
  line <- which(depth > 200L | nchar(lines) > 20000L)[1L]
  abort_input(c("Can't read the plan {.file {path}}.", x = "Line {line} is too long, or has too many brackets."),
              line = line, call = NULL)
}

check_plan <- function(plan) {
  keys <- plan_keys()
  if (is_panel_plan(plan)) return(check_panel_plan(plan, keys))
  check_keys(plan[setdiff(names(plan), c("path", "lines"))], keys$top, plan, character())
  if (is.null(plan$study)) abort_plan(plan, character(), "The plan must have a part {.code study:} or {.code panel:}.")
  check_keys(plan$study, keys$study, plan, "study")
  check_plan_designs(plan, keys)
  for (name in names(check_map(plan$effects, plan, "effects"))) {
    kind <- check_settings(plan$effects[[name]], plan, c("effects", name))$measure
    check_reference(kind, names(plan_measures()), "measure", plan, c("effects", name))
    check_keys(plan$effects[[name]], keys[[if (is.null(kind)) "effect" else kind]], plan, c("effects", name))
    check_reference(plan$effects[[name]]$design, names(plan$designs), "design", plan, c("effects", name))
  }
  for (name in names(check_map(plan$probes, plan, "probes"))) check_plan_probe(plan, name, keys, "study")
  check_plan_entries(plan, "power", keys)
  check_plan_entries(plan, "variation", keys)
  check_keys(plan$report, keys$report, plan, "report")
  check_keys(plan$report$groups, keys$groups, plan, c("report", "groups"))
}

check_plan_designs <- function(plan, keys) {
  for (name in names(check_map(plan$designs, plan, "designs"))) {
    for (step in plan_steps(plan, name)) check_keys(step$settings, keys[[step$verb]], plan, c("designs", name))
  }
}

# Entries by name, each of a design or of the study.
check_plan_entries <- function(plan, part, keys) {
  for (name in names(check_map(plan[[part]], plan, part))) {
    check_settings(plan[[part]][[name]], plan, c(part, name))
    check_keys(plan[[part]][[name]], keys[[part]], plan, c(part, name))
    check_reference(plan[[part]][[name]]$design, names(plan$designs), "design", plan, c(part, name))
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

check_settings <- function(part, plan, place) {
  if (is.null(part) || is.list(part)) return(part)
  abort_plan(plan, place, "Here must stand keys and values, not {describe_value(part)}.")
}

check_map <- function(part, plan, place) {
  if (is.null(part) || (is.list(part) && !is.null(names(part)))) return(part)
  abort_plan(plan, place, "{.code {place}:} must be a list of names, each with its settings below it.")
}

check_keys <- function(part, known, plan, place) {
  if (is.null(part)) return(invisible(part))
  check_settings(part, plan, place)
  unknown <- setdiff(names(part), known)
  if (length(unknown) == 0L && !is.null(names(part))) return(invisible(part))
  if (length(part) == 0L) return(invisible(part))
  key <- unknown[1L]
  if (isTRUE(tolower(key) %in% out_of_scope)) abort_plan(plan, c(place, key), scope_sentence, key = key)
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
