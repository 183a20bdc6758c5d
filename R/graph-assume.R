#' Write down causal assumptions as a graph
#'
#' A directed acyclic graph says what causes what. From it follow the sets of covariates that suffice to adjust for
#' ([sets_to_adjust()]) and the independences the data should show ([testable_claims()]).
#'
#' @param edges One of: a data frame with the columns `from` and `to`; the path of a `.csv` file with these columns;
#'   DOT text such as `"digraph { port -> joined -> income; port -> income }"`; or the path of a `.dot` or `.gv` file.
#'   DOT may hold chains, groups in braces, quoted names and node attributes, of which `exposure`, `outcome` and
#'   `unobserved` are used (as in `u [unobserved]` or `u [role=unobserved]`) and others passed over.
#' @param unobserved Names of nodes that nobody measured.
#' @param exposure,outcome Names of the treatment and the outcome; DOT attributes serve when these are left out.
#' @return A `twin_graph`. `as.data.frame()` gives its edges (`from`, `to`), [as_dot()] its DOT text, `plot()` a
#'   picture from causes on the left to effects on the right.
#' @section Errors: `twin_error_input` for a cycle (shown, field `cycle`), undirected edges, unknown roles and text that
#'   is not DOT.
#' @references Pearl, J. (2009). Causality, 2nd ed. Cambridge University Press. \doi{10.1017/CBO9780511803161}
#' @family assumptions
#' @examples
#' graph <- assume_graph("digraph {
#'   past_income -> {joined income}
#'   boat_length -> {joined income past_income}
#'   joined -> income
#' }", exposure = "joined", outcome = "income")
#' graph
#' plot(graph)
#' @export
assume_graph <- function(edges, unobserved = NULL, exposure = NULL, outcome = NULL) {
  for (given in list(unobserved, exposure, outcome)) check_node_names(given)
  read <- read_edges(edges)
  nodes <- unique(c(read$nodes, read$from, read$to))
  if (length(nodes) == 0L) abort_input("{.arg edges} must name at least one edge.")
  roles <- list(
    exposure = graph_role(exposure, read$roles$exposure, nodes, "exposure"),
    outcome = graph_role(outcome, read$roles$outcome, nodes, "outcome"),
    unobserved = union(unobserved, read$roles$unobserved)
  )
  check_nodes(roles$unobserved, nodes, "unobserved")
  parents <- matrix(FALSE, length(nodes), length(nodes), dimnames = list(nodes, nodes))
  parents[cbind(match(read$from, nodes), match(read$to, nodes))] <- TRUE
  cycle <- core_cycle(parents)
  if (!is.null(cycle)) {
    abort_input(c(
      "The graph must have no cycle.",
      x = "It has {.val {paste(nodes[cycle], collapse = ' -> ')}}.",
      i = "Nothing can cause itself; take one of these arrows out, or split a node by time."
    ), cycle = nodes[cycle])
  }
  structure(c(list(parents = parents), roles), class = "twin_graph")
}

check_node_names <- function(names, call = rlang::caller_env()) {
  if (is.null(names) || (is.character(names) && !anyNA(names))) return(invisible(names))
  abort_input(c("Nodes are named in quotes.", x = "{.arg unobserved}, {.arg exposure} or {.arg outcome} is
                 {describe_value(names)}."), call = call)
}

# One node that has the role, or NULL.
graph_role <- function(given, read, nodes, role, call = rlang::caller_env()) {
  name <- if (is.null(given)) read else given
  if (is.null(name)) return(NULL)
  if (length(name) > 1L) abort_input("The graph must have one {role}; it has {.val {name}}.", call = call)
  check_nodes(name, nodes, role, call)
  name
}

check_nodes <- function(names, nodes, role, call = rlang::caller_env()) {
  unknown <- setdiff(names, nodes)
  if (length(unknown) == 0L) return(invisible(names))
  near <- nearest_name(unknown[1L], nodes)
  abort_input(c(
    "{.arg {role}} must name nodes of the graph.",
    x = "There is no node {.val {unknown}}.",
    i = if (is.null(near)) "The nodes are {.val {nodes}}." else "Did you mean {.val {near}}?"
  ), unknown = unknown, call = call)
}

# The edges by their ends, nodes without edges, and roles named in the source.
read_edges <- function(edges, call = rlang::caller_env()) {
  if (is.data.frame(edges)) return(edges_of_table(edges, call))
  check_string(edges, call = call)
  if (!validUTF8(edges)) abort_input("The text of {.arg edges} is not UTF-8.", call = call)
  if (grepl("[.]csv$", edges, ignore.case = TRUE)) return(edges_of_table(read_units(edges), call))
  if (grepl("[.](dot|gv)$", edges, ignore.case = TRUE)) {
    if (!file.exists(edges)) abort_file(c("Can't read {.file {edges}}.", x = "There is no such file."), call = call)
    edges <- paste(readLines(edges, warn = FALSE, encoding = "UTF-8"), collapse = "\n")
  }
  parse_dot(edges, call)
}

edges_of_table <- function(table, call) {
  if (!all(c("from", "to") %in% names(table))) {
    abort_input(c("{.arg edges} must have the columns {.val from} and {.val to}.",
                  x = "It has {.val {names(table)}}."), call = call)
  }
  from <- as.character(table$from)
  to <- as.character(table$to)
  bad <- which(is.na(from) | is.na(to) | !nzchar(from) | !nzchar(to))
  if (length(bad) > 0L) {
    abort_input("Every edge must name both ends; rows {first_rows(bad)} do not.", rows = bad, call = call)
  }
  list(from = from, to = to, nodes = character(), roles = list())
}

#' Write a graph as DOT text
#'
#' @param graph A `twin_graph`.
#' @return One string of DOT text, which [assume_graph()] reads back to the same graph.
#' @family assumptions
#' @examples
#' cat(as_dot(assume_graph("digraph { port -> joined -> income }")))
#' @export
as_dot <- function(graph) {
  check_class(graph, "twin_graph", "assume_graph")
  quoted <- function(name) paste0("\"", gsub("([\"\\\\])", "\\\\\\1", name), "\"")
  nodes <- rownames(graph$parents)
  role <- rep("", length(nodes))
  for (name in c("exposure", "outcome", "unobserved")) role[nodes %in% graph[[name]]] <- paste0(" [", name, "]")
  edges <- as.data.frame(graph)
  paste(c(
    "digraph {", paste0("  ", quoted(nodes), role, ";"),
    if (nrow(edges) > 0L) paste0("  ", quoted(edges$from), " -> ", quoted(edges$to), ";"), "}", ""
  ), collapse = "\n")
}

#' @export
as.data.frame.twin_graph <- function(x, ...) {
  places <- which(x$parents, arr.ind = TRUE)
  places <- places[order(places[, 1L], places[, 2L]), , drop = FALSE]
  nodes <- rownames(x$parents)
  data.frame(from = nodes[places[, 1L]], to = nodes[places[, 2L]])
}

observed_nodes <- function(graph) setdiff(rownames(graph$parents), graph$unobserved)
