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
#' Causes stand left of their effects. Shapes and line types tell exposure, outcome, adjusted and unobserved nodes
#' apart, so that colour is not needed; arrows on back-door paths that stay open are drawn thick.
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
  layout <- core_layered_layout(x$parents)
  nodes <- graph_nodes(x, layout, adjusted)
  arrows <- graph_arrows(x, layout, adjusted)
  head <- function(size) ggplot2::arrow(length = ggplot2::unit(size, "mm"), type = "closed", angle = 22)
  ggplot2::ggplot(nodes, ggplot2::aes(x = .data$x, y = .data$y)) +
    ggplot2::geom_path(data = arrows[!arrows$open, ], ggplot2::aes(group = .data$edge), colour = "grey45",
                       linewidth = 0.5, arrow = head(2.8)) +
    ggplot2::geom_path(data = arrows[arrows$open, ], ggplot2::aes(group = .data$edge), colour = twin_mark,
                       linewidth = 1.3, arrow = head(3.6)) +
    ggplot2::geom_point(ggplot2::aes(shape = .data$role, fill = .data$role), size = 9, stroke = 1, colour = "grey15") +
    ggplot2::geom_label(ggplot2::aes(label = .data$name), size = 3.9, label.size = 0, fill = "white", alpha = 0.85,
                        vjust = 1.85, label.padding = ggplot2::unit(0.12, "lines")) +
    ggplot2::scale_shape_manual(values = role_shapes, drop = TRUE, name = NULL) +
    ggplot2::scale_fill_manual(values = role_fills, drop = TRUE, name = NULL) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(add = 0.45)) +
    ggplot2::scale_y_continuous(expand = ggplot2::expansion(mult = 0.12)) +
    ggplot2::labs(title = "Causal assumptions", subtitle = graph_subtitle(x, adjusted, arrows)) +
    theme_twin() +
    ggplot2::theme(axis.text = ggplot2::element_blank(), axis.title = ggplot2::element_blank(),
                   panel.grid.major = ggplot2::element_blank())
}

role_shapes <- c(exposure = 22, outcome = 23, adjusted = 24, observed = 21, unobserved = 13)
role_fills <- c(exposure = "#0B5F66", outcome = "#E3A02B", adjusted = "#DCEBEA", observed = "white",
                unobserved = "grey80")

graph_nodes <- function(x, layout, adjusted) {
  names <- rownames(x$parents)
  role <- ifelse(names %in% x$unobserved, "unobserved", ifelse(names %in% adjusted, "adjusted", "observed"))
  role[names %in% x$exposure] <- "exposure"
  role[names %in% x$outcome] <- "outcome"
  data.frame(name = names, x = layout$layer[seq_along(names)], y = layout$place[seq_along(names)],
             role = factor(role, levels = names(role_shapes)[names(role_shapes) %in% role]))
}

# The points of every arrow, its ends a little short of the nodes; `open` marks arrows of back-door paths that stay
# open given the adjusted nodes.
graph_arrows <- function(x, layout, adjusted) {
  open <- open_edges(x, adjusted)
  # a step up is as long on the page as this many steps to the right
  shape <- c(1, max(1, diff(range(layout$place))) / max(1, diff(range(layout$layer))) * 2)
  rows <- lapply(seq_along(layout$routes), function(k) {
    at <- cbind(layout$layer, layout$place)[layout$routes[[k]], ]
    last <- nrow(at)
    towards <- function(from, to) from + (to - from) * min(0.4, 0.14 / sqrt(sum(((to - from) / shape)^2)))
    start <- towards(at[1L, ], at[2L, ])
    at[last, ] <- towards(at[last, ], at[last - 1L, ])
    at[1L, ] <- start
    data.frame(edge = k, x = at[, 1L], y = at[, 2L], open = open[k])
  })
  do.call(rbind, rows)
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

graph_subtitle <- function(x, adjusted, arrows) {
  if (is.null(x$exposure) || is.null(x$outcome)) return("Name exposure and outcome to see open back-door paths.")
  given <- " when nothing is adjusted for"
  if (length(adjusted) > 0L) given <- paste(" when adjusting for", and_list(adjusted))
  if (any(arrows$open)) paste0("Thick: back-door paths that stay open", given, ".")
  else paste0("No back-door path is open", given, ".")
}
