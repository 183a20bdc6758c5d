# Simulates `boats` (a panel: 150 boats in 10 seasons) and `boats_truth`. Boats hire an ice machine for a season or more
# and give it back; some own one and lay it up. All made up; the true effects follow from the lines below.
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
boats <- data.frame(boat = panel$boat, port = panel$port, season = panel$season, boat_length = panel$boat_length,
                    ice_machine = panel$ice_machine, catch = round(catch, 2))
rownames(boats) <- NULL

# The path since the first change: what it moved the effect by, in its direction, on average over boats that changed.
own <- ifelse(panel$owns, -1, 1) * (effect - 2.1 * panel$owns)
since <- panel$season - first[at]
inside <- !is.na(since) & since >= 0
path <- tapply(own[inside], since[inside], mean)
boats_truth <- rbind(data.frame(over = "event", at = names(path), truth = round(as.numeric(path), 4)),
                     data.frame(over = "all", at = "all", truth = round(mean(own[inside]), 4)))

labels <- c(catch = "catch of a season (tonnes)", boat_length = "boat length (m)", ice_machine = "ice machine on board")
for (name in c("boats", "boats_truth")) {
  data <- get(name)
  data.table::fwrite(data, file.path("inst/extdata", paste0(name, ".csv")))
  for (column in intersect(names(labels), names(data))) attr(data[[column]], "label") <- labels[[column]]
  assign(name, data)
  save(list = name, file = file.path("data", paste0(name, ".rda")), compress = "xz", version = 2)
}
print(boats_truth)
