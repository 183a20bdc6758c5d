# The demo world of several arms: crews sell the catch fresh, salted or smoked. Those far from the market salt, those with
# large boats smoke; salt pays where the way is long, smoke where landings are large.
# Usage: Rscript data-raw/cures.R, in the source folder.
set.seed(20261130)
n <- 1800L
harbour <- sprintf("harbour_%02d", sample.int(60L, n, replace = TRUE))
bay <- stats::rnorm(60L, 0, 0.6)[as.integer(substr(harbour, 9L, 10L))]
port_size <- c("small", "medium", "large")[1L + findInterval(stats::runif(n), c(0.4, 0.8))]
boat_length <- round(pmax(5, stats::rnorm(n, 10 + 1.2 * (port_size == "large"), 2.3)), 1)
crew_size <- pmax(1L, stats::rpois(n, boat_length / 3.2))
market_km <- round(stats::rexp(n, 1 / 25) + 2, 1)
past_price <- round(9 + 0.35 * boat_length + 0.8 * (port_size == "large") + stats::rnorm(n, 0, 1.5), 1)

odds <- cbind(
  fresh = 1, salted = exp(-0.5 + 0.022 * (market_km - 25) - 0.15 * (past_price - 12.5)),
  smoked = exp(-0.6 + 0.2 * (boat_length - 10) + 0.5 * (port_size == "large") + 0.1 * (past_price - 12.5))
)
cure <- colnames(odds)[apply(odds, 1L, function(p) sample.int(3L, 1L, prob = p))]

# Price of a crate, whether it is sold within the week, and the days until it is, were it cured so.
price_if <- function(cure) {
  5 + 0.25 * boat_length + 0.55 * past_price - 0.02 * market_km + 0.6 * (port_size == "large") + 0.1 * crew_size + bay +
    switch(cure, fresh = 0, salted = 0.4 + 0.04 * (market_km - 25), smoked = 1.6 + 0.25 * (boat_length - 10))
}
sold_if <- function(cure) {
  stats::plogis(0.4 - 0.01 * market_km + 0.08 * (past_price - 12.5) + c(fresh = 0, salted = -0.5, smoked = 0.3)[[cure]])
}
rate_if <- function(cure) {
  0.12 * exp(-0.006 * market_km + 0.05 * (past_price - 12.5) + c(fresh = 0, salted = -0.35, smoked = 0.2)[[cure]])
}
own <- function(of) {
  all <- vapply(colnames(odds), of, numeric(n))
  all[cbind(seq_len(n), match(cure, colnames(odds)))]
}
price <- round(own(price_if) + stats::rnorm(n, 0, 1.5), 2)
sold <- ifelse(stats::runif(n) < own(sold_if), "yes", "no")
days <- stats::rexp(n, own(rate_if))
seen <- pmin(days, 30)

of <- function(outcome, if_cured) {
  do.call(rbind, lapply(c("salted", "smoked"), function(arm) {
    gain <- if_cured(arm) - if_cured("fresh")
    data.frame(outcome, cure = arm, estimand = c("ATE", "ATT", "ATC"),
               truth = c(mean(gain), mean(gain[cure == arm]), mean(gain[cure == "fresh"])))
  }))
}
cures_truth <- rbind(of("price", price_if), of("sold", sold_if))
market_km[sample.int(n, 50L)] <- NA
cures <- data.frame(crew_id = sprintf("K%04d", seq_len(n)), harbour, cure, boat_length, crew_size, port_size, past_price,
                    market_km, price, sold, days = round(seen, 1), gone = days <= 30)
save(cures, file = "data/cures.rda", compress = "xz", version = 2)
save(cures_truth, file = "data/cures_truth.rda", compress = "xz", version = 2)
data.table::fwrite(cures, "inst/extdata/cures.csv")
data.table::fwrite(cures_truth, "inst/extdata/cures_truth.csv")
print(cures_truth)
print(table(cure))
