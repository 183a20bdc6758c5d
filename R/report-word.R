# The report and the methods paragraph as Word files.

word_report <- function(report) {
  first <- report$first
  c(
    word_par(report$title, "heading 1"), vapply(c(first$question, first$answer, first$rule), word_par, ""),
    if (!is.null(first$figure)) word_block(first$figure),
    if (length(first$verdicts) > 0L) word_block(verdict_table(first$verdicts)), word_par(report$byline),
    lapply(report$sections, function(section) {
      c(word_par(section$title, "heading 2"), lapply(section$blocks, word_block))
    }),
    word_par(report$footer)
  )
}

verdict_table <- function(verdicts) {
  of <- function(field) vapply(verdicts, `[[`, "", field)
  table_block(data.frame(Verdict = of("what"), answer = of("word"), number = of("number")), "Five verdicts",
              failing = of("tone") == "care", running = 2:3)
}

# One way to show each kind of block.
word_block <- function(block) {
  switch(
    block$kind,
    text = vapply(block$text, word_par, "", size = if (block$tone == "soft") 17L),
    heading = word_par(block$text, "heading 3"),
    terms = word_table(table_block(data.frame(What = names(block$rows), is = unlist(block$rows)), NULL, running = 2L)),
    table = c(if (!is.null(block$caption)) word_par(block$caption, bold = TRUE), word_table(block),
              word_note(block$note)),
    figure = c(word_picture(block), if (!is.null(block$caption)) word_note(block$caption)),
    fold = c(if (block$blocks[[1L]]$kind != "table") word_par(block$title, "heading 3"),
             lapply(block$blocks, word_block)),
    beside = lapply(block$blocks, word_block)
  )
}

word_picture <- function(block) {
  width <- 6.3
  picture <- officer::external_img(block$file, width, width * block$height / figure_width,
                                   alt = word_text(block$alt, TRUE))
  paste0("<w:p>", officer::to_wml(picture, add_ns = FALSE), "</w:p>")
}

word_methods <- function(x) {
  c(word_par("Methods", "heading 1"), vapply(x$paragraphs, word_par, ""),
    if (length(x$keys) > 0L) c(word_par("References", "heading 2"), vapply(reference_lines(x$keys), word_par, "")))
}
