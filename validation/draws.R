# What the scripts share that repeat a world and judge estimates by its truth.

# The answers of one(seed) for seeds 1 to `draws`, on all cores; draws that fail are counted under `label` and left out.
repeat_draws <- function(one, draws, label = "") {
  found <- parallel::mclapply(seq_len(draws), function(seed) {
    tryCatch(suppressWarnings(one(seed)), error = function(e) conditionMessage(e))
  }, mc.cores = parallel::detectCores())
  failed <- vapply(found, is.character, NA)
  cat(sprintf("%s%d failed\n", label, sum(failed)), unique(unlist(found[failed])))
  found[!failed]
}

# one: function(seed) giving a data frame with `estimate`, `truth`, `se`, `holds` and the columns named in `by`, which
# tell estimates apart. Writes and prints one row for each: bias, spread of the estimates, mean standard error over it,
# and the share of draws in which the interval held the truth.
judge_draws <- function(one, draws, by, file) {
  rows <- do.call(rbind, repeat_draws(one, draws))
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
draws_asked <- function(otherwise = 1000L) {
  args <- commandArgs(TRUE)
  if (length(args) > 0L) as.integer(args[1L]) else otherwise
}
