# `twin run` and `twin demo`.

command_run <- function(flags, args) {
  out <- if (is.null(flags$out)) beside(args, "results") else flags$out
  run_plan(args, out, flags$strict)
}

# A neighbour of a file, without a leading "./".
beside <- function(file, name) if (dirname(file) == ".") name else file.path(dirname(file), name)

command_demo <- function(flags, args) {
  folder <- if (is.null(flags$out)) "twin-demo" else flags$out
  make_folder(folder)
  files <- if (flags$panel) c("harbours.csv", "panel.yml") else c("crews.csv", "plan.yml")
  names(files) <- c(files[1L], "plan.yml")
  for (name in names(files)) {
    source <- system.file("extdata", files[[name]], package = "carefultwin")
    write_whole(file.path(folder, name), function(path) stopifnot(file.copy(source, path, overwrite = TRUE)))
  }
  status <- run_plan(file.path(folder, "plan.yml"), file.path(folder, "results"), strict = FALSE)
  if (status == 0L) {
    writeLines(c("", "The data are simulated, so the truth is known and marked in the report.",
                 paste("The plan behind it:", file.path(folder, "plan.yml")),
                 "Your own data: twin draft DATA, then look at the plan it writes."))
  }
  status
}

# Everything is made in a folder of its own beside the goal and moved when whole, so a failed run leaves nothing.
run_plan <- function(path, out, strict) {
  plan <- read_plan(path)
  check_out(out)
  if (is_panel_plan(plan)) return(run_panel_plan(plan, out, strict))
  study <- plan_study(plan)
  resume_logbook(study_of(study), previous_entries(out))
  say_study(study_of(study))
  made <- plan_designs(plan, study)
  designs <- two_arm_designs(made)
  balances <- plan_balances(plan, designs)
  say_balances(designs, balances)
  failed <- unbalanced(balances)
  if (strict && length(failed) > 0L) {
    complain(wrap_lines(sprintf("twin run: rows fail in %s; with --strict the outcome stays sealed.",
                                and_list(failed))))
    return(1L)
  }
  powers <- plan_powers(plan, study, designs)
  for (name in names(powers)) writeLines(c("", paste0(name, ":"), format(powers[[name]])))
  effects <- plan_effects(plan, study, made)
  truth <- unlist(plan$report$truth)
  at_place(plan, c("report", "truth"), check_truth(truth, effects, call = NULL))
  say_effects(effects, truth)
  probes <- plan_probe_results(plan, effects)
  for (name in names(probes)) writeLines(strwrap(paste0(name, ": ", probe_verdict(probes[[name]])), 80, exdent = 2))
  parts <- report_parts(study_of(study), designs, effects, probes, truth, balances, plan_groups(plan, study_of(study)))
  parts$powers <- powers
  deliver(out, function(draft) write_results(draft, parts, plan), "Tables, figures, weights and logbook:")
}

# Makes the results in a folder of their own beside the goal, and moves them when they are whole.
deliver <- function(out, write, what) {
  make_folder(dirname(out))
  draft <- tempfile(".twin-", dirname(out))
  on.exit(unlink(draft, recursive = TRUE))
  write(draft)
  move_results(draft, out)
  page <- file.path(out, "hidden-bias.html")
  writeLines(c("", paste("Report:", file.path(out, "report.html")),
               if (file.exists(page)) paste("Hidden bias alone, for a referee:", page), paste(what, out)))
  0L
}

say_study <- function(study) {
  writeLines(c(sprintf("%s: %s treated (\"%s\"), %s control (\"%s\"), %s", study$roles$treatment,
                       count_text(sum(study$z)), study$levels[["treated"]], count_text(sum(1L - study$z)),
                       study$levels[["control"]], study$estimand),
               paste("missing:", missing_text(study)))  |> strwrap(80, exdent = 2))
}

say_balances <- function(designs, balances) {
  if (length(balances) == 0L) return(invisible())
  writeLines(c("", "Designs (the outcome is still closed)"))
  for (name in names(balances)) {
    s <- summary(balances[[name]])
    writeLines(strwrap(sprintf("%s: %s; %d of %d rows pass, worst |SMD| %s (%s); effective %s treated, %s control",
                               name, balances[[name]]$design, s$passing, s$rows, number_text(s$worst_smd),
                               s$worst_covariate, count_text(round(s$ess_treated)), count_text(round(s$ess_control))),
                       80, indent = 2, exdent = 4))
  }
}

say_effects <- function(effects, truth) {
  for (comparison in effect_comparisons(effects, truth)) writeLines(c("", format(comparison)))
  several <- several_effects(effects)
  for (name in names(several)) writeLines(c("", paste0(name, ":"), format(several[[name]])))
  if (length(effects) > 0L) writeLines("")
}

check_out <- function(out) {
  if (file.exists(out) && !dir.exists(out)) {
    abort_file(c("Can't write results to {.file {out}}.", x = "It is a file, not a folder."), path = out, call = NULL)
  }
  above <- out
  while (!file.exists(above)) above <- dirname(above)
  if (!dir.exists(above) || file.access(above, 2L) != 0L) {
    abort_file(c("Can't write results to {.file {out}}.", x = "{.file {above}} can't be written to."), path = out,
               call = NULL)
  }
}

make_folder <- function(folder) {
  if (dir.exists(folder)) return(invisible(folder))
  if (!suppressWarnings(dir.create(folder, recursive = TRUE))) {
    abort_file(c("Can't make the folder {.file {folder}}.", i = "Is there a file in its way, or no right to write?"),
               path = folder, call = NULL)
  }
}

# Runs of one plan share one logbook, so that designs tried after the outcome was seen are counted across runs.
previous_entries <- function(out) {
  file <- file.path(out, "logbook.csv")
  if (!file.exists(file)) return(NULL)
  entries <- data.table::fread(file, data.table = FALSE, na.strings = "", colClasses = list(character = c(
    "time", "verb", "what", "counts", "settings", "design")))
  if (identical(names(entries), names(logbook_columns()))) return(entries)
  abort_input(c("{.file {file}} is not a logbook of this version.",
                i = "Move it away, or choose another folder with --out."), call = NULL)
}

write_results <- function(draft, parts, plan) {
  for (folder in file.path(draft, c("tables", "figures"))) make_folder(folder)
  table_file <- function(name) file.path(draft, "tables", file_name(name))
  figure_file <- function(name) file.path(draft, "figures", paste0(file_name(name), ".png"))
  results <- c(
    list(groups = parts$groups),
    prefixed("balance", parts$balances),
    prefixed("weights", lapply(Filter(has_weights, parts$designs), assess_weights)),
    if (!is.null(parts$scored)) list(calibration = assess_score(parts$scored)),
    prefixed("effects", parts$comparisons), prefixed("effects", several_effects(parts$effects)),
    prefixed("probe", parts$probes), prefixed("power", parts$powers)
  )
  names(results) <- make.unique(names(results), " ")  # an effect may have the name of an outcome
  write_tables(results, table_file, figure_file)
  lasting <- lasting_effects(parts$effects)
  for (name in names(lasting)) {
    data.table::fwrite(generics::tidy(lasting[[name]], part = "curves"),
                       paste0(table_file(paste("curves", name)), ".csv"))
    save_figure(plot(lasting[[name]]), figure_file(paste("curves", name)))
  }
  paired <- Filter(has_pairs, parts$designs)
  for (name in names(paired)) {
    data.table::fwrite(pairs_of(paired[[name]]), paste0(table_file(paste("pairs", name)), ".csv"))
    save_figure(plot(paired[[name]]), figure_file(paste("pairs", name)))
  }
  if (!is.null(parts$scored)) save_figure(plot(assess_overlap(parts$scored)), figure_file("overlap"))
  data.table::fwrite(defuse_formulas(design_weights(parts$study, parts$designs)), file.path(draft, "weights.csv"))
  data.table::fwrite(as.data.frame(logbook(parts$study)), file.path(draft, "logbook.csv"))
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
write_tables <- function(results, table_file, figure_file) {
  for (name in names(results)) {
    for (ending in c(".csv", ".tex")) export_table(results[[name]], paste0(table_file(name), ending))
    if (name != "groups") save_figure(plot(results[[name]]), figure_file(name))
  }
}

prefixed <- function(prefix, parts) stats::setNames(parts, if (length(parts) > 0L) paste(prefix, names(parts)))

# Names from the data or the plan as parts of file names.
file_name <- function(name) gsub("[^A-Za-z0-9_]+", "-", name)

save_figure <- function(plot, file) {
  ggplot2::ggsave(file, plot, device = ragg::agg_png, width = 1280, height = 800, units = "px", dpi = 144)
}

# One row per row of the data: its number, the id if there is one, and each design's weight and set.
design_weights <- function(study, designs) {
  out <- data.frame(row = seq_len(nrow(study$data)))
  if (!is.null(study$roles$id)) out[[study$roles$id]] <- study$data[[study$roles$id]]
  for (name in names(designs)) {
    out[[paste0(name, ".weight")]] <- stats::weights(designs[[name]])
    if (!is.null(designs[[name]]$set)) out[[paste0(name, ".set")]] <- on_all_rows(designs[[name]], designs[[name]]$set,
                                                                                  NA_integer_)
  }
  out
}

move_results <- function(draft, out) {
  if (!dir.exists(out) && file.rename(draft, out)) return(invisible(out))
  for (folder in file.path(out, c("", "tables", "figures"))) make_folder(folder)
  files <- list.files(draft, recursive = TRUE)
  moved <- file.rename(file.path(draft, files), file.path(out, files))
  if (!all(moved)) {
    abort_file(c("Can't write to {.file {out}}.", x = "Not replaced: {.file {files[!moved]}}."), path = out,
               call = NULL)
  }
}
