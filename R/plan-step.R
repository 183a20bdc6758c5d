# A plan made step by step, for who looks at it as it grows (the desk). What was made is kept by what it was made of, so
# that a change makes again only what hangs on it.

# list(html, verdict, notes, failed: named sentences on what could not be made, choices: estimators by design, sets: to
# adjust for, cuts: scores_in_hundredths(), log). kept: an environment; kept$log, entries of earlier sessions.
answer_step <- function(plan, step, kept) {
  study <- made_study(plan, kept)
  if (inherits(study$value, "twin_error")) {
    return(list(html = "", verdict = "not yet", notes = study$notes, failed = c(study = failed_sentence(study$value)),
                choices = list(), log = kept$log))
  }
  kept$study <- study$value
  found <- parts_of_step(plan, step, study, kept)
  found$parts <- parts_of_first_set(found$parts)
  view <- plan_step_views(plan)[[step]]
  section <- view$section(found$parts)
  html <- as.character(htmltools::tagList(lapply(section$blocks, html_block)))
  html <- sub("sealed until measure_effect() opens it", "sealed until you open it below", html, fixed = TRUE)
  drop_figures(found$parts$figures)
  log <- as.data.frame(logbook(study$value))
  kept$log <- log
  list(html = html,
       verdict = view$verdict(found$parts), notes = unique(found$notes), failed = found$failed,
       choices = if (step == "designs") lapply(found$parts$made, estimator_choices),
       sets = if (step == "assumptions") plain_sets(found$parts$assumed$sets),
       cuts = if (step == "score") scores_in_hundredths(found$parts$scored),
       seal = seal_sentence(summary(logbook(study$value))), log = log)
}

parts_of_step <- function(plan, step, study, kept) {
  make <- if (is_panel_plan(plan)) panel_step_parts else if (is_other_plan(plan)) other_step_parts else step_parts
  make(plan, step, study, kept)
}

# Sorts what was made from what failed: list(add: function(made) giving the values, told: function() giving notes and
# failed; forget: function() that drops what was noted so far, of steps that tell it themselves).
new_sorter <- function() {
  told <- list(notes = NULL, failed = character())
  list(
    add = function(made) {
      good <- Filter(function(one) !inherits(one$value, "twin_error"), made)
      bad <- made[setdiff(names(made), names(good))]
      told$notes <<- c(told$notes, unlist(lapply(good, `[[`, "notes"), use.names = FALSE))
      told$failed <<- c(told$failed, vapply(bad, function(one) failed_sentence(one$value), ""))
      lapply(good, `[[`, "value")
    },
    told = function() told, forget = function() told <<- list(notes = NULL, failed = character())
  )
}

# list(parts: as report_parts(), as far as the step needs them, notes, failed).
step_parts <- function(plan, step, study, kept) {
  parts <- list(study = study$value, figures = new_figures())
  if (step == "question") {
    parts$groups <- plan_groups(plan, study$value)
    return(list(parts = parts, notes = study$notes, failed = character()))
  }
  if (step == "assumptions") {
    parts$assumed <- graph_facts(study$value)
    parts[c("opened", "drawn")] <- list(length(plan$effects) > 0L, TRUE)  # the page draws the graph itself
    return(list(parts = parts, notes = NULL, failed = character()))
  }
  sorter <- new_sorter()
  designs <- sorter$add(made_designs(plan, kept))
  if (step != "designs") sorter$forget()
  designs <- parts$made <- whole_designs(designs)
  parts$designs <- two_arm_designs(designs)
  if (step %in% c("score", "designs", "report")) parts$arms <- plan_arms(plan, designs)
  if (step == "score") {
    parts$scored <- scored_design(parts$designs)
  } else {
    parts$balances <- sorter$add(made_each(kept, "balance", parts$designs, function(design) {
      plan_balances(plan, list(one = design))$one
    }, plan$report))
  }
  if (step %in% c("power", "report")) parts$powers <- each_alone(sorter$add(made_powers(plan, designs, kept)))
  if (step %in% c("effects", "bias", "report")) {
    measured <- sorter$add(made_effects(plan, designs, kept))
    effects <- each_alone(measured)
    if (step == "bias") sorter$forget()
    parts <- c(parts, list(effects = effects, comparisons = effect_comparisons(effects, unlist(plan$report$truth)),
                           outcomes = effect_outcomes(effects)))
  }
  if (step %in% c("variation", "report")) parts$variations <- sorter$add(made_variations(plan, designs, kept))
  if (step %in% c("bias", "report")) parts$probes <- each_alone(sorter$add(made_probes(plan, measured, kept)))
  c(list(parts = parts), sorter$told())
}

# The same for a panel: list(parts: as panel_parts(), notes, failed).
panel_step_parts <- function(plan, step, panel, kept) {
  figures <- new_figures()
  panel_of_plan <- panel$value
  sorter <- new_sorter()
  from <- list(panel_of_plan$hash, plan$baseline, plan$designs)
  designed <- if (step != "question") {
    made_once(kept, c("designed", from), function() designed_panels(plan, panel_of_plan))$value
  }
  if (inherits(designed, "twin_error")) {
    sorter$add(list(designs = list(value = designed, notes = character())))
    designed <- list()
  }
  made_part <- function(part, verb) {
    made <- made_once(kept, c(part, from, list(plan[[part]])), function() {
      plan_part(plan, part, verb, panel_of_plan, designed)
    })
    sorter$add(stats::setNames(list(made), part))[[part]]
  }
  trends <- if (step %in% c("trends", "report")) made_part("trends", assess_trends)
  effects <- if (step %in% c("effects", "bias", "report")) sorter$add(made_paths(plan, panel_of_plan, designed, kept))
  if (step == "bias") sorter$forget()
  decomposition <- if (step %in% c("decomposition", "report")) made_part("decompose", decompose_did)
  found <- if (step %in% c("bias", "report")) sorter$add(made_probes(plan, lapply(effects, `[[`, "measured"), kept))
  shown <- each_did(lapply(effects, `[[`, "shown"))
  parts <- panel_parts(panel_of_plan, shown, found, unlist(plan$report$truth), trends,
                       decomposition, designed, if (step == "report") {
                         sorter$add(made_each(kept, "balance", designed, function(design) {
                           plan_balances(plan, list(one = design))$one
                         }, plan$report))
                       })
  if (step == "report") {
    parts$powers <- sorter$add(made_powers(plan, designed, kept))
    parts$composition <- made_part("composition", assess_composition)
  }
  parts$figures <- figures
  told <- sorter$told()
  if (step == "question") told$notes <- panel$notes
  c(list(parts = parts), told)
}

# The study or panel of the plan. All of the same data share one logbook, so that no design that was tried is forgotten
# when a question comes back.
made_study <- function(plan, kept) {
  question <- plan_question(plan)
  file <- question$data
  stamp <- if (rlang::is_string(file)) file.info(beside_plan(plan, file))[c("size", "mtime")]
  more_parts <- if (is_other_plan(plan)) list(names(plan), names(plan$report))  # what such a question has no use for
  made_once(kept, list("study", question, stamp, more_parts), function() {
    if (is_other_plan(plan)) check_other_plan(plan)
    study <- if (is_panel_plan(plan)) plan_panel(plan) else plan_study(plan)
    key <- data_key(plan)
    book <- kept$books[[key]]
    if (!is.null(book)) return(share_logbook(study, book))
    resume_logbook(study_of(study), kept$log)
    kept$books[[key]] <- study_of(study)$logbook
    study
  })
}

# Every entry of a part of the plan, made by itself. key: function(settings) giving what else it is made of; make:
# function(alone: the plan with this entry alone in the part, settings).
made_entries <- function(plan, part, kept, key, make) {
  lapply(stats::setNames(nm = names(plan[[part]])), function(name) {
    settings <- plan[[part]][[name]]
    made_once(kept, list(part, kept$study$hash, name, settings, key(settings)), function() {
      alone <- plan
      alone[[part]] <- plan[[part]][name]
      make(alone, settings)
    })
  })
}

made_designs <- function(plan, kept) {
  made_entries(plan, "designs", kept, function(settings) NULL, function(alone, settings) {
    plan_designs(alone, kept$study)[[1L]]
  })
}

# What is made of each design.
made_each <- function(kept, what, designs, make, settings = NULL) {
  lapply(designs, function(design) made_once(kept, list(what, design$hash, settings), function() make(design)))
}

made_powers <- function(plan, designs, kept) made_of_designs(plan, "power", plan_powers, designs, kept)

made_variations <- function(plan, designs, kept) made_of_designs(plan, "variation", plan_variations, designs, kept)

made_of_designs <- function(plan, part, make, designs, kept) {
  made_entries(plan, part, kept, function(settings) named_part(designs, settings$design)$hash,
               function(alone, settings) {
                 check_made(settings$design, designs)
                 make(alone, kept$study, designs)[[1L]]
               })
}

check_made <- function(design, designs) {
  if (is.null(design) || !is.null(designs[[design]])) return(invisible(design))
  abort_input("The design {.val {design}} could not be made.", call = NULL)
}

made_effects <- function(plan, designs, kept) {
  made_entries(plan, "effects", kept, function(settings) named_part(designs, settings$design)$hash,
               function(alone, settings) {
                 check_made(settings$design, designs)
                 plan_effects(alone, kept$study, designs)[[1L]]
               })
}

# Effects of a panel: list(measured, shown) each.
made_paths <- function(plan, panel, designed, kept) {
  of <- function(settings) if (is.null(settings$design)) "path" else named_part(designed, settings$design)$hash
  made_entries(plan, "effects", kept, of, function(alone, settings) plan_panel_effects(alone, panel, designed)[[1L]])
}

made_probes <- function(plan, effects, kept) {
  about <- function(settings) {
    asked <- named_part(plan$effects, settings$effect)
    list(asked, named_part(plan$designs, asked$design))
  }
  made_entries(plan, "probes", kept, about, function(alone, settings) {
    if (!is.null(settings$effect) && is.null(named_part(effects, settings$effect))) {
      abort_input("The effect {.val {settings$effect}} could not be measured.", call = NULL)
    }
    plan_probe_results(alone, effects)[[1L]]
  })
}

# NULL where no name is given, or none of that name is there.
named_part <- function(parts, name) if (!is.null(name)) parts[[unlist(name)]]

most_kept <- 200L
most_bytes <- 2e9

# list(value, or the error it met; notes: what was warned of), made once for its key; the oldest go where there are many
# or they are large (what two of them share is counted twice, so less is kept than would fit).
made_once <- function(kept, key, make) {
  id <- rlang::hash(key)
  if (is.null(kept$made[[id]])) {
    notes <- character()
    value <- tryCatch(withCallingHandlers(make(), warning = function(w) {
      notes <<- c(notes, paste(message_lines(w, in_plan = TRUE), collapse = " "))
      rlang::cnd_muffle(w)
    }), twin_error = function(e) e)
    kept$made[[id]] <- list(value = value, notes = notes, bytes = as.numeric(utils::object.size(value)))
    later <- rev(cumsum(rev(vapply(kept$made, `[[`, 0, "bytes"))))  # of itself and those made since
    stays <- later <= most_bytes | seq_along(later) == length(later)
    kept$made <- utils::tail(kept$made[stays], most_kept)
  }
  kept$made[[id]]
}

failed_sentence <- function(error) paste(trimws(message_lines(error, in_plan = TRUE)), collapse = " ")

# What a page needs to know of the columns: list(name, kind, missing, levels: texts, for those of few values, counts: at
# most ten, for a picture, roles: guess_roles(), panel, dose, course: the same for other questions, NULL where there is
# no guess; stray: entries among numbers that may mean "not known").
# first: the first rows as text. Of a table in a database: by its first rows, as the note says.
answer_columns <- function(plan) {
  question <- plan_question(plan)
  part <- if (is_panel_plan(plan)) "panel" else "study"
  if (!is.null(names(question$data))) {
    first <- plan_database(plan, part, as.list(question$data))$columns
    facts <- columns_facts(first)
    facts[c("dose", "course")] <- NULL  # are asked of data that are read
    return(c(facts, note = "Kinds and shapes are those of the first rows of the table."))
  }
  reading <- question[intersect(names(question), reading_keys())]
  columns_facts(do.call(read_units, c(list(beside_plan(plan, question$data)), reading)))
}

# HTML of the first rows but for outcomes, which stay closed. columns: answer_columns().
preview_table <- function(columns, outcomes) {
  shown <- columns$first[setdiff(columns$name, outcomes)]
  text <- which(!columns$kind[match(names(shown), columns$name)] %in% c("number", "year"))
  caption <- sprintf("%s, without the outcome%s (%s)", plural(nrow(shown), "row"),
                     if (length(outcomes) > 1L) "s" else "", and_list(outcomes))
  as.character(html_block(table_block(shown, caption, running = text)))
}

columns_facts <- function(data) {
  kinds <- vapply(data, column_kind, "")
  data_frame <- as.data.frame(data)
  levels <- lapply(data, function(x) {
    values <- unique(x[!is.na(x)])
    if (length(values) <= 20L) value_texts(values)
  })
  counts <- lapply(data, function(x) {
    if (is.numeric(x) && any(is.finite(x))) return(tabulate(cut(x[is.finite(x)], 10L, labels = FALSE), 10L))
    values <- unique(x[!is.na(x)])
    utils::head(sort(tabulate(match(x, values), length(values)), decreasing = TRUE), 10L)
  })
  first <- as.data.frame(lapply(utils::head(data_frame, 6L), function(x) {
    text <- trimws(format(x))
    ifelse(is.na(x), "", text)
  }), check.names = FALSE, optional = TRUE)
  names(first) <- names(data)
  guess <- function(of) tryCatch(of(data_frame), twin_error = function(e) NULL)
  roles <- guess(guess_roles)
  list(name = names(data), kind = unname(kinds), first = first,
       missing = unname(vapply(data, function(x) sum(is.na(x)), 0L)), levels = levels, counts = counts,
       panel = guess(guess_panel), dose = guess(guess_dose), course = guess(guess_course),
       roles = roles, stray = if (!is.null(roles)) stray_values(data_frame, roles))
}

# Scores of both arms counted in hundredths, before any is trimmed: list(treated, control), of 100 counts each. NULL
# without scores, or with those of a database.
scores_in_hundredths <- function(design) {
  if (is.null(design) || is_remote(design)) return(NULL)
  bins <- findInterval(design$score$fitted, seq(0, 1, 0.01), rightmost.closed = TRUE)
  z <- study_of(design)$z
  list(treated = tabulate(bins[z == 1L], 100L), control = tabulate(bins[z == 0L], 100L))
}

# All results of a plan in a folder, as `twin run` leaves them, with the plan and the same in R.
answer_report <- function(plan, out, kept) {
  study <- made_study(plan, kept)
  if (inherits(study$value, "twin_error")) stop(study$value)
  kept$study <- study$value
  results <- file.path(out, "results")
  make_folder(results)
  parts <- whole_parts(plan, study, kept)
  plan$path <- file.path(out, "plan.yml")
  write_text(plan_text(plan), plan$path)
  if (is_panel_plan(plan)) write_panel_results(results, parts, plan) else if (is_other_plan(plan))
    write_other_results(results, parts, plan, parts$made) else write_results(results, parts, plan)
  if (!is_panel_plan(plan)) write_text(plan_script(plan), file.path(results, "analysis.R"))
  list(out = results, verdict = "made")
}

# The parts of the whole report.
whole_parts <- function(plan, study, kept) {
  if (is_panel_plan(plan)) {
    parts <- panel_step_parts(plan, "report", study, kept)$parts
    drop_figures(parts$figures)
    return(parts[names(parts) != "figures"])
  }
  found <- parts_of_step(plan, "report", study, kept)$parts
  drop_figures(found$figures)
  if (is_other_plan(plan)) return(found[names(found) != "figures"])
  parts <- report_parts(study_of(study$value), found$designs, found$effects, found$probes, unlist(plan$report$truth),
                        found$balances, plan_groups(plan, study$value), found$powers, found$variations, found$arms)
  parts
}

# What differs between the plan on the page and another one of the same data, in settings, balance and effects. lines:
# of the other.
answer_comparison <- function(plan, lines, kept) {
  other <- plan_from_lines(lines, plan$path)
  rows <- compare_facts(plan_facts(other, kept), plan_facts(plan, kept))
  shown <- data.frame(Part = rows$part, What = rows$what, Theirs = rows$old, Here = rows$new)
  shown[is.na(shown)] <- ""
  html <- if (nrow(rows) > 0L) as.character(html_block(table_block(shown, "What differs"))) else
    "<p>Nothing differs: the same settings, data, balance and effects.</p>"
  list(html = html, verdict = plural(nrow(rows), "difference"))
}

plan_facts <- function(plan, kept) {
  study <- made_study(plan, kept)
  if (inherits(study$value, "twin_error")) stop(study$value)
  kept$study <- study$value
  list(plan = plan[setdiff(names(plan), c("path", "lines"))],
       facts = run_facts(whole_parts(plan, study, kept), beside_plan(plan, plan_question(plan)$data)))
}
