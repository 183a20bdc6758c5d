# A starting plan from a look at the columns. It guesses by kind and name, says so, and leaves the judgement to the
# user.

# list(lines, told: sentences for the screen). asked: list(panel, study), TRUE where the user knows what they are.
draft_plan <- function(data, data_path, reading, asked) {
  if (asked$panel && asked$study) abort_input("Say {.code --panel} or {.code --study}, not both.", call = NULL)
  over_time <- if (!asked$study) guess_panel(data)
  if (asked$panel && is.null(over_time)) {
    abort_input(c("The columns don't look like units over time.",
                  x = "There must be a time, units or groups that come back, and a treatment that sets in and stays.",
                  i = "Leave out {.code --panel} for a study, or write the plan by hand."), call = NULL)
  }
  roles <- if (is.null(over_time)) guess_roles(data) else over_time
  told <- if (is.null(over_time)) {
    sprintf("Guessed: treatment %s, outcome %s. Check every line, and take out of the covariates whatever happened
             after the treatment.", roles$treatment, roles$outcome)
  } else {
    sprintf("These look like data over time. Guessed: %s, time %s, %s, outcome %s. Check every line; --study drafts
             a study instead.",
            if (is.null(roles$unit)) paste("group", roles$group) else paste("unit", roles$unit), roles$time,
            if (is.null(roles$treatment)) paste("first treated period", roles$first_treated) else
              paste("treatment", roles$treatment), roles$outcome)
  }
  lines <- if (is.null(over_time)) draft_lines else panel_draft_lines
  list(lines = lines(data, roles, data_path, reading),
       told = c(told, if (length(roles$unsure) > 0L) c("Unsure of:", paste("-", roles$unsure))))
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

study_lines <- function(data, roles, data_path, reading) {
  covariates <- yaml_list(roles$covariates)
  two_valued <- paste("two-valued columns:", paste(roles$candidates, collapse = ", "))
  c(
    plan_entry("data", data_path),
    unlist(Map(plan_entry, names(reading), reading), use.names = FALSE),
    plan_entry("treatment", roles$treatment, two_valued),
    plan_entry("treated", treated_guess(data[[roles$treatment]]), "the value that means treated"),
    plan_entry("outcome", roles$outcome, "or a list of columns"),
    paste0("  covariates: ", covariates, "   # ", if (length(roles$covariates) > 0L)
      "only what came before the treatment" else "no column is left: name some"),
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
  columns <- roles$covariates[roles$kinds[roles$covariates] == "number with other entries"]
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
    draft_head(data, roles), "", "panel:", plan_entry("data", data_path),
    unlist(Map(plan_entry, names(reading), reading), use.names = FALSE),
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
