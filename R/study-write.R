#' Write units to a file
#'
#' Takes data, such as those of [design_data()], back to the program they came from. The file is written under a
#' temporary name and renamed.
#'
#' @param data A data frame.
#' @param path Path ending in `.csv`, `.tsv`, `.parquet`, `.dta`, `.xlsx` or `.rds`, in a folder that exists.
#' @return `path`, invisibly.
#' @section Details: In csv and tsv, text that a spreadsheet would run as a formula gets a leading apostrophe. Stata
#'   allows only letters, digits and underscores in names: other characters become underscores, and the warning
#'   `twin_warning_renamed` lists them.
#' @section Errors: `twin_error_file` for another ending or a folder that can't be written to, `twin_error_package` when
#'   the writer is not installed.
#' @family data
#' @examples
#' file <- write_units(head(crews), tempfile(fileext = ".csv"))
#' read_units(file)[1:2, 1:4]
#' @export
write_units <- function(data, path) {
  check_units(data, rlang::current_env())
  check_string(path)
  kind <- tolower(tools::file_ext(path))
  writers <- unit_writers()
  if (!kind %in% names(writers)) {
    abort_file(c("Can't write {.file {path}}.", x = "The name must end in one of {.val {names(writers)}}."),
               path = path)
  }
  package <- c(parquet = "nanoparquet", dta = "haven", xlsx = "openxlsx")
  if (kind %in% names(package)) need_package(package[[kind]], paste0("write ", kind, " files"), rlang::current_env())
  if (kind == "dta") data <- stata_names(data)
  write_whole(path, function(draft) writers[[kind]](data, draft))
  invisible(path)
}

unit_writers <- function() {
  delimited <- function(separator) {
    function(data, path) data.table::fwrite(defuse_formulas(plain_labels(data)), path, sep = separator, na = "")
  }
  list(
    csv = delimited(","), tsv = delimited("\t"), rds = function(data, path) saveRDS(data, path),
    parquet = function(data, path) nanoparquet::write_parquet(plain_labels(data), path),
    dta = function(data, path) haven::write_dta(data, path),
    xlsx = function(data, path) openxlsx::write.xlsx(plain_labels(data), path)
  )
}

# Labelled columns as the words people read.
plain_labels <- function(data) {
  data[] <- lapply(data, function(x) if (inherits(x, "haven_labelled")) labelled_to_plain(x) else x)
  data
}

stata_names <- function(data) {
  allowed <- make.unique(substr(gsub("[^A-Za-z0-9_]", "_", names(data)), 1L, 32L), sep = "_")
  allowed <- ifelse(grepl("^[0-9]", allowed), paste0("_", allowed), allowed)
  changed <- allowed != names(data)
  if (any(changed)) {
    renames <- paste(names(data)[changed], "->", allowed[changed])
    warn_kind("renamed", c("Stata does not allow {sum(changed)} column name{?s}; written as:",
                           stats::setNames(utils::head(renames, 5L), rep("*", min(5L, length(renames))))),
              renames = renames)
  }
  stats::setNames(data, allowed)
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
