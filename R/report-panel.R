# The report of a panel: timing, the time before treatment, effects over time, the two-way number taken apart.

panel_parts <- function(panel, effects, probes, truth, trends, decomposition) {
  list(panel = panel, study = panel, effects = effects, probes = probes, trends = trends, decomposition = decomposition,
       truth = truth, comparisons = panel_comparisons(effects, truth))
}

checked_panel_parts <- function(panel, designs, effects, probes, truth, trends, decomposition,
                                call = rlang::caller_env()) {
  if (length(designs) > 0L) abort_input("A panel has no {.arg designs}; leave them out.", call = call)
  check_parts(effects, "twin_did", "measure_did", "effects", call)
  check_parts(probes, "twin_probe", "probe_trends", "probes", call)
  if (!is.null(trends)) check_class(trends, "twin_trends", "assess_trends", call = call)
  if (!is.null(decomposition)) check_class(decomposition, "twin_decomposition", "decompose_did", call = call)
  check_truth(truth, effects, call)
  panel_parts(panel, effects, probes, truth, trends, decomposition)
}

# Effects of one number side by side, by outcome; cells as their average, paths and other averages not at all.
panel_comparisons <- function(effects, truth) {
  numbers <- Filter(function(effect) effect$over %in% c("cells", "all", "single"), effects)
  numbers <- lapply(numbers, function(effect) if (effect$over == "cells") summarise_did(effect) else effect)
  outcomes <- unique(vapply(numbers, `[[`, "", "outcome"))
  lapply(stats::setNames(nm = outcomes), function(outcome) {
    compare_effects(!!!Filter(function(effect) effect$outcome == outcome, numbers),
                    truth = if (outcome %in% names(truth)) truth[[outcome]])
  })
}

panel_sections <- function(parts) {
  list(panel_question(parts), timing_section(parts), trends_section(parts), paths_section(parts),
       decomposition_section(parts), bias_section(parts), logbook_section(parts))
}

panel_question <- function(parts) {
  panel <- parts$panel
  tags <- htmltools::tags
  rows <- Filter(Negate(is.null), list(
    "Asked for" = "the effect on those treated, in the periods since (ATT)", Data = shape_text(panel),
    Treated = timing_text(panel), Outcome = outcome_text(panel, "not looked at yet"),
    Covariates = panel_covariate_text(panel),
    Weight = panel$roles$weight,
    Cluster = sprintf("%s (%s)", attr(panel$cluster, "name"), count_text(length(unique(panel$cluster)))),
    "Left out" = if (length(panel$dropped) > 0L) {
      paste(count_text(panel$dropped), "rows,", names(panel$dropped), collapse = "; ")
    }
  ))
  new_section("question", "Question", tags$dl(Map(function(term, text) {
    htmltools::tagList(tags$dt(term), tags$dd(text))
  }, names(rows), rows)))
}

timing_section <- function(parts) {
  panel <- parts$panel
  new_section(
    "timing", "Timing",
    html_figure(plot(panel), sprintf("Units by period, treated or not: %s", timing_text(panel)), NULL),
    table_tag(timing_table(panel), "Cohorts by the period treatment starts in", NULL),
    unname(lapply(panel$roles$outcome, function(outcome) {
      htmltools::tagList(
        html_figure(plot(panel, "means", outcome), sprintf("Mean %s of each cohort over time", outcome),
                    "Dashed: the period treatment starts in, in the colour of its cohort."),
        html_figure(plot(panel, "event", outcome), sprintf("Changes of %s around treatment, both sides", outcome), NULL)
      )
    }))
  )
}

trends_section <- function(parts) {
  if (is.null(parts$trends)) return(NULL)
  new_section("trends", "Before treatment", htmltools::tags$p(paste(trends_verdict(parts$trends), collapse = " ")),
              html_figure(plot(parts$trends), "Differences before treatment with their intervals, and a drift", NULL),
              html_table(parts$trends))
}

paths_section <- function(parts) {
  if (length(parts$effects) == 0L) return(NULL)
  tags <- htmltools::tags
  side_by_side <- lapply(parts$comparisons, function(comparison) {
    table <- generics::tidy(comparison)
    htmltools::tagList(
      tags$h3(sprintf("Effect on %s", outcome_phrase(comparison$effects[[1L]]))),
      html_figure(plot(comparison), paste("Estimates with intervals:", paste(
        table$label, number_text(table$estimate), collapse = "; ")), NULL, height = 1.8 + 0.7 * nrow(table)),
      html_table(comparison), if (length(comparison$effects) > 1L) agreement_block(comparison)
    )
  })
  each <- Map(function(effect, name) {
    rows <- if (effect$over %in% c("cells", "event")) 5 else 1.8 + 0.6 * nrow(effect$table)
    htmltools::tagList(
      tags$h3(name), tags$p(did_sentence(effect)),
      if (effect$over != "single") html_figure(plot(effect), sprintf("%s: %s", name, did_sentence(effect)), NULL,
                                               height = rows),
      html_table(effect)
    )
  }, parts$effects, names(parts$effects))
  new_section("effects", "Effects", unname(c(side_by_side, each)))
}

decomposition_section <- function(parts) {
  if (is.null(parts$decomposition)) return(NULL)
  new_section("decomposition", "The two-way number taken apart",
              htmltools::tags$p(decomposition_verdict(parts$decomposition)),
              html_figure(plot(parts$decomposition), "Each two-by-two comparison by weight and estimate", NULL),
              html_table(parts$decomposition))
}

# What the box at the top says.
panel_findings <- function(parts) {
  c(lapply(parts$comparisons, comparison_finding), if (!is.null(parts$trends)) trends_verdict(parts$trends)[1L],
    if (!is.null(parts$decomposition)) paste("Two-way regression:", decomposition_verdict(parts$decomposition)))
}
