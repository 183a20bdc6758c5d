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

# The page has no steps for these questions.
check_page_question <- function(study) {
  if (!is_other_question(study)) return(study)
  abort_unsupported(c("This page has no steps for doses and treatment over time.",
                      i = "{.code twin run} makes the whole of this plan."), call = NULL)
}
