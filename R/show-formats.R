# The register of files that hold a table, by ending. One entry each; adding one is adding its entry here, with its
# computation.

# write: function(parts, file) that writes a rendered table, parts being those of table_parts(); or numbers:
# function(x, parts, file) that writes the numbers of tidy() at full precision; package: what it needs for that.
new_table_format <- function(write = NULL, numbers = NULL, package = NULL) {
  stopifnot(is.function(write) || is.function(numbers))
  list(write = write, numbers = numbers, package = package)
}

table_formats <- list(
  tex = new_table_format(function(parts, file) write_text(latex_table(parts), file)),
  html = new_table_format(function(parts, file) write_text(html_lines(parts), file)),
  md = new_table_format(function(parts, file) write_text(markdown_table(parts), file)),
  docx = new_table_format(function(parts, file) write_word(word_table_parts(parts), file), package = "officer"),
  csv = new_table_format(function(parts, file) write_csv(plain_cells(parts$table), file),
                         function(x, parts, file) write_csv(generics::tidy(x), file), "data.table"),
  xlsx = new_table_format(function(parts, file) write_sheets(plain_cells(parts$table), parts, file),
                          function(x, parts, file) write_sheets(generics::tidy(x), parts, file), "openxlsx")
)

# A sheet of numbers and one that says what they are.
write_sheets <- function(table, parts, file) {
  about <- data.frame(note = c(parts$caption, parts$note))
  sheets <- lapply(list(numbers = table, about = about), defuse_formulas)
  write_whole(file, function(path) openxlsx::write.xlsx(sheets, path), function(path) holds_sheet(path, sheets$numbers))
}

# Rendered cells; columns of nothing but numbers become numbers.
plain_cells <- function(table) {
  table[] <- lapply(table, function(cells) {
    bare <- gsub(",", "", cells, fixed = TRUE)
    bare[bare %in% c("", "-")] <- NA
    numbers <- suppressWarnings(as.numeric(bare))
    if (all(is.na(numbers) == is.na(bare)) && !all(is.na(bare))) numbers else cells
  })
  table
}

# Text that Markdown would read as marks stays text.
markdown_text <- function(text) gsub("([|*_`<>\\[\\]\\\\])", "\\\\\\1", text, perl = TRUE)

markdown_table <- function(parts) {
  plain <- markdown_text
  table <- vapply(parts$table, plain, character(nrow(parts$table)))
  table <- matrix(table, nrow = nrow(parts$table))
  line <- function(cells) paste0("| ", paste(cells, collapse = " | "), " |")
  c(paste0("**", plain(parts$caption), "**"), "", line(plain(names(parts$table))),
    line(c(":---", rep("---:", ncol(table) - 1L))), apply(table, 1L, line), "", plain(parts$note))
}

html_lines <- function(parts) {
  head <- c("<!doctype html>", "<html lang=\"en\">", "<head>", "<meta charset=\"utf-8\">",
            as.character(htmltools::tags$title(parts$caption)), "<style>", table_style, "</style>", "</head>", "<body>")
  c(head, as.character(table_tag(parts$table, parts$caption, parts$note)), "</body>", "</html>")
}

# Lines above, below the head and at the end; numbers to the right.
table_style <- c(
  "table { border-collapse: collapse; border-top: 2px solid; border-bottom: 2px solid; }",
  "caption { text-align: left; font-weight: bold; padding: .3em 0; }",
  "th, td { padding: .15em .7em; text-align: right; font-variant-numeric: tabular-nums; }",
  "th { border-bottom: 1px solid; vertical-align: bottom; }",
  "th:first-child, td:first-child, .text { text-align: left; }",
  "p.note { font-size: .85em; max-width: 50em; }"
)
