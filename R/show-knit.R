# In documents of knitr results print as tables: LaTeX, HTML, or Markdown that becomes a table in Word.

#' Results in documents
#'
#' In R Markdown and Quarto documents a result at the end of a chunk is a table in the document's own form: LaTeX with
#' booktabs, HTML, or a table in Word. `print(x)` shows the text of the console there too, and
#' `options(carefultwin.knit = "text")` makes that the rule for all.
#'
#' @param x A result that [export_table()] takes.
#' @param options Chunk options: in LaTeX the chunk's name is the table's label (`tab:name`), `tab.cap` its caption.
#' @param ... Not used.
#' @return What knitr shows.
#' @family out
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income", covariates = ~ boat_length)
#' cat(knit_result(describe_groups(study), list(label = "groups")))
#' @name knit_result
#' @rawNamespace S3method(knitr::knit_print, twin_groups, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_balance, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_weights, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_arms_balance, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_arms_overlap, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_responses, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_calibration, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_scores, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_effect, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_effects, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_comparison, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_probe, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_trends, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_power, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_variation, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_dids, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_composition, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_decomposition, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_response, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_course_effect, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_course_balance, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_dose_balance, knit_result)
#' @rawNamespace S3method(knitr::knit_print, twin_checklist, knit_result)
#' @export
knit_result <- function(x, options = list(), ...) { # nolint: undesirable_function_linter. knitr's own name.
  chunk <- options # nolint: undesirable_function_linter.
  check_exported(x, "rows")
  if (!is.list(chunk)) abort_input("{.arg options} must be the list that knitr gives.")
  need_package("knitr", "knit documents")
  if (identical(getOption("carefultwin.knit"), "text")) return(knitr::normal_print(x))
  parts <- table_parts(x)
  if (rlang::is_string(chunk$tab.cap)) parts$caption <- chunk$tab.cap
  parts$latex <- list(label = if (rlang::is_string(chunk$label)) paste0("tab:", chunk$label))
  styled <- function() {
    c(sprintf("<style>%s</style>", paste(table_style, collapse = " ")),
      as.character(table_tag(parts$table, parts$caption, parts$note)))
  }
  lines <- if (knitr::is_latex_output()) latex_table(parts) else if (knitr::is_html_output()) styled() else
    markdown_table(parts)
  packages <- if (knitr::is_latex_output()) lapply(c("booktabs", "graphicx", "longtable"), function(name) {
    structure(list(name = name, options = NULL, extra_lines = NULL), class = "latex_dependency")
  })
  knitr::asis_output(paste0("\n\n", paste(lines, collapse = "\n"), "\n\n"), meta = packages)
}
