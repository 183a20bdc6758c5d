# Monte Carlo study of every estimator x estimand x design. Usage: Rscript validation/run.R [draws] [n]
# Writes validation/results/coverage.csv, coverage.md and coverage.png.
suppressMessages(library(carefultwin))
source("validation/worlds.R")
args <- as.numeric(commandArgs(TRUE))
draws <- if (length(args) > 0L) args[1L] else 400
n <- if (length(args) > 1L) args[2L] else 800

scenarios <- data.frame(
  kind = c("good", "poor", "good", "good", "clustered"), models = c("both", "both", "score", "outcome", "both"),
  label = c("good overlap", "poor overlap", "score model wrong", "outcome model wrong", "40 clusters")
)
kinds <- unique(scenarios$kind)
truths <- lapply(stats::setNames(nm = kinds), world_truth)
invisible(gc())  # before forking
methods <- world_methods()

one <- function(seed, scenario) {
  world <- draw_world(n, scenario$kind, seed)
  parts <- lapply(c("ATE", "ATT", "ATC", "ATO"), function(estimand) {
    measure_world(world, scenario$kind, scenario$models, estimand, methods)
  })
  do.call(rbind, parts)
}

results <- lapply(seq_len(nrow(scenarios)), function(k) {
  started <- Sys.time()
  rows <- parallel::mclapply(seq_len(draws), function(seed) one(1e4 * k + seed, scenarios[k, ]), mc.cores = as.integer(Sys.getenv("CORES", "2")))
  stopifnot(!vapply(rows, inherits, NA, "try-error"))
  message(scenarios$label[k], ": ", format(round(Sys.time() - started, 1)))
  cbind(scenario = scenarios$label[k], summarise_draws(do.call(rbind, rows), truths[[scenarios$kind[k]]]))
})
table <- do.call(rbind, results)

needs <- stats::setNames(lapply(methods, `[[`, "uses"), vapply(methods, function(m) paste(m$design, m$estimator), ""))
table$promise <- vapply(seq_len(nrow(table)), function(i) {
  row <- table[i, ]
  method_holds(row$design, row$estimator, row$estimand, needs[[paste(row$design, row$estimator)]], row$scenario)
}, "")

dir.create("validation/results", showWarnings = FALSE)
data.table::fwrite(table, "validation/results/coverage.csv")
show <- table
numeric <- vapply(show, is.numeric, NA) & names(show) != "draws"
show[numeric] <- lapply(show[numeric], function(x) formatC(x, digits = 3, format = "f"))
lines <- c(sprintf("# Coverage of 95%% intervals: %d draws of %d units", draws, n), "",
           paste("|", paste(names(show), collapse = " | "), "|"),
           paste0("|", strrep("---|", ncol(show))),
           apply(show, 1L, function(row) paste("|", paste(trimws(row), collapse = " | "), "|")))
writeLines(lines, "validation/results/coverage.md")

source("validation/picture.R")
held <- table[table$promise == "yes", ]
off <- held[held$coverage < 0.93 | held$coverage > 0.97, ]
message(sprintf("%d of %d rows whose assumptions hold lie outside 93 to 97%%.", nrow(off), nrow(held)))
print(off[c("scenario", "design", "estimator", "estimand", "bias", "se_ratio", "coverage")], row.names = FALSE)
