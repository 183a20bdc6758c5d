# Lints the R code on all cores; see tools/lint. object_usage_linter reads the installed package.
known <- ".build/lint"
settings <- paste(c(readLines(".lintr"), as.character(utils::packageVersion("lintr"))), collapse = "\n")
files <- setdiff(list.files("R", "[.]R$", full.names = TRUE), "R/RcppExports.R")
# what a file uses may change in others: names defined anywhere count as part of each file's content
names <- unlist(lapply(files, function(file) grep("^[a-z_.]+ <- ", readLines(file), value = TRUE)))
names <- sort(sub(" <- .*", "", names))
mark_of <- function(file) {
  file.path(known, rlang::hash(list(settings, basename(file), readLines(file), names)))
}
fresh <- files[!file.exists(vapply(files, mark_of, ""))]
lints <- parallel::mclapply(fresh, function(file) {
  found <- lintr::lint(file, parse_settings = TRUE)
  if (length(found) == 0L) file.create(mark_of(file))
  vapply(found, function(lint) sprintf("%s:%d %s", lint$filename, lint$line_number, lint$message), "")
}, mc.cores = max(1L, parallel::detectCores()), mc.preschedule = FALSE)
failed <- vapply(lints, inherits, NA, "try-error")
found <- c(unlist(lints[!failed]), sprintf("%s: the linter failed", fresh[failed]))
writeLines(c(found, sprintf("%d R files, %d looked at anew, %d lints", length(files), length(fresh), length(found))))
quit(status = if (length(found) > 0L) 1L else 0L)
