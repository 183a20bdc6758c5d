# The logbook belongs to the study and is shared by all designs and effects made from it: an environment, so that a
# step taken anywhere is seen everywhere.

new_logbook <- function() {
  book <- new.env(parent = emptyenv())
  book$entries <- list()
  book
}

# design: hash of the recipe, NA for steps that make no comparison. Running the same recipe again is the same design.
log_step <- function(study, verb, what, counts = "", settings = list(), seed = NA_integer_, worst = NA_real_,
                     design = NA_character_) {
  if (is.null(study$logbook)) return(invisible(study))  # a replicate
  settings <- settings[!vapply(settings, is.null, NA)]
  entry <- logbook_columns(
    step = length(study$logbook$entries) + 1L, verb = verb, what = what, counts = counts,
    settings = paste(names(settings), vapply(settings, format_setting, ""), sep = " = ", collapse = ", "),
    seed = as.integer(seed), worst_smd = worst, design = design
  )
  study$logbook$entries[[entry$step]] <- entry
  invisible(study)
}

# A look at something that is there: told once, however often it is taken.
log_once <- function(study, verb, what, counts = "", settings = list(), worst = NA_real_) {
  same <- function(entry) entry$verb == verb && entry$what == what && entry$counts == counts
  if (any(vapply(study$logbook$entries, same, NA))) return(invisible(study))
  log_step(study, verb, what, counts, settings, worst = worst)
}

logbook_columns <- function(step = integer(), verb = character(), what = character(), counts = character(),
                            settings = character(), seed = integer(), worst_smd = double(), design = character()) {
  data.frame(
    step = step, time = rep(format(Sys.time(), "%Y-%m-%d %H:%M:%S"), length(step)), verb = verb, what = what,
    counts = counts, settings = settings, seed = seed, worst_smd = worst_smd, design = design
  )
}

# Puts the steps of earlier sessions (a data frame as as.data.frame() of a logbook gives it) before those of this one.
resume_logbook <- function(study, entries) {
  if (is.null(entries)) return(invisible(study))
  entries[c("counts", "settings")][is.na(entries[c("counts", "settings")])] <- ""
  earlier <- lapply(seq_len(nrow(entries)), function(i) entries[i, ])
  all <- c(earlier, study$logbook$entries)
  study$logbook$entries <- lapply(seq_along(all), function(i) {
    all[[i]]$step <- i
    all[[i]]
  })
  invisible(study)
}

# The study goes on in another study's logbook, with its own steps behind those that stand there.
share_logbook <- function(study, book) {
  if (is_imputed(study)) {
    return(new_imputed(c(lapply(study$sets[1L], share_logbook, book), study$sets[-1L])))
  }
  if (inherits(study, c("twin_arms", "twin_dose", "twin_course"))) return(amend(study, base = share_logbook(study$base,
                                                                                                            book)))
  for (entry in study$logbook$entries) {
    entry$step <- length(book$entries) + 1L
    book$entries <- c(book$entries, list(entry))
  }
  amend(study, logbook = book)
}

format_setting <- function(value) {
  if (rlang::is_formula(value)) return(deparse1(value))
  paste(format(value, digits = 6), collapse = " ")
}

#' Read the logbook of a study
#'
#' Every study keeps a logbook: each design step with its counts, settings, seed and worst imbalance, and the moment
#' the outcome was first opened. All designs and effects made from one study share it.
#'
#' @param x A study, panel, design or effect.
#' @return An object of class `twin_logbook`. `as.data.frame()` gives one row per step with the columns `step`,
#'   `time`, `verb`, `what`, `counts`, `settings`, `seed`, `worst_smd` (largest absolute standardized mean difference
#'   after the step, NA where the step makes no comparison) and `design` (hash of the recipe; equal recipes have equal
#'   hashes). `summary()` gives `opened` (time the outcome was first opened, NA when it is still sealed), and the
#'   number of different designs `before` and `after` that moment.
#' @family design
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + port_size)
#' design <- study |> score_units() |> pair_units(caliper = 0.2)
#' logbook(design)
#' @export
logbook <- function(x) {
  check_class(x, c("twin_study", "twin_panel", "twin_design", "twin_effect", "twin_effects", "twin_imputed",
                   "twin_arms", "twin_dose", "twin_response", "twin_course", "twin_course_effect"),
              c("frame_study", "frame_panel", "score_units", "measure_effect"))
  entries <- do.call(rbind, study_of(x)$logbook$entries)
  structure(list(entries = entries), class = "twin_logbook")
}

#' @export
as.data.frame.twin_logbook <- function(x, ...) x$entries

#' @export
summary.twin_logbook <- function(object, ...) {
  entries <- object$entries
  opening <- which(entries$verb == "open")
  is_design <- !is.na(entries$design)
  before <- if (length(opening) == 0L) is_design else is_design & entries$step < opening[1L]
  earlier <- unique(entries$design[before])
  structure(list(
    opened = if (length(opening) == 0L) NA_character_ else entries$time[opening[1L]],
    before = length(earlier),
    after = length(setdiff(unique(entries$design[is_design & !before]), earlier))
  ), class = "twin_seal")
}

# The study behind any object of ours.
study_of <- function(x) UseMethod("study_of")

#' @exportS3Method
study_of.twin_study <- function(x) x
