# What a causal graph says about a study's covariates.

# The smallest sufficient set when no covariates are given; otherwise the given ones, with a warning about bad controls.
covariates_by_graph <- function(graph, covariates, treatment, outcome, data, call) {
  check_class(graph, "twin_graph", "assume_graph", "graph", call)
  graph_ends(graph, treatment, outcome, call)
  if (!is.null(covariates)) {
    names <- parse_covariates(covariates, data, c(treatment, outcome), call = call)$names
    warn_bad_controls(graph, names, treatment, outcome)
    return(covariates)
  }
  sets <- sets_to_adjust(graph, treatment, outcome)
  if (length(sets) == 0L) {
    abort_unsupported(c(
      "By this graph no set of observed nodes suffices to adjust for.",
      x = "Open whatever is adjusted for: {unlist(attr(sets, 'open'))}.",
      i = "Measure a node on each path, or name {.arg covariates} and say how far they can be trusted."
    ), open = unlist(attr(sets, "open")), call = call)
  }
  if (length(sets[[1L]]) == 0L) {
    abort_input(c("By this graph nothing need be adjusted for, so there is nothing to match or weigh on.",
                  i = "Compare the arms as they are, or name {.arg covariates} for precision."), call = call)
  }
  check_columns(sets[[1L]], data, "graph", call)
  sets[[1L]]
}

# What the graph says of the covariates, for the logbook.
graph_words <- function(graph, covariates, treatment, outcome) {
  if (is.null(covariates)) return("the smallest set that suffices")
  names <- if (rlang::is_formula(covariates)) all.vars(covariates) else covariates
  known <- setdiff(intersect(names, rownames(graph$parents)), c(treatment, outcome))
  if (explain_set(graph, known, treatment, outcome)$sufficient) "covariates that suffice" else
    "covariates that do not suffice"
}

warn_bad_controls <- function(graph, names, treatment, outcome) {
  known <- intersect(names, rownames(graph$parents))
  explained <- explain_set(graph, setdiff(known, c(treatment, outcome)), treatment, outcome)
  if (explained$sufficient) return(invisible(names))
  warn_kind("bad_controls", c(
    "By the graph these covariates do not suffice.",
    x = if (length(explained$descendants) > 0L) "{.val {treatment}} causes {.val {explained$descendants}}.",
    x = if (length(explained$open) > 0L) "Open: {.val {unlist(explained$open)}}.",
    x = if (length(explained$opened) > 0L) "Opened by adjusting: collider{?s} {.val {explained$opened}}.",
    i = "{.fn sets_to_adjust} lists the sets that suffice."
  ), descendants = explained$descendants, open = unlist(explained$open), opened = explained$opened)
}
