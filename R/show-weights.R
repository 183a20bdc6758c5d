#' @export
format.twin_weights <- function(x, ...) {
  last <- x$rows[x$rows$sample == names(x$weights)[length(x$weights)], ]
  c(
    wrap_lines(paste("Weights:", x$design)),
    table_lines(fit_table(weight_table(x), spare = "Median")),
    "",
    wrap_lines(weight_sentence(x, last)),
    "Heaviest units:",
    table_lines(heavy_table(x$heaviest))
  )
}

#' @export
print.twin_weights <- function(x, ...) print_lines(x, format(x, ...))

weight_table <- function(x, number = column_text) {
  rows <- x$rows
  data.frame(
    Arm = paste(rows$arm, rows$sample), Units = count_text(rows$units), Effective = count_text(round(rows$ess)),
    `Design effect` = number(rows$design_effect), Median = number(rows$median), Greatest = number(rows$greatest),
    `Top 1%` = share_text(rows$top_share, number),
    Largest = share_text(rows$largest_share, number), check.names = FALSE
  )
}

weight_sentence <- function(x, last) {
  worst <- last[which.max(last$design_effect), ]
  paste0(
    "Greatest is relative to the arm's mean weight; the last two columns are shares of the arm's weight. ",
    sprintf("Weighting costs most among the %s units: %s count like %s alike (design effect %s).", worst$arm,
            count_text(worst$units), count_text(round(worst$ess)), number_text(worst$design_effect)),
    if (any(last$largest_share > 0.1)) {
      " One unit holds more than a tenth of its arm's weight: trim, truncate, or choose another estimand."
    },
    bins_sentence(x)
  )
}

heavy_table <- function(heaviest) {
  out <- data.frame(Arm = heaviest$arm)
  if (!is.null(heaviest$row)) out$row <- count_text(heaviest$row)
  if (!is.null(heaviest$unit)) out$unit <- as.character(heaviest$unit)
  out$weight <- number_text(heaviest$weight)
  out$share <- share_text(heaviest$share)
  if (!is.null(heaviest$score)) out$score <- number_text(heaviest$score)
  out
}

#' Plot the weights of a design
#'
#' @param x A `twin_weights`.
#' @param view `"histogram"` (default): how the weights of each arm spread, relative to the arm's mean, on a log scale;
#'   `"concentration"`: the share of the arm's weight held by its heaviest units.
#' @param ... Must be empty.
#' @return A ggplot.
#' @family judging
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income", estimand = "ATE",
#'                      covariates = ~ boat_length + crew_size + past_income)
#' plot(assess_weights(weigh_units(score_units(study))), view = "concentration")
#' @export
plot.twin_weights <- function(x, view = c("histogram", "concentration"), ...) {
  rlang::check_dots_empty()
  view <- check_choice(view, c("histogram", "concentration"))
  if (view == "histogram") plot_weight_histogram(x) else plot_concentration(x)
}

# The weights after the design, in falling order within each arm: data frame of arm, weight and count.
arm_weights <- function(x) {
  last <- length(x$weights)
  v <- x$weights[[last]]
  all <- if (!is.null(x$spread)) x$spread[[last]] else
    data.frame(arm = ifelse(x$z == 1L, "treated", "control"), weight = v, count = 1)[v > 0, ]
  all[order(all$arm != "treated", -all$weight), c("arm", "weight", "count")]
}

plot_weight_histogram <- function(x) {
  data <- do.call(rbind, lapply(split(arm_weights(x), ~ factor(arm, c("treated", "control"))), function(own) {
    data.frame(arm = own$arm, relative = own$weight * sum(own$count) / sum(own$weight * own$count), count = own$count)
  }))
  labels <- weight_panel_labels(x)
  data$arm <- factor(labels[data$arm], levels = labels)
  ggplot2::ggplot(data, ggplot2::aes(x = .data$relative, fill = .data$arm, weight = .data$count)) +
    ggplot2::geom_histogram(bins = 50, colour = "white", linewidth = 0.2, show.legend = FALSE) +
    ggplot2::geom_vline(xintercept = 1, colour = "grey30", linewidth = 0.4) +
    ggplot2::geom_vline(data = stats::aggregate(relative ~ arm, data, max), linetype = "22", colour = twin_mark,
                        ggplot2::aes(xintercept = .data$relative)) +
    ggplot2::facet_wrap(~ arm, ncol = 1, scales = "free_y", labeller = ggplot2::label_wrap_gen(50L)) +
    ggplot2::scale_x_continuous(trans = "log10", labels = function(at) format(at, drop0trailing = TRUE, trim = TRUE)) +
    ggplot2::scale_fill_manual(values = stats::setNames(twin_colours[c("treated", "control")], labels)) +
    ggplot2::labs(title = "How the weights spread", y = "units", x = "weight relative to the arm's mean (log scale)",
                  subtitle = paste0(x$design, ". Line: the mean. Dashed: the heaviest unit.")) +
    twin_look()
}

weight_panel_labels <- function(x) {
  last <- x$rows[x$rows$sample == names(x$weights)[length(x$weights)], ]
  stats::setNames(sprintf("%s (%s): %s units count like %s; the heaviest weighs %s times the mean", last$arm,
                          x$levels[last$arm], count_text(last$units), count_text(round(last$ess)),
                          number_text(last$greatest)), last$arm)
}

plot_concentration <- function(x) {
  data <- do.call(rbind, lapply(split(arm_weights(x), ~ factor(arm, c("treated", "control"))), function(own) {
    places <- unique(round(seq(1, nrow(own), length.out = min(nrow(own), 1000L))))
    held <- cumsum(own$weight * own$count)
    data.frame(arm = own$arm[1L], units = c(0, cumsum(own$count)[places] / sum(own$count)),
               held = c(0, held[places] / held[nrow(own)]))
  }))
  ggplot2::ggplot(data, ggplot2::aes(x = .data$units, y = .data$held, colour = .data$arm, linetype = .data$arm)) +
    ggplot2::annotate("segment", x = 0, y = 0, xend = 1, yend = 1, colour = "grey60", linewidth = 0.4) +
    ggplot2::geom_line(linewidth = 1) +
    arm_scales(x) +
    ggplot2::scale_x_continuous(labels = share_text) +
    ggplot2::scale_y_continuous(labels = share_text) +
    ggplot2::labs(title = "Who holds the weight", x = "heaviest units of the arm",
                  subtitle = paste0(x$design, ". Grey: all units weigh the same."),
                  y = "share of the arm's weight") +
    twin_look()
}

#' @export
format.twin_calibration <- function(x, ...) {
  c(
    sprintf("Calibration of the score: %s", x$score) |> wrap_lines(),
    table_lines(calibration_table(x)),
    "",
    wrap_lines(calibration_sentence(x)),
    wrap_lines(auc_sentence(x$auc)),
    wrap_lines(since_sentence(x))
  )
}

# Calibration is about the units the score was fitted to, not those a design has kept.
since_sentence <- function(x) {
  if (x$since == 0L) return(NULL)
  sprintf("All of it is about the %s the score was fitted to; the design has left out %s since.",
          plural(x$units, "unit"), count_text(x$since))
}

#' @export
print.twin_calibration <- function(x, ...) print_lines(x, format(x, ...))

calibration_table <- function(x, number = three_decimals) {
  rows <- x$rows
  data.frame(Scores = score_range_text(rows$low, rows$high), Units = count_text(rows$units),
             `mean score` = number(rows$mean_score), `share treated` = number(rows$share_treated),
             `95% interval` = score_range_text(rows$conf.low, rows$conf.high), check.names = FALSE)
}

three_decimals <- function(x) number_text(x, 3)

calibration_sentence <- function(x) {
  off <- sum(x$rows$mean_score < x$rows$conf.low | x$rows$mean_score > x$rows$conf.high)
  paste0(
    sprintf("In %d of %d groups the mean score lies outside the interval of the share treated. ", off, nrow(x$rows)),
    if (!anyNA(x$line)) sprintf("A logit of treatment on the linear score has intercept %s and slope %s (0 and 1 when
      calibrated). ", number_text(x$line[1L]), number_text(x$line[2L])),
    sprintf("Log-loss %s.", number_text(x$loss, 4)), bins_sentence(x)
  )
}

# A caution, not a praise.
auc_sentence <- function(auc) {
  sprintf(paste("AUC %s. A high AUC is no merit of a score: it says that the arms are easy to tell apart, so that",
                "overlap is poor. Judge a score by the balance it reaches; see compare_scores()."), number_text(auc))
}

#' @export
plot.twin_calibration <- function(x, ...) {
  rlang::check_dots_empty()
  top <- max(x$rows$conf.high, x$rows$mean_score)
  ggplot2::ggplot(x$rows, ggplot2::aes(x = .data$mean_score, y = .data$share_treated)) +
    ggplot2::geom_abline(slope = 1, colour = "grey45", linewidth = 0.4) +
    ggplot2::geom_linerange(ggplot2::aes(ymin = .data$conf.low, ymax = .data$conf.high),
                            colour = twin_colours[["treated"]], linewidth = 0.8) +
    ggplot2::geom_point(shape = 21, size = 3, fill = twin_colours[["treated"]], colour = twin_colours[["treated"]]) +
    ggplot2::coord_cartesian(xlim = c(0, top), ylim = c(0, top)) +
    ggplot2::labs(title = "Calibration of the score", x = "mean score of the group", y = "share treated",
                  subtitle = paste0("Groups of equal size, 95% intervals; line: perfect. AUC ", number_text(x$auc),
                                    " (high means poor overlap).")) +
    twin_look()
}

#' @export
format.twin_scores <- function(x, ...) {
  rows <- x$rows
  failed <- rows[!is.na(rows$problem), ]
  c(
    wrap_lines(scores_title(x)),
    table_lines(fit_table(scores_table(x), spare = c("largest", "eff. control", "AUC"))),
    "",
    wrap_lines(scores_note(x)),
    if (nrow(failed) > 0L) wrap_lines(paste0("No design with ", failed$score, ": ", failed$problem))
  )
}

#' @export
print.twin_scores <- function(x, ...) print_lines(x, format(x, ...))

scores_table <- function(x, number = three_decimals) {
  rows <- x$rows
  table <- data.frame(
    Score = rows$score, weight = number(rows$weight), `log-loss` = number_text(rows$loss, 4),
    AUC = number(rows$auc), passing = ifelse(is.na(rows$passing), "-", paste(rows$passing, "of", rows$rows)),
    `worst |SMD|` = number(rows$worst_smd), `mean |SMD|` = number(rows$mean_smd),
    `eff. control` = ifelse(is.na(rows$ess_control), "-", count_text(round(rows$ess_control))),
    largest = ifelse(is.na(rows$largest_share), "-", share_text(rows$largest_share, number)), check.names = FALSE
  )
  if (all(is.na(rows$weight))) table$weight <- NULL
  table
}

scores_title <- function(x) sprintf("Scores by the balance of the %s they make (%s)", x$kind, x$estimand)

scores_note <- function(x) {
  sprintf(paste("A row passes when |SMD| is at most %s and the variance ratio lies in %s to %s. The first score",
                "reaches the best balance; log-loss and AUC say how well a score predicts, which is not the goal."),
          format(x$limits$smd), format(x$limits$ratio[1L]), format(x$limits$ratio[2L]))
}

#' @export
plot.twin_scores <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows[is.na(x$rows$problem), ]
  rows$label <- sprintf("%s\nlog-loss %s", rows$score, number_text(rows$loss, 3))
  rows$label <- factor(rows$label, levels = rev(rows$label))
  points <- data.frame(label = rows$label, size = c(rows$worst_smd, rows$mean_smd),
                       what = rep(c("worst |SMD|", "mean |SMD|"), each = nrow(rows)))
  ggplot2::ggplot(points, ggplot2::aes(x = .data$size, y = .data$label)) +
    ggplot2::annotate("rect", xmin = 0, xmax = x$limits$smd, ymin = -Inf, ymax = Inf, fill = "#DCEBEA") +
    ggplot2::geom_vline(xintercept = x$limits$smd, colour = twin_colours[["treated"]], linewidth = 0.4) +
    ggplot2::geom_segment(data = rows, colour = "grey65", linewidth = 0.5, ggplot2::aes(
      x = .data$mean_smd, xend = .data$worst_smd, y = .data$label, yend = .data$label)) +
    ggplot2::geom_point(ggplot2::aes(fill = .data$what), shape = 21, size = 3.2, stroke = 0.9,
                        colour = twin_colours[["treated"]]) +
    ggplot2::scale_fill_manual(values = c("worst |SMD|" = twin_colours[["treated"]], "mean |SMD|" = "white"),
                               name = NULL) +
    ggplot2::scale_x_continuous(limits = c(0, NA), expand = ggplot2::expansion(c(0.02, 0.05))) +
    ggplot2::labs(title = sprintf("Scores by the balance of the %s they make", x$kind), y = NULL,
                  x = "absolute standardized mean difference after the design",
                  subtitle = paste0("Best balance on top. The band is the limit of ", format(x$limits$smd), ".")) +
    twin_look()
}
