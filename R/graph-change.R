# A graph with other edges, for who draws it by hand.

# The same nodes and roles; more, less: names of nodes that come and go; unobserved: those of the new that nobody
# measured. Raises twin_error_input for a cycle.
changed_graph <- function(graph, edges, more = NULL, less = NULL, unobserved = NULL) {
  nodes <- setdiff(union(rownames(graph$parents), more), less)
  parents <- matrix(FALSE, length(nodes), length(nodes), dimnames = list(nodes, nodes))
  parents[cbind(match(edges$from, nodes), match(edges$to, nodes))] <- TRUE
  roles <- lapply(graph[c("exposure", "outcome", "unobserved")], setdiff, less)
  roles$unobserved <- union(roles$unobserved, unobserved)
  drawn <- structure(c(list(parents = parents), roles), class = "twin_graph")
  assume_graph(as_dot(drawn))  # which refuses a cycle
}
