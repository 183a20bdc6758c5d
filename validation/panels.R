# Monte Carlo study of effects over time. Usage: Rscript validation/panels.R [draws]
# Writes validation/results/panels.csv and panels.md.
suppressMessages(library(carefultwin))
source("validation/panel-worlds.R")
args <- as.numeric(commandArgs(TRUE))
draws <- if (length(args) > 0L) args[1L] else 400
kinds <- c("plain", "covariate", "crossing", "switching", "dose", "thirds", "few")
labels <- c(plain = "parallel trends", covariate = "parallel given a covariate", crossing = "repeated cross-section",
            switching = "treatment that switches", dose = "doses", thirds = "triple differences given a covariate",
            few = "12 unequal clusters")
results <- lapply(kinds, function(kind) {
  started <- Sys.time()
  rows <- parallel::mclapply(seq_len(draws), function(seed) measure_panel(kind, seed), mc.cores = as.integer(Sys.getenv("CORES", "2")))
  stopifnot(!vapply(rows, inherits, NA, "try-error"))
  message(labels[[kind]], ": ", format(round(Sys.time() - started, 1)))
  do.call(rbind, rows)
})
table <- summarise_panels(do.call(rbind, results))
table <- table[order(match(table$world, kinds)), ]
table$world <- labels[table$world]
dir.create("validation/results", showWarnings = FALSE)
data.table::fwrite(table, "validation/results/panels.csv")
show <- table
numbers <- setdiff(names(show)[vapply(show, is.numeric, NA)], "draws")
show[numbers] <- lapply(show[numbers], function(x) ifelse(is.na(x), "", formatC(x, digits = 3, format = "f")))
writeLines(c(sprintf("# Effects over time: coverage of 95%% intervals and bands, %d draws", draws), "",
             paste("|", paste(names(show), collapse = " | "), "|"), paste0("|", strrep("---|", ncol(show))),
             apply(show, 1L, function(row) paste("|", paste(trimws(row), collapse = " | "), "|")), "",
             paste("coverage: of the overall effect; path_coverage: mean over event times of each interval alone;",
                   "band_coverage: the band holds the whole path at once. The two-way regression estimates something",
                   "else, which its coverage shows.")), "validation/results/panels.md")
print(table, row.names = FALSE, digits = 3)
