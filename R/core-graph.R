# Graph logic on adjacency matrices. `parents` is a logical n x n matrix, parents[i, j]: i -> j. Nodes are 1..n.

# All nodes from which `to` can be reached, themselves included.
core_ancestors <- function(parents, to) {
  reached <- logical(nrow(parents))
  reached[to] <- TRUE
  repeat {
    more <- rowSums(parents[, reached, drop = FALSE]) > 0 & !reached
    if (!any(more)) return(which(reached))
    reached <- reached | more
  }
}

core_descendants <- function(parents, from) core_ancestors(t(parents), from)

# A cycle as a node sequence, NULL when there is none. Nodes without parents are peeled off; what is left holds one.
core_cycle <- function(parents) {
  left <- rep(TRUE, nrow(parents))
  repeat {
    peel <- left & colSums(parents[left, , drop = FALSE]) == 0
    if (!any(peel)) break
    left <- left & !peel
  }
  if (!any(left)) return(NULL)
  path <- which(left)[1L]
  repeat {
    before <- which(parents[, path[1L]] & left)[1L]
    again <- match(before, path)
    path <- c(before, path)
    if (!is.na(again)) return(path[seq_len(again + 1L)])
  }
}

# Lauritzen et al. (1990): x and y are d-separated by z in a DAG exactly when z separates them in the moral graph of
# the ancestors of all of them. Returns the undirected graph on all nodes; others than the ancestors have no edges.
core_moral_graph <- function(parents, nodes) {
  keep <- core_ancestors(parents, nodes)
  small <- parents[keep, keep, drop = FALSE]
  married <- small | t(small) | (small %*% t(small)) > 0
  diag(married) <- FALSE
  graph <- matrix(FALSE, nrow(parents), nrow(parents))
  graph[keep, keep] <- married
  graph
}

core_d_separated <- function(parents, x, y, z) {
  graph <- core_moral_graph(parents, c(x, y, z))
  graph[z, ] <- FALSE
  graph[, z] <- FALSE
  !y %in% core_component(graph, x, integer())
}

# Nodes connected to `from` without passing through `without`.
core_component <- function(graph, from, without) {
  open <- rep(TRUE, nrow(graph))
  open[without] <- FALSE
  reached <- logical(nrow(graph))
  reached[from] <- TRUE
  repeat {
    more <- open & !reached & rowSums(graph[, reached, drop = FALSE]) > 0
    if (!any(more)) return(which(reached))
    reached <- reached | more
  }
}

# Takes a node out and joins its neighbours to each other, so that connections through it remain.
core_eliminate <- function(graph, nodes) {
  for (node in nodes) {
    around <- which(graph[node, ])
    graph[around, around] <- TRUE
    graph[node, ] <- FALSE
    graph[, node] <- FALSE
    diag(graph) <- FALSE
  }
  graph
}

core_neighbours <- function(graph, nodes) {
  around <- rowSums(graph[, nodes, drop = FALSE]) > 0
  around[nodes] <- FALSE
  which(around)
}

# All minimal separators of a and b in an undirected graph, at most `most` of them: starting with the one closest to
# a, each next one lets a node of a known separator over to a's side and takes the boundary of b's component
# (Berry, Bordat & Cogis 2000; Takata 2010). NULL when a and b are adjacent.
core_minimal_separators <- function(graph, a, b, most) {
  if (graph[a, b]) return(NULL)
  boundary <- function(side) core_neighbours(graph, core_component(graph, b, core_neighbours(graph, side)))
  found <- list(boundary(a))
  known <- new.env()
  assign(paste("s", found), TRUE, envir = known)
  place <- 1L
  while (place <= length(found) && length(found) < most) {
    separator <- found[[place]]
    side <- core_component(graph, a, separator)
    for (node in separator[!graph[separator, b]]) {
      following <- boundary(c(side, node))
      key <- paste("s", list(following))
      if (exists(key, envir = known, inherits = FALSE)) next
      assign(key, TRUE, envir = known)
      found[[length(found) + 1L]] <- following
    }
    place <- place + 1L
  }
  utils::head(found, most)
}

# Minimal sets among `allowed` that d-separate x and y; NULL when there is none. A minimal separator lies among the
# ancestors of x and y (van der Zander, Liskiewicz & Textor 2019).
core_separating_sets <- function(parents, x, y, allowed, most = 10000L) {
  graph <- core_moral_graph(parents, c(x, y))
  forbidden <- setdiff(seq_len(nrow(parents)), c(x, y, allowed))
  core_minimal_separators(core_eliminate(graph, forbidden), x, y, most)
}

# The graph without the arrows out of x: what is left between x and y are the back-door paths.
core_back_door_graph <- function(parents, x) {
  parents[x, ] <- FALSE
  parents
}

# Up to `most` simple paths from x to y that are open given z, as node sequences, shortest first.
core_open_paths <- function(parents, x, y, z, most = 5L) {
  skeleton <- parents | t(parents)
  opened <- core_ancestors(parents, z)  # colliders here are open
  queue <- list(x)
  found <- list()
  while (length(queue) > 0L && length(found) < most) {
    path <- queue[[1L]]
    queue <- queue[-1L]
    here <- path[length(path)]
    for (following in setdiff(which(skeleton[here, ]), path)) {
      if (length(path) > 1L && !core_passes(parents, path[length(path) - 1L], here, following, z, opened)) next
      if (following == y) found <- c(found, list(c(path, y))) else queue <- c(queue, list(c(path, following)))
    }
    if (length(queue) > 5000L) break
  }
  utils::head(found, most)
}

# Does a path before -> here -> after stay open at `here`? A collider needs itself or a descendant in z; any other
# node must not be in z.
core_passes <- function(parents, before, here, after, z, opened) {
  collider <- parents[before, here] && parents[after, here]
  if (collider) here %in% opened else !here %in% z
}

# One more than the deepest parent; a root stands just left of its first child, not at the far left.
core_layers <- function(parents) {
  layer <- integer(nrow(parents))
  for (sweep in seq_along(layer)) {
    for (j in which(colSums(parents) > 0)) layer[j] <- max(layer[parents[, j]]) + 1L
  }
  for (j in which(colSums(parents) == 0 & rowSums(parents) > 0)) layer[j] <- min(layer[parents[j, ]]) - 1L
  layer
}

# Layers from left to right. An edge over several layers gets a stand-in node in each one between, so that it has a
# lane of its own; the order within a layer follows the mean place of neighbours in the layers alongside, a few sweeps
# (Sugiyama, Tagawa & Toda 1981). Returns list(layer, place, routes): coordinates of all nodes, stand-ins last, and
# for each edge (in the order of which(parents)) the nodes it runs through.
core_layered_layout <- function(parents) {
  layer <- core_layers(parents)
  edges <- which(parents, arr.ind = TRUE)
  routes <- vector("list", nrow(edges))
  for (k in seq_len(nrow(edges))) {
    between <- seq_len(layer[edges[k, 2L]] - layer[edges[k, 1L]] - 1L)
    routes[[k]] <- unname(c(edges[k, 1L], length(layer) + between, edges[k, 2L]))
    layer <- c(layer, layer[edges[k, 1L]] + between)
  }
  joined <- matrix(FALSE, length(layer), length(layer))
  for (route in routes) joined[cbind(route[-1L], route[-length(route)])] <- TRUE
  joined <- joined | t(joined)
  place <- numeric(length(layer))
  room <- rep(c(2, 1), c(nrow(parents), length(layer) - nrow(parents)))  # a node and its name, or a lane
  for (k in unique(layer)) place[layer == k] <- core_spread(room[layer == k])
  for (sweep in 1:24) {
    for (k in sort(unique(layer), decreasing = sweep %% 2 == 0)) {
      inside <- which(layer == k)
      alongside <- layer == if (sweep %% 2 == 0) k + 1L else k - 1L
      pull <- vapply(inside, function(j) mean(c(place[joined[, j] & alongside], place[j])), 0)
      inside <- inside[order(pull, inside)]
      place[inside] <- core_spread(room[inside])
    }
  }
  list(layer = layer, place = place, routes = routes)
}

# Centres of things of the given sizes set side by side, their middle at 0.
core_spread <- function(sizes) cumsum(sizes) - sizes / 2 - sum(sizes) / 2
