# The register of files that hold a table, by ending. One entry each; adding one is adding its entry here, with its
# computation.

# lines: function(parts) giving the text of a rendered table, parts being those of table_parts(); or numbers:
# function(x, file) that writes the numbers of tidy() at full precision, package: what it needs for that.
new_table_format <- function(lines = NULL, numbers = NULL, package = "data.table") {
  stopifnot(is.function(lines) || is.function(numbers))
  list(lines = lines, numbers = numbers, package = package)
}

table_formats <- list(
  tex = new_table_format(function(parts) latex_table(parts)),
  html = new_table_format(function(parts) html_lines(parts)),
  md = new_table_format(function(parts) markdown_table(parts)),
  csv = new_table_format(numbers = function(x, file) write_csv(generics::tidy(x), file)),
  xlsx = new_table_format(numbers = function(x, file) {
    about <- data.frame(note = c(table_parts(x)$caption, table_parts(x)$note))
    sheets <- lapply(list(numbers = generics::tidy(x), about = about), defuse_formulas)
    write_whole(file, function(path) openxlsx::write.xlsx(sheets, path),
                function(path) holds_sheet(path, sheets$numbers))
  }, package = "openxlsx")
)

markdown_table <- function(parts) {
  plain <- function(text) gsub("([|*_`<>\\[\\]\\\\])", "\\\\\\1", text, perl = TRUE)
  table <- vapply(parts$table, plain, character(nrow(parts$table)))
  table <- matrix(table, nrow = nrow(parts$table))
  line <- function(cells) paste0("| ", paste(cells, collapse = " | "), " |")
  c(paste0("**", plain(parts$caption), "**"), "", line(plain(names(parts$table))),
    line(c(":---", rep("---:", ncol(table) - 1L))), apply(table, 1L, line), "", plain(parts$note))
}

html_lines <- function(parts) {
  head <- c("<!doctype html>", "<html lang=\"en\">", "<head>", "<meta charset=\"utf-8\">",
            as.character(htmltools::tags$title(parts$caption)), "</head>", "<body>")
  c(head, as.character(table_tag(parts$table, parts$caption, parts$note)), "</body>", "</html>")
}

latex_table <- function(parts) {
  table <- parts$table
  cells <- vapply(table, function(column) latex_numbers(latex_text(column)), character(nrow(table)))
  cells <- matrix(cells, nrow = nrow(table))
  rows <- paste0(apply(cells, 1L, paste, collapse = " & "), " \\\\")
  width <- ncol(table)
  c(
    "\\begin{table}", "\\centering",
    sprintf("\\caption{%s}", latex_text(parts$caption)),
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
