documents_root <- function() {
  root <- source_root()
  if (is.null(root) || !file.exists(file.path(root, "tools", "readme.R"))) skip("the source tree is not here")
  root
}

readme_tools <- function() {
  env <- new.env()
  sys.source(file.path(documents_root(), "tools", "readme.R"), env)
  env
}

test_that("the README shows what its code prints", {
  withr::local_options(width = 80, cli.num_colors = 1L)
  lines <- readLines(file.path(documents_root(), "README.md"))
  expect_gte(sum(lines == "```text"), 1)
  expect_identical(readme_tools()$run_readme(lines), lines)
})

# Files that a text links to and that are not there. Rmd pages link to each other as they will be called when built.
dangling <- function(file) {
  text <- paste(readLines(file), collapse = "\n")
  links <- unlist(regmatches(text, gregexpr("\\]\\(([^)#]+)[^)]*\\)", text)))
  links <- sub("#.*", "", gsub("^\\]\\(|\\)$", "", links))
  links <- links[!grepl("^(https?|mailto):", links)]
  built <- sub("[.]html$", ".Rmd", links)
  links[!file.exists(file.path(dirname(file), built))]
}

test_that("links of the README, CONTRIBUTING and the articles lead somewhere", {
  root <- documents_root()
  files <- c(file.path(root, c("README.md", "CONTRIBUTING.md", "NEWS.md")),
             list.files(file.path(root, "vignettes"), "[.]Rmd$", full.names = TRUE))
  expect_gt(length(files), 8)
  broken <- unlist(lapply(files, function(file) sprintf("%s: %s", basename(file), dangling(file))))
  expect_identical(as.character(broken), character())
})

test_that("every section of Methods that code or help pages name is there", {
  root <- documents_root()
  methods <- readLines(file.path(root, "vignettes", "methods.Rmd"))
  sections <- sub("^## ", "", grep("^## ", methods, value = TRUE))
  expect_gt(length(sections), 10)
  files <- unlist(lapply(c("R", "src", "tests", "validation", "bench"), function(folder) {
    list.files(file.path(root, folder), "[.](R|h|inc|cpp)$", full.names = TRUE, recursive = TRUE)
  }))
  named <- unlist(lapply(files, function(file) {
    text <- gsub("\n\\s*(#'?|//) ?", " ", paste(readLines(file), collapse = "\n"))  # references may wrap
    lists <- unlist(regmatches(text, gregexpr("Methods, \"[^\"]+\"(, \"[^\"]+\")*", text)))
    unlist(regmatches(lists, gregexpr("\"[^\"]+\"", lists)))
  }))
  named <- gsub("\"", "", named)
  expect_gt(length(named), 50)
  expect_identical(setdiff(named, sections), character())
  anchors <- gsub("(^-|-$)", "", gsub("[^a-z0-9]+", "-", tolower(sections)))
  pages <- unlist(lapply(list.files(file.path(root, "man"), full.names = TRUE), readLines))
  linked <- unlist(regmatches(pages, gregexpr("doc/methods[.]html[#]?\\\\?#([a-z-]+)", pages)))
  linked <- sub(".*#", "", linked)
  expect_gte(length(linked), 10)
  expect_identical(setdiff(linked, anchors), character())
})

test_that("pictures that the README shows are there", {
  root <- documents_root()
  lines <- readLines(file.path(root, "README.md"))
  shown <- unlist(regmatches(lines, gregexpr("docs/screenshots/[a-z-]+[.]png", lines)))
  expect_gte(length(shown), 1)
  expect_identical(shown[!file.exists(file.path(root, shown))], character())
  # the index of the pictures has every one, and no other
  folder <- file.path(root, "docs", "screenshots")
  index <- readLines(file.path(folder, "README.md"))
  listed <- gsub("[()]", "", unlist(regmatches(index, gregexpr("\\([a-z-]+[.]png\\)", index))))
  expect_setequal(listed, list.files(folder, "[.]png$"))
})

test_that("the drawing of the rooms in CONTRIBUTING is that of the code", {
  root <- documents_root()
  env <- new.env()
  sys.source(file.path(root, "tools", "rooms.R"), env)
  lines <- readLines(file.path(root, "CONTRIBUTING.md"))
  expect_identical(env$with_drawing(lines, env$draw_rooms(file.path(root, "R"))), lines)
})
