# The page: a notebook from top to bottom. Its words and controls; what they show comes from the worker.

desk_page <- function() {
  tags <- htmltools::tags
  style <- unlist(lapply(c("report/style.css", "desk/desk.css"), function(file) {
    readLines(system.file(file, package = "carefultwin"), encoding = "UTF-8")
  }))
  htmltools::tagList(
    tags$head(tags$title("Careful Twin: desk"),
              tags$meta(name = "viewport", content = "width=device-width, initial-scale=1"),
              tags$style(htmltools::HTML(paste(style, collapse = "\n"))),
              tags$script(htmltools::HTML("document.documentElement.lang = 'en';"))),
    tags$a(class = "skip", href = "#main", "Skip to the question"),
    tags$div(
      class = "page",
      tags$nav(`aria-label` = "Steps", tags$p(class = "brand", "Careful Twin"), shiny::uiOutput("rail"),
               tags$div(class = "history", shiny::actionButton("undo", "Undo"), shiny::actionButton("redo", "Redo"),
                        shiny::actionButton("stop", "Stop")),
               shiny::uiOutput("saved")),
      tags$div(
        class = "sheet",
        shiny::uiOutput("status"),
        tags$main(
          id = "main", tags$h1("What did it do?"),
          desk_section("question", shiny::uiOutput("upload"), shiny::uiOutput("sentence"), answer_place("question")),
          desk_section("score", answer_place("score")),
          desk_section("designs", shiny::uiOutput("design_cards"), add_design_form(), answer_place("designs")),
          desk_section("power", answer_place("power")),
          desk_section("effects", shiny::uiOutput("seal"), shiny::uiOutput("estimator_boxes"), answer_place("effects")),
          desk_section("bias", shiny::uiOutput("probed"), answer_place("bias")),
          desk_section("report", shiny::uiOutput("paper"))
        ),
        tags$footer(tags$p("This page runs on this machine and speaks to nothing else. It stops a while after the",
                           "browser is closed."))
      )
    )
  )
}

desk_section <- function(step, ...) {
  tags <- htmltools::tags
  tags$section(id = step, `aria-labelledby` = paste0(step, "-title"),
               tags$h2(id = paste0(step, "-title"), desk_titles[[step]]), ...)
}

answer_place <- function(step) shiny::uiOutput(paste0("answer_", step), class = "answer-of-step")

# A gap of the sentence: a choice within the line.
gap_choice <- function(id, label, choices, selected) {
  tags <- htmltools::tags
  tags$span(class = "gap", tags$label(class = "unseen", `for` = id, label),
            tags$select(id = id, lapply(seq_along(choices), function(k) {
              tags$option(value = choices[[k]], selected = if (identical(choices[[k]], selected)) NA,
                          names(choices)[k])
            })))
}

plain_choices <- function(values, none = NULL) {
  values <- as.character(values)
  c(if (!is.null(none)) stats::setNames("", none), stats::setNames(values, values))
}

# The question as a sentence with gaps. columns: answer_columns().
sentence_with_gaps <- function(plan, columns) {
  tags <- htmltools::tags
  study <- plan$study
  treatment <- unlist(study$treatment)
  levels <- columns$levels[[treatment]]
  treated <- if (is.null(study$treated)) utils::tail(levels, 1L) else as.character(unlist(study$treated))
  two_valued <- columns$name[vapply(columns$levels, length, 0L) == 2L]
  numbers <- setdiff(columns$name, treatment)
  whom <- stats::setNames(names(estimands), vapply(names(estimands), function(name) {
    sprintf("%s (%s)", estimands[[name]]$words, name)
  }, ""))
  roles <- unlist(study[c("outcome", "id", "weight", "cluster", "stratum")])
  chosen <- unlist(study$covariates)
  by_plan <- !is.null(study$graph) || isTRUE(startsWith(chosen[1L], "~"))  # the page leaves these as they are
  htmltools::tagList(
    tags$p(
      class = "sentence", "What did", gap_choice("treatment", "Treatment", plain_choices(two_valued), treatment),
      "being", gap_choice("treated", "Treated value", plain_choices(levels), treated), "do to",
      gap_choice("outcome", "Outcome", plain_choices(numbers), unlist(study$outcome)[1L]), "for",
      gap_choice("estimand", "For whom", whom, if (is.null(study$estimand)) "ATT" else study$estimand),
      "comparing units alike in", tags$strong(.noWS = "after", if (!by_plan) plural(length(chosen), "column") else
        if (is.null(chosen)) "what the plan's graph asks for" else chosen), "?"
    ),
    if (!by_plan) tags$details(
      open = if (length(chosen) == 0L) NA, tags$summary("Columns to be alike in"),
      tags$fieldset(tags$legend("Only what came before the treatment"), id = "covariates",
                    class = "shiny-input-checkboxgroup shiny-input-container columns",
                    lapply(seq_along(columns$name), function(k) {
                      column_line(columns, k, columns$name[k] %in% chosen, c(treatment, roles))
                    }))
    ),
    tags$details(
      tags$summary("Weights, clusters, missing values"),
      tags$div(class = "row",
               labelled_choice("weight", "Sampling weight", plain_choices(columns$name, "none"), study$weight),
               labelled_choice("cluster", "Cluster", plain_choices(columns$name, "none"), study$cluster),
               labelled_choice("id", "Name of units", plain_choices(columns$name, "none"), study$id),
               labelled_choice("missing", "Missing covariates", missing_choices, study$missing))
    ),
    if (length(columns$roles$unsure) > 0L) {
      tags$details(tags$summary("What to check"), tags$ul(lapply(columns$roles$unsure, tags$li)))
    }
  )
}

missing_choices <- c("keep, with an indicator" = "flag", "leave the unit out" = "drop", "stop and say so" = "stop")

labelled_choice <- function(id, label, choices, selected) {
  tags <- htmltools::tags
  if (is.null(selected)) selected <- choices[[1L]]
  tags$div(class = "field", tags$label(`for` = id, label), tags$select(id = id, lapply(seq_along(choices), function(k) {
    tags$option(value = choices[[k]], selected = if (identical(choices[[k]], unlist(selected))) NA, names(choices)[k])
  })))
}

# A column with its kind, what is missing, its shape, and what speaks against it.
column_line <- function(columns, k, chosen, taken) {
  tags <- htmltools::tags
  name <- columns$name[k]
  id <- paste0("column-", k)
  against <- if (name %in% taken) "has another role" else switch(columns$kind[k], identifier = "names the units",
                                                                  constant = "the same for all", NULL)
  if (is.null(against) && name %in% c(columns$roles$outcome)) against <- "looks like the outcome"
  tags$div(
    class = "column",
    tags$input(type = "checkbox", id = id, name = "covariates", value = name, checked = if (chosen) NA),
    tags$label(`for` = id, tags$span(name)), tags$span(class = "soft", columns$kind[k]),
    tags$span(class = "soft", if (columns$missing[k] > 0) sprintf("%s missing", count_text(columns$missing[k]))),
    tiny_histogram(columns$counts[[k]]), tags$span(class = "against", against)
  )
}

tiny_histogram <- function(counts) {
  tags <- htmltools::tags
  height <- 14 * counts / max(1, counts)
  bars <- Map(function(h, at) tags$rect(x = 6 * at, y = round(14 - h, 1), width = 5, height = round(h, 1)), height,
              seq_along(counts) - 1)
  tags$svg(class = "shape", width = 60, height = 14, `aria-hidden` = "true", unname(bars))
}

# A design of the plan, in the plan's own words.
design_card <- function(plan, name) {
  tags <- htmltools::tags
  steps <- strsplit(sub("\n$", "", yaml::as.yaml(plan$designs[[name]], precision = 15L)), "\n")[[1L]]
  tags$li(class = "card", tags$strong(name), tags$pre(paste(steps, collapse = "\n")),
          tags$button(type = "button", class = "btn", onclick = page_event("drop", name),
                      "Remove", tags$span(class = "unseen", name)))
}

# A click that tells the server a value.
page_event <- function(id, value) {
  sprintf("Shiny.setInputValue(%s, %s, {priority: 'event'})", json_text(id), json_text(value))
}

# A tick that tells the server which box, by numbers, and whether it is on.
tick_event <- function(id, numbers) {
  sprintf("Shiny.setInputValue('%s', {%s, on: this.checked}, {priority: 'event'})", id, numbers)
}

json_text <- function(text) {
  text <- gsub("([\\\\\"])", "\\\\\\1", text)
  text <- gsub("<", "\\u003c", text, fixed = TRUE)
  sprintf("\"%s\"", gsub("[[:cntrl:]]", " ", text))
}

add_design_form <- function() {
  tags <- htmltools::tags
  kinds <- stats::setNames(names(desk_designs), vapply(desk_designs, `[[`, "", "words"))
  tags$details(
    class = "form", tags$summary("Add a design"), labelled_choice("added_kind", "Kind", kinds, "pairs"),
    shiny::uiOutput("design_fields"), shiny::actionButton("add_design", "Add this design")
  )
}

design_fields <- function(kind) {
  fields <- desk_designs[[kind]]$fields
  if (length(fields) == 0L) return(htmltools::tags$p(class = "soft", "Nothing to choose: it works on the covariates."))
  htmltools::tags$div(class = "row", unname(Map(function(field, id) {
    id <- paste0("field_", id)
    if (!identical(field$kind, "number")) return(labelled_choice(id, field$words, field$kind, field$value))
    htmltools::tags$div(class = "field", htmltools::tags$label(`for` = id, field$words),
                        htmltools::tags$input(id = id, type = "number", value = field$value, min = field$min,
                                              max = field$max, step = field$step))
  }, fields, names(fields))))
}

# An answer of the worker: what failed and what to note first, then what a report would show.
answer_view <- function(value, busy) {
  tags <- htmltools::tags
  if (is.null(value)) return(if (busy) tags$p(class = "soft", "Working on it ..."))
  failed <- Map(function(text, name) tags$p(class = "warning", tags$strong(paste0(name, ": ")), text), value$failed,
                names(value$failed))
  notes <- lapply(value$notes, function(text) tags$p(class = "note", text))
  tags$div(`aria-busy` = if (busy) "true" else "false", class = if (busy) "stale", unname(failed), notes,
           htmltools::HTML(value$html))
}

seal_view <- function(plan, answers) {
  tags <- htmltools::tags
  sentence <- Find(Negate(is.null), lapply(answers[c("bias", "effects", "designs", "power", "score", "question")],
                                           function(answer) answer$value$seal))
  if (length(plan$effects) > 0L) {
    return(tags$p(class = "seal open", sentence, "A design that is changed from here on is counted."))
  }
  ready <- length(answers$designs$value$choices) > 0L
  opened <- isTRUE(grepl("first opened", sentence, fixed = TRUE))  # and the effects taken out of the plan since
  tags$div(
    class = "seal", if (opened) tags$p("The plan has no effects now, but the outcome has been seen.") else
      tags$p("The outcome is closed. Choose designs by balance and overlap first: once it is open, every design",
             "that is tried is counted in the logbook, and the report says so."),
    if (!is.null(sentence)) tags$p(class = "soft", sentence),
    if (ready) shiny::actionButton("open", "Open the outcome") else
      tags$p(class = "soft", "It can be opened when a design stands.")
  )
}

# Which estimators of which design: those that do not fit stand greyed, with the reason.
estimator_choice <- function(plan, choices) {
  tags <- htmltools::tags
  lapply(seq_along(choices), function(d) {
    name <- names(choices)[d]
    chosen <- chosen_estimators(plan, name)
    rows <- choices[[d]]
    tags$fieldset(class = "row", tags$legend(name), lapply(seq_len(nrow(rows)), function(k) {
      id <- sprintf("estimator-%d-%d", d, k)
      box <- tags$input(type = "checkbox", id = id, checked = if (rows$estimator[k] %in% chosen) NA,
                        disabled = if (!is.na(rows$reason[k])) NA,
                        onchange = tick_event("estimator", sprintf("design: %d, estimator: %d", d, k)))
      tags$div(class = if (is.na(rows$reason[k])) "tick" else "tick greyed", box,
               tags$label(`for` = id, rows$words[k],
                          if (!is.na(rows$reason[k])) tags$span(class = "soft", rows$reason[k])))
    }))
  })
}

probe_choice <- function(plan) {
  tags <- htmltools::tags
  probed <- probed_effects(plan)
  tags$fieldset(class = "row", tags$legend("How much hidden bias would it take? By every way that fits, for"),
                lapply(seq_along(plan$effects), function(k) {
                  name <- names(plan$effects)[k]
                  id <- paste0("probed-", k)
                  tags$div(class = "tick", tags$input(
                    type = "checkbox", id = id, checked = if (name %in% probed) NA,
                    onchange = tick_event("probe", sprintf("effect: %d", k))
                  ), tags$label(`for` = id, name))
                }))
}

rail_view <- function(plan, answers, job) {
  tags <- htmltools::tags
  verdict <- function(step) {
    if (identical(job$step, step)) return("working ...")
    value <- answers[[step]]$value
    if (length(value$failed) > 0L) return(paste(value$verdict, "\u2013 look"))
    if (!is.null(value)) return(value$verdict)
    if (step %in% c("effects", "bias") && length(plan$effects) == 0L) "sealed" else "open"
  }
  steps <- setdiff(names(desk_titles), "columns")
  tags$ol(lapply(steps, function(step) {
    tags$li(tags$a(href = paste0("#", step), desk_titles[[step]], tags$span(class = "verdict", verdict(step))))
  }))
}
