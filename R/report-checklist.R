# The questions that a referee asks of such a study, answered from the logbook.

#' Answer a referee's checklist
#'
#' Some twenty questions that a referee asks of a study on observational data, each answered from the objects given and
#' from the logbook, with a pointer to its step; "Not done" where it was not.
#'
#' @param x As in [methods_text()].
#' @return A `twin_checklist`. `as.data.frame()` gives one row per question: `question`, `answer`, `where` (steps of
#'   the logbook, or the section of the report), `done` (`FALSE` where the answer is "Not done"). [export_table()]
#'   writes it.
#' @section Errors: `twin_error_input` for other objects, or objects of several studies.
#' @family out
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + past_income)
#' effect <- study |> score_units() |> weigh_units() |> measure_effect(estimator = "augmented")
#' checklist(list(effect, probe_ratio(effect)))
#' @export
checklist <- function(x) structure(list(rows = checklist_rows(told_of(x))), class = "twin_checklist")

checklist_rows <- function(told) {
  items <- if (!is.null(told$question)) other_items(told) else if (is.null(told$panel)) study_items(told) else
    panel_items(told)
  rows <- do.call(rbind, lapply(items, function(item) {
    data.frame(question = item$question, answer = if (item$done) item$answer else "Not done.", where = item$where,
               done = item$done)
  }))
  rownames(rows) <- NULL
  rows
}

# One question. answer: NULL or empty where it was not done; where: a pattern of logbook entries ("judge: balance"), or
# the name of a section.
new_item <- function(told, question, answer, verb = NULL, what = "", section = "question") {
  done <- length(answer) > 0L && any(nzchar(answer))
  steps <- if (!is.null(verb)) logbook_steps(told$book, verb, what)
  list(question = question, answer = paste(answer, collapse = " "), done = done,
       where = if (!done) "-" else if (length(steps) > 0L) steps_text(steps) else paste("report,", section))
}

logbook_steps <- function(book, verb, what) {
  entries <- as.data.frame(book)
  entries$step[entries$verb %in% verb & startsWith(entries$what, what)]
}

steps_text <- function(steps) {
  shown <- utils::head(steps, 3L)
  paste0("logbook, step", if (length(steps) > 1L) "s", " ", paste(shown, collapse = ", "),
         if (length(steps) > 3L) sprintf(" and %d more", length(steps) - 3L))
}

study_items <- function(told) {
  study <- told$study
  design <- told_design(told)
  effect <- told$headline
  item <- function(...) new_item(told, ...)
  c(
    list(
      item("Whom does the estimate speak of?", sprintf("The effect on %s (%s).", estimands[[study$estimand]]$words,
                                                       study$estimand), "frame"),
      item("Which units are left out, and why?", if (length(study$dropped) > 0L) paste0(dropped_text(study), ".") else
        sprintf("None: all %s rows are used.", count_text(length(study$rows))), "frame"),
      item("How are missing covariate values treated?", paste0("Missing: ", missing_text(study), "."), "frame"),
      item("How are missing outcomes treated?", missing_outcome_answer(told), "measure"),
      item("Do the covariates suffice, and is none touched by the treatment?", if (!is.null(study$by_graph)) sprintf(
        "By the causal graph: %s.", study$by_graph), "frame"),
      item("How was the propensity score made?", if (!is.null(design$score)) paste0(sentence_case(score_text(
        design$score)), "."), "score", section = "score"),
      item("Do both arms occur over the whole range of scores?", overlap_answer(told, design), "judge", "overlap of",
           section = "score"),
      item("Who is left after trimming and matching?", population_answer(design), c("trim", "pair", "group"),
           section = "balance"),
      item("Are the covariates balanced?", balance_answer(told, design), "judge", "balance of", section = "balance"),
      item("Are squares and interactions balanced too?", extra_answer(told), "judge", "balance of",
           section = "balance"),
      item("Do a few units carry most of the weight?", weight_answer(design), "judge", "weights of",
           section = "balance"),
      item("What effect could the design detect?", power_answer(told), "look", section = "power"),
      item("How many designs were tried, and when was the outcome opened?", seal_sentence(summary(told$book)),
           "open", section = "logbook"),
      item("Were there deviations from the design after the outcome was opened?", deviation_answer(told), "open",
           section = "logbook")
    ),
    effect_items(told, effect),
    list(item("Do other estimators and designs agree?", agreement_answer(told), "measure", section = "effects")),
    probe_items(told),
    list(reproduction_item(told))
  )
}

effect_items <- function(told, effect) {
  list(
    new_item(told, "Do the standard errors know that the score was estimated?", estimated_answer(effect), "measure",
             section = "effects"),
    new_item(told, "Do the standard errors allow for clusters and survey design?", if (!is.null(effect)) paste0(
      sentence_case(effect$inference), "."), "measure", section = "effects"),
    new_item(told, "Are there enough clusters?", cluster_answer(told, effect), "measure", section = "effects"),
    new_item(told, "Are several outcomes or groups allowed for?", several_answer(told), "measure", section = "effects")
  )
}

probe_items <- function(told) {
  of <- function(kinds) {
    found <- Filter(function(probe) sub("twin_probe_", "", class(probe)[1L]) %in% kinds, told$probes)
    vapply(found, function(probe) paste(probe_verdict(probe), collapse = " "), "")
  }
  list(
    new_item(told, "How strong would hidden bias have to be to overturn the finding?",
             of(c("effect", "pairs", "weights", "omitted", "ratio", "stability", "trends"))[1L] |> known_text(),
             "probe", section = "bias"),
    new_item(told, "Is there an effect where there can be none (placebo)?", of("placebo"), "probe", section = "bias"),
    new_item(told, "Do other choices of the design give the same answer?", of("choices"), "probe", "run:",
             section = "bias")
  )
}

known_text <- function(x) x[!is.na(x)]

reproduction_item <- function(told) {
  entries <- as.data.frame(told$book)
  seeds <- unique(entries$seed[!is.na(entries$seed)])
  new_item(told, "Can all of it be made again?", sprintf(
    "Careful Twin %s, %s, data and settings with fingerprint %s%s.", utils::packageVersion("carefultwin"),
    R.version.string, substr(told$study$hash, 1L, 8L),
    if (length(seeds) > 0L) sprintf(", seeds %s", paste(seeds, collapse = ", ")) else ""), section = "logbook")
}

tried_in_all <- function(told) sum(unlist(summary(told$book)[c("before", "after")]))

sentence_case <- function(text) paste0(toupper(substr(text, 1L, 1L)), substring(text, 2L))

missing_outcome_answer <- function(told) {
  if (is.null(told$headline)) return(NULL)
  text <- trimws(missing_sentence(told$headline))
  if (nzchar(text)) text else "No outcome is missing among the units used."
}

overlap_answer <- function(told, design) {
  if (!is.null(design$score)) return(overlap_sentence(assess_overlap(design)))
  arms <- if (!is.null(design$study$outside)) arms_behind(design)$arms
  if (!is.null(arms$score)) gsub("\\s+", " ", arms_overlap_sentence(assess_overlap(arms)))
}

population_answer <- function(design) {
  if (is.null(design)) return(NULL)
  if (length(design$note) > 0L) return(paste0(sentence_case(paste(design$note, collapse = "; ")), "."))
  if (is_remote(design) || all(design_kept(design))) "Everybody: nobody is trimmed or left without a partner." else
    sprintf("%s of %s units.", count_text(sum(design_kept(design))), count_text(length(design$study$z)))
}

balance_answer <- function(told, design) {
  if (is.null(design) || !alters_sample(design)) return(NULL)
  balance <- told_balance(told)
  s <- summary(balance)
  sprintf("%s of %s rows pass; worst |SMD| %s (%s).", s$passing, s$rows, number_text(s$worst_smd), s$worst_covariate)
}

extra_answer <- function(told) {
  found <- Filter(function(balance) length(balance$study$columns) > length(told$study$columns), told$balances)
  if (length(found) == 0L) return(NULL)
  s <- summary(found[[1L]])
  sprintf("Judged with the covariates: %s of %s rows pass.", s$passing, s$rows)
}

weight_answer <- function(design) {
  if (is.null(design) || !alters_sample(design)) return(NULL)
  rows <- assess_weights(design)$rows
  last <- rows[rows$sample == rows$sample[nrow(rows)], ]
  sprintf(paste("The heaviest unit carries %s of its arm, the heaviest 1%% carry %s; effective sample %s treated, %s",
                "control."),
          share_text(max(last$largest_share)), share_text(max(last$top_share)), count_text(round(last$ess[1L])),
          count_text(round(last$ess[2L])))
}

power_answer <- function(told) {
  if (length(told$powers) == 0L) return(NULL)
  row <- told$powers[[1L]]$rows[1L, ]
  sprintf("%s with a chance of %s.", number_text(row$detectable), share_text(row$power))
}

deviation_answer <- function(told) {
  book <- summary(told$book)
  if (is.na(book$opened)) return("The outcome is still sealed.")
  if (book$after == 0L) "None: no other design was tried after it." else
    sprintf("%s tried after it; see the logbook.", were_tried(book$after))
}

estimated_answer <- function(effect) {
  if (is.null(effect)) return(NULL)
  if (is.null(design_behind(effect))) {
    return("There is no score: nothing was estimated before the effect.")
  }
  if (length(effect$given) == 0L) return("Yes: they carry the estimation of score and weights.")
  sprintf("Not of all: %s.", paste(effect$given, collapse = ", "))
}

cluster_answer <- function(told, effect) {
  if (is.null(effect)) return(NULL)
  count <- cluster_count(effect)
  if (count == 0L) return("No clusters are named: units count as independent.")
  sprintf("%s%s.", plural(count, "cluster"), if (count < 30L) ": few; read the errors with care" else "")
}

several_answer <- function(told) {
  outcomes <- unique(c(vapply(told$effects, `[[`, "", "outcome"), unlist(lapply(told$several, function(effects) {
    vapply(effects$effects, `[[`, "", "outcome")
  }))))
  adjusted <- Filter(function(effects) !is.null(effects$adjust) && effects$adjust != "none", told$several)
  if (length(adjusted) > 0L) return(sprintf("p-values of %s effects adjusted (%s).", length(adjusted[[1L]]$effects),
                                            adjusted[[1L]]$adjust))
  if (length(outcomes) == 1L && length(told$several) == 0L) return("There is one outcome, and no groups.")
  NULL
}

agreement_answer <- function(told) {
  if (is.null(told$headline)) return(NULL)
  hazards <- inherits(told$headline, "twin_hazard")
  own <- Filter(function(effect) {
    effect$outcome == told$headline$outcome && !is_first_look(effect) && is_one_number(effect) &&
      inherits(effect, "twin_hazard") == hazards
  }, told$effects)
  if (length(own) < 2L) return(NULL)
  rows <- lapply(own, main_row)
  estimates <- vapply(rows, `[[`, 0, "estimate")
  sprintf("%d adjusted estimates lie between %s and %s.", length(own), number_text(min(estimates)),
          number_text(max(estimates)))
}

panel_items <- function(told) {
  panel <- told$panel
  effect <- told$headline
  item <- function(...) new_item(told, ...)
  asked <- effect$asked
  c(
    list(
      item("Whom does the estimate speak of?", if (!is.null(effect)) paste0(sentence_case(average_words(effect)), "."),
           "measure", section = "effects"),
      item("Who is treated when?", paste0("Treated: ", timing_text(panel), "."), "frame", section = "timing"),
      item("Which rows are left out, and why?", if (length(panel$dropped) > 0L) paste0(dropped_text(panel), ".") else
        "None.", "frame"),
      item("Is the panel complete?", paste0(sentence_case(shape_text(panel)), "."), "frame"),
      item("Against whom are the treated compared?", if (!is.null(effect) && uses_comparison(effect)) sprintf(
        "%s.", sentence_case(compared_words(panel, asked$comparison))) else if (!is.null(effect)) paste0(sentence_case(
          did_method(effect)), "."), "measure", section = "effects"),
      item("Could the treatment work before it starts?", if (!is.null(effect) && asked$anticipation > 0) sprintf(
        "%s left for anticipation.", plural(asked$anticipation, "period")), "measure", section = "effects"),
      item("Are covariates adjusted for?", if (!is.null(effect) && asked$adjustment != "none") paste0(sentence_case(
        did_method(effect)), "."), "measure", section = "effects"),
      item("Did trends differ before treatment?", if (!is.null(told$trends)) trends_verdict(told$trends), "trends",
           section = "trends"),
      item("What difference of trends could the test have seen?", if (!is.null(told$trends)) known_text(
        power_sentence(told$trends)), "trends", section = "trends"),
      item("Does a two-way regression mix in units already treated?", if (!is.null(told$decomposition))
        decomposition_verdict(told$decomposition), "decompose", section = "decomposition"),
      item("Are effects shown over time?", if (any(vapply(told$effects, function(x) x$over == "event", NA)))
        "Yes, by periods since treatment.", "measure", section = "effects"),
      item("Do effects differ between cohorts?", if (any(vapply(told$effects, function(x) x$over == "cohort", NA)))
        "Shown cohort by cohort.", "measure", section = "effects"),
      item("How many ways to estimate it were tried?", sprintf("%d in all.", tried_in_all(told)), "measure",
           section = "logbook"),
      item("Do the standard errors allow for clusters?", if (!is.null(effect)) paste0(sentence_case(effect$inference),
                                                                                     "."), "measure",
           section = "effects"),
      item("Are there enough clusters?", cluster_answer(told, effect), "measure", section = "effects"),
      item("Do other estimators agree?", agreement_answer(told), "measure", section = "effects")
    ),
    probe_items(told)[1:2],
    list(reproduction_item(told))
  )
}

#' @export
as.data.frame.twin_checklist <- function(x, ...) x$rows

#' @export
format.twin_checklist <- function(x, ...) {
  rlang::check_dots_empty()
  left <- sum(!x$rows$done)
  blocks <- lapply(seq_len(nrow(x$rows)), function(i) {
    row <- x$rows[i, ]
    c(wrap_lines(sprintf("%d. %s", i, row$question)),
      wrap_lines(paste0(row$answer, if (row$done) sprintf(" (%s)", row$where)), 4L))
  })
  c(sprintf("Referee's checklist: %d questions, %s", nrow(x$rows), if (left == 0L) "all answered" else
    paste(left, "not done")), "", unlist(blocks))
}

#' @export
print.twin_checklist <- function(x, ...) print_lines(x, format(x, ...))

#' @exportS3Method
table_parts.twin_checklist <- function(x, number = column_text) { # nolint: object_name_linter. An S3 method.
  table <- stats::setNames(x$rows[c("question", "answer", "where")], c("Question", "Answer", "Where"))
  plain_parts(table, "Question", "Referee's checklist", sprintf("%d of %d not done.", sum(!x$rows$done), nrow(x$rows)))
}

# As Markdown.
checklist_lines <- function(rows) {
  c("# Referee's checklist", "", unlist(lapply(seq_len(nrow(rows)), function(i) {
    c(sprintf("%d. **%s** %s%s", i, markdown_text(rows$question[i]), markdown_text(rows$answer[i]),
              if (rows$done[i]) sprintf(" *(%s)*", rows$where[i]) else ""))
  })))
}
