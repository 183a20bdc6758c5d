#' Read units from a file
#'
#' Reads a table with one row per unit. Empty cells and `NA` are missing values; text stays text (the study turns it
#' into levels).
#'
#' @param path Path of a `.csv`, `.tsv` or `.rds` file, as one string.
#' @return A data frame.
#' @section Errors: `twin_error_file` when the file is missing, empty, of a kind not known here, or has fewer than two
#'   columns.
#' @family data
#' @examples
#' path <- system.file("extdata", "crews.csv", package = "carefultwin")
#' head(read_units(path), 3)
#' @export
read_units <- function(path) {
  check_string(path)
  if (!file.exists(path) || dir.exists(path)) {
    abort_file(c("Can't read {.file {path}}.", x = "There is no such file."), path = path)
  }
  kind <- tolower(tools::file_ext(path))
  if (!kind %in% c("csv", "tsv", "rds")) {
    abort_file(c(
      "Can't read {.file {path}}.",
      x = if (nzchar(kind)) "Files of kind {.val {kind}} are not known here." else "Its name has no ending.",
      i = "Save the data as .csv, .tsv or .rds."
    ), path = path)
  }
  if (file.size(path) == 0) abort_file(c("Can't read {.file {path}}.", x = "The file is empty."), path = path)
  data <- tryCatch(
    if (kind == "rds") readRDS(path) else read_delimited(path, if (kind == "tsv") "\t" else "auto"),
    error = function(e) {
      abort_file(c("Can't read {.file {path}}.", x = "{conditionMessage(e)}"), path = path, call = NULL)
    }
  )
  check_units_table(data, path)
}

read_delimited <- function(path, separator) {
  data.table::fread(
    path, sep = separator, header = TRUE, na.strings = c("", "NA"), data.table = FALSE, showProgress = FALSE,
    encoding = "UTF-8", check.names = FALSE,
    integer64 = "double"
  )
}

check_units_table <- function(data, path, call = rlang::caller_env()) {
  if (!is.data.frame(data)) {
    abort_file(c("Can't use {.file {path}}.", x = "It holds {.obj_type_friendly {data}}, not a table."),
               path = path, call = call)
  }
  if (nrow(data) == 0L) {
    abort_file(c("Can't use {.file {path}}.", x = "It has column names but no rows."), path = path, call = call)
  }
  if (ncol(data) < 2L) {
    abort_file(c(
      "Can't use {.file {path}}.",
      x = "It has a single column, {.val {names(data)}}.",
      i = "A study needs at least a treatment, an outcome and a covariate. Is the separator a comma, semicolon or tab?"
    ), path = path, call = call)
  }
  data
}
