#' Write the report
#'
#' One self-contained HTML page with the whole analysis: question, both groups, propensity score, overlap, balance of
#' every design, effects side by side, hidden bias and logbook. Works offline, prints, and can be read on a phone.
#' Whatever comes from the data is escaped. The page is written under a temporary name and renamed.
#'
#' @param file Path ending in `.html`, in a folder that exists.
#' @param study The `twin_study`, `twin_arms` or `twin_panel`.
#' @param designs Named list of designs made from it; of a study.
#' @param effects Named list of effects, of [measure_effect()] and [measure_hazard()], or of a panel of [measure_did()]
#'   and [summarise_did()]. They are set side by side by outcome; those of several outcomes, groups or arms, and paths
#'   over time, have a table of their own.
#' @param probes Named list of probes.
#' @param title Heading of the page; made from the study by default.
#' @param truth True differences where they are known (practice data): a numeric vector named by outcome.
#' @param balances Named list of balances that exist, by design: those of [assess_balance()]. The others are judged here
#'   by `limit` and `ratio_range`.
#' @param limit,ratio_range Balance limits, as in [assess_balance()]; of a study.
#' @param trends,decomposition Of a panel: what [assess_trends()] and [decompose_did()] gave.
#' @param powers Named list of what [assess_power()] gave; of a study.
#' @param only `"all"` (default), or `"bias"` for a page on hidden bias alone, with the question above it, that a
#'   referee can read by itself.
#' @return `file`, invisibly.
#' @section Errors: `twin_error_input` for lists without names or with other objects in them, `twin_error_file` when
#'   the file can't be written.
#' @family out
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + past_income)
#' design <- study |> score_units() |> weigh_units()
#' file <- write_report(tempfile(fileext = ".html"), study, designs = list(weights = design),
#'                      effects = list(raw = measure_effect(study), weights = measure_effect(design)))
#' file.size(file) > 0
#' @export
write_report <- function(file, study, designs = list(), effects = list(), probes = list(), title = NULL, truth = NULL,
                         limit = "standard", ratio_range = NULL, trends = NULL, decomposition = NULL,
                         powers = list(), balances = list(), only = c("all", "bias")) {
  check_string(file)
  balance_limits(limit, ratio_range)
  if (!is.null(title) && !(rlang::is_string(title) && validUTF8(title))) {
    abort_input(c("{.arg title} must be one text in quotes.", x = "It is {describe_value(title)}."))
  }
  only <- check_choice(only, c("all", "bias"))
  check_class(study, c("twin_study", "twin_arms", "twin_panel"), c("frame_study", "frame_panel"))
  if (inherits(study, "twin_panel")) {
    parts <- checked_panel_parts(study, designs, effects, probes, truth, trends, decomposition)
    check_html_name(file)
    if (length(powers) > 0L) abort_input("A panel has no {.arg powers}; leave them out.")
    if (length(balances) > 0L) abort_input("A panel has no {.arg balances}; leave them out.")
    write_page(file, parts, title, only)
    return(invisible(file))
  }
  if (!is.null(c(trends, decomposition))) {
    abort_input("{.arg trends} and {.arg decomposition} belong to the report of a panel.")
  }
  study <- study_of(study)
  check_parts(designs, c("twin_design", "twin_arms"), "score_units")
  designs <- two_arm_designs(designs)
  check_parts(effects, c("twin_effect", "twin_effects"), "measure_effect")
  check_parts(probes, "twin_probe", "probe_pairs")
  check_parts(powers, "twin_power", "assess_power")
  check_string(title, null = TRUE)
  check_truth(truth, effects)
  check_html_name(file)
  balances <- report_balances(designs, balances, limit, ratio_range, missing(limit) && missing(ratio_range))
  parts <- report_parts(study, designs, effects, probes, truth, balances, describe_groups(study))
  parts$powers <- powers
  write_page(file, parts, title, only)
  invisible(file)
}

# The balances given, and those of the other designs. plain: are no limits asked for?
report_balances <- function(designs, balances, limit, ratio_range, plain, call = rlang::caller_env()) {
  check_parts(balances, "twin_balance", "assess_balance", "balances", call)
  stray <- setdiff(names(balances), names(designs))
  if (length(stray) > 0L) {
    abort_input(c("{.arg balances} must be named as the {.arg designs} are.", x = "There is no design {.val {stray}}.",
                  i = "The designs are {.val {names(designs)}}."), call = call)
  }
  if (length(balances) > 0L && !plain) {
    abort_input(c("{.arg limit} and {.arg ratio_range} have no use with {.arg balances}, which have their own.",
                  i = "Leave one of both out."), call = call)
  }
  lapply(stats::setNames(nm = names(designs)), function(name) {
    if (!is.null(balances[[name]])) return(balances[[name]])
    assess_balance(designs[[name]], limit = limit, ratio_range = ratio_range)
  })
}

check_html_name <- function(file, call = rlang::caller_env()) {
  if (tolower(tools::file_ext(file)) == "html") return(invisible(file))
  abort_file(c("Can't write {.file {file}}.", x = "The name must end in .html."), path = file, call = call)
}

# only: "all", or "bias" for the page on hidden bias alone; sections: made before, since figures take their time.
write_page <- function(file, parts, title, only = "all", sections = report_sections(parts)) {
  if (only == "bias" && length(parts$probes) == 0L) {
    abort_input(c("There are no {.arg probes} to write of.", i = "Name at least one."), call = NULL)
  }
  if (only == "bias") sections <- Filter(function(section) section$id %in% c("question", "bias"), sections)
  page <- report_page(parts, if (is.null(title)) report_title(parts$study) else title, sections)
  write_text(page, file)
}

report_sections <- function(parts) {
  Filter(Negate(is.null), if (is.null(parts$panel)) study_sections(parts) else panel_sections(parts))
}

# Everything the sections show, worked out once.
report_parts <- function(study, designs, effects, probes, truth, balances, groups) {
  list(
    study = study, designs = designs, effects = effects, probes = probes, outcomes = effect_outcomes(effects),
    balances = balances, groups = groups, comparisons = effect_comparisons(effects, truth),
    scored = Find(function(design) !is.null(design$score), designs), weighted = Filter(has_weights, designs),
    responding = Filter(function(design) !is.null(design$responses), designs),
    paired = Filter(has_pairs, designs), weights = design_weights(study, designs)
  )
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

# The two-arm designs behind a named list, those of several arms one by one.
two_arm_designs <- function(designs) {
  unlist(lapply(stats::setNames(nm = names(designs)), function(name) {
    if (!inherits(designs[[name]], "twin_arms")) return(stats::setNames(list(designs[[name]]), name))
    own <- contrasts_of(designs[[name]])
    stats::setNames(own, paste(name, names(own), sep = ": "))
  }) |> unname(), recursive = FALSE)
}

several_effects <- function(effects) Filter(function(effect) inherits(effect, "twin_effects"), effects)
lasting_effects <- function(effects) Filter(function(effect) inherits(effect, "twin_hazard"), effects)

effect_outcomes <- function(effects) unique(vapply(single_effects(effects), `[[`, "", "outcome"))

# Single effects side by side, one comparison per outcome; hazard ratios have their own.
effect_comparisons <- function(effects, truth) {
  singles <- Filter(function(effect) !inherits(effect, "twin_effects"), effects)
  lasting <- vapply(singles, inherits, NA, "twin_hazard")
  of <- function(chosen, term, truth) {
    outcomes <- unique(vapply(chosen, `[[`, "", "outcome"))
    lapply(stats::setNames(nm = outcomes), function(outcome) {
      known <- if (outcome %in% names(truth)) truth[[outcome]]
      compare_effects(!!!Filter(function(effect) effect$outcome == outcome, chosen), term = term, truth = known)
    })
  }
  hazards <- of(singles[lasting], "hazard_ratio", NULL)
  names(hazards) <- sprintf("%s hazard", names(hazards))
  c(of(singles[!lasting], "difference", truth), hazards)
}

report_title <- function(study) {
  sprintf("What did %s do to %s?", treatment_of(study), and_list(study$roles$outcome))
}

check_parts <- function(parts, class, made_by, arg = rlang::caller_arg(parts), call = rlang::caller_env()) {
  if (!is_named_list(parts)) {
    abort_input("{.arg {arg}} must be a list with names, such as list(pairs = ...).", call = call)
  }
  for (part in parts) check_class(part, class, made_by, arg, call)
}

check_truth <- function(truth, effects, call = rlang::caller_env()) {
  if (is.null(truth)) return(invisible(truth))
  outcomes <- effect_outcomes(effects)
  if (is.numeric(truth) && all(is.finite(truth)) && all(names(truth) %in% outcomes) && !is.null(names(truth))) {
    return(invisible(truth))
  }
  abort_input(c("{.arg truth} must be numbers named by outcome.",
                i = "The outcomes measured are {.val {unique(outcomes)}}."), call = call)
}

report_page <- function(parts, title, sections) {
  tags <- htmltools::tags
  style <- readLines(system.file("report", "style.css", package = "carefultwin"), encoding = "UTF-8")
  body <- htmltools::tagList(
    tags$header(
      tags$h1(title),
      tags$p(class = "byline", sprintf("Careful Twin %s, %s", utils::packageVersion("carefultwin"),
                                       format(Sys.time(), "%d %B %Y, %H:%M"))),
      tags$nav(`aria-label` = "Sections", lapply(sections, function(section) {
        tags$a(href = paste0("#", section$id), section$title)
      }))
    ),
    tags$main(
      findings_box(parts),
      lapply(sections, function(section) {
        tags$section(id = section$id, tags$h2(section$title), section$body)
      })
    ),
    tags$footer(tags$p(sprintf(
      "Differences are treated minus control. Made with %s. Study fingerprint %s.", R.version.string, parts$study$hash
    )))
  )
  c(
    "<!doctype html>", "<html lang=\"en\">", "<head>", "<meta charset=\"utf-8\">",
    "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">",
    as.character(tags$title(title)), "<style>", style, "</style>", "</head>", "<body>",
    as.character(body), "</body>", "</html>"
  )
}

study_sections <- function(parts) {
  list(question_section(parts), groups_section(parts), score_section(parts), balance_section(parts),
       power_section(parts), effects_section(parts), bias_section(parts), logbook_section(parts))
}

# The answer first: effects, balance or trends, and hidden bias, a sentence each.
findings_box <- function(parts) {
  tags <- htmltools::tags
  found <- if (is.null(parts$panel)) study_findings(parts) else panel_findings(parts)
  probes <- Map(function(probe, name) paste0(name, ": ", probe_verdict(probe)), parts$probes, names(parts$probes))
  items <- unname(unlist(c(found, probes)))
  if (length(items) == 0L) return(NULL)
  tags$div(class = "findings", tags$strong("In short"), tags$ul(lapply(items, tags$li)))
}

study_findings <- function(parts) {
  balance <- Map(function(balance, name) {
    s <- summary(balance)
    paste0(sprintf("Balance of %s: %s; the worst is %s with |SMD| %s.", name, pass_words(s), s$worst_covariate,
                   number_text(s$worst_smd)), spaced(missed_limits(balance, name)))
  }, parts$balances, names(parts$balances))
  c(lapply(parts$comparisons, comparison_finding), balance)
}

comparison_finding <- function(comparison) {
  table <- generics::tidy(comparison)
  first <- comparison$effects[[1L]]
  listing <- sprintf("%s %s (%s)", table$label, column_text(table$estimate),
                     interval_text(table$conf.low, table$conf.high))
  lead <- c(difference = "Difference, treated minus control, in",
            hazard_ratio = "Hazard ratio, treated over control, in")[[comparison$term]]
  if (inherits(first, "twin_did")) lead <- "Effect on"
  c(
    sprintf("%s %s, with %s intervals: %s.", lead, outcome_phrase(first), level_text(first$level),
            paste(listing, collapse = "; ")),
    if (!is.null(comparison$truth)) truth_sentence(comparison, table)
  )
}
