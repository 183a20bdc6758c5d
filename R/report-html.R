# The report as a page: one file, without scripts, without a network.

html_page <- function(report) {
  tags <- htmltools::tags
  style <- readLines(system.file("report", "style.css", package = "carefultwin"), encoding = "UTF-8")
  body <- htmltools::tagList(
    tags$a(class = "skip", href = "#main", "Skip to the report"),
    tags$div(
      class = "page",
      tags$nav(`aria-label` = "Contents", tags$ol(lapply(report$sections, function(section) {
        tags$li(tags$a(href = paste0("#", section$id), section$title))
      }))),
      tags$div(class = "sheet",
               tags$main(id = "main", html_first(report), lapply(report$sections, html_section)),
               tags$footer(tags$p(report$footer)))
    )
  )
  c(
    "<!doctype html>", "<html lang=\"en\">", "<head>", "<meta charset=\"utf-8\">",
    "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">",
    as.character(tags$title(report$title)), "<style>", style, "</style>", "</head>", "<body>",
    as.character(body), "</body>", "</html>"
  )
}

# What a stranger sees without scrolling: question, answer, picture, verdicts.
html_first <- function(report) {
  tags <- htmltools::tags
  first <- report$first
  tags$header(
    class = "first",
    tags$h1(report$title), tags$p(class = "question", first$question),
    if (!is.null(first$answer)) tags$p(class = "answer", first$answer),
    if (!is.null(first$rule)) tags$p(class = "rule", first$rule),
    if (!is.null(first$figure)) html_block(first$figure),
    if (length(first$verdicts) > 0L) tags$ul(class = "verdicts", lapply(first$verdicts, html_verdict)),
    tags$p(class = "byline", report$byline)
  )
}

html_verdict <- function(verdict) {
  tags <- htmltools::tags
  inside <- list(tags$span(class = "what", verdict$what), tags$strong(verdict$word),
                 tags$span(class = "number", verdict$number))
  tags$li(class = verdict$tone, if (is.null(verdict$at)) tags$div(inside) else
    tags$a(href = paste0("#", verdict$at), inside))
}

html_section <- function(section) {
  tags <- htmltools::tags
  tags$section(id = section$id, `aria-labelledby` = paste0(section$id, "-title"),
               tags$h2(id = paste0(section$id, "-title"), section$title), lapply(section$blocks, html_block))
}

# One way to show each kind of block.
html_block <- function(block) {
  tags <- htmltools::tags
  switch(
    block$kind,
    text = htmltools::tagList(lapply(block$text, function(text) {
      tags$p(class = if (block$tone != "plain") block$tone, text)
    })),
    heading = tags$h3(block$text),
    terms = tags$dl(Map(function(term, text) htmltools::tagList(tags$dt(term), tags$dd(text)),
                        names(block$rows), unname(block$rows))),
    table = table_tag(block$table, block$caption, block$note, block$failing, block$running),
    figure = html_figure(block),
    fold = tags$details(tags$summary(block$title), lapply(block$blocks, html_block)),
    beside = tags$div(class = "beside", lapply(block$blocks, html_block))
  )
}

html_figure <- function(block) {
  tags <- htmltools::tags
  data <- base64enc::base64encode(block$file)
  tags$figure(
    tags$img(src = paste0("data:image/png;base64,", data), alt = block$alt,
             width = round(96 * figure_width), height = round(96 * block$height)),
    if (!is.null(block$caption)) tags$figcaption(block$caption)
  )
}
