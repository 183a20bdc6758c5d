#' @export
format.twin_did <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(did_sentence(x)), "", table_lines(did_table_text(x)), "", wrap_lines(did_hint(x)),
    wrap_lines(did_footnotes(x)), wrap_lines(did_seal(x)),
    if (is_remote(x$study)) wrap_lines(remote_line(x)))
}

# What to type next.
did_hint <- function(x) {
  if (x$over != "cells") return(character())
  "tidy() holds every cell; summarise_did() averages them over all, event time, cohorts or calendar time."
}

# The number that leads: the only one, the average, or that of all cells.
did_headline <- function(x) {
  if (x$over == "cells") x <- summarise_did(x, bands = FALSE)
  row <- generics::tidy(x)
  row[row$term %in% c("difference", "average"), ][1L, ]
}

did_sentence <- function(x) {
  if (x$over == "dose") return(dose_sentence(x))
  row <- did_headline(x)
  in_percent <- if (is.null(row$percent)) "" else
    percent_words(row$percent, row$percent.low, row$percent.high)
  sprintf("%s, %s changes by %s (%s)%s, %s; estimated by %s.", treated_words(x$study), outcome_phrase(x),
          number_text(row$estimate), interval_phrase(x$level, row$conf.low, row$conf.high), in_percent,
          average_words(x), did_method(x))
}

# What the effect is one of, such as "With cold_store" or "With gear = nets"; both directions of a switch are one
# effect.
treated_words <- function(panel) {
  if (!is_switching(panel)) {
    return(paste0("With ", treatment_of(panel), if (!is.null(panel$cohorts$foreign)) paste(" =", panel$treated)))
  }
  direction <- panel$cohorts$direction[cohort_sizes(panel) > 0]
  up <- if (panel$switches$plain) "is first switched on" else "first goes up"
  down <- if (panel$switches$plain) "off" else "down"
  sprintf("Where %s %s", panel$roles$treatment, if (all(direction >= 0)) up else if (all(direction <= 0))
    paste(up, sprintf("(estimated from switches %s, signs turned)", down)) else
      sprintf("%s (or %s: signs turned)", up, down))
}

# What the leading number averages over.
average_words <- function(x) {
  dates <- sum(is_treated_cohort(x$study) & tabulate(x$study$cohort, nrow(x$study$cohorts)) > 0L)
  if (is_switching(x$study)) return(switch_average_words(x))
  units <- "on average over treated units and periods"
  words <- if (dates == 1L && x$over == "single") units else if (!is.null(did_estimator_of(x)$mean))
    return(did_estimator_of(x)$mean) else
    c(single = "on average over the time under treatment", cells = units, all = units,
      event = "averaged over the periods since treatment", cohort = "averaged over cohorts by their size",
      calendar = "averaged over periods", dose = units)[[x$over]]
  whose <- if (population_of(x$estimand) == "treated") "" else ", by the design's weights"
  sprintf("%s (%s%s)", words, x$estimand, whose)
}

switch_average_words <- function(x) {
  both <- "on average over switchers and the periods since"
  words <- c(cells = both, all = both,
             event = "averaged over the periods since the switch", cohort = "averaged over cohorts by their size",
             calendar = "averaged over periods")[[x$over]]
  if (!isTRUE(x$asked$normalise)) return(words)
  unit <- if (x$study$switches$plain) "per period under the other treatment" else "per unit of treatment"
  paste0(words, ", ", unit)
}

# "units never treated", "units not yet treated".
compared_words <- function(panel, comparison) {
  if (is_switching(panel)) {
    return(c(never = "units that began alike and never switch",
             not_yet = "units that began alike and have not switched so far")[[comparison]])
  }
  c(never = "units never treated", not_yet = "units not yet treated")[[comparison]]
}

did_method <- function(x) {
  asked <- x$asked
  entry <- did_estimator_of(x)
  adjusted <- c(none = "", regression = entry$adjusted, ipw = ", adjusted by inverse weighting",
                augmented = ", adjusted by augmented weighting")[[asked$adjustment]]
  paste0(
    entry$words, adjusted, entry$details(asked),
    if (uses_comparison(x)) paste0(", against ", compared_words(x$study, asked$comparison)),
    if (!is.null(asked$absorbed)) sprintf(", also absorbing %s", and_list(asked$absorbed)),
    if (asked$anticipation > 0) sprintf(", leaving %s for anticipation", plural(asked$anticipation, "period")),
    if (collapses(asked)) collapse_words[[asked$collapse]],
    counted_words(x$study)
  )
}

counted_words <- function(panel) {
  if (is_carried(panel)) sprintf(", with units counted by %s made on the time before treatment", carried_label(panel))
  else ""
}

collapse_words <- c(rows = ", on means by group and period, each weighed by its rows",
                    groups = ", on means by group and period, each counting once")

# One line per effect; of cells, one per cohort.
did_table_text <- function(x, number = column_text) {
  if (x$over == "dose") return(dose_table(x, number))
  if (x$over == "cells") return(cohort_lines(x, number))
  table <- generics::tidy(x)
  out <- data.frame(
    Effect = did_labels(x, table), Estimate = number(table$estimate), SE = number(table$std.error),
    interval = ifelse(is.na(table$conf.low), "-", interval_text(table$conf.low, table$conf.high, number)),
    p = p_text(table$p.value)
  )
  names(out)[4L] <- paste(level_text(x$level), "interval")
  if (!is.null(table$band.low)) {
    out$band <- ifelse(is.na(table$band.low), "", interval_text(table$band.low, table$band.high, number))
  }
  if (x$over == "event") {
    out$units <- ifelse(table$term == "average" | table$kind == "base", "", count_text(table$n_treated))
    if (is_switching(x$study)) {
      out$changed <- ifelse(is.na(table$changed), "", number(table$changed))
    }
    names(out)[1L] <- "Periods since"
  }
  if (!is.null(table$percent)) {
    number <- if (is.null(attr(number, "digits"))) fixed_digits(1) else number
    limits <- interval_text(table$percent.low, table$percent.high, number)
    out$`per cent` <- sprintf("%s (%s)", number(table$percent), limits)
  }
  fit_table(out, if (is_switching(x$study)) c("p", "band") else c("units", "p"))
}

did_labels <- function(x, table) {
  base <- ifelse(table$kind == "base", " (base)", "")
  words <- switch(x$over, event = ifelse(is.na(table$event_time), table$term, paste0(table$event_time, base)),
                  cohort = ifelse(table$term == "average", table$term, paste("from", table$term)),
                  calendar = table$term, all = "average", "effect")
  if (x$over == "event") paste0(sub("^average$", "average of 0 on", words), ifelse(is_thin(x), " *", "")) else words
}

cohort_lines <- function(x, number) {
  by <- summarise_did(x, over = "cohort", bands = FALSE)
  table <- generics::tidy(by)
  cells <- generics::tidy(x)
  labels <- x$study$cohorts$label[is_treated_cohort(x$study)]
  at <- match(labels, table$term)
  count <- function(kind) {
    vapply(labels, function(label) sum(cells$cohort == label & cells$kind == kind & !is.na(cells$estimate)), 0L)
  }
  failed <- vapply(labels, function(label) sum(cells$cohort == label & !is.na(cells$reason)), 0L)
  out <- data.frame(
    `Treated from` = labels, `average effect` = number(table$estimate[at]), SE = number(table$std.error[at]),
    interval = ifelse(is.na(at), "-", interval_text(table$conf.low[at], table$conf.high[at])),
    after = count_text(count("post")), before = count_text(count("pre")), check.names = FALSE
  )
  names(out)[4:6] <- c(paste(level_text(x$level), "interval"), "cells after", "before")
  if (is_switching(x$study)) names(out)[1L] <- "First switch"
  if (any(failed > 0L)) out$`not estimable` <- count_text(failed)
  fit_table(out, c("before", "cells after"))
}

did_error_note <- function(x) {
  paste0("Standard errors: ", x$inference, ".", if (x$missing > 0L) {
    sprintf(" %s of the outcome missing and left out.", plural(x$missing, "value"))
  })
}

did_footnotes <- function(x) {
  c(
    if (!is.null(x$bands)) sprintf("The band holds %s at once (%s); the interval each number alone.",
                                   if (x$over == "dose") "the effects at all doses" else "the whole path",
                                   level_text(x$level)),
    did_error_note(x),
    if (x$over == "dose") dose_notes(x),
    if (is_held(x$study)) held_note(x$study),
    if (is_carried(x$study)) design_note(x),
    if (is_switching(x$study)) switch_note(x),
    if (!is.null(x$synthetic)) synthetic_notes(x),
    if (length(x$notes) > 0L) paste0(toupper(substr(x$notes, 1L, 1L)), substring(x$notes, 2L), "."),
    if (is.null(x$draws$placebos)) alone_note(x), reach_note(x), failed_text(x)
  )
}

# Who stands in, and how close: one sentence per cohort.
synthetic_notes <- function(x) {
  fit <- synthetic_fit(x$synthetic)
  shown <- utils::head(seq_len(nrow(fit)), 4L)
  sentences <- vapply(shown, function(k) {
    one <- x$synthetic[[k]]
    largest <- which.max(one$weight)
    sprintf("%s (%s) stands against %s, effectively %s, largest %s (%s); gap before treatment %s, after it %s",
            fit$cohort[k], plural(fit$treated[k], "unit"), plural(fit$units[k], "unit"),
            formatC(fit$effective[k], digits = 1, format = "f"), x$study$unit_labels[one$used[largest]],
            share_text(one$weight[largest]), number_text(fit$gap_before[k]), number_text(fit$gap_after[k]))
  }, "")
  more <- nrow(fit) - length(shown)
  c(sprintf("Root mean squares: %s%s.", paste(sentences, collapse = "; "),
            if (more > 0L) sprintf("; and %s more in tidy(part = \"fit\")", count_text(more)) else ""),
    "The gap before is the fit that the weights were chosen for, no test of them.")
}

# What is in an effect some periods after a switch.
switch_note <- function(x) {
  switches <- x$study$switches
  what <- level_name(x$study$roles)
  moved <- if (is.null(x$study$group)) sum(cohort_sizes(x$study)[is_treated_cohort(x$study)]) else
    length(unique(x$study$group[is_treated_cohort(x$study)[x$study$cohort]]))
  sprintf(paste("An effect some periods after the first switch is that of all treatment since, what is carried over",
                "included; of the %s that %s (%s) %s back to where %s began.%s"),
          count_text(moved), if (moved == 1) "switches" else "switch", what,
          if (switches$back == 0L) "none later goes" else if (switches$back == 1L) "1 later goes" else
            paste(count_text(switches$back), "later go"), if (switches$back > 1L) "they" else "it",
          if (x$over == "event") " \"changed\" is the mean change of treatment at that time." else "")
}

# Whom cells are compared with where another treatment is held.
held_note <- function(panel) {
  names <- panel$held$names
  sprintf("Each effect compares units in which %s %s run alike up to then: it is that of %s beside the same %s.",
          and_list(names), if (length(names) == 1L) "has" else "have", treatment_of(panel), and_list(names))
}

# Whose weights the units have, and what the errors know of these.
design_note <- function(x) {
  panel <- x$study
  parts <- panel$carried$designs
  units <- sprintf("Units count by the design (%s)", paste(carried_lines(panel), collapse = "; "))
  if (!is.null(x$draws)) return(paste0(units, "."))
  estimated <- vapply(parts, function(part) !is.null(part$nuisance), NA)
  given <- unique(unlist(lapply(parts, `[[`, "given")))
  if (!any(estimated)) return(paste0(units, ", which is taken as given."))
  paste0(units, "; that its weights were estimated is part of the errors",
         if (length(given) > 0L) sprintf(", the %s taken as given", and_list(given)), ".")
}

# Rows of an event path that few of the treated reach.
reach_note <- function(x) {
  few <- x$over == "event" && any(is_thin(x))
  if (few) "* fewer than half of the treated reach this time."
}

is_thin <- function(x) x$table$reach < 0.5 & x$table$kind != "base" & x$table$term != "average"

failed_text <- function(x) {
  reasons <- table(x$cells$reason)
  if (length(reasons) == 0L) return(NULL)
  counted <- sprintf("%s (%s)", names(reasons), vapply(as.integer(reasons), plural, "", word = "cell"))
  sprintf("Not estimable: %s.", paste(counted, collapse = "; "))
}

did_seal <- function(x) {
  book <- summary(logbook(x))
  sprintf("The logbook counts %s on this panel so far.", plural(book$before + book$after, "different estimate"))
}

#' @export
plot.twin_did <- function(x, view = c("effects", "paths", "gaps"), ...) {
  rlang::check_dots_empty()
  view <- check_choice(view, c("effects", "paths", "gaps"))
  if (view == "paths" && is.null(x$synthetic)) return(counterfactual_plot(x))
  if (view != "effects") return(synthetic_plot(x, view))
  switch(x$over, cells = cells_plot(x), event = path_plot(x), dose = dose_plot(x), averages_plot(x))
}

did_title <- function(x) sprintf("Effect of %s on %s", treatment_of(x$study), outcome_phrase(x))

did_caption <- function(x) {
  sprintf("Estimated by %s. Standard errors: %s.", did_method(x), x$inference)
}

# Each cohort's mean over time, and what it would have been: the mean less the effect.
counterfactual_plot <- function(x, call = rlang::caller_env()) {
  if (x$over != "cells" || is_remote(x$study)) {
    abort_input(c("{.code view = \"paths\"} needs the cells of each cohort, in memory.",
                  i = "Give it what {.fn measure_did} returned, by an estimator with cells."), call = call)
  }
  panel <- x$study
  means <- panel_means(panel, panel_values(panel, x$outcome, "plot"))
  cells <- x$table[x$table$kind == "post" & !is.na(x$table$estimate), ]
  at <- paste(panel$cohorts$label[means$cohort], panel$periods$label[means$time])
  effect <- cells$estimate[match(at, paste(cells$cohort, cells$time))]
  if (is_switching(panel)) effect <- effect * switch_signs(panel)[means$cohort]
  treated <- is_treated_cohort(panel)[means$cohort]
  onset <- panel$cohorts$position[means$cohort]
  position <- panel$periods$position[means$time]
  joint <- treated & position == ave_max(ifelse(position < onset, position, -Inf), means$cohort)  # both start here
  rows <- rbind(
    cbind(means[treated, ], side = "as it was", value = means$mean[treated]),
    cbind(means[treated, ], side = "without treatment", value = ifelse(joint, means$mean, means$mean - effect)[treated])
  )
  rows <- rows[!is.na(rows$value), ]
  labels <- paste("treated from", panel$cohorts$label)
  rows$label <- factor(labels[rows$cohort], labels)
  starts <- rows[rows$side == "without treatment", ]
  starts <- starts[!duplicated(starts$cohort), ]
  shown <- length(unique(rows$cohort))
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$time, y = .data$value)) +
    ggplot2::geom_vline(data = starts, ggplot2::aes(xintercept = .data$time + 0.5), colour = twin_mark, linetype = "22",
                        linewidth = 0.5) +
    ggplot2::geom_line(ggplot2::aes(colour = .data$side, linetype = .data$side),
                       linewidth = if (shown > 8L) 0.6 else 0.9) +
    ggplot2::scale_colour_manual(values = c("as it was" = twin_colours[["treated"]],
                                            "without treatment" = twin_colours[["control"]]), name = NULL) +
    ggplot2::scale_linetype_manual(values = c("as it was" = "solid", "without treatment" = "41"), name = NULL) +
    period_axis(panel, if (shown > 4L) 3L else 6L) +
    ggplot2::facet_wrap(~label, ncol = ceiling(sqrt(shown))) +
    ggplot2::labs(x = panel$roles$time, y = sprintf("mean of %s", x$outcome),
                  title = sprintf("%s of each cohort, and what it would have been", x$outcome),
                  subtitle = "The dashed path is the mean less the effect, from the last period before treatment on.",
                  caption = did_caption(x)) +
    twin_look()
}

ave_max <- function(values, by) stats::ave(values, by, FUN = max)

# Each cohort beside what stands in for it, or their gap; where placebos were ranked, theirs in grey.
synthetic_plot <- function(x, view, call = rlang::caller_env()) {
  if (is.null(x$synthetic)) {
    abort_input(c("{.code view = \"{view}\"} is for a synthetic comparison.",
                  i = "Measure it with {.code estimator = \"synthetic\"}."), call = call)
  }
  panel <- x$study
  labels <- paste("treated from", names(x$synthetic))
  rows <- do.call(rbind, Map(function(one, label) {
    both <- data.frame(cohort = label, at = seq_along(one$gap), gap = one$gap,
                       onset = min(one$after) - 0.5)
    if (view == "gaps") return(both)
    rbind(cbind(both, side = "treated", value = one$path), cbind(both, side = "synthetic", value = one$path - one$gap))
  }, x$synthetic, labels))
  rows$cohort <- factor(rows$cohort, labels)
  onsets <- unique(rows[c("cohort", "onset")])
  plot <- ggplot2::ggplot(rows, ggplot2::aes(x = .data$at)) +
    ggplot2::geom_vline(data = onsets, ggplot2::aes(xintercept = .data$onset), colour = twin_mark, linetype = "22",
                        linewidth = 0.6)
  plot <- if (view == "gaps") {
    plot + ggplot2::geom_hline(yintercept = 0, colour = "grey45", linewidth = 0.4) +
      ggplot2::geom_line(ggplot2::aes(y = .data$gap), colour = twin_colours[["treated"]], linewidth = 0.9) +
      ggplot2::labs(y = sprintf("gap of %s", x$outcome), title = did_title(x),
                    subtitle = "Treated less synthetic; before the dashed line the fit, after it the effect.")
  } else {
    plot + ggplot2::geom_line(ggplot2::aes(y = .data$value, colour = .data$side, linetype = .data$side),
                              linewidth = 0.9) +
      ggplot2::scale_colour_manual(values = c(treated = twin_colours[["treated"]],
                                              synthetic = twin_colours[["control"]]), name = NULL) +
      ggplot2::scale_linetype_manual(values = c(treated = "solid", synthetic = "41"), name = NULL) +
      ggplot2::labs(y = sprintf("mean of %s", x$outcome),
                    title = sprintf("%s of the treated and what stands in for them", x$outcome),
                    subtitle = if (x$asked$parallel) "The synthetic path is moved to the treated's level." else
                      "The synthetic path as it is.")
  }
  several <- length(labels) > 1L
  plot + ggplot2::facet_wrap(~cohort, ncol = if (length(labels) > 3L) 2L else 1L, scales = "free_y") +
    period_axis(panel, if (several) 6L else 10L) +
    ggplot2::labs(x = panel$roles$time, caption = did_caption(x)) + twin_look()
}

# Effects by periods since treatment; thick: interval of each, shaded: band of the whole path.
path_plot <- function(x, table = generics::tidy(x)) {
  several <- !is.null(table$part)  # panels of parts: counts below the axis would be those of one
  table <- table[table$term != "average", ]
  table$stage <- factor(ifelse(table$kind == "post", "under treatment", "before"), c("before", "under treatment"))
  base <- table[table$kind == "base", ]
  plot <- ggplot2::ggplot(table, ggplot2::aes(x = .data$event_time, y = .data$estimate)) +
    ggplot2::geom_hline(yintercept = 0, colour = "grey45", linewidth = 0.4) +
    ggplot2::geom_vline(xintercept = -0.5, colour = twin_mark, linetype = "22", linewidth = 0.6)
  if (!is.null(table$band.low)) {
    plot <- plot + ggplot2::geom_ribbon(data = function(rows) rows[!is.na(rows$band.low), ], ggplot2::aes(
      ymin = .data$band.low, ymax = .data$band.high, group = .data$stage), fill = "#DCEBEA")
  }
  plot <- plot +
    ggplot2::geom_line(colour = "grey60", linewidth = 0.4) +
    ggplot2::geom_linerange(data = function(rows) rows[!is.na(rows$conf.low), ], ggplot2::aes(
      ymin = .data$conf.low, ymax = .data$conf.high, colour = .data$stage), linewidth = 1) +
    ggplot2::geom_point(data = function(rows) rows[rows$kind != "base", ], ggplot2::aes(
      colour = .data$stage, fill = .data$stage, shape = .data$stage), size = 3, stroke = 1) +
    ggplot2::scale_colour_manual(values = stage_colours, name = NULL) +
    ggplot2::scale_fill_manual(values = stage_fills, name = NULL) +
    ggplot2::scale_shape_manual(values = c(before = 21, "under treatment" = 21), name = NULL) +
    ggplot2::scale_x_continuous(breaks = function(limits) unique(round(pretty(limits, 10))),
                                labels = if (several) ggplot2::waiver() else carried_labels(x)) +
    ggplot2::labs(x = sprintf("periods since %s (%s)", if (is_switching(x$study)) "the first switch" else
      "treatment", x$study$roles$time), y = "effect", title = did_title(x),
                  subtitle = path_subtitle(x, base, several), caption = did_caption(x)) +
    twin_look()
  if (nrow(base) == 0L) return(plot)
  plot + ggplot2::geom_point(data = base, shape = 4, size = 3.5, stroke = 1.2, colour = "grey25")
}

# Event times with who carries them below: treated units, and in how many cohorts.
carried_labels <- function(x) {
  cells <- x$cells[!is.na(x$cells$estimate) & !is.na(x$cells$n_treated), ]
  if (NROW(cells) == 0L) return(function(at) at)
  units <- tapply(cells$n_treated, cells$event_time, sum)
  cohorts <- tapply(cells$cohort, cells$event_time, function(own) length(unique(own)))
  function(at) {
    known <- match(at, as.numeric(names(units)))
    ifelse(is.na(known), at, sprintf("%s\n%s in %s", at, count_text(units[known]), cohorts[known]))
  }
}

path_subtitle <- function(x, base, several = FALSE) {
  paste0(
    sprintf("Lines: %s interval of each effect.", level_text(x$level)),
    if (!is.null(x$bands)) " Shaded: band that holds the whole path at once.",
    if (nrow(base) > 0L) " Cross: the base period.",
    if (!several && NROW(x$cells) > 0L) " Below each period: treated units in how many cohorts.",
    if (x$asked$base == "previous" && uses_comparison(x)) {
      " Before treatment each period is measured from the one before it."
    }
  )
}

# Cells of each cohort over time.
cells_plot <- function(x) {
  table <- generics::tidy(x)
  table <- table[!is.na(table$estimate), ]
  if (length(unique(table$cohort)) > 12L) return(cells_map(x, table))
  cohorts <- x$study$cohorts
  table$label <- factor(paste("treated from", table$cohort), paste("treated from", cohorts$label))
  table$at <- match(table$time, x$study$periods$label)
  table$stage <- factor(ifelse(table$kind == "post", "under treatment", "before"), c("before", "under treatment"))
  ggplot2::ggplot(table, ggplot2::aes(x = .data$at, y = .data$estimate, colour = .data$stage, fill = .data$stage)) +
    ggplot2::geom_hline(yintercept = 0, colour = "grey45", linewidth = 0.4) +
    ggplot2::geom_linerange(data = function(rows) rows[!is.na(rows$conf.low), ], ggplot2::aes(
      ymin = .data$conf.low, ymax = .data$conf.high), linewidth = 0.7) +
    ggplot2::geom_point(shape = 21, size = 2.2, stroke = 0.9) +
    ggplot2::scale_colour_manual(values = stage_colours, name = NULL) +
    ggplot2::scale_fill_manual(values = stage_fills, name = NULL) +
    period_axis(x$study, 5L) +
    ggplot2::facet_wrap(~label, ncol = if (length(unique(table$label)) > 3L) 2L else 1L) +
    ggplot2::labs(x = x$study$roles$time, y = "effect", title = did_title(x),
                  subtitle = sprintf("One effect per cohort and period, with its %s interval.", level_text(x$level)),
                  caption = did_caption(x)) +
    twin_look()
}

# Many cohorts: a tile per cell, marked where its interval leaves 0 out.
cells_map <- function(x, table) {
  cohorts <- x$study$cohorts$label
  table$label <- factor(table$cohort, rev(cohorts))
  table$at <- match(table$time, x$study$periods$label)
  apart <- table[!is.na(table$conf.low) & (table$conf.low > 0 | table$conf.high < 0), ]
  starts <- data.frame(label = factor(cohorts, rev(cohorts)), onset = x$study$cohorts$position)
  starts <- starts[is_treated_cohort(x$study), ]
  starts$at <- vapply(starts$onset, function(onset) sum(x$study$periods$position < onset), 0) + 0.5
  ggplot2::ggplot(table, ggplot2::aes(x = .data$at, y = .data$label)) +
    ggplot2::geom_tile(ggplot2::aes(fill = .data$estimate), colour = "white", linewidth = 0.3) +
    ggplot2::geom_point(data = apart, size = 0.8, colour = "grey15") +
    ggplot2::geom_tile(data = starts, width = 0.12, height = 1, fill = twin_mark) +
    ggplot2::scale_fill_gradient2(low = twin_colours[["control"]], mid = "#F7F7F4", high = twin_colours[["treated"]],
                                  name = "effect") +
    period_axis(x$study, 10L) +
    ggplot2::labs(x = x$study$roles$time, y = "treated from", title = did_title(x),
                  subtitle = sprintf(paste("One effect per cohort and period; dots: the %s interval leaves 0 out;",
                                           "bars: treatment starts."), level_text(x$level)), caption = did_caption(x)) +
    twin_look() + ggplot2::theme(panel.grid.major = ggplot2::element_blank())
}

averages_plot <- function(x) {
  table <- generics::tidy(x)
  table$label <- did_labels(x, table)
  forest_plot(table, "difference") +
    ggplot2::labs(x = sprintf("effect, %s interval", level_text(x$level)), y = NULL, title = did_title(x),
                  subtitle = if (!is.null(x$bands)) "Thin lines: joint band, which holds for all at once.",
                  caption = did_caption(x))
}

#' @exportS3Method
table_parts.twin_did <- function(x, number = column_text) { # nolint: object_name_linter.
  rows <- if (x$over == "cells") generics::tidy(summarise_did(x, over = "cohort", bands = FALSE)) else generics::tidy(x)
  table <- did_table_text(x, number)
  if (x$over == "dose") rows <- rows[rows$what == "effect", ]
  keys <- if (x$over == "cells") table[[1L]] else rows$term
  list(table = table, first = names(table)[1L], keys = keys, levels = rep(NA, nrow(table)),
       estimate = switch(x$over, cells = "average effect", dose = "Effect", "Estimate"),
       p.value = rows$p.value[match(keys, rows$term)], caption = did_title(x),
       note = paste(c(did_sentence(x), did_footnotes(x), caution_sentence(x)), collapse = " "))
}
