# What the scripts share that repeat a world and judge estimates by its truth.

# one: function(seed) giving a data frame with `estimate`, `truth`, `se`, `holds` and the columns named in `by`, which tell
# estimates apart. Writes and prints one row for each: bias, spread of the estimates, mean standard error over it, and the
# share of draws in which the interval held the truth. Seeds 1 to `draws`; draws that fail are counted and left out.
judge_draws <- function(one, draws, by, file) {
  found <- parallel::mclapply(seq_len(draws), function(seed) {
    tryCatch(suppressWarnings(one(seed)), error = function(e) conditionMessage(e))
  }, mc.cores = parallel::detectCores())
  failed <- vapply(found, is.character, NA)
  cat(sprintf("%d failed\n", sum(failed)), unique(unlist(found[failed])))
  rows <- do.call(rbind, found[!failed])
  key <- do.call(paste, rows[by])
  out <- do.call(rbind, lapply(split(rows, factor(key, unique(key))), function(own) {
    data.frame(own[1L, by, drop = FALSE], draws = nrow(own),
               round(data.frame(bias = mean(own$estimate - own$truth), spread = stats::sd(own$estimate),
                                se_ratio = mean(own$se) / stats::sd(own$estimate), coverage = mean(own$holds)), 3))
  }))
  rownames(out) <- NULL
  print(out)
  utils::write.csv(out, file, row.names = FALSE)
}

# The number of draws asked for on the command line.
draws_asked <- function() {
  args <- commandArgs(TRUE)
  if (length(args) > 0L) as.integer(args[1L]) else 1000L
}
