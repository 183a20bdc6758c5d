# Lints the R code on all cores; see tools/lint. Names, their lengths and how branched functions are is looked at once,
# for the whole package: the linters for that take longer than all others together.
known <- ".build/lint"
settings <- paste(c(readLines(".lintr"), as.character(utils::packageVersion("lintr"))), collapse = "\n")
files <- setdiff(list.files("R", "[.]R$", full.names = TRUE), "R/RcppExports.R")
mark_of <- function(file) file.path(known, rlang::hash(list(settings, basename(file), readLines(file))))
fresh <- files[!file.exists(vapply(files, mark_of, ""))]
lints <- parallel::mclapply(fresh, function(file) {
  found <- lintr::lint(file, parse_settings = TRUE)
  if (length(found) == 0L) file.create(mark_of(file))
  vapply(found, function(lint) sprintf("%s:%d %s", lint$filename, lint$line_number, lint$message), "")
}, mc.cores = max(1L, parallel::detectCores()), mc.preschedule = FALSE)
failed <- vapply(lints, inherits, NA, "try-error")

# unknown functions and variables, arguments that do not fit; locals may be used in messages alone
namespace <- loadNamespace("carefultwin")
unknown <- character()
names <- Filter(function(name) is.function(get(name, namespace)), ls(namespace))
names <- grep("^glue_|[.]__", names, value = TRUE, invert = TRUE)  # glue is registered when the package is loaded
for (name in names) {
  note <- function(text) unknown <<- c(unknown, sub("\n$", "", text))
  codetools::checkUsage(get(name, namespace), name, report = note, suppressLocalUnused = TRUE)
}
long <- names[nchar(sub("[.]twin_.*", "", names)) > 40L]
unknown <- c(unknown, sprintf("%s: its name is longer than 40 letters", long))

# decisions per function: if, loops, && and ||
for (file in files) {
  for (e in as.list(parse(file, keep.source = FALSE))) {
    if (!is.call(e) || !identical(e[[1L]], quote(`<-`)) || !is.call(e[[3L]])) next
    decisions <- sum(all.names(e[[3L]]) %in% c("if", "for", "while", "repeat", "&&", "||"))
    if (identical(e[[3L]][[1L]], quote(`function`)) && decisions > 20L) {
      unknown <- c(unknown, sprintf("%s: %s makes %d decisions, more than 20", file, deparse(e[[2L]]), decisions))
    }
  }
}

found <- c(unlist(lints[!failed]), sprintf("%s: the linter failed", fresh[failed]), unknown)
writeLines(c(found, sprintf("%d R files, %d looked at anew, %d lints", length(files), length(fresh), length(found))))
quit(status = if (length(found) > 0L) 1L else 0L)
