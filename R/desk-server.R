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
    hear_question(input, desk)
    hear_designs(input, output, desk)
    hear_effects(input, output, desk)
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

show_answers <- function(output, desk) {
  seen <- desk$seen
  for (step in names(desk_parts)) local({
    own <- step
    output[[paste0("answer_", own)]] <- shiny::renderUI({
      answer_view(seen$answers[[own]]$value, identical(seen$job$step, own))
    })
  })
}

hear_question <- function(input, desk) {
  seen <- desk$seen
  shiny::observeEvent(input$file, {
    folder <- dirname(desk$path)
    kept <- file.path(folder, basename(input$file$name))
    stopifnot(file.copy(input$file$datapath, kept, overwrite = TRUE))
    seen$columns <- NULL
    seen$answers <- list()
    seen$trouble <- NULL
    seen$stopped <- FALSE
    change_desk(desk, list(study = list(data = basename(kept))), rebuild = TRUE)
  })
  shiny::observeEvent(input$treatment, {
    if (identical(input$treatment, unlist(seen$history$plan$study$treatment))) return()
    if (!isTRUE(input$treatment %in% seen$columns$name)) return()
    treated <- treated_asked(seen$columns, input$treatment)
    change_desk(desk, set_question(seen$history$plan, list(treatment = input$treatment, treated = treated)),
                rebuild = TRUE)
  }, ignoreInit = TRUE)
  for (key in c("treated", "outcome", "estimand", "weight", "cluster", "id", "missing")) local({
    own <- key
    shiny::observeEvent(input[[own]], {
      change_desk(desk, set_answer(seen$history$plan, own, input[[own]], seen$columns))
    }, ignoreInit = TRUE)
  })
  shiny::observeEvent(input$covariates, {
    chosen <- as.list(intersect(seen$columns$name, input$covariates))
    if (setequal(unlist(chosen), unlist(seen$history$plan$study$covariates))) return()
    change_desk(desk, set_question(seen$history$plan, list(covariates = chosen)))
  }, ignoreInit = TRUE, ignoreNULL = FALSE)
}

# What a gap shows without being asked is not written into the plan.
set_answer <- function(plan, key, value, columns) {
  before <- unlist(plan$study[[key]])
  if (is.null(before)) {
    shown <- switch(key, treated = utils::tail(columns$levels[[unlist(plan$study$treatment)]], 1L), estimand = "ATT",
                    missing = missing_choices[[1L]], "")
    if (identical(value, shown)) return(plan)
  }
  if (key == "outcome" && identical(value, before[1L])) return(plan)
  if (identical(value, as.character(before))) return(plan)
  set_question(plan, stats::setNames(list(value), key))
}

hear_designs <- function(input, output, desk) {
  seen <- desk$seen
  output$upload <- shiny::renderUI({
    trouble <- seen$trouble
    if (length(seen$history$plan$study$data) > 0L && length(trouble) == 0L) return()
    htmltools::tagList(if (length(trouble) > 0L) htmltools::tags$p(class = "warning", unname(trouble)),
                       if (!desk$saved) upload_view())
  })
  output$sentence <- shiny::renderUI({
    seen$rebuilt
    if (!is.null(seen$columns)) shiny::isolate(sentence_with_gaps(seen$history$plan, seen$columns))
  })
  output$design_cards <- shiny::renderUI({
    plan <- seen$history$plan
    htmltools::tags$ul(class = "cards", lapply(names(plan$designs), function(name) design_card(plan, name)))
  })
  output$design_fields <- shiny::renderUI(if (isTRUE(input$added_kind %in% names(desk_designs)))
    design_fields(input$added_kind))
  shiny::observeEvent(input$add_design, {
    kind <- input$added_kind
    if (!isTRUE(kind %in% names(desk_designs))) return()
    ids <- names(desk_designs[[kind]]$fields)
    values <- lapply(stats::setNames(nm = ids), function(id) input[[paste0("field_", id)]])
    change_desk(desk, add_design(seen$history$plan, kind, values))
  })
  shiny::observeEvent(input$drop, {
    if (isTRUE(input$drop %in% names(seen$history$plan$designs))) {
      change_desk(desk, drop_design(seen$history$plan, input$drop))
    }
  })
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
  output$seal <- shiny::renderUI(seal_view(seen$history$plan, seen$answers))
  output$estimator_boxes <- shiny::renderUI(if (length(seen$history$plan$effects) > 0L)
    estimator_choice(seen$history$plan, choices()))
  output$probed <- shiny::renderUI(if (length(seen$history$plan$effects) > 0L) probe_choice(seen$history$plan))
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
  shiny::observeEvent(input$probe, {
    names <- names(seen$history$plan$effects)
    if (!isTRUE(input$probe$effect %in% seq_along(names))) return()
    change_desk(desk, set_probed(seen$history$plan, with_or_without(probed_effects(seen$history$plan),
                                                                    names[input$probe$effect], input$probe$on)))
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
      tags$h3("The same as a plan"), tags$p(shiny::downloadLink("plan_file", "Download"), "; run it with",
                                            tags$code("twin run plan.yml")),
      tags$pre(class = "text", tabindex = 0, paste(plan_text(plan), collapse = "\n")),
      if (length(plan$study$treatment) > 0L) htmltools::tagList(
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
