# Rewrites the output blocks of README.md from a run: every ```r block is run in order, and the ```text block that
# follows it is replaced by what it printed. `make docs` runs it; a test checks that nothing would change. The articles
# are vignettes, whose output is made when they are built; run_article() runs their code alone.
run_readme <- function(lines, env = new.env(parent = globalenv())) {
  grDevices::pdf(NULL)  # plots go nowhere: the pictures come from tools/screenshots
  on.exit(grDevices::dev.off())
  out <- character()
  i <- 1L
  while (i <= length(lines)) {
    out <- c(out, lines[i])
    i <- i + 1L
    if (out[length(out)] != "```r") next
    end <- i - 1L + which(lines[i:length(lines)] == "```")[1L]
    code <- lines[seq(i, end - 1L)]
    printed <- utils::capture.output(suppressWarnings(
      source(exprs = parse(text = code), local = env, echo = FALSE, print.eval = TRUE)
    ))
    out <- c(out, code, "```")
    i <- end + 1L
    if (!identical(lines[i + 0:1], c("", "```text"))) next
    out <- c(out, "", "```text", printed, "```")
    i <- i + 2L + which(lines[(i + 2L):length(lines)] == "```")[1L]
  }
  out
}

# Runs the code of an article in order, for the objects it leaves in env.
run_article <- function(file, env = new.env(parent = globalenv())) {
  lines <- readLines(file)
  grDevices::pdf(NULL)
  on.exit(grDevices::dev.off())
  starts <- grep("^```\\{r", lines)
  for (start in starts[!grepl("(include|eval) = FALSE", lines[starts])]) {
    end <- start + which(lines[-seq_len(start)] == "```")[1L]
    code <- parse(text = lines[seq(start + 1L, end - 1L)])
    utils::capture.output(suppressWarnings(source(exprs = code, local = env, echo = FALSE, print.eval = TRUE)))
  }
  invisible(env)
}

if (!interactive() && sys.nframe() == 0L) writeLines(run_readme(readLines("README.md")), "README.md")
