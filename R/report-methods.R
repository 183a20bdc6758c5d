# The paragraph for a methods section, written from what was done.

#' Write the methods paragraph
#'
#' What was done, in the past tense and with citations, to be taken into a paper's methods section and shortened there:
#' data, question, estimand, missing values, score, design, overlap, balance, estimator, standard errors, result,
#' sensitivity, number of designs tried and when the outcome was opened, version. It is written from the objects given:
#' what was not done is not in it.
#'
#' @param x A study, panel, design, effect, set of effects, comparison, balance, probe, test of trends, decomposition or
#'   power, or a list of such that come from one study. An effect brings its design and its study along; the first
#'   effect leads.
#' @param cite How papers are cited: `"words"` (default, with a list of references), `"pandoc"` (`[@key]`) or `"latex"`
#'   (`\\citep{key}`), for a `.bib` file with what `format(references(x), "bibtex")` gives.
#' @return A `twin_methods`: `print()` shows paragraphs and references, `format()` gives them as lines,
#'   `as.character()` as paragraphs alone. `x$keys`: the papers cited.
#' @section Errors: `twin_error_input` for other objects, or objects of several studies.
#' @family out
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + past_income)
#' effect <- study |> score_units() |> weigh_units() |> measure_effect(estimator = "augmented")
#' methods_text(list(effect, probe_ratio(effect)))
#' @export
methods_text <- function(x, cite = c("words", "pandoc", "latex")) {
  cite <- check_choice(cite, c("words", "pandoc", "latex"))
  methods_words(told_of(x), cite)
}

methods_words <- function(told, cite = "words") {
  paragraphs <- if (!is.null(told$question)) other_paragraphs(told) else
    if (is.null(told$panel)) study_paragraphs(told) else panel_paragraphs(told)
  paragraphs <- vapply(paragraphs, function(sentences) {
    sentences <- unlist(sentences)
    paste(sentences[nzchar(sentences)], collapse = " ")
  }, "")
  paragraphs <- paragraphs[nzchar(paragraphs)]
  structure(list(paragraphs = unname(cite_papers(paragraphs, cite)), keys = cited_keys(paragraphs), cite = cite),
            class = "twin_methods")
}

# Classes that a methods paragraph or a checklist can be written from, with the verbs that make them.
told_classes <- c(
  twin_study = "frame_study", twin_panel = "frame_panel", twin_design = "score_units", twin_arms = "weigh_units",
  twin_effect = "measure_effect", twin_effects = "measure_effect", twin_comparison = "compare_effects",
  twin_balance = "assess_balance", twin_probe = "probe_effect", twin_trends = "assess_trends",
  twin_decomposition = "decompose_did", twin_power = "assess_power", twin_dids = "measure_did",
  twin_variation = "measure_variation", twin_imputed = "frame_study", twin_by_imputation = "assess_power"
)

# What was done, sorted: study or panel, designs, balances, effects, several (sets of effects), probes, powers, trends,
# decomposition, and headline, the effect that leads.
told_of <- function(x, call = rlang::caller_env()) {
  given <- if (is_plain_list(x)) x else list(x)
  known <- c(told_classes, other_classes)
  for (part in given) check_class(part, names(known), known, "x", call)
  given <- lapply(given, first_set)
  if (any(vapply(given, inherits, NA, names(other_classes)))) return(told_other(given, call))
  of <- function(class) unname(Filter(function(part) inherits(part, class), given))
  within <- lapply(c(of("twin_comparison"), of("twin_dids")), function(part) unclass(part)$effects)
  effects <- c(of("twin_effect"), unlist(within, recursive = FALSE))
  designs <- c(of("twin_design"), Filter(Negate(is.null), lapply(effects, design_behind)))
  designs <- designs[!duplicated(vapply(designs, `[[`, "", "hash"))]
  several <- of("twin_effects")
  of_panel <- lapply(c(of("twin_trends"), of("twin_decomposition")), `[[`, "panel")
  studies <- c(of("twin_study"), of("twin_panel"), lapply(c(designs, effects), study_of),
               lapply(c(of("twin_arms"), of("twin_variation")), study_of),
               lapply(several, function(x) x$effects[[1L]]$study),
               Filter(Negate(is.null), of_panel), lapply(of("twin_balance"), `[[`, "study"))
  check_one_study(studies, call)
  study <- studies[[1L]]
  told_parts(study, designs, of("twin_balance"), effects, several, of("twin_probe"), of("twin_power"),
             Find(function(part) inherits(part, "twin_trends"), given),
             Find(function(part) inherits(part, "twin_decomposition"), given), variations = of("twin_variation"))
}

check_one_study <- function(studies, call) {
  if (length(studies) == 0L) {
    abort_input(c("Nothing in {.arg x} tells of a study.", i = "Add the study, a design or an effect to the list."),
                call = call)
  }
  books <- unique(lapply(studies, `[[`, "logbook"))
  if (length(books) > 1L) {
    abort_input(c("{.arg x} must come from one study or panel.", x = "There are {length(books)} in it."), call = call)
  }
}

told_parts <- function(study, designs, balances, effects, several, probes, powers, trends, decomposition,
                       headline = NULL, variations = list()) {
  if (is.null(headline) && length(effects) > 0L) headline <- effects[[1L]]
  list(study = study, panel = if (inherits(study, "twin_panel")) study, designs = designs, balances = balances,
       effects = effects, several = several, probes = probes, powers = powers, trends = trends,
       decomposition = decomposition, headline = headline, variations = variations, book = logbook(study))
}

told_of_parts <- function(parts) {
  if (!is.null(parts$question)) {
    return(told_other_parts(parts$question, unname(c(parts$designs, list(parts$question))), unname(parts$effects),
                            unname(parts$probes), if (!is.null(parts$headline)) parts$effects[[parts$headline]]))
  }
  singles <- Filter(Negate(function(effect) inherits(effect, "twin_effects")), parts$effects)
  told_parts(parts$study, unname(parts$designs), unname(parts$balances), unname(singles),
             unname(several_effects(parts$effects)), unname(parts$probes), unname(parts$powers), parts$trends,
             parts$decomposition, headline_effect(parts), unname(parts$variations))
}

stayed_sentence <- function(study) {
  if (!is_remote(study)) return(NULL)
  sprintf("They stayed in a database (%s); numbers were made of sums over its rows.", study$source$dialect$words)
}

# The design that the leading effect stands on, or the last one made; and its balance.
told_design <- function(told) {
  design <- design_behind(told$headline)
  if (!is.null(design)) return(design)
  if (!is.null(told$headline)) return(NULL)
  if (length(told$several) > 0L) return(design_behind(told$several[[1L]]$effects[[1L]]))
  if (length(told$designs) > 0L) told$designs[[length(told$designs)]]
}

told_balance <- function(told) {
  design <- told_design(told)
  if (is.null(design)) return(NULL)
  own <- Find(function(balance) identical(balance$design, design_label(design)), told$balances)
  if (is.null(own)) assess_balance(design) else own
}

# Marks for papers, replaced at the end: bytes that no name holds.
cited <- function(keys) if (length(keys) > 0L) paste0("\001", paste(keys, collapse = ";"), "\002") else ""

cited_keys <- function(text) {
  marks <- unlist(regmatches(text, gregexpr("\001[^\002]*\002", text)))
  unique(unlist(strsplit(gsub("[\001\002]", "", marks), ";", fixed = TRUE)))
}

cite_papers <- function(text, cite) {
  marks <- gregexpr(" ?\001[^\002]*\002", text)
  regmatches(text, marks) <- lapply(regmatches(text, marks), vapply, function(mark) {
    keys <- strsplit(gsub("[ \001\002]", "", mark), ";", fixed = TRUE)[[1L]]
    switch(
      cite,
      words = sprintf(" (%s)", paste(vapply(keys, short_reference, ""), collapse = "; ")),
      pandoc = sprintf(" [%s]", paste0("@", keys, collapse = "; ")),
      latex = sprintf(" \\citep{%s}", paste(keys, collapse = ","))
    )
  }, "")
  text
}

study_paragraphs <- function(told) {
  list(data_sentences(told$study), c(score_sentences(told), balance_words(told)),
       c(effect_words(told), several_words(told)), variation_words(told), probe_sentences(told),
       c(of_first_words(told), process_sentences(told)))
}

# Of imputed data, what has no pooled form is told as it is in the first data set.
of_first_words <- function(told) {
  imputed <- told$study$imputed
  if (is.null(imputed) || imputed$of == 1L) return(NULL)
  single <- c(if (length(told$variations) > 0L) "who gains", if (length(told$probes) > 0L) "hidden bias",
              if (length(told$powers) > 0L) "power")
  if (length(single) == 0L) return(NULL)
  sprintf("What is said of %s is worked out in single data sets, and told here for the first.", and_list(single))
}

# How it was asked who gains, and what was found.
variation_words <- function(told) {
  unlist(lapply(told$variations, function(found) {
    c(sprintf("Whether the effect on %s varies was asked of augmented scores of units%s, made with %s in %s folds:",
              and_list(found$tests$outcome), cited("kennedy2023"), and_list(found$learners), count_text(found$folds)),
      sprintf("of their best linear predictor in %s%s, and of effects predicted from earlier folds alone%s.",
              and_list(unique(found$tables$columns$column)), cited("semenova2021"),
              cited(c("chernozhukov2025", "yadlowsky2025"))),
      vapply(found$tests$outcome, function(outcome) variation_verdict(found, outcome), ""))
  }))
}

data_sentences <- function(study) {
  c(
    if (is.null(study$arms)) two_arm_sentences(study) else several_arm_sentences(study),
    stayed_sentence(study),
    if (length(study$dropped) > 0L) sprintf("Left out beforehand: %s.", dropped_text(study)),
    if (!is.null(study$roles$weight)) sprintf("All numbers used the sampling weights of %s.", study$roles$weight),
    if (!is.null(study$stratum)) sprintf("The survey strata were those of %s.", group_text(study$roles$stratum,
                                                                                           study$stratum)),
    sprintf("Covariates were %s%s.", and_list(names(study$columns)), if (is.null(study$by_graph)) "" else
      sprintf(": by the causal graph drawn beforehand, %s", study$by_graph)),
    imputed_words(study), missing_words(study)
  )
}

two_arm_sentences <- function(study) {
  c(sprintf("We asked what %s being \"%s\" rather than \"%s\" did to %s, for %s (%s).", study$roles$treatment,
            study$levels[["treated"]], study$levels[["control"]], and_list(study$roles$outcome),
            estimands[[study$estimand]]$words, study$estimand),
    sprintf("The data held %s: %s treated and %s control.", plural(sum(study_sizes(study)), "unit"),
            count_text(study_sizes(study)[["treated"]]), count_text(study_sizes(study)[["control"]])))
}

several_arm_sentences <- function(study) {
  c(sprintf("We asked what each of %s (%s) rather than \"%s\" did to %s, for %s (%s).",
            and_list(names(study$arms)[-1L]), study$roles$treatment, names(study$arms)[1L],
            and_list(study$roles$outcome), estimands[[study$estimand]]$of_arms, study$estimand),
    sprintf("The data held %s: %s.", plural(sum(study$arms), "unit"),
            and_list(paste(names(study$arms), count_text(study$arms)))))
}

# Of data that were completed before they came here.
imputed_words <- function(study) {
  imputed <- study$imputed
  if (is.null(imputed)) return(NULL)
  if (imputed$of == 1L) return("Missing values had been imputed once; errors take the imputed values as known.")
  sprintf(paste("Missing values had been imputed in %d completed data sets%s; scores, weights and pairs were made",
                "within each, and effects pooled by Rubin's rules%s with the degrees of freedom of Barnard and",
                "Rubin%s."),
          imputed$of, if (length(imputed$counts) == 0L) "" else
            sprintf(" (%s)", paste(names(imputed$counts), count_text(imputed$counts), collapse = ", ")),
          cited("rubin1987"), cited("barnard1999"))
}

missing_words <- function(study) {
  counts <- vapply(study$columns, `[[`, 0L, "missing")
  counts <- counts[counts > 0]
  if (length(counts) == 0L) return(NULL)
  levelled <- vapply(study$columns[names(counts)], function(column) column$kind == "factor", NA)
  sprintf("Missing values of covariates (%s) %s.", paste(names(counts), count_text(counts), collapse = ", "),
          paste(c(if (any(!levelled)) "were filled with the mean, with an indicator each",
                  if (any(levelled)) "made a level of their own where a covariate has levels"), collapse = ", or "))
}

score_sentences <- function(told) {
  design <- told_design(told)
  if (is.null(design)) return("The arms were compared as they were, without a design.")
  steps <- design_steps(design)
  score <- design$score
  c(
    if (!is.null(score)) sprintf("The propensity score%s was: %s.", cited("rosenbaum1983"), score_text(score)),
    arms_score_words(design),
    vapply(Filter(function(step) step$verb != "score", steps), function(step) {
      sprintf("%s: %s%s.", step_words[[step$verb]], step$label,
              cited(setdiff(step_keys(step, design$study$estimand), "rosenbaum1983")))
    }, ""),
    if (length(design$note) > 0L) sprintf("The estimate then speaks of %s.", paste(design$note, collapse = "; ")),
    if (!is.null(score)) overlap_words(design)
  )
}

# The score of all arms behind a contrast of several.
arms_score_words <- function(design) {
  if (is.null(design$study$outside)) return(NULL)
  score <- arms_behind(design)$arms$score
  if (is.null(score)) return(NULL)
  sprintf("The chance of each arm%s was by %s of %s.", cited("imbens2000"),
          if (isTRUE(score$known)) sub("^score (stacked from|by) ", "learners: ", score$label) else
            "a multinomial logit", score$terms)
}

step_words <- c(trim = "Units were trimmed", pair = "Units were paired", group = "Units were grouped",
                search = "The metric was", stratify = "Units were put into strata", weigh = "Units were weighted",
                respond = "Missing outcomes were allowed for")

overlap_words <- function(design) {
  overlap <- assess_overlap(design)
  before <- overlap$rows[overlap$rows$sample == "before", ]
  sprintf("Before the design, %s of %s treated and %s of %s control units had no counterpart in the other arm's range.",
          count_text(before$outside[1L]), count_text(before$n[1L]), count_text(before$outside[2L]),
          count_text(before$n[2L]))
}

balance_words <- function(told) {
  balance <- told_balance(told)
  if (is.null(balance)) return(NULL)
  s <- summary(balance)
  before <- balance$rows[balance$rows$sample == "before", ]
  if (!alters_sample(told_design(told))) return(NULL)
  sprintf(paste("After the design %s of %s rows of the balance table were within the limits (|SMD| at most %s,",
                "variance ratio %s to %s); the largest |SMD| was %s (%s), and %s before."), s$passing, s$rows,
          format(balance$limits$smd), format(balance$limits$ratio[1L]), format(balance$limits$ratio[2L]),
          number_text(s$worst_smd), s$worst_covariate, number_text(max(abs(before$smd), na.rm = TRUE)))
}

effect_words <- function(told) {
  effect <- told$headline
  if (is.null(effect)) return(if (length(told$several) == 0L) "No effect was measured.")
  row <- main_row(effect)
  others <- Filter(function(other) {
    !identical(other, effect) && other$outcome == effect$outcome &&
      identical(main_term(main_number(other)), main_term(main_number(effect)))
  }, told$effects)
  plain <- vapply(others, is_first_look, NA)
  of <- function(effects) vapply(effects, function(other) main_row(other)$estimate, 0)
  estimates <- of(others[!plain])
  c(
    sprintf("%s on %s was estimated by %s%s.", if (inherits(effect, "twin_hazard")) "The hazard ratio" else
      "The effect", outcome_phrase(effect), told_method(effect), cited(method_papers(effect))),
    sprintf("Standard errors: %s.", effect$inference),
    trimws(if (inherits(effect, "twin_did")) "" else sub("; see [^.]*[.]$", ".", missing_sentence(effect))),
    sprintf("It was %s (%s).", number_text(row$estimate), interval_phrase(effect$level, row$conf.low, row$conf.high)),
    if (length(estimates) == 1L) sprintf("One other estimate of it was made: %s.", number_text(estimates)),
    if (length(estimates) > 1L) {
      sprintf("%d other estimates of it, by other designs or estimators, lay between %s and %s.", length(estimates),
              number_text(min(estimates)), number_text(max(estimates)))
    },
    if (any(plain)) sprintf("%s it was %s.", if (inherits(effect, "twin_did")) "By a two-way regression" else
      "Without any adjustment", and_list(number_text(of(others[plain]))))
  )
}

# The design has been told of already.
told_method <- function(effect) {
  if (inherits(effect, "twin_did")) return(did_method(effect))
  if (inherits(effect, "twin_hazard")) return(hazard_method(effect))
  sub(" on .*$", "", effect_method(effect))
}

method_papers <- function(effect) {
  if (inherits(effect, "twin_did")) return(did_papers(effect))
  design <- design_behind(effect)
  setdiff(effect_papers(effect), if (!is.null(design)) design_papers(design))
}

several_words <- function(told) {
  lapply(told$several, function(effects) {
    adjust <- effects$adjust
    sprintf("Effects %s were measured together%s%s.", if (is.null(effects$by)) sprintf(
      "on %s", and_list(unique(vapply(effects$effects, `[[`, "", "outcome")))) else sprintf("by %s", effects$by),
      contrast_words(effects),
      if (is.null(adjust) || adjust == "none") ", p-values not adjusted" else
        sprintf(", with p-values adjusted by %s", c(holm = "Holm's rule", bh = "the false discovery rate")[[adjust]]))
  })
}

# Of contrasts of arms, by which way and how large.
contrast_words <- function(effects) {
  if (!are_contrasts(effects)) return("")
  sprintf(" by %s (%s)", effect_method(effects$effects[[1L]]), contrast_list(effects))
}

# "nets vs pots 1.2, 95% interval 0.3 to 2.1; ..."
contrast_list <- function(effects) {
  rows <- generics::tidy(effects)
  rows <- rows[rows$term == "difference", ]
  paste(sprintf("%s %s, %s interval %s", names(effects), number_text(rows$estimate), level_text(effects$level),
                interval_text(rows$conf.low, rows$conf.high)), collapse = "; ")
}

probe_sentences <- function(told) {
  if (length(told$probes) == 0L) return("Sensitivity to hidden bias was not probed.")
  c("Sensitivity to hidden bias was probed.", vapply(told$probes, function(probe) {
    text <- paste(probe_verdict(probe), collapse = " ")
    text <- sub("The conclusion changes", "The conclusion changed", text, fixed = TRUE)
    about <- probed_outcome(probe)
    part <- probe$facts$part
    if (!is.null(part) && !identical(part, about)) about <- sprintf("%s (%s)", about, part)
    if (!is.null(about)) text <- sprintf("On %s: %s%s", about, tolower(substr(text, 1L, 1L)), substring(text, 2L))
    paste0(sub("[.]$", "", text), cited(papers_of(probe)), ".")
  }, ""))
}

# The outcome whose effect was probed; NULL where the probe was given numbers.
probed_outcome <- function(probe) {
  for (part in list(probe$facts, probe$facts$effect, probe$facts$about)) {
    if (is.list(part) && is.character(part$outcome)) return(part$outcome)
  }
  NULL
}

process_sentences <- function(told) {
  book <- summary(told$book)
  c(
    if (!is.null(told$panel)) sprintf("In all, %s to estimate it %s tried.", plural(tried_in_all(told), "way"),
                                      if (tried_in_all(told) == 1L) "was" else "were") else
      if (is.na(book$opened)) sprintf("The outcome had not been opened; %s tried so far.", were_tried(book$before)) else
      sprintf("The outcome was first opened on %s: %s tried before and %d after.", book$opened,
              were_tried(book$before), book$after),
    if (length(told$powers) > 0L) "What the designs could detect was worked out from the controls alone.",
    sprintf("Computations used Careful Twin %s in %s.", utils::packageVersion("carefultwin"), R.version.string)
  )
}

panel_paragraphs <- function(told) {
  panel <- told$panel
  list(
    c(sprintf("We asked what %s did to %s, for those treated and in the periods since (ATT).", treatment_of(panel),
              and_list(panel$roles$outcome)),
      sprintf("The data were %s.", shape_text(panel)), stayed_sentence(panel),
      sprintf("Treatment: %s.", timing_text(panel)),
      if (length(panel$dropped) > 0L) sprintf("Left out beforehand: %s.", dropped_text(panel)),
      if (length(panel$columns) > 0L) sprintf("Covariates were %s.", and_list(names(panel$columns))),
      if (!is.null(panel$roles$weight)) sprintf("All numbers used the weights of %s.", panel$roles$weight)),
    if (!is.null(told$trends)) c("Trends before treatment were compared.", trends_verdict(told$trends)),
    effect_words(told),
    if (!is.null(told$decomposition)) {
      c(sprintf("The two-way regression was taken apart%s.", cited(papers_of(told$decomposition))),
        sub("[.] The mean effect .*$", ".", decomposition_verdict(told$decomposition)))  # advice stays out
    },
    probe_sentences(told), process_sentences(told)
  )
}

#' @export
as.character.twin_methods <- function(x, ...) x$paragraphs

#' @export
format.twin_methods <- function(x, ...) {
  rlang::check_dots_empty()
  lines <- unlist(lapply(x$paragraphs, function(text) c(wrap_lines(text), "")))
  if (x$cite != "words" || length(x$keys) == 0L) return(lines[-length(lines)])
  c(lines, "References", "", unlist(lapply(reference_lines(x$keys), strwrap, width = print_width(), exdent = 2L)))
}

#' @export
print.twin_methods <- function(x, ...) print_lines(x, format(x, ...))

# As Markdown.
methods_lines <- function(x) {
  c("# Methods", "", as.vector(rbind(markdown_text(x$paragraphs), "")), if (length(x$keys) > 0L) {
    c("## References", "", paste("-", markdown_text(reference_lines(x$keys))))
  })
}

# The words for the paper beside the reports: methods.md, methods.docx, checklist.md, references.bib.
write_paper_words <- function(folder, parts) {
  told <- told_of_parts(parts)
  methods <- methods_words(told)
  write_text(methods_lines(methods), file.path(folder, "methods.md"))
  write_text(checklist_lines(checklist_rows(told)), file.path(folder, "checklist.md"))
  write_text(bibtex_lines(methods$keys), file.path(folder, "references.bib"))
  if (rlang::is_installed("officer")) {
    write_word(word_methods(methods), file.path(folder, "methods.docx"))
  }
}
