# The report on a dose or on treatment over time, its methods paragraph and checklist.

is_other_question <- function(x) is_dose(first_set(x)) || is_course(first_set(x))

# What makes such results, by class.
other_classes <- c(twin_dose = "frame_dose", twin_course = "frame_course", twin_response = "measure_response",
                   twin_course_effect = "measure_course", twin_dose_balance = "assess_balance",
                   twin_course_balance = "assess_balance")

other_parts <- function(question, designs, effects, probes, balances) {
  list(question = first_set(question), study = study_of(question), designs = lapply(designs, first_set),
       effects = effects, probes = lapply(probes, first_set), ranges = set_ranges(probes), balances = balances,
       outcomes = unique(vapply(effects, `[[`, "", "outcome")))
}

checked_other_parts <- function(question, designs, effects, probes, balances, limit, call = rlang::caller_env()) {
  check_parts(designs, c("twin_dose", "twin_course", "twin_imputed"), c("frame_dose", "frame_course"), "designs", call)
  check_parts(effects, c("twin_response", "twin_course_effect"), c("measure_response", "measure_course"), "effects",
              call)
  check_parts(probes, c("twin_probe", "twin_by_imputation"), "probe_ratio", "probes", call)
  check_parts(balances, c("twin_dose_balance", "twin_course_balance"), "assess_balance", "balances", call)
  if (length(balances) == 0L) balances <- lapply(designs, assess_balance, limit = limit)
  other_parts(question, designs, effects, probes, balances)
}

# The effect that leads: the one asked for, or the first that adjusts.
other_headline <- function(effects, asked) {
  if (!is.null(asked)) return(asked)
  adjusts <- function(effect) !inherits(effect, "twin_response") || effect$weighted || !is.null(effect$family)
  adjusted <- Filter(adjusts, effects)
  c(names(adjusted), names(effects))[1L]
}

other_answer <- function(effect) {
  if (inherits(effect, "twin_response")) response_sentence(effect) else course_sentence(effect)
}

other_question <- function(x) {
  roles <- x$base$roles
  if (is_dose(x)) return(sprintf("What would %s be on average, were everybody given a dose of %s?",
                                 and_list(roles$outcome),
                                 roles$treatment))
  sprintf("What would %s be on average, were everybody to follow a history of %s?", and_list(roles$outcome),
          roles$treatment)
}

other_first <- function(parts) {
  effect <- if (!is.null(parts$headline)) parts$effects[[parts$headline]]
  list(question = other_question(parts$question), answer = if (!is.null(effect)) other_answer(effect),
       rule = if (!is.null(effect)) sprintf("This is \"%s\"%s.", parts$headline, if (parts$headline_asked)
         ", named as the headline" else if (length(parts$effects) > 1L) ", the first one that adjusts" else ""),
       figure = if (!is.null(effect)) figure_block(parts$figures, paste("effect", parts$headline),
                                                   plot(effect) + ggplot2::labs(subtitle = NULL),
                                                   other_answer(effect)),
       verdicts = list(other_balance_verdict(parts), opened_verdict(parts), bias_verdict(parts)))
}

other_balance_verdict <- function(parts) {
  if (length(parts$balances) == 0L) return(new_verdict("Balance", "not judged", "no design"))
  lead <- if (!is.null(parts$headline)) parts$effects[[parts$headline]]$design
  own <- Find(function(balance) identical(balance$design, lead), parts$balances)
  facts <- generics::glance(if (is.null(own)) parts$balances[[1L]] else own)
  reached <- all(facts$passing == facts$rows)
  new_verdict("Balance", if (reached) "reached" else "not reached", sprintf("%s of %s rows", sum(facts$passing),
                                                                            sum(facts$rows)), "balance",
              if (reached) "good" else "care")
}

other_sections <- function(parts) {
  list(other_question_section(parts), other_balance_section(parts), other_effects_section(parts), bias_section(parts),
       methods_section(parts), checklist_section(parts), logbook_section(parts))
}

other_question_section <- function(parts) new_section("question", "Question", terms_block(other_terms(parts$question)))

other_terms <- function(x) {
  study <- x$base
  c(list("Asked for" = other_question(x)), if (is_dose(x)) list(Dose = doses_text(x)) else
    list(Units = sprintf("%s (%s), %s; %s", x$roles$unit, count_text(length(x$at$names)),
                         plural(length(x$at$periods), "period"), left_text(x)), Treated = treated_text(x)),
    list(Outcome = outcome_text(study), Covariates = covariate_text(study), Missing = missing_text(study),
         Imputed = if (!is.null(study$imputed)) imputed_text(study$imputed), Weight = study$roles$weight,
         Cluster = if (!is.null(study$cluster)) group_text(study$roles$cluster, study$cluster),
         "Left out" = dropped_text(study)))
}

other_balance_section <- function(parts) {
  if (length(parts$balances) == 0L) return(NULL)
  blocks <- Map(function(balance, name) {
    weights <- inherits(balance, "twin_course_balance") && balance$weighted
    all_blocks(heading_block(paste0(name, ": ", balance$design)), result_block(balance),
               figure_block(parts$figures, paste("balance", name), plot(balance), paste("Balance of", balance$design)),
               if (weights) figure_block(parts$figures, paste("weights", name), plot(balance, view = "weights"),
                                         "Running weights by period", height = 4))
  }, parts$balances, names(parts$balances))
  new_section("balance", "Designs and their balance", unname(blocks))
}

other_effects_section <- function(parts) {
  if (length(parts$effects) == 0L) return(NULL)
  blocks <- Map(function(effect, name) {
    all_blocks(heading_block(name), result_block(effect), other_effect_tables(effect),
               if (!identical(name, parts$headline)) figure_block(parts$figures, paste("effect", name), plot(effect),
                                                                  other_answer(effect)))
  }, parts$effects, names(parts$effects))
  new_section("effects", "Effects", unname(blocks))
}

other_effect_tables <- function(effect) {
  if (inherits(effect, "twin_course_effect")) return(table_block(course_means(effect), "Mean under each history"))
  rows <- effect$curve
  fold_block("The curve in numbers", table_block(data.frame(
    Dose = number_text(rows$dose), Mean = number_text(rows$estimate), SE = number_text(rows$std.error),
    interval = interval_text(rows$conf.low, rows$conf.high), near = count_text(round(rows$effective)),
    supported = ifelse(rows$supported, "yes", "NO")), "Mean at each dose"))
}

# What was done, sorted, of such a question: see told_of().
told_other <- function(given, call) {
  of <- function(class) unname(Filter(function(part) inherits(part, class), given))
  effects <- c(of("twin_response"), of("twin_course_effect"))
  designs <- c(of("twin_dose"), of("twin_course"), lapply(effects, function(effect) effect$source$x))
  studies <- c(lapply(designs, study_of), lapply(c(of("twin_dose_balance"), of("twin_course_balance")), `[[`, "study"))
  check_one_study(studies, call)
  if (length(designs) == 0L) {
    abort_input(c("Nothing in {.arg x} tells of the question.", i = "Add the study or an effect to the list."),
                call = call)
  }
  told_other_parts(designs[[1L]], designs, effects, of("twin_probe"))
}

told_other_parts <- function(question, designs, effects, probes, headline = NULL) {
  if (is.null(headline) && length(effects) > 0L) headline <- effects[[1L]]
  design <- if (!is.null(headline)) headline$source$x else designs[[length(designs)]]
  list(question = question, study = study_of(question), design = design, effects = effects, probes = probes,
       headline = headline, powers = list(), variations = list(), book = logbook(question))
}

other_paragraphs <- function(told) {
  x <- told$question
  study <- told$study
  list(
    c(sprintf("We asked: %s", tolower_first(other_question(x))),
      if (is_dose(x)) sprintf("The dose was %s.", doses_text(x)) else
        sprintf("The data held %s over %s; %s.", plural(length(x$at$names), "unit"), plural(length(x$at$periods),
                                                                                            "period"),
                left_text(x)),
      if (is_dose(x)) sprintf("Covariates were %s.", and_list(names(study$columns))) else
        sprintf("Covariates that stay were %s; those that change, and that treatment may move, were %s.",
                if (length(x$roles$covariates)) and_list(x$roles$covariates) else "none",
                if (length(x$roles$changing)) and_list(x$roles$changing) else "none"),
      imputed_words(study), missing_words(study)),
    c(other_design_words(told), if (!is.null(told$headline)) sprintf(
      "%s%s. The difference was %s", sub("; .*$", "", sprintf("Effects were estimated by %s", if (is_dose(x))
        response_words(told$headline) else course_words(told$headline))), cited(other_method_papers(told$headline)),
      tolower_first(sub("^[^,]*, [^,]* (changes|differs) by ", "", other_result(told$headline)))),
      if (is_course(x) && !is.null(told$headline)) sprintf(
        "A raw comparison gave %s, ordinary adjustment for what changes %s.",
        number_text(told$headline$ways$estimate[2L]),
        number_text(told$headline$ways$estimate[3L]))),
    if (length(told$probes) > 0L) probe_sentences(told), process_sentences(told)
  )
}

other_result <- function(effect) {
  row <- if (inherits(effect, "twin_response")) effect$contrasts[1L, ] else effect$effects[1L, ]
  what <- if (inherits(effect, "twin_response")) sprintf("from %s to %s of %s", dose_number(row$from),
                                                         dose_number(row$to),
                                                         effect$dose) else
    sprintf("for %s against %s", row$history, row$against)
  sprintf("%s (%s) %s on %s.", number_text(row$estimate), interval_phrase(effect$level, row$conf.low, row$conf.high),
          what,
          outcome_phrase(effect))
}

tolower_first <- function(text) paste0(tolower(substr(text, 1L, 1L)), substring(text, 2L))

other_design_words <- function(told) {
  x <- told$design
  if (length(x$steps) == 0L) return("No weights were made.")
  papers <- unlist(lapply(x$steps, other_step_keys, dose = is_dose(x)))
  worst <- if (is_dose(x)) worst_correlation(x) else worst_period_gap(x)
  weighted <- !is.null(x$weight)
  c(sprintf("The design was: %s%s.", question_label(x), cited(unique(papers))),
    if (weighted) sprintf("The %s left was %s, the effective sample %s.", if (is_dose(x)) "strongest correlation" else
      "largest |SMD| of any period", number_text(worst), count_text(round(if (is_dose(x)) effective_units(x) else
        effective_courses(x)))))
}

other_items <- function(told) {
  x <- told$design
  item <- function(...) new_item(told, ...)
  effect <- told$headline
  worst <- if (is_dose(x)) worst_correlation(x) else worst_period_gap(x)
  list(
    item("Whom does the estimate speak of?", "Everybody in the data.", "frame"),
    item("Which units are left out, and why?", if (length(told$study$dropped) > 0L) paste0(dropped_text(told$study),
                                                                                           ".") else
      "None.", "frame"),
    item("How are missing covariate values treated?", paste0("Missing: ", missing_text(told$study), "."), "frame"),
    item("How were weights made?", if (!is.null(x$weight)) sprintf("By %s.", question_label(x)), "weigh",
         section = "balance"),
    item("What imbalance is left?", if (!is.null(x$weight)) sprintf("%s %s.", if (is_dose(x))
      "The strongest correlation with the dose is" else "The largest |SMD| of any period is", number_text(worst)),
      "judge", "balance of", section = "balance"),
    item("Where do the data support the answer?", if (inherits(effect, "twin_response")) support_sentence(effect) else
      if (!is.null(effect)) sprintf("To the end %s.", and_list(sprintf("%s followed \"%s\"", count_text(
        effect$means$followed), effect$means$history))), "measure", section = "effects"),
    item("How many designs were tried, and when was the outcome opened?", seal_sentence(summary(told$book)), "open",
         section = "logbook"),
    item("How are standard errors made?", if (!is.null(effect)) paste0(sentence_case(effect$inference), "."), "measure",
         section = "effects"),
    item("What would hidden bias have to do?", if (length(told$probes) > 0L) probe_verdict(told$probes[[1L]]),
         "probe", section = "bias"),
    reproduction_item(told)
  )
}
