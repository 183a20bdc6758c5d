# A plan on a dose or on treatment over time, run whole.

run_other_plan <- function(plan, question, out, strict) {
  check_other_plan(plan)
  resume_logbook(study_of(question), previous_entries(out))
  writeLines(format(question))
  designs <- plan_designs(plan, question)
  balances <- plan_balances(plan, designs)
  for (name in names(balances)) writeLines(c("", paste0(name, ":"), format(balances[[name]])))
  if (strict && fails_strictly(balances, "the outcome stays sealed")) return(1L)
  effects <- plan_effects(plan, question, designs)
  for (name in names(effects)) writeLines(c("", paste0(name, ":"), format(effects[[name]])))
  at_place(plan, c("report", "headline"), check_reference(plan$report$headline, names(effects), "headline", plan,
                                                          "report"))
  probes <- plan_probe_results(plan, effects)
  for (name in names(probes)) {
    writeLines(c("", strwrap(paste0(name, ": ", probe_verdict(probes[[name]])), 80, exdent = 2)))
  }
  parts <- other_parts(question, designs, effects, probes, balances)
  deliver(out, function(draft) write_other_results(draft, parts, plan, designs),
          ".csv and .tex; beside them figures, weights, logbook")
}

# Parts and keys that such a question has no use for.
check_other_plan <- function(plan) {
  part <- intersect(c("power", "variation"), names(plan))
  if (length(part) > 0L) abort_plan(plan, part[1L], "A plan on a dose or over time has no use for {.code {part[1L]}:}.")
  key <- intersect(c("truth", "groups"), names(plan$report))
  if (length(key) > 0L) {
    abort_plan(plan, c("report", key[1L]), "The report on a dose or over time has no use for {.code {key[1L]}:}.")
  }
}

write_other_results <- function(draft, parts, plan, designs) {
  results <- c(prefixed("balance", parts$balances), prefixed("effect", parts$effects), prefixed("probe", parts$probes))
  names(results) <- make.unique(names(results), " ")
  curves <- prefixed("curve", Filter(function(effect) inherits(effect, "twin_response"), parts$effects))
  means <- prefixed("means", Filter(function(effect) inherits(effect, "twin_course_effect"), parts$effects))
  table_at <- table_places(draft, c(names(results), names(curves), names(means)))
  write_tables(results, table_at)
  for (name in names(curves)) write_csv(generics::tidy(curves[[name]]), table_at(name, ".csv"))
  for (name in names(means)) write_csv(generics::tidy(means[[name]], part = "means"), table_at(name, ".csv"))
  if (length(designs) > 0L) write_csv(as.data.frame(lapply(designs, stats::weights)), file.path(draft, "weights.csv"))
  finish_results(draft, parts, plan)
}

# Is the plan on a dose, or on treatment over time?
is_dose_plan <- function(plan) !is.null(plan$study$dose)
is_course_plan <- function(plan) !is.null(plan$study$unit)
is_other_plan <- function(plan) is_dose_plan(plan) || is_course_plan(plan)

# "panel", "dose", "course" or "study".
question_kind <- function(plan) {
  if (is_panel_plan(plan)) "panel" else if (is_dose_plan(plan)) "dose" else if (is_course_plan(plan)) "course" else
    "study"
}

# What a page shows of them, see plan_step_views().
other_step_views <- function() {
  list(
    question = new_step_view("Question", "study", function(parts) other_question_section(parts),
                             function(parts) count_units(parts$study), help = c("frame_dose", "frame_course")),
    designs = new_step_view(
      "Designs", c("study", "designs", "report"), function(parts) other_balance_section(parts),
      able = has_part("designs"), help = c("weigh_units", "assess_balance"),
      verdict = function(parts) balanced_verdict(parts)
    ),
    effects = new_step_view(
      "Effects", c("study", "designs", "effects", "report"), function(parts) other_effects_section(parts),
      function(parts) plural(length(parts$effects), "estimate"), able = has_part("effects"), sealed = TRUE,
      help = c("measure_response", "measure_course")
    ),
    bias = bias_view(c("study", "designs", "effects", "probes"))
  )
}

count_units <- function(study) plural(length(study$z), "row")

# As step_parts().
other_step_parts <- function(plan, step, study, kept) {
  sorter <- new_sorter()
  designs <- if (step != "question") sorter$add(made_designs(plan, kept))
  if (step != "designs") sorter$forget()
  balances <- if (step %in% c("designs", "report")) sorter$add(made_each(kept, "balance", designs, function(design) {
    plan_balances(plan, list(one = design))$one
  }, plan$report))
  effects <- if (step %in% c("effects", "bias", "report")) sorter$add(made_effects(plan, designs, kept))
  if (step == "bias") sorter$forget()
  found <- if (step %in% c("bias", "report")) sorter$add(made_probes(plan, effects, kept))
  parts <- other_parts(study$value, designs, effects, found, balances)
  told <- sorter$told()
  if (step == "question") told$notes <- study$notes
  c(list(parts = c(parts, list(figures = new_figures(), made = designs))), told)
}
