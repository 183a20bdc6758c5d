# A plan made step by step, for who looks at it as it grows (the desk). What was made is kept by what it was made of, so
# that a change makes again only what hangs on it.

# By step, functions of the parts: section, what a report would show; verdict, a few words.
plan_step_views <- function() {
  list(
    question = list(section = function(parts) question_section(parts), verdict = function(parts) {
      sizes <- study_sizes(parts$study)
      sprintf("%s treated, %s control", count_text(sizes[["treated"]]), count_text(sizes[["control"]]))
    }),
    score = list(section = function(parts) score_section(parts),
                 verdict = function(parts) if (is.null(parts$scored)) "no score" else "drawn"),
    designs = list(section = function(parts) balance_section(parts), verdict = function(parts) {
      failed <- unbalanced(parts$balances)
      sprintf("%d of %s balanced", length(parts$balances) - length(failed), plural(length(parts$balances), "design"))
    }),
    power = list(section = function(parts) power_section(parts),
                 verdict = function(parts) plural(length(parts$powers), "design")),
    effects = list(section = function(parts) effects_section(parts),
                   verdict = function(parts) plural(length(parts$effects), "estimate")),
    bias = list(section = function(parts) bias_section(parts), verdict = function(parts) {
      if (length(parts$probes) == 0L) "none chosen" else plural(length(parts$probes), "probe")
    })
  )
}

# list(html, verdict, notes, failed: named sentences on what could not be made, choices: estimators by design, log).
# kept: an environment; kept$log, entries of earlier sessions.
answer_step <- function(plan, step, kept) {
  study <- made_study(plan, kept)
  if (inherits(study$value, "twin_error")) {
    return(list(html = "", verdict = "not yet", notes = study$notes, failed = c(study = failed_sentence(study$value)),
                choices = list(), log = kept$log))
  }
  kept$study <- study$value
  found <- step_parts(plan, step, study, kept)
  view <- plan_step_views()[[step]]
  section <- view$section(found$parts)
  html <- as.character(htmltools::tagList(lapply(section$blocks, html_block)))
  html <- sub("sealed until measure_effect() opens it", "sealed until you open it below", html, fixed = TRUE)
  drop_figures(found$parts$figures)
  log <- as.data.frame(logbook(study$value))
  kept$log <- log
  list(html = html,
       verdict = view$verdict(found$parts), notes = unique(found$notes), failed = found$failed,
       choices = if (step == "designs") lapply(found$parts$designs, estimator_choices),
       seal = seal_sentence(summary(logbook(study$value))), log = log)
}

# list(parts: as report_parts(), as far as the step needs them, notes, failed).
step_parts <- function(plan, step, study, kept) {
  parts <- list(study = study$value, figures = new_figures())
  found <- list(notes = if (step == "question") study$notes, failed = character())
  add <- function(made) {
    good <- Filter(function(one) !inherits(one$value, "twin_error"), made)
    bad <- made[setdiff(names(made), names(good))]
    found$notes <<- c(found$notes, unlist(lapply(good, `[[`, "notes"), use.names = FALSE))
    found$failed <<- c(found$failed, vapply(bad, function(one) failed_sentence(one$value), ""))
    lapply(good, `[[`, "value")
  }
  if (step == "question") {
    parts$groups <- plan_groups(plan, study$value)
    return(c(list(parts = parts), found))
  }
  designs <- add(made_designs(plan, kept))
  if (step != "designs") found <- list(notes = NULL, failed = character())
  parts$designs <- two_arm_designs(designs)
  if (step == "score") {
    parts$scored <- Find(function(design) !is.null(design$score), parts$designs)
  } else {
    parts$balances <- add(made_each(kept, "balance", parts$designs, function(design) {
      plan_balances(plan, list(one = design))$one
    }, plan$report))
  }
  if (step %in% c("power", "report")) parts$powers <- add(made_powers(plan, designs, kept))
  if (step %in% c("effects", "bias", "report")) {
    effects <- add(made_effects(plan, designs, kept))
    if (step == "bias") found <- list(notes = NULL, failed = character())
    parts <- c(parts, list(effects = effects, comparisons = effect_comparisons(effects, unlist(plan$report$truth)),
                           outcomes = effect_outcomes(effects)))
  }
  if (step %in% c("bias", "report")) parts$probes <- add(made_probes(plan, parts$effects, kept))
  c(list(parts = parts), found)
}

made_study <- function(plan, kept) {
  file <- plan$study$data
  stamp <- if (rlang::is_string(file)) file.info(beside_plan(plan, file))[c("size", "mtime")]
  made_once(kept, list("study", plan$study, stamp), function() {
    study <- plan_study(plan)
    resume_logbook(study_of(study), kept$log)
    study
  })
}

made_designs <- function(plan, kept) {
  lapply(stats::setNames(nm = names(plan$designs)), function(name) {
    made_once(kept, list("design", kept$study$hash, name, plan$designs[[name]]), function() {
      alone <- plan
      alone$designs <- plan$designs[name]
      plan_designs(alone, kept$study)[[1L]]
    })
  })
}

# What is made of each design.
made_each <- function(kept, what, designs, make, settings = NULL) {
  lapply(designs, function(design) made_once(kept, list(what, design$hash, settings), function() make(design)))
}

made_powers <- function(plan, designs, kept) {
  lapply(stats::setNames(nm = names(plan$power)), function(name) {
    settings <- plan$power[[name]]
    key <- list("power", kept$study$hash, named_part(designs, settings$design)$hash, settings)
    made_once(kept, key, function() {
      alone <- plan
      alone$power <- plan$power[name]
      check_made(settings$design, designs)
      plan_powers(alone, kept$study, designs)[[1L]]
    })
  })
}

check_made <- function(design, designs) {
  if (is.null(design) || !is.null(designs[[design]])) return(invisible(design))
  abort_input("The design {.val {design}} could not be made.", call = NULL)
}

made_effects <- function(plan, designs, kept) {
  lapply(stats::setNames(nm = names(plan$effects)), function(name) {
    settings <- plan$effects[[name]]
    key <- list("effect", kept$study$hash, named_part(designs, settings$design)$hash, name, settings)
    made_once(kept, key, function() {
      alone <- plan
      alone$effects <- plan$effects[name]
      check_made(settings$design, designs)
      plan_effects(alone, kept$study, designs)[[1L]]
    })
  })
}

made_probes <- function(plan, effects, kept) {
  lapply(stats::setNames(nm = names(plan$probes)), function(name) {
    settings <- plan$probes[[name]]
    about <- named_part(effects, settings$effect)
    asked <- named_part(plan$effects, settings$effect)
    key <- list("probe", kept$study$hash, named_part(plan$designs, asked$design), asked, name, settings)
    made_once(kept, key, function() {
      alone <- plan
      alone$probes <- plan$probes[name]
      if (!is.null(settings$effect) && is.null(about)) {
        abort_input("The effect {.val {settings$effect}} could not be measured.", call = NULL)
      }
      plan_probe_results(alone, effects)[[1L]]
    })
  })
}

# NULL where no name is given, or none of that name is there.
named_part <- function(parts, name) if (!is.null(name)) parts[[unlist(name)]]

most_kept <- 200L

# list(value, or the error it met; notes: what was warned of), made once for its key; the oldest of many go.
made_once <- function(kept, key, make) {
  id <- rlang::hash(key)
  if (is.null(kept$made[[id]])) {
    notes <- character()
    value <- tryCatch(withCallingHandlers(make(), warning = function(w) {
      notes <<- c(notes, paste(message_lines(w, in_plan = TRUE), collapse = " "))
      rlang::cnd_muffle(w)
    }), twin_error = function(e) e)
    kept$made[[id]] <- list(value = value, notes = notes)
    kept$made <- utils::tail(kept$made, most_kept)
  }
  kept$made[[id]]
}

failed_sentence <- function(error) paste(trimws(message_lines(error, in_plan = TRUE)), collapse = " ")

# What a page needs to know of the columns: list(name, kind, missing, levels: texts, for those of few values, counts: at
# most ten, for a picture, roles: guess_roles(), NULL where there is no guess).
answer_columns <- function(path, reading = list()) {
  data <- do.call(read_units, c(list(path), reading))
  kinds <- vapply(data, column_kind, "")
  levels <- lapply(data, function(x) {
    known <- as.character(sort(unique(x[!is.na(x)])))
    if (length(known) <= 20L) known
  })
  counts <- lapply(data, function(x) {
    if (is.numeric(x) && any(is.finite(x))) return(as.vector(table(cut(x[is.finite(x)], 10L))))
    utils::head(sort(as.vector(table(x)), decreasing = TRUE), 10L)
  })
  list(name = names(data), kind = unname(kinds),
       missing = unname(vapply(data, function(x) sum(is.na(x)), 0L)), levels = levels, counts = counts,
       roles = tryCatch(guess_roles(as.data.frame(data)), twin_error = function(e) NULL))
}

# All results of a plan in a folder, as `twin run` leaves them, with the plan and the same in R.
answer_report <- function(plan, out, kept) {
  study <- made_study(plan, kept)
  if (inherits(study$value, "twin_error")) stop(study$value)
  kept$study <- study$value
  found <- step_parts(plan, "report", study, kept)$parts
  drop_figures(found$figures)
  parts <- report_parts(study_of(study$value), found$designs, found$effects, found$probes, unlist(plan$report$truth),
                        found$balances, plan_groups(plan, study$value))
  parts$powers <- found$powers
  plan$path <- file.path(out, "plan.yml")
  make_folder(file.path(out, "results"))
  write_text(plan_text(plan), plan$path)
  write_results(file.path(out, "results"), parts, plan)
  write_text(plan_script(plan), file.path(out, "results", "analysis.R"))
  list(out = file.path(out, "results"), verdict = "made")
}
