# Tables as HTML, for the report and for files of their own.

# text: places of columns that hold running text. Rows are pasted, not built tag by tag: a report has thousands of
# cells.
table_tag <- function(table, caption, note, failing = rep(FALSE, nrow(table)), text = integer()) {
  tags <- htmltools::tags
  class_of <- function(j) if (j %in% text) " class=\"text\"" else ""
  cells <- vapply(seq_along(table), function(j) {
    sprintf("<td%s>%s</td>", class_of(j), htmltools::htmlEscape(as.character(table[[j]])))
  }, character(nrow(table)))
  cells <- apply(matrix(cells, nrow = nrow(table)), 1L, paste, collapse = "")
  heads <- vapply(seq_along(table), function(j) {
    sprintf("<th scope=\"col\"%s>%s</th>", class_of(j), htmltools::htmlEscape(names(table)[j]))
  }, "")
  rows <- sprintf("<tr%s>%s</tr>", ifelse(failing, " class=\"fails\"", ""), cells)
  html <- c(
    sprintf("<div class=\"scroll\" role=\"group\" tabindex=\"0\" aria-label=\"%s\">",
            htmltools::htmlEscape(table_name(caption), attribute = TRUE)),
    if (length(text) > 0L) "<table class=\"running\">" else "<table>",
    sprintf("<caption>%s</caption>", htmltools::htmlEscape(caption)),
    sprintf("<thead><tr>%s</tr></thead>", paste(heads, collapse = "")), "<tbody>", rows, "</tbody></table></div>"
  )
  htmltools::tagList(htmltools::HTML(paste(html, collapse = "\n")), if (!is.null(note)) tags$p(class = "note", note))
}

# What a screen reader calls a table that can be scrolled.
table_name <- function(caption) if (length(caption) > 0L && nzchar(caption)) caption else "Table"
