# Tables as HTML, for the report and for files of their own.

# text: places of columns that hold running text.
table_tag <- function(table, caption, note, failing = rep(FALSE, nrow(table)), text = integer()) {
  tags <- htmltools::tags
  cell <- function(value, place) tags$td(class = if (place %in% text) "text", value)
  body <- lapply(seq_len(nrow(table)), function(i) {
    first <- tags$td(as.character(table[[1L]][i]))
    rest <- lapply(seq_along(table)[-1L], function(j) cell(as.character(table[[j]][i]), j))
    tags$tr(class = if (failing[i]) "fails", first, rest)
  })
  htmltools::tagList(
    tags$div(class = "scroll", tags$table(
      class = if (length(text) > 0L) "running",
      tags$caption(caption),
      tags$thead(tags$tr(lapply(seq_along(table), function(j) {
        tags$th(scope = "col", class = if (j %in% text) "text", names(table)[j])
      }))),
      tags$tbody(body)
    )),
    if (!is.null(note)) tags$p(class = "note", note)
  )
}
