#' @export
format.twin_panel <- function(x, ...) {
  rlang::check_dots_empty()
  roles <- x$roles
  optional <- c(
    if (!is.null(x$group)) field_lines("Groups", sprintf("%s (%s), treated as a whole", roles$group,
                                                         count_text(length(unique(x$group))))),
    field_lines("Outcome", outcome_text(x, "not looked at yet")),
    field_lines("Covariates", panel_covariate_text(x)),
    if (has_dose(x)) field_lines("Dose", dose_text(x)),
    if (is_held(x)) field_lines("Held", paste(and_list(x$held$names), "as it has run up to each period")),
    if (!is.null(roles$weight)) field_lines("Weight", roles$weight),
    if (is_carried(x)) field_lines("Design", carried_text(x)),
    count_lines(x),
    field_lines("Cluster", sprintf("%s (%s)", attr(x$cluster, "name"), count_text(panel_cluster_count(x)))),
    if (length(x$dropped) > 0L) {
      field_lines("Left out", paste(count_text(x$dropped), "rows,", names(x$dropped), collapse = "; "))
    }
  )
  c(
    wrap_lines(sprintf("Panel: what did %s do to %s?", treatment_of(x), and_list(roles$outcome))),
    field_lines("Data", shape_text(x)), field_lines("Treated", timing_text(x)), optional, "",
    table_lines(timing_table(x)), "",
    wrap_lines(paste0(compared_sentence(x), " Next: plot() to look at timing and means, ",
                      if (!is_own_remote(x)) "assess_trends() for the time before, ",
                      "measure_did().")),
    if (is_remote(x)) wrap_lines(remote_line(x))
  )
}

compared_sentence <- function(x) {
  if (is_switching(x)) {
    return("Every effect is the change of switchers less that of units that began alike and have not switched so far.")
  }
  if (is_held(x)) {
    return(sprintf("Every effect is the change of treated units less that of units not (yet) treated with the same %s.",
                   and_list(x$held$names)))
  }
  if (has_arms(x)) {
    return("Every effect is the change of units under one kind less that of units not (yet) under any.")
  }
  "Every effect is the change of treated units less that of units not (yet) treated."
}

#' @export
print.twin_panel <- function(x, ...) print_lines(x, format(x, ...))

shape_text <- function(x) {
  shape <- panel_shape(x)
  span <- sprintf("%s periods of %s (%s to %s)", shape$periods, x$roles$time, x$periods$label[1L],
                  x$periods$label[shape$periods])
  text <- if (x$repeats) {
    sprintf("a panel: %s units (%s) in %s, %s rows; %s", count_text(shape$units), x$roles$unit, span,
            count_text(shape$rows), if (shape$absent == 0) "balanced, every unit in every period" else
              sprintf("not balanced: %s unit-periods are absent", count_text(shape$absent)))
  } else {
    sprintf("a repeated cross-section: %s rows, other units each time, in %s", count_text(shape$rows), span)
  }
  if (shape$gaps > 0) text <- sprintf("%s; %s in between %s nobody", text, plural(shape$gaps, "period"),
                                      if (shape$gaps == 1) "has" else "have")
  text
}

# Which units the designs keep, and what of them is a cluster.
carried_text <- function(x) {
  out <- sum(unit_copies(x) == 0L)
  sets <- any(vapply(x$carried$designs, function(part) !is.null(part$set) || part$reuses, NA))
  as_cluster <- are_sets(x$cluster)
  c(carried_lines(x), if (out > 0L) sprintf("%s in no design: out of every number", plural(out, "unit")),
    if (sets && !as_cluster) "who is paired with whom is not used by the errors, which leans to the safe side")
}

timing_text <- function(x) {
  if (is_switching(x)) return(switching_text(x))
  waves <- sum(is_treated_cohort(x))
  never <- x$cohorts$position == Inf
  sprintf("%s; %s, never undone%s",
          if (has_arms(x)) arms_text(x) else
            if (is.null(x$roles$treatment)) sprintf("from the period in %s on", x$roles$first_treated) else
              sprintf("%s is \"%s\"", x$roles$treatment, x$treated),
          if (waves == 1L) "a single date" else sprintf("%d different dates", waves),
          if (any(never)) "" else "; everybody is treated in the end")
}

# "gear is other than "pots": nets (12 units), lines (1 unit)".
arms_text <- function(x) {
  sizes <- cohort_sizes(x)
  count <- vapply(x$arms$levels, function(arm) sum(sizes[x$cohorts$arm %in% arm]), 0)
  unit <- if (x$repeats) "unit" else "row"
  sprintf("%s is other than \"%s\": %s", x$roles$treatment, x$arms$reference,
          and_list(sprintf("%s (%s)", x$arms$levels, vapply(count, plural, "", word = unit))))
}

# "engine_kw: 40 to 300 (median 120), 61 different".
dose_text <- function(x) {
  amount <- x$dose$amount[dose_units(x)]
  sprintf("%s: %s to %s (median %s), %s different", x$dose$name, number_text(min(amount)), number_text(max(amount)),
          number_text(stats::median(amount)), count_text(length(unique(amount))))
}

# Who begins with what, and who moves.
switching_text <- function(x) {
  sizes <- cohort_sizes(x)
  seen <- is_treated_cohort(x)
  count <- function(direction) sum(sizes[x$cohorts$direction == direction & seen])
  move <- function(direction, words) {
    verb <- if (x$switches$plain) c("switches", "switch") else c("goes", "go")
    paste("first", verb[if (count(direction) == 1) 1L else 2L], words[if (x$switches$plain) 1L else 2L])
  }
  stay <- sum(sizes[!seen])
  text <- sprintf("%s switches: %s %s, %s %s, %s %s not seen to switch; %s later back where %s began",
                  x$roles$treatment, plural(count(1), if (x$repeats) "unit" else "row"), move(1, c("on", "up")),
                  count_text(count(-1)),
                  move(-1, c("off", "down")), count_text(stay), if (stay == 1) "is" else "are",
                  count_text(x$switches$back), if (x$switches$back == 1L) "it" else "they")
  if (is.null(x$group)) text else sprintf("%s (%s)", text, x$roles$group)
}

panel_covariate_text <- function(x) {
  if (length(x$columns) == 0L) return("none: trends are taken to be parallel as they are")
  varies <- changing_columns(x)
  paste0(panel_terms(x), if (x$repeats && length(varies) > 0L) {
    sprintf("; %s over time, and cells use the base period's value", and_list_verb(varies, "varies", "vary"))
  }, "; missing: ", missing_text(x))
}

timing_table <- function(x) {
  rows <- summary(x)
  unit <- if (x$repeats) "units" else "rows"
  out <- data.frame(
    `Treated from` = rows$cohort,  # of treatment that switches: the first switch
    units = count_text(if (x$repeats) rows$units else rows$rows),
    groups = count_text(rows$groups), seen = paste(rows$first, "to", rows$last),
    `untreated to` = ifelse(is.na(rows$untreated_to), "-", rows$untreated_to),
    treated = ifelse(is.na(rows$treated_from), "-", paste(rows$treated_from, "on")), check.names = FALSE
  )
  names(out)[2L] <- unit
  if (is_switching(x)) {
    names(out)[c(1L, 5:6)] <- c("First switch", "unchanged to", "switched")
    out$switched <- ifelse(is.na(rows$treated_from), "-", paste("from", rows$treated_from))
  }
  if (is.null(x$group)) out$groups <- NULL
  fit_table(out, c("groups", "seen"))
}

#' Look at a panel
#'
#' Three pictures to look at before any estimate: who is treated when, mean outcomes of every cohort over time, and both
#' sides' mean changes by periods since treatment. The last two open the outcome, which the logbook notes.
#'
#' @param x A [panel][frame_panel].
#' @param view `"timing"` (default), `"means"` or `"event"`.
#' @param outcome Name of one of its outcomes, the first by default; for `"means"` and `"event"`.
#' @param ... Must be empty.
#' @return A ggplot.
#' @family question
#' @examples
#' panel <- frame_panel(harbours, outcome = "price", time = "quarter", unit = "harbour", treatment = "cold_store")
#' plot(panel)
#' plot(panel, view = "means")
#' @exportS3Method
plot.twin_panel <- function(x, view = c("timing", "means", "event"), outcome = NULL, ...) {
  rlang::check_dots_empty()
  view <- check_choice(view, c("timing", "means", "event"))
  if (view == "timing") {
    if (!is.null(outcome)) abort_input("{.arg outcome} is for the views \"means\" and \"event\".")
    return(timing_plot(x))
  }
  if (isTRUE(x$carried$by_cohort)) {
    abort_unsupported(c("Each cohort has comparison units of its own: there is no one path of theirs to draw.",
                        i = "Plot {.code summarise_did(measure_did(panel), over = \"event\")}."))
  }
  outcome <- panel_outcome(x, outcome)
  opened <- open_panel(x, outcome, "plot", alone = FALSE, centred = FALSE)
  if (view == "means") means_plot(opened$panel, opened$y, outcome) else aligned_plot(opened$panel, opened$y, outcome)
}

# Up to 150 units stand one by one; more are drawn as their cohorts, as high as they have units.
timing_plot <- function(x) {
  of_row <- x$cohort[x$unit]
  many <- !x$repeats || is_remote(x) || length(x$cohort) > 150L
  line <- if (many) nrow(x$cohorts) + 1L - of_row else match(x$unit, order(x$cohort, decreasing = TRUE))
  onset <- x$cohorts$position[of_row]
  if (is_switching(x)) return(switching_plot(x))
  seen <- data.frame(line, time = x$time, treated = x$periods$position[x$time] >= onset)
  seen <- seen[!duplicated(seen[c("line", "time")]), ]
  counts <- cohort_sizes(x)
  labels <- sprintf("%s (%s)", x$cohorts$label, count_text(counts))
  at <- if (many) rev(seq_along(counts)) else cohort_middles(x)
  seen$treated <- factor(ifelse(seen$treated, "treated", "not treated"), c("not treated", "treated"))
  ggplot2::ggplot(seen, ggplot2::aes(x = .data$time, y = .data$line, fill = .data$treated)) +
    ggplot2::geom_tile(colour = "white", linewidth = if (many) 1 else 0.3) +
    ggplot2::scale_fill_manual(values = c("not treated" = "#F2D9AE", treated = twin_colours[["treated"]]),
                               name = NULL) +
    period_axis(x) +
    ggplot2::scale_y_continuous(breaks = at, labels = labels, expand = ggplot2::expansion(0.01)) +
    ggplot2::labs(x = x$roles$time, y = sprintf("treated from (%s)", if (x$repeats) "units" else "rows"),
                  title = sprintf("Who is treated when: %s", treatment_of(x)),
                  subtitle = paste0(sub("^a", "A", shape_text(x)), ".")) +
    twin_look() + ggplot2::theme(panel.grid.major = ggplot2::element_blank())
}

# Units sorted by cohort and by when they are treated, in at most 150 lines: of several units their mean treatment.
switching_plot <- function(x) {
  value <- x$switches$value
  pattern <- core_sums_by(value * 2^-pmin(x$time, 50), x$unit)
  place <- match(seq_along(x$cohort), order(x$cohort, -pattern))
  lines <- min(150L, length(x$cohort))
  bin <- lines + 1 - ceiling(place * lines / length(x$cohort))
  cell <- core_group_codes(bin[x$unit], x$time)
  first <- !duplicated(cell)
  seen <- data.frame(line = bin[x$unit][first], time = x$time[first],
                     treated = (core_sums_by(value, match(cell, cell[first])) / tabulate(match(cell, cell[first]))))
  counts <- cohort_sizes(x)
  at <- as.vector(tapply(bin, factor(x$cohort, seq_len(nrow(x$cohorts))), mean))
  ggplot2::ggplot(seen, ggplot2::aes(x = .data$time, y = .data$line, fill = .data$treated)) +
    ggplot2::geom_tile() +
    ggplot2::scale_fill_gradient(low = "#F2D9AE", high = twin_colours[["treated"]], name = x$roles$treatment,
                                 breaks = range(x$switches$value)) +
    period_axis(x) +
    ggplot2::scale_y_continuous(breaks = at, labels = sprintf("%s (%s)", x$cohorts$label, count_text(counts)),
                                expand = ggplot2::expansion(0.01)) +
    ggplot2::labs(x = x$roles$time, y = sprintf("first switch (%s)", if (x$repeats) "units" else "rows"),
                  title = sprintf("Treatment by unit and period: %s", x$roles$treatment),
                  subtitle = paste0(sub("^a", "A", shape_text(x)), ".")) +
    twin_look() + ggplot2::theme(panel.grid.major = ggplot2::element_blank())
}

cohort_middles <- function(x) {
  place <- match(seq_along(x$cohort), order(x$cohort, decreasing = TRUE))
  as.vector(tapply(place, factor(x$cohort, seq_len(nrow(x$cohorts))), mean))
}

# Period codes on the axis, with at most so many labels.
period_axis <- function(x, most = 10L) {
  codes <- seq_len(nrow(x$periods))
  shown <- codes[(codes - 1L) %% ceiling(length(codes) / most) == 0L]
  ggplot2::scale_x_continuous(breaks = shown, labels = x$periods$label[shown], expand = ggplot2::expansion(0.02))
}

# Cohorts from dark (first) to light, those never treated amber.
cohort_colours <- function(x) {
  treated <- x$cohorts$position < Inf
  shades <- grDevices::colorRampPalette(c("#083D42", "#1E8F96", "#8CC9C4"))(sum(treated))
  stats::setNames(c(shades, rep(twin_colours[["control"]], sum(!treated))), x$cohorts$label)
}

means_plot <- function(x, y, outcome) {
  table <- panel_means(x, y)
  few <- nrow(x$cohorts) <= 6L && !is_remote(x)  # more ribbons would hide each other
  if (few) table[c("low", "high")] <- mean_limits(x, y, table)
  table$label <- factor(x$cohorts$label[table$cohort], x$cohorts$label)
  starts <- data.frame(label = factor(x$cohorts$label, x$cohorts$label), position = x$cohorts$position)
  starts$time <- vapply(starts$position, function(onset) {
    later <- which(x$periods$position >= onset)
    if (length(later) == 0L) NA_real_ else later[1L] - 0.5
  }, 0)
  starts <- starts[!is.na(starts$time), ]
  last <- table[!duplicated(table$cohort, fromLast = TRUE), ]
  many <- nrow(x$cohorts) > 12L
  first <- x$periods$position[table$time] >= x$cohorts$position[table$cohort]
  onsets <- table[first & !duplicated(paste(table$cohort, first)), ]
  begins <- if (many) ggplot2::geom_point(data = onsets, size = 2, show.legend = FALSE) else
    ggplot2::geom_vline(data = starts, ggplot2::aes(xintercept = .data$time, colour = .data$label), linetype = "22",
                        linewidth = 0.5, show.legend = FALSE)
  ggplot2::ggplot(table, ggplot2::aes(x = .data$time, y = .data$mean, colour = .data$label)) +
    begins +
    (if (few) ggplot2::geom_ribbon(data = table[!is.na(table$low), ], ggplot2::aes(
      ymin = .data$low, ymax = .data$high, fill = .data$label), colour = NA, alpha = 0.14, show.legend = FALSE)) +
    ggplot2::geom_line(ggplot2::aes(linetype = .data$label == "never"),
                       linewidth = if (many) 0.5 else 0.9, show.legend = FALSE) +
    ggplot2::geom_text(data = last, ggplot2::aes(label = .data$label), hjust = -0.1, size = 3.6, show.legend = FALSE,
                       check_overlap = TRUE) +
    ggplot2::scale_fill_manual(values = cohort_colours(x)) +
    ggplot2::scale_colour_manual(values = cohort_colours(x)) +
    ggplot2::scale_linetype_manual(values = c(`FALSE` = "solid", `TRUE` = "41")) +
    period_axis(x) + ggplot2::coord_cartesian(clip = "off") +
    ggplot2::labs(x = x$roles$time, y = sprintf("mean of %s", outcome), title = sprintf("Mean %s by cohort", outcome),
                  subtitle = paste0("Labels: the period treatment starts in, marked by a ",
                                    if (many) "point on its line." else "dashed line of the same colour.",
                                    if (few) " Shaded: 95% interval of each mean.")) +
    twin_look() + ggplot2::theme(plot.margin = ggplot2::margin(6, 60, 6, 6))
}

# 95 per cent intervals of means, clusters within cohorts: NA where a mean rests on one cluster.
mean_limits <- function(x, y, table) {
  inside <- which(!is.na(y))
  cohort <- x$cohort[x$unit[inside]]
  code <- match(cohort + nrow(x$cohorts) * x$time[inside], table$cohort + nrow(x$cohorts) * table$time)
  s <- if (is.null(x$s)) rep(1, length(inside)) else x$s[inside]
  cluster <- as.vector(x$cluster)[x$unit[inside]]
  piece <- core_group_codes(code, cluster)
  first <- !duplicated(piece)
  sums <- core_sums_by(s * (y[inside] - table$mean[code]), match(piece, piece[first]))
  of <- code[first]
  clusters <- tabulate(of, nrow(table))
  variance <- core_sums_by(sums^2, of, nrow(table)) / core_sums_by(s, code, nrow(table))^2 * clusters /
    pmax(clusters - 1, 1)
  half <- ifelse(clusters > 1L, core_t_quantile(0.95, pmax(clusters - 1, 1)) * sqrt(variance), NA_real_)
  data.frame(low = table$mean - half, high = table$mean + half)
}

aligned_plot <- function(x, y, outcome) {
  table <- aligned_means(x, y)
  table$side <- factor(ifelse(table$side == "treated", "treated", "not treated yet"), c("treated", "not treated yet"))
  ggplot2::ggplot(table, ggplot2::aes(x = .data$event_time, y = .data$mean, colour = .data$side, shape = .data$side)) +
    ggplot2::geom_hline(yintercept = 0, colour = "grey60", linewidth = 0.4) +
    ggplot2::geom_vline(xintercept = -0.5, colour = twin_mark, linetype = "22", linewidth = 0.6) +
    ggplot2::geom_line(linewidth = 0.7) + ggplot2::geom_point(ggplot2::aes(size = .data$cohorts)) +
    ggplot2::scale_colour_manual(values = c(treated = twin_colours[["treated"]],
                                            "not treated yet" = twin_colours[["control"]]), name = NULL) +
    ggplot2::scale_shape_manual(values = c(treated = 16, "not treated yet" = 17), name = NULL) +
    ggplot2::scale_size_area(max_size = 4, guide = "none") +
    ggplot2::labs(x = sprintf("periods since treatment (%s)", x$roles$time),
                  y = sprintf("mean change of %s since the period before", outcome),
                  title = sprintf("Changes of %s around treatment", outcome),
                  subtitle = paste("Cohorts averaged by their size; units not treated yet in the same",
                                                 "periods. Larger points: more cohorts. Nothing is adjusted.")) +
    twin_look()
}
