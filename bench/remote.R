# Tables in a database: passes, seconds and memory of the verbs, and one pass of the score against one aggregate of the
# same sums written by hand. usage:
#   Rscript bench/remote.R [rows [engine: sqlite or postgres [servers [covariates [verbs: all or few]]]]]
# With 2 or 3 servers (PostgreSQL) the rows are spread over as many, which answer at the same time. Up to a million rows
# the effect is compared with that in memory.
library(carefultwin)
args <- commandArgs(TRUE)
asked <- function(k, default) if (length(args) >= k) args[k] else default
n <- as.numeric(asked(1, 1e6))
engine <- asked(2, "sqlite")
servers_asked <- as.integer(asked(3, 1))
p <- as.integer(asked(4, 10))
few <- asked(5, "all") == "few"
source("tests/testthat/helper-servers.R")

made <- function(from, size) {
  x <- matrix(rnorm(size * p), size, dimnames = list(NULL, paste0("x", seq_len(p))))
  z <- rbinom(size, 1, plogis(drop(x[, 1:3] %*% c(0.5, -0.3, 0.2)) - 0.5))
  data.frame(id = from + seq_len(size), z = z, y = 2 * z + x[, 1] + rnorm(size), harbour = sample.int(2000, size, TRUE), x)
}
set.seed(1)
hosts <- lapply(sprintf("bench%d", seq_len(servers_asked)), function(name) if (engine == "postgres") postgres_server(name))
connections <- lapply(hosts, function(host) if (is.null(host)) DBI::dbConnect(RSQLite::SQLite(), tempfile()) else host$connect())
truth <- NULL
for (from in seq(0, n - 1, by = 1e6)) {
  data <- made(from, min(1e6, n - from))
  for (k in seq_along(connections)) {
    invisible(DBI::dbWriteTable(connections[[k]], "units", data[data$id %% servers_asked == k - 1L, ], row.names = FALSE,
                                append = from > 0))
  }
  if (n <= 1e6) {
    local <- frame_study(data, "z", "y", paste0("x", seq_len(p)), cluster = "harbour", estimand = "ATE")
    truth <- tidy(measure_effect(weigh_units(score_units(local)), estimator = "augmented"))
    rm(local)
  }
}
connection <- connections[[1L]]
remote <- if (servers_asked == 1L) remote_units(connection, "units") else
  remote_shards(lapply(hosts, `[[`, "connect"), "units")
rm(data)
invisible(gc())
invisible(gc(reset = TRUE))

study <- frame_study(remote, "z", "y", paste0("x", seq_len(p)), cluster = "harbour",
                     estimand = "ATE")
passes <- function() study$source$counter$passes
told <- function(what, seconds, before) cat(sprintf("%-28s %7.1f s %4d passes\n", what, seconds, passes() - before))
run <- function(what, expr) {
  before <- passes()
  seconds <- system.time(value <- expr)[["elapsed"]]
  told(what, seconds, before)
  invisible(value)
}
cat(sprintf("%s, %.0f rows, %d covariates, %d server(s)\n", engine, n, p, servers_asked))
scored <- run("score (logit)", score_units(study))
weighed <- run("weights", weigh_units(scored))
if (!few) {
  run("balance", assess_balance(weighed))
  run("overlap", assess_overlap(weighed))
  run("weights judged", assess_weights(weighed))
  run("strata", stratify_units(scored))
  if (p <= 20L) run("entropy weights", weigh_units(study, "entropy"))
  if (p <= 10L && n <= 1e6) run("score (ladder)", score_units(study, select = "ladder"))
}
run("effect, difference", measure_effect(weighed))
effect <- run("effect, augmented", measure_effect(weighed, estimator = "augmented"))
if (!is.null(truth)) {
  away <- function(column) max(abs(tidy(effect)[[column]] / truth[[column]] - 1))
  cat(sprintf("estimate differs from that in memory by %.1e, error by %.1e (relative)\n", away("estimate"), away("std.error")))
}

# one Newton pass by hand: score, weight and 66 sums of products, in the same nesting and with the same fences
fence <- if (engine == "postgres") "OFFSET 0" else "LIMIT -1"
v <- paste0("v", seq_len(p))
pairs <- which(upper.tri(diag(p), diag = TRUE), arr.ind = TRUE)
sums <- paste(c("SUM(l)", "SUM(r)", sprintf("SUM(r*%s)", v), "SUM(h)", sprintf("SUM(h*%s)", v),
                sprintf("SUM(h*v%d*v%d)", pairs[, 1], pairs[, 2])), collapse = ", ")
by_hand <- sprintf("SELECT %s FROM (SELECT %s, z*eta - %s(1+exp(eta)) AS l, z - e AS r, e*(1-e) AS h FROM (SELECT z, %s, eta,
  1/(1+exp(-(CASE WHEN eta > 500 THEN 500 WHEN eta < -500 THEN -500 ELSE eta END))) AS e FROM (SELECT z, %s, 0.1 + %s AS eta
  FROM (SELECT z, %s FROM units %s) a %s) b %s) c %s) d", sums, paste(v, collapse = ", "),
  if (engine == "postgres") "ln" else "log", paste(v, collapse = ", "), paste(v, collapse = ", "),
  paste(sprintf("0.1*%s", v), collapse = " + "), paste(sprintf("(x%d - 0.1)/1.1 AS v%d", seq_len(p), seq_len(p)), collapse = ", "),
  fence, fence, fence, fence)
rows <- study$rows
columns <- carefultwin:::remote_standardised(study, carefultwin:::remote_matrix(study$columns))
ours <- function() {
  own <- carefultwin:::scratch_rows(rows)
  linear <- carefultwin:::say_word(own, "l", carefultwin:::line_of(columns$words, rep(0.1, p), 0.1))
  said <- carefultwin:::link_words_of(own, "logit", linear, quote(u_z))
  r <- carefultwin:::say_word(own, "r", call("*", quote(u_s), said$residual))
  h <- carefultwin:::say_word(own, "h", call("*", quote(u_s), said$variance))
  exprs <- c(list(bquote(u_s * (.(said$value)))),
             lapply(c(list(1), columns$words), function(w) carefultwin:::multiplied(r, w)),
             carefultwin:::products_with(h, columns$words))
  carefultwin:::row_sums(own, stats::setNames(exprs, seq_along(exprs)))
}
if (servers_asked == 1L && p == 10L && !few) {
ratios <- replicate(3, {
  a <- system.time(ours())[["elapsed"]]
  b <- system.time(DBI::dbGetQuery(connection, by_hand))[["elapsed"]]
  a / b
})
cat(sprintf("one pass of ours against one by hand: %s\n", paste(sprintf("%.2f", ratios), collapse = ", ")))
}
cat(sprintf("most memory of R meanwhile: %.0f MB\n", sum(gc()[, 6])))
