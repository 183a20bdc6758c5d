# Plans whose first part is `panel:`: timing, the time before treatment, effects over time.

is_panel_plan <- function(plan) !is.null(plan$panel)

check_panel_plan <- function(plan, keys) {
  check_keys(plan[setdiff(names(plan), c("path", "lines"))], keys$panel_top, plan, character())
  check_keys(plan$panel, keys$panel, plan, "panel")
  if (!isTRUE(plan$trends)) check_keys(plan$trends, keys$trends, plan, "trends")
  if (!isTRUE(plan$decompose)) check_keys(plan$decompose, keys$decompose, plan, "decompose")
  for (name in names(check_map(plan$effects, plan, "effects"))) {
    check_keys(plan$effects[[name]], keys$did, plan, c("effects", name))
  }
  for (name in names(check_map(plan$probes, plan, "probes"))) check_plan_probe(plan, name, keys, "panel")
  check_keys(plan$report, keys$panel_report, plan, "report")
}

plan_panel <- function(plan) {
  settings <- plan_data(plan, "panel", c("outcome", "time"))
  for (key in c("periods", "outcome")) settings[[key]] <- unlist(settings[[key]])
  at_place(plan, "panel", do.call(frame_panel, settings))
}

# A part of the plan that may be `true` or settings; NULL when it is not asked for.
plan_part <- function(plan, part, verb, panel) {
  settings <- plan[[part]]
  if (is.null(settings) || isFALSE(settings)) return(NULL)
  if (isTRUE(settings)) settings <- list()
  at_place(plan, part, do.call(verb, c(list(panel), lapply(settings, unlist))))
}

# Per effect list(measured, shown): as estimated, and averaged as `over` says.
plan_panel_effects <- function(plan, panel) {
  averaging <- setdiff(names(formals(summarise_did)), c("x", "level", "seed"))
  lapply(stats::setNames(nm = names(plan$effects)), function(name) {
    at_place(plan, c("effects", name), {
      settings <- lapply(plan$effects[[name]], unlist)
      measured <- do.call(measure_did, c(list(panel), settings[setdiff(names(settings), averaging)]))
      average <- settings[intersect(names(settings), averaging)]
      if (length(average) > 0L && is.null(average$over)) {
        abort_input("{.code {names(average)[1L]}} belongs to an average; say which with {.code over}.", call = NULL)
      }
      list(measured = measured, shown = if (length(average) == 0L) measured else
        do.call(summarise_did, c(list(measured), average)))
    })
  })
}

run_panel_plan <- function(plan, out, strict) {
  panel <- plan_panel(plan)
  resume_logbook(panel, previous_entries(out))
  writeLines(format(panel))
  trends <- plan_part(plan, "trends", assess_trends, panel)
  if (!is.null(trends)) writeLines(c("", format(trends)))
  if (strict && !is.null(trends) && isTRUE(generics::glance(trends)$p.value < 1 - trends$level)) {
    complain(wrap_lines("twin run: the test of trends before treatment fails; with --strict nothing is measured."))
    return(1L)
  }
  effects <- plan_panel_effects(plan, panel)
  shown <- lapply(effects, `[[`, "shown")
  truth <- unlist(plan$report$truth)
  at_place(plan, c("report", "truth"), check_truth(truth, shown, call = NULL))
  at_place(plan, c("report", "headline"), check_headline(plan$report$headline, shown, call = NULL))
  for (comparison in panel_comparisons(shown, truth)) writeLines(c("", format(comparison)))
  decomposition <- plan_part(plan, "decompose", decompose_did, panel)
  if (!is.null(decomposition)) writeLines(c("", format(decomposition)))
  probes <- plan_probe_results(plan, lapply(effects, `[[`, "measured"))
  for (name in names(probes)) {
    writeLines(c("", strwrap(paste0(name, ": ", probe_verdict(probes[[name]])), 80, exdent = 2)))
  }
  parts <- panel_parts(panel, shown, probes, truth, trends, decomposition)
  deliver(out, function(draft) write_panel_results(draft, parts, plan),
          ".csv and .tex; beside them figures and logbook")
}

write_panel_results <- function(draft, parts, plan) {
  results <- c(
    Filter(Negate(is.null), list(trends = parts$trends, decomposition = parts$decomposition)),
    prefixed("effects", parts$comparisons), prefixed("effect", parts$effects), prefixed("probe", parts$probes)
  )
  names(results) <- make.unique(names(results), " ")
  table_at <- table_places(draft, c(names(results), "timing"))
  write_tables(results, table_at)
  write_csv(summary(parts$panel), table_at("timing", ".csv"))
  finish_results(draft, parts, plan)
}
