# Word files. Package officer packs them; tables are real tables, written here so that their type is small enough and
# their heads repeat on every page.

# blocks of a document, as texts of its XML; styles by their names go as word_par() writes them.
write_word <- function(parts, file) {
  write_whole(file, function(path) {
    doc <- officer::read_docx()
    styles <- officer::styles_info(doc, type = "paragraph")
    xml <- paste(unlist(parts), collapse = "")
    for (name in word_styles) {
      xml <- gsub(sprintf("w:val=\"%s\"", name), sprintf("w:val=\"%s\"", styles$style_id[styles$style_name == name]),
                  xml, fixed = TRUE)
    }
    added <- xml2::xml_children(xml2::read_xml(paste0("<w:body ", word_spaces, ">", xml, "</w:body>")))
    end <- xml2::xml_find_first(officer::docx_body_xml(doc), "/w:document/w:body/w:sectPr")
    for (node in added) xml2::xml_add_sibling(end, node, .where = "before")
    print(doc, target = path)
  }, function(path) "word/document.xml" %in% utils::unzip(path, list = TRUE)$Name)
}

word_styles <- c("heading 1", "heading 2", "heading 3")

word_spaces <- paste0(
  "xmlns:w=\"http://schemas.openxmlformats.org/wordprocessingml/2006/main\" ",
  "xmlns:wp=\"http://schemas.openxmlformats.org/drawingml/2006/wordprocessingDrawing\" ",
  "xmlns:r=\"http://schemas.openxmlformats.org/officeDocument/2006/relationships\""
)

# A paragraph; headings go without the numbers that the styles would give them. size in half points.
word_par <- function(text, style = NULL, size = NULL, bold = FALSE) {
  sprintf("<w:p>%s<w:r><w:rPr>%s%s</w:rPr><w:t xml:space=\"preserve\">%s</w:t></w:r></w:p>", if (is.null(style)) "" else
    sprintf("<w:pPr><w:pStyle w:val=\"%s\"/><w:numPr><w:ilvl w:val=\"0\"/><w:numId w:val=\"0\"/></w:numPr></w:pPr>",
            style), if (bold) "<w:b/>" else "", if (is.null(size)) "" else sprintf("<w:sz w:val=\"%d\"/>", size),
    word_text(text))
}

word_note <- function(text) if (length(text) > 0L && nzchar(text)) word_par(text, size = 17L) else word_par("")

# A table in Word's own terms: lines above, below the head and at the end; numbers to the right, 8 point, rows whole.
word_table <- function(block) {
  cells <- as.matrix(block$table)
  left <- c(1L, block$running)
  word <- vapply(strsplit(names(block$table), " ", fixed = TRUE), function(words) max(nchar(words), 0L), 0L)
  letters <- pmin(pmax(apply(cells, 2L, function(column) max(nchar(column), 3L)), word + 2L), 60)
  widths <- as.integer(round(9000 * (letters + 3) / sum(letters + 3)))
  row <- function(texts, head, bold, last) {
    sprintf("<w:tr><w:trPr><w:cantSplit/>%s</w:trPr>%s</w:tr>", if (head) "<w:tblHeader/>" else "",
            paste(vapply(seq_along(texts), function(j) {
              word_cell(texts[j], widths[j], j %in% left, head || bold, head, last)
            }, ""), collapse = ""))
  }
  rows <- vapply(seq_len(nrow(cells)), function(i) {
    row(cells[i, ], FALSE, isTRUE(block$failing[i]), i == nrow(cells))
  }, "")
  paste0(
    "<w:tbl><w:tblPr>",
    "<w:tblW w:w=\"5000\" w:type=\"pct\"/>", if (!is.null(block$caption)) sprintf(
      "<w:tblCaption w:val=\"%s\"/>", word_text(block$caption, TRUE)), "</w:tblPr>",
    "<w:tblGrid>", paste(sprintf("<w:gridCol w:w=\"%d\"/>", widths), collapse = ""), "</w:tblGrid>",
    row(names(block$table), TRUE, TRUE, FALSE), paste(rows, collapse = ""), "</w:tbl>"
  )
}

word_cell <- function(text, width, left, bold, head, last) {
  line <- function(where, size) {
    sprintf("<w:%s w:val=\"single\" w:sz=\"%d\" w:space=\"0\" w:color=\"000000\"/>", where, size)
  }
  borders <- paste(c(if (head) c(line("top", 8L), line("bottom", 4L)), if (last) line("bottom", 8L)), collapse = "")
  paste0(
    sprintf("<w:tc><w:tcPr><w:tcW w:w=\"%d\" w:type=\"dxa\"/><w:tcBorders>%s</w:tcBorders></w:tcPr>", width, borders),
    "<w:p><w:pPr><w:spacing w:before=\"20\" w:after=\"20\"/>",
    sprintf("<w:jc w:val=\"%s\"/></w:pPr><w:r><w:rPr>%s<w:sz w:val=\"16\"/></w:rPr>", if (left) "left" else "right",
            if (bold) "<w:b/>" else ""),
    sprintf("<w:t xml:space=\"preserve\">%s</w:t></w:r></w:p></w:tc>", word_text(text))
  )
}

# Control characters are not allowed in such files.
word_text <- function(text, attribute = FALSE) {
  htmltools::htmlEscape(gsub("[\001-\010\013\014\016-\037]", " ", enc2utf8(as.character(text))), attribute = attribute)
}

# Rendered parts of one table.
word_table_parts <- function(parts) {
  block <- list(table = parts$table, caption = parts$caption, failing = rep(FALSE, nrow(parts$table)))
  c(word_par(parts$caption, bold = TRUE), word_table(block), word_note(parts$note))
}
