#' Pictures of a design
#'
#' @param x A `twin_design`.
#' @param view `"score"`: the scores by arm; on pairs and sets every unit, matched ones told apart from those left out,
#'   otherwise the overlap. `"distances"`: how far apart the units of a pair are. `"pairs"`: lines between the units of
#'   each pair, for up to 500 pairs, or over two covariates named in `axes`. By default `"score"`; on pairs without a
#'   score `"distances"`. `"search"`: what [search_metric()] reached, generation by generation; the default after it.
#' @param axes For `"pairs"`: names of two numeric covariates; by default the score alone.
#' @param ... Must be empty.
#' @return A ggplot.
#' @section Errors: `twin_error_input` for a view the design does not have.
#' @family design
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size, subset = ~ port_size == "large")
#' design <- study |> score_units() |> pair_units()
#' plot(design)
#' plot(design, view = "pairs")
#' @export
plot.twin_design <- function(x, view = NULL, axes = NULL, ...) {
  rlang::check_dots_empty()
  if (is.null(view)) {
    view <- if (x$kind == "raw" && !is.null(x$metric)) "search" else
      if (has_pairs(x) && is.null(x$score)) "distances" else "score"
  }
  view <- check_choice(view, c("score", "distances", "pairs", "search"))
  if (view != "pairs" && !is.null(axes)) abort_input("{.arg axes} belongs to {.code view = \"pairs\"}.")
  if (view == "search") return(plot_search(x))
  if (view == "score") check_score(x, "plot")
  if (!has_pairs(x)) {
    if (view == "score") return(plot(assess_overlap(x)))
    abort_input(c("The design has no pairs to draw.", i = "Make them with {.fn pair_units} or {.fn group_units}."))
  }
  switch(view, score = plot_matched_scores(x), distances = plot_pair_distances(x), pairs = plot_pair_lines(x, axes))
}

plot_search <- function(x) {
  metric <- x$metric
  if (is.null(metric)) abort_input(c("The design has no metric that was searched.", i = "See {.fn search_metric}."))
  history <- metric$history
  history$best <- shown_goal(cummin(history$best), metric$goal)
  ggplot2::ggplot(history, ggplot2::aes(x = .data$generation, y = .data$best)) +
    ggplot2::geom_hline(yintercept = shown_goal(metric$plain, metric$goal), linetype = "22", colour = twin_mark) +
    ggplot2::geom_step(colour = twin_colours[["treated"]], linewidth = 0.8) +
    ggplot2::geom_point(colour = twin_colours[["treated"]], size = 2) +
    ggplot2::labs(x = "generation", y = goal_words[[metric$goal]], title = "The best metric so far",
                  subtitle = "Dashed: all covariates weighing the same.") +
    twin_look()
}

matched_words <- c("matched", "left out")

# Every unit a point, by arm; a sample of 4,000 where there are more, so that points stay points.
plot_matched_scores <- function(x, most = 4000L) {
  study <- x$study
  before <- x$before_pairs
  rows <- which(before)
  if (length(rows) > most) rows <- rows[unique(round(seq(1, length(rows), length.out = most)))]
  weight <- x$weight[rows]
  labels <- arm_names(study)
  data <- data.frame(
    score = x$score$fitted[rows], arm = factor(labels[2L - study$z[rows]], rev(labels)),
    place = 2 - (1 - study$z[rows]) + jitter_of(length(rows)), treated = study$z[rows] == 1L,
    state = factor(matched_words[2L - (weight > 0)], matched_words),
    size = ifelse(weight > 0, sqrt(pmin(weight, 25)), 1)
  )
  counts <- vapply(1:0, function(arm) sum(before & study$z == arm & x$weight > 0), 0L)
  ggplot2::ggplot(data, ggplot2::aes(x = .data$score, y = .data$place)) +
    ggplot2::geom_point(ggplot2::aes(colour = .data$treated, shape = .data$state, size = .data$size,
                                     alpha = .data$state)) +
    ggplot2::scale_alpha_manual(values = stats::setNames(c(0.75, 0.35), matched_words), guide = "none") +
    ggplot2::scale_colour_manual(values = c("TRUE" = twin_colours[["treated"]], "FALSE" = "#B87300"), guide = "none") +
    ggplot2::scale_shape_manual(values = stats::setNames(c(16, 4), matched_words), name = NULL) +
    ggplot2::scale_size_identity() +
    ggplot2::scale_y_continuous(breaks = c(2, 1), labels = sprintf(
      "%s\n%s of %s matched", labels, count_text(counts),
      count_text(vapply(1:0, function(arm) sum(before & study$z == arm), 0L))
    ), limits = c(0.5, 2.5)) +
    ggplot2::labs(title = paste("Who is matched:", design_label(x)), x = "propensity score",
                  y = NULL,
                  caption = paste0(if (sum(before) > most) sprintf("%s of %s units drawn. ", count_text(length(rows)),
                                                                   count_text(sum(before))),
                                   if (diff(range(weight[weight > 0])) > 0) "Larger points weigh more.")) +
    twin_look() +
    ggplot2::theme(panel.grid.major.y = ggplot2::element_blank())
}

arm_names <- function(study) {
  sprintf("%s \"%s\"", c("treated", "control"), c(study$levels[["treated"]], study$levels[["control"]]))
}

# Even spread without random numbers: the same picture every time.
jitter_of <- function(n) 0.8 * ((seq_len(n) * 0.6180339887) %% 1 - 0.5)

plot_pair_distances <- function(x) {
  data <- data.frame(distance = x$pairs$distance)
  at <- stats::quantile(data$distance, c(0.5, 0.9), names = FALSE)
  marks <- data.frame(x = at, label = c("median", "90%"), line = c(1.5, 3.2))
  ggplot2::ggplot(data, ggplot2::aes(x = .data$distance)) +
    ggplot2::geom_histogram(bins = 40L, boundary = 0, fill = twin_colours[["treated"]], colour = "white",
                            linewidth = 0.2) +
    ggplot2::geom_vline(data = marks, ggplot2::aes(xintercept = .data$x), colour = twin_mark, linetype = "42") +
    ggplot2::geom_text(data = marks, ggplot2::aes(x = .data$x, y = Inf, label = .data$label, vjust = .data$line),
                       colour = twin_mark, hjust = -0.1, size = 3.6) +
    ggplot2::labs(title = paste("Distances within pairs:", design_label(x)),
                  x = sprintf("distance on the %s", distance_text(x)), y = "pairs",
                  caption = sprintf("%s pairs; largest distance %s, total %s.", count_text(nrow(data)),
                                    number_text(max(data$distance)), number_text(sum(data$distance)))) +
    twin_look()
}

plot_pair_lines <- function(x, axes, most = 500L) {
  if (nrow(x$pairs) > most) {
    abort_input(c("Lines between pairs are for small data.",
                  x = "There are {nrow(x$pairs)} pairs, more than {most}.",
                  i = "Use {.code view = \"distances\"}."))
  }
  space <- line_axes(x, axes)
  pairs <- x$pairs
  lines <- data.frame(x = space$x[pairs$treated], y = space$y[pairs$treated], xend = space$x[pairs$control],
                      yend = space$y[pairs$control])
  rows <- which(x$before_pairs)
  labels <- arm_names(x$study)
  points <- data.frame(x = space$x[rows], y = space$y[rows],
                       arm = factor(labels[2L - x$study$z[rows]], labels),
                       state = factor(matched_words[2L - (x$weight[rows] > 0)], matched_words))
  plot <- ggplot2::ggplot(points, ggplot2::aes(x = .data$x, y = .data$y)) +
    ggplot2::geom_segment(data = lines, ggplot2::aes(xend = .data$xend, yend = .data$yend), colour = "grey55",
                          linewidth = 0.3) +
    ggplot2::geom_point(ggplot2::aes(colour = .data$arm, shape = .data$state, alpha = .data$state), size = 2) +
    ggplot2::scale_alpha_manual(values = stats::setNames(c(0.9, 0.3), matched_words), guide = "none") +
    ggplot2::scale_colour_manual(values = stats::setNames(c(twin_colours[["treated"]], "#B87300"), labels),
                                 name = NULL) +
    ggplot2::scale_shape_manual(values = stats::setNames(c(16, 4), matched_words), name = NULL) +
    ggplot2::labs(title = paste("Who goes with whom:", design_label(x)), x = space$x_label,
                  y = space$y_label) +
    twin_look()
  if (!is.null(axes)) return(plot)
  plot + ggplot2::scale_y_continuous(breaks = c(2, 1), labels = labels, limits = c(0.8, 2.2)) +
    ggplot2::theme(panel.grid.major.y = ggplot2::element_blank())
}

line_axes <- function(x, axes, call = rlang::caller_env(2)) {
  study <- x$study
  if (is.null(axes)) {
    check_score(x, "plot", call)
    return(list(x = x$score$linear, y = 1 + study$z, x_label = "linear score", y_label = NULL))
  }
  numeric <- names(study$columns)[vapply(study$columns, function(column) column$kind %in% c("numeric", "date"), NA)]
  if (!is.character(axes) || length(axes) != 2L || !all(axes %in% numeric)) {
    abort_input(c("{.arg axes} must name two numeric covariates.", x = "The study has {.val {numeric}}."), call = call)
  }
  list(x = study$columns[[axes[1L]]]$values, y = study$columns[[axes[2L]]]$values,
       x_label = study$columns[[axes[1L]]]$label, y_label = study$columns[[axes[2L]]]$label)
}
