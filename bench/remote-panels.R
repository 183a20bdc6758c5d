# Panels in a database: passes and seconds of each verb, the memory of R, and how far the numbers lie from those of rows in
# memory; the sums of a balanced panel against the same statement written by hand.
# usage: Rscript bench/remote-panels.R [rows [engine: sqlite or postgres]]
library(carefultwin)
args <- commandArgs(TRUE)
n <- if (length(args) > 0) as.numeric(args[1]) else 1e6
engine <- if (length(args) > 1) args[2] else "sqlite"
source("tests/testthat/helper-servers.R")

set.seed(1)
periods <- 10L
units <- n %/% periods
first <- sample(c(4, 6, 8, NA), units, TRUE, c(0.15, 0.15, 0.2, 0.5))
size <- rnorm(units)
data <- data.frame(unit = rep(seq_len(units), each = periods), period = seq_len(periods), first = rep(first, each = periods),
                   size = rep(size, each = periods))
treated <- !is.na(data$first) & data$period >= data$first
data$price <- rep(rnorm(units), each = periods) + 0.1 * data$period * (1 + data$size) + treated + rnorm(nrow(data))
data$away <- runif(nrow(data)) < 0.02  # some outcomes are not known
holes <- data
holes$price[holes$away] <- NA
framed <- function(x, ...) {
  frame_panel(x, outcome = "price", time = "period", unit = "unit", first_treated = "first", ...)
}
host <- if (engine == "postgres") postgres_server("bench")
connection <- if (is.null(host)) DBI::dbConnect(RSQLite::SQLite(), tempfile()) else host$connect()
invisible(DBI::dbWriteTable(connection, "panel", data, row.names = FALSE))
invisible(DBI::dbWriteTable(connection, "holes", holes, row.names = FALSE))
truth <- list(cells = tidy(measure_did(framed(data))), imputed = tidy(measure_did(framed(data), estimator = "imputation")),
              holes = tidy(measure_did(framed(holes))),
              adjusted = tidy(measure_did(framed(data, covariates = "size"), adjustment = "regression")))
rm(data, holes, treated, first, size)
invisible(gc())
invisible(gc(reset = TRUE))

cat(sprintf("%s, %.0f rows: %.0f units in %d periods\n", engine, n, units, periods))
run <- function(what, panel_of, expr, against = NULL) {
  before <- if (is.null(panel_of)) 0 else panel_of$source$counter$passes
  seconds <- system.time(value <- expr)[["elapsed"]]
  panel <- if (is.null(panel_of)) value else panel_of
  cat(sprintf("%-26s %7.1f s %3d passes", what, seconds, panel$source$counter$passes - before))
  if (!is.null(against)) {
    own <- tidy(value)
    apart <- function(name) max(abs(own[[name]] - against[[name]]) / pmax(1e-3, abs(against[[name]])), na.rm = TRUE)
    cat(sprintf("   estimates within %.0e, errors %.0e", apart("estimate"), apart("std.error")))
  }
  cat("\n")
  invisible(value)
}
panel <- run("framed", NULL, framed(remote_units(connection, "panel")))
hand <- sprintf("SELECT o, COUNT(*), SUM(y1), %s FROM (SELECT unit, MIN(COALESCE(first, 0)) AS o, %s FROM panel GROUP BY unit %s) u GROUP BY o",
                paste(unlist(lapply(seq_len(periods), function(a) sprintf("SUM(y%d*y%d)", a, a:periods))), collapse = ", "),
                paste(sprintf("SUM(CASE WHEN period = %d THEN price ELSE 0 END) AS y%d", seq_len(periods), seq_len(periods)),
                      collapse = ", "), if (engine == "postgres") "OFFSET 0" else "LIMIT -1")
run("group-time", panel, measure_did(panel), truth$cells)
run("imputation", panel, measure_did(panel, estimator = "imputation"), truth$imputed)
run("two-way", panel, measure_did(panel, estimator = "two_way"))
run("taken apart", panel, decompose_did(panel))
gaps <- run("framed, outcomes missing", NULL, framed(remote_units(connection, "holes")))
run("group-time, missing", gaps, measure_did(gaps), truth$holes)
adjusted <- run("framed, a covariate", NULL, framed(remote_units(connection, "panel"), covariates = "size"))
run("group-time, adjusted", adjusted, measure_did(adjusted), truth$adjusted)
by_hand <- system.time(DBI::dbGetQuery(connection, hand))[["elapsed"]]
asked <- carefultwin:::remote_panel_outcome(panel, "price")
pieces <- system.time(carefultwin:::remote_pieces(panel$table, asked, NULL))[["elapsed"]]
cat(sprintf("sums of pieces %.2f s, a statement by hand %.2f s: ratio %.2f\n", pieces, by_hand, pieces / by_hand))
cat(sprintf("R never held more than %.0f MB\n", sum(gc()[, 6])))
DBI::dbDisconnect(connection)
