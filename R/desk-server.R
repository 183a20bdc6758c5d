# What happens when something on the page is chosen.

desk_server <- function(desk) {
  function(input, output, session) {
    if (!is_welcome(session$request, desk, shiny::isolate(session$clientData$url_search))) return(session$close())
    seen <- desk$seen
    desk$tabs <- desk$tabs + 1L
    session$onSessionEnded(function() leave_desk(desk))
    shiny::observe({
      shiny::invalidateLater(200, session)
      shiny::isolate(turn_desk(desk))
    })
    show_frame(output, session, desk)
    show_answers(output, desk)
    hear_question(input, output, desk)
    hear_codes(input, desk)
    hear_graph(input, output, desk)
    hear_designs(input, output, desk)
    hear_effects(input, output, desk)
    hear_gains(input, output, desk)
    hear_bias(input, output, desk)
    hear_report(input, output, desk)
    shiny::observeEvent(input$undo, take_history(desk, undo(seen$history)))
    shiny::observeEvent(input$redo, take_history(desk, redo(seen$history)))
    shiny::observeEvent(input$stop, if (!is.null(seen$job)) stop_desk_job(desk))
    shiny::observeEvent(input$go_on, seen$stopped <- FALSE)
  }
}

show_frame <- function(output, session, desk) {
  tags <- htmltools::tags
  seen <- desk$seen
  output$rail <- shiny::renderUI(rail_view(seen$history$plan, seen$answers, seen$job))
  output$saved <- shiny::renderUI(tags$p(class = "soft", if (desk$saved)
    sprintf("Saved as %s after every change.", basename(desk$path)) else "Not saved: download the plan below."))
  output$status <- shiny::renderUI({
    if (!is.null(seen$job)) shiny::invalidateLater(500, session)
    words <- job_words(desk)
    if (seen$stopped) return(tags$div(class = "status", role = "status", if (length(seen$trouble) == 0L)
      htmltools::tagList("Stopped.", shiny::actionButton("go_on", "Go on"))))
    tags$div(class = "status", `aria-live` = "off", words)
  })
}

# Sections are drawn anew when the plan turns from one unit a row to units over time; answers as they come.
show_answers <- function(output, desk) {
  seen <- desk$seen
  kind <- shiny::reactive(names(plan_step_views(seen$history$plan)))
  output$notebook <- shiny::renderUI({
    kind()
    notebook_view(shiny::isolate(step_titles(seen$history$plan)))
  })
  steps <- unique(c(names(study_step_views()), names(panel_step_views()), names(other_step_views()), "comparison"))
  for (step in steps) local({
    own <- step
    output[[paste0("answer_", own)]] <- shiny::renderUI({
      view <- plan_step_views(seen$history$plan)[[own]]
      stands <- own == "comparison" || (!is.null(view) && view$able(seen$history$plan))
      if (stands) answer_view(seen$answers[[own]]$value, identical(seen$job$step, own))
    })
    output[[paste0("help_", own)]] <- shiny::renderUI(help_view(seen$answers$help$value$html[[own]]))
  })
}

gap_keys <- list(study = c("treatment", "treated", "reference", "outcome", "estimand", "weight", "cluster", "id",
                           "missing", "subset", "unknown", "dose", "time", "unit"),
                 panel = c("treatment", "treated", "first_treated", "outcome", "time", "unit", "group", "weight",
                           "cluster", "subset", "unknown", "reference", "held", "dose", "switching"))

hear_question <- function(input, output, desk) {
  seen <- desk$seen
  question <- shiny::reactive(seen$history$plan[c("study", "panel")])
  output$upload <- shiny::renderUI({
    trouble <- seen$trouble
    if (length(plan_question(seen$history$plan)$data) > 0L && length(trouble) == 0L) return()
    htmltools::tagList(if (length(trouble) > 0L) htmltools::tags$p(class = "warning", unname(trouble)),
                       if (!desk$saved) upload_view(),
                       if (length(trouble) > 0L) htmltools::tags$div(
                         class = "row", reading_fields(plan_question(seen$history$plan))
                       ))
  })
  output$sentence <- shiny::renderUI({
    plan <- question()
    if (!is.null(seen$columns) && is_named(plan)) sentence_with_gaps(plan, seen$columns)
  })
  shiny::observeEvent(input$file, {
    folder <- dirname(desk$path)
    kept <- file.path(folder, basename(input$file$name))
    stopifnot(file.copy(input$file$datapath, kept, overwrite = TRUE))
    seen$columns <- NULL
    seen$answers <- list()
    seen$trouble <- NULL
    seen$stopped <- FALSE
    change_desk(desk, list(study = list(data = basename(kept))))
  })
  shiny::observeEvent(input$gap, {
    if (isTRUE(input$gap$key %in% reading_keys())) {  # other columns, perhaps
      seen$columns <- NULL
      seen$trouble <- NULL
      seen$stopped <- FALSE
    }
    change_desk(desk, set_answer(seen$history$plan, input$gap$key, input$gap$value, seen$columns))
  })
  shiny::observeEvent(input$column, {
    plan <- seen$history$plan
    name <- seen$columns$name[input$column$column]
    if (!anyNA(name)) change_desk(desk, tick_column(plan, name, input$column$on, seen$columns))
  })
  shiny::observeEvent(input$outcome_tick, {
    plan <- seen$history$plan
    name <- seen$columns$name[input$outcome_tick$column]
    outcomes <- with_or_without(unlist(plan_question(plan)$outcome), name, input$outcome_tick$on)
    if (!anyNA(name)) change_desk(desk, set_question(plan, list(outcome = as_setting(outcomes))))
  })
}

# A column to be alike in, or no more; over time by whether it changes within units.
tick_column <- function(plan, name, on, columns) {
  key <- if (is_course_plan(plan) && name %in% columns$course$varies) "changing" else "covariates"
  chosen <- with_or_without(unlist(plan_question(plan)[[key]]), name, on)
  set_question(plan, stats::setNames(list(as.list(intersect(columns$name, chosen))), key))
}

hear_codes <- function(input, desk) {
  seen <- desk$seen
  shiny::observeEvent(input$code, {
    name <- seen$columns$name[input$code$column]
    labels <- if (rlang::is_string(input$code$labels)) input$code$labels else ""
    if (!anyNA(name)) change_desk(desk, set_codes(seen$history$plan, name, isTRUE(input$code$on), labels))
  })
}

# Does the plan name what its sentence is about?
is_named <- function(plan) {
  question <- plan_question(plan)
  any(lengths(question[c("treatment", "dose", "first_treated", "time")]) > 0L)
}

# A list of several, the value itself of one.
as_setting <- function(values) if (length(values) > 1L) as.list(values) else values

# What a gap shows without being asked is not written into the plan.
set_answer <- function(plan, key, value, columns) {
  part <- if (is_panel_plan(plan)) "panel" else "study"
  if (identical(key, "kind")) return(if (value == question_kind(plan)) plan else
    set_kind(plan, value, columns))
  if (!isTRUE(key %in% c(gap_keys[[part]], reading_keys())) || !rlang::is_string(value)) return(plan)
  if (key == "unknown") value <- Filter(nzchar, trimws(strsplit(value, "[,;]")[[1L]]))
  if (key == "sheet" && grepl("^[0-9]+$", value)) value <- as.numeric(value)
  before <- unlist(plan[[part]][[key]])
  if (is.null(before)) {
    shown <- switch(key, treated = utils::tail(columns$levels[[unlist(plan[[part]]$treatment)]], 1L), estimand = "ATT",
                    missing = missing_choices[[1L]], encoding = "UTF-8", decimal = "auto", sheet = 1, "")
    if (identical(value, shown)) return(plan)
  }
  if (key == "outcome") return(set_question(plan, list(outcome = as_setting(unique(c(value, before[-1L]))))))
  if (identical(value, as.character(before))) return(plan)
  changes <- stats::setNames(list(if (key == "unknown") as.list(value) else value), key)
  if (key == "treatment") changes <- another_treatment(changes, value, plan, columns)
  if (part == "panel") changes <- panel_changes(changes, key, value, plan, columns)
  set_question(plan, changes)
}

# What another treatment brings with it: which value counts as treated, or of several arms the reference.
another_treatment <- function(changes, value, plan, columns) {
  study <- !is_panel_plan(plan)
  several <- study && !is_other_plan(plan) && length(columns$levels[[value]]) > 2L
  changes["treated"] <- list(if (several) "" else if (nzchar(value)) treated_asked(columns, value))
  if (study) changes["reference"] <- list(if (several) columns$levels[[value]][1L] else "")
  changes
}

# What else an answer changes in a panel.
panel_changes <- function(changes, key, value, plan, columns) {
  if (key == "switching") changes[key] <- list(if (nzchar(value)) TRUE else "")
  if (key == "treatment") changes["reference"] <- list("")
  if (key == "reference") {  # any other value is a kind of treatment
    changes["treated"] <- list(if (!nzchar(value)) treated_asked(columns, unlist(plan$panel$treatment)))
  }
  if (identical(value, "")) return(changes)
  other <- c(treatment = "first_treated", first_treated = "treatment", unit = "group", group = "unit")[key]
  if (!is.na(other)) changes[[other]] <- ""  # one of each two tells it
  if (key == "first_treated") changes["treated"] <- list("")
  changes
}

hear_designs <- function(input, output, desk) {
  seen <- desk$seen
  designs <- shiny::reactive(seen$history$plan$designs)
  output$design_cards <- shiny::renderUI(plan_cards(designs(), "drop", function(name, number) {
    design_controls(c(kinds(), list(designs = designs())), name, number)
  }))
  shiny::observeEvent(input$redesign, {
    asked <- input$redesign
    name <- names(seen$history$plan$designs)[asked$design]
    if (isTRUE(nzchar(name))) change_desk(desk, change_design(seen$history$plan, name, asked$field, asked$value))
  })
  kinds <- shiny::reactive(seen$history$plan["study"])
  output$design_form <- shiny::renderUI(add_design_form(kinds()))
  output$design_fields <- shiny::renderUI(if (isTRUE(input$added_kind %in% names(page_designs(kinds()))))
    design_fields(kinds(), input$added_kind))
  cuts <- shiny::reactiveVal()  # sliders are not drawn anew while what they show is the same
  range <- shiny::reactiveVal(c(0, 1))
  shiny::observe(cuts(seen$answers$score$value$cuts))
  shiny::observe(range(cut_of(designs())))
  output$cut <- shiny::renderUI(cut_view(cuts(), range()))
  shiny::observeEvent(input$add_design, {
    kind <- input$added_kind
    known <- page_designs(seen$history$plan)
    if (!isTRUE(kind %in% names(known))) return()
    change_desk(desk, add_design(seen$history$plan, kind, form_values(input, "field_", known[[kind]]$fields)))
  })
  shiny::observeEvent(input$drop, {
    if (isTRUE(input$drop %in% names(seen$history$plan$designs))) {
      change_desk(desk, drop_design(seen$history$plan, input$drop))
    }
  })
  shiny::observeEvent(input$cut_at, {
    at <- suppressWarnings(as.numeric(c(input$cut_at$low, input$cut_at$high)))
    if (length(at) == 2L && !anyNA(at) && at[1L] >= 0 && at[2L] <= 1 && at[1L] < at[2L]) {
      change_desk(desk, cut_scores(seen$history$plan, at[1L], at[2L]))
    }
  })
}

form_values <- function(input, prefix, fields) {
  lapply(stats::setNames(nm = names(fields)), function(id) input[[paste0(prefix, id)]])
}

upload_view <- function() {
  tags <- htmltools::tags
  kinds <- "A file of units, one row each: .csv, .xlsx, .dta, .sav, .parquet; at most 200 MB"
  tags$div(class = "form", tags$label(`for` = "file", kinds),
           tags$input(id = "file", type = "file", class = "shiny-input-file"),
           tags$div(id = "file_progress", class = "progress", tags$div(class = "progress-bar")))
}

hear_effects <- function(input, output, desk) {
  seen <- desk$seen
  choices <- function() seen$answers$designs$value$choices
  output$seal <- shiny::renderUI(seal_view(seen$history$plan, seen$answers, seen$seal))
  output$estimator_boxes <- shiny::renderUI({
    plan <- seen$history$plan
    if (length(plan$effects) > 0L) if (is_panel_plan(plan) || is_other_plan(plan))
      plan_cards(plan$effects, "drop_path") else estimator_choice(plan, choices())
  })
  opened_panel <- shiny::reactive(if (length(seen$history$plan$effects) > 0L) seen$history$plan["panel"])
  output$path_form <- shiny::renderUI(if (!is.null(opened_panel()$panel)) add_path_form(opened_panel(), seen$columns))
  shiny::observeEvent(input$open, change_desk(desk, unseal_plan(seen$history$plan)))
  shiny::observeEvent(input$estimator, {
    asked <- input$estimator
    if (!isTRUE(asked$design %in% seq_along(choices()))) return()
    design <- names(choices())[asked$design]
    rows <- choices()[[asked$design]]
    if (!isTRUE(asked$estimator %in% which(is.na(rows$reason)))) return()
    change_desk(desk, set_effects(seen$history$plan, design, with_or_without(
      chosen_estimators(seen$history$plan, design), rows$estimator[asked$estimator], asked$on)))
  })
  shiny::observeEvent(input$add_path, {
    values <- form_values(input, "path_", path_fields(seen$history$plan, seen$columns))
    change_desk(desk, add_path(seen$history$plan, values, seen$columns))
  })
  shiny::observeEvent(input$drop_path, {
    if (isTRUE(input$drop_path %in% names(seen$history$plan$effects))) {
      change_desk(desk, drop_effects(seen$history$plan, input$drop_path))
    }
  })
}

# Once the outcome is open; of two arms.
hear_gains <- function(input, output, desk) {
  seen <- desk$seen
  output$gains <- shiny::renderUI({
    plan <- seen$history$plan
    two_arms <- !is_panel_plan(plan) && !is_other_plan(plan) && is.null(plan$study$reference)
    if (length(plan$effects) > 0L && two_arms) {
      htmltools::tagList(gains_choice(plan), plan_cards(other_gains(plan), "drop_gains"))
    }
  })
  shiny::observeEvent(input$gains_tick, {
    name <- names(seen$history$plan$designs)[input$gains_tick$design]
    if (!isTRUE(nzchar(name))) return()
    change_desk(desk, set_gains(seen$history$plan, with_or_without(asked_gains(seen$history$plan), name,
                                                                   input$gains_tick$on)))
  })
  shiny::observeEvent(input$drop_gains, {
    if (isTRUE(input$drop_gains %in% names(seen$history$plan$variation))) {
      change_desk(desk, drop_gains(seen$history$plan, input$drop_gains))
    }
  })
}

hear_bias <- function(input, output, desk) {
  seen <- desk$seen
  output$probed <- shiny::renderUI(if (length(seen$history$plan$effects) > 0L) {
    plan <- seen$history$plan
    htmltools::tagList(if (!is_other_plan(plan)) probe_choice(plan), plan_cards(other_probes(plan), "drop_probe"))
  })
  effects <- shiny::reactive(seen$history$plan[c("panel", "study", "effects")])
  output$probe_form <- shiny::renderUI(if (length(effects()$effects) > 0L && length(plain_probes(effects())) > 0L)
    add_probe_form(effects()))
  shiny::observeEvent(input$probe, {
    names <- names(seen$history$plan$effects)
    if (!isTRUE(input$probe$effect %in% seq_along(names))) return()
    change_desk(desk, set_probed(seen$history$plan, with_or_without(probed_effects(seen$history$plan),
                                                                    names[input$probe$effect], input$probe$on)))
  })
  shiny::observeEvent(input$add_probe, change_desk(desk, add_probe(seen$history$plan, input$probe_kind,
                                                                   input$probe_effect)))
  shiny::observeEvent(input$drop_probe, {
    if (isTRUE(input$drop_probe %in% names(seen$history$plan$probes))) {
      change_desk(desk, drop_probe(seen$history$plan, input$drop_probe))
    }
  })
}

with_or_without <- function(chosen, name, on) if (isTRUE(on)) union(chosen, name) else setdiff(chosen, name)

hear_report <- function(input, output, desk) {
  tags <- htmltools::tags
  seen <- desk$seen
  output$paper <- shiny::renderUI({
    plan <- seen$history$plan
    made <- seen$answers$report$value
    tags$div(
      report_fields(plan),
      if (length(seen$answers$question$value) > 0L) {
        shiny::actionButton("make_report", "Make report, tables and figures")
      },
      if (length(made$failed) > 0L) tags$p(class = "warning", unname(made$failed)),
      if (!is.null(made$out)) {
        tags$p(shiny::downloadLink("report_file", "The report"), " \u00b7 ",
               shiny::downloadLink("results_file", "All results: tables, figures, weights, words"),
               if (!identical(seen$answers$report$key, step_key(plan, "report"))) {
                 tags$strong("These are of the plan before its last change.")
               })
      },
      tags$h3("The same as a plan"), tags$p(
        shiny::downloadLink("plan_file", "Download", .noWS = "after"), "; run it with", tags$code("twin run plan.yml")
      ),
      tags$pre(class = "text", tabindex = 0, paste(plan_text(plan), collapse = "\n")),
      if (length(plan$study$treatment) > 0L || is_dose_plan(plan) || is_panel_plan(plan)) htmltools::tagList(
        tags$h3("The same in R"), tags$p(shiny::downloadLink("script_file", "Download")),
        tags$pre(class = "text", tabindex = 0, paste(script_or_why(plan), collapse = "\n"))
      )
    )
  })
  shiny::observeEvent(input$make_report, {
    desk$report <- tempfile("desk-results-")
    make_folder(desk$report)
    seen$stopped <- FALSE
  })
  shiny::observeEvent(input$titled, {
    if (isTRUE(input$titled$key %in% c("title", "headline")) && rlang::is_string(input$titled$value)) {
      change_desk(desk, set_report(seen$history$plan, stats::setNames(list(trimws(input$titled$value)),
                                                                      input$titled$key)))
    }
  })
  shiny::observeEvent(input$other_plan, {
    desk$other <- readLines(input$other_plan$datapath, warn = FALSE, encoding = "UTF-8")
    seen$stopped <- FALSE
  })
  output$plan_file <- shiny::downloadHandler("plan.yml", function(file) write_text(plan_text(desk_plan(desk)), file))
  output$script_file <- shiny::downloadHandler("analysis.R", function(file) {
    write_text(script_or_why(desk_plan(desk)), file)
  })
  output$report_file <- shiny::downloadHandler("report.html", function(file) {
    file.copy(file.path(seen$answers$report$value$out, "report.html"), file, overwrite = TRUE)
  })
  output$results_file <- shiny::downloadHandler("results.tar.gz", function(file) {
    pack_folder(seen$answers$report$value$out, file)
  })
}

# The report's heading, and the effect that its first sentence is about.
report_fields <- function(plan) {
  tags <- htmltools::tags
  one_number <- Filter(function(settings) is.null(settings$over) || identical(settings$over, "all"), plan$effects)
  tags$div(
    class = "row",
    tags$div(class = "field", tags$label(`for` = "title", "Title of the report"),
             tags$input(id = "title", type = "text", value = plan$report$title,
                        onchange = choice_event("titled", "title"))),
    if (length(one_number) > 0L) tags$div(
      class = "field", tags$label(`for` = "headline", "Effect of its first sentence"),
             told_choice("headline", plain_choices(names(one_number), "the first adjusted one"),
                         if (is.null(plan$report$headline)) "" else plan$report$headline,
                         choice_event("titled", "headline")))
  )
}

# Formulas that a plan's reader would refuse are told of in place of a script.
script_or_why <- function(plan) tryCatch(plan_script(plan), twin_error = function(e) paste("#", failed_sentence(e)))

pack_folder <- function(folder, file) {
  before <- setwd(dirname(folder))  # nolint: else the archive holds the whole path
  on.exit(setwd(before))  # nolint
  utils::tar(file, basename(folder), compression = "gzip", tar = "internal")
}

# A loopback address, the token, and no page of another origin. query: of the page's address; a web socket has it from
# the page.
is_welcome <- function(request, desk, query = request$QUERY_STRING) {
  own <- paste0(c("127.0.0.1:", "localhost:"), desk$port)
  host <- request$HTTP_HOST
  origin <- request$HTTP_ORIGIN
  token <- shiny::parseQueryString(if (is.null(query)) "" else query)$token
  isTRUE(host %in% own) && (is.null(origin) || origin %in% paste0("http://", own)) &&
    identical(token, desk$token)
}

# The desk stops some time after the last tab is closed.
leave_desk <- function(desk) {
  desk$tabs <- desk$tabs - 1L
  later::later(function() if (desk$tabs <= 0L) shiny::stopApp(), desk$idle * 60)
}
