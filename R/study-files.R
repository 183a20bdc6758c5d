# The doors to files: one that names them, one that writes them whole, one that keeps cells from being run.

# Names from the data or the plan as parts of file names, a vector named by them. Letters and digits stay, everything
# else becomes a hyphen; names that would then share a file (on systems that ignore case, too) get a hash of their own.
file_stems <- function(names) {
  names <- unique(names)
  stems <- gsub("^-|-$", "", gsub("[^A-Za-z0-9_]+", "-", names))
  shared <- !nzchar(stems) | tolower(stems) %in% tolower(stems)[duplicated(tolower(stems))]
  marks <- vapply(names[shared], function(name) substr(rlang::hash(enc2utf8(name)), 1L, 6L), "")
  stems[shared] <- paste0(stems[shared], ifelse(nzchar(stems[shared]), "-", ""), marks)
  stats::setNames(stems, names)
}

# A table as csv, whole, with cells that a spreadsheet would run kept from it.
write_csv <- function(table, file, na = "") {
  write_whole(file, function(path) data.table::fwrite(defuse_formulas(as.data.frame(table)), path, na = na))
}

# Write to a neighbour with a temporary name, then rename over the goal.
write_whole <- function(file, write, call = rlang::caller_env()) {
  folder <- dirname(file)
  if (!dir.exists(folder)) {
    abort_file(c("Can't write {.file {file}}.", x = "There is no folder {.file {folder}}."), path = file, call = call)
  }
  draft <- tempfile(".twin-", folder, fileext = paste0(".", tools::file_ext(file)))
  on.exit(unlink(draft))
  result <- tryCatch(suppressWarnings({
    write(draft)
    file.rename(draft, file)
  }), error = function(e) conditionMessage(e))
  if (isTRUE(result)) return(invisible(file))
  abort_file(c("Can't write {.file {file}}.", x = if (is.character(result)) "{result}"), path = file, call = call)
}

# Text that starts like a formula, and is not just a number, is run by spreadsheets; an apostrophe keeps it text.
defuse_formulas <- function(table) {
  dangerous <- function(text) grepl("^[=+@\t\r-]", text) & !grepl("^[-+]?[0-9.,]+([eE][-+]?[0-9]+)?$", text)
  table[] <- lapply(table, function(column) {
    if (is.factor(column)) column <- as.character(column)
    if (!is.character(column)) return(column)
    ifelse(dangerous(column), paste0("'", column), column)
  })
  names(table) <- ifelse(dangerous(names(table)), paste0("'", names(table)), names(table))
  table
}
