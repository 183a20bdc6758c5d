rooms <- c("core", "remote", "study", "panel", "graph", "design", "assess", "effect", "did", "probe", "show", "report", "plan", "desk", "cli")
# What each room may call besides itself: CONTRIBUTING, "The rooms".
below <- list(
  # study, panel and graph are one room
  core = character(), remote = "core", study = c("graph", "remote", "core"), panel = c("study", "remote", "core"), graph = c("study", "core"),
  design = c("study", "graph", "remote", "core"), assess = c("design", "panel", "study", "remote", "core"),
  effect = c("design", "panel", "study", "remote", "core"), did = c("design", "panel", "study", "remote", "core"),
  probe = c("effect", "did", "assess", "design", "panel", "study", "core"),
  show = c("probe", "effect", "did", "assess", "design", "graph", "panel", "study", "core"),
  report = c("show", "probe", "effect", "did", "assess", "design", "graph", "panel", "study", "core")
)
below$plan <- c("report", "show")  # and public verbs, and the doors
below$desk <- "plan"
below$cli <- c("desk", "plan")
# Files of the study room that any room may use: conditions, checks, text, files, seeds, progress, logbook; and the
# registers that plans read; where rows are, for who says so.
doors <- c(paste0("study-", c("conditions", "checks", "text", "files", "seeds", "progress", "logbook"), ".R"),
           "core-estimands.R", "study-guess.R", "study-remote.R", "remote-units.R", "panel-guess.R", "probe-kinds.R", "design-verbs.R",
           "graph-change.R")

sources <- function() {
  root <- source_root()
  if (is.null(root) && !identical(Sys.getenv("CI"), "true")) skip("the source tree is not here")
  expect_false(is.null(root))
  root
}

room_of <- function(file) sub("-.*", "", basename(file))

source_files <- function(root) {
  setdiff(list.files(file.path(root, "R"), pattern = "[.]R$", full.names = TRUE),
          file.path(root, "R", c("RcppExports.R", "carefultwin-package.R")))
}

# One row per name that a file gives: name, room, file.
defined_names <- function(files) {
  do.call(rbind, lapply(files, function(file) {
    names <- vapply(parse(file), function(e) if (is.call(e) && identical(e[[1L]], quote(`<-`))) as.character(e[[2L]])[1L]
                    else NA_character_, "")
    data.frame(name = names[!is.na(names)], home = rep(room_of(file), sum(!is.na(names))),
               stands = rep(basename(file), sum(!is.na(names))))
  }))
}

# One row per call of a function of ours: file, room of the caller, name, room of the called.
calls_between_rooms <- function(root) {
  files <- source_files(root)
  parsed <- lapply(files, function(file) utils::getParseData(parse(file, keep.source = TRUE)))
  defined <- defined_names(files)
  do.call(rbind, Map(function(file, tokens) {
    used <- unique(tokens$text[tokens$token %in% c("SYMBOL_FUNCTION_CALL", "SYMBOL")])
    hit <- defined[defined$name %in% used, ]
    if (nrow(hit) == 0L) return(NULL)
    data.frame(file = basename(file), room = room_of(file), name = hit$name, home = hit$home, stands = hit$stands)
  }, files, parsed))
}

test_that("every file stands in a known room", {
  files <- list.files(file.path(sources(), "R"), pattern = "[.]R$")
  expect_gt(length(files), 20)
  expect_setequal(setdiff(room_of(files), c(rooms, "RcppExports.R", "carefultwin")), character())
})

test_that("rooms call only rooms below them; plans and the command line public verbs and the doors", {
  calls <- calls_between_rooms(sources())
  expect_gt(sum(calls$room != calls$home), 50)
  allowed <- mapply(function(room, home) home == room || home %in% below[[room]], calls$room, calls$home)
  public <- calls$name %in% getNamespaceExports("carefultwin") | calls$stands %in% doors
  allowed <- allowed | (calls$room %in% c("remote", "plan", "desk", "cli") & public)
  expect_identical(paste(calls$file, "calls", calls$name)[!allowed], character())
})

test_that("no name is given twice", {
  defined <- defined_names(source_files(sources()))
  expect_gt(nrow(defined), 1000)
  twice <- defined[defined$name %in% defined$name[duplicated(defined$name)], ]
  expect_identical(sprintf("%s gives %s", twice$stands, twice$name), character())
})

test_that("objects are made and changed through their constructors", {
  files <- list.files(file.path(sources(), "R"), pattern = "[.]R$", full.names = TRUE)
  files <- files[!room_of(files) %in% c("core", "show", "report", "RcppExports.R")]
  changed <- unlist(lapply(files, function(file) {
    lines <- sub("#.*", "", readLines(file))
    hits <- grep("^\\s*(design|effect|study|panel|arms|probe|made|judged)(\\$(?!logbook)[a-z_.]+)+(\\[\\[?[^]]*\\]?\\])? <- ", lines,
                 value = TRUE, perl = TRUE)
    if (length(hits) > 0L) paste(basename(file), trimws(hits))
  }))
  expect_identical(as.character(changed), character())
})

test_that("core computes and does not talk, plot or read roles", {
  files <- list.files(file.path(sources(), "R"), pattern = "^core-", full.names = TRUE)
  expect_gt(length(files), 5)
  text <- unlist(lapply(files, readLines))
  text <- sub("#.*", "", text)
  expect_identical(grep("cli::|ggplot2::|rlang::|\\b(print|cat|message|warning|stop|data.frame|formula)\\(", text,
                        value = TRUE), character())
})

test_that("only core calls compiled code", {
  files <- list.files(file.path(sources(), "R"), pattern = "[.]R$", full.names = TRUE)
  files <- files[!room_of(files) %in% c("core", "RcppExports.R")]
  callers <- Filter(function(file) any(grepl("\\bglue_", readLines(file))), files)
  expect_identical(basename(callers), character())
})

test_that("kernels hold no R types", {
  files <- list.files(file.path(sources(), "src", "kernels"), full.names = TRUE)
  expect_gt(length(files), 3)
  text <- unlist(lapply(files, readLines))
  expect_identical(grep("Rcpp|SEXP|R_ext|<R[.]h>|Rinternals", text, value = TRUE), character())
})

test_that("every export stands in the reference once", {
  file <- file.path(sources(), "_pkgdown.yml")
  skip_if(!file.exists(file), "a built package has no reference file")
  listed <- unlist(lapply(yaml::read_yaml(file)$reference, `[[`, "contents"))
  expect_identical(listed[duplicated(listed)], character())
  listed <- grep("^(plot|tidy)[._]|^summaries$|^imputed$|^several$", listed, value = TRUE, invert = TRUE)  # help pages of methods
  expect_setequal(setdiff(listed, c("crews", "crews_truth", "harbours", "harbours_truth", "landings", "boats", "boats_truth", "ice",
                            "ice_truth", "seasons", "seasons_truth", "cures", "cures_truth")),
                  getNamespaceExports("carefultwin"))
})

test_that("every export has a help page with an example", {
  root <- sources()
  exports <- setdiff(getNamespaceExports("carefultwin"), c("tidy", "glance", "augment"))
  expect_gt(length(exports), 15)
  pages <- lapply(list.files(file.path(root, "man"), pattern = "[.]Rd$", full.names = TRUE), readLines)
  has_page <- vapply(exports, function(name) {
    any(vapply(pages, function(page) any(page == paste0("\\alias{", name, "}")) &&
                 any(grepl("^\\\\examples\\{", page)), NA))
  }, NA)
  expect_identical(exports[!has_page], character())
})
