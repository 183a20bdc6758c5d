# Builds the site (see tools/site) and checks its links.
options(pkgdown.internet = FALSE)
Sys.setenv(TZ = "UTC")
source <- normalizePath(".build/site-source")
site <- file.path(normalizePath(".build"), "site")
package <- pkgdown::as_pkgdown(source, override = list(destination = site, url = NULL))
pkgdown::init_site(package)
pkgdown::build_home(package, preview = FALSE)
pkgdown::build_reference(package, lazy = FALSE, preview = FALSE, examples = FALSE)
pkgdown::build_articles(package, lazy = FALSE, preview = FALSE)
pkgdown::build_news(package, preview = FALSE)
dir.create(file.path(site, "docs"), showWarnings = FALSE)
invisible(file.copy(file.path(source, "docs", "screenshots"), file.path(site, "docs"), recursive = TRUE))

# Help pages link to where vignettes stand in an installed package; the README to its source files.
pages <- list.files(site, "[.]html$", recursive = TRUE, full.names = TRUE)
# Scripts and styles come from where the system keeps them: they are copied into the site, maths is not needed.
shared <- "file:///usr/share/javascript/"
bring <- function(text, page) {
  text <- text[!grepl("mathjax", text, ignore.case = TRUE)]
  files <- unique(unlist(regmatches(text, gregexpr(paste0(shared, "[^\"]+"), text))))
  up <- strrep("../", lengths(strsplit(sub(paste0(site, "/"), "", page, fixed = TRUE), "/")) - 1L)
  for (file in files) {
    path <- sub(shared, "", file, fixed = TRUE)
    goal <- file.path(site, "deps", path)
    dir.create(dirname(goal), recursive = TRUE, showWarnings = FALSE)
    found <- file.exists(goal) || file.copy(sub("file://", "", file, fixed = TRUE), goal)
    if (found) text <- gsub(file, paste0(up, "deps/", path), text, fixed = TRUE) else
      text <- text[!grepl(file, text, fixed = TRUE)]
  }
  # the system's copy is not the very file whose hash the page states, and a browser would refuse it
  own <- grepl("\"[./]*deps/", text)
  text[own] <- gsub(" (integrity|crossorigin)=\"[^\"]*\"", "", text[own])
  text
}
for (page in pages) {
  text <- bring(readLines(page, warn = FALSE), page)
  text <- gsub("../doc/methods.html", "../articles/methods.html", text, fixed = TRUE)
  text <- gsub("vignettes/([a-z-]+)[.]Rmd", "articles/\\1.html", text)
  writeLines(text, page)
}

# The bar that hides while one scrolls is a script from the network; without it the line would stop all that follow,
# of which one keeps the title out from under the bar.
script <- file.path(site, "pkgdown.js")
writeLines(grep("headroom()", readLines(script), fixed = TRUE, value = TRUE, invert = TRUE), script)

# Every link and picture within the site, page by page.
links_of <- function(page) {
  text <- paste(readLines(page, warn = FALSE), collapse = "\n")
  found <- unlist(regmatches(text, gregexpr("(href|src)=\"[^\"]*\"", text)))
  found <- sub("^(href|src)=\"", "", sub("\"$", "", found))
  found <- utils::URLdecode(sub("[?#].*", "", found))
  unique(found[nzchar(found) & !grepl("^(https?:|mailto:|data:|//|#|javascript:)", found)])
}
broken <- unlist(lapply(pages, function(page) {
  links <- links_of(page)
  there <- file.exists(file.path(dirname(page), links))
  sprintf("%s: %s", sub(paste0(site, "/"), "", page, fixed = TRUE), links[!there])
}))
# files of the repository that a site has no page for
broken <- broken[!grepl(": (validation/|inst/|LICENSE|CONTRIBUTING|.*authors[.]html|.*[.]md$)", broken)]
writeLines(c(sprintf("%d pages, %d broken links", length(pages), length(broken)), broken))
quit(status = if (length(broken) > 0L || length(pages) < 60L) 1L else 0L)
