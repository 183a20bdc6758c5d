# Tables in LaTeX: booktabs, notes as wide as the table, shrunk to the page where they are wider, over several pages
# where they are longer. Nothing is needed beyond packages that every distribution has.

page_rows <- 40L  # more than this do not fit on a page

# parts$latex: list(label, placement, orientation), each NULL for the default.
latex_table <- function(parts) {
  how <- parts$latex
  long <- nrow(parts$table) > page_rows
  wide <- identical(how$orientation, "landscape")
  label <- sprintf("\\label{%s}", if (is.null(how$label)) "tab:result" else how$label)
  body <- if (long) long_lines(parts, label) else float_lines(parts, label, how$placement)
  packages <- c("booktabs", if (long) "longtable" else "graphicx", if (wide) "lscape")
  c(paste("% needs", paste(sprintf("\\usepackage{%s}", packages), collapse = " ")),
    if (wide) "\\begin{landscape}", body, if (wide) "\\end{landscape}")
}

latex_rows <- function(table) {
  cells <- vapply(table, function(column) latex_numbers(latex_text(column)), character(nrow(table)))
  paste0(apply(matrix(cells, nrow = nrow(table)), 1L, paste, collapse = " & "), " \\\\")
}

latex_head <- function(table) {
  c("\\toprule", paste0(paste(latex_text(names(table)), collapse = " & "), " \\\\"), "\\midrule")
}

latex_columns <- function(table) paste0("l", strrep("r", ncol(table) - 1L))

# The table is set in a box first, so that its width is known to the note, and to the page.
float_lines <- function(parts, label, placement) {
  if (is.null(placement)) placement <- "htbp"
  c(
    sprintf("\\begin{table}[%s]", placement), "\\centering",
    sprintf("\\caption{%s}%s", latex_text(parts$caption), label),
    "\\sbox0{%", sprintf("\\begin{tabular}{%s}", latex_columns(parts$table)), latex_head(parts$table),
    latex_rows(parts$table), "\\bottomrule", "\\end{tabular}}%",
    "\\ifdim\\wd0>\\linewidth\\resizebox{\\linewidth}{!}{\\usebox0}\\else\\usebox0\\fi",
    if (has_note(parts)) {
      c("", "\\smallskip",
        "\\ifdim\\wd0>\\linewidth\\dimen0=\\linewidth\\else\\dimen0=\\wd0\\fi",
        "\\ifdim\\dimen0<0.5\\linewidth\\dimen0=0.5\\linewidth\\fi",
        sprintf("\\begin{minipage}{\\dimen0}\\footnotesize %s\\end{minipage}", latex_text(parts$note)))
    },
    "\\end{table}"
  )
}

has_note <- function(parts) length(parts$note) > 0L && any(nzchar(parts$note))

# Tables of more than a page can't be put in a box: their type is the smaller the more letters a line has.
long_lines <- function(parts, label) {
  table <- parts$table
  letters <- sum(pmax(vapply(table, function(column) max(nchar(column)), 0L), nchar(names(table)))) + 2L * ncol(table)
  size <- if (letters <= 75L) "\\small" else if (letters <= 95L) "\\footnotesize" else "\\scriptsize"
  width <- ncol(table)
  c(
    "\\begingroup", size, if (letters > 95L) "\\setlength{\\tabcolsep}{2.5pt}",
    sprintf("\\begin{longtable}{%s}", latex_columns(table)),
    sprintf("\\caption{%s}%s \\\\", latex_text(parts$caption), label), latex_head(table), "\\endfirsthead",
    sprintf("\\multicolumn{%d}{l}{\\emph{continued}} \\\\", width), latex_head(table), "\\endhead",
    "\\midrule", "\\endfoot", "\\bottomrule", "\\endlastfoot", latex_rows(table), "\\end{longtable}",
    "\\endgroup",
    if (has_note(parts)) sprintf("\\noindent{\\footnotesize %s\\par}", latex_text(parts$note))
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
