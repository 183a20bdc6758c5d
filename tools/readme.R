# Rewrites the output blocks of README.md from a run: every ```r block is run in order, and the ```text block that
# follows it is replaced by what it printed. Run by `make docs`; a test runs the same code.
lines <- readLines("README.md")
env <- new.env(parent = globalenv())
options(width = 80, cli.num_colors = 1L)
out <- character()
i <- 1L
while (i <= length(lines)) {
  out <- c(out, lines[i])
  if (lines[i] == "```r") {
    end <- i + which(lines[(i + 1L):length(lines)] == "```")[1L]
    code <- lines[(i + 1L):(end - 1L)]
    printed <- utils::capture.output(source(exprs = parse(text = code), local = env, echo = FALSE, print.eval = TRUE))
    out <- c(out, code, "```")
    i <- end + 1L
    if (i + 1L <= length(lines) && lines[i] == "" && lines[i + 1L] == "```text") {
      end <- i + 1L + which(lines[(i + 2L):length(lines)] == "```")[1L]
      out <- c(out, "", "```text", printed, "```")
      i <- end + 1L
    }
  } else {
    i <- i + 1L
  }
}
writeLines(out, "README.md")
