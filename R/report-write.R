#' Write the report
#'
#' One self-contained HTML page with the whole analysis, or the same as a Word file. The first screen answers: the
#' question and the answer in a sentence each, all effects on that outcome in one picture, and five verdicts (overlap,
#' balance, designs tried after the outcome was opened, agreement of the estimates, hidden bias), each a word and a
#' number that leads to its section. Then question and groups, score, balance of every design, effects, hidden bias, a
#' paragraph for the methods section, a referee's checklist, and the logbook. A page works offline, prints with all that
#' is folded, and can be read on a phone or by a screen reader. Whatever comes from the data is escaped. The file is
#' written under a temporary name and renamed.
#'
#' @param file Path ending in `.html` or `.docx`, in a folder that exists. Word files need the package officer.
#' @param study The `twin_study`, `twin_arms` or `twin_panel`, or a study of imputed data, of a dose or of treatment
#'   over time.
#' @param designs Named list of designs made from it; of a study.
#' @param effects Named list of effects, of [measure_effect()] and [measure_hazard()], or of a panel of [measure_did()]
#'   and [summarise_did()], of a dose of [measure_response()], over time of [measure_course()]. They are set side by
#'   side by outcome; those of several outcomes, groups or arms, and paths over time, have a table of their own.
#' @param probes Named list of probes.
#' @param title Heading of the page; made from the study by default.
#' @param truth True differences where they are known (practice data): a numeric vector named by outcome.
#' @param balances Named list of balances that exist, by design: those of [assess_balance()]. The others are judged here
#'   by `limit` and `ratio_range`.
#' @param limit,ratio_range Balance limits, as in [assess_balance()]; of a study.
#' @param trends,decomposition,composition Of a panel: what [assess_trends()], [decompose_did()] and
#'   [assess_composition()] gave.
#' @param powers Named list of what [assess_power()] gave.
#' @param variations Named list of what [measure_variation()] gave; of a study.
#' @param headline Name of the effect that answers the question, one of those in `effects` that are one number; by
#'   default the first that adjusts (over time: the first that is no mix of effects by a two-way regression). The report
#'   says which rule chose it.
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
                         powers = list(), balances = list(), headline = NULL, only = c("all", "bias"),
                         composition = NULL, variations = list()) {
  check_string(file)
  balance_limits(limit, ratio_range)
  if (!is.null(title) && !(rlang::is_string(title) && nzchar(title) && validUTF8(title))) {
    abort_input(c("{.arg title} must be one text in quotes.", x = "It is {describe_value(title)}."))
  }
  only <- check_choice(only, c("all", "bias"))
  check_class(study, c("twin_study", "twin_arms", "twin_imputed", "twin_panel", "twin_dose", "twin_course"),
              c("frame_study", "frame_panel", "frame_dose", "frame_course"))
  if (is_other_question(study)) {
    given <- list(truth = truth, trends = trends, decomposition = decomposition, powers = powers,
                  composition = composition,
                  variations = variations, ratio_range = ratio_range)
    stray <- names(given)[lengths(given) > 0L]
    if (length(stray) > 0L) abort_input("{.arg {stray}} {?does/do} not belong to the report on a dose or a course.")
    parts <- checked_other_parts(study, designs, effects, probes, balances, limit)
    check_string(headline, null = TRUE)
    if (!is.null(headline)) headline <- check_choice(headline, names(effects))
  } else if (inherits(study, "twin_panel")) {
    parts <- checked_panel_parts(study, designs, effects, probes, truth, trends, decomposition)
    check_parts(powers, "twin_power", "assess_power", "powers", rlang::current_env())
    parts$powers <- powers
    if (!is.null(composition)) check_class(composition, "twin_composition", "assess_composition")
    parts$composition <- composition
    if (length(variations) > 0L) abort_input("{.arg variations} belong to the report of a study.")
    if (length(balances) > 0L) abort_input("A panel's balances are those of its {.arg designs}; leave them out.")
  } else {
    if (!is.null(c(trends, decomposition, composition))) {
      abort_input("{.arg trends}, {.arg decomposition} and {.arg composition} belong to the report of a panel.")
    }
    groups <- describe_groups(described_study(study))
    arms <- arms_judged(designs, limit, ratio_range)
    effects <- each_alone(effects)
    probes <- each_alone(probes)
    powers <- each_alone(powers)
    designs <- checked_designs(designs, effects, probes, powers)
    check_truth(truth, effects)
    balances <- report_balances(designs, balances, limit, ratio_range, missing(limit) && missing(ratio_range))
    check_parts(variations, c("twin_variation", "twin_by_imputation"), "measure_variation", "variations",
                rlang::current_env())
    parts <- report_parts(study_of(study), designs, effects, probes, truth, balances, groups, powers, variations, arms)
  }
  if (is.null(parts$question)) check_headline(headline, parts$effects)
  check_report_name(file)
  parts <- with_headline(parts, headline)
  on.exit(drop_figures(parts$figures))
  write_report_file(new_report(parts, title, only), file)
  invisible(file)
}

checked_designs <- function(designs, effects, probes, powers, call = rlang::caller_env()) {
  check_parts(designs, c("twin_design", "twin_arms", "twin_imputed"), "score_units", "designs", call)
  check_parts(effects, c("twin_effect", "twin_effects"), "measure_effect", "effects", call)
  check_parts(probes, c("twin_probe", "twin_by_imputation"), "probe_pairs", "probes", call)
  check_parts(powers, c("twin_power", "twin_by_imputation"), "assess_power", "powers", call)
  two_arm_designs(designs)
}

# The register of files that a report can be, by ending: function(report, file).
report_writers <- list(
  html = function(report, file) write_text(html_page(report), file),
  docx = function(report, file) write_word(word_report(report), file)
)

write_report_file <- function(report, file) report_writers[[tolower(tools::file_ext(file))]](report, file)

check_report_name <- function(file, call = rlang::caller_env()) {
  ending <- tolower(tools::file_ext(file))
  if (!ending %in% names(report_writers)) {
    abort_file(c("Can't write {.file {file}}.", x = "The name must end in .html or .docx."), path = file, call = call)
  }
  if (ending == "docx") need_package("officer", "write Word files", call)
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

# The parts with the effect that leads, and with a place for pictures.
with_headline <- function(parts, headline, figures = new_figures()) {
  lead <- if (is.null(parts$question)) headline_name else other_headline
  parts["headline"] <- list(lead(parts$effects, headline))
  parts$headline_asked <- !is.null(headline)
  parts$figures <- figures
  parts
}

# What a report holds, whatever file it goes into. only: "all", or "bias" for hidden bias alone, to be read by itself.
new_report <- function(parts, title, only = "all") {
  if (only == "bias" && length(parts$probes) == 0L) {
    abort_input(c("There are no {.arg probes} to write of.", i = "Name at least one."), call = NULL)
  }
  first <- report_first(parts)
  sections <- if (only == "all") report_sections(parts) else list(bias_question(parts), bias_section(parts))
  if (only == "bias") first$verdicts <- lapply(first$verdicts, function(verdict) {
    if (!identical(verdict$at, "bias")) verdict["at"] <- list(NULL)
    verdict
  })
  list(
    title = if (is.null(title)) report_title(parts$study) else title, first = first, sections = sections,
    byline = sprintf("Careful Twin %s, %s", utils::packageVersion("carefultwin"),
                     format(Sys.time(), "%d %B %Y, %H:%M")),
    footer = sprintf("%s Made with %s. Study fingerprint %s.", if (!is.null(parts$question))
      "Differences are the first named minus the second." else if (is.null(parts$panel))
      "Differences are treated minus control." else "Changes of treated units minus those of the others.",
      R.version.string, parts$study$hash)
  )
}

report_sections <- function(parts) {
  if (!is.null(parts$question)) return(Filter(Negate(is.null), other_sections(parts)))
  Filter(Negate(is.null), if (is.null(parts$panel)) study_sections(parts) else panel_sections(parts))
}

bias_question <- function(parts) {
  if (!is.null(parts$question)) return(other_question_section(parts))
  if (!is.null(parts$panel)) panel_question(parts) else
    new_section("question", "Question", terms_block(question_rows(parts$study)))
}

# What the first table is about: of imputed data all of them, of several arms each against the reference.
described_study <- function(study) {
  if (is_imputed(study)) return(study)
  if (is_arms(study)) as_framed(study) else study_of(study)
}

# Everything the sections show, worked out once. Of imputed data, what has no pooled form is shown as it is in the first
# data set, with its ranges over all of them: a table by name of probe, power or variation.
# arms: of arms_judged().
report_parts <- function(study, designs, effects, probes, truth, balances, groups, powers = list(),
                         variations = list(), arms = list()) {
  ranges <- set_ranges(c(probes, powers, variations))
  in_all <- function(has) Filter(function(design) has(first_set(design)), designs)
  of_first <- lapply(designs, first_set)
  list(
    study = study, designs = of_first, effects = effects, probes = lapply(probes, first_set),
    powers = lapply(powers, first_set), variations = lapply(variations, first_set), ranges = ranges,
    outcomes = effect_outcomes(effects),
    balances = balances, arms = arms, groups = groups, comparisons = effect_comparisons(effects, truth),
    scored = scored_design(designs),
    weighted = in_all(has_weights), responding = in_all(function(design) !is.null(design$responses)),
    paired = in_all(function(design) has_pairs(design) || pairs_every_arm(design)),
    weights = design_weights(study, designs)
  )
}

# Of imputed data the page shows what has no pooled form as it is in the first data set, as reports do.
parts_of_first_set <- function(parts) {
  parts$ranges <- set_ranges(c(parts$probes, parts$powers, parts$variations))
  parts$study <- study_of(first_set(parts$study))
  for (name in intersect(c("designs", "probes", "powers", "variations"), names(parts))) {
    parts[[name]] <- lapply(parts[[name]], first_set)
  }
  parts
}

# The first design that has a score.
scored_design <- function(designs) Find(function(design) !is.null(design$score), lapply(designs, first_set))

# results: by name; those that data sets have each their own of.
set_ranges <- function(results) {
  lapply(Filter(function(x) inherits(x, "twin_by_imputation"), results), range_table)
}

# One row per row of the data: its number, the id if there is one, and each design's weight and set. NULL for a table in
# a database.
design_weights <- function(study, designs) {
  if (is_remote(study)) return(NULL)
  if (any(vapply(designs, is_imputed, NA))) {
    tables <- lapply(stats::setNames(nm = names(sets_of(designs[[1L]]))), function(set) {
      design_weights(study, lapply(designs, function(design) sets_of(design)[[set]]))
    })
    return(over_sets(tables[[1L]], tables))
  }
  out <- data.frame(row = seq_len(nrow(study$data)))
  if (!is.null(study$roles$id)) out[[study$roles$id]] <- study$data[[study$roles$id]]
  for (name in names(designs)) {
    out[[paste0(name, ".weight")]] <- stats::weights(designs[[name]])
    if (!is.null(designs[[name]]$set)) out[[paste0(name, ".set")]] <- on_all_rows(designs[[name]], designs[[name]]$set,
                                                                                  NA_integer_)
  }
  out
}

# Overlap (where there is a score) and balance of the designs of several arms, by name: list(overlap, balance).
arms_judged <- function(designs, limit = "standard", ratio_range = NULL) {
  if (!is_plain_list(designs)) return(list())
  lapply(Filter(is_arms, lapply(designs, first_set)), function(x) {
    list(overlap = if (!is.null(x$score)) assess_overlap(x),
         balance = assess_balance(x, limit = limit, ratio_range = ratio_range))
  })
}

# The two-arm designs behind a named list, those of several arms one by one.
two_arm_designs <- function(designs) {
  unlist(lapply(stats::setNames(nm = names(designs)), function(name) {
    if (!inherits(first_set(designs[[name]]), "twin_arms")) return(stats::setNames(list(designs[[name]]), name))
    own <- contrasts_of(designs[[name]])
    stats::setNames(own, paste(name, names(own), sep = ": "))
  }) |> unname(), recursive = FALSE)
}

# A named list in which what is of several stands part by part, called "name: part".
each_alone <- function(results) {
  if (!is_plain_list(results) || !any(vapply(results, inherits, NA, "twin_several"))) return(results)
  unlist(lapply(names(results), function(name) {
    own <- results[[name]]
    if (!inherits(own, "twin_several")) return(stats::setNames(list(own), name))
    stats::setNames(parts_of(own), paste(name, names(own), sep = ": "))
  }), recursive = FALSE)
}

# Of several arms a score alone is no design.
whole_designs <- function(designs) {
  Filter(function(design) !is_arms(first_set(design)) || !is.null(first_set(design)$designs), designs)
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

check_truth <- function(truth, effects, call = rlang::caller_env()) {
  if (is.null(truth)) return(invisible(truth))
  outcomes <- effect_outcomes(effects)
  if (is.numeric(truth) && all(is.finite(truth)) && all(names(truth) %in% outcomes) && !is.null(names(truth))) {
    return(invisible(truth))
  }
  abort_input(c("{.arg truth} must be numbers named by outcome.",
                i = "The outcomes measured are {.val {unique(outcomes)}}."), call = call)
}
