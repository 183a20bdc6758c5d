# Why a node is not among those adjusted for.

# data frame node, reason: one row for every node but exposure, outcome and those of the set. ends: places of exposure
# and outcome, see graph_ends().
outside_reasons <- function(graph, set, ends) {
  parents <- graph$parents
  nodes <- rownames(parents)
  x <- ends[["exposure"]]
  y <- ends[["outcome"]]
  z <- match(set, nodes)
  cut <- core_back_door_graph(parents, x)
  # the graphs without arrows out of the set tell what still moves either end past it
  facts <- list(
    graph = parents, cut = cut, x = x, y = y, z = z, unobserved = match(graph$unobserved, nodes),
    caused = core_descendants(parents, x), after = core_descendants(parents, y), before_y = core_ancestors(parents, y),
    moves_x = core_ancestors(core_back_door_graph(parents, z), x),
    moves_y = core_ancestors(core_back_door_graph(parents, c(z, x)), y), blocked = core_d_separated(cut, x, y, z)
  )
  outside <- setdiff(seq_along(nodes), c(x, y, z))
  data.frame(node = nodes[outside], reason = vapply(outside, outside_reason, "", facts = facts))
}

# The first that holds, from what forbids a node to what makes it idle.
outside_reason <- function(v, facts) {
  if (v %in% facts$unobserved) return("nobody measured it")
  if (v %in% facts$after) return("comes after the outcome")
  if (v %in% facts$caused) {
    if (!v %in% facts$before_y) return("caused by the exposure")
    return("on the way from exposure to outcome: adjusting would take away part of the effect")
  }
  blocked_with <- core_d_separated(facts$cut, facts$x, facts$y, c(facts$z, v))
  if (facts$blocked && !blocked_with) return("a common effect: adjusting for it would open a path")
  if (!facts$blocked) {
    return(if (blocked_with) "would close the paths that are open" else "would not close all the open paths by itself")
  }
  # given the set, is it still tied to the exposure, or to the outcome by another way?
  reaches_x <- !core_d_separated(facts$graph, v, facts$x, facts$z)
  reaches_y <- !core_d_separated(facts$cut, v, facts$y, c(facts$z, facts$x))
  if (v %in% facts$moves_x && !reaches_y) {
    return("moves the exposure alone: adjusting would widen errors and let hidden bias grow")
  }
  if (v %in% facts$moves_y && !reaches_x) {
    return("moves the outcome alone: not needed, though it would make errors smaller")
  }
  "not needed: the set blocks every path it is on"
}
