# The files of a run: tables, figures, weights, logbook, pages.

write_results <- function(draft, parts, plan) {
  results <- c(
    list(groups = parts$groups),
    prefixed("overlap", Filter(Negate(is.null), lapply(parts$arms, `[[`, "overlap"))),
    prefixed("arms", lapply(parts$arms, `[[`, "balance")), prefixed("balance", parts$balances),
    prefixed("weights", lapply(parts$weighted, assess_weights)),
    prefixed("responses", lapply(parts$responding, assess_responses)),
    if (!is.null(parts$scored)) list(calibration = assess_score(parts$scored)),
    prefixed("effects", parts$comparisons), prefixed("effects", several_effects(parts$effects)),
    prefixed("variation", parts$variations),
    prefixed("probe", parts$probes), prefixed("power", parts$powers)
  )
  names(results) <- make.unique(names(results), " ")  # an effect may have the name of an outcome
  lasting <- prefixed("curves", lasting_effects(parts$effects))
  paired <- prefixed("pairs", parts$paired)
  table_at <- table_places(draft, c(names(results), names(lasting), names(paired)))
  write_tables(results, table_at)
  for (name in names(lasting)) write_csv(generics::tidy(lasting[[name]], part = "curves"), table_at(name, ".csv"))
  for (name in names(paired)) write_csv(pairs_of(paired[[name]]), table_at(name, ".csv"))
  if (!is.null(parts$weights)) write_csv(parts$weights, file.path(draft, "weights.csv"))
  finish_results(draft, parts, plan)
}

# Where the table of the result called so goes: a function of its name and ending.
table_places <- function(draft, names) {
  make_folder(file.path(draft, "tables"))
  stems <- file_stems(names)
  function(name, ending) file.path(draft, "tables", paste0(stems[[name]], ending))
}

# What every run leaves beside its tables: figures, reports, words for the paper, logbook, plan, and what a later run is
# compared with. Making the report draws the figures.
finish_results <- function(draft, parts, plan) {
  parts <- with_headline(parts, plan$report$headline, new_figures(file.path(draft, "figures")))
  report <- new_report(parts, plan$report$title)
  write_report_file(report, file.path(draft, "report.html"))
  if (length(parts$probes) > 0L) {
    write_report_file(new_report(parts, plan$report$title, "bias"), file.path(draft, "hidden-bias.html"))
  }
  write_paper_words(draft, parts)
  if (rlang::is_installed("officer")) write_report_file(report, file.path(draft, "report.docx"))
  write_csv(as.data.frame(logbook(parts$study)), file.path(draft, "logbook.csv"))
  stopifnot(file.copy(plan$path, file.path(draft, "plan.yml")))
  write_run_facts(draft, parts, plan)
}

# Each result as .csv and .tex.
write_tables <- function(results, table_at) {
  for (name in names(results)) {
    for (ending in c(".csv", ".tex")) export_table(results[[name]], table_at(name, ending))
  }
}

prefixed <- function(prefix, parts) stats::setNames(parts, if (length(parts) > 0L) paste(prefix, names(parts)))
