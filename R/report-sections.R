# Each section is list(id, title, body), or NULL when there is nothing to show.

new_section <- function(id, title, ...) list(id = id, title = title, body = htmltools::tagList(...))

question_section <- function(parts) {
  study <- parts$study
  rows <- list(
    "Asked for" = sprintf("the effect on %s (%s)", estimands[[study$estimand]]$words, study$estimand),
    Treated = sprintf("%s is \"%s\": %s units", study$roles$treatment, study$levels[["treated"]],
                      count_text(sum(study$z))),
    Control = sprintf("%s is \"%s\": %s units", study$roles$treatment, study$levels[["control"]],
                      count_text(sum(1L - study$z))),
    Outcome = outcome_text(study), Covariates = covariate_text(study), Missing = missing_text(study),
    Weight = study$roles$weight, Cluster = if (!is.null(study$cluster)) group_text(study$roles$cluster, study$cluster),
    Stratum = if (!is.null(study$stratum)) group_text(study$roles$stratum, study$stratum),
    "Left out" = if (length(study$dropped) > 0L) {
      paste(count_text(study$dropped), "rows,", names(study$dropped), collapse = "; ")
    }
  )
  rows <- Filter(Negate(is.null), rows)
  tags <- htmltools::tags
  new_section("question", "Question", tags$dl(Map(function(term, text) {
    htmltools::tagList(tags$dt(term), tags$dd(text))
  }, names(rows), rows)))
}

groups_section <- function(parts) {
  new_section("groups", "Both groups", html_table(parts$groups))
}

score_section <- function(parts) {
  design <- parts$scored
  if (is.null(design)) return(NULL)
  overlap <- assess_overlap(design)
  calibration <- assess_score(design)
  tags <- htmltools::tags
  new_section(
    "score", "Propensity score and overlap",
    tags$p(sprintf("Score: %s.", score_text(design$score)), overlap_sentence(overlap)),
    html_figure(plot(overlap), "Histogram of propensity scores, treated upwards and control downwards.",
                overlap_sentence(overlap)),
    tags$details(
      tags$summary("Calibration"),
      html_figure(plot(calibration), "Share treated against mean score, by groups of equal size.", NULL),
      html_table(calibration)
    ),
    score_details(design$score)
  )
}

# What the score was made of: learners, the ladder, coefficients; whichever there are.
score_details <- function(score) {
  tags <- htmltools::tags
  one <- function(summary, table, caption) {
    if (!is.null(table)) tags$details(tags$summary(summary), table_tag(table, caption, note = NULL))
  }
  coefficients <- if (!is.null(score$coefficients)) coefficient_table(score)
  htmltools::tagList(
    one("Learners", if (!is.null(score$learners)) learner_lines(score$learners), "Weights and out-of-fold losses"),
    one("Term search", if (!is.null(score$steps)) ladder_lines(score$steps), "Terms added and the last one tried"),
    one("Coefficients of the score", if (!is.null(coefficients)) {
      data.frame(Term = coefficients$term, Estimate = number_text(coefficients$estimate),
                 SE = number_text(coefficients$std.error), z = number_text(coefficients$statistic),
                 p = p_text(coefficients$p.value))
    }, sprintf("Coefficients on the %s scale", if (score$link == "logit") "log-odds" else link_words[[score$link]]))
  )
}

balance_section <- function(parts) {
  if (length(parts$balances) == 0L) return(NULL)
  tags <- htmltools::tags
  blocks <- Map(function(balance, design, name) {
    htmltools::tagList(
      tags$h3(paste0(name, ": ", balance$design)),
      tags$p(sprintf("For %s.", population_text(design$study$estimand, design$note)), verdict_text(balance),
             caution_sentence(design)),
      html_figure(plot(balance), paste("Absolute standardized mean differences before and after", balance$design),
                  "Hollow: before the design. Filled: after it. The shaded band is the limit."),
      tags$details(tags$summary("All rows"), html_table(balance)),
      if (has_weights(design)) {
        weights <- assess_weights(design)
        tags$details(tags$summary("Weights"), html_table(weights), html_figure(plot(weights), "Weights by arm", NULL))
      },
      if (!is.null(design$responses)) {
        responses <- assess_responses(design)
        tags$details(tags$summary("Missing outcomes"), html_table(responses),
                     html_figure(plot(responses), "Units with a known outcome against all of their arm", NULL))
      },
      pair_blocks(design),
      if (design$kind == "strata") {
        tags$details(tags$summary("Strata"), table_tag(stratum_lines(design), "Strata", NULL))
      }
    )
  }, parts$balances, parts$designs, names(parts$balances))
  new_section("balance", "Designs and their balance", unname(blocks))
}

# Who is matched and who is not, and the bins where there are some.
pair_blocks <- function(design) {
  bins <- bins_of(design)
  if (!is.null(bins)) {
    names(bins) <- c("Covariate", "bin", "holds", "units")
    return(htmltools::tags$details(htmltools::tags$summary("Bins"), table_tag(bins, "Bins", NULL)))
  }
  if (!has_pairs(design)) return(NULL)
  out <- table(unmatched_table(design)[c("arm", "reason")])
  out <- as.data.frame(out, stringsAsFactors = FALSE)
  out <- out[out$Freq > 0L, ]
  htmltools::tags$details(
    htmltools::tags$summary("Pairs"),
    htmltools::tags$p(if (design$kind == "sets") set_summary(design) else pair_summary(design),
                      if (reuses_units(design)) paste0(". ", reuse_summary(design))),
    if (nrow(out) > 0L) {
      table_tag(data.frame(Arm = out$arm, `left out because` = out$reason, units = count_text(out$Freq),
                           check.names = FALSE), "Units without a partner", NULL)
    },
    html_figure(plot(design), paste("Scores of matched units and of those left out:", design_label(design)), NULL),
    html_figure(plot(design, view = "distances"), paste("Distances within pairs:", design_label(design)), NULL)
  )
}

effects_section <- function(parts) {
  if (length(parts$effects) == 0L) return(NULL)
  tags <- htmltools::tags
  blocks <- lapply(parts$comparisons, function(comparison) {
    first <- comparison$effects[[1L]]
    table <- generics::tidy(comparison)
    htmltools::tagList(
      tags$h3(sprintf("%s on %s", if (comparison$term == "hazard_ratio") "Hazard ratio" else "Effect",
                      outcome_phrase(first))),
      if (!is.null(comparison$truth)) tags$p(truth_sentence(comparison, table)),
      html_figure(plot(comparison), paste("Estimates with intervals:", paste(
        table$label, number_text(table$estimate), collapse = "; ")), "Hollow: raw comparison. Filled: after a design.",
        height = 1.8 + 0.7 * nrow(table)),
      html_table(comparison),
      if (length(comparison$effects) > 1L) agreement_block(comparison),
      tags$details(tags$summary("Each effect in full"), unname(lapply(comparison$effects, html_table)))
    )
  })
  several <- several_effects(parts$effects)
  lasting <- lasting_effects(parts$effects)
  missed <- unlist(Map(missed_limits, parts$balances, names(parts$balances)), use.names = FALSE)
  new_section("effects", "Effects", unname(c(
    if (length(missed) > 0L) list(tags$p(class = "warning", paste(missed, collapse = " "))),
    blocks,
    Map(function(effect, name) {
      htmltools::tagList(tags$h3(paste("Curves:", name)), tags$p(hazard_sentence(effect)),
                         html_figure(plot(effect), paste("Survival curves:", hazard_subtitle(effect)), NULL,
                                     height = 5.5))
    }, lasting, names(lasting)),
    Map(several_block, several, names(several))
  )))
}

several_block <- function(effects, name) {
  tags <- htmltools::tags
  htmltools::tagList(
    tags$h3(name), html_table(effects),
    html_figure(plot(effects), several_title(effects), NULL, height = 1.8 + 0.7 * length(effects)),
    if (!is.null(effects$by)) {
      rows <- generics::tidy(effects, part = "groups")
      table <- data.frame(Outcome = rows$outcome, Group = rows$first, against = rows$second,
                          Difference = number_text(rows$difference), SE = number_text(rows$std.error),
                          interval = interval_text(rows$conf.low, rows$conf.high), p = p_text(rows$p.value))
      tags$details(tags$summary("Between groups"), table_tag(table, "How the groups' effects differ", NULL))
    },
    tags$details(tags$summary("Each effect in full"), unname(lapply(effects$effects, html_table)))
  )
}

# Every two effects of a comparison.
agreement_block <- function(comparison) {
  rows <- generics::tidy(comparison, part = "agreement")
  table <- data.frame(First = rows$first, second = rows$second, Difference = number_text(rows$difference),
                      SE = number_text(rows$std.error), interval = interval_text(rows$conf.low, rows$conf.high),
                      p = ifelse(is.na(rows$p.value), "-", p_text(rows$p.value)))
  htmltools::tags$details(htmltools::tags$summary("Do they agree?"),
                          table_tag(table, "Differences between the estimates", "From their joint covariance."))
}

# Made to be read alone: what is asked, how each number reads, the answers on one scale first.
bias_section <- function(parts) {
  if (length(parts$probes) == 0L) return(NULL)
  tags <- htmltools::tags
  all <- vapply(parts$probes, inherits, NA, "twin_probe_effect")
  probes <- c(parts$probes[all], parts$probes[!all])
  blocks <- Map(function(probe, name) {
    htmltools::tagList(
      tags$h3(name), tags$p(probe_verdict(probe)),
      tags$p(class = "reading", probe_entry(probe)$reading),
      html_figure(plot(probe), paste("Sensitivity to hidden bias:", probe_verdict(probe)), NULL),
      tags$details(tags$summary("Numbers"), html_table(probe)), probe_details(probe)
    )
  }, probes, names(probes))
  new_section("bias", "Hidden bias", tags$p(paste(
    "Designs balance what was measured. What was not measured may still differ between the arms, and no test can show",
    "that it does not. This page asks how strong it would have to be to change the conclusion, and how strong the",
    "measured covariates are by the same yardstick."
  )), unname(blocks))
}

# The further table of a probe, where it has one.
probe_details <- function(probe) {
  further <- further_table(probe)
  if (is.null(further$table) || nrow(further$table) == 0L) return(NULL)
  htmltools::tags$details(htmltools::tags$summary(further$title), table_tag(further$table, further$title, NULL))
}

power_section <- function(parts) {
  if (length(parts$powers) == 0L) return(NULL)
  tags <- htmltools::tags
  blocks <- Map(function(power, name) {
    htmltools::tagList(tags$h3(name), tags$p(paste(power_lines(power), collapse = " ")), html_table(power),
                       tags$details(tags$summary("Power curve"), html_figure(plot(power), power_note(power), NULL)))
  }, parts$powers, names(parts$powers))
  new_section("power", "What the designs could detect", unname(blocks))
}

logbook_section <- function(parts) {
  book <- logbook(parts$study)
  entries <- as.data.frame(book)
  table <- data.frame(
    Step = entries$step, Time = entries$time, Verb = entries$verb, What = entries$what, Counts = entries$counts,
    Settings = entries$settings, `worst |SMD|` = number_text(entries$worst_smd), check.names = FALSE
  )
  new_section("logbook", "Logbook", htmltools::tags$p(seal_sentence(summary(book))),
              table_tag(table, "Every step taken with this study", note = NULL, text = 2:6))
}

html_table <- function(x) {
  parts <- table_parts(x)
  failing <- if (inherits(x, "twin_balance")) parts$table$pass != "yes" else rep(FALSE, nrow(parts$table))
  table_tag(parts$table, parts$caption, parts$note, failing)
}

# Inline SVG with a spoken name; svglite escapes the text inside.
html_figure <- function(plot, alt, caption, width = 8.5, height = 5) {
  tags <- htmltools::tags
  drawing <- svglite::stringSVG(print(plot), width = width, height = height)
  drawing <- sub("^<\\?xml[^>]*>\\s*", "", paste(drawing, collapse = "\n"))
  label <- htmltools::htmlEscape(alt, attribute = TRUE)
  # fixed: the label may hold characters that a replacement pattern would read
  drawing <- paste0("<svg role=\"img\" aria-label=\"", label, "\" ", substring(drawing, nchar("<svg ") + 1L))
  tags$figure(htmltools::HTML(drawing), if (!is.null(caption)) tags$figcaption(caption))
}
