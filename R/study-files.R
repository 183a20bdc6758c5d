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
  table <- defuse_formulas(as.data.frame(table))
  write_whole(file, function(path) data.table::fwrite(table, path, na = na), function(path) holds_table(path, table))
}

# Lines of text, whole.
write_text <- function(lines, file) {
  lines <- enc2utf8(lines)
  write_whole(file, function(path) writeLines(lines, path, useBytes = TRUE),
              function(path) holds_lines(path, length(lines) + newlines_in(lines)))
}

# Write to a neighbour with a temporary name, see that all of it has arrived, then rename over the goal. A full disk
# cuts files without an error from those who write them. complete: function(path), is everything there? Links are
# written through, and what is protected from writing stays.
write_whole <- function(file, write, complete, call = rlang::caller_env()) {
  goal <- link_goal(file)
  folder <- dirname(goal)
  if (!dir.exists(folder)) {
    abort_file(c("Can't write {.file {file}}.", x = "There is no folder {.file {folder}}."), path = file, call = call)
  }
  check_writable(goal, file, call)
  draft <- draft_path(folder, paste0(".", tools::file_ext(file)))
  on.exit(unlink(draft))
  result <- tryCatch(suppressWarnings({
    write(draft)
    if (isTRUE(complete(draft))) file.rename(draft, goal) else "Not all of it could be written: is the disk full?"
  }), error = function(e) conditionMessage(e))
  if (isTRUE(result)) return(invisible(file))
  abort_file(c("Can't write {.file {file}}.", x = if (is.character(result)) "{result}",
               i = if (file.exists(goal)) "The file that was there is unchanged."), path = file, call = call)
}

# Where a symbolic link leads in the end; the path itself where it is none.
link_goal <- function(path) {
  for (step in 1:40) {
    to <- Sys.readlink(path)
    if (is.na(to) || !nzchar(to)) break
    path <- path_from(to, dirname(path))
  }
  path
}

# A path as it is meant in a folder: relative ones start there.
path_from <- function(path, folder) if (grepl("^(/|~|[A-Za-z]:)", path)) path else file.path(folder, path)

# Those who may do everything are held to the file's own mark too.
check_writable <- function(goal, file, call) {
  if (!file.exists(goal)) return(invisible(goal))
  marked <- bitwAnd(as.integer(file.info(goal)$mode), strtoi("222", 8L)) == 0L
  if (!marked && file.access(goal, 2L) == 0L) return(invisible(goal))
  abort_file(c("Can't write {.file {file}}.", x = "It is protected from writing.",
               i = "Take the protection away, or choose another name."), path = file, call = call)
}

# A name of its own in the folder, which says who is writing, so that what a killed process left can be told.
draft_path <- function(folder, ending = "") tempfile(sprintf(".twin-%d-", Sys.getpid()), folder, ending)

# Drafts in a folder whose process is gone.
clear_stale_drafts <- function(folder) {
  drafts <- list.files(folder, "^[.]twin-[0-9]+-[0-9a-f]+", all.files = TRUE, full.names = TRUE)
  owner <- as.integer(sub("^[.]twin-([0-9]+)-.*$", "\\1", basename(drafts)))
  alive <- vapply(owner, function(pid) isTRUE(tools::pskill(pid, 0L)), NA)
  unlink(drafts[!alive], recursive = TRUE)
}

# Does a text file have all lines of a table: its header, its rows, and the breaks within cells?
holds_table <- function(path, table) {
  text <- Filter(is.character, as.list(table))
  holds_lines(path, nrow(table) + 1 + newlines_in(names(table)) + sum(vapply(text, newlines_in, 0)))
}

newlines_in <- function(text) {
  text <- text[grepl("\n", text, fixed = TRUE, useBytes = TRUE)]
  sum(as.double(lengths(gregexpr("\n", text, fixed = TRUE, useBytes = TRUE))))
}

# Is it of so many lines, the last one ended?
holds_lines <- function(path, count) {
  found <- count_bytes(path, as.raw(10L))
  found$count == count && identical(found$last, as.raw(10L))
}

# How often a byte is in a file, the file's last byte, and the line of the first find.
count_bytes <- function(path, byte) {
  file <- file(path, "rb")
  on.exit(close(file))
  out <- list(count = 0, last = raw(), line = NA_real_)
  lines <- 0
  repeat {
    part <- readBin(file, "raw", min(2^22, file.size(path)))
    if (length(part) == 0L) return(out)
    here <- part == byte
    if (is.na(out$line) && any(here)) out$line <- lines + sum(part[seq_len(which(here)[1L])] == as.raw(10L)) + 1
    lines <- lines + sum(part == as.raw(10L))
    out$count <- out$count + sum(here)
    out$last <- part[length(part)]
  }
}

# Both change places in one step where the system can; else the old one steps aside for a moment.
put_in_place <- function(draft, goal) {
  if (!dir.exists(goal)) {
    if (file.rename(draft, goal)) return(invisible(goal))
  } else if (core_exchange_paths(draft, goal)) {
    return(invisible(goal))
  } else {
    aside <- draft_path(dirname(goal))
    if (file.rename(goal, aside)) {
      if (file.rename(draft, goal)) {
        unlink(aside, recursive = TRUE)
        return(invisible(goal))
      }
      file.rename(aside, goal)
    }
  }
  abort_file(c("Can't write to {.file {goal}}.", i = "The results that were there are unchanged."), path = goal,
             call = NULL)
}

# Can reading the file run code?
runs_code <- function(path) isTRUE(unit_formats[[tolower(tools::file_ext(path))]]$runs_code)

# Within quotes a quote is written twice.
single_quotes <- function(data) {
  once <- function(text) gsub("\"\"", "\"", text, fixed = TRUE)
  data[] <- lapply(data, function(x) if (is.character(x)) once(x) else x)
  names(data) <- once(names(data))
  data
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

make_folder <- function(folder) {
  if (dir.exists(folder)) return(invisible(folder))
  if (!suppressWarnings(dir.create(folder, recursive = TRUE))) {
    abort_file(c("Can't make the folder {.file {folder}}.", i = "Is there a file in its way, or no right to write?"),
               path = folder, call = NULL)
  }
}
