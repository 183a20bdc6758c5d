# Simulates `boats` (a panel: 150 boats in 10 seasons) and `boats_truth`. Boats hire an ice machine for a season or more
# and give it back; some own one and lay it up. New engines are of different power. All made up; the true effects follow from the lines below.
# Run: Rscript data-raw/boats.R
set.seed(20261129, kind = "Mersenne-Twister", normal.kind = "Inversion", sample.kind = "Rejection")

n <- 150L
seasons <- 2016:2025
boats_of <- data.frame(
  boat = sprintf("boat_%03d", seq_len(n)), port = sprintf("port_%02d", rep_len(seq_len(25L), n)),
  boat_length = round(pmin(24, pmax(6, rnorm(n, 12, 3))), 1), owns = runif(n) < 0.3
)
# When the first change comes, if ever, and how many seasons it lasts.
first <- sample(c(2018, 2020, 2022, NA), n, TRUE, c(0.2, 0.2, 0.15, 0.45))
lasts <- sample(c(1, 2, Inf), n, TRUE, c(0.25, 0.35, 0.4))

panel <- boats_of[rep(seq_len(n), each = length(seasons)), ]
panel$season <- rep(seasons, n)
at <- match(panel$boat, boats_of$boat)
changed <- !is.na(first[at]) & panel$season >= first[at] & panel$season < first[at] + lasts[at]
panel$ice_machine <- xor(panel$owns, changed)
before <- c(NA, head(panel$ice_machine, -1L))
before[panel$season == seasons[1L]] <- panel$owns[panel$season == seasons[1L]]

# Tonnes a season: 1.5 more with an ice machine, and 0.6 more in the season after one (buyers come back).
effect <- 1.5 * panel$ice_machine + 0.6 * before
stocks <- cumsum(rnorm(length(seasons), 0.1, 0.4))[match(panel$season, seasons)]
trend <- 0.15 * panel$owns * (panel$season - 2016)  # owners go further out every year, whatever they do
catch <- 8 + 0.4 * (panel$boat_length - 12) + rnorm(n, sd = 1.5)[at] + stocks + trend + effect +
  rnorm(nrow(panel), sd = 0.8)

# New engines of 40 to 240 kW, from one of three seasons on, in boats that others than chance choose: longer ones take more
# power, and all burn less per tonne as they learn. What an engine of so many kW saves grows with it, and less and less.
fitted <- sample(c(2019, 2021, 2023, NA), n, TRUE, c(0.25, 0.25, 0.15, 0.35))
power <- round(pmin(240, pmax(40, 60 + 8 * (boats_of$boat_length - 6) + rnorm(n, sd = 35))))
saves <- function(kw) 6 + 0.25 * kw - 0.0005 * kw^2
has_engine <- !is.na(fitted[at]) & panel$season >= fitted[at]
fuel <- 160 + 3 * (boats_of$boat_length[at] - 12) + rnorm(n, sd = 12)[at] - 1.5 * (panel$season - 2016) -
  has_engine * saves(power[at]) + rnorm(nrow(panel), sd = 6)
boats <- data.frame(boat = panel$boat, port = panel$port, season = panel$season, boat_length = panel$boat_length,
                    ice_machine = panel$ice_machine, catch = round(catch, 2),
                    engine_kw = ifelse(has_engine, power[at], 0), fuel = round(fuel, 1))
rownames(boats) <- NULL

# The path since the first change: what it moved the effect by, in its direction, on average over boats that changed.
own <- ifelse(panel$owns, -1, 1) * (effect - 2.1 * panel$owns)
since <- panel$season - first[at]
inside <- !is.na(since) & since >= 0
path <- tapply(own[inside], since[inside], mean)
boats_truth <- rbind(data.frame(over = "event", at = names(path), truth = round(as.numeric(path), 4)),
                     data.frame(over = "all", at = "all", truth = round(mean(own[inside]), 4)))
boats_truth <- cbind(outcome = "catch", boats_truth)

# The effect on fuel at some doses, on average over the seasons with a new engine, and its slopes.
kw <- c(60, 100, 140, 180)
engine <- power[at][has_engine]
boats_truth <- rbind(boats_truth, data.frame(
  outcome = "fuel", over = c(rep(c("dose", "slope"), each = 4L), "all", "slope"), at = c(kw, kw, "all", "all"),
  truth = round(c(-saves(kw), -(0.25 - 0.001 * kw), mean(-saves(engine)), mean(-(0.25 - 0.001 * engine))), 4)
))

labels <- c(catch = "catch of a season (tonnes)", boat_length = "boat length (m)", ice_machine = "ice machine on board",
            engine_kw = "power of the new engine (kW)", fuel = "fuel for a tonne (litres)")
for (name in c("boats", "boats_truth")) {
  data <- get(name)
  data.table::fwrite(data, file.path("inst/extdata", paste0(name, ".csv")))
  for (column in intersect(names(labels), names(data))) attr(data[[column]], "label") <- labels[[column]]
  assign(name, data)
  save(list = name, file = file.path("data", paste0(name, ".rda")), compress = "xz", version = 2)
}
print(boats_truth)
