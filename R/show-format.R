# How numbers and lines look in every print, table and report.

print_lines <- function(x, lines) {
  writeLines(lines)
  invisible(x)
}

# Three significant places or so, the same wherever a number is shown; NA is a dash.
number_text <- function(x, places = decimal_places(abs(x))) {
  size <- abs(x)
  text <- vapply(seq_along(x), function(i) {
    if (is.na(x[i])) return("-")
    if (is.infinite(x[i])) return(if (x[i] > 0) "Inf" else "-Inf")
    if (size[i] > 0 && size[i] < 5e-4) return(formatC(x[i], digits = 1, format = "e"))
    formatC(x[i], digits = max(0, places[i]), format = "f", big.mark = ",")
  }, "")
  sub("^-(0\\.?0*)$", "\\1", text)
}

count_text <- function(x) formatC(x, format = "d", big.mark = ",")

decimal_places <- function(size) ifelse(size >= 1000, 0, ifelse(size >= 100, 1, ifelse(size >= 1, 2, 3)))

share_text <- function(x) paste0(formatC(100 * x, digits = 1, format = "f"), "%")

p_text <- function(p) ifelse(is.na(p), "-", ifelse(p < 0.001, "<0.001", formatC(p, digits = 3, format = "f")))

# Both limits with as many decimals as the larger one needs.
interval_text <- function(low, high) {
  places <- decimal_places(pmax(abs(low), abs(high)))
  paste(number_text(low, places), "to", number_text(high, places))
}

level_text <- function(level) paste0(format(100 * level), "%")

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

shorten <- function(text, width) {
  ifelse(nchar(text, "width") > width, paste0(substr(text, 1L, width - 3L), "..."), text)
}

wrap_lines <- function(text, indent = 0L) strwrap(text, width = 80L, indent = indent, exdent = indent)

estimand_words <- c(
  ATT = "those who were treated", ATE = "everybody", ATC = "those who were not treated",
  ATO = "those whose treatment could well have been either"
)

plural <- function(count, word) paste(count_text(count), if (count == 1L) word else paste0(word, "s"))
