# The keys of a plan in one list, made from the registers and the verbs' own arguments.

#' List the keys of a plan
#'
#' Every key that a plan may have, by part, with its default and what it does: the first sentence of the help page of
#' the verb whose argument it is. On the command line `twin keys` lists the parts and `twin keys PART` the keys of one.
#'
#' @param part Name of a part, such as `"study"`, `"pair"` or `"report"`; all of them by default.
#' @return A `twin_keys`. `as.data.frame()` gives one row per key: `part`, `key`, `default` (as text; empty where the
#'   key must be given), `verb` (whose argument it is), `about`.
#' @section Errors: `twin_error_input` for a part that plans do not have.
#' @family out
#' @eval keys_section()
#' @examples
#' plan_reference("trim")
#' @export
plan_reference <- function(part = NULL) {
  parts <- reference_parts()
  check_string(part, null = TRUE)
  if (!is.null(part) && !part %in% names(parts)) {
    near <- nearest_name(part, names(parts))
    abort_input(c("Plans have no part {.val {part}}.", i = if (is.null(near)) "They have {.val {names(parts)}}." else
      "Did you mean {.val {near}}?"))
  }
  shown <- if (is.null(part)) names(parts) else part
  rows <- do.call(rbind, lapply(shown, function(name) key_rows(name, parts[[name]])))
  structure(list(rows = rows, parts = vapply(parts[shown], `[[`, "", "about")), class = "twin_keys")
}

# Per part list(about, keys, verbs: functions whose arguments the keys are, by name).
reference_parts <- function() {
  keys <- plan_keys()
  part <- function(about, keys, ...) list(about = about, keys = keys, verbs = list(...))
  steps <- Map(function(verb, name) {
    list(about = paste0("a step of a design under designs:, ", step_abouts[[name]]), keys = keys[[name]],
         verbs = stats::setNames(list(verb), verb_names[[name]]))
  }, design_verbs(), names(design_verbs()))
  kinds <- lapply(stats::setNames(nm = names(keys$probes)), function(kind) {
    verb <- probes[[kind]]$verb
    list(about = sprintf("a probe under probes:, {probe: %s}", kind), keys = keys$probes[[kind]],
         verbs = stats::setNames(list(verb_of_probe(probes[[kind]])), verb))
  })
  names(kinds) <- paste("probe", names(kinds))
  c(
    list(
      study = part("the question; first part of a plan", keys$study, frame_study = frame_study, frame_arms = frame_arms,
                   frame_dose = frame_dose, frame_course = frame_course,
                   read_units = read_units),
      panel = part("the question over time, in place of study:", keys$panel, frame_panel = frame_panel,
                   read_units = read_units),
      baseline = part("rows as they were before treatment, which designs of a panel are made on", keys$baseline,
                      baseline_rows = baseline_rows, frame_study = frame_study)
    ), steps,
    list(
      power = part("what a design could detect, by name under power:", keys$power, assess_power = assess_power),
      effect = part("an effect, by name under effects:", keys$effect, measure_effect = measure_effect),
      variation = part("who gains, by name under variation:", keys$variation, measure_variation = measure_variation),
      hazard = part("an effect with {measure: hazard}", keys$hazard, measure_hazard = measure_hazard),
      response = part("an effect along a dose, with {measure: response}", keys$response,
                      measure_response = measure_response),
      course = part("an effect of histories of treatment, with {measure: course}", keys$course,
                    measure_course = measure_course),
      composition = part("whether who is met changes with treatment, of a panel", keys$composition,
                         assess_composition = assess_composition),
      trends = part("the time before treatment, of a panel", keys$trends, assess_trends = assess_trends),
      decompose = part("the two-way number taken apart, of a panel", keys$decompose, decompose_did = decompose_did),
      "effect over time" = part("an effect of a panel, by name under effects:", keys$did, measure_did = measure_did,
                                summarise_did = summarise_did)
    ), kinds,
    list(
      report = part("the report", keys$report, assess_balance = assess_balance, write_report = write_report),
      groups = part("the first table, under report:", keys$groups, describe_groups = describe_groups)
    )
  )
}

verb_names <- c(score = "score_units", trim = "trim_units", pair = "pair_units", group = "group_units",
                search = "search_metric", stratify = "stratify_units", weigh = "weigh_units",
                respond = "weigh_responses")
step_abouts <- c(score = "the propensity score", trim = "units that are left out", pair = "pairs",
                 group = "sets and cells", search = "a metric that is searched", stratify = "strata", weigh = "weights",
                 respond = "missing outcomes")

# Keys that are a plan's own.
own_keys <- c(
  design = "Name of a design under designs:; the raw study without.",
  measure = "effect (default), hazard, response or course.",
  probe = "Which probe.", effect = "Name of an effect under effects:.", estimate = "A number in place of an effect.",
  data = "The file of the data, beside the plan; or a table in a database, {connect: sqlite, file: , table: }.",
  groups = "Settings of the first table.",
  each_cohort = "One design for each treated cohort? Default false: one for all.",
  title = "Heading of the report."
)

key_rows <- function(name, part) {
  rows <- lapply(part$keys, function(key) {
    verb <- Find(function(verb) key %in% names(formals(part$verbs[[verb]])), names(part$verbs))
    given <- if (!is.null(verb)) formals(part$verbs[[verb]])[[key]]
    own <- key %in% names(own_keys) && (is.null(verb) || key %in% c("data", "groups"))
    data.frame(part = name, key = key, default = if (is.null(verb)) "" else default_text(given),
               verb = if (is.null(verb)) NA_character_ else verb,
               about = if (own) own_keys[[key]] else if (is.null(verb)) "" else argument_help(verb, key))
  })
  do.call(rbind, rows)
}

# A default in a plan's words; the first of several choices, with the others.
default_text <- function(value) {
  if (missing(value) || identical(value, rlang::missing_arg())) return("")
  if (is.null(value)) return("null")
  words <- if (is.call(value) && identical(value[[1L]], quote(c))) as.list(value)[-1L]
  if (length(words) > 0L && all(vapply(words, is.character, NA))) return(paste(unlist(words), collapse = " | "))
  if (is.character(value)) return(value)
  if (is.logical(value)) return(tolower(as.character(value)))
  if (is.call(value)) "" else format(value)
}

# First sentence of what a verb's help page says of an argument; "" where there are no help pages.
argument_help <- function(verb, argument) {
  pages <- help_pages()
  page <- pages[[paste0(verb, ".Rd")]]
  if (is.null(page)) return("")
  tag <- function(part) identical(attr(part, "Rd_tag"), "\\arguments")
  items <- unlist(lapply(Filter(tag, page), function(part) {
    Filter(function(item) identical(attr(item, "Rd_tag"), "\\item"), part)
  }), recursive = FALSE)
  for (item in items) {
    names <- trimws(strsplit(paste(unlist(item[[1L]]), collapse = ""), ",", fixed = TRUE)[[1L]])
    if (argument %in% names) return(first_sentence(paste(unlist(item[[2L]]), collapse = "")))
  }
  ""
}

first_sentence <- function(text) {
  text <- gsub("[[:space:]]+", " ", trimws(text))
  sub("[.] [A-Z\"`].*$", ".", text)
}

help_pages <- function() {
  if (is.null(help_cache$pages)) {
    help_cache$pages <- tryCatch(tools::Rd_db("carefultwin"), error = function(e) list())
  }
  help_cache$pages
}
help_cache <- new.env(parent = emptyenv())

#' @export
as.data.frame.twin_keys <- function(x, ...) x$rows

#' @export
format.twin_keys <- function(x, ...) {
  rlang::check_dots_empty()
  if (length(x$parts) > 1L) {
    width <- max(nchar(names(x$parts))) + 2L
    return(c("The parts of a plan:", "", unlist(Map(function(name, about) {
      strwrap(about, 78L, initial = formatC(paste0("  ", name), width = -(width + 2L)),
              prefix = strrep(" ", width + 2L))
    }, names(x$parts), x$parts)), "", "twin keys PART lists the keys of one, with defaults."))
  }
  rows <- x$rows
  c(sprintf("%s: %s", names(x$parts), x$parts), "", unlist(lapply(seq_len(nrow(rows)), function(i) {
    head <- paste0("  ", rows$key[i], if (nzchar(rows$default[i])) sprintf("  [%s]", rows$default[i]))
    c(strwrap(head, 78L, exdent = 6L, indent = 2L), if (nzchar(rows$about[i])) strwrap(rows$about[i], 74L, indent = 6L,
                                                                                     exdent = 6L))
  })))
}

#' @export
print.twin_keys <- function(x, ...) {
  writeLines(format(x))
  invisible(x)
}

# For the help page: every part with its keys and defaults.
keys_section <- function() {
  parts <- reference_parts()
  items <- vapply(names(parts), function(name) {
    keys <- vapply(parts[[name]]$keys, function(key) {
      verb <- Find(function(verb) key %in% names(formals(verb)), parts[[name]]$verbs)
      default <- if (is.null(verb)) "" else default_text(formals(verb)[[key]])
      if (nzchar(default)) sprintf("`%s` (%s)", key, gsub("%", "\\\\%", default)) else sprintf("`%s`", key)
    }, "")
    about <- gsub("([{][^}]*[}])", "`\\1`", parts[[name]]$about)
    sprintf("* **%s** (%s): %s.", name, about, paste(keys, collapse = ", "))
  }, "")
  c("@section Keys of a plan: In parentheses defaults, the first of choices parted by |.", "", items)
}
