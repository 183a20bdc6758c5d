# How numbers and lines look in every print, table and report.

print_lines <- function(x, lines) {
  writeLines(lines)
  invisible(x)
}

# Columns to fill: options(width), within what can be read.
print_width <- function() max(60L, min(as.integer(getOption("width", 80L)), 160L))

# How long the names of a table's rows may be, which is `narrow` at 80 columns.
name_width <- function(narrow) max(12L, narrow + print_width() - 80L)

# "  Label      text, wrapped".
field_lines <- function(label, text, width = 12L) {
  wrapped <- strwrap(text, width = print_width() - width - 2L)
  if (length(wrapped) == 0L) wrapped <- ""
  paste0("  ", formatC(c(label, rep("", length(wrapped) - 1L)), width = -width), wrapped)
}

# A data frame of strings as aligned lines: first columns to the left, numbers to the right. Columns that don't fit
# stand below, beside the first ones again; those that fit_table() left out are named.
table_lines <- function(table, left = 1L) {
  gone <- attr(table, "left_out")
  columns <- Map(function(values, name, place) {
    format_width(c(name, as.character(values)), if (place <= left) "left" else "right")
  }, table, names(table), seq_along(table))
  blocks <- lapply(column_blocks(columns, left), function(block) {
    lines <- do.call(paste, c(unname(columns[block]), sep = "  "))
    rule <- strrep("-", min(print_width(), max(nchar(lines, "width"))))
    c(paste0("  ", trimws(lines[1L], "right")), paste0("  ", rule), paste0("  ", trimws(lines[-1L], "right")))
  })
  c(utils::head(unlist(lapply(blocks, c, "")), -1L),
    if (length(gone) > 0L) {
      wrap_lines(sprintf("Too wide to show: %s. A wider screen, as.data.frame() or an exported table has %s.",
                         and_list(gone), if (length(gone) == 1L) "it" else "them"), 2L)
    })
}

# Which columns stand beside each other: the first `left` in every block.
column_blocks <- function(columns, left) {
  width <- vapply(columns, function(column) nchar(column[1L], "width") + 2L, 0)
  first <- seq_len(left)
  room <- print_width() - sum(width[first])
  blocks <- list()
  block <- integer()
  for (k in setdiff(seq_along(columns), first)) {
    if (length(block) > 0L && sum(width[c(block, k)]) > room) {
      blocks <- c(blocks, list(c(first, block)))
      block <- integer()
    }
    block <- c(block, k)
  }
  c(blocks, list(c(first, block)))
}

# Makes the lines fit: leaves out columns that can be spared, in their order (the attribute left_out names them), and
# cuts the names in the first column to the room that is left, but not below `least`.
fit_table <- function(table, spare, least = 18L) {
  room <- function(table) {
    width <- vapply(names(table)[-1L], function(name) max(nchar(c(name, table[[name]]), "width")) + 2L, 0)
    print_width() - 2L - sum(width)
  }
  names <- as.character(table[[1L]])
  needed <- min(least, max(nchar(c(names(table)[1L], names), "width")))
  gone <- character()
  for (name in intersect(spare, names(table))) {
    if (room(table) >= needed) break
    table[[name]] <- NULL
    gone <- c(gone, name)
  }
  table[[1L]] <- shorten(names, max(least, room(table)))
  attr(table, "left_out") <- gone
  table
}

format_width <- function(text, just) {
  pad <- strrep(" ", max(nchar(text, "width")) - nchar(text, "width"))
  if (just == "left") paste0(text, pad) else paste0(pad, text)
}

wrap_lines <- function(text, indent = 0L) {
  strwrap(text, width = print_width(), indent = indent, exdent = indent)
}
