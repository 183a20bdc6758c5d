#' @export
format.twin_balance <- function(x, ...) {
  s <- summary(x)
  c(
    sprintf("Balance: %s (%s)", x$design, x$estimand),
    wrap_lines(verdict_text(x, s), 2L),
    "",
    table_lines(balance_table(x)),
    "",
    wrap_lines(balance_note(x))
  )
}

#' @export
print.twin_balance <- function(x, ...) print_lines(x, format(x, ...))

verdict_text <- function(x, s = summary(x)) {
  paste0(
    sprintf("%d of %d rows pass; the worst is %s with |SMD| %s. ", s$passing, s$rows, s$worst_covariate,
            number_text(s$worst_smd)),
    if (s$undefined > 0L) sprintf("%d rows have no reference sd and do not count as passing. ", s$undefined),
    sprintf("Effective sample: %s treated, %s control. Joint imbalance %s.", count_text(round(s$ess_treated)),
            count_text(round(s$ess_control)), number_text(s$mahalanobis))
  )
}

# One row per covariate or level; the sample before and, when there is one, after.
balance_table <- function(x, width = 23L) {
  before <- x$rows[x$rows$sample == "before", ]
  after <- x$rows[x$rows$sample == "after", ]
  last <- if (nrow(after) > 0L) after else before
  table <- data.frame(
    Covariate = shorten(row_name(last$covariate, last$level), width),
    Treated = value_text(last$mean_treated, last$kind), Control = value_text(last$mean_control, last$kind),
    was = number_text(before$smd)
  )
  if (nrow(after) > 0L) table$now <- number_text(after$smd)
  table$ratio <- number_text(last$variance_ratio)
  table$KS <- number_text(last$ks)
  table$pass <- ifelse(is.na(last$pass), "n/a", ifelse(last$pass, "yes", "NO"))
  names(table)[names(table) == "was"] <- if (nrow(after) > 0L) "SMD was" else "SMD"
  names(table)[names(table) == "now"] <- "SMD now"
  table
}

balance_note <- function(x) {
  sprintf(paste(
    "Means and shares %s. SMD: treated minus control, divided by the %s before the design. A row passes when |SMD| is",
    "at most %s and the variance ratio lies in %s to %s."
  ), if (any(x$rows$sample == "after")) "after the design" else "before any design", reference_words[[x$reference]],
  format(x$limits$smd), format(x$limits$ratio[1L]), format(x$limits$ratio[2L]))
}

#' @export
plot.twin_balance <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows[!is.na(x$rows$smd), ]
  rows$row <- labelled_rows(rows, x$labels)
  before <- rows[rows$sample == "before", ]
  rows$row <- factor(rows$row, levels = before$row[order(abs(before$smd))])
  rows$size <- abs(rows$smd)
  rows$sample <- factor(rows$sample, levels = c("before", "after"))
  spans <- if (any(rows$sample == "after")) balance_spans(rows)
  plot <- ggplot2::ggplot(rows, ggplot2::aes(x = .data$size, y = .data$row)) +
    ggplot2::annotate("rect", xmin = 0, xmax = x$limits$smd, ymin = -Inf, ymax = Inf, fill = "#DCEBEA") +
    ggplot2::geom_vline(xintercept = x$limits$smd, colour = twin_colours[["treated"]], linewidth = 0.4)
  if (!is.null(spans)) {
    plot <- plot + ggplot2::geom_segment(data = spans, colour = "grey65", linewidth = 0.5, ggplot2::aes(
      x = .data$from, xend = .data$to, y = .data$row, yend = .data$row))
  }
  plot +
    ggplot2::geom_point(ggplot2::aes(fill = .data$sample), shape = 21, size = 2.8, stroke = 0.9,
                        colour = twin_colours[["treated"]]) +
    ggplot2::scale_fill_manual(values = c(before = "white", after = twin_colours[["treated"]]), name = NULL) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(c(0.02, 0.05)), limits = c(0, NA)) +
    ggplot2::labs(
      x = "absolute standardized mean difference", y = NULL,
      title = sprintf("Balance of %s", x$design),
      subtitle = sprintf("The shaded band is the limit of %s; %d of %d rows pass.", format(x$limits$smd),
                         summary(x)$passing, summary(x)$rows)
    ) +
    theme_twin()
}

balance_spans <- function(rows) {
  before <- rows[rows$sample == "before", ]
  after <- rows[rows$sample == "after", ]
  data.frame(row = before$row, from = before$size, to = after$size[match(before$row, after$row)])
}

# Rows by the columns' own labels.
labelled_rows <- function(rows, labels) row_name(unname(labels[rows$covariate]), rows$level)

#' @export
format.twin_overlap <- function(x, ...) {
  rows <- x$rows
  table <- data.frame(
    Arm = paste(rows$arm, rows$sample), Units = count_text(rows$n), Effective = count_text(round(rows$ess)),
    Least = number_text(rows$min), Median = number_text(rows$median), Greatest = number_text(rows$max),
    Outside = sprintf("%s (%s)", count_text(rows$outside), share_text(rows$share_outside))
  )
  c(
    sprintf("Overlap of the propensity score: %s", x$design),
    table_lines(table),
    "",
    wrap_lines(overlap_sentence(x))
  )
}

#' @export
print.twin_overlap <- function(x, ...) print_lines(x, format(x, ...))

overlap_sentence <- function(x) {
  before <- x$rows[x$rows$sample == "before", ]
  sprintf(paste(
    "Both arms occur from %s to %s. Outside, in the sample before the design: %d treated and %d control units have no",
    "counterpart in the other arm's range. AUC %s%s"
  ), number_text(x$common[["low"]]), number_text(x$common[["high"]]), before$outside[before$arm == "treated"],
  before$outside[before$arm == "control"], number_text(x$auc),
  if (x$auc > 0.85) ": treatment is so predictable that overlap is thin." else ".")
}

#' @export
plot.twin_overlap <- function(x, ...) {
  rlang::check_dots_empty()
  samples <- c("before", if (!is.null(x$after)) "after")
  bars <- do.call(rbind, lapply(samples, function(sample) overlap_bars(x, sample)))
  bars$sample <- factor(paste(bars$sample, "the design"), levels = paste(samples, "the design"))
  # a scored study has no design yet: one panel without a heading
  facets <- if (length(samples) > 1L) ggplot2::facet_wrap(~ sample, ncol = 1)
  ggplot2::ggplot(bars, ggplot2::aes(x = .data$middle, y = .data$share, fill = .data$arm)) +
    ggplot2::annotate("rect", xmin = x$common[["low"]], xmax = x$common[["high"]], ymin = -Inf, ymax = Inf,
                      fill = "grey94") +
    ggplot2::geom_col(width = 0.025, colour = "white", linewidth = 0.2) +
    ggplot2::geom_hline(yintercept = 0, colour = "grey30", linewidth = 0.4) +
    facets +
    ggplot2::scale_fill_manual(values = twin_colours[c("treated", "control")], name = NULL,
                               labels = c(treated = sprintf("treated (%s), upwards", x$levels[["treated"]]),
                                          control = sprintf("control (%s), downwards", x$levels[["control"]]))) +
    ggplot2::scale_y_continuous(labels = function(y) share_text(abs(y))) +
    ggplot2::labs(x = "propensity score", y = "share of the arm", title = "Overlap of the propensity score",
                  subtitle = "Grey ground: where both arms occur.") +
    theme_twin()
}

# Shares of each arm's weight in 40 equal bins, control counted downwards.
overlap_bars <- function(x, sample) {
  v <- if (sample == "before") x$before else x$after
  bin <- pmin(floor(x$score * 40), 39)
  rows <- lapply(c(treated = 1L, control = 0L), function(arm) {
    inside <- x$z == arm
    share <- rowsum(v[inside], bin[inside])[, 1L] / sum(v[inside])
    data.frame(middle = (as.numeric(names(share)) + 0.5) / 40, share = if (arm == 1L) share else -share,
               arm = if (arm == 1L) "treated" else "control", sample = sample)
  })
  rows <- do.call(rbind, unname(rows))
  rows$arm <- factor(rows$arm, levels = c("treated", "control"))
  rows
}
