# How all probes on one scale look, and what a design could detect.

probe_words <- function(kinds) vapply(kinds, function(kind) probes[[kind]]$words, "", USE.NAMES = FALSE)

times_text <- function(x) ifelse(is.na(x), "-", ifelse(is.infinite(x), "none can", paste(number_text(x, 2), "x")))

scale_table <- function(x, number = column_text) {
  number <- own_digits(number)  # every probe has a scale of its own
  rows <- x$rows
  out <- data.frame(Probe = probe_words(rows$probe),
                    `to no effect` = number(rows$needed), `interval onto it` = number(rows$needed_interval),
                    yardstick = ifelse(is.na(rows$times), "-",
                                       sprintf("%s (%s)", rows$yardstick, number(rows$yardstick_value))),
                    times = times_text(rows$times), `interval` = times_text(rows$times_interval), check.names = FALSE)
  names(out)[4:6] <- c("strongest measured", "as strong", "interval")
  out
}

scale_title <- function(x) {
  sprintf("Hidden bias, every way that fits: effect on %s, %s", x$facts$outcome, x$facts$design)
}

#' @export
format.twin_probe_effect <- function(x, ...) {
  rlang::check_dots_empty()
  table <- scale_table(x)
  measures <- sprintf("%s: %s.", probe_words(x$rows$probe), x$rows$measure)
  c(wrap_lines(scale_title(x)), "", table_lines(fit_table(table, c("interval onto it", "to no effect"))), "",
    wrap_lines(probe_verdict(x)), "", paste0("  ", measures), "",
    wrap_lines("The single probes stand in $probes, each with its own table and plot."))
}

#' @exportS3Method
probe_verdict.twin_probe_effect <- function(x) { # nolint: object_name_linter.
  if (x$facts$holds) {
    return("Even without hidden bias the interval holds no effect: there is no conclusion to overturn.")
  }
  rows <- x$rows[!is.na(x$rows$times), ]
  if (nrow(rows) == 0L) return("No measured covariate gives a yardstick; read the single probes.")
  least <- rows[which.min(rows$times), ]
  if (is.infinite(least$times)) return("No multiple of any measured covariate would explain the effect away.")
  if (least$probe == "trends") {
    return(sprintf(paste("A drift between both sides %s times as large per period as the worst before treatment would",
                         "explain the estimate away, and one %s times as large move the interval onto no effect."),
                   number_text(least$times, 2), number_text(least$times_interval, 2)))
  }
  sprintf(paste("A hidden confounder %s times as strong as %s, the strongest measured one, would explain the estimate",
                "away%s: the weakest answer of %s (%s)."), number_text(least$times, 2), least$yardstick,
          if (is.na(least$times_interval)) "" else
            sprintf(", and one %s times as strong move the interval onto no effect",
                    number_text(least$times_interval, 2)),
          plural(nrow(x$rows), "probe"), tolower(probe_words(least$probe)))
}

#' @export
plot.twin_probe_effect <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows[!is.na(x$rows$times), ]
  if (nrow(rows) == 0L) {
    return(ggplot2::ggplot() + ggplot2::labs(title = scale_title(x), subtitle = subtitle_of(x)) + twin_look())
  }
  rows$label <- wrapped_name(sprintf("%s (%s)", probe_words(rows$probe), rows$yardstick), 34L)
  rows$label <- factor(rows$label, levels = rev(rows$label))
  most <- max(c(rows$times[is.finite(rows$times)], 2))
  ends <- rbind(data.frame(label = rows$label, times = rows$times, what = "estimate to no effect"),
                data.frame(label = rows$label, times = rows$times_interval, what = "interval onto no effect"))
  ends <- ends[!is.na(ends$times), ]
  ends$text <- times_text(ends$times)
  ends$shown <- pmin(pmax(ends$times, 0.05), 1.5 * most)
  ggplot2::ggplot(ends, ggplot2::aes(x = .data$shown, y = .data$label)) +
    ggplot2::geom_vline(xintercept = 1, colour = "grey30", linewidth = 0.5) +
    ggplot2::geom_line(ggplot2::aes(group = .data$label), colour = "grey65", linewidth = 0.8) +
    ggplot2::geom_point(ggplot2::aes(fill = .data$what), shape = 21, size = 4, stroke = 1.1,
                        colour = twin_colours[["treated"]]) +
    ggplot2::geom_text(ggplot2::aes(label = .data$text,
                                    vjust = ifelse(.data$what == "estimate to no effect", -1.1, 2.1)), size = 3.5) +
    ggplot2::scale_fill_manual(values = c("estimate to no effect" = twin_colours[["treated"]],
                                          "interval onto no effect" = "white"), name = NULL) +
    ggplot2::scale_x_log10(labels = function(at) paste0(format(at, trim = TRUE, drop0trailing = TRUE), "x"),
                           expand = ggplot2::expansion(0.08)) +
    ggplot2::labs(x = "times as strong as the strongest measured covariate (in parentheses)", y = NULL,
                  title = "How strong would a hidden confounder have to be?", subtitle = subtitle_of(x),
                  caption = "Left of the line a confounder weaker than one that was measured would do.") +
    ggplot2::scale_y_discrete(expand = ggplot2::expansion(add = 0.7)) +
    twin_look() + ggplot2::theme(axis.text.y = row_names_size(rows$label, 4L))
}

power_table <- function(x, number = column_text) {
  rows <- x$rows
  out <- data.frame(Power = share_axis(rows$power), detectable = number(rows$detectable),
                    standardized = number(rows$standardized), sensitivity = number_text(rows$design_sensitivity, 2))
  names(out) <- c("Power", "smallest effect found", "in standard deviations", "design sensitivity")
  if (all(is.na(rows$design_sensitivity))) out <- out[1:3]
  if (length(unique(rows$level)) == 1L) return(out)
  cbind(out[1L], `at level` = format(1 - rows$level), out[-1L])
}

power_lines <- function(x) {
  effective <- count_text(round(x$sizes))
  size <- if (is.na(x$pairs)) sprintf("effective %s treated, %s control", effective[1L], effective[2L]) else
    plural(x$pairs, if (x$kind == "pairs") "pair" else "set")
  where <- if (is.na(x$clusters)) "" else sprintf("; %s of %s, correlation within them %s",
                                                  plural(x$clusters, "cluster"), x$cluster_name,
                                                  number_text(x$intraclass))
  from <- if (is.na(x$outcome)) "as stated" else
    sprintf(if (x$kind == "panel") "of a comparison unit's change in %s; the treated were not looked at" else
      "of the controls' %s; the treated were not looked at", x$outcome)
  levels <- paste(format(1 - unique(x$rows$level), trim = TRUE), collapse = ", ")
  c(sprintf("What this design could detect at level %s: %s; %s%s.", levels, x$design, size, where),
    sprintf("Standard deviation %s (%s).", number_text(x$sd), from))
}

power_note <- function(x) {
  rows <- x$rows[!is.na(x$rows$design_sensitivity), ]
  if (x$kind == "panel") {
    return("Effects on average over the time under treatment; treated units are taken to vary as comparison units do.")
  }
  if (nrow(rows) == 0L) return("The design has neither pairs nor weights yet, so nothing is said of hidden bias.")
  sprintf(paste("Were the true effect that of the first row, hidden bias beyond %s %s would hide it however many units",
                "there were."), if (x$kind %in% c("pairs", "sets")) "gamma" else "lambda",
          number_text(rows$design_sensitivity[1L], 2))
}

#' @export
format.twin_power <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(power_lines(x)), "", table_lines(power_table(x), left = 0L), "", wrap_lines(power_note(x)))
}

#' @export
print.twin_power <- function(x, ...) print_lines(x, format(x, ...))

#' @export
plot.twin_power <- function(x, ...) {
  rlang::check_dots_empty()
  curve <- do.call(rbind, lapply(unique(x$rows$level), function(level) {
    power <- seq(max(0.06, 1.2 * (1 - level)), 0.99, by = 0.01)
    data.frame(power = power, effect = core_detectable_factor(power, level, x$df) * x$rows$std.error[1L], level = level)
  }))
  ggplot2::ggplot(curve, ggplot2::aes(x = .data$effect, y = .data$power)) +
    ggplot2::geom_line(ggplot2::aes(group = .data$level), colour = twin_colours[["treated"]], linewidth = 1) +
    ggplot2::geom_segment(data = x$rows, ggplot2::aes(x = .data$detectable, xend = .data$detectable, y = 0,
                                                      yend = .data$power), linetype = "22", colour = twin_mark) +
    ggplot2::geom_point(data = x$rows, ggplot2::aes(x = .data$detectable), size = 3, colour = twin_mark) +
    ggplot2::geom_text(data = x$rows, ggplot2::aes(x = .data$detectable, label = number_text(.data$detectable)),
                       hjust = -0.25, vjust = 1.2, size = 3.6) +
    ggplot2::scale_y_continuous(labels = share_axis, limits = c(0, 1), expand = c(0, 0)) +
    ggplot2::labs(x = if (is.na(x$outcome)) "true effect" else sprintf("true effect on %s", x$outcome),
                  y = "chance to find it", title = "What could this design detect?",
                  subtitle = paste(power_lines(x), collapse = " "),
                  caption = power_note(x)) +
    twin_look()
}

#' @exportS3Method
table_parts.twin_probe_effect <- function(x, number = column_text) { # nolint: object_name_linter.
  plain_parts(scale_table(x, number), "Probe", scale_title(x), probe_verdict(x))
}

#' @exportS3Method
table_parts.twin_power <- function(x, number = column_text) { # nolint: object_name_linter.
  plain_parts(power_table(x, number), "Power", paste(power_lines(x), collapse = " "), power_note(x))
}
