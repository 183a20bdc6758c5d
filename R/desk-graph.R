# The causal graph drawn by hand, and the cut of scores: pictures that can be changed.

# A graph as SVG: its nodes are buttons, arrows go from the one pressed first to the one pressed next. graph: NULL where
# there is none; refused: why the last change was not made.
graph_view <- function(plan, graph, refused) {
  tags <- htmltools::tags
  if (is.null(graph)) {
    ready <- length(plan$study$covariates) > 0L && !is_formula_text(plan$study$covariates)
    return(tags$div(
      tags$p(class = "soft", "What causes what? Drawn as a graph, the assumptions say which columns suffice to be",
             "alike in, and what the data should show if they are right."),
      if (length(plan$study$graph) > 0L) tags$p(class = "warning", "The plan's graph can't be read."),
      if (ready) shiny::actionButton("start_graph", "Draw it, from the columns chosen above")
    ))
  }
  tags$div(
    if (length(refused) > 0L) tags$p(class = "warning", role = "alert", refused),
    tags$p(class = "soft", id = "graph-how", "Press a cause, then what it causes: an arrow is put in, or taken out",
           "where it was. Delete takes a node away. Thick arrows are on back-door paths that stay open; \u2713 means",
           "adjusted for."),
    tags$div(class = "graph-sheet", graph_svg(graph, unlist(plan$study$covariates)))
  )
}

graph_form <- function(graph, columns) {
  tags <- htmltools::tags
  nodes <- rownames(graph$parents)
  tags$div(
    class = "row",
    labelled_choice("new_node", "A column", plain_choices(setdiff(columns$name, nodes), "choose")),
    tags$div(class = "field", tags$label(`for` = "new_unobserved", "or something nobody measured"),
             tags$input(id = "new_unobserved", type = "text")),
    shiny::actionButton("add_node", "Add to the graph"),
    labelled_choice("old_node", "A node", plain_choices(setdiff(nodes, c(graph$exposure, graph$outcome)), "choose")),
    shiny::actionButton("drop_node", "Take away"), shiny::actionButton("drop_graph", "Do without a graph")
  )
}

sets_view <- function(sets, covariates) {
  tags <- htmltools::tags
  tags$ul(class = "cards", lapply(seq_along(sets), function(k) {
    set <- sets[[k]]
    taken <- setequal(set, covariates)
    tags$li(class = "card", tags$strong(if (length(set) > 0L) paste(set, collapse = ", ") else "nothing need be"),
            if (taken) tags$p(class = "soft", "These are the columns above.") else if (length(set) > 0L)
              tags$p(tags$button(type = "button", class = "btn", onclick = sprintf(
                "Shiny.setInputValue('take_set', %d, {priority: 'event'})", k), "Take this set",
                tags$span(class = "unseen", paste(set, collapse = ", ")))))
  }))
}

# In a box 900 wide, as high as its fullest layer needs.
graph_svg <- function(graph, adjusted) {
  tags <- htmltools::tags
  observed <- setdiff(rownames(graph$parents), c(graph$exposure, graph$outcome, graph$unobserved))
  sketch <- plan_sketch(graph, intersect(adjusted, observed))
  nodes <- sketch$nodes
  tall <- max(260, 46 * max(table(nodes$x)))
  place <- function(x, y) cbind(80 + 740 * x, 30 + (tall - 70) * (1 - y))
  ends <- spread_ends(sketch$edges, place)
  edges <- lapply(seq_len(nrow(sketch$edges)), function(k) {
    at <- place(sketch$edges$points[[k]][, 1L], sketch$edges$points[[k]][, 2L])
    open <- sketch$edges$open[k]
    tags$path(class = if (open) "edge open" else "edge", d = edge_path(at, ends$from[k], ends$to[k]),
              `marker-end` = if (open) "url(#head-open)" else "url(#head)")
  })
  boxes <- lapply(seq_len(nrow(nodes)), function(k) {
    node_button(nodes$name[k], nodes$role[k], sketch$edges$to[sketch$edges$from == nodes$name[k]],
                place(nodes$x[k], nodes$y[k]))
  })
  head <- function(id, class) {
    tags$marker(id = id, class = class, viewBox = "0 0 8 8", refX = 7, refY = 4, markerWidth = 9, markerHeight = 9,
                markerUnits = "userSpaceOnUse", orient = "auto", tags$path(d = "M0 0L8 4L0 8z"))
  }
  tags$svg(class = "graph", viewBox = sprintf("0 0 900 %.0f", tall), role = "group", `aria-label` = "Causal graph",
           `aria-describedby` = "graph-how", tags$defs(head("head", "head"), head("head-open", "head open")),
           edges, boxes)
}

node_button <- function(name, role, causes, at) {
  tags <- htmltools::tags
  shown <- if (nchar(name) > 18L) paste0(substr(name, 1L, 17L), "\u2026") else name
  adjusted <- role == "adjusted for"
  label <- paste0(name, if (nzchar(role)) paste0(", ", role), if (length(causes) > 0L)
    paste(": causes", paste(causes, collapse = ", ")))
  tags$g(class = paste("node", sub(" .*", "", role)), role = "button", tabindex = "0", `aria-pressed` = "false",
         `data-node` = name, `aria-label` = label, transform = sprintf("translate(%.0f %.0f)", at[1L], at[2L]),
         tags$rect(x = -70, y = -15, width = 140, height = 30, rx = 5),
         tags$text(y = 5, `text-anchor` = "middle", if (adjusted) paste("\u2713", shown) else shown),
         if (nzchar(role) && !adjusted) tags$text(class = "role", y = 28, `text-anchor` = "middle", role))
}

# By how much arrows that share a box are moved apart, at both ends: list(from, to).
spread_ends <- function(edges, place) {
  apart <- function(own, other_end) {
    moved <- numeric(nrow(edges))
    for (name in unique(own)) {
      inside <- which(own == name)
      y <- vapply(inside, function(k) other_end(edges$points[[k]]), 0)
      moved[inside[order(y)]] <- if (length(inside) == 1L) 0 else seq(-10, 10, length.out = length(inside))
    }
    moved
  }
  second <- function(points) place(points[2L, 1L], points[2L, 2L])[2L]
  next_to_last <- function(points) place(points[nrow(points) - 1L, 1L], points[nrow(points) - 1L, 2L])[2L]
  list(from = apart(edges$from, second), to = apart(edges$to, next_to_last))
}

# From the right border of the first box to the left one of the last, through the places between; it leaves and arrives
# level everywhere. at: a matrix of x and y.
edge_path <- function(at, from, to) {
  last <- nrow(at)
  at[1L, ] <- at[1L, ] + c(70, from)
  at[last, ] <- at[last, ] + c(-71, to)
  half <- diff(at[, 1L]) / 2
  here <- at[-last, , drop = FALSE]
  there <- at[-1L, , drop = FALSE]
  curves <- sprintf("C%.0f %.0f %.0f %.0f %.0f %.0f", here[, 1L] + half, here[, 2L], there[, 1L] - half, there[, 2L],
                    there[, 1L], there[, 2L])
  paste0(sprintf("M%.0f %.0f", at[1L, 1L], at[1L, 2L]), paste(curves, collapse = ""))
}

hear_graph <- function(input, output, desk) {
  seen <- desk$seen
  shown <- shiny::reactive(seen$history$plan["study"])
  drawn <- shiny::reactive(tryCatch(graph_of_plan(shown()), twin_error = function(e) NULL))
  output$graph <- shiny::renderUI(if (!is.null(seen$columns)) graph_view(shown(), drawn(), seen$refused))
  output$graph_form <- shiny::renderUI(if (!is.null(drawn())) graph_form(drawn(), seen$columns))
  output$graph_sets <- shiny::renderUI({
    sets <- seen$answers$assumptions$value$sets
    if (!is.null(drawn()) && length(sets) > 0L) sets_view(sets, unlist(shown()$study$covariates))
  })
  try_change <- function(change) {
    told <- tryCatch({
      change_desk(desk, change(seen$history$plan))
      NULL
    }, twin_error = failed_sentence)
    seen$refused <- told
  }
  shiny::observeEvent(input$start_graph, try_change(start_graph))
  shiny::observeEvent(input$arrow, {
    nodes <- rownames(graph_of_plan(seen$history$plan)$parents)
    if (all(c(input$arrow$from, input$arrow$to) %in% nodes)) {
      try_change(function(plan) toggle_arrow(plan, input$arrow$from, input$arrow$to))
    }
  })
  shiny::observeEvent(input$add_node, {
    hidden <- trimws(input$new_unobserved)
    name <- if (isTRUE(nzchar(hidden))) hidden else input$new_node
    if (isTRUE(nzchar(name))) try_change(function(plan) add_node(plan, name, !isTRUE(nzchar(hidden))))
  })
  take_away <- function(name) {
    graph <- graph_of_plan(seen$history$plan)
    if (isTRUE(name %in% setdiff(rownames(graph$parents), c(graph$exposure, graph$outcome)))) {
      try_change(function(plan) drop_node(plan, name))
    }
  }
  shiny::observeEvent(input$drop_node, take_away(input$old_node))
  shiny::observeEvent(input$delete_node, take_away(input$delete_node))
  shiny::observeEvent(input$drop_graph, try_change(function(plan) set_question(plan, list(graph = ""))))
  shiny::observeEvent(input$take_set, {
    sets <- seen$answers$assumptions$value$sets
    if (isTRUE(input$take_set %in% seq_along(sets))) {
      try_change(function(plan) take_set(plan, sets[[input$take_set]]))
    }
  })
}

# Which scores are kept, moved by two sliders below a picture of both arms. cuts: scores_in_hundredths().
# at: the range that is kept now.
cut_view <- function(cuts, at) {
  tags <- htmltools::tags
  if (is.null(cuts)) return(NULL)
  tallest <- max(1, unlist(cuts))
  bars <- function(counts, class, up) {
    height <- 55 * counts / tallest
    Map(function(h, k) {
      tags$rect(class = class, x = 8 * k, width = 7, height = round(h, 1), y = if (up) round(60 - h, 1) else 60)
    }, height, seq_along(counts) - 1)
  }
  slider <- function(id, label, value) {
    tags$div(tags$label(`for` = id, label),
             tags$input(id = id, type = "range", class = "cut", min = 0, max = 1, step = 0.01, value = value))
  }
  tags$details(
    id = "cut-box", class = "form", tags$summary("Leave out scores without a counterpart"),
    tags$div(
      class = "cutter", `data-treated` = paste(cuts$treated, collapse = ","),
      `data-control` = paste(cuts$control, collapse = ","),
      tags$svg(viewBox = "0 0 800 120", preserveAspectRatio = "none", `aria-hidden` = "true",
               unname(bars(cuts$treated, "treated", TRUE)), unname(bars(cuts$control, "control", FALSE)),
               tags$rect(class = "shade low", x = 0, y = 0, height = 120, width = 0),
               tags$rect(class = "shade high", x = 800, y = 0, height = 120, width = 0)),
      tags$p(class = "soft", "Treated upwards, control downwards, by score from 0 to 1."),
      slider("cut_low", "Lowest score that is kept", at[1L]), slider("cut_high", "Highest score that is kept", at[2L]),
      tags$p(class = "cut-words", `aria-live` = "polite"),
      tags$button(type = "button", class = "btn", id = "cut_here", "Keep these in every design with a score")
    )
  )
}

# The range that the designs keep now, 0 to 1 where none is set.
cut_of <- function(designs) {
  steps <- unlist(unname(designs), recursive = FALSE)
  ranges <- Filter(function(step) is.list(step) && identical(step$trim$rule, "range"), steps)
  if (length(ranges) == 0L) c(0, 1) else as.numeric(unlist(ranges[[1L]]$trim$bounds))
}
