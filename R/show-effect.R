#' @export
format.twin_effect <- function(x, ...) {
  c(wrap_lines(effect_sentence(x)), "", table_lines(effect_table(x)), "",
    wrap_lines(paste0("Standard errors: ", x$inference, ".", missing_sentence(x))),
    wrap_lines(sprintf("%s Effective sample: %s treated, %s control.", imbalance_sentence(x),
                       count_text(round(x$sizes[["treated"]])), count_text(round(x$sizes[["control"]])))),
    wrap_lines(seal_sentence(summary(logbook(x)))))
}

# The worst row of the balance table on the effect's own units; beyond the standard limit it is said to be a failure.
imbalance_sentence <- function(x) {
  if (is.na(x$worst_smd)) return("No covariate tells how alike the arms are.")
  if (!is_unbalanced(x)) return(sprintf("Worst imbalance left: |SMD| %s.", number_text(x$worst_smd)))
  sprintf("Not balanced: %s has |SMD| %s, beyond the standard limit of %s; see assess_balance().", x$worst_row,
          beyond_text(x$worst_smd, standard_limit()), format(standard_limit()))
}

standard_limit <- function() balance_limits("standard", NULL)$smd

is_unbalanced <- function(x) isTRUE(x$worst_smd > standard_limit())

# Effects on designs that missed the limit, with the row that did.
unbalanced_sentence <- function(effects) {
  missed <- Filter(is_unbalanced, effects)
  if (length(missed) == 0L) return(NULL)
  at <- vapply(missed, function(x) {
    sprintf("%s in %s", beyond_text(x$worst_smd, standard_limit()), x$worst_row)
  }, "")
  sprintf("Not balanced (|SMD| beyond %s): %s.", format(standard_limit()),
          paste0(names(missed), " (", at, ")", collapse = ", "))
}

# What became of units without an outcome.
missing_sentence <- function(x) {
  missing <- x$counts[["missing"]]
  if (missing == 0L) return("")
  told <- sprintf(" %s of the outcome %s missing", plural(missing, "value"), if (missing == 1L) "is" else "are")
  if (isTRUE(x$responding)) return(paste0(told, ": units with one stand in for the others by response weights."))
  paste0(told, " and left out: this is about complete cases",
         if (has_pairs(design_of(x)) || is_remote(x$study)) "." else "; see weigh_responses().")
}

#' @export
print.twin_effect <- function(x, ...) print_lines(x, format(x, ...))

# What the outcome models were.
family_word <- function(family) if (family == "learners") "learners" else outcome_families[[family]]$words

effect_method <- function(x) {
  if (is_unadjusted(x)) {
    return(paste0("raw difference in means, nothing adjusted", if (length(x$note) > 0L) paste(",", x$design)))
  }
  entry <- estimators[[x$estimator]]
  if (!is.null(x$source$asked$words)) return(own_method(x))
  words <- if (x$reuse) entry$words_reuse else entry$words
  if (!x$normalised) words <- paste(words, "(not normalised)")
  asked <- x$source$asked
  if (x$reuse && !is.null(x$family)) words <- paste0(words, correction_words[[asked$correction]])
  else if (!is.null(x$family)) words <- paste(words, "with", model_words(x$family, asked$products))
  if (x$design == "raw sample") return(words)
  sprintf("%s on %s", words, sub(plain_score, "the score", sparing_estimand(x$design, x$estimand), fixed = TRUE))
}

own_method <- function(x) {
  words <- x$source$asked$words
  if (x$design == "raw sample") words else paste(words, "on", sparing_estimand(x$design, x$estimand))
}

correction_words <- c(matched = " with linear models", all = " with linear models of all units of each arm",
                      pooled = " with one linear model for both arms")

# "linear models", or "one linear model for both arms, with products of the treatment and port_size".
model_words <- function(family, products) {
  words <- family_word(family)
  if (is.null(products)) return(words)
  named <- if (rlang::is_formula(products)) attr(stats::terms(products), "term.labels") else setdiff(products, "none")
  paste0("one ", sub("models$", "model", words), " for both arms",
         if (length(named) > 0L) sprintf(", with products of the treatment and %s", and_list(named)))
}

# What was estimated, for whom, by what, with the number.
effect_sentence <- function(x) {
  if (inherits(x, "twin_hazard")) return(hazard_sentence(x))
  row <- generics::tidy(x)
  row <- row[row$term == "difference", ]
  roles <- x$study$roles
  what <- if (is_unadjusted(x)) "differs" else "changes"
  subject <- sprintf("With %s = \"%s\" rather than \"%s\",", roles$treatment, x$study$levels[["treated"]],
                     x$study$levels[["control"]])
  sprintf("%s %s %s by %s (%s)%s, for %s; estimated by %s.", subject, outcome_phrase(x), what,
          number_text(row$estimate), interval_phrase(x$level, row$conf.low, row$conf.high), percent_phrase(x),
          effect_population(x, what), effect_method(x))
}

# What a difference of logs is in per cent.
percent_phrase <- function(x) {
  row <- generics::tidy(x)
  row <- row[row$term == "percent", ]
  if (nrow(row) == 0L) return("")
  percent_words(row$estimate, row$conf.low, row$conf.high)
}

percent_words <- function(percent, low, high) {
  sprintf(", which is %s per cent (%s)", number_text(percent), if (is.na(low)) "no interval" else
    interval_text(low, high))
}

effect_population <- function(x, what) {
  text <- if (what == "changes") population_text(x$estimand, x$note) else
    if (length(x$note) > 0L) paste(x$note, collapse = "; ") else "the units as they are"
  if (is.null(x$group)) text else sprintf("%s with %s = \"%s\"", text, x$by, x$group)
}

outcome_phrase <- function(x) {
  event <- x$study$events[[x$outcome]]
  if (is.na(event)) x$outcome else sprintf("the share with %s = \"%s\"", x$outcome, event)
}

term_words <- c(
  mean_treated = "mean if treated", mean_control = "mean if control", difference = "difference", ratio = "ratio",
  percent = "per cent",
  odds_ratio = "odds ratio", hazard_ratio = "hazard ratio", survival_treated = "survival, treated",
  survival_control = "survival, control", survival_difference = "survival, difference",
  restricted_mean_treated = "mean time, treated", restricted_mean_control = "mean time, control",
  restricted_mean_difference = "mean time, difference"
)

# "quantile_0.25_treated" as "25% quantile if treated"; strata and others as they are.
term_text <- function(term) {
  words <- ifelse(term %in% names(term_words), term_words[term], term)
  parts <- regmatches(term, regexec("^quantile_([0-9.]+)_(treated|control|difference)$", term))
  found <- lengths(parts) > 0L
  words[found] <- vapply(parts[found], function(part) {
    what <- c(treated = "if treated", control = "if control", difference = "difference")[[part[3L]]]
    sprintf("%s%% quantile, %s", format(100 * as.numeric(part[2L])), what)
  }, "")
  unname(words)
}

is_level_term <- function(term) term %in% c("mean_treated", "mean_control") | grepl("_(treated|control)$", term)

effect_table <- function(x, number = column_text) {
  table <- generics::tidy(x)
  if (inherits(x, "twin_hazard")) number <- own_digits(number)  # hazards, shares and times
  out <- data.frame(
    Quantity = term_text(table$term),
    Estimate = number(table$estimate), SE = number(table$std.error),
    interval = interval_text(table$conf.low, table$conf.high, number),
    p = ifelse(is_level_term(table$term), "", p_text(table$p.value))
  )
  names(out)[4L] <- paste(level_text(x$level), "interval")
  out
}

# What either arm would have, and below it the difference: one picture of the answer.
#' @export
plot.twin_effect <- function(x, ...) {
  rlang::check_dots_empty()
  panels <- c("either arm", "difference, treated minus control")
  rows <- generics::tidy(x)
  rows <- rows[rows$term %in% c("mean_treated", "mean_control", "difference"), ]
  rows$arm <- c(mean_treated = "treated", mean_control = "control", difference = "difference")[rows$term]
  rows$panel <- factor(panels[1L + (rows$term == "difference")], panels)
  rows$at <- c(mean_treated = 2, mean_control = 1, difference = 1)[rows$term]
  rows$text <- sprintf("%s (%s)", number_text(rows$estimate), interval_text(rows$conf.low, rows$conf.high))
  colours <- c(twin_colours, difference = "grey25")
  labels <- unname(arm_labels(x$study))
  changes <- if (is_unadjusted(x)) "differs" else "changes"
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$estimate, y = .data$at, colour = .data$arm, fill = .data$arm,
                                     shape = .data$arm)) +
    ggplot2::coord_cartesian(clip = "off") +
    ggplot2::geom_vline(ggplot2::aes(xintercept = .data$estimate),
                        data.frame(estimate = 0, panel = factor(panels[2L], panels)), colour = "grey45") +
    ggplot2::geom_errorbarh(ggplot2::aes(xmin = .data$conf.low, xmax = .data$conf.high), height = 0, linewidth = 1,
                            na.rm = TRUE) +
    ggplot2::geom_point(size = 4) +
    ggplot2::geom_text(ggplot2::aes(label = .data$text), vjust = -1.1, size = 3.8, colour = "grey15",
                       show.legend = FALSE) +
    ggplot2::facet_wrap("panel", ncol = 1L, scales = "free", strip.position = "top") +
    ggplot2::scale_colour_manual(values = colours, labels = labels, name = NULL, breaks = names(twin_colours)) +
    ggplot2::scale_fill_manual(values = colours, labels = labels, name = NULL, breaks = names(twin_colours)) +
    ggplot2::scale_shape_manual(values = c(treated = 21, control = 24, difference = 22), labels = labels, name = NULL,
                                breaks = names(twin_colours)) +
    ggplot2::scale_y_continuous(breaks = NULL, expand = ggplot2::expansion(add = c(0.5, 1.1))) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(0.15)) +
    ggplot2::labs(x = sprintf("%s, %s interval", outcome_phrase(x), level_text(x$level)), y = NULL,
                  title = sprintf("Effect of %s on %s", x$study$roles$treatment, outcome_phrase(x)),
                  subtitle = sprintf("For %s. Estimated by %s.", effect_population(x, changes), effect_method(x))) +
    twin_look()
}

#' @export
format.twin_effects <- function(x, ...) {
  table <- fit_table(several_table(x), c("p", "Control", "Treated", "Reference", "Arm"))
  c(wrap_lines(several_title(x)), "", table_lines(table, left = length(x$labels)), "", wrap_lines(several_sentences(x)),
    wrap_lines(paste0("Standard errors: ", several_inference(x), ".")), wrap_lines(pooled_range_sentence(x$effects)),
    wrap_lines(several_balance(x)), wrap_lines(seal_sentence(summary(logbook(x)))))
}

#' @export
print.twin_effects <- function(x, ...) print_lines(x, format(x, ...))

# "Effects of gear", "Effect of joined on income within each port_size", ...
several_title <- function(x) {
  first <- x$effects[[1L]]
  keys <- names(x$labels)
  families <- unique(unlist(lapply(x$effects, `[[`, "family")))
  method <- effect_method(first)
  if (length(families) > 1L) {
    words <- vapply(families, model_words, "", products = first$source$asked$products)
    method <- sub(words[[1L]], and_list(words), method, fixed = TRUE)
  }
  sprintf("Effects of %s%s%s, %s, %s; estimated by %s.", first$study$roles$treatment,
          if ("outcome" %in% keys) "" else paste(" on", outcome_phrase(first)),
          if (is.null(x$by)) "" else paste(" within each", x$by),
          if ("estimand" %in% keys) estimand_list(x) else
            population_text(first$estimand, if (differ_in_notes(x)) character() else first$note, are_contrasts(x)),
          direction_text(x), method)
}

# Are they contrasts of several arms?
are_contrasts <- function(x) "contrast" %in% names(x$labels)

# "everybody (ATE) and those who were treated (ATT)"
estimand_list <- function(x) {
  asked <- unique(vapply(x$effects, `[[`, "", "estimand"))
  and_list(vapply(asked, population_text, "", character(), are_contrasts(x)))
}

# Is each about units of its own, such as those that found a partner?
differ_in_notes <- function(x) length(unique(lapply(x$effects, `[[`, "note"))) > 1L

notes_sentence <- function(x) {
  if (!differ_in_notes(x)) return(NULL)
  notes <- vapply(x$effects, function(effect) paste(effect$note, collapse = "; "), "")
  notes[notes == ""] <- "all of them"
  sprintf("About whom: %s.", paste(names(x), notes, sep = ": ", collapse = "; "))
}

# Which way differences go: "treated minus control", or each arm minus the reference.
direction_text <- function(x) {
  if (are_contrasts(x)) sprintf("each minus \"%s\"", x$effects[[1L]]$study$levels[["control"]]) else
    "treated minus control"
}

several_table <- function(x, number = column_text) {
  if ("outcome" %in% names(x$labels)) number <- own_digits(number)
  table <- generics::tidy(x)
  keys <- x$labels
  row_of <- function(term) table[table$term == term, ]
  difference <- row_of("difference")
  names(keys) <- c(estimand = "For", contrast = "Arms", outcome = "Outcome", group = x$by)[names(keys)]
  out <- cbind(keys, data.frame(
    Treated = number(row_of("mean_treated")$estimate), Control = number(row_of("mean_control")$estimate),
    Difference = number(difference$estimate), SE = number(difference$std.error),
    interval = interval_text(difference$conf.low, difference$conf.high, number), p = p_text(difference$p.value)
  ))
  names(out)[ncol(out) - 1L] <- paste(level_text(x$level), "interval")
  if (are_contrasts(x)) names(out)[names(out) %in% c("Treated", "Control")] <- c("Arm", "Reference")
  if (x$adjust != "none") out[[c(holm = "p (Holm)", bh = "p (BH)")[[x$adjust]]]] <- p_text(difference$p.adjusted)
  if (!is.null(x$bands)) out$`joint band` <- interval_text(difference$band.low, difference$band.high, number)
  rownames(out) <- NULL
  out
}

# "12 to 34", or one number when they are the same.
range_text <- function(values) paste(unique(count_text(round(range(values)))), collapse = " to ")

# "= 0.030" or "< 0.001".
p_phrase <- function(p) if (is.na(p)) "unknown" else if (p < 0.001) "< 0.001" else paste("=", p_text(p))

several_sentences <- function(x) c(notes_sentence(x), arms_sentences(x), groups_sentences(x))

# Do arms differ at all? One sentence per outcome and group.
arms_sentences <- function(x) {
  if (!are_contrasts(x)) return(NULL)
  if (any(vapply(x$effects, `[[`, NA, "reuse")) && !share_matches(x$effects)) {
    return("These matches with replacement have no joint covariance: no joint test of the arms.")
  }
  any_two <- speak_of_one_population(x)
  vapply(arm_families(x), function(at) {
    test <- arms_test(x, at)
    where <- unlist(x$labels[at[1L], setdiff(names(x$labels), "contrast")])
    df <- as.integer(test[["df"]])
    sprintf("%sDo the arms differ at all? Joint test: p %s (%s of freedom).%s",
            if (length(where) > 0L) paste0(paste(where, collapse = ", "), ": ") else "", p_phrase(test[["p.value"]]),
            plural(df, "degree"), if (length(at) > 1L && any_two) " tidy(part = \"arms\") compares any two." else "")
  }, "")
}

groups_sentences <- function(x) {
  if (is.null(x$by)) return(NULL)
  vapply(effect_families(x), function(at) {
    effects <- x$effects[at]
    estimate <- vapply(effects, function(effect) effect$estimate[["difference"]], 0)
    test <- core_equality_test(estimate, differences_vcov(x, at), least_df(effects))
    where <- unlist(x$labels[at[1L], setdiff(names(x$labels), "group")])
    df <- as.integer(test[["df"]])
    sprintf("%sAre the groups' effects the same? Joint test: p %s (%d degree%s of freedom).",
            if (length(where) > 0L) paste0(paste(where, collapse = ", "), ": ") else "",
            p_phrase(test[["p.value"]]), df, if (df == 1L) "" else "s")
  }, "")
}

# Numbers of clusters and pairs may differ by group.
several_inference <- function(x) {
  texts <- unique(vapply(x$effects, `[[`, "", "inference"))
  if (length(texts) == 1L) return(texts)
  bare <- unique(gsub("\\([0-9, ]+\\)", "(...)", texts))
  if (length(bare) > 1L) return(paste(texts, collapse = "; "))
  counts <- vapply(regmatches(texts, gregexpr("(?<=\\()[0-9,]+(?=\\))", texts, perl = TRUE)), `[`, "", 1L)
  counts <- as.numeric(gsub(",", "", counts))
  sub("(...)", sprintf("(%s to %s)", count_text(min(counts)), count_text(max(counts))), bare, fixed = TRUE)
}

several_balance <- function(x) {
  treated <- vapply(x$effects, function(effect) effect$sizes[["treated"]], 0)
  control <- vapply(x$effects, function(effect) effect$sizes[["control"]], 0)
  worst <- vapply(x$effects, `[[`, 0, "worst_smd")
  missing <- vapply(x$effects, function(effect) effect$counts[["missing"]], 0)
  paste0(
    if (any(vapply(x$effects, is_unbalanced, NA))) unbalanced_sentence(stats::setNames(x$effects, names(x))) else
      sprintf("Worst imbalance left: |SMD| %s%s.", number_text(max(worst)),
              if (diff(range(worst)) > 0) sprintf(" (%s)", names(x)[which.max(worst)]) else ""),
    sprintf(" Effective sample: %s %s, %s %s.", range_text(treated),
            if (are_contrasts(x)) "in the arms compared" else "treated", range_text(control),
            if (are_contrasts(x)) "in the reference" else "control"),
    if (any(missing > 0)) paste0(" ", left_out_sentence(stats::setNames(missing, names(x))))
  )
}

# missing: how many outcomes, named by effect.
left_out_sentence <- function(missing) {
  missing <- missing[missing > 0]
  sprintf("Outcome missing and left out: %s.", paste(names(missing), count_text(missing), collapse = "; "))
}

#' @export
plot.twin_effects <- function(x, term = "difference", ...) {
  rlang::check_dots_empty()
  table <- generics::tidy(x)
  table <- table[table$term == term, ]
  if (nrow(table) == 0L) abort_input("No effect has the term {.val {term}}.")
  outcomes <- unique(table$outcome)
  table$label <- apply(x$labels[setdiff(names(x$labels), if (length(outcomes) > 1L) "outcome")], 1L, paste,
                       collapse = ", ")
  table$outcome <- factor(table$outcome, outcomes)
  first <- x$effects[[1L]]
  plot <- forest_plot(table, term) +
    ggplot2::labs(
      x = sprintf("%s (%s), %s interval", term_text(term), direction_text(x), level_text(x$level)), y = NULL,
      title = sprintf("Effect of %s%s", first$study$roles$treatment,
                      if (length(outcomes) == 1L) paste(" on", outcome_phrase(first)) else ""),
      subtitle = paste0("For ", estimands[[first$estimand]]$words, " (", first$estimand, ")",
                        if (!is.null(x$bands)) ". Thin lines: joint band, which holds for all at once.")
    )
  if (length(outcomes) == 1L) return(plot)
  plot + ggplot2::facet_wrap(~outcome, scales = "free", ncol = 1L)
}

# Estimates with intervals, one row each: names at the left, numbers at the right; hollow where nothing was adjusted;
# thin lines for joint bands. Rows keep their places over panels.
forest_plot <- function(table, term, truth = NULL) {
  names <- wrapped_name(table$label)
  numbers <- sprintf("%s (%s)", number_text(table$estimate), interval_text(table$conf.low, table$conf.high))
  table$at <- rev(seq_len(nrow(table)))
  of_row <- function(texts) function(at) texts[match(round(at), table$at)]
  if (is.null(table$raw)) table$raw <- FALSE
  plot <- ggplot2::ggplot(table, ggplot2::aes(x = .data$estimate, y = .data$at)) +
    ggplot2::geom_vline(xintercept = null_value(term), colour = "grey45", linewidth = 0.4)
  if (!is.null(truth)) plot <- plot + truth_layers(truth)
  if (!is.null(table$band.low)) {
    plot <- plot + ggplot2::geom_errorbarh(ggplot2::aes(xmin = .data$band.low, xmax = .data$band.high), height = 0.12,
                                           linewidth = 0.35, colour = twin_colours[["treated"]], na.rm = TRUE)
  }
  plot +
    ggplot2::geom_errorbarh(ggplot2::aes(xmin = .data$conf.low, xmax = .data$conf.high), height = 0,
                            linewidth = 0.9, colour = twin_colours[["treated"]], na.rm = TRUE) +
    ggplot2::geom_point(ggplot2::aes(fill = .data$raw), shape = 21, size = 3.2, stroke = 1,
                        colour = twin_colours[["treated"]], show.legend = FALSE) +
    ggplot2::scale_fill_manual(values = c(`FALSE` = twin_colours[["treated"]], `TRUE` = "white")) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(0.08)) +
    ggplot2::scale_y_continuous(
      breaks = table$at, labels = of_row(names), expand = ggplot2::expansion(add = 0.6),
      sec.axis = ggplot2::sec_axis(~., breaks = table$at, labels = of_row(numbers))
    ) +
    twin_look() +
    ggplot2::theme(panel.grid.major.y = ggplot2::element_blank(), axis.text.y = ggplot2::element_text(size = 11),
                   axis.text.y.right = ggplot2::element_text(hjust = 1))
}

#' @export
format.twin_comparison <- function(x, ...) {
  c(
    wrap_lines(comparison_title(x)),
    "",
    table_lines(fit_table(comparison_table(x), "eff. sample")),
    "",
    wrap_lines(comparison_sentences(x))
  )
}

#' @export
print.twin_comparison <- function(x, ...) print_lines(x, format(x, ...))

comparison_table <- function(x, number = column_text) {
  table <- generics::tidy(x)
  label <- table$label
  if (length(unique(table$estimand)) == 1L) label <- sparing_estimand(label, table$estimand[1L])
  out <- data.frame(
    Effect = label, Estimate = number(table$estimate),
    SE = number(table$std.error), interval = interval_text(table$conf.low, table$conf.high, number),
    sample = paste(count_text(round(table$ess_treated)), count_text(round(table$ess_control)), sep = " + "),
    worst = number_text(table$worst_smd)
  )
  names(out)[4:6] <- c(paste(level_text(x$effects[[1L]]$level), "interval"), "eff. sample", "|SMD|")
  if (all(is.na(table$ess_treated))) out <- out[1:4]
  if (length(unique(table$estimand)) > 1L) out <- cbind(out[1L], Estimand = table$estimand, out[-1L])
  if (!is.null(x$truth)) out$`holds truth` <- ifelse(table$covers, "yes", "NO")
  out
}

comparison_title <- function(x) {
  first <- x$effects[[1L]]
  estimands <- unique(vapply(x$effects, `[[`, "", "estimand"))
  sprintf("Effect of %s on %s%s: %s%s", treatment_of(first$study), outcome_phrase(first),
          if (length(estimands) == 1L) paste0(" (", estimands, ")") else "", term_text(x$term),
          if (x$term == "difference" && !inherits(first, "twin_did")) ", treated minus control" else "")
}

# In words: whom each effect speaks of when they differ, and what the truth says where it is known.
comparison_sentences <- function(x) {
  table <- generics::tidy(x)
  estimands <- unique(table$estimand)
  c(
    if (length(estimands) > 1L) "The effects speak of different populations; see the estimand of each.",
    partial_populations(x),
    pooled_range_sentence(x$effects),
    unbalanced_sentence(x$effects),
    agreement_sentence(x),
    if (!is.null(x$truth)) truth_sentence(x, table)
  )
}

# Do the estimates after a design agree? Only those of one estimand are asked to.
agreement_sentence <- function(x) {
  adjusted <- Filter(Negate(is_unadjusted), x$effects)
  if (length(adjusted) < 2L || length(unique(vapply(adjusted, `[[`, "", "estimand"))) > 1L) return(NULL)
  test <- generics::glance(x)
  if (is.na(test$p.value)) return(untested_sentence(x, test))
  rows <- agreement_rows(x)
  rows <- rows[rows$first %in% names(adjusted) & rows$second %in% names(adjusted), ]
  rows <- rows[rows$std.error > 0, ]
  far <- rows[which.max(abs(rows$statistic)), ]
  several <- length(unique(lapply(adjusted, function(effect) effect$study$levels))) > 1L
  question <- if (several) "Are the %d effects, of different arms, the same?" else
    if (inherits(adjusted[[1L]], "twin_did")) "Do the %d estimates agree?" else "Do the %d adjusted estimates agree?"
  sprintf(paste(question, "Joint test: p %s. Furthest apart in standard errors: %s and %s, %s (SE %s)."), test$effects,
          p_phrase(test$p.value), far$first, far$second, number_text(abs(far$difference)), number_text(far$std.error))
}

# Why rows of one effect over time have no joint test; other effects without one stand in few words already.
untested_sentence <- function(x, test) {
  if (is.null(x$joint)) return(NULL)
  sprintf(paste("No joint test of the %d estimates: their clusters leave fewer degrees of freedom than that. Compare",
                "fewer of them, with window or balanced in summarise_did()."), test$effects)
}

partial_populations <- function(x) {
  noted <- Filter(function(effect) length(effect$note) > 0L, x$effects)
  if (length(noted) == 0L) return(NULL)
  paste0(names(noted), ": ", vapply(noted, function(effect) paste(effect$note, collapse = "; "), ""), ".")
}

truth_sentence <- function(x, table) {
  holds <- table$label[table$covers]
  misses <- table[!table$covers, ]
  paste0(
    sprintf("The truth is %s.", number_text(x$truth)),
    if (length(holds) == 1L) sprintf(" The interval of %s holds it.", holds),
    if (length(holds) > 1L) sprintf(" The intervals of %s hold it.", and_list(holds)),
    if (nrow(misses) > 0L) paste0(" ", miss_text(misses, x$truth), collapse = "")
  )
}

miss_text <- function(misses, truth) {
  sprintf("That of %s, %s, misses it%s.", misses$label, interval_text(misses$conf.low, misses$conf.high),
          ifelse(sign(misses$estimate) != sign(truth), " and has the wrong sign", ""))
}

#' @export
plot.twin_comparison <- function(x, ...) {
  rlang::check_dots_empty()
  table <- generics::tidy(x)
  table$raw <- vapply(x$effects, is_unadjusted, NA)
  first <- x$effects[[1L]]
  forest_plot(table, x$term, x$truth) +
    ggplot2::labs(
      x = sprintf("%s in %s, %s interval", term_text(x$term), outcome_phrase(first), level_text(first$level)),
      y = NULL, title = sprintf("Effect of %s on %s", treatment_of(first$study), outcome_phrase(first)),
      subtitle = paste0(if (!inherits(first, "twin_did")) "Hollow: raw comparison. Filled: after a design. ",
                        if (!is.null(x$truth)) "Dashed: the known truth.")
    )
}

truth_layers <- function(truth) {
  list(
    ggplot2::geom_vline(xintercept = truth, linetype = "22", colour = twin_mark, linewidth = 0.8),
    ggplot2::annotate("text", x = truth, y = Inf, label = sprintf(" truth %s ", number_text(truth)), hjust = "inward",
                      vjust = 1.4, size = 3.4, colour = twin_mark)
  )
}
