# Which estimators a design has room for: data frame of estimator, words, and the reason why not (NA where it fits).
estimator_choices <- function(design) {
  design <- first_set(design)
  if (is_dose(design) || is_course(design)) return(data.frame(estimator = character(), words = character()))
  if (is_arms(design)) design <- contrasts_of(design)[[1L]]
  rlang::local_options(cli.width = 10000L)  # a reason is a line, whatever the window
  known <- Filter(function(entry) entry$verb == "measure_effect", estimators)
  reasons <- vapply(names(known), function(name) {
    asked <- list(estimator = name, family = "gaussian")
    tryCatch({
      suppressWarnings(known[[name]]$check(design, asked, NULL))
      NA_character_
    }, twin_error = function(e) sub("\n.*", "", cli::ansi_strip(conditionMessage(e))))
  }, "")
  data.frame(estimator = names(known), words = vapply(known, `[[`, "", "words"), reason = unname(reasons),
             row.names = NULL)
}

# Estimators over time that need nothing but a panel, one with doses perhaps, by their words; those of them that give
# one number alone.
path_estimators <- function(doses = FALSE) {
  known <- setdiff(names(did_estimators), c("triple", if (!doses) "dose"))
  stats::setNames(known, vapply(did_estimators[known], `[[`, "", "words"))
}

single_number_estimators <- function() names(Filter(function(entry) !is.null(entry$mean), did_estimators))
