# The fixtures of the tests, and what these files share.
for (file in list.files(file.path("..", "testthat"), "^helper-", full.names = TRUE)) source(file, local = TRUE)

effect_numbers <- function(effect) c(difference_of(effect), sqrt(vcov(effect)["difference", "difference"]))

few <- function(panel, ...) suppressWarnings(measure_did(panel, estimator = "two_way", ...))

# lapply over two processes where the system can fork; an error in one of them is an error here.
on_two_cores <- function(x, f) {
  out <- parallel::mclapply(x, f, mc.cores = if (.Platform$OS.type == "unix") 2L else 1L, mc.preschedule = FALSE)
  failed <- vapply(out, inherits, NA, "try-error")
  if (any(failed)) stop(out[[which(failed)[1]]])
  out
}

# A file of the whole study, and what a script of it defines.
validation_file <- function(name) {
  root <- source_root()
  file <- file.path(if (is.null(root)) "." else root, "validation", name)
  skip_if(!file.exists(file), "the source tree is not here")
  file
}

validation_code <- function(name) {
  env <- new.env(parent = asNamespace("carefultwin"))
  sys.source(validation_file(name), env)
  env
}
