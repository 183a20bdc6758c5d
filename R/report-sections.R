# The sections on a study. Each is made of blocks, or NULL when there is nothing to show.

study_sections <- function(parts) {
  list(question_section(parts), graph_section(parts), score_section(parts), balance_section(parts),
       power_section(parts), effects_section(parts), variation_section(parts), bias_section(parts),
       methods_section(parts), checklist_section(parts), logbook_section(parts))
}

question_section <- function(parts) {
  study <- parts$study
  new_section("question", "Question and groups", terms_block(question_rows(study)),
              result_block(parts$groups))
}

question_rows <- function(study) {
  several <- !is.null(study$arms)
  arm <- function(which) {
    if (!several) sprintf("%s is \"%s\": %s units", study$roles$treatment, study$levels[[which]],
                          count_text(study_sizes(study)[[which]]))
  }
  list(
    "Asked for" = sprintf("the effect on %s (%s)", estimands[[study$estimand]][[if (several) "of_arms" else "words"]],
                          study$estimand),
    Treated = arm("treated"), Control = arm("control"),
    Arms = if (several) sprintf("%s: %s; each against \"%s\"", study$roles$treatment, paste(
      names(study$arms), count_text(study$arms), collapse = ", "), names(study$arms)[1L]),
    Outcome = outcome_text(study), Covariates = covariate_text(study), Missing = missing_text(study),
    Imputed = if (!is.null(study$imputed)) {
      paste0(imputed_text(study$imputed), "; balance and effects are over all of them, scores, weights and whatever ",
             "else is shown those of the first")
    },
    Weight = study$roles$weight, Cluster = if (!is.null(study$cluster)) group_text(study$roles$cluster, study$cluster),
    Stratum = if (!is.null(study$stratum)) group_text(study$roles$stratum, study$stratum),
    "Left out" = dropped_text(study), Rows = if (is_remote(study)) remote_line(study)
  )
}

dropped_text <- function(study) {
  if (length(study$dropped) > 0L) paste(count_text(study$dropped), "rows,", names(study$dropped), collapse = "; ")
}

has_scores <- function(parts) {
  !is.null(parts$scored) || any(vapply(parts$arms, function(judged) !is.null(judged$overlap), NA))
}

score_section <- function(parts) {
  design <- parts$scored
  if (!is.null(parts$study$arms)) return(arms_score_section(parts))
  if (is.null(design)) return(NULL)
  overlap <- assess_overlap(design)
  calibration <- assess_score(design)
  new_section(
    "score", "Propensity score and overlap",
    text_block(sprintf("Score: %s. %s", score_text(design$score), overlap_sentence(overlap)),
               overlap_places(overlap)),
    figure_block(parts$figures, "overlap", plot(overlap),
                 "Histogram of propensity scores, treated upwards and control downwards"),
    fold_block("Calibration", beside_block(
      figure_block(parts$figures, "calibration", plot(calibration),
                   "Share treated against mean score, by groups of equal size", height = 5.5),
      result_block(calibration)
    )),
    score_details(design$score)
  )
}

# Where units without a counterpart are, in the covariates' own terms.
overlap_places <- function(overlap) {
  lapply(c("treated", "control"), function(arm) {
    lines <- trimws(region_lines(overlap$region[[arm]], arm))
    if (length(lines) > 0L) paste(lines[nzchar(lines)], collapse = " ")
  })
}

# What the score was made of: learners, the ladder, coefficients; whichever there are.
score_details <- function(score) {
  one <- function(title, table, caption) if (!is.null(table)) fold_block(title, table_block(table, caption))
  coefficients <- if (!is.null(score$coefficients)) coefficient_table(score)
  all_blocks(
    one("Learners", if (!is.null(score$learners)) learner_lines(score$learners), "Weights and out-of-fold losses"),
    one("Term search", if (!is.null(score$steps)) ladder_lines(score$steps), "Terms added and the last one tried"),
    one("Coefficients of the score", if (!is.null(coefficients)) {
      data.frame(Term = coefficients$term, Estimate = number_text(coefficients$estimate),
                 SE = number_text(coefficients$std.error), z = number_text(coefficients$statistic),
                 p = p_text(coefficients$p.value))
    }, sprintf("Coefficients on the %s scale", if (score$link == "logit") "log-odds" else link_words[[score$link]]))
  )
}

# All designs in one table and one picture, then what there is to say of each; the headline's design stands open.
balance_section <- function(parts) {
  if (length(parts$balances) == 0L) return(NULL)
  shown <- headline_balance(parts)
  shown <- if (is.null(shown)) 1L else Position(function(balance) identical(balance, shown), parts$balances)
  blocks <- lapply(seq_along(parts$balances), function(k) {
    inside <- design_blocks(parts, names(parts$balances)[k])
    title <- paste0(names(parts$balances)[k], ": ", parts$balances[[k]]$design)
    if (k == shown) all_blocks(heading_block(title), inside) else fold_block(title, inside)
  })
  new_section("balance", "Designs and their balance", arms_blocks(parts), balances_block(parts), balances_figure(parts),
              blocks)
}

# Of several arms, how all of them overlap: scores that are the same are shown once.
arms_score_section <- function(parts) {
  overlaps <- Filter(Negate(is.null), lapply(parts$arms, `[[`, "overlap"))
  overlaps <- overlaps[!duplicated(lapply(overlaps, `[[`, "chance"))]
  if (length(overlaps) == 0L) return(NULL)
  new_section("score", "Chances of each arm and overlap", unname(Map(function(overlap, name) {
    all_blocks(if (length(overlaps) > 1L) heading_block(name), result_block(overlap),
               figure_block(parts$figures, paste("overlap of arms", name), plot(overlap),
                            "Chances of each arm by arm"))
  }, overlaps, names(overlaps))))
}

# Which two arms lie furthest apart; the first design open, the others folded.
arms_blocks <- function(parts) {
  unname(Map(function(judged, name, k) {
    inside <- all_blocks(
      result_block(judged$balance),
      figure_block(parts$figures, paste("balance of arms", name), plot(judged$balance),
                   "Absolute standardized differences of every two arms before and after the design")
    )
    title <- paste(name, "all arms", sep = ": ")
    if (k == 1L) all_blocks(heading_block(title), inside) else fold_block(title, inside)
  }, parts$arms, names(parts$arms), seq_along(parts$arms)))
}

# Designs of several arms have no common picture, but each one of all its arms.
balances_figure <- function(parts) {
  if (length(parts$arms) > 0L) return(NULL)
  names <- names(parts$balances)
  limits <- parts$balances[[1L]]$limits
  together <- if (length(names) > 1L && is.null(parts$study$imputed)) {
    tryCatch(assess_balance(parts$designs, limits$smd, limits$ratio), twin_error = function(e) NULL)
  }
  pictures <- if (is.null(together)) parts$balances else list(all = together)
  Map(function(balance, name) {
    figure_block(parts$figures, paste("balance", name), plot(balance),
                 paste("Absolute standardized mean differences before and after", balance$design), height = 5.2)
  }, pictures, names(pictures)) |> unname()
}

balances_block <- function(parts) {
  facts <- lapply(parts$balances, summary)
  table <- data.frame(
    Design = names(facts), `made by` = vapply(parts$balances, `[[`, "", "design"),
    `rows passing` = vapply(facts, function(s) sprintf("%s of %s", s$passing, s$rows), ""),
    `worst |SMD|` = vapply(facts, function(s) sprintf("%s (%s)", number_text(s$worst_smd), s$worst_covariate), ""),
    `effective treated` = count_text(round(vapply(facts, `[[`, 0, "ess_treated"))),
    `effective control` = count_text(round(vapply(facts, `[[`, 0, "ess_control"))), check.names = FALSE
  )
  failing <- !vapply(facts, `[[`, NA, "balanced")
  table_block(table, "Balance of every design", failing = unname(failing), running = 2L)
}

design_blocks <- function(parts, name) {
  balance <- parts$balances[[name]]
  design <- parts$designs[[name]]
  all_blocks(
    text_block(paste(c(sprintf("For %s.", population_text(design$study$estimand, design$note)), verdict_text(balance),
                       caution_sentence(design)), collapse = " ")),
    fold_block("All rows", result_block(balance)),
    if (has_weights(design)) {
      weights <- assess_weights(design)
      fold_block("Weights", result_block(weights),
                 figure_block(parts$figures, paste("weights", name), plot(weights), "Weights by arm", height = 4))
    },
    if (!is.null(design$responses)) {
      responses <- assess_responses(design)
      fold_block("Missing outcomes", result_block(responses),
                 figure_block(parts$figures, paste("responses", name), plot(responses),
                              "Units with a known outcome against all of their arm"))
    },
    pair_blocks(parts, design, name),
    if (design$kind == "strata") fold_block("Strata", table_block(stratum_lines(design), "Strata"))
  )
}

# Who is matched and who is not, and the bins where there are some.
pair_blocks <- function(parts, design, name) {
  bins <- bins_of(design)
  if (!is.null(bins)) {
    names(bins) <- c("Covariate", "bin", "holds", "units")
    return(fold_block("Bins", table_block(bins, "Bins")))
  }
  if (is_matched_arms(design)) {
    text <- arms_matching_text(design)
    return(fold_block("Matches", text_block(paste0(names(text), ": ", text, "."))))
  }
  if (!has_pairs(design)) return(NULL)
  out <- as.data.frame(table(unmatched_table(design)[c("arm", "reason")]), stringsAsFactors = FALSE)
  out <- out[out$Freq > 0L, ]
  fold_block(
    "Pairs",
    text_block(paste0(if (design$kind == "sets") set_summary(design) else pair_summary(design),
                      if (reuses_units(design)) paste0(". ", reuse_summary(design)))),
    if (nrow(out) > 0L) {
      table_block(data.frame(Arm = out$arm, `left out because` = out$reason, units = count_text(out$Freq),
                             check.names = FALSE), "Units without a partner", running = 2L)
    },
    figure_block(parts$figures, paste("pairs", name), plot(design),
                 paste("Scores of matched units and of those left out:", design_label(design)))
  )
}

power_section <- function(parts) {
  if (length(parts$powers) == 0L) return(NULL)
  blocks <- Map(function(power, name) {
    table <- result_block(power)
    table$caption <- paste(name, table$caption, sep = ": ")
    all_blocks(table, range_block(parts, name), fold_block(paste("Power curve:", name),
                                 figure_block(parts$figures, paste("power", name),
                                              plot(power) + ggplot2::labs(subtitle = NULL, caption = NULL),
                                              paste("Chance to find an effect by its size:", name), height = 4)))
  }, parts$powers, names(parts$powers))
  new_section("power", "What the designs could detect", unname(blocks))
}

variation_section <- function(parts) {
  if (length(parts$variations) == 0L) return(NULL)
  blocks <- Map(function(found, name) {
    pictures <- unlist(lapply(found$tests$outcome, function(outcome) {
      unname(Map(function(view, what) {
        figure_block(parts$figures, paste("variation", name, outcome, view),
                     plot(found, view = view, outcome = outcome) + ggplot2::labs(subtitle = NULL),
                     sprintf("Effects on %s %s: %s", outcome, what, name))
      }, c("columns", "groups", "targeting"), c("by column", "by predicted effect", "targeting")))
    }), recursive = FALSE)
    all_blocks(heading_block(name), result_block(found), range_block(parts, name), unname(pictures))
  }, parts$variations, names(parts$variations))
  new_section("variation", "Who gains", unname(blocks))
}

# How a result runs over imputed data sets; NULL where there is one alone.
range_block <- function(parts, name) {
  table <- parts$ranges[[name]]
  if (!is.null(table)) table_block(table, sprintf("%s over %s", name, plural(parts$study$imputed$of,
                                                                            "imputed data set")))
}

effects_section <- function(parts) {
  if (length(parts$effects) == 0L) return(NULL)
  several <- several_effects(parts$effects)
  lasting <- lasting_effects(parts$effects)
  designed <- Filter(Negate(is_first_look), lasting)
  shown <- if (length(designed) > 0L) designed else lasting  # raw curves where there are no others
  missed <- unlist(Map(missed_limits, parts$balances, names(parts$balances)), use.names = FALSE)
  new_section(
    "effects", "Effects",
    if (length(missed) > 0L) text_block(paste(missed, collapse = " "), tone = "warning"),
    lapply(parts$comparisons, comparison_blocks, parts = parts),
    Map(function(effect, name) {
      fold_block(paste("Curves:", name), text_block(hazard_sentence(effect)),
                 figure_block(parts$figures, paste("curves", name), plot(effect),
                              paste("Survival curves:", hazard_subtitle(effect)), height = 5.5))
    }, shown, names(shown)) |> unname(),
    Map(several_blocks, several, names(several), list(parts)) |> unname()
  )
}

# One outcome: its effects side by side. The first screen has shown the picture of the headline's.
comparison_blocks <- function(comparison, parts) {
  first <- comparison$effects[[1L]]
  shown <- identical(comparison, headline_comparison(parts))
  what <- if (inherits(first, "twin_did")) "Effect" else
    if (comparison$term == "hazard_ratio") "Hazard ratio" else "Effect"
  all_blocks(
    heading_block(sprintf("%s on %s", what, outcome_phrase(first))),
    result_block(comparison),
    if (!shown) comparison_figure(parts, comparison),
    if (length(comparison$effects) > 1L) agreement_block(comparison),
    if (!inherits(first, "twin_did")) {
      fold_block("Each effect in full", unname(lapply(comparison$effects, result_block)))
    }
  )
}

comparison_figure <- function(parts, comparison) {
  table <- generics::tidy(comparison)
  figure_block(parts$figures, paste("effects", comparison_key(parts, comparison)), plot(comparison),
               paste("Estimates with intervals:", paste(table$label, number_text(table$estimate), collapse = "; ")),
               height = forest_height(nrow(table)))
}

comparison_key <- function(parts, comparison) {
  names(parts$comparisons)[Position(function(other) identical(other, comparison), parts$comparisons)]
}

forest_height <- function(rows) 1.1 + 0.3 * rows

several_blocks <- function(effects, name, parts) {
  all_blocks(
    heading_block(name), result_block(effects),
    figure_block(parts$figures, paste("effects", name), plot(effects), several_title(effects),
                 height = forest_height(length(effects)) + 0.75 * (several_outcomes(effects) - 1)),
    if (!is.null(effects$by)) {
      rows <- generics::tidy(effects, part = "groups")
      table <- data.frame(Outcome = rows$outcome, Group = rows$first, against = rows$second,
                          Difference = number_text(rows$difference), SE = number_text(rows$std.error),
                          interval = interval_text(rows$conf.low, rows$conf.high), p = p_text(rows$p.value))
      fold_block("Between groups", table_block(table, "How the groups' effects differ"))
    },
    fold_block("Each effect in full", unname(lapply(effects$effects, result_block)))
  )
}

several_outcomes <- function(effects) length(unique(vapply(effects$effects, `[[`, "", "outcome")))

# Every two effects of a comparison.
agreement_block <- function(comparison) {
  rows <- generics::tidy(comparison, part = "agreement")
  table <- data.frame(First = rows$first, second = rows$second, Difference = number_text(rows$difference),
                      SE = number_text(rows$std.error), interval = interval_text(rows$conf.low, rows$conf.high),
                      p = ifelse(is.na(rows$p.value), "-", p_text(rows$p.value)))
  fold_block("Do they agree?", table_block(table, "Differences between the estimates", "From their joint covariance."))
}

# Made to be read alone: how each number reads, the answers on one scale first, the others folded.
bias_section <- function(parts) {
  if (length(parts$probes) == 0L) return(NULL)
  all <- vapply(parts$probes, inherits, NA, "twin_probe_effect")
  open <- if (any(all)) all else seq_along(parts$probes) == 1L
  blocks <- Map(function(probe, name, stands) {
    inside <- probe_blocks(parts, probe, name)
    if (stands) all_blocks(heading_block(name), inside) else fold_block(probe_heading(probe, name), inside)
  }, parts$probes, names(parts$probes), open)
  over_time <- paste(
    "Trends before treatment can be seen; that both sides would have gone on alike without it can't be tested. This",
    "page asks how far they would have to drift apart to change the conclusion, by what was seen before."
  )
  of_arms <- paste(
    "Designs balance what was measured. What was not measured may still differ between the arms, and no test can show",
    "that it does not. This page asks how strong it would have to be to change the conclusion, and how strong the",
    "measured covariates are by the same yardstick."
  )
  new_section("bias", "Hidden bias", text_block(if (is.null(parts$panel)) of_arms else over_time),
              unname(c(blocks[open], blocks[!open])))
}

# A folded probe says where it turns.
probe_heading <- function(probe, name) {
  turn <- probe_entry(probe)$turn(probe)
  sprintf("%s: %s %s", name, turn$word, turn$number)
}

probe_blocks <- function(parts, probe, name) {
  further <- further_table(probe)
  all_blocks(
    text_block(probe_verdict(probe)), text_block(probe_entry(probe)$reading, tone = "soft"),
    figure_block(parts$figures, paste("probe", name), plot(probe), paste("Sensitivity to hidden bias:", name),
                 height = 4.6),
    range_block(parts, name), fold_block("Numbers", result_block(probe, note = FALSE)),
    if (!is.null(further$table) && nrow(further$table) > 0L) {
      fold_block(further$title, table_block(further$table, further$title))
    }
  )
}

methods_section <- function(parts) {
  text <- methods_words(told_of_parts(parts))
  new_section("methods", "Methods paragraph", text_block(text_block_note), text_block(text$paragraphs),
              fold_block("References", text_block(reference_lines(text$keys))))
}

text_block_note <- "Written from what was done, to be taken into the paper and shortened there."

checklist_section <- function(parts) {
  list <- checklist_rows(told_of_parts(parts))
  table <- list[c("question", "answer", "where")]
  names(table) <- c("Question", "Answer", "Where")
  new_section("checklist", "Referee's checklist",
              table_block(table, sprintf("%d questions, %d not done", nrow(list), sum(!list$done)),
                          failing = !list$done, running = 1:3))
}

logbook_section <- function(parts) {
  book <- logbook(parts$study)
  entries <- as.data.frame(book)
  table <- data.frame(
    Step = entries$step, Time = entries$time, Verb = entries$verb, What = entries$what, Counts = entries$counts,
    Settings = entries$settings, `worst |SMD|` = number_text(entries$worst_smd), check.names = FALSE
  )
  new_section("logbook", "Logbook", text_block(seal_sentence(summary(book))),
              fold_block(sprintf("Every step, %d in all", nrow(table)),
                         table_block(table, "Every step taken with this study", running = 2:6)))
}
