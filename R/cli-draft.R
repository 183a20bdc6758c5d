# `twin draft`: a starting plan from a look at the columns. It guesses by kind and name, says so, and leaves the
# judgement to the user.

command_draft <- function(options, args) {
  data <- read_units(args)
  plan <- if (is.null(options$out)) file.path(dirname(args), "plan.yml") else options$out
  if (file.exists(plan) && !options$force) {
    abort_file(c("{.file {plan}} is there already.", i = "Use --out for another name, or --force to replace it."),
               path = plan, call = NULL)
  }
  roles <- guess_roles(data)
  data_path <- if (dirname(args) == dirname(plan)) basename(args) else normalizePath(args)
  write_whole(plan, function(path) writeLines(draft_lines(data, roles, data_path), path))
  writeLines(c(
    sprintf("Wrote %s.", plan),
    strwrap(sprintf("Guessed: treatment %s, outcome %s. Check every line, and take out of the covariates whatever
                     happened after the treatment.", roles$treatment, roles$outcome), 80),
    sprintf("Next: twin describe %s", plan)
  ))
  0L
}

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
  covariates <- setdiff(rest, c(outcome, cluster, names(kinds)[kinds %in% c("identifier", "constant")]))
  list(id = id, weight = weight, treatment = treatment, outcome = outcome, cluster = cluster,
       covariates = covariates, kinds = kinds, candidates = two_valued)
}

column_kind <- function(x) {
  present <- x[!is.na(x)]
  values <- length(unique(present))
  if (values < 2L) return("constant")
  if (values == 2L) return(if (is.logical(x) || all(present %in% c(0, 1))) "true/false" else "two values")
  is_text <- is.character(x) || is.factor(x)
  if (values == length(x) && (is_text || is_whole(x))) return("identifier")
  if (!is_text) return(if (inherits(x, c("Date", "POSIXt"))) "date" else "number")
  if (values > 12L) "many levels" else "levels"
}

is_whole <- function(x) is.numeric(x) && all(x == round(x), na.rm = TRUE)

draft_lines <- function(data, roles, data_path) {
  quoted <- function(names) paste0("[", paste(vapply(names, yaml_text, ""), collapse = ", "), "]")
  line <- function(key, value, remark = NULL) {
    if (is.null(value)) return(NULL)
    paste0("  ", key, ": ", value, if (!is.null(remark)) paste0("   # ", remark))
  }
  treated <- treated_guess(data[[roles$treatment]])
  usable <- length(roles$covariates) > 0L
  c(
    "# A starting plan, guessed from the columns. Check every line.",
    "# Columns:", strwrap(paste0(names(data), " (", roles$kinds, missing_share(data), ")", collapse = ", "), 100,
                          prefix = "#   "),
    "", "study:", line("data", yaml_text(data_path)),
    line("treatment", yaml_text(roles$treatment), paste("two-valued columns:", paste(roles$candidates,
                                                                                     collapse = ", "))),
    line("treated", treated, "the value that means treated"),
    line("outcome", yaml_text(roles$outcome), "or a list of columns"),
    if (usable) line("covariates", quoted(roles$covariates), "only what came before the treatment")
    else "  covariates: []   # no column is left: name some",
    line("estimand", "ATT", "ATT: on the treated; ATE: on everybody; ATC; ATO"),
    line("id", if (!is.null(roles$id)) yaml_text(roles$id)),
    line("weight", if (!is.null(roles$weight)) yaml_text(roles$weight)),
    line("cluster", if (!is.null(roles$cluster)) yaml_text(roles$cluster)),
    line("missing", "flag"),
    "", "designs:", "  pairs:", "    - score", "    - pair: {caliper: 0.2}", "  weights:", "    - score",
    "    - weigh: {method: inverse}",
    "", "effects:", "  raw: {}", "  pairs: {design: pairs}", "  weights: {design: weights}",
    "  augmented: {design: weights, estimator: augmented}",
    "", "probes:", "  hidden_bias: {probe: pairs, effect: pairs}", "  strength: {probe: ratio, effect: augmented}"
  )
}

treated_guess <- function(x) {
  if (is.logical(x) || all(x %in% c(0, 1, NA))) return(NULL)
  yaml_text(as.character(sort(unique(x))[2L]))
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
