#' Write units to a file
#'
#' Takes data, such as those of [design_data()], back to the program they came from. The file is written under a
#' temporary name, looked at, and renamed when all of it is there: on a full disk the old file stays. Symbolic links are
#' written through; a file that is protected from writing is not replaced.
#'
#' @param data A data frame, or a design: its data without the outcomes, as [design_data()] gives them. Other results
#'   are written as `as.data.frame()` gives them.
#' @param path Path ending in `.csv`, `.tsv`, `.parquet`, `.dta`, `.xlsx` or `.rds`, in a folder that exists. Or a DBI
#'   connection, with `table`.
#' @param table With a connection: name of the table to write. Of a design on a table in a database
#'   ([remote_units()]) it gets the id, `score` and `weight` of every unit, made where the rows are.
#' @param replace With a connection: may a table of that name be replaced? Default `FALSE`.
#' @return `path`, or the name of the table, invisibly.
#' @section Details: In csv and tsv, text that a spreadsheet would run as a formula gets a leading apostrophe. `.dta`
#'   files allow only letters, digits and underscores in names: other characters become underscores, and the warning
#'   `twin_warning_renamed` lists them.
#' @section Errors: `twin_error_file` for another ending, a folder or file that can't be written to, or where not all
#'   could be written, `twin_error_package` when
#'   the writer is not installed. `twin_error_input` for a table that is there already, `twin_error_database` when the
#'   engine refuses; then nothing is changed.
#' @family data
#' @examples
#' file <- write_units(head(crews), tempfile(fileext = ".csv"))
#' read_units(file)[1:2, 1:4]
#' @export
write_units <- function(data, path, table = NULL, replace = FALSE) {
  check_flag(replace)
  if (!is.null(table) || inherits(path, "DBIConnection")) {
    return(write_table_units(data, path, table, replace, rlang::current_env()))
  }
  if (!is.data.frame(data) && any(startsWith(class(data), "twin_"))) data <- as.data.frame(data)
  check_units(data, rlang::current_env())
  check_string(path)
  kind <- tolower(tools::file_ext(path))
  written <- names(Filter(function(format) !is.null(format$write), unit_formats))
  if (!kind %in% written) {
    abort_file(c("Can't write {.file {path}}.", x = "The name must end in one of {.val {written}}."), path = path)
  }
  format <- unit_formats[[kind]]
  need_package(format$writer, paste0("write ", kind, " files"), rlang::current_env())
  data <- format$prepare(data)
  write_whole(path, function(draft) format$write(data, draft), function(draft) format$complete(draft, data))
  invisible(path)
}

# Labelled columns as the words people read.
plain_labels <- function(data) {
  data[] <- lapply(data, function(x) if (inherits(x, "haven_labelled")) labelled_to_plain(x) else x)
  data
}

dta_names <- function(data) {
  allowed <- make.unique(substr(gsub("[^A-Za-z0-9_]", "_", names(data)), 1L, 32L), sep = "_")
  allowed <- ifelse(grepl("^[0-9]", allowed), paste0("_", allowed), allowed)
  changed <- allowed != names(data)
  if (any(changed)) {
    renames <- paste(names(data)[changed], "->", allowed[changed])
    warn_kind("renamed", c("`.dta` files do not allow {sum(changed)} column name{?s}; written as:",
                           stats::setNames(utils::head(renames, 5L), rep("*", min(5L, length(renames))))),
              renames = renames)
  }
  stats::setNames(data, allowed)
}
