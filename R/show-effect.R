#' @export
format.twin_effect <- function(x, ...) {
  c(wrap_lines(effect_sentence(x)), "", table_lines(effect_table(x)), "",
    wrap_lines(paste0("Standard errors: ", x$inference, ".", if (x$counts[["missing"]] > 0L) {
      sprintf(" %s of the outcome missing and left out.", plural(x$counts[["missing"]], "value"))
    })),
    wrap_lines(sprintf("Worst imbalance left: |SMD| %s. Effective sample: %s treated, %s control.",
                       number_text(x$worst_smd), count_text(round(x$sizes[["treated"]])),
                       count_text(round(x$sizes[["control"]])))),
    wrap_lines(seal_sentence(summary(logbook(x)))))
}

#' @export
print.twin_effect <- function(x, ...) print_lines(x, format(x, ...))

estimator_words <- c(difference = "difference in means", regression = "outcome regression",
                     augmented = "augmented inverse weighting")

effect_method <- function(x) {
  if (x$kind == "raw" && x$estimator == "difference") {
    return(paste0("raw difference in means, nothing adjusted", if (length(x$note) > 0L) paste(",", x$design)))
  }
  words <- if (x$reuse && x$estimator == "regression") "bias-corrected difference in means" else
    estimator_words[[x$estimator]]
  if (x$design == "raw sample") return(words)
  sprintf("%s on %s", words, x$design)
}

# What was estimated, for whom, by what, with the number.
effect_sentence <- function(x) {
  row <- generics::tidy(x)
  row <- row[row$term == "difference", ]
  roles <- x$study$roles
  what <- if (x$kind == "raw" && x$estimator == "difference") "differs" else "changes"
  subject <- sprintf("With %s = \"%s\" rather than \"%s\",", roles$treatment, x$study$levels[["treated"]],
                     x$study$levels[["control"]])
  sprintf("%s %s %s by %s (%s interval %s), for %s; estimated by %s.", subject, outcome_phrase(x), what,
          number_text(row$estimate), level_text(x$level), interval_text(row$conf.low, row$conf.high),
          effect_population(x, what), effect_method(x))
}

effect_population <- function(x, what) {
  if (what == "changes") return(population_text(x$estimand, x$note))
  if (length(x$note) > 0L) paste(x$note, collapse = "; ") else "the units as they are"
}

outcome_phrase <- function(x) {
  event <- x$study$events[[x$outcome]]
  if (is.na(event)) x$outcome else sprintf("the share with %s = \"%s\"", x$outcome, event)
}

term_words <- c(
  mean_treated = "mean if treated", mean_control = "mean if control", difference = "difference", ratio = "ratio",
  odds_ratio = "odds ratio"
)

effect_table <- function(x, number = number_text) {
  table <- generics::tidy(x)
  out <- data.frame(
    Quantity = unname(ifelse(table$term %in% names(term_words), term_words[table$term], table$term)),
    Estimate = number(table$estimate), SE = number(table$std.error),
    interval = interval_text(table$conf.low, table$conf.high),
    p = ifelse(table$term %in% c("mean_treated", "mean_control"), "", p_text(table$p.value))
  )
  names(out)[4L] <- paste(level_text(x$level), "interval")
  out
}

#' @export
plot.twin_effect <- function(x, ...) {
  rlang::check_dots_empty()
  plot(compare_effects(x))
}

#' @export
format.twin_comparison <- function(x, ...) {
  c(
    wrap_lines(comparison_title(x)),
    "",
    table_lines(comparison_table(x)),
    "",
    wrap_lines(comparison_sentences(x))
  )
}

#' @export
print.twin_comparison <- function(x, ...) print_lines(x, format(x, ...))

comparison_table <- function(x, width = 18L, number = number_text) {
  table <- generics::tidy(x)
  out <- data.frame(
    Effect = shorten(table$label, width), Estimate = number(table$estimate),
    SE = number(table$std.error), interval = interval_text(table$conf.low, table$conf.high),
    worst = number_text(table$worst_smd)
  )
  names(out)[4:5] <- c(paste(level_text(x$effects[[1L]]$level), "interval"), "worst |SMD|")
  if (length(unique(table$estimand)) > 1L) out <- cbind(out[1L], Estimand = table$estimand, out[-1L])
  if (!is.null(x$truth)) out$`holds truth` <- ifelse(table$covers, "yes", "NO")
  out
}

comparison_title <- function(x) {
  first <- x$effects[[1L]]
  estimands <- unique(vapply(x$effects, `[[`, "", "estimand"))
  sprintf("Effect of %s on %s%s: %s%s", first$study$roles$treatment, outcome_phrase(first),
          if (length(estimands) == 1L) paste0(" (", estimands, ")") else "", term_words[[x$term]],
          if (x$term == "difference") ", treated minus control" else "")
}

# In words: whom each effect speaks of when they differ, and what the truth says where it is known.
comparison_sentences <- function(x) {
  table <- generics::tidy(x)
  estimands <- unique(table$estimand)
  c(
    if (length(estimands) > 1L) "The effects speak of different populations; see the estimand of each.",
    partial_populations(x),
    if (!is.null(x$truth)) truth_sentence(x, table)
  )
}

partial_populations <- function(x) {
  noted <- Filter(function(effect) length(effect$note) > 0L, x$effects)
  if (length(noted) == 0L) return(NULL)
  paste0(names(noted), ": ", vapply(noted, function(effect) paste(effect$note, collapse = "; "), ""), ".")
}

truth_sentence <- function(x, table) {
  holds <- table$label[table$covers]
  misses <- table[!table$covers, ]
  paste0(
    sprintf("The truth is %s.", number_text(x$truth)),
    if (length(holds) == 1L) sprintf(" The interval of %s holds it.", holds),
    if (length(holds) > 1L) sprintf(" The intervals of %s hold it.", and_list(holds)),
    if (nrow(misses) > 0L) paste0(" ", miss_text(misses, x$truth), collapse = "")
  )
}

miss_text <- function(misses, truth) {
  sprintf("That of %s, %s, misses it%s.", misses$label, interval_text(misses$conf.low, misses$conf.high),
          ifelse(sign(misses$estimate) != sign(truth), " and has the wrong sign", ""))
}

#' @export
plot.twin_comparison <- function(x, ...) {
  rlang::check_dots_empty()
  table <- generics::tidy(x)
  table$raw <- vapply(x$effects, function(effect) effect$kind == "raw" && effect$estimator == "difference", NA)
  rows <- sprintf("%s\n%s (%s)", table$label, number_text(table$estimate),
                  interval_text(table$conf.low, table$conf.high))
  table$label <- factor(rows, levels = rev(rows))
  null <- if (is_ratio_term(x$term)) 1 else 0
  first <- x$effects[[1L]]
  plot <- ggplot2::ggplot(table, ggplot2::aes(x = .data$estimate, y = .data$label)) +
    ggplot2::geom_vline(xintercept = null, colour = "grey45", linewidth = 0.4)
  if (!is.null(x$truth)) plot <- plot + truth_layers(x$truth)
  plot +
    ggplot2::geom_errorbarh(ggplot2::aes(xmin = .data$conf.low, xmax = .data$conf.high), height = 0,
                            linewidth = 0.9, colour = twin_colours[["treated"]]) +
    ggplot2::geom_point(ggplot2::aes(fill = .data$raw), shape = 21, size = 3.6, stroke = 1,
                        colour = twin_colours[["treated"]], show.legend = FALSE) +
    ggplot2::scale_fill_manual(values = c(`FALSE` = twin_colours[["treated"]], `TRUE` = "white")) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(0.12)) +
    ggplot2::labs(
      x = sprintf("%s in %s, %s interval", term_words[[x$term]], outcome_phrase(first), level_text(first$level)),
      y = NULL, title = sprintf("Effect of %s on %s", first$study$roles$treatment, outcome_phrase(first)),
      subtitle = paste0("Hollow: raw comparison. Filled: after a design.",
                        if (!is.null(x$truth)) " Dashed: the known truth.")
    ) +
    theme_twin() +
    ggplot2::theme(axis.text.y = ggplot2::element_text(size = 12))
}

truth_layers <- function(truth) {
  list(
    ggplot2::geom_vline(xintercept = truth, linetype = "22", colour = twin_mark, linewidth = 0.8),
    ggplot2::annotate("text", x = truth, y = Inf, label = paste(" truth", number_text(truth)), hjust = 0, vjust = 1.4,
                      size = 3.4, colour = twin_mark)
  )
}
