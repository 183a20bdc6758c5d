# Warnings that touch a result stay with it: the notes of its tables, the report and glance() repeat them.

# Evaluates expr. Warnings of ours go on as usual, and are handed back as text: list(value, cautions).
hear_cautions <- function(expr) {
  cautions <- character()
  value <- withCallingHandlers(within_memory(expr), twin_warning = function(w) cautions <<- c(cautions, w$caution))
  list(value = value, cautions = unique(cautions))
}

# The result with what was said while it was made, after what was said of that which it was made from.
with_cautions <- function(expr, before = character()) {
  heard <- hear_cautions(expr)
  amend(heard$value, cautions = unique(c(before, heard$value$cautions, heard$cautions)))
}

# Evaluates expr; what several of its parts warn of is told once.
once_each <- function(expr) {
  told <- character()
  withCallingHandlers(expr, twin_warning = function(w) {
    if (w$caution %in% told) rlang::cnd_muffle(w)
    told <<- c(told, w$caution)
  })
}

# In a note or a paragraph; NULL where there is nothing to say. Several results of one design say it once.
caution_sentence <- function(...) {
  cautions <- unique(unlist(lapply(list(...), `[[`, "cautions")))
  if (length(cautions) == 0L) NULL else paste("Caution:", paste(cautions, collapse = " "))
}

# In one cell.
caution_cell <- function(x) if (length(x$cautions) == 0L) NA_character_ else paste(x$cautions, collapse = " ")
