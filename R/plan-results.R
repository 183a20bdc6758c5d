# The files of a run: tables, figures, weights, logbook, pages.

write_results <- function(draft, parts, plan) {
  results <- c(
    list(groups = parts$groups),
    prefixed("balance", parts$balances),
    prefixed("weights", lapply(parts$weighted, assess_weights)),
    prefixed("responses", lapply(parts$responding, assess_responses)),
    if (!is.null(parts$scored)) list(calibration = assess_score(parts$scored)),
    prefixed("effects", parts$comparisons), prefixed("effects", several_effects(parts$effects)),
    prefixed("probe", parts$probes), prefixed("power", parts$powers)
  )
  names(results) <- make.unique(names(results), " ")  # an effect may have the name of an outcome
  lasting <- prefixed("curves", lasting_effects(parts$effects))
  paired <- prefixed("pairs", parts$paired)
  place <- result_places(draft, c(names(results), names(lasting), names(paired), "overlap"))
  write_tables(results, place)
  for (name in names(lasting)) {
    write_csv(generics::tidy(lasting[[name]], part = "curves"), place$table(name, ".csv"))
    save_figure(plot(lasting[[name]]), place$figure(name))
  }
  for (name in names(paired)) {
    write_csv(pairs_of(paired[[name]]), place$table(name, ".csv"))
    save_figure(plot(paired[[name]]), place$figure(name))
  }
  if (!is.null(parts$scored)) save_figure(plot(assess_overlap(parts$scored)), place$figure("overlap"))
  write_csv(parts$weights, file.path(draft, "weights.csv"))
  finish_results(draft, parts, plan, parts$study)
}

# Where the results called so go: functions of a name that give the path of its table or picture.
result_places <- function(draft, names) {
  for (folder in file.path(draft, c("tables", "figures"))) make_folder(folder)
  stems <- file_stems(names)
  list(table = function(name, ending) file.path(draft, "tables", paste0(stems[[name]], ending)),
       figure = function(name) file.path(draft, "figures", paste0(stems[[name]], ".png")))
}

# What every run leaves beside its tables: logbook, plan and pages.
finish_results <- function(draft, parts, plan, study) {
  write_csv(as.data.frame(logbook(study)), file.path(draft, "logbook.csv"))
  stopifnot(file.copy(plan$path, file.path(draft, "plan.yml")))
  write_pages(draft, parts, plan$report$title)
}

# The report, and the page on hidden bias for a referee to read alone.
write_pages <- function(draft, parts, title) {
  sections <- report_sections(parts)
  write_page(file.path(draft, "report.html"), parts, title, sections = sections)
  if (length(parts$probes) > 0L) write_page(file.path(draft, "hidden-bias.html"), parts, title, "bias", sections)
}

# Each result as .csv and .tex, and its picture.
write_tables <- function(results, place) {
  for (name in names(results)) {
    for (ending in c(".csv", ".tex")) export_table(results[[name]], place$table(name, ending))
    if (name != "groups") save_figure(plot(results[[name]]), place$figure(name))
  }
}

prefixed <- function(prefix, parts) stats::setNames(parts, if (length(parts) > 0L) paste(prefix, names(parts)))

save_figure <- function(plot, file) {
  ggplot2::ggsave(file, plot, device = ragg::agg_png, width = 1280, height = 800, units = "px", dpi = 144)
}
