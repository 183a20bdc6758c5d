# Draws the rooms of the package from its code: which room calls which. CONTRIBUTING.md holds the drawing between two
# marks; `make docs` renews it and a test checks that it is that of the code.

# One row per function of ours that a file names: room of the file, room where the function stands.
room_calls <- function(folder) {
  files <- setdiff(list.files(folder, "[.]R$", full.names = TRUE),
                   file.path(folder, c("RcppExports.R", "carefultwin-package.R")))
  room <- sub("-.*", "", basename(files))
  tokens <- lapply(files, function(file) utils::getParseData(parse(file, keep.source = TRUE)))
  defined <- Map(function(file) {
    vapply(parse(file), function(e) {
      if (is.call(e) && identical(e[[1L]], quote(`<-`))) as.character(e[[2L]])[1L] else ""
    }, "")
  }, files)
  home <- stats::setNames(rep(room, lengths(defined)), unlist(defined))
  calls <- Map(function(token, own) {
    used <- unique(token$text[token$token %in% c("SYMBOL_FUNCTION_CALL", "SYMBOL")])
    used <- used[used %in% names(home)]
    if (length(used) > 0L) data.frame(room = own, home = unname(home[used]))
  }, tokens, room)
  do.call(rbind, calls)
}

# Lines of text: a room, its size, and the rooms it calls, from the top down.
draw_rooms <- function(folder) {
  calls <- room_calls(folder)
  size <- table(sub("-.*", "", setdiff(list.files(folder, "[.]R$"), c("RcppExports.R", "carefultwin-package.R"))))
  order <- c("cli", "desk", "plan", "report", "show", "probe", "effect", "did", "assess", "design", "panel", "study",
             "graph", "core")
  order <- c(order[order %in% names(size)], setdiff(names(size), order))
  below <- function(room) {
    called <- unique(calls$home[calls$room == room & calls$home != room])
    paste(order[order %in% called], collapse = ", ")
  }
  c(sprintf("%-7s %2d files  calls %s", order, as.integer(size[order]), vapply(order, below, "")),
    sprintf("%-7s %2d files  glue and kernels, called by core alone", "src",
            length(list.files(file.path(dirname(folder), "src"), "[.](h|inc|cpp)$", recursive = TRUE)) - 1L))
}

with_drawing <- function(lines, drawing) {
  drawing <- sub(" calls $", "", drawing)
  from <- which(lines == "<!-- rooms -->")
  to <- which(lines == "<!-- end of rooms -->")
  stopifnot(length(from) == 1L, length(to) == 1L)
  wrapped <- unlist(lapply(drawing, function(line) {
    if (nchar(line) <= 118L) line else strwrap(line, 118L, exdent = 24L)
  }))
  c(lines[seq_len(from)], "```text", wrapped, "```", lines[to:length(lines)])
}

if (!interactive() && sys.nframe() == 0L) {
  file <- "CONTRIBUTING.md"
  writeLines(with_drawing(readLines(file), draw_rooms("R")), file)
}
