#' Find what to adjust for
#'
#' All minimal sets of observed nodes that meet the back-door criterion (Pearl 2009): they hold no descendant of the
#' exposure and block every path that enters it by an arrow. Minimal: no node can be left out. Found as the minimal
#' separators of the moral graph, not by trying all subsets.
#'
#' @param graph A `twin_graph`.
#' @param exposure,outcome Names of the treatment and the outcome, by default the graph's own.
#' @param most Stop after this many sets (with the warning `twin_warning_many`); default 10,000.
#' @return A list (of class `twin_sets`) of character vectors, one per minimal set, the smallest first. An empty list
#'   means that no set suffices, and its print shows paths that stay open; `character(0)` in it means that nothing need
#'   be adjusted for. The print says why every other node is not in the first set.
#' @section Errors: `twin_error_input` for unknown or unobserved exposure or outcome.
#' @references van der Zander, B., Liskiewicz, M., Textor, J. (2019). Separators and adjustment sets in causal graphs.
#'   Artificial Intelligence 270. \doi{10.1016/j.artint.2018.12.006}
#' @family assumptions
#' @examples
#' graph <- assume_graph("digraph { port -> {joined income}; joined -> income; mood -> {port income} }",
#'                       unobserved = "mood")
#' sets_to_adjust(graph, "joined", "income")
#' @export
sets_to_adjust <- function(graph, exposure = NULL, outcome = NULL, most = 10000) {
  check_class(graph, "twin_graph", "assume_graph")
  check_count(most, min = 1)
  ends <- graph_ends(graph, exposure, outcome)
  nodes <- rownames(graph$parents)
  cut <- core_back_door_graph(graph$parents, ends[["exposure"]])
  allowed <- setdiff(match(observed_nodes(graph), nodes), core_descendants(graph$parents, ends[["exposure"]]))
  found <- core_separating_sets(cut, ends[["exposure"]], ends[["outcome"]], setdiff(allowed, ends[["outcome"]]), most)
  if (length(found) >= most) {
    warn_kind("many", c("There are {most} minimal sets or more; the search stopped there.",
                        i = "Raise {.arg most} to see the rest."))
  }
  sets <- lapply(found, function(set) sort(nodes[set], method = "radix"))
  sets <- sets[order(lengths(sets), vapply(sets, paste, "", collapse = " "), method = "radix")]
  open <- if (is.null(found)) core_open_paths(cut, ends[["exposure"]], ends[["outcome"]], allowed)
  structure(
    sets, class = "twin_sets", exposure = nodes[ends[["exposure"]]], outcome = nodes[ends[["outcome"]]],
    open = lapply(open, path_text, parents = cut),
    reasons = if (length(sets) > 0L) outside_reasons(graph, sets[[1L]], ends)
  )
}

# Places of exposure and outcome.
graph_ends <- function(graph, exposure, outcome, call = rlang::caller_env()) {
  if (is.null(exposure)) exposure <- graph$exposure
  if (is.null(outcome)) outcome <- graph$outcome
  for (role in c("exposure", "outcome")) {
    name <- if (role == "exposure") exposure else outcome
    if (is.null(name)) abort_input("The graph does not say which node is the {role}: name it.", call = call)
    check_string(name, arg = role, call = call)
    check_nodes(name, rownames(graph$parents), role, call)
    if (name %in% graph$unobserved) abort_input("The {role} {.val {name}} must be observed.", call = call)
  }
  if (exposure == outcome) abort_input("Exposure and outcome must be different nodes.", call = call)
  c(exposure = match(exposure, rownames(graph$parents)), outcome = match(outcome, rownames(graph$parents)))
}

# A path with its arrows as they point.
path_text <- function(path, parents) {
  names <- rownames(parents)[path]
  arrows <- ifelse(parents[cbind(utils::head(path, -1L), path[-1L])], " -> ", " <- ")
  paste0(paste0(utils::head(names, -1L), arrows, collapse = ""), utils::tail(names, 1L))
}

#' Explain why a set does or does not suffice to adjust for
#'
#' @inheritParams sets_to_adjust
#' @param set Names of the nodes one thinks of adjusting for; `character(0)` for none.
#' @return A `twin_set_check`: `sufficient` (TRUE or FALSE), `descendants` (nodes of the set that the exposure causes),
#'   `unobserved` (nodes of the set nobody measured), `open` (up to five back-door paths that stay open), `opened`
#'   (colliders on them that the set, or a descendant in it, opens), `outside` (data frame `node`, `reason`: why each
#'   node outside the set is not in it, or should be). `tidy()` gives one row per node: `node`, `in_set`, `reason`.
#' @section Errors: `twin_error_input` for unknown nodes, or when the set holds the exposure or the outcome.
#' @family assumptions
#' @examples
#' graph <- assume_graph("digraph { a -> {m x}; b -> {m y}; x -> y }")
#' explain_set(graph, "m", exposure = "x", outcome = "y")
#' @export
explain_set <- function(graph, set, exposure = NULL, outcome = NULL) {
  check_class(graph, "twin_graph", "assume_graph")
  if (!is.character(set)) abort_input("{.arg set} must be names of nodes, or character(0).")
  ends <- graph_ends(graph, exposure, outcome)
  nodes <- rownames(graph$parents)
  check_nodes(set, nodes, "set")
  x <- ends[["exposure"]]
  z <- match(set, nodes)
  if (any(z %in% ends)) abort_input("{.arg set} can't hold the exposure or the outcome.")
  cut <- core_back_door_graph(graph$parents, x)
  descendants <- intersect(z, setdiff(core_descendants(graph$parents, x), x))
  paths <- if (!core_d_separated(cut, x, ends[["outcome"]], z)) core_open_paths(cut, x, ends[["outcome"]], z)
  check <- list(
    set = set, descendants = nodes[descendants], unobserved = intersect(set, graph$unobserved),
    open = lapply(paths, path_text, parents = cut), opened = nodes[unique(unlist(lapply(paths, colliders_on, cut)))],
    outside = outside_reasons(graph, set, ends)
  )
  check$sufficient <- length(check$descendants) + length(check$unobserved) + length(paths) == 0L
  structure(check, class = "twin_set_check")
}

colliders_on <- function(path, parents) {
  inner <- seq_along(path)[-c(1L, length(path))]
  path[Filter(function(k) parents[path[k - 1L], path[k]] && parents[path[k + 1L], path[k]], inner)]
}
