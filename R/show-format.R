# How numbers and lines look in every print, table and report.

print_lines <- function(x, lines) {
  writeLines(lines)
  invisible(x)
}

# "  Label      text, wrapped at 80 columns".
field_lines <- function(label, text, width = 12L) {
  wrapped <- strwrap(text, width = 80L - width - 2L)
  if (length(wrapped) == 0L) wrapped <- ""
  paste0("  ", formatC(c(label, rep("", length(wrapped) - 1L)), width = -width), wrapped)
}

# A data frame of strings as aligned lines: first columns to the left, numbers to the right.
table_lines <- function(table, left = 1L, width = 80L) {
  columns <- Map(function(values, name, place) {
    just <- if (place <= left) "left" else "right"
    format_width(c(name, as.character(values)), just)
  }, table, names(table), seq_along(table))
  lines <- do.call(paste, c(unname(columns), sep = "  "))
  rule <- strrep("-", min(width, max(nchar(lines, "width"))))
  c(paste0("  ", trimws(lines[1L], "right")), paste0("  ", rule), paste0("  ", trimws(lines[-1L], "right")))
}

# Leaves out columns that can be spared, in their order, until the lines fit.
fit_table <- function(table, spare, width = 78L) {
  total <- function(table) {
    cells <- Map(c, names(table), lapply(table, as.character))
    sum(vapply(cells, function(cell) max(nchar(cell, "width")), 0L)) + 2L * (length(table) - 1L)
  }
  for (name in spare) if (total(table) > width) table[[name]] <- NULL
  table
}

format_width <- function(text, just) {
  pad <- strrep(" ", max(nchar(text, "width")) - nchar(text, "width"))
  if (just == "left") paste0(text, pad) else paste0(pad, text)
}

wrap_lines <- function(text, indent = 0L) strwrap(text, width = 80L, indent = indent, exdent = indent)
