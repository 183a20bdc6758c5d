# A starting plan from a look at the columns. It guesses by kind and name, says so, and leaves the judgement to the
# user.

guess_roles <- function(data) {
  kinds <- vapply(data, column_kind, "")
  take <- function(candidates) if (length(candidates) > 0L) candidates[1L]
  named <- function(pattern) grep(pattern, names(data), ignore.case = TRUE, value = TRUE)
  id <- take(union(intersect(names(kinds)[kinds == "identifier"], named("(^|_)id$")),
                   names(kinds)[kinds == "identifier"]))
  weight <- take(intersect(names(kinds)[kinds == "number"], named("weight|^wt$")))
  two_valued <- names(kinds)[kinds %in% c("true/false", "two values")]
  treatment <- take(union(two_valued[kinds[two_valued] == "true/false"], two_valued))
  if (is.null(treatment)) {
    abort_input(c("No column of the data has two values, so none can be the treatment.",
                  i = "Recode the treatment to two values first."), call = NULL)
  }
  rest <- setdiff(names(data), c(id, weight, treatment))
  outcome <- utils::tail(rest[kinds[rest] == "number"], 1L)
  if (length(outcome) == 0L) outcome <- utils::tail(rest, 1L)
  cluster <- take(rest[kinds[rest] == "many levels"])
  covariates <- setdiff(rest, c(outcome, cluster, names(kinds)[kinds %in% c("identifier", "constant", "date", "year")]))
  list(id = id, weight = weight, treatment = treatment, outcome = outcome, cluster = cluster,
       covariates = covariates, kinds = kinds, candidates = two_valued)
}

column_kind <- function(x) {
  values <- unique(x[!is.na(x)])
  if (length(values) < 2L) return("constant")
  if (length(values) == 2L) return(if (all(values %in% c(0, 1))) "true/false" else "two values")
  distinct <- length(values) == length(x)
  if (is_text(x)) return(text_kind(values, distinct))
  if (is_whole(x) && all(values >= 1900 & values <= 2100)) return("year")
  if (distinct && is_whole(x)) return("identifier")
  if (inherits(x, c("Date", "POSIXt"))) "date" else "number"
}

is_text <- function(x) is.character(x) || is.factor(x)

text_kind <- function(values, distinct) {
  hidden <- hidden_kind(as.character(values))
  if (!is.null(hidden)) return(c(numbers = "number with other entries", dates = "date")[[hidden]])
  if (distinct) return("identifier")
  if (length(values) > 12L) "many levels" else "levels"
}

is_whole <- function(x) is.numeric(x) && all(x == round(x), na.rm = TRUE)

# reading: named list of how the file is read.
draft_lines <- function(data, roles, data_path, reading = list()) {
  c(
    "# A starting plan, guessed from the columns. Check every line.",
    "# Columns:", strwrap(paste0(names(data), " (", roles$kinds, missing_share(data), ")", collapse = ", "), 100,
                          prefix = "#   "),
    "", "study:", study_lines(data, roles, data_path, reading),
    "", "designs:", "  pairs:", "    - score", "    - pair: {caliper: 0.2}", "  weights:", "    - score",
    "    - weigh: {method: inverse}",
    "", "power:   # before the outcome is opened: what could the design detect?", "  pairs: {design: pairs}",
    "", "effects:", "  raw: {}", "  pairs: {design: pairs}", "  weights: {design: weights}",
    "  augmented: {design: weights, estimator: augmented}",
    "", "probes:", "  hidden_bias: {probe: effect, effect: weights}   # every probe that fits, on one scale",
    "  in_pairs: {probe: pairs, effect: pairs}", "  other_choices: {probe: choices, effect: pairs}"
  )
}

study_lines <- function(data, roles, data_path, reading) {
  covariates <- paste0("[", paste(vapply(roles$covariates, yaml_text, ""), collapse = ", "), "]")
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

treated_guess <- function(x) {
  if (is.logical(x) || all(x %in% c(0, 1, NA))) return(NULL)
  values <- as.character(sort(unique(x)))
  yes <- values[tolower(values) %in% c("yes", "ja", "oui", "true", "treated")]
  if (length(yes) == 1L) yes else values[2L]
}

# Entries among numbers that are none: taken as not known until the user says otherwise.
unknown_guess <- function(data, roles) {
  columns <- roles$covariates[roles$kinds[roles$covariates] == "number with other entries"]
  entries <- function(x) unique(trimws(x[!is.na(x)]))
  stray <- unique(unlist(lapply(columns, function(name) stray_entries(entries(data[[name]]), "numbers"))))
  if (length(stray) == 0L || length(stray) > 5L) return(NULL)
  sprintf("  unknown: [%s]   # entries that mean \"not known\"", paste(vapply(stray, yaml_text, ""), collapse = ", "))
}

missing_share <- function(data) {
  missing <- vapply(data, function(x) sum(is.na(x)), 0L)
  ifelse(missing > 0L, paste0(", ", missing, " missing"), "")
}

# A string as a double-quoted YAML scalar unless it is a plain word.
yaml_text <- function(text) {
  if (grepl("^[A-Za-z][A-Za-z0-9_.]*$", text) && !tolower(text) %in% c("y", "n", "yes", "no", "true", "false", "on",
                                                                       "off", "null")) {
    return(text)
  }
  paste0("\"", gsub("([\"\\\\])", "\\\\\\1", text), "\"")
}
