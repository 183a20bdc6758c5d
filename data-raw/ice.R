# The demo world of doses: crews buy tonnes of ice for a season. Bigger boats in larger ports buy more, and earn more
# anyway; far from the market ice matters most, and beyond some tonnes it helps no more.
# Usage: Rscript data-raw/ice.R, in the source folder.
set.seed(20261129)
n <- 1500L
harbour <- sprintf("harbour_%02d", sample.int(50L, n, replace = TRUE))
bay <- stats::rnorm(50L, 0, 1)[as.integer(substr(harbour, 9L, 10L))]
port_size <- c("small", "medium", "large")[1L + findInterval(stats::runif(n), c(0.4, 0.8))]
boat_length <- round(pmax(5, stats::rnorm(n, 10 + 1.5 * (port_size == "large"), 2.4)), 1)
crew_size <- pmax(1L, stats::rpois(n, boat_length / 3.2))
market_km <- round(stats::rexp(n, 1 / 30) + 2, 1)
past_income <- round(12 + 2.2 * boat_length + 4 * (port_size == "large") + stats::rnorm(n, 0, 6), 1)

expected_tonnes <- 3.4 + 0.12 * (boat_length - 10) + 0.03 * (past_income - 34) + 0.3 * (port_size == "large") +
  0.006 * (market_km - 30)
tonnes <- round(pmax(0.1, expected_tonnes + stats::rnorm(n, 0, 1.2)), 1)

# Income per trip, and whether a catch spoiled, were a crew given so many tonnes.
income_at <- function(tonnes) {
  tonnes * (2.4 + 0.03 * market_km) - 0.28 * tonnes^2 + 8 + 1.6 * boat_length + 0.35 * past_income +
    3 * (port_size == "large") + 0.4 * crew_size + bay
}
spoiled_at <- function(tonnes) stats::plogis(0.6 - 0.55 * tonnes + 0.012 * market_km + 0.05 * (boat_length - 10))

income <- round(income_at(tonnes) + stats::rnorm(n, 0, 5), 1)
spoiled <- ifelse(stats::runif(n) < spoiled_at(tonnes), "yes", "no")
at <- c(1, 2, 3, 4, 5, 6)
ice_truth <- data.frame(
  outcome = rep(c("income", "spoiled"), each = length(at)), tonnes = rep(at, 2L),
  mean = c(vapply(at, function(k) mean(income_at(k)), 0), vapply(at, function(k) mean(spoiled_at(k)), 0))
)
market_km[sample.int(n, 45L)] <- NA
ice <- data.frame(crew_id = sprintf("I%04d", seq_len(n)), harbour, tonnes, boat_length, crew_size, port_size, past_income,
                  market_km, income, spoiled)
save(ice, file = "data/ice.rda", compress = "xz", version = 2)
save(ice_truth, file = "data/ice_truth.rda", compress = "xz", version = 2)
data.table::fwrite(ice, "inst/extdata/ice.csv")
data.table::fwrite(ice_truth, "inst/extdata/ice_truth.csv")
print(ice_truth)
print(summary(tonnes))
