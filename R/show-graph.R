#' @export
format.twin_graph <- function(x, ...) {
  asks <- length(x$exposure) + length(x$outcome) == 2L && all(c(x$exposure, x$outcome) %in% observed_nodes(x))
  edges <- as.data.frame(x)
  by_cause <- split(edges$to, factor(edges$from, unique(edges$from)))
  c(
    sprintf("Causal graph: %s, %s", plural(nrow(x$parents), "node"), plural(nrow(edges), "arrow")),
    if (!is.null(x$exposure)) field_lines("Exposure", x$exposure),
    if (!is.null(x$outcome)) field_lines("Outcome", x$outcome),
    if (length(x$unobserved) > 0L) field_lines("Unobserved", paste(x$unobserved, collapse = ", ")),
    unlist(Map(function(from, to) wrap_lines(sprintf("%s -> %s", from, paste(to, collapse = ", ")), 2L),
               names(by_cause), by_cause), use.names = FALSE),
    if (asks) c("", format(suppressWarnings(sets_to_adjust(x, most = 100))), ""),
    wrap_lines(if (asks) "Next: testable_claims() to check it." else
      "Next: sets_to_adjust() for what to adjust for, testable_claims() to check it.")
  )
}

#' @export
print.twin_graph <- function(x, ...) print_lines(x, format(x, ...))

#' @export
format.twin_sets <- function(x, ...) {
  head <- sprintf("What to adjust for: %s on %s", attr(x, "exposure"), attr(x, "outcome"))
  if (length(x) == 0L) {
    return(c(head, wrap_lines("No set of observed nodes suffices. Paths that stay open whatever is adjusted for:", 2L),
             paste0("    ", unlist(attr(x, "open")))))
  }
  shown <- utils::head(x, 20L)
  c(head, vapply(shown, function(set) paste0("  {", paste(set, collapse = ", "), "}"), ""),
    if (length(x) > 20L) sprintf("  and %d more", length(x) - 20L),
    if (length(x) == 1L && length(x[[1L]]) == 0L) "  Nothing need be adjusted for.",
    reason_lines(attr(x, "reasons"), if (length(x) > 1L) "Not in the first set:" else "Not in it:"))
}

# Nodes and why they are left out, one below the other.
reason_lines <- function(reasons, heading) {
  if (is.null(reasons) || nrow(reasons) == 0L) return(NULL)
  width <- min(max(nchar(reasons$node, "width")) + 2L, 26L)
  c(heading, unlist(Map(function(node, reason) field_lines(node, reason, width), shorten(reasons$node, width - 2L),
                        reasons$reason), use.names = FALSE))
}

#' @export
print.twin_sets <- function(x, ...) print_lines(x, format(x, ...))

#' @export
format.twin_set_check <- function(x, ...) {
  name <- paste0("{", paste(x$set, collapse = ", "), "}")
  if (x$sufficient) {
    return(c(wrap_lines(paste(name, "suffices: it blocks every back-door path and holds no effect of the exposure.")),
             reason_lines(x$outside, "Not in it:")))
  }
  c(
    paste(name, "does not suffice:"),
    if (length(x$descendants) > 0L) wrap_lines(paste("The exposure causes", and_list(x$descendants)), 2L),
    if (length(x$unobserved) > 0L) wrap_lines(paste("Nobody measured", and_list(x$unobserved)), 2L),
    if (length(x$open) > 0L) c("  Open back-door paths:", paste0("    ", unlist(x$open))),
    if (length(x$opened) > 0L) wrap_lines(paste("Colliders opened by the set:", and_list(x$opened)), 2L),
    reason_lines(x$outside, "Not in it:")
  )
}

#' @export
format.twin_claims <- function(x, ...) {
  if (nrow(x) == 0L) return(wrap_lines("The graph claims nothing that data could contradict: every two observed nodes
                                       are joined, or are told apart by unobserved ones alone."))
  statements <- claim_statements(x)
  if (is.null(x$verdict)) {
    return(c("If the graph is right, then:", unlist(lapply(statements, wrap_lines, indent = 2L)),
             wrap_lines("Next: test_claims() to ask the data.")))
  }
  p <- ifelse(is.na(x$p.adjusted), "", sprintf("adjusted p %s; ", vapply(x$p.adjusted, p_phrase, "")))
  numbers <- sprintf("%s (%s%s, %s complete rows)", x$verdict, p, x$test, count_text(x$n))
  c(wrap_lines(claims_verdict(x)),
    unlist(Map(function(statement, number) c(wrap_lines(statement, 2L), wrap_lines(number, 4L)), statements, numbers)))
}

#' @export
print.twin_claims <- function(x, ...) print_lines(x, format(x, ...))

claim_statements <- function(x) {
  given <- vapply(x$given, function(set) if (length(set) == 0L) "" else paste(" given", and_list(set)), "")
  sprintf("%s and %s are independent%s", x$x, x$y, given)
}

claims_verdict <- function(x) {
  against <- sum(x$verdict == "contradicted")
  untested <- sum(x$verdict == "not tested")
  paste0(
    if (against == 0L) sprintf("The data contradict none of the graph's %s", plural(nrow(x), "claim")) else
      sprintf("The data contradict %s of the graph's %s", count_text(against), plural(nrow(x), "claim")),
    sprintf(" at level %s", format(attr(x, "level"))), if (untested > 0L) sprintf("; %d could not be tested", untested),
    if (against == 0L) ". That is no proof of the graph." else ": an arrow or a common cause is missing there."
  )
}

#' @export
print.twin_set_check <- function(x, ...) print_lines(x, format(x, ...))

#' Plot a causal graph
#'
#' Causes stand left of their effects, names in boxes. Borders and small words tell exposure, outcome, adjusted and
#' unobserved nodes apart, so that colour is not needed; arrows on back-door paths that stay open are drawn thick. Boxes
#' are as wide as their names, and arrows end at their edges, whatever the size of the picture.
#'
#' @param x A `twin_graph`.
#' @param adjusted Names of the nodes adjusted for, to be marked; open paths are worked out given them.
#' @param ... Must be empty.
#' @return A ggplot.
#' @family assumptions
#' @examples
#' graph <- assume_graph("digraph { port -> {joined income}; joined -> income }", exposure = "joined",
#'                       outcome = "income")
#' plot(graph, adjusted = "port")
#' @export
plot.twin_graph <- function(x, adjusted = character(), ...) {
  rlang::check_dots_empty()
  check_nodes(adjusted, rownames(x$parents), "adjusted")
  layout <- spread_layout(core_layered_layout(x$parents))
  nodes <- graph_nodes(x, layout, adjusted)
  open <- open_edges(x, adjusted)
  sheet <- grid::gTree(nodes = nodes, layout = layout, open = open, cl = "twin_graph_sheet")
  ggplot2::ggplot(nodes, ggplot2::aes(x = .data$x, y = .data$y)) +
    ggplot2::geom_blank() +
    ggplot2::annotation_custom(sheet) +
    ggplot2::labs(x = NULL, y = NULL, title = "Causal assumptions", subtitle = graph_subtitle(x, adjusted, any(open))) +
    theme_twin() +
    ggplot2::theme(axis.text = ggplot2::element_blank(), panel.grid.major = ggplot2::element_blank())
}

# What a page needs to draw a graph: list(nodes: data frame of name, x, y in 0 to 1 and role; edges: data frame of from,
# to, open, and a list of points, a matrix of x and y each).
graph_sketch <- function(x, adjusted = character()) {
  layout <- spread_layout(core_layered_layout(x$parents))
  edges <- which(x$parents, arr.ind = TRUE)
  names <- rownames(x$parents)
  at <- cbind(layout$layer, layout$place)
  list(nodes = graph_nodes(x, layout, adjusted),
       edges = data.frame(from = names[edges[, 1L]], to = names[edges[, 2L]], open = open_edges(x, adjusted),
                          points = I(lapply(layout$routes, function(route) at[route, , drop = FALSE]))))
}

# Places of every layer spread over the whole height, the widest layer first; a single one stands in the middle.
spread_layout <- function(layout) {
  stretch <- function(v) if (diff(range(v)) == 0) rep(0.5, length(v)) else (v - min(v)) / diff(range(v))
  layout$place <- stretch(layout$place)
  layout$layer <- stretch(layout$layer)
  layout
}

graph_nodes <- function(x, layout, adjusted) {
  names <- rownames(x$parents)
  role <- ifelse(names %in% x$unobserved, "not observed", ifelse(names %in% adjusted, "adjusted for", ""))
  role[names %in% x$exposure] <- "exposure"
  role[names %in% x$outcome] <- "outcome"
  data.frame(name = names, x = layout$layer[seq_along(names)], y = layout$place[seq_along(names)], role = role)
}

# fill, text, border and line of a node's box, by role.
role_looks <- list(
  exposure = c("#0B5F66", "white", "#0B5F66", "solid"), outcome = c("#E3A02B", "black", "black", "solid"),
  "adjusted for" = c("#DCEBEA", "black", "#0B5F66", "solid"), "not observed" = c("grey92", "black", "grey30", "22"),
  plain = c("white", "black", "grey25", "solid")
)

#' @exportS3Method grid::makeContent
makeContent.twin_graph_sheet <- function(x) { # nolint: object_name_linter. An S3 method.
  size <- c(grid::convertWidth(grid::unit(1, "npc"), "in", TRUE), grid::convertHeight(grid::unit(1, "npc"), "in", TRUE))
  font <- fitted_font(x$nodes$name, size, length(unique(x$nodes$x)))
  gp <- grid::gpar(fontsize = font)
  half <- cbind(vapply(x$nodes$name, text_width, 0, gp = gp) / 2 + 0.09, rep(0.7 * font / 72 + 0.03, nrow(x$nodes)))
  # the outermost boxes touch the edges of the sheet
  inner <- function(share, k, room) max(half[, k]) + share * (room - 2 * max(half[, k]))
  at <- cbind(inner(x$layout$layer, 1L, size[1L]), inner(x$layout$place, 2L, size[2L] - 0.2) + 0.2)
  arrows <- Map(function(route, open) arrow_grob(at[route, , drop = FALSE], half[route[c(1L, length(route))], ], open),
                x$layout$routes, x$open)
  boxes <- lapply(seq_len(nrow(x$nodes)), function(i) node_grob(x$nodes[i, ], at[i, ], half[i, ], gp))
  grid::setChildren(x, do.call(grid::gList, c(arrows, boxes)))
}

# As large as lets every layer have its widest name beside the others.
fitted_font <- function(names, size, layers) {
  widest <- max(vapply(names, text_width, 0, gp = grid::gpar(fontsize = 12)))
  max(5, min(12, 12 * (size[1L] / layers - 0.45) / (widest + 0.1)))
}

node_grob <- function(node, at, half, gp) {
  look <- role_looks[[if (nzchar(node$role)) node$role else "plain"]]
  grid::gList(
    grid::roundrectGrob(at[1L], at[2L], 2 * half[1L], 2 * half[2L], "in", r = grid::unit(0.05, "in"), gp = grid::gpar(
      fill = look[1L], col = look[3L], lty = look[4L], lwd = if (nzchar(node$role)) 2 else 1)),
    grid::textGrob(node$name, at[1L], at[2L], default.units = "in", gp = grid::gpar(fontsize = gp$fontsize,
                                                                                   col = look[2L])),
    if (nzchar(node$role)) role_grob(node$role, at[1L], at[2L] - half[2L] - 0.03, 0.85 * gp$fontsize)
  )
}

# A small word below the box, on white so that no arrow runs through it.
role_grob <- function(role, x, y, size) {
  gp <- grid::gpar(fontsize = size, col = "grey30")
  grid::gList(
    grid::rectGrob(x, y, text_width(role, gp) + 0.04, 1.1 * size / 72, vjust = 1, default.units = "in",
                   gp = grid::gpar(fill = "white", col = NA)),
    grid::textGrob(role, x, y, default.units = "in", vjust = 1, gp = gp)
  )
}

# A curve through the route in inches, from the border of the first box to that of the last.
arrow_grob <- function(points, half, open) {
  bend <- nrow(points) == 2L && abs(points[2L, 2L] - points[1L, 2L]) > 0.3
  if (bend) {  # leaves and arrives level
    middle <- mean(points[, 1L])
    points <- rbind(points[1L, ], c(middle, points[1L, 2L]), c(middle, points[2L, 2L]), points[2L, ])
  }
  curve <- grid::xsplinePoints(grid::xsplineGrob(
    points[, 1L], points[, 2L], shape = c(0, rep(1, nrow(points) - 2L), 0), default.units = "in"))
  x <- grid::convertX(curve$x, "in", TRUE)
  y <- grid::convertY(curve$y, "in", TRUE)
  if (length(x) < 60L) {
    along <- seq(1, length(x), length.out = 200L)
    x <- stats::approx(seq_along(x), x, along)$y
    y <- stats::approx(seq_along(y), y, along)$y
  }
  in_box <- function(k, end) abs(x - x[end]) <= half[k, 1L] + 0.02 & abs(y - y[end]) <= half[k, 2L] + 0.02
  outside <- which(!in_box(1L, 1L) & !in_box(2L, length(x)))
  if (length(outside) < 2L) outside <- seq_along(x)
  colour <- if (open) twin_mark else "grey40"
  gp <- grid::gpar(col = colour, fill = colour, lwd = if (open) 3 else 1.2)
  grid::linesGrob(x[outside], y[outside], "in", gp = gp,
                  arrow = grid::arrow(angle = 20, length = grid::unit(if (open) 0.14 else 0.11, "in"), type = "closed"))
}

# For each edge: is it on a back-door path that is open given the adjusted nodes?
open_edges <- function(x, adjusted) {
  edges <- which(x$parents, arr.ind = TRUE)
  if (is.null(x$exposure) || is.null(x$outcome)) return(rep(FALSE, nrow(edges)))
  ends <- match(c(x$exposure, x$outcome), rownames(x$parents))
  cut <- core_back_door_graph(x$parents, ends[1L])
  paths <- core_open_paths(cut, ends[1L], ends[2L], match(adjusted, rownames(x$parents)), most = 50L)
  used <- matrix(FALSE, nrow(x$parents), nrow(x$parents))
  for (path in paths) used[cbind(path[-length(path)], path[-1L])] <- TRUE
  (used | t(used))[edges]
}

graph_subtitle <- function(x, adjusted, open) {
  if (is.null(x$exposure) || is.null(x$outcome)) return("Name exposure and outcome to see open back-door paths.")
  given <- " when nothing is adjusted for"
  if (length(adjusted) > 0L) given <- paste(" when adjusting for", and_list(adjusted))
  if (open) paste0("Thick: back-door paths that stay open", given, ".")
  else paste0("No back-door path is open", given, ".")
}
