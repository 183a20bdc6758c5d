# A starting plan from a look at the columns. It guesses by kind and name, says so, and leaves the judgement to the
# user.

# The kinds of questions a draft can ask. guess: function(data, dose) giving roles, NULL where the columns don't look
# so; lines: of the plan; told: function(roles) giving what was guessed; else_words: what there
# must be.
draft_kinds <- function() {
  list(
    study = list(guess = function(data, dose) guess_roles(data), lines = draft_lines, told = function(roles) {
      sprintf("Guessed: treatment %s, outcome %s. Check every line, and take out of the covariates whatever happened
               after the treatment.", roles$treatment, roles$outcome)
    }),
    panel = list(guess = function(data, dose) guess_panel(data), lines = panel_draft_lines, told = function(roles) {
      sprintf("These look like data over time. Guessed: %s, time %s, %s, outcome %s. Check every line; --study drafts
               a study instead.",
              if (is.null(roles$unit)) paste("group", roles$group) else paste("unit", roles$unit), roles$time,
              if (is.null(roles$treatment)) paste("first treated period", roles$first_treated) else
                paste("treatment", roles$treatment), roles$outcome)
    }, else_words = "a time, units or groups that come back, and a treatment that sets in and stays"),
    course = list(guess = function(data, dose) guess_course(data), lines = course_draft_lines, told = function(roles) {
      sprintf("These look like treatment that comes and goes. Guessed: unit %s, time %s, treatment %s, outcome %s. Check
               every line, and that what changes was measured before the treatment of its period; --study drafts a
               study instead.", roles$unit, roles$time, roles$treatment, roles$outcome)
    }, else_words = "a time, units with one row a period, and a treatment of two values that changes within units"),
    dose = list(guess = function(data, dose) guess_dose(data, dose = dose), lines = dose_draft_lines,
                told = function(roles) {
      sprintf("Guessed beside the dose %s: outcome %s. Check every line, and take out of the covariates whatever
               happened after the dose.", roles$dose, roles$outcome)
    })
  )
}

# list(lines, told: sentences for the screen). asked: list(panel, study, course, dose): what the user knows of them,
# TRUE or the name of a column.
draft_plan <- function(data, data_path, reading, asked) {
  known <- Filter(function(kind) is.character(asked[[kind]]) || isTRUE(asked[[kind]]), names(draft_kinds()))
  if (length(known) > 1L) {
    abort_input("Say one of {.code --study}, {.code --panel}, {.code --course} and {.code --dose}.", call = NULL)
  }
  if (!is.null(asked$dose)) check_drafted_dose(asked$dose, data)
  found <- if (length(known) == 1L) roles_asked(data, known, asked$dose) else roles_seen(data)
  kind <- draft_kinds()[[found$kind]]
  list(lines = kind$lines(data, found$roles, data_path, reading),
       told = c(kind$told(found$roles),
                if (length(found$roles$unsure) > 0L) c("Unsure of:", paste("-", found$roles$unsure))))
}

check_drafted_dose <- function(dose, data) {
  check_columns(dose, data, "dose", NULL)
  kind <- column_kind(data[[dose]])
  if (!is.numeric(data[[dose]]) && kind != "number with other entries") {
    abort_input(c("A dose is a number, and {.field {dose}} is none.",
                  i = "Leave out {.code --dose}: what has a few values is a treatment."), call = NULL)
  }
}

roles_asked <- function(data, known, dose) {
  kind <- draft_kinds()[[known]]
  roles <- kind$guess(data, dose)
  if (is.null(roles)) {
    what <- c(panel = "units over time", course = "treatment that comes and goes")[[known]]
    abort_input(c("The columns don't look like {what}.",
                  x = "There must be {kind$else_words}.",
                  i = "Leave out {.code --{known}} for a study, or write the plan by hand."), call = NULL)
  }
  list(kind = known, roles = roles)
}

# A panel where treatment sets in and stays; a course where the outcome is known at the end alone; else a study.
roles_seen <- function(data) {
  over_time <- guess_panel(data)
  if (!is.null(over_time)) return(list(kind = "panel", roles = over_time))
  course <- guess_course(data)
  if (isTRUE(course$final)) return(list(kind = "course", roles = course))
  list(kind = "study", roles = guess_roles(data))
}

# reading: named list of how the file is read.
draft_lines <- function(data, roles, data_path, reading = list()) {
  c(
    draft_head(data, roles), "", "study:", study_lines(data, roles, data_path, reading),
    "", "designs:", "  pairs:", "    - score", "    - pair: {caliper: 0.2}", "  weights:", "    - score",
    "    - weigh: {method: inverse}",
    "", "power:   # before the outcome is opened: what could the design detect?", "  pairs: {design: pairs}",
    "", "effects:", "  raw: {}", "  pairs: {design: pairs}", "  weights: {design: weights}",
    "  augmented: {design: weights, estimator: augmented}",
    "", "probes:", "  hidden_bias: {probe: effect, effect: weights}   # every probe that fits, on one scale",
    "  in_pairs: {probe: pairs, effect: pairs}", "  other_choices: {probe: choices, effect: pairs}"
  )
}

draft_head <- function(data, roles) {
  remark <- function(text) strwrap(text, 100, prefix = "#   ")
  c("# A starting plan, guessed from the columns. Check every line.",
    "# Columns:", remark(paste0(names(data), " (", roles$kinds, missing_share(data), ")", collapse = ", ")),
    if (length(roles$unsure) > 0L) c("# Unsure of:", unlist(lapply(roles$unsure, remark))))
}

# The file and how it is read.
data_lines <- function(data_path, reading) {
  c(plan_entry("data", data_path), unlist(Map(plan_entry, names(reading), reading), use.names = FALSE))
}

study_lines <- function(data, roles, data_path, reading) {
  candidates <- paste("columns of few values:", paste(roles$candidates, collapse = ", "))
  levels <- value_texts(data[[roles$treatment]])
  c(
    data_lines(data_path, reading),
    plan_entry("treatment", roles$treatment, candidates),
    if (length(levels) > 2L) plan_entry("reference", levels[1L], "the value that the others are compared with") else
      plan_entry("treated", treated_guess(data[[roles$treatment]]), "the value that means treated"),
    plan_entry("outcome", roles$outcome, "or a list of columns"),
    covariates_entry(roles, "only what came before the treatment"),
    unknown_guess(data, roles),
    plan_entry("estimand", "ATT", estimand_remark()),
    plan_entry("id", roles$id), plan_entry("weight", roles$weight), plan_entry("cluster", roles$cluster),
    plan_entry("missing", "flag")
  )
}

# What each estimand means, where that takes few words.
estimand_remark <- function() {
  short <- lapply(estimands, `[[`, "short")
  paste(ifelse(vapply(short, is.null, NA), names(short), paste0(names(short), ": ", short)), collapse = "; ")
}

# One line of the plan, nothing when there is no value.
plan_entry <- function(key, value, remark = NULL) {
  if (is.null(value)) return(NULL)
  paste0("  ", key, ": ", yaml_text(value), if (!is.null(remark)) paste0("   # ", remark))
}

treated_guess <- function(x) if (!is.logical(x)) likely_treated(value_texts(x))

# Of values in order; NULL where it is known.
likely_treated <- function(values) {
  if (all(values %in% c("TRUE", "FALSE", "0", "1"))) return(NULL)
  yes <- values[tolower(values) %in% c("yes", "ja", "oui", "true", "treated")]
  if (length(yes) == 1L) yes else values[2L]
}

# Entries among numbers that are none: taken as not known until the user says otherwise.
unknown_guess <- function(data, roles) {
  stray <- stray_values(data, roles)
  if (!is.null(stray)) sprintf("  unknown: %s   # entries that mean \"not known\"", yaml_list(stray))
}

stray_values <- function(data, roles) {
  columns <- c(roles$dose, roles$covariates, roles$changing)
  columns <- columns[roles$kinds[columns] == "number with other entries"]
  entries <- function(x) unique(trimws(x[!is.na(x)]))
  stray <- unique(unlist(lapply(columns, function(name) stray_entries(entries(data[[name]]), "numbers"))))
  if (length(stray) %in% 1:5) stray
}

missing_share <- function(data) {
  missing <- vapply(data, function(x) sum(is.na(x)), 0L)
  ifelse(missing > 0L, paste0(", ", missing, " missing"), "")
}

yaml_list <- function(texts) paste0("[", paste(vapply(texts, yaml_text, ""), collapse = ", "), "]")

# A string as a double-quoted YAML scalar unless it is a plain word.
yaml_text <- function(text) {
  if (grepl("^[A-Za-z][A-Za-z0-9_.]*$", text) && !tolower(text) %in% c("y", "n", "yes", "no", "true", "false", "on",
                                                                       "off", "null")) {
    return(text)
  }
  paste0("\"", gsub("([\"\\\\])", "\\\\\\1", text), "\"")
}

# The same for units over time.
panel_draft_lines <- function(data, roles, data_path, reading = list()) {
  covariates <- yaml_list(roles$covariates)
  adjust <- if (length(roles$covariates) > 0L) "{adjustment: regression}" else "{}"
  treated <- if (!is.null(roles$treatment)) treated_guess(data[[roles$treatment]])
  c(
    draft_head(data, roles), "", "panel:", data_lines(data_path, reading),
    plan_entry("outcome", roles$outcome, "or a list of columns"), plan_entry("time", roles$time),
    plan_entry("unit", roles$unit), plan_entry("group", roles$group, "treated as a whole; other units every time"),
    plan_entry("treatment", roles$treatment, "on from the period it sets in"),
    plan_entry("treated", treated, "the value that means treated"),
    plan_entry("first_treated", roles$first_treated, "the period treatment sets in"),
    if (length(roles$covariates) > 0L) paste0("  covariates: ", covariates, "   # what makes trends differ"),
    plan_entry("weight", roles$weight),
    "", "trends: true   # did both sides move in parallel before?",
    if (roles$complete) "decompose: true" else "decompose: {complete: true}   # without units that miss periods",
    "", "effects:", "  two-way: {estimator: two_way}", paste0("  group-time: ", adjust),
    paste0("  path: {", if (length(roles$covariates) > 0L) "adjustment: regression, ", "base: fixed, over: event}"),
    "", "probes:", "  drift: {probe: trends, effect: path, at: [0, 1, 2]}"
  )
}

covariates_entry <- function(roles, remark) {
  paste0("  covariates: ", yaml_list(roles$covariates), "   # ", if (length(roles$covariates) > 0L) remark else
    "no column is left: name some")
}

# The same for a dose.
dose_draft_lines <- function(data, roles, data_path, reading = list()) {
  c(
    draft_head(data, roles), "", "study:", data_lines(data_path, reading),
    plan_entry("dose", roles$dose, "a number: how much of the treatment each unit has"),
    plan_entry("outcome", roles$outcome, "or a list of columns"),
    covariates_entry(roles, "only what came before the dose"), unknown_guess(data, roles),
    plan_entry("id", roles$id), plan_entry("weight", roles$weight), plan_entry("cluster", roles$cluster),
    plan_entry("missing", "flag"),
    "", "designs:", "  weights:", "    - score", "    - weigh: {method: inverse}", "  entropy:",
    "    - weigh: {method: entropy}",
    "", "effects:", "  unadjusted: {measure: response}",
    "  weights: {design: weights, measure: response, estimator: augmented}",
    "  entropy: {design: entropy, measure: response, estimator: augmented}",
    "", "probes:", "  hidden_bias: {probe: ratio, effect: weights}"
  )
}

# The same for treatment that comes and goes.
course_draft_lines <- function(data, roles, data_path, reading = list()) {
  c(
    draft_head(data, roles), "", "study:", data_lines(data_path, reading),
    plan_entry("treatment", roles$treatment, "on or off in each period"),
    plan_entry("treated", treated_guess(data[[roles$treatment]]), "the value that means treated"),
    plan_entry("outcome", roles$outcome, "its value in the last period counts"), plan_entry("time", roles$time),
    plan_entry("unit", roles$unit),
    if (length(roles$covariates) > 0L) {
      paste0("  covariates: ", yaml_list(roles$covariates), "   # what does not change within a unit")
    },
    if (length(roles$changing) > 0L) {
      paste0("  changing: ", yaml_list(roles$changing), "   # measured before the treatment of its period")
    },
    unknown_guess(data, roles), plan_entry("weight", roles$weight), plan_entry("missing", "flag"),
    "", "designs:", "  weights:", "    - score", "    - weigh",
    "", "effects:", "  weights: {design: weights, measure: course}",
    "", "probes:", "  hidden_bias: {probe: ratio, effect: weights}"
  )
}
