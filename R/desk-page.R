# The page: a notebook from top to bottom. Its words and controls; what they show comes from the worker.

desk_page <- function() {
  tags <- htmltools::tags
  style <- desk_file(c("report/style.css", "desk/desk.css"))
  htmltools::tagList(
    tags$head(tags$title("Careful Twin: desk"),
              tags$meta(name = "viewport", content = "width=device-width, initial-scale=1"),
              tags$style(htmltools::HTML(style)), tags$script(htmltools::HTML(desk_file("desk/desk.js")))),
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
        tags$main(id = "main", tags$h1("What did it do?"), shiny::uiOutput("notebook")),
        tags$footer(tags$p("This page runs on this machine and speaks to nothing else. It stops a while after the",
                           "browser is closed."))
      )
    )
  )
}

desk_file <- function(names) {
  paste(unlist(lapply(names, function(file) {
    readLines(system.file(file, package = "carefultwin"), encoding = "UTF-8")
  })), collapse = "\n")
}

# The sections of a plan, each with its controls and the place of its answer. titles: step_titles().
notebook_view <- function(titles) {
  before <- list(question = list(shiny::uiOutput("upload"), shiny::uiOutput("sentence")),
                 assumptions = list(shiny::uiOutput("graph"), shiny::uiOutput("graph_form"),
                                    shiny::uiOutput("graph_sets")),
                 designs = list(shiny::uiOutput("design_cards"), shiny::uiOutput("design_form")),
                 effects = list(shiny::uiOutput("seal"), shiny::uiOutput("estimator_boxes"),
                                shiny::uiOutput("path_form")),
                 variation = list(shiny::uiOutput("gains")),
                 bias = list(shiny::uiOutput("probed"), shiny::uiOutput("probe_form")))
  after <- list(score = list(shiny::uiOutput("cut")))
  steps <- setdiff(names(titles), desk_jobs)
  htmltools::tagList(lapply(steps, function(step) {
    desk_section(step, titles[[step]], before[[step]], answer_place(step), after[[step]],
                 shiny::uiOutput(paste0("help_", step)))
  }), desk_section("report", titles[["report"]], shiny::uiOutput("paper"), comparison_form(),
                   answer_place("comparison"), beyond_view()))
}

desk_section <- function(step, title, ...) {
  tags <- htmltools::tags
  tags$section(id = step, `aria-labelledby` = paste0(step, "-title"), tags$h2(id = paste0(step, "-title"), title), ...)
}

answer_place <- function(step) shiny::uiOutput(paste0("answer_", step), class = "answer-of-step")

# What the words and numbers of a step mean, one click away.
help_view <- function(html) {
  if (length(html) == 0L || !nzchar(html)) return(NULL)
  htmltools::tags$details(class = "help", htmltools::tags$summary("What these words and numbers mean"),
                          htmltools::HTML(html))
}

# A gap of the sentence: a choice within the line, which tells the server its key and what was chosen.
gap_choice <- function(key, label, choices, selected) {
  tags <- htmltools::tags
  tags$span(class = "gap", tags$label(class = "unseen", `for` = key, label),
            told_choice(key, with_selected(choices, selected), selected, choice_event("gap", key)))
}

# What is chosen stands among the choices, whatever the data say; "choose" where nothing is.
with_selected <- function(choices, selected) {
  selected <- as.character(unlist(selected))
  if (length(selected) == 0L && !"" %in% choices) return(c(choose = "", choices))
  if (length(selected) == 1L && !selected %in% choices) return(c(stats::setNames(selected, selected), choices))
  choices
}

# A choice below its label, heard like a gap.
labelled_gap <- function(key, label, choices, selected) {
  tags <- htmltools::tags
  tags$div(class = "field", tags$label(`for` = key, label),
           told_choice(key, with_selected(choices, selected), selected, choice_event("gap", key)))
}

told_choice <- function(id, choices, selected, event = NULL) {
  tags <- htmltools::tags
  selected <- as.character(unlist(selected))
  tags$select(id = id, onchange = event, lapply(seq_along(choices), function(k) {
    tags$option(value = choices[[k]], selected = if (identical(choices[[k]], selected)) NA, names(choices)[k])
  }))
}

# A choice of a form, which is read when its button is pressed.
labelled_choice <- function(id, label, choices, selected = choices[[1L]]) {
  tags <- htmltools::tags
  tags$div(class = "field", tags$label(`for` = id, label), told_choice(id, choices, selected))
}

plain_choices <- function(values, none = NULL) {
  values <- as.character(values)
  c(if (!is.null(none)) stats::setNames("", none), stats::setNames(values, values))
}

# The question as a sentence with gaps. columns: answer_columns().
sentence_with_gaps <- function(plan, columns) {
  sentence <- if (is_panel_plan(plan)) panel_sentence(plan$panel, columns) else if (is_other_plan(plan))
    other_sentence(plan, columns) else study_sentence(plan$study, columns)
  htmltools::tagList(kind_choice(question_kind(plan), columns), sentence)
}

# On a dose, or on treatment over time.
other_sentence <- function(plan, columns) {
  tags <- htmltools::tags
  study <- plan$study
  gap <- function(key, label) gap_choice(key, label, plain_choices(columns$name), unlist(study[[key]])[1L])
  asked <- if (is_dose_plan(plan)) list("What would", gap("outcome", "Outcome"), more_words(study$outcome),
                                        "be, were everybody given so much of", gap("dose", "Dose")) else
    list("What would", gap("outcome", "Outcome"), "be at the end, were each", gap("unit", "Unit"),
         "to follow a history of", gap("treatment", "Treatment"), "over", gap("time", "Time"))
  roles <- columns[[question_kind(plan)]]
  counted <- length(unlist(study$covariates)) + length(unlist(study$changing))
  htmltools::tagList(
    tags$p(class = "sentence", asked, "comparing those alike in", tags$strong(.noWS = "after",
                                                                              plural(counted, "column")), "?"),
    columns_to_tick(study, columns, roles, "Columns to be alike in", if (is_dose_plan(plan))
      "Only what came before the dose" else "Only what was measured before the treatment of its period"),
    preview_view(study, columns),
    tags$details(id = "more-roles", tags$summary("Weights, clusters, missing values"), tags$div(
      class = "row", labelled_gap("weight", "Sampling weight", plain_choices(columns$name, "none"), study$weight),
      labelled_gap("cluster", "Cluster", plain_choices(columns$name, "none"), study$cluster),
      labelled_gap("missing", "Missing covariates", missing_choices, study$missing),
      rows_fields(study, subset = is_dose_plan(plan)), reading_fields(study)
    )),
    own_words("study", study), what_to_check(roles$unsure)
  )
}

study_sentence <- function(study, columns) {
  tags <- htmltools::tags
  treatment <- unlist(study$treatment)
  levels <- columns$levels[[treatment]]
  treated <- if (is.null(study$treated)) utils::tail(levels, 1L) else as.character(unlist(study$treated))
  few_valued <- columns$name[lengths(columns$levels[columns$name]) %in% 2:10]
  several <- length(levels) > 2L || !is.null(study$reference)
  whom <- stats::setNames(names(estimands), vapply(names(estimands), function(name) {
    sprintf("%s (%s)", estimands[[name]][[if (several) "of_arms" else "words"]], name)
  }, ""))
  chosen <- unlist(study$covariates)
  by_plan <- (is.null(chosen) && !is.null(study$graph)) || is_formula_text(chosen)  # left as they are
  htmltools::tagList(
    tags$p(
      class = "sentence", if (several) "What did each" else "What did",
      gap_choice("treatment", "Treatment", plain_choices(few_valued), treatment),
      if (several) htmltools::tagList("rather than", gap_choice("reference", "Reference", plain_choices(levels),
                                                                study$reference)) else
        htmltools::tagList("being", gap_choice("treated", "Treated value", plain_choices(levels), treated)), "do to",
      gap_choice("outcome", "Outcome", plain_choices(setdiff(columns$name, treatment)), unlist(study$outcome)[1L]),
      more_words(study$outcome), "for",
      gap_choice("estimand", "For whom", whom, if (is.null(study$estimand)) "ATT" else study$estimand),
      "comparing units alike in", tags$strong(.noWS = "after", if (!by_plan) plural(length(chosen), "column") else
        if (is.null(chosen)) "what the graph asks for" else chosen), "?"
    ),
    if (!by_plan) columns_to_tick(study, columns, columns$roles, "Columns to be alike in",
                                  "Only what came before the treatment"),
    more_outcomes(study, columns, "Measured as well, with p-values adjusted for their number"),
    code_choices(study, columns), preview_view(study, columns),
    tags$details(
      id = "more-roles", tags$summary("Weights, clusters, missing values"),
      tags$div(class = "row",
               labelled_gap("weight", "Sampling weight", plain_choices(columns$name, "none"), study$weight),
               labelled_gap("cluster", "Cluster", plain_choices(columns$name, "none"), study$cluster),
               labelled_gap("id", "Name of units", plain_choices(columns$name, "none"), study$id),
               labelled_gap("missing", "Missing covariates", missing_choices, study$missing),
               rows_fields(study), reading_fields(study))
    ),
    own_words("study", study),
    what_to_check(columns$roles$unsure)
  )
}

panel_sentence <- function(panel, columns) {
  tags <- htmltools::tags
  none <- function(label, key, name = "none") labelled_gap(key, label, plain_choices(columns$name, name), panel[[key]])
  levels <- if (!is.null(panel$treatment)) columns$levels[[unlist(panel$treatment)]]
  treated <- if (!is.null(panel$treatment) && is.null(panel$reference)) {
    labelled_gap("treated", "Value that means treated", plain_choices(levels),
                 if (is.null(panel$treated)) utils::tail(levels, 1L) else panel$treated)
  }
  kinds <- if (length(levels) > 2L || !is.null(panel$reference)) {
    labelled_gap("reference", "Value that means none, of several kinds",
                 plain_choices(levels, "treatment is of one kind"), panel$reference)
  }
  stays <- labelled_gap("switching", "Once on, treatment", c("stays on" = "", "may switch off and on" = "TRUE"),
                        if (isTRUE(panel$switching)) "TRUE" else "")
  onset <- is.null(panel$treatment)
  role <- if (onset) "first_treated" else "treatment"
  unit <- if (is.null(panel$unit)) "group" else "unit"
  htmltools::tagList(
    tags$p(
      class = "sentence", if (onset) "What did treatment, first in" else "What did",
      gap_choice(role, if (onset) "First treated period" else "Treatment", plain_choices(columns$name), panel[[role]]),
      "do to", gap_choice("outcome", "Outcome", plain_choices(columns$name), unlist(panel$outcome)[1L]),
      more_words(panel$outcome), "of each", gap_choice(unit, "Unit", plain_choices(columns$name), panel[[unit]]),
      "over", gap_choice("time", "Time", plain_choices(columns$name), panel$time),
      "for those treated, since it set in, where trends are alike", tags$strong(
        .noWS = "after", if (length(panel$covariates) > 0L) paste("given", plural(length(unlist(panel$covariates)),
                                                                                  "column")) else "as they are"), "?"
    ),
    columns_to_tick(panel, columns, columns$panel, "Columns given which trends are alike",
                    "Only what treatment does not move"),
    more_outcomes(panel, columns, "Shown over time as well; an effect that is added can name them"),
    code_choices(panel, columns), preview_view(panel, columns),
    tags$details(
      id = "more-roles", tags$summary("Weights, clusters, how treatment is told"),
      tags$div(class = "row", treated, kinds, none("Treatment, on since it set in", "treatment"),
               none("or the first treated period", "first_treated"), none("Unit", "unit"),
               none("Group treated as a whole", "group"), none("Dose of each unit", "dose"),
               none("Another treatment, held beside it", "held"), stays, none("Weight", "weight"),
               none("Cluster", "cluster", "as the help page says"), rows_fields(panel),
               reading_fields(panel))
    ),
    own_words("panel", panel),
    what_to_check(columns$panel$unsure)
  )
}

# How a text file or a workbook is read.
reading_fields <- function(question) {
  file <- if (is.null(names(question$data))) unlist(question$data)
  if (isTRUE(grepl("[.]xlsx?$", file, ignore.case = TRUE))) {
    sheet <- if (is.null(question$sheet)) "1" else as.character(question$sheet)
    return(text_gap("sheet", "Sheet", sheet))
  }
  if (!isTRUE(grepl("[.](csv|tsv|txt)$", file, ignore.case = TRUE))) return(NULL)
  htmltools::tagList(
    labelled_gap("encoding", "Letters of the file", c("UTF-8" = "UTF-8", "latin1, of older programs" = "latin1"),
                 if (is.null(question$encoding)) "UTF-8" else question$encoding),
    labelled_gap("decimal", "Decimals", c("found out" = "auto", "1.5" = ".", "1,5" = ","),
                 if (is.null(question$decimal)) "auto" else question$decimal)
  )
}

# Which rows, as a condition of the plan's short list (of histories all are needed), and which entries are none.
rows_fields <- function(question, subset = TRUE) {
  htmltools::tagList(
    if (subset) text_gap("subset", "Rows, as crew_size > 2", question$subset),
    text_gap("unknown", "Entries that mean not known, as n/a, 99", paste(unlist(question$unknown), collapse = ", "))
  )
}

text_gap <- function(key, label, value) {
  tags <- htmltools::tags
  tags$div(class = "field", tags$label(`for` = key, label),
           tags$input(id = key, type = "text", value = value, onchange = choice_event("gap", key)))
}

preview_view <- function(question, columns) {
  tags <- htmltools::tags
  if (is.null(columns$first)) return(NULL)
  tags$details(id = "preview-box", tags$summary("First rows"),
               htmltools::HTML(preview_table(columns, unlist(question$outcome))))
}

# The question as the plan has it.
own_words <- function(part, question) {
  tags <- htmltools::tags
  tags$details(id = "words-box", tags$summary("In the plan's words"), tags$pre(
    class = "text", tabindex = 0, paste(plan_text(stats::setNames(list(question), part)), collapse = "\n")
  ))
}

# Columns of numbers with few values: are they codes of categories, and of which?
code_choices <- function(question, columns) {
  tags <- htmltools::tags
  known <- question$categories
  coded <- if (is.null(names(known))) unlist(known) else names(known)
  few <- which(columns$kind == "number" & lengths(columns$levels[columns$name]) %in% 2:20 | columns$name %in% coded)
  if (length(few) == 0L) return(NULL)
  tags$details(id = "codes-box", tags$summary("Numbers that are codes"), tags$fieldset(
    tags$legend("Categories rather than numbers; labels as 1 = wood, 2 = coal"), lapply(few, function(k) {
      name <- columns$name[k]
      id <- sprintf("code-%d", k)
      labels <- if (!is.null(names(known))) labels_text(known[[name]]) else ""
      tags$div(
        class = "tick", tags$input(type = "checkbox", id = id, checked = if (name %in% coded) NA,
                                   onchange = tick_event("code", sprintf("column: %d", k))),
        tags$label(`for` = id, name, tags$span(class = "soft", paste(columns$levels[[name]], collapse = ", "))),
        if (name %in% coded) tags$input(
          type = "text", id = paste0(id, "-labels"), value = labels, `aria-label` = paste("Labels of", name),
          onchange = sprintf("Shiny.setInputValue('code', {column: %d, on: true, labels: this.value}, %s)", k,
                             "{priority: 'event'}")
        )
      )
    })
  ))
}

# Shown where the columns allow several kinds of questions.
kind_choice <- function(kind, columns) {
  offered <- kinds_offered(columns)
  if (length(offered) > 1L) labelled_gap("kind", "A row is", offered, kind)
}

more_words <- function(outcome) if (length(outcome) > 1L) sprintf("(and %d more)", length(outcome) - 1L)

what_to_check <- function(unsure) {
  tags <- htmltools::tags
  if (length(unsure) == 0L) return(NULL)
  tags$details(id = "to-check", tags$summary("What to check"), tags$ul(lapply(unsure, tags$li)))
}

missing_choices <- c("keep, with an indicator" = "flag", "leave the unit out" = "drop", "stop and say so" = "stop")

# roles: as guessed for a question of this kind.
columns_to_tick <- function(question, columns, roles, heading, legend) {
  tags <- htmltools::tags
  chosen <- unlist(question[c("covariates", "changing")])
  taken <- unlist(question[c("treatment", "dose", "first_treated", "time", "unit", "group", "outcome", "id", "weight",
                             "cluster", "stratum")])
  tags$details(
    id = "columns-box", open = if (length(chosen) == 0L && is.null(question$time)) NA, tags$summary(heading),
    if (!is.null(columns$note)) tags$p(class = "soft", columns$note),
    tags$fieldset(tags$legend(legend), id = "covariates", class = "columns",
                  lapply(seq_along(columns$name), function(k) {
                    column_line(columns, k, columns$name[k] %in% chosen, taken, roles)
                  }))
  )
}

more_outcomes <- function(question, columns, legend) {
  tags <- htmltools::tags
  first <- unlist(question$outcome)[1L]
  roles <- unlist(question[c("treatment", "first_treated", "time", "unit", "group", "id", "weight", "cluster",
                             "covariates")])
  able <- which(columns$kind %in% c("number", "true/false", "two values") & !columns$name %in% c(first, roles))
  if (length(able) == 0L) return(NULL)
  tags$details(id = "outcomes-box", tags$summary("More outcomes"), tags$fieldset(
    class = "row", tags$legend(legend), lapply(able, function(k) {
      id <- paste0("outcome-", k)
      tags$div(class = "tick", tags$input(
        type = "checkbox", id = id, checked = if (columns$name[k] %in% unlist(question$outcome)) NA,
        onchange = tick_event("outcome_tick", sprintf("column: %d", k))
      ), tags$label(`for` = id, columns$name[k]))
    })
  ))
}

# A column with its kind, what is missing, its shape, and what speaks against it.
column_line <- function(columns, k, chosen, taken, roles) {
  tags <- htmltools::tags
  name <- columns$name[k]
  id <- paste0("column-", k)
  against <- if (name %in% taken) "has another role" else switch(columns$kind[k], identifier = "names the units",
                                                                  constant = "the same for all", NULL)
  if (is.null(against) && name %in% roles$outcome) against <- "looks like the outcome"
  if (is.null(against) && name %in% roles$after) against <- "may follow from the treatment"
  levels <- if (columns$kind[k] == "levels") paste0(": ", paste(columns$levels[[name]], collapse = ", "))
  tags$div(
    class = "column",
    tags$input(type = "checkbox", id = id, value = name, checked = if (chosen) NA,
               onchange = tick_event("column", sprintf("column: %d", k))),
    tags$label(`for` = id, tags$span(name)), tags$span(class = "soft", paste0(columns$kind[k], levels)),
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

# Entries of a part of the plan, in the plan's own words; each can be removed, which tells the server its name. inside:
# function(name, number) giving what else a card holds.
plan_cards <- function(part, event, inside = function(name, number) NULL) {
  tags <- htmltools::tags
  tags$ul(class = "cards", lapply(names(part), function(name) {
    steps <- strsplit(sub("\n$", "", yaml::as.yaml(part[[name]], precision = 15L)), "\n")[[1L]]
    tags$li(class = "card", tags$strong(name), tags$pre(paste(steps, collapse = "\n")),
            inside(name, match(name, names(part))),
            tags$button(type = "button", class = "btn", onclick = page_event(event, name),
                        "Remove", tags$span(class = "unseen", name)))
  }))
}

# The fields of a design that the page could have made; a change redraws what hangs on it.
design_controls <- function(plan, name, number) {
  kinds <- page_designs(plan)
  known <- known_design(plan$designs[[name]], kinds)
  fields <- if (!is.null(known)) kinds[[known$kind]]$fields
  if (length(fields) == 0L) return(NULL)
  event <- function(id) {
    sprintf("Shiny.setInputValue('redesign', {design: %d, field: '%s', value: this.value}, {priority: 'event'})",
            number, id)
  }
  tags <- htmltools::tags
  tags$details(id = sprintf("design-%d", number), tags$summary("Change", tags$span(class = "unseen", name)),
               unname(Map(function(field, id) {
                 input_field(sprintf("design-%d-%s", number, id), field, known$values[[id]], event(id))
               }, fields, names(fields))))
}

# A click that tells the server a value.
page_event <- function(id, value) {
  sprintf("Shiny.setInputValue(%s, %s, {priority: 'event'})", json_text(id), json_text(value))
}

# A choice that tells the server its key and its value.
choice_event <- function(id, key) {
  sprintf("Shiny.setInputValue('%s', {key: %s, value: this.value}, {priority: 'event'})", id, json_text(key))
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

add_design_form <- function(plan) {
  tags <- htmltools::tags
  known <- page_designs(plan)
  kinds <- stats::setNames(names(known), vapply(known, `[[`, "", "words"))
  tags$details(
    id = "design-box", class = "form", tags$summary("Add a design"), labelled_choice("added_kind", "Kind", kinds),
    shiny::uiOutput("design_fields"), shiny::actionButton("add_design", "Add this design")
  )
}

add_path_form <- function(plan, columns) {
  tags <- htmltools::tags
  tags$details(id = "path-box", class = "form", tags$summary("Add an effect"),
               fields_row("path_", path_fields(plan, columns)),
               shiny::actionButton("add_path", "Add this effect"))
}

add_probe_form <- function(plan) {
  tags <- htmltools::tags
  tags$details(
    id = "probe-box", class = "form", tags$summary("One probe by itself"),
    tags$div(class = "row", labelled_choice("probe_kind", "Probe", plain_probes(plan)),
             labelled_choice("probe_effect", "Of the effect", plain_choices(names(plan$effects)))),
    shiny::actionButton("add_probe", "Add this probe"),
    tags$p(class = "soft", "Placebos and probes with settings of their own stand in the plan:",
           tags$code("twin keys"), "lists them.")
  )
}

# What has no control here, by the plan's part and key.
beyond_page <- list(
  study = c(stratum = "survey strata", frequency = "rows that stand for several units",
            event = "outcomes with two values of their own", missing_outcome = "units that miss the outcome",
            imputation = "imputed data sets", dose = "a dose", logged = "outcomes in logs",
            changing = "columns that change and are touched by treatment"),
  panel = c(periods = "periods whose order text does not show", frequency = "rows that stand for several"),
  composition = c(comparison = "whether who is met changes with treatment"),
  baseline = c(each_cohort = "designs on the time before treatment, carried into the panel"),
  pair = c(exact = "pairs alike in a column", metric = "other distances", order = "which units choose first"),
  respond = c(model = "weights for missing outcomes"), search = c(generations = "a metric that is searched"),
  effect = c(by = "effects by group", model = "models of the outcome", quantiles = "quantiles", learners = "learners"),
  hazard = c(time = "time until an event"),
  variation = c(columns = "single columns", costs = "costs and a budget", learners = "learners of the effect"),
  "probe placebo" = c(outcomes = "placebo outcomes", groups = "groups", dates = "dates before treatment"),
  "effect over time" = c(third = "triple differences", doses = "the doses at which a curve is told",
                         absorb = "more fixed effects", crossed = "clusters of two kinds", near = "errors by distance",
                         inference = "wild bootstrap")
)

beyond_view <- function() {
  tags <- htmltools::tags
  tags$details(id = "beyond-box", tags$summary("What a plan can say that this page does not"), tags$ul(unname(Map(
    function(keys, part) {
      tags$li(tags$code(part, .noWS = "after"), ": ", paste0(keys, " (", names(keys), ")", collapse = ", "))
    }, beyond_page, names(beyond_page)
  ))), tags$p(class = "soft", "Written into the plan file, they stay there and are used.", tags$code("twin keys PART"),
              "says how."))
}

comparison_form <- function() {
  tags <- htmltools::tags
  tags$details(
    id = "comparison-box", class = "form", tags$summary("Compare with another plan of these data"),
    tags$label(`for` = "other_plan", "A plan file (.yml): what differs in settings, balance and effects"),
    tags$input(id = "other_plan", type = "file", class = "shiny-input-file", accept = ".yml,.yaml"),
    tags$div(id = "other_plan_progress", class = "progress", tags$div(class = "progress-bar"))
  )
}

design_fields <- function(plan, kind) {
  fields <- page_designs(plan)[[kind]]$fields
  if (length(fields) == 0L) return(htmltools::tags$p(class = "soft", "Nothing to choose here."))
  fields_row("field_", fields)
}

# The fields of a form, read when its button is pressed.
fields_row <- function(prefix, fields) {
  htmltools::tags$div(class = "row", unname(Map(function(field, id) {
    input_field(paste0(prefix, id), field, field$value)
  }, fields, names(fields))))
}

input_field <- function(id, field, value, event = NULL) {
  tags <- htmltools::tags
  control <- if (identical(field$kind, "number")) {
    tags$input(id = id, type = "number", value = value, min = field$min, max = field$max, step = field$step,
               onchange = event)
  } else if (identical(field$kind, "text")) {
    tags$input(id = id, type = "text", value = value, onchange = event)
  } else {
    told_choice(id, field$kind, value, event)
  }
  tags$div(class = "field", tags$label(`for` = id, field$words), control)
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

# sentence: of the seal, as the worker told it last.
seal_view <- function(plan, answers, sentence) {
  tags <- htmltools::tags
  panel <- is_panel_plan(plan)
  if (length(plan$effects) > 0L) {
    return(tags$p(class = "seal open", if (!panel) sentence, if (panel)
      "The outcome under treatment is open; the logbook keeps every effect that is measured." else
        "A design that is changed from here on is counted."))
  }
  ready <- if (panel) length(answers$question$value) > 0L && length(answers$question$value$failed) == 0L else
    length(answers$designs$value$choices) > 0L
  opened <- isTRUE(grepl("first opened", sentence, fixed = TRUE))  # and the effects taken out of the plan since
  closed <- if (panel) {
    "The outcome under treatment is closed. Look at the timing and at the time before treatment first."
  } else {
    paste("The outcome is closed. Choose designs by balance and overlap first: once it is open, every design",
          "that is tried is counted in the logbook, and the report says so.")
  }
  tags$div(
    class = "seal",
    tags$p(if (opened && !panel) "The plan has no effects now, but the outcome has been seen." else closed),
    if (!is.null(sentence) && !panel) tags$p(class = "soft", sentence),
    if (ready) shiny::actionButton("open", "Open the outcome") else
      tags$p(class = "soft", if (panel) "It can be opened when the question stands." else
        "It can be opened when a design stands.")
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

# Of which designs it is asked who gains; NULL where there is none to ask.
gains_choice <- function(plan) {
  if (length(plan$designs) == 0L) return(NULL)
  tick_boxes("Who gains more, who less? By the columns to be alike in, with", names(plan$designs), asked_gains(plan),
             "gains", "gains_tick", "design")
}

probe_choice <- function(plan) {
  tick_boxes("How much hidden bias would it take? By every way that fits, for", names(plan$effects),
             probed_effects(plan), "probed", "probe", "effect")
}

# A box for each name; a change tells the server its number, by this key.
tick_boxes <- function(legend, names, chosen, prefix, event, key) {
  tags <- htmltools::tags
  tags$fieldset(class = "row", tags$legend(legend), lapply(seq_along(names), function(k) {
    id <- sprintf("%s-%d", prefix, k)
    tags$div(class = "tick", tags$input(type = "checkbox", id = id, checked = if (names[k] %in% chosen) NA,
                                        onchange = tick_event(event, sprintf("%s: %d", key, k))),
             tags$label(`for` = id, names[k]))
  }))
}

rail_view <- function(plan, answers, job) {
  tags <- htmltools::tags
  views <- plan_step_views(plan)
  titles <- step_titles(plan)
  verdict <- function(step) {
    if (identical(job$step, step)) return("working ...")
    value <- if (step == "report" || views[[step]]$able(plan)) answers[[step]]$value
    if (length(value$failed) > 0L) return(paste(value$verdict, "\u2013 look"))
    if (!is.null(value)) return(value$verdict)
    if (isTRUE(views[[step]]$sealed) && length(plan$effects) == 0L) return("sealed")
    if (step == "assumptions" && is.null(plan$study$graph)) "not drawn" else "open"
  }
  tags$ol(lapply(c(setdiff(names(titles), desk_jobs), "report"), function(step) {
    tags$li(tags$a(href = paste0("#", step), titles[[step]], tags$span(class = "verdict", verdict(step))))
  }))
}
