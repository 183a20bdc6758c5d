# How placebos and other choices of the design look.

placebo_table <- function(x, number = column_text) {
  rows <- x$rows
  out <- data.frame(Placebo = rows$placebo, Kind = rows$kind, Estimate = number(rows$estimate),
                    SE = number(rows$std.error), interval = interval_text(rows$conf.low, rows$conf.high, number),
                    p = p_text(rows$p.value), Units = count_text(rows$units))
  names(out)[5L] <- paste(level_text(x$facts$level), "interval")
  out
}

placebo_title <- function(x) {
  sprintf("Placebos: what %s seems to do where it can't (its effect on %s is %s)", x$facts$treatment, x$facts$outcome,
          number_text(x$facts$effect))
}

#' @export
format.twin_probe_placebo <- function(x, ...) {
  rlang::check_dots_empty()
  table <- placebo_table(x)
  c(wrap_lines(placebo_title(x)), "", table_lines(fit_table(table, c("Units", "SE")), left = 2L), "",
    wrap_lines(probe_verdict(x)))
}

#' @exportS3Method
probe_verdict.twin_probe_placebo <- function(x) { # nolint: object_name_linter.
  joint <- x$facts$joint
  p <- joint[["p.value"]]
  widest <- max(abs(c(x$rows$conf.low, x$rows$conf.high)))
  if (is.na(p)) {
    found <- sum(x$rows$p.value < 1 - x$facts$level)
    return(sprintf("%s of %s have p below %s one by one; they can't be tested together.", count_text(found),
                   plural(nrow(x$rows), "placebo"), format(1 - x$facts$level)))
  }
  if (p < 1 - x$facts$level) {
    worst <- x$rows[which.min(x$rows$p.value), ]
    return(sprintf(paste("There are effects where there should be none (joint p %s), most clearly %s with %s: the",
                         "design leaves bias, or the placebo is touched by the treatment after all."), p_phrase(p),
                   worst$placebo, number_text(worst$estimate)))
  }
  sprintf(paste("No effect is found where there should be none (joint p %s), which is as reassuring as the intervals",
                "are short: they leave room for effects of up to %s in size."), p_phrase(p), number_text(widest))
}

#' @export
plot.twin_probe_placebo <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows
  if (length(unique(rows$kind)) > 1L) rows$placebo <- sprintf("%s (%s)", rows$placebo, rows$kind)
  rows$placebo <- factor(rows$placebo, levels = rev(unique(rows$placebo)))
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$estimate, y = .data$placebo)) +
    ggplot2::geom_vline(xintercept = 0, colour = "grey30", linewidth = 0.5) +
    ggplot2::geom_vline(xintercept = x$facts$effect, colour = twin_mark, linetype = "22", linewidth = 0.8) +
    ggplot2::geom_linerange(ggplot2::aes(xmin = .data$conf.low, xmax = .data$conf.high), linewidth = 1,
                            colour = "#9A6A12") +
    ggplot2::geom_point(shape = 21, size = 3.5, stroke = 1.1, fill = "white", colour = "#9A6A12") +
    ggplot2::labs(x = "estimate", y = NULL, title = "Effects where there should be none", subtitle = subtitle_of(x),
                  caption = sprintf("Dashed: the effect on %s, %s. Lines: %s intervals.", x$facts$outcome,
                                    number_text(x$facts$effect), level_text(x$facts$level))) +
    twin_look()
}

choices_table <- function(x, number = column_text) {
  rows <- x$rows
  fine <- is.na(rows$failed)
  out <- data.frame(
    Run = rows$changed, Effect = number(rows$estimate),
    interval = ifelse(fine, interval_text(rows$conf.low, rows$conf.high, number), "-"),
    balance = ifelse(fine, sprintf("%d of %d", rows$passing, rows$rows), "-"), worst = number(rows$worst_smd),
    treated = ifelse(fine, count_text(rows$n_treated), "-"),
    pass = ifelse(!fine, "failed", ifelse(rows$pass, "yes", "no"))
  )
  names(out) <- c("Run", "Effect", paste(level_text(x$facts$level), "interval"), "rows balanced", "worst |SMD|",
                  "treated", "passes")
  out
}

choices_title <- function(x) sprintf("Other choices: effect on %s, %s, run anew", x$facts$outcome, x$facts$design)

#' @export
format.twin_probe_choices <- function(x, ...) {
  rlang::check_dots_empty()
  table <- choices_table(x)
  shown <- utils::head(table, 20L)
  failed <- x$rows[!is.na(x$rows$failed), ]
  c(wrap_lines(choices_title(x)), "", table_lines(fit_table(shown, c("treated", "worst |SMD|", "rows balanced"))),
    if (nrow(table) > 20L) sprintf("  and %s more runs; tidy() has them all", count_text(nrow(table) - 20L)), "",
    wrap_lines(probe_verdict(x)),
    if (nrow(failed) > 0L) wrap_lines(sprintf("Could not be run: %s (%s).", failed$changed[1L], failed$failed[1L])))
}

#' @exportS3Method
probe_verdict.twin_probe_choices <- function(x) { # nolint: object_name_linter.
  g <- generics::glance(x)
  made <- g$runs - g$failed
  all <- sprintf("over all %s %s", plural(made, "run"), interval_text(g$least_all, g$greatest_all))
  if (g$passing == 0L) {
    return(sprintf("None of %s passes the limits of balance, the design as it was included; effects range %s.",
                   plural(made, "run"), all))
  }
  clear <- if (g$significant == 1) "all of their intervals exclude 0" else
    sprintf("%s of their intervals exclude 0", share_text(g$significant))
  sprintf("%s of %s pass the limits of balance; their effects range from %s, and %s (%s).", count_text(g$passing),
          plural(made, "run"), interval_text(g$least, g$greatest), clear, all)
}

#' @export
plot.twin_probe_choices <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows[is.na(x$rows$failed), ]
  rows <- rows[order(rows$estimate), ]
  rows$place <- seq_len(nrow(rows))
  marks <- choice_marks(rows, x$facts)
  # both parts share one vertical scale per panel: choices stand far beyond any effect, so their axis knows them
  far <- 100 * (1 + max(abs(c(rows$conf.low, rows$conf.high))))
  levels <- unique(marks$label)
  marks$y <- far * (1 + (length(levels) - match(marks$label, levels)) / 100)
  rows$panel <- factor("effect", levels = c("effect", "choices"))
  marks$panel <- factor("choices", levels = c("effect", "choices"))
  heights <- far * (1 + (length(levels) - seq_along(levels)) / 100)
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$place)) +
    ggplot2::geom_hline(data = data.frame(panel = rows$panel[1L]), ggplot2::aes(yintercept = 0), colour = "grey30",
                        linewidth = 0.5) +
    ggplot2::geom_linerange(ggplot2::aes(ymin = .data$conf.low, ymax = .data$conf.high), colour = "grey65",
                            linewidth = 0.6) +
    ggplot2::geom_point(ggplot2::aes(y = .data$estimate, fill = .data$pass), shape = 21, size = 2.6,
                        colour = twin_colours[["treated"]], stroke = 1) +
    ggplot2::geom_point(data = marks, ggplot2::aes(y = .data$y), shape = 15, size = 2, colour = "grey30") +
    ggplot2::geom_point(data = rows[rows$run == 1L, ], ggplot2::aes(y = .data$estimate), shape = 1, size = 5.5,
                        colour = twin_mark, stroke = 1) +
    ggplot2::scale_fill_manual(values = c("TRUE" = twin_colours[["treated"]], "FALSE" = "white"),
                               labels = c("TRUE" = "passes the limits of balance", "FALSE" = "does not"), name = NULL) +
    ggplot2::scale_y_continuous(
      breaks = function(limits) if (max(limits) > far / 2) heights else pretty(limits, 5),
      labels = function(at) if (any(at > far / 2, na.rm = TRUE)) levels[match(at, heights)] else format(at, trim = TRUE)
    ) +
    ggplot2::facet_grid(stats::as.formula("panel ~ ."), scales = "free_y") +
    ggplot2::scale_x_continuous(breaks = NULL) +
    ggplot2::labs(x = sprintf("%s, sorted by effect", plural(nrow(rows), "run")), y = NULL,
                  title = "What if the design had been another?", subtitle = subtitle_of(x),
                  caption = sprintf("Lines: %s intervals of the effect on %s. Ringed: the design as it was.",
                                    level_text(x$facts$level), x$facts$outcome)) +
    twin_look() + ggplot2::theme(strip.text = ggplot2::element_blank())
}

# One mark per run and choice, for the choices that vary. Single clusters left out share a line.
choice_marks <- function(rows, facts) {
  parts <- lapply(names(facts$base), function(name) {
    data.frame(place = rows$place, label = sprintf("%s: %s", name, rows[[name]]))
  })
  left <- rows[!is.na(rows$without), ]
  if (nrow(left) > 0L) {
    labels <- paste("without", left$without)
    if ("clusters" %in% facts$choices) {
      labels[!left$without %in% facts$covariates] <- sprintf("without one %s", facts$cluster)
    }
    parts <- c(parts, list(data.frame(place = left$place, label = labels)))
  }
  out <- do.call(rbind, parts)
  out[order(match(out$label, sort(unique(out$label)))), ]
}

#' @exportS3Method
table_parts.twin_probe_placebo <- function(x, number = column_text) { # nolint: object_name_linter.
  plain_parts(placebo_table(x, number), "Placebo", placebo_title(x), probe_verdict(x))
}

#' @exportS3Method
table_parts.twin_probe_choices <- function(x, number = column_text) { # nolint: object_name_linter.
  plain_parts(choices_table(x, number), "Run", choices_title(x), probe_verdict(x))
}
