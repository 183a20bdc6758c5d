# The register of files that hold units, by ending. One entry each; adding one is adding its entry here.

# read: function(path, settings) giving a data frame, settings being encoding, decimal and sheet of read_units(); NULL
# where files are written only. write: function(data, path); NULL where they are read only. complete: function(path,
# data), has all that was written arrived? reader, writer: the packages that do it, asked for when they are needed.
# prepare: function(data), what the format cannot hold as it is. runs_code: can reading such a file run code?
new_unit_format <- function(read = NULL, write = NULL, complete = NULL, reader = "data.table", writer = reader,
                            prepare = plain_labels_of, runs_code = FALSE) {
  stopifnot(is.null(read) || is.function(read), is.null(write) || (is.function(write) && is.function(complete)))
  list(read = read, write = write, complete = complete, reader = reader, writer = writer, prepare = prepare,
       runs_code = runs_code)
}

plain_labels_of <- function(data) plain_labels(data)

delimited_format <- function(separator, writes = TRUE) {
  force(separator)
  new_unit_format(
    read = function(path, settings) read_delimited(path, separator, settings$encoding, settings$decimal),
    write = if (writes) function(data, path) {
      data.table::fwrite(data, path, sep = if (separator == "auto") "," else separator, na = "")
    },
    complete = if (writes) function(path, data) holds_table(path, data),
    prepare = function(data) defuse_formulas(plain_labels(data))
  )
}

sheet_format <- function(writes) {
  new_unit_format(
    read = function(path, settings) {
      as.data.frame(readxl::read_excel(path, sheet = settings$sheet, .name_repair = "minimal"))
    },
    write = if (writes) function(data, path) openxlsx::write.xlsx(data, path),
    complete = if (writes) function(path, data) holds_sheet(path, data),
    reader = "readxl", writer = "openxlsx", prepare = function(data) defuse_formulas(plain_labels(data))
  )
}

# Rows that are empty to the end leave nothing in a sheet.
holds_sheet <- function(path, data) {
  filled <- which(Reduce(`|`, lapply(data, function(x) !is.na(x))))
  back <- openxlsx::read.xlsx(path, skipEmptyRows = FALSE, skipEmptyCols = FALSE)
  length(filled) == 0L || nrow(back) >= max(filled)
}

same_size <- function(back, data) identical(dim(back), dim(data))

unit_formats <- list(
  csv = delimited_format("auto"),
  tsv = delimited_format("\t"),
  txt = delimited_format("auto", writes = FALSE),
  rds = new_unit_format(
    function(path, settings) readRDS(path), function(data, path) saveRDS(data, path),
    function(path, data) same_size(readRDS(path), data), "base", prepare = identity, runs_code = TRUE
  ),
  parquet = new_unit_format(
    function(path, settings) as.data.frame(nanoparquet::read_parquet(path)),
    function(data, path) nanoparquet::write_parquet(data, path),
    function(path, data) same_size(nanoparquet::read_parquet(path), data), "nanoparquet"
  ),
  dta = new_unit_format(
    function(path, settings) as.data.frame(haven::read_dta(path)), function(data, path) haven::write_dta(data, path),
    function(path, data) same_size(haven::read_dta(path), data), "haven", prepare = function(data) dta_names(data)
  ),
  sav = new_unit_format(function(path, settings) as.data.frame(haven::read_sav(path)), reader = "haven"),
  sas7bdat = new_unit_format(function(path, settings) as.data.frame(haven::read_sas(path)), reader = "haven"),
  xlsx = sheet_format(writes = TRUE),
  xls = sheet_format(writes = FALSE)
)
