# Monte Carlo study of the synthetic comparison and of imputation with a factor. Usage: Rscript validation/synthetic.R [draws]
# Panels of 50 units in 20 periods, of which 3 or 8 are treated in the 15th: a shared factor that each unit feels in its own
# measure (those that feel it more are treated more often), as a random walk or stationary, and autocorrelated noise; the
# effect is 1. Writes validation/results/synthetic.csv and synthetic.md.
suppressMessages(library(carefultwin))
args <- as.numeric(commandArgs(TRUE))
draws <- if (length(args) > 0L) args[1L] else 150

draw_factor_panel <- function(seed, treated, walk, units = 50L, periods = 20L) {
  withr::with_seed(seed, {
    path <- if (walk) cumsum(rnorm(periods, sd = 0.5)) else as.vector(stats::filter(rnorm(periods), 0.7, "recursive"))
    measure <- rnorm(units, 1, 0.5)
    chosen <- sample(units, treated, prob = plogis(2 * (measure - 1)))
    data <- expand.grid(time = seq_len(periods), unit = seq_len(units))
    data$first <- ifelse(data$unit %in% chosen, 15, NA)
    noise <- apply(matrix(rnorm(units * periods, sd = 0.5), periods), 2, stats::filter, 0.5, "recursive")
    data$y <- rnorm(units)[data$unit] + path[data$time] * measure[data$unit] +
      (!is.na(data$first) & data$time >= 15) + as.vector(noise)
    data
  })
}

ways <- list(
  "group-time" = list(),
  "synthetic, placebos" = list(estimator = "synthetic", draws = 99),
  "synthetic, weights held" = list(estimator = "synthetic", inference = "analytic"),
  "synthetic, bootstrap" = list(estimator = "synthetic", inference = "bootstrap", draws = 99),
  "imputation" = list(estimator = "imputation"),
  "imputation, one factor" = list(estimator = "imputation", factors = 1, draws = 99),
  "levels, placebos" = list(estimator = "synthetic", parallel = FALSE, draws = 99)
)
one_draw <- function(seed, treated, walk) {
  panel <- suppressWarnings(frame_panel(draw_factor_panel(seed, treated, walk), outcome = "y", time = "time",
                                        unit = "unit", first_treated = "first"))
  rows <- lapply(names(ways), function(name) {
    row <- tidy(suppressWarnings(summarise_did(do.call(measure_did, c(list(panel), ways[[name]])))))
    data.frame(world = if (walk) "random walk" else "stationary", treated = treated, way = name, estimate = row$estimate,
               std.error = row$std.error, holds = row$conf.low <= 1 && 1 <= row$conf.high)
  })
  do.call(rbind, rows)
}
worlds <- expand.grid(treated = c(3, 8), walk = c(TRUE, FALSE))
rows <- do.call(rbind, lapply(seq_len(nrow(worlds)), function(k) {
  made <- parallel::mclapply(seq_len(draws), one_draw, treated = worlds$treated[k], walk = worlds$walk[k],
                             mc.cores = as.integer(Sys.getenv("CORES", "2")))
  stopifnot(!vapply(made, inherits, NA, "try-error"))
  do.call(rbind, made)
}))
table <- do.call(rbind, lapply(split(rows, paste(rows$world, rows$treated, match(rows$way, names(ways)))), function(own) {
  data.frame(own[1L, c("world", "treated", "way")], draws = nrow(own), bias = mean(own$estimate) - 1,
             spread = sd(own$estimate), se_ratio = mean(own$std.error) / sd(own$estimate), coverage = mean(own$holds))
}))
data.table::fwrite(table, "validation/results/synthetic.csv")
numbers <- c("bias", "spread", "se_ratio", "coverage")
table[numbers] <- lapply(table[numbers], formatC, digits = 3, format = "f")
writeLines(c(sprintf("# The synthetic comparison, and imputation with a factor: coverage of 95%% intervals, %d draws", draws), "",
             paste("|", paste(names(table), collapse = " | "), "|"), paste0("|", strrep("---|", ncol(table))),
             apply(table, 1L, function(row) paste("|", paste(trimws(row), collapse = " | "), "|"))),
           "validation/results/synthetic.md")
print(table, row.names = FALSE)
