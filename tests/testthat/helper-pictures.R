# Where the texts of a picture are, measured by grid on a device of the given size in inches: one row per text with its
# edges from the lower left corner. Rotated texts have their boxes turned.
text_boxes <- function(plot, width = 8, height = 5) {
  file <- withr::local_tempfile(fileext = ".png")
  ragg::agg_png(file, width = width, height = height, units = "in", res = 100)
  on.exit(grDevices::dev.off())
  grid::grid.newpage()
  boxes <- boxes_in(grid::forceGrob(ggplot2::ggplotGrob(plot)))
  boxes <- do.call(rbind, boxes)
  boxes[nzchar(trimws(boxes$text)), ]
}

vp_depth <- function() {
  path <- grid::current.vpPath()
  if (is.null(path)) 0L else path$n
}

boxes_in <- function(grob) {
  before <- vp_depth()
  on.exit(if (vp_depth() > before) grid::upViewport(vp_depth() - before))
  if (inherits(grob$vp, "vpPath")) grid::downViewport(grob$vp) else if (!is.null(grob$vp)) grid::pushViewport(grob$vp)
  if (inherits(grob, "text")) return(list(boxes_of_text(grob)))
  if (!is.null(grob$childrenvp)) {
    inside <- vp_depth()
    grid::pushViewport(grob$childrenvp)
    grid::upViewport(vp_depth() - inside)
  }
  unlist(lapply(grob$children, boxes_in), recursive = FALSE)
}

boxes_of_text <- function(grob) {
  label <- as.character(grob$label)
  if (length(label) == 0L) return(NULL)
  x <- rep_len(grid::convertX(grob$x, "in", valueOnly = TRUE), length(label))
  y <- rep_len(grid::convertY(grob$y, "in", valueOnly = TRUE), length(label))
  hjust <- rep_len(grid::resolveHJust(grob$just, grob$hjust), length(label))
  vjust <- rep_len(grid::resolveVJust(grob$just, grob$vjust), length(label))
  rot <- rep_len(grob$rot, length(label))
  to_device <- grid::current.transform()
  boxes <- do.call(rbind, lapply(seq_along(label), function(i) {
    gp <- grob$gp
    gp[] <- lapply(gp, function(field) if (length(field) == length(label)) field[i] else field)
    alone <- grid::textGrob(label[i], gp = gp)
    w <- grid::convertWidth(grid::grobWidth(alone), "in", valueOnly = TRUE)
    h <- grid::convertHeight(grid::grobHeight(alone), "in", valueOnly = TRUE)
    corners <- cbind(c(0, 0, w, w) - hjust[i] * w, c(0, h, 0, h) - vjust[i] * h)
    turn <- rot[i] * pi / 180
    corners <- corners %*% matrix(c(cos(turn), -sin(turn), sin(turn), cos(turn)), 2L)
    place <- cbind(corners[, 1L] + x[i], corners[, 2L] + y[i], 1) %*% to_device
    data.frame(text = label[i], left = min(place[, 1L]), right = max(place[, 1L]), low = min(place[, 2L]),
               high = max(place[, 2L]))
  }))
  if (isTRUE(grob$check.overlap)) drawn_boxes(boxes) else boxes
}

# Texts that give way to those before them are not drawn.
drawn_boxes <- function(boxes) {
  keep <- 1L
  for (i in seq_len(nrow(boxes))[-1L]) if (!any(covers(boxes[i, ], boxes[keep, ], 0))) keep <- c(keep, i)
  boxes[keep, ]
}

covers <- function(one, others, hair) {
  pmin(one$right, others$right) - pmax(one$left, others$left) > hair &
    pmin(one$high, others$high) - pmax(one$low, others$low) > hair
}

# What is wrong with the texts of a picture: those beyond its edges, and pairs that cover each other by more than a
# hair's breadth.
text_faults <- function(plot, width = 8, height = 5, hair = 0.03) {
  boxes <- text_boxes(plot, width, height)
  out <- boxes$left < -hair | boxes$right > width + hair | boxes$low < -hair | boxes$high > height + hair
  faults <- sprintf("\"%s\" leaves the picture", boxes$text[out])
  for (i in seq_len(nrow(boxes) - 1L)) {
    other <- boxes[-seq_len(i), ]
    faults <- c(faults, sprintf("\"%s\" covers \"%s\"", boxes$text[i], other$text[covers(boxes[i, ], other, hair)]))
  }
  gsub("\n", " ", faults)
}

# Boxes and arrows of a causal graph as they are drawn on a sheet of that size in inches.
drawn_graph <- function(plot, width = 8, height = 5) {
  file <- withr::local_tempfile(fileext = ".png")
  ragg::agg_png(file, width = width, height = height, units = "in", res = 100)
  on.exit(grDevices::dev.off())
  grid::grid.newpage()
  parts <- grid::makeContent(plot$layers[[2L]]$geom_params$grob)$children
  list(boxes = unname(Filter(function(part) inherits(part, "roundrect"), parts)),
       arrows = unname(Filter(function(part) inherits(part, "lines"), parts)))
}
