# The report of a panel: timing, the time before treatment, effects over time, the two-way number taken apart.

# designed: by name the panel with a design carried into it; balances: theirs.
panel_parts <- function(panel, effects, probes, truth, trends, decomposition, designed = list(), balances = list()) {
  list(panel = panel, study = panel, designed = designed, balances = balances, effects = effects, probes = probes,
       trends = trends, decomposition = decomposition,
       truth = truth, comparisons = panel_comparisons(effects, truth))
}

checked_panel_parts <- function(panel, designs, effects, probes, truth, trends, decomposition,
                                call = rlang::caller_env()) {
  check_parts(designs, "twin_panel", "frame_panel", "designs", call)
  for (name in names(designs)) {
    if (!is_carried(designs[[name]])) {
      abort_input(c("The {.arg designs} of a panel are panels with a design carried into them.",
                    x = "{.val {name}} has none.", i = "Make it with {.code frame_panel(design = )}."), call = call)
    }
  }
  effects <- each_did(effects)
  check_parts(effects, "twin_did", "measure_did", "effects", call)
  check_parts(probes, "twin_probe", "probe_trends", "probes", call)
  if (!is.null(trends)) check_class(trends, "twin_trends", "assess_trends", call = call)
  if (!is.null(decomposition)) check_class(decomposition, "twin_decomposition", "decompose_did", call = call)
  check_truth(truth, effects, call)
  panel_parts(panel, effects, probes, truth, trends, decomposition, designs, lapply(designs, assess_balance))
}

# A list with names in which effects side by side stand one by one.
each_did <- function(effects) {
  parts <- Map(function(effect, name) {
    if (!inherits(effect, "twin_dids")) return(stats::setNames(list(effect), name))
    stats::setNames(effect$effects, paste(name, names(effect), sep = ", "))
  }, unname(effects), rlang::names2(effects))
  unlist(parts, recursive = FALSE)
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
  list(panel_question(parts), timing_section(parts), carried_section(parts), composition_section(parts),
       power_section(parts),
       trends_section(parts), paths_section(parts),
       decomposition_section(parts), bias_section(parts), methods_section(parts), checklist_section(parts),
       logbook_section(parts))
}

panel_question <- function(parts) {
  panel <- parts$panel
  new_section("question", "Question", terms_block(list(
    "Asked for" = "the effect on those treated, in the periods since (ATT)", Data = shape_text(panel),
    Treated = timing_text(panel), Outcome = outcome_text(panel, "not looked at yet"),
    Covariates = panel_covariate_text(panel),
    Dose = if (has_dose(panel)) dose_text(panel), Held = if (is_held(panel)) and_list(panel$held$names),
    Weight = panel$roles$weight,
    Cluster = sprintf("%s (%s)", attr(panel$cluster, "name"), count_text(panel_cluster_count(panel))),
    "Left out" = dropped_text(panel), Rows = if (is_remote(panel)) remote_line(panel)
  )))
}

timing_section <- function(parts) {
  new_section("timing", "Timing", timing_blocks(parts),
              lapply(parts$panel$roles$outcome, outcome_path_blocks, parts = parts))
}

# Who is treated when; no outcome in it.
timing_blocks <- function(parts) {
  panel <- parts$panel
  beside_block(
    figure_block(parts$figures, "timing", plot(panel),
                 sprintf("Units by period, treated or not: %s", timing_text(panel)), height = 6.5),
    table_block(timing_table(panel), "Cohorts by the period treatment starts in")
  )
}

outcome_path_blocks <- function(outcome, parts) {
  panel <- parts$panel
  several <- length(panel$roles$outcome) > 1L
  named <- function(view) if (several) paste(view, outcome) else view
  all_blocks(
    if (several) heading_block(outcome),
    figure_block(parts$figures, named("means"), plot(panel, "means", outcome),
                 sprintf("Mean %s of each cohort over time", outcome)),
    fold_block("Changes around treatment",
               figure_block(parts$figures, named("event"), plot(panel, "event", outcome),
                            sprintf("Changes of %s around treatment, both sides", outcome)))
  )
}

# Designs made on what units were before treatment, and their balance.
carried_section <- function(parts) {
  if (length(parts$designed) == 0L) return(NULL)
  each <- Map(function(panel, balance, name) {
    all_blocks(
      heading_block(name), text_block(paste(carried_text(panel), collapse = ". ")),
      text_block(paste(verdict_text(balance), collapse = " ")),
      figure_block(parts$figures, paste("balance", name), plot(balance),
                   sprintf("Balance before treatment of %s, before and after the design", name)),
      fold_block("Numbers", result_block(balance))
    )
  }, parts$designed, parts$balances, names(parts$designed))
  new_section("designs", "Designs on the time before treatment", unname(each))
}

composition_section <- function(parts) {
  if (is.null(parts$composition)) return(NULL)
  new_section("composition", if (parts$panel$repeats) "Covariates that vary over time" else "Who is met",
              text_block(composition_verdict(parts$composition)),
              figure_block(parts$figures, "composition", plot(parts$composition) + ggplot2::labs(subtitle = NULL),
                           "Changes of covariates with treatment", height = 1.5 + 0.4 * nrow(parts$composition$rows)),
              fold_block("Numbers", result_block(parts$composition, note = FALSE)))
}

# Where the outcome is still closed: the question and the timing.
panel_opening_section <- function(parts) {
  new_section("question", "Question and timing", panel_question(parts)$blocks, timing_blocks(parts))
}

# The outcome over time, and the effects.
opened_panel_section <- function(parts) {
  new_section("effects", "Effects", paths_section(parts)$blocks,
              fold_block("The outcome over time",
                         lapply(parts$panel$roles$outcome, outcome_path_blocks, parts = parts)))
}

# "60 units, 16 periods"; "p 0.278".
panel_verdict <- function(panel) {
  shape <- panel_shape(panel)
  sprintf("%s %s, %s", count_text(if (panel$repeats) shape$units else shape$rows),
          if (panel$repeats) "units" else "rows", plural(shape$periods, "period"))
}

trends_words <- function(trends) {
  p <- trends$tests$p.value[1L]
  if (is.na(p)) "no joint test" else sprintf("parallel? p %s", p_phrase(p))
}

trends_section <- function(parts) {
  if (is.null(parts$trends)) return(NULL)
  new_section("trends", "Before treatment", text_block(paste(trends_verdict(parts$trends), collapse = " ")),
              figure_block(parts$figures, "trends", plot(parts$trends) + ggplot2::labs(subtitle = NULL),
                           "Differences before treatment with their intervals, and a drift"),
              fold_block("Numbers", result_block(parts$trends, note = FALSE)))
}

paths_section <- function(parts) {
  if (length(parts$effects) == 0L) return(NULL)
  each <- Map(function(effect, name) {
    whole <- effect$over %in% c("cells", "event", "dose")
    inside <- all_blocks(
      text_block(did_sentence(effect)),
      if (effect$over != "single") {
        figure_block(parts$figures, paste("effect", name), plot(effect), sprintf("%s: %s", name, did_sentence(effect)),
                     height = if (whole) 5 else 1.5 + 0.4 * nrow(effect$table))
      },
      result_block(effect)
    )
    if (effect$over == "event") all_blocks(heading_block(name), inside) else fold_block(paste(name, "in full"), inside)
  }, parts$effects, names(parts$effects))
  new_section("effects", "Effects", lapply(parts$comparisons, comparison_blocks, parts = parts), unname(each))
}

decomposition_section <- function(parts) {
  if (is.null(parts$decomposition)) return(NULL)
  new_section("decomposition", "The two-way number taken apart",
              text_block(decomposition_verdict(parts$decomposition)),
              figure_block(parts$figures, "decomposition", plot(parts$decomposition),
                           "Each two-by-two comparison by weight and estimate"),
              fold_block("Numbers", result_block(parts$decomposition, note = FALSE)))
}
