# A plan run whole: what is said on the way, and results that are moved when they are all there.

# Everything is made in a folder of its own beside the goal and moved when whole, so a failed run leaves nothing.
run_plan <- function(path, out, strict) {
  plan <- read_plan(path)
  check_out(out)
  if (is_panel_plan(plan)) return(run_panel_plan(plan, out, strict))
  study <- plan_study(plan)
  if (is_other_question(study)) return(run_other_plan(plan, study, out, strict))
  resume_logbook(study_of(study), previous_entries(out))
  say_study(study_of(study))
  made <- plan_designs(plan, study)
  designs <- two_arm_designs(made)
  balances <- plan_balances(plan, designs)
  arms <- plan_arms(plan, made)
  for (name in names(arms)) {
    writeLines(c("", wrap_lines(paste0(name, ", all arms: ", arms_verdict(arms[[name]]$balance)))))
  }
  say_balances(designs, balances)
  if (strict && fails_strictly(balances, "the outcome stays sealed")) return(1L)
  powers <- each_alone(plan_powers(plan, study, made))
  for (name in names(powers)) writeLines(c("", paste0(name, ":"), format(powers[[name]])))
  measured <- plan_effects(plan, study, made)
  effects <- each_alone(measured)
  truth <- unlist(plan$report$truth)
  at_place(plan, c("report", "truth"), check_truth(truth, effects, call = NULL))
  at_place(plan, c("report", "headline"), check_headline(plan$report$headline, effects, call = NULL))
  say_effects(effects, truth)
  variations <- plan_variations(plan, study, designs)
  for (name in names(variations)) writeLines(c(paste0(name, ":"), format(variations[[name]]), ""))
  probes <- each_alone(plan_probe_results(plan, measured))
  for (name in names(probes)) {
    writeLines(strwrap(paste0(name, ": ", probe_verdict(probes[[name]])), 80, exdent = 2))
  }
  parts <- report_parts(study_of(study), designs, effects, probes, truth, balances,
                        plan_groups(plan, described_study(study)), powers, variations, arms)
  deliver(out, function(draft) write_results(draft, parts, plan),
          paste0(".csv and .tex; beside them figures, ", if (!is.null(parts$weights)) "weights, ", "logbook"))
}

# The question and both groups, or the timing of a panel.
describe_plan <- function(plan) {
  if (is_panel_plan(plan)) {
    print(plan_panel(plan))
    return(0L)
  }
  study <- plan_study(plan)
  print(study)
  if (is_other_question(study)) return(0L)
  writeLines("")
  print(plan_groups(plan, study))
  0L
}

# The designs and their balance; the outcome stays sealed.
balance_plan <- function(plan, strict) {
  if (is_panel_plan(plan)) {
    if (length(plan$designs) == 0L && length(plan$panel$covariates) == 0L) {
      abort_input(c("The panel has neither covariates nor designs whose balance could be judged.",
                    i = "{.code twin describe} shows the timing; {.code twin run} judges the time before treatment."),
                  call = NULL)
    }
    study <- plan_panel(plan)
    designs <- designed_panels(plan, study)
  } else {
    study <- plan_study(plan)
    designs <- plan_designs(plan, study)
  }
  balances <- plan_balances(plan, designs)
  if (length(balances) == 0L) balances <- list(study = do.call(assess_balance, c(list(study), plan_judging(plan))))
  for (name in names(balances)) {
    writeLines(c(paste0("== ", name, " =="), format(balances[[name]]), ""))
  }
  powers <- plan_powers(plan, study, designs)
  for (name in names(powers)) writeLines(c(paste0("== power: ", name, " =="), format(powers[[name]]), ""))
  writeLines(seal_sentence(summary(logbook(study))))
  failed <- unbalanced(balances)
  if (strict && length(failed) > 0L) {
    complain(wrap_lines(sprintf("twin balance: rows fail in %s.", and_list(failed))))
    return(1L)
  }
  0L
}

# Makes the results in a folder of their own beside the goal, and puts it in the goal's place when it is whole. Until
# then the old results stay; what else lies in their folder comes along.
deliver <- function(out, write, what) {
  goal <- link_goal(out)
  make_folder(dirname(goal))
  clear_stale_drafts(dirname(goal))
  draft <- draft_path(dirname(goal))
  on.exit(unlink(draft, recursive = TRUE))
  write(draft)
  keep_other_files(draft, goal)
  put_in_place(draft, goal)
  told <- c(report.html = "the report; start here", report.docx = "the same for Word",
            "hidden-bias.html" = "hidden bias alone, for a referee", methods.md = "a paragraph for the methods section",
            checklist.md = "a referee's questions, answered", tables = what)
  told <- told[file.exists(file.path(out, names(told)))]
  writeLines(c("", paste("Results in", out), sprintf("  %-18s%s", names(told), told),
               if (!rlang::is_installed("officer")) "Word files need the package officer, which is not installed."))
  0L
}

results_list <- ".twin-results"  # names the files of a run, so that the next one knows them from other people's

keep_other_files <- function(draft, goal) {
  own <- list.files(draft, recursive = TRUE, all.files = TRUE)
  write_text(c(own, results_list), file.path(draft, results_list))
  if (!dir.exists(goal)) return(invisible(draft))
  listed <- file.path(goal, results_list)
  before <- if (file.exists(listed)) readLines(listed, encoding = "UTF-8") else character()
  others <- setdiff(list.files(goal, recursive = TRUE, all.files = TRUE), c(own, before, results_list))
  for (folder in unique(dirname(file.path(draft, others)))) make_folder(folder)
  moved <- file.copy(file.path(goal, others), file.path(draft, others), copy.date = TRUE)
  if (!all(moved)) {
    abort_file(c("Can't keep what else is in {.file {goal}}.", x = "Not copied: {.file {others[!moved]}}."),
               path = goal, call = NULL)
  }
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

# Runs of one plan share one logbook, so that designs tried after the outcome was seen are counted across runs.
previous_entries <- function(out) {
  file <- file.path(out, "logbook.csv")
  if (file.exists(file)) read_log(file)
}

read_log <- function(file) {
  text <- c("time", "verb", "what", "counts", "settings", "design")
  entries <- single_quotes(suppressWarnings(  # of columns that are not there: told below
    data.table::fread(file, data.table = FALSE, na.strings = "", colClasses = list(character = text))
  ))
  if (identical(names(entries), names(logbook_columns()))) return(entries)
  abort_input(c("{.file {file}} is not a logbook of this version.",
                i = "Move it away, or choose another folder with --out."), call = NULL)
}

say_study <- function(study) {
  writeLines(c(sprintf("%s: %s treated (\"%s\"), %s control (\"%s\"), %s", study$roles$treatment,
                       count_text(study_sizes(study)[["treated"]]), study$levels[["treated"]],
                       count_text(study_sizes(study)[["control"]]),
                       study$levels[["control"]], study$estimand),
               if (!is.null(study$imputed)) paste("imputed:", imputed_text(study$imputed)),
               paste("missing:", missing_text(study)), if (is_remote(study)) remote_line(study)) |>
               strwrap(80, exdent = 2))
}

say_balances <- function(designs, balances, closed = "the outcome") {
  if (length(balances) == 0L) return(invisible())
  writeLines(c("", sprintf("Designs (%s is still closed)", closed)))
  for (name in names(balances)) {
    s <- summary(balances[[name]])
    writeLines(strwrap(sprintf("%s: %s; %s, worst |SMD| %s (%s); effective %s treated, %s control",
                               name, balances[[name]]$design, pass_words(s), number_text(s$worst_smd),
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

# Says in which designs rows fail; then with --strict the run ends.
fails_strictly <- function(balances, what) {
  failed <- unbalanced(balances)
  if (length(failed) == 0L) return(FALSE)
  complain(wrap_lines(sprintf("twin run: rows fail in %s; with --strict %s.", and_list(failed), what)))
  TRUE
}

unbalanced <- function(balances) {
  names(balances)[!vapply(balances, function(balance) {
    facts <- generics::glance(balance)
    if (inherits(balance, "twin_balance")) summary(balance)$balanced else all(facts$passing == facts$rows)
  }, NA)]
}

message_lines <- function(condition, in_plan) {
  text <- c(strsplit(cli::ansi_strip(rlang::cnd_message(condition)), "\n")[[1L]], condition$place)
  if (in_plan) text <- plan_words(text)
  unlist(lapply(text, strwrap, width = 77L, exdent = 2L))
}

# What a message says in R's words, in those of a plan: `caliper = 0.1` is `caliper: 0.1`, `pair_units(ratio = c(1, 5))`
# is `pair: {ratio: [1, 5]}`, `truncate = c(bound = 20)` is `truncate: {bound: 20}`, `pair_units()` is `pair`.
plan_words <- function(text) {
  keys <- c(stats::setNames(names(plan_verbs), plan_verbs), frame_study = "study", frame_panel = "panel",
            measure_effect = "effects", measure_did = "effects", assess_trends = "trends", decompose_did = "decompose",
            assess_power = "power", assess_composition = "composition", measure_variation = "variation",
            frame_dose = "study",
            frame_course = "study", measure_response = "effects", measure_course = "effects")
  for (verb in names(keys)) {
    text <- gsub(sprintf("`%s()`", verb), sprintf("`%s`", keys[[verb]]), text, fixed = TRUE)
    text <- gsub(sprintf("`%s\\((x, |)([^`]*)\\)`", verb), sprintf("`%s: {\\2}`", keys[[verb]]), text, perl = TRUE)
  }
  text <- gsub("`(group|weigh): [{]\"([a-z_]+)\"", "`\\1: {method: \\2", text)
  quoted <- gregexpr("`[^`]*`", text)
  regmatches(text, quoted) <- lapply(regmatches(text, quoted), function(code) {
    setting <- grepl("^`([a-z_]+: [{])?([a-z_]+ = |(c|list)[(])", code)
    own <- gsub("([a-z_]+) = ", "\\1: ", code[setting])
    for (depth in 1:2) {
      own <- gsub("\\b(c|list)\\(([a-z_]+: [^()]*)\\)", "{\\2}", own)
      own <- gsub("\\b(c|list)\\(([^()]*)\\)", "[\\2]", own)
    }
    code[setting] <- own
    gsub("\\bTRUE\\b", "true", gsub("\\bFALSE\\b", "false", gsub("\\bNULL\\b", "null", code)))
  })
  text
}

complain <- function(lines) writeLines(lines, stderr())
