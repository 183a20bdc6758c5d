# Plans whose first part is `panel:`: timing, designs on what was before treatment, the time before it, effects.

is_panel_plan <- function(plan) !is.null(plan$panel)

check_panel_plan <- function(plan, keys) {
  check_keys(plan[setdiff(names(plan), c("path", "lines"))], keys$panel_top, plan, character())
  check_keys(plan$panel, keys$panel, plan, "panel")
  check_keys(plan$baseline, keys$baseline, plan, "baseline")
  check_plan_designs(plan, keys)
  if (length(plan$designs) == 0L && !is.null(plan$baseline)) {
    example <- "designs: {weighed: [score, weigh]}"
    abort_plan(plan, "baseline", c("A {.code baseline:} is what {.code designs:} are made on, and there are none.",
                                   i = "Add a design, such as {.code {example}}."), example = example)
  }
  check_plan_entries(plan, "power", keys)
  if (!isTRUE(plan$trends)) {
    check_keys(plan$trends, keys$trends, plan, "trends")
    if (is.list(plan$trends)) check_reference(plan$trends$design, names(plan$designs), "design", plan, "trends")
  }
  if (!isTRUE(plan$composition)) check_keys(plan$composition, keys$composition, plan, "composition")
  if (!isTRUE(plan$decompose)) check_keys(plan$decompose, keys$decompose, plan, "decompose")
  for (name in names(check_map(plan$effects, plan, "effects"))) {
    check_keys(plan$effects[[name]], keys$did, plan, c("effects", name))
    check_reference(plan$effects[[name]]$design, names(plan$designs), "design", plan, c("effects", name))
  }
  for (name in names(check_map(plan$probes, plan, "probes"))) check_plan_probe(plan, name, keys, "panel")
  check_keys(plan$report, keys$panel_report, plan, "report")
}

plan_panel <- function(plan) {
  settings <- panel_settings(plan)
  at_place(plan, "panel", do.call(frame_panel, settings))
}

panel_settings <- function(plan) {
  settings <- plan_data(plan, "panel", c("outcome", "time"))
  for (key in c("periods", "outcome")) settings[[key]] <- unlist(settings[[key]])
  settings
}

# The panel with each of the plan's designs carried into it, by name; they share its logbook.
designed_panels <- function(plan, panel) {
  if (length(plan$designs) == 0L) return(list())
  designs <- baseline_designs(plan, panel)
  settings <- panel_settings(plan)
  lapply(stats::setNames(nm = names(plan$designs)), function(name) {
    own <- if (is.null(names(designs))) designs[[1L]][[name]] else lapply(designs, `[[`, name)
    carried <- at_place(plan, c("designs", name), do.call(frame_panel, c(settings, list(design = own))))
    share_logbook(carried, study_of(panel)$logbook)
  })
}

# Designs by name: one list for all cohorts, or such a list for each, by its label.
baseline_designs <- function(plan, panel) {
  asked <- lapply(plan$baseline[intersect(names(plan$baseline), names(formals(baseline_rows)))], unlist)
  framing <- plan$baseline[intersect(names(plan$baseline), baseline_framing())]
  study_of_rows <- function(cohort) {
    at_place(plan, "baseline", {
      rows <- do.call(baseline_rows, c(list(panel), utils::modifyList(asked, list(cohort = cohort))))
      roles <- panel$roles
      outcome <- paste0(roles$outcome[1L], "_after")
      given <- list(treatment = "treated", outcome = outcome, id = roles$unit, weight = roles$weight,
                    covariates = plan_formula_or_names(framing$covariates, "covariates"))
      if (is.null(given$covariates)) given$covariates <- baseline_covariates(panel)
      if (!is.null(framing$subset)) framing$subset <- plan_condition(framing$subset)
      plain <- lapply(framing[setdiff(names(framing), c("covariates", "subset"))], unlist)
      do.call(frame_study, c(list(rows), given, plain, framing["subset"[!is.null(framing$subset)]]))
    })
  }
  if (!isTRUE(plan$baseline$each_cohort)) return(list(plan_designs(plan, study_of_rows(asked$cohort))))
  summary <- summary(panel)
  labels <- summary$cohort[!is.na(summary$treated_from)]
  lapply(stats::setNames(nm = labels), function(label) plan_designs(plan, study_of_rows(label)))
}

# The panel's covariates, and the first outcome's mean and slope before treatment.
baseline_covariates <- function(panel) {
  c(names(panel$columns), paste(panel$roles$outcome[1L], c("mean", "slope"), sep = "_"))
}

# Which of the panels a part of the plan speaks of: the one with the design that it names, else the plain one.
named_panel <- function(settings, panel, designed) {
  if (is.null(settings$design)) return(panel)
  check_made(settings$design, designed)
  designed[[settings$design]]
}

# A part of the plan that may be `true` or settings; NULL when it is not asked for.
plan_part <- function(plan, part, verb, panel, designed = list()) {
  settings <- plan[[part]]
  if (is.null(settings) || isFALSE(settings)) return(NULL)
  if (isTRUE(settings)) settings <- list()
  at_place(plan, part, {
    from <- named_panel(settings, panel, designed)
    do.call(verb, c(list(from), lapply(settings[setdiff(names(settings), "design")], unlist)))
  })
}

# Per effect list(measured, shown): as estimated, and averaged as `over` says.
plan_panel_effects <- function(plan, panel, designed = list()) {
  averaging <- setdiff(names(formals(summarise_did)), c("x", "level", "seed"))
  lapply(stats::setNames(nm = names(plan$effects)), function(name) {
    at_place(plan, c("effects", name), {
      settings <- lapply(plan$effects[[name]], unlist)
      from <- named_panel(settings, panel, designed)
      measured <- do.call(measure_did, c(list(from), settings[setdiff(names(settings), c("design", averaging))]))
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
  designed <- designed_panels(plan, panel)
  balances <- say_panel_designs(plan, designed)
  powers <- plan_powers(plan, panel, designed)
  for (name in names(powers)) writeLines(c("", sprintf("== power: %s ==", name), format(powers[[name]])))
  composition <- plan_part(plan, "composition", assess_composition, panel)
  if (!is.null(composition)) writeLines(c("", format(composition)))
  trends <- plan_part(plan, "trends", assess_trends, panel, designed)
  if (!is.null(trends)) writeLines(c("", format(trends)))
  if (strict && !is.null(trends) && isTRUE(generics::glance(trends)$p.value < 1 - trends$level)) {
    complain(wrap_lines("twin run: the test of trends before treatment fails; with --strict nothing is measured."))
    return(1L)
  }
  if (strict && fails_strictly(balances, "nothing is measured")) return(1L)
  effects <- plan_panel_effects(plan, panel, designed)
  shown <- each_did(lapply(effects, `[[`, "shown"))
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
  parts <- panel_parts(panel, shown, probes, truth, trends, decomposition, designed, balances)
  parts$powers <- powers
  parts$composition <- composition
  deliver(out, function(draft) write_panel_results(draft, parts, plan),
          ".csv and .tex; beside them figures and logbook")
}

# Each design that is carried into the panel, and the balance of what units were before treatment.
say_panel_designs <- function(plan, designed) {
  balances <- plan_balances(plan, designed)
  say_balances(designed, balances, "the time under treatment")
  for (name in names(designed)) {
    writeLines(strwrap(sprintf("%s: %s", name, paste(carried_text(designed[[name]]), collapse = "; ")), 80, indent = 2,
                       exdent = 4))
  }
  balances
}

write_panel_results <- function(draft, parts, plan) {
  results <- c(
    Filter(Negate(is.null), list(composition = parts$composition, trends = parts$trends,
                                      decomposition = parts$decomposition)),
    prefixed("balance", parts$balances), prefixed("power", parts$powers),
    prefixed("effects", parts$comparisons), prefixed("effect", parts$effects), prefixed("probe", parts$probes)
  )
  names(results) <- make.unique(names(results), " ")
  table_at <- table_places(draft, c(names(results), "timing"))
  write_tables(results, table_at)
  write_csv(summary(parts$panel), table_at("timing", ".csv"))
  finish_results(draft, parts, plan)
}
