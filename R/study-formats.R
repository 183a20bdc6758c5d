# The register of files that hold units, by ending. One entry each; adding one is adding its entry here.

# read: function(path, settings) giving a data frame, settings being encoding, decimal and sheet of read_units(); NULL
# where files are written only. write: function(data, path); NULL where they are read only. reader, writer: the packages
# that do it, asked for when they are needed. prepare: function(data), what the format cannot hold as it is.
new_unit_format <- function(read = NULL, write = NULL, reader = "data.table", writer = reader,
                            prepare = plain_labels_of) {
  stopifnot(is.null(read) || is.function(read), is.null(write) || is.function(write))
  list(read = read, write = write, reader = reader, writer = writer, prepare = prepare)
}

plain_labels_of <- function(data) plain_labels(data)

delimited_format <- function(separator, writes = TRUE) {
  force(separator)
  new_unit_format(
    read = function(path, settings) read_delimited(path, separator, settings$encoding, settings$decimal),
    write = if (writes) function(data, path) {
      data.table::fwrite(defuse_formulas(data), path, sep = if (separator == "auto") "," else separator, na = "")
    }
  )
}

sheet_format <- function(writes) {
  new_unit_format(
    read = function(path, settings) {
      as.data.frame(readxl::read_excel(path, sheet = settings$sheet, .name_repair = "minimal"))
    },
    write = if (writes) function(data, path) openxlsx::write.xlsx(defuse_formulas(data), path),
    reader = "readxl", writer = "openxlsx"
  )
}

unit_formats <- list(
  csv = delimited_format("auto"),
  tsv = delimited_format("\t"),
  txt = delimited_format("auto", writes = FALSE),
  rds = new_unit_format(function(path, settings) readRDS(path), function(data, path) saveRDS(data, path), "base",
                        prepare = identity),
  parquet = new_unit_format(
    function(path, settings) as.data.frame(nanoparquet::read_parquet(path)),
    function(data, path) nanoparquet::write_parquet(data, path), "nanoparquet"
  ),
  dta = new_unit_format(
    function(path, settings) as.data.frame(haven::read_dta(path)), function(data, path) haven::write_dta(data, path),
    "haven", prepare = function(data) stata_names(data)
  ),
  sav = new_unit_format(function(path, settings) as.data.frame(haven::read_sav(path)), reader = "haven"),
  sas7bdat = new_unit_format(function(path, settings) as.data.frame(haven::read_sas(path)), reader = "haven"),
  xlsx = sheet_format(writes = TRUE),
  xls = sheet_format(writes = FALSE)
)
