# What sections are made of. A block says what is shown, not how: pages and Word files render the same blocks.

# A section of a report; NULL in place of blocks is dropped.
new_section <- function(id, title, ...) list(id = id, title = title, blocks = all_blocks(...))

# Blocks and lists of them, as one list.
all_blocks <- function(...) {
  flat <- lapply(list(...), function(block) {
    if (is.null(block) || !is.null(block$kind)) list(block) else do.call(all_blocks, unname(block))
  })
  Filter(Negate(is.null), unlist(flat, recursive = FALSE))
}

# Paragraphs, one each; NULL where there is nothing to say. tone: "plain", "soft" or "warning".
text_block <- function(..., tone = "plain") {
  text <- unlist(list(...))
  text <- text[!is.na(text) & nzchar(text)]
  if (length(text) > 0L) list(kind = "text", text = unname(text), tone = tone)
}

heading_block <- function(text) list(kind = "heading", text = text)

# Names and what they stand for, below one another.
terms_block <- function(rows) list(kind = "terms", rows = Filter(Negate(is.null), rows))

# rows that fail are marked; running: places of columns that hold sentences.
table_block <- function(table, caption, note = NULL, failing = rep(FALSE, nrow(table)), running = integer()) {
  list(kind = "table", table = table, caption = caption, note = note, failing = failing, running = running)
}

# The table of a result, without its note where the page says the same elsewhere.
result_block <- function(x, note = TRUE) {
  parts <- table_parts(x)
  judged <- inherits(x, c("twin_balance", "twin_arms_balance"))
  failing <- if (judged) parts$table$pass != "yes" else rep(FALSE, nrow(parts$table))
  table_block(parts$table, parts$caption, if (note) parts$note, failing)
}

# A picture, drawn at once, and once only under its name. Its subtitle and caption become the text below it, its title
# goes: a heading stands above.
figure_block <- function(figures, name, plot, alt, height = 5) {
  if (!is.null(figures$blocks[[name]])) return(figures$blocks[[name]])
  words <- c(plot$labels$subtitle, plot$labels$caption)
  words <- words[nzchar(words)]
  figures$blocks[[name]] <- list(
    kind = "figure", file = draw_figure(figures, name, plot, height), alt = alt, height = height,
    caption = if (length(words) > 0L) paste(gsub("\n", " ", words), collapse = " ")
  )
  figures$blocks[[name]]
}

# Blocks that are folded on a screen; on paper and in Word they stand open.
fold_block <- function(title, ...) {
  blocks <- all_blocks(...)
  if (length(blocks) > 0L) list(kind = "fold", title = title, blocks = blocks)
}

# Side by side where the width allows.
beside_block <- function(...) {
  blocks <- all_blocks(...)
  if (length(blocks) > 0L) list(kind = "beside", blocks = blocks)
}

figure_width <- 8.9  # inches, at 144 dots each

# Where the pictures of a report are kept: a folder of its own, or one that is given.
new_figures <- function(folder = NULL) {
  figures <- new.env(parent = emptyenv())
  if (is.null(folder)) {
    folder <- tempfile("figures-")
    figures$temporary <- TRUE
  }
  make_folder(folder)
  figures$folder <- folder
  figures$names <- character()
  figures$blocks <- list()
  figures
}

# A report's own folder goes when the report is written.
drop_figures <- function(figures) if (isTRUE(figures$temporary)) unlink(figures$folder, recursive = TRUE)

draw_figure <- function(figures, name, plot, height) {
  figures$names <- union(figures$names, name)
  file <- file.path(figures$folder, paste0(file_stems(figures$names)[[name]], ".png"))
  bare <- plot + ggplot2::labs(title = NULL, subtitle = NULL, caption = NULL)
  ggplot2::ggsave(file, bare, device = ragg::agg_png, width = figure_width, height = height, dpi = 144)
  file
}
