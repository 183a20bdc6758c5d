#' Read units from a file
#'
#' Reads a table with one row per unit. Empty cells and `NA` are missing values; text stays text (the study turns it
#' into levels). Variable and value labels of `.dta`, `.sav` and `.sas7bdat` files are kept and used in tables and
#' plots.
#'
#' @param path Path of a `.csv`, `.tsv` or `.txt` file (comma, semicolon or tab), or one that ends in `.parquet`,
#'   `.dta`, `.sav`, `.sas7bdat`, `.xlsx`, `.xls` or `.rds`, as one string.
#' @param encoding Of a text file: `"UTF-8"` (default) or `"latin1"`. Text that is not UTF-8 is an error, not a guess.
#' @param decimal Of a text file: `"."`, `","`, or `"auto"` (default): the comma when columns are separated by
#'   something else and whole columns of text read as numbers with it.
#' @param sheet Of an Excel file: number or name of the sheet; default the first.
#' @param trusted Of an `.rds` file: `TRUE` says that you trust whoever made it. Such a file can run code while it is
#'   read, which no other kind can.
#' @return A data frame.
#' @section Errors: `twin_error_file` when the file is missing, empty, of a kind not known here, broken, in another
#'   encoding, has lines with more or fewer fields than the others (the line is named), two columns of one name or fewer
#'   than two columns, or could run code; `twin_error_package` when the reader for its kind is not installed (the
#'   message says how to install it).
#' @family data
#' @examples
#' path <- system.file("extdata", "crews.csv", package = "carefultwin")
#' head(read_units(path), 3)
#' @export
read_units <- function(path, encoding = c("UTF-8", "latin1"), decimal = c("auto", ".", ","), sheet = 1,
                       trusted = FALSE) {
  check_string(path)
  check_flag(trusted)
  if (!rlang::is_string(sheet) && !(is_number(sheet) && sheet >= 1 && sheet == round(sheet))) {
    abort_input(c("{.arg sheet} must be the number or the name of a sheet.", x = "It is {describe_value(sheet)}."))
  }
  encoding <- check_choice(encoding, c("UTF-8", "latin1"))
  decimal <- check_choice(decimal, c("auto", ".", ","))
  if (!file.exists(path) || dir.exists(path)) {
    abort_file(c("Can't read {.file {path}}.", x = "There is no such file."), path = path)
  }
  kind <- tolower(tools::file_ext(path))
  read_here <- names(Filter(function(format) !is.null(format$read), unit_formats))
  if (!kind %in% read_here) {
    abort_file(c(
      "Can't read {.file {path}}.",
      x = if (nzchar(kind)) "Files of kind {.val {kind}} are not known here." else "Its name has no ending.",
      i = "Known: {.val {read_here}}."
    ), path = path)
  }
  if (file.size(path) == 0) abort_file(c("Can't read {.file {path}}.", x = "The file is empty."), path = path)
  format <- unit_formats[[kind]]
  if (runs_code(path) && !trusted) {
    abort_file(c("Can't read {.file {path}} without being told to.",
                 x = "A .{kind} file can run code while it is read.",
                 i = "If you trust whoever made it: {.code read_units(path, trusted = TRUE)}; else ask for a .csv or
                      .parquet file."), path = path)
  }
  need_package(format$reader, paste0("read ", kind, " files"), rlang::current_env())
  settings <- list(encoding = encoding, decimal = decimal, sheet = sheet)
  data <- tryCatch(format$read(path, settings), error = identity)
  if (inherits(data, "twin_error")) stop(data)
  if (inherits(data, "error")) {
    abort_file(c("Can't read {.file {path}}.", x = "{conditionMessage(data)}"), path = path)
  }
  check_units_table(data, path)
}

read_delimited <- function(path, separator, encoding, decimal) {
  nul <- count_bytes(path, as.raw(0L))
  if (nul$count > 0) {
    abort_file(c("Can't read {.file {path}}.", x = "Line {nul$line} holds a NUL byte: it is not plain text.",
                 i = "Save it as UTF-8 (not UTF-16), or export it anew."), path = path, line = nul$line, call = NULL)
  }
  read <- function(decimal) {
    said <- character()
    data <- withCallingHandlers(
      data.table::fread(
        path, sep = separator, header = TRUE, na.strings = c("", "NA"), data.table = FALSE, showProgress = FALSE,
        encoding = if (encoding == "latin1") "Latin-1" else "UTF-8", check.names = FALSE, integer64 = "double",
        dec = decimal
      ),
      warning = function(w) {  # the reader has to end by itself
        said <<- c(said, conditionMessage(w))
        tryInvokeRestart("muffleWarning")
      }
    )
    if (length(said) > 0L) stop_ragged(path, said[1L])
    data
  }
  data <- read(if (decimal == ",") "," else ".")
  check_encoding(data, path, encoding)
  if (decimal == "auto" && any(vapply(data, has_decimal_comma, NA))) data <- read(",")
  if (encoding == "latin1") data <- as_utf8(data)
  single_quotes(data)
}

# The reader goes on after lines that are not like the others; here they end it.
stop_ragged <- function(path, said) {
  said <- gsub("\\s+", " ", said)
  line <- as.numeric(sub("^.*?[Ll]ine ([0-9]+).*$", "\\1", grep("[Ll]ine [0-9]+", said, value = TRUE), perl = TRUE))
  if (length(line) == 0L && grepl("last|footer", said)) line <- count_bytes(path, as.raw(10L))$count
  fields <- regmatches(said, regexec("Expected ([0-9]+) fields but found ([0-9]+)", said))[[1L]]
  abort_file(c(
    "Can't read {.file {path}}.",
    x = if (length(fields) == 3L) "Line {line[1]} has {fields[3]} fields where the lines above have {fields[2]}." else
      if (length(line) > 0L) "Line {line[1]} is not like the lines above it." else "{said}",
    i = "Look for a separator or a quote too many (or too few) in it."
  ), path = path, line = if (length(line) > 0L) line[1L], call = NULL)
}

# A whole column of text such as "3,25": numbers written with a comma.
has_decimal_comma <- function(x) {
  if (!is.character(x)) return(FALSE)
  x <- x[!is.na(x)]
  length(x) > 0L && all(grepl("^[-+]?[0-9]*,?[0-9]+$", x)) && any(grepl(",", x, fixed = TRUE))
}

check_encoding <- function(data, path, encoding) {
  if (encoding != "UTF-8") return(invisible(data))
  valid <- function(text) all(validUTF8(text[!is.na(text)]))
  bad <- c(if (!valid(names(data))) "the column names",
           names(data)[!vapply(data, function(x) !is.character(x) || valid(x), NA)])
  if (length(bad) == 0L) return(invisible(data))
  bad <- iconv(bad, "latin1", "UTF-8")
  abort_file(c(
    "The text in {.file {path}} is not UTF-8.",
    x = "Look at {.val {bad}}.",
    i = "Files from older programs are often {.code encoding = \"latin1\"}."
  ), path = path, columns = bad, call = NULL)
}

as_utf8 <- function(data) {
  names(data) <- enc2utf8(names(data))
  data[] <- lapply(data, function(x) if (is.character(x)) enc2utf8(x) else x)
  data
}

check_units_table <- function(data, path, call = rlang::caller_env()) {
  if (!is.data.frame(data)) {
    abort_file(c("Can't use {.file {path}}.", x = "It holds {.obj_type_friendly {data}}, not a table."),
               path = path, call = call)
  }
  long <- lengths(unclass(data)) != nrow(data) & vapply(data, function(x) is.null(dim(x)), NA)
  if (any(long)) {
    abort_file(c("Can't use {.file {path}}.", x = "Its columns differ in length: {.val {names(data)[long]}}."),
               path = path, call = call)
  }
  twice <- unique(names(data)[duplicated(names(data))])
  if (length(twice) > 0L) {
    abort_file(c("Can't use {.file {path}}.",
                 x = "{cli::qty(length(twice))}The column name{?s} {.val {twice}} stand{?s/} for several columns.",
                 i = "Give each column a name of its own."), path = path, columns = twice, call = call)
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
