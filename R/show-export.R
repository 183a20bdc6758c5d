#' Write a table for the paper
#'
#' Writes groups, balance, an effect or a comparison to a file: `.csv` holds the numbers of `tidy()` at full precision,
#' `.tex` a booktabs table with rounded numbers and a note that says what they are and which way differences go. In a
#' csv, text that a spreadsheet would run as a formula gets a leading apostrophe. The file is written under a temporary
#' name and renamed, so that a failure leaves nothing half-written.
#'
#' @param x A `twin_groups`, `twin_balance`, `twin_effect`, `twin_comparison` or `twin_probe`.
#' @param file Path ending in `.csv` or `.tex`, in a folder that exists.
#' @param caption Caption of the LaTeX table; made from `x` by default.
#' @return `file`, invisibly.
#' @section Errors: `twin_error_file` when the folder is missing or can't be written to, or for another ending.
#' @family out
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + port_size)
#' file <- tempfile(fileext = ".tex")
#' export_table(describe_groups(study), file)
#' cat(readLines(file), sep = "\n")
#' @export
export_table <- function(x, file, caption = NULL) {
  kinds <- c("twin_groups", "twin_balance", "twin_effect", "twin_comparison", "twin_probe")
  check_class(x, kinds, c("describe_groups", "assess_balance", "measure_effect", "compare_effects", "probe_pairs"))
  check_string(file)
  check_string(caption, null = TRUE)
  kind <- tolower(tools::file_ext(file))
  if (kind == "csv") {
    write_whole(file, function(path) data.table::fwrite(defuse_formulas(generics::tidy(x)), path, na = ""))
  } else if (kind == "tex") {
    lines <- latex_table(table_parts(x), caption)
    write_whole(file, function(path) writeLines(enc2utf8(lines), path, useBytes = TRUE))
  } else {
    abort_file(c("Can't write {.file {file}}.", x = "The name must end in .csv or .tex."), path = file)
  }
  invisible(file)
}

# list(table = strings, caption, note, left): what a rendered table of x holds.
table_parts <- function(x) UseMethod("table_parts")

#' @exportS3Method
table_parts.twin_groups <- function(x) {
  rows <- x$rows
  numeric <- rows$kind %in% c("numeric", "date")
  number <- function(values) ifelse(numeric, value_text(values, rows$kind), share_text(values))
  table <- data.frame(
    Covariate = labelled_rows(rows, x$labels), Treated = number(rows$mean_treated),
    `sd treated` = ifelse(numeric, number_text(rows$sd_treated), ""), Control = number(rows$mean_control),
    `sd control` = ifelse(numeric, number_text(rows$sd_control), ""), Difference = number_text(rows$difference),
    SE = number_text(rows$std.error), SMD = number_text(rows$smd), check.names = FALSE
  )
  list(table = table, caption = sprintf("Treated and control units by %s", x$treatment), note = paste0(
    sprintf("Treated: %s is %s (%s units); control: %s (%s units). ", x$treatment, x$levels[["treated"]],
            count_text(x$counts[["treated"]]), x$levels[["control"]], count_text(x$counts[["control"]])),
    sprintf("Means, or shares of levels%s. Difference is treated minus control; SMD divides it by the %s.",
            if (x$weighted) ", with sampling weights" else "", reference_words[[x$reference]])
  ))
}

#' @exportS3Method
table_parts.twin_balance <- function(x) {
  table <- balance_table(x, width = Inf)
  table$Covariate <- labelled_rows(x$rows[x$rows$sample == "before", ], x$labels)
  list(table = table, caption = sprintf("Balance: %s", x$design), note = paste(verdict_text(x), balance_note(x)))
}

#' @exportS3Method
table_parts.twin_effect <- function(x) {
  list(table = effect_table(x), caption = sprintf("Effect of %s on %s", x$study$roles$treatment, outcome_phrase(x)),
       note = paste0(effect_sentence(x), " Difference is treated minus control. Standard errors: ", x$inference, "."))
}

#' @exportS3Method
table_parts.twin_comparison <- function(x) {
  first <- x$effects[[1L]]
  list(
    table = comparison_table(x, width = Inf), caption = comparison_title(x),
    note = paste(c(sprintf("The %s, treated (%s) against control (%s).", term_words[[x$term]],
                           first$study$levels[["treated"]], first$study$levels[["control"]]),
                   comparison_sentences(x)), collapse = " ")
  )
}

#' @exportS3Method
table_parts.twin_probe_pairs <- function(x) {
  lines <- x$rows
  table <- data.frame(Gamma = format(lines$gamma), `least p` = p_text(lines$p_low),
                      `greatest p` = p_text(lines$p_high), check.names = FALSE)
  if (x$facts$form == "signed_rank") {
    table$`shift estimate` <- interval_text(lines$estimate_low, lines$estimate_high)
    table$limits <- interval_text(lines$conf_low, lines$conf_high)
  }
  list(table = table, caption = paste("Hidden bias in pairs:", test_text(x$facts)), note = probe_verdict(x))
}

#' @exportS3Method
table_parts.twin_probe_ratio <- function(x) {
  table <- data.frame(Quantity = x$rows$quantity, value = number_text(x$rows$value),
                      `as risk ratio` = number_text(x$rows$risk_ratio), `E-value` = number_text(x$rows$e_value),
                      check.names = FALSE)
  names(table)[2L] <- scale_words[[x$facts$scale]]
  list(table = table, caption = "Hidden bias on the ratio scale", note = probe_verdict(x))
}

latex_table <- function(parts, caption) {
  table <- parts$table
  cells <- vapply(table, function(column) latex_numbers(latex_text(column)), character(nrow(table)))
  cells <- matrix(cells, nrow = nrow(table))
  rows <- paste0(apply(cells, 1L, paste, collapse = " & "), " \\\\")
  width <- ncol(table)
  c(
    "\\begin{table}", "\\centering",
    sprintf("\\caption{%s}", latex_text(if (is.null(caption)) parts$caption else caption)),
    sprintf("\\begin{tabular}{l%s}", strrep("r", width - 1L)), "\\toprule",
    paste0(paste(latex_text(names(table)), collapse = " & "), " \\\\"), "\\midrule", rows, "\\bottomrule",
    sprintf("\\multicolumn{%d}{p{0.9\\linewidth}}{\\footnotesize %s} \\\\", width, latex_text(parts$note)),
    "\\end{tabular}", "\\end{table}"
  )
}

latex_text <- function(text) {
  text <- gsub("\\", "\001", text, fixed = TRUE)  # a mark of its own until the braces are done
  text <- gsub("([#$%&_{}])", "\\\\\\1", text)
  text <- gsub("\001", "\\textbackslash{}", text, fixed = TRUE)
  text <- gsub("~", "\\textasciitilde{}", text, fixed = TRUE)
  text <- gsub("^", "\\textasciicircum{}", text, fixed = TRUE)
  text <- gsub("\"([^\"]*)\"", "``\\1''", text)
  gsub("|", "\\textbar{}", gsub(">", "\\textgreater{}", gsub("<", "\\textless{}", text, fixed = TRUE), fixed = TRUE),
       fixed = TRUE)
}

# A hyphen before a digit is a minus sign.
latex_numbers <- function(text) gsub("(^|[ (])-([0-9])", "\\1$-$\\2", text)
