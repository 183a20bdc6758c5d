# Monte Carlo study of the test of the time before treatment, and of event paths with few clusters. Usage:
# Rscript validation/trends.R [draws]. Writes validation/results/trends.csv and trends.md.
suppressMessages(library(carefultwin))
source("validation/trend-worlds.R")
args <- as.numeric(commandArgs(TRUE))
draws <- if (length(args) > 0L) args[1L] else 400
cases <- expand.grid(timing = names(timings), noise = names(noises), stringsAsFactors = FALSE)
rows <- lapply(seq_len(nrow(cases)), function(k) {
  found <- parallel::mclapply(seq_len(draws), function(seed) try_trends(cases$timing[k], cases$noise[k], seed),
                              mc.cores = as.integer(Sys.getenv("CORES", "2")))
  stopifnot(!vapply(found, inherits, NA, "try-error"))
  cbind(cases[k, ], summarise_trends(found), row.names = NULL)
})
table <- do.call(rbind, rows)
dir.create("validation/results", showWarnings = FALSE)
data.table::fwrite(table, "validation/results/trends.csv")
show <- table
numbers <- setdiff(names(show)[vapply(show, is.numeric, NA)], "draws")
show[numbers] <- lapply(show[numbers], function(x) ifelse(is.na(x), "", formatC(x, digits = 3, format = "f")))
writeLines(c(sprintf("# The time before treatment, and event paths with few clusters: %d draws", draws), "",
             paste("|", paste(names(show), collapse = " | "), "|"), paste0("|", strrep("---|", ncol(show))),
             apply(show, 1L, function(row) paste("|", paste(trimws(row), collapse = " | "), "|")), "",
             paste("size, drift_size: share of draws of parallel trends that the joint test and the common drift reject at",
                   "5%; power_1, power_2: share that the joint test rejects when treated units drift by one and by two sds",
                   "of the noise over the mean time before treatment, and power_said, what it says of the second itself;",
                   "path_coverage: the worst of the 95% intervals of event times that half of the treated reach;",
                   "band_coverage: of the whole path at once.")), "validation/results/trends.md")
print(table, row.names = FALSE, digits = 3)
