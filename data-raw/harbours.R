# Simulates `harbours` (a panel: 60 harbours by 16 quarters), `landings` (a repeated cross-section of their crews) and
# `harbours_truth`. Cold stores open in staggered quarters; in some harbours never. All made up; the true effects follow
# from the functions below. Run: Rscript data-raw/harbours.R
set.seed(20261124, kind = "Mersenne-Twister", normal.kind = "Inversion", sample.kind = "Rejection")

quarters <- sprintf("%dQ%d", rep(2021:2024, each = 4), 1:4)
opening <- c(NA, "2022Q1", "2022Q4", "2023Q3", "2024Q2")
sizes <- c(18, 12, 12, 10, 8)

# Harbours: those that open early are larger and dearer, which differences take out.
places <- data.frame(
  harbour = sprintf("harbour_%02d", 1:60), coast = rep(c("amber", "grey", "long", "slate"), 15),
  opened = sample(rep(opening, sizes))
)
wave <- match(places$opened, opening[-1])  # 1 the earliest, NA never
places$boats <- 18 + rpois(60, 14) + ifelse(is.na(wave), 0L, 8L - 2L * wave)
places$market_km <- round(rexp(60, 1 / 30) + 5)
places$base <- rnorm(60, 6 + 0.05 * places$boats - 0.01 * places$market_km, 0.8)

# The effect on the price of a kilo, in shells: it grows with the quarters since the opening, and early stores do more.
gain <- function(wave, since) ifelse(is.na(wave) | since < 0, 0, (1.1 - 0.2 * wave) * (0.6 + 0.2 * since))

season <- c(0.4, -0.2, -0.5, 0.3)
common <- season[rep(1:4, 4)] + cumsum(rnorm(16, 0.05, 0.15))
panel <- places[rep(1:60, each = 16), ]
panel$quarter <- rep(quarters, 60)
at <- match(panel$quarter, quarters)
since <- at - match(panel$opened, quarters)
row_wave <- match(panel$opened, opening[-1])
effect <- gain(row_wave, since)
shock <- unlist(lapply(1:60, function(i) as.numeric(arima.sim(list(ar = 0.4), 16, sd = 0.35))))
# prices of harbours far from the market drift up with better roads, whoever has a cold store
drift <- 0.004 * (panel$market_km - 35) * (at - 1) / 4
price <- panel$base + common[at] + drift + effect + shock
harbours <- data.frame(
  harbour = panel$harbour, quarter = panel$quarter, coast = panel$coast, boats = panel$boats,
  market_km = panel$market_km, opened = panel$opened, cold_store = !is.na(since) & since >= 0,
  price = round(price, 2)
)

# Crews met at the quay, other ones each time: those who sell fresh gain from the cold store, those who salt do not.
place <- rep(seq_len(nrow(panel)), 3 + rpois(nrow(panel), 3))
crews <- panel[place, ]
n <- nrow(crews)
crews$fresh <- runif(n) < 0.6
crews$boat_length <- round(pmin(24, pmax(5, rnorm(n, 10 + 0.08 * (crews$boats - 32), 2.5))), 1)
crews$gear <- sample(c("nets", "lines", "pots"), n, replace = TRUE, prob = c(0.5, 0.3, 0.2))
crew_gain <- 4 * effect[place] * crews$fresh
value <- 4 * (price - effect)[place] + 0.5 * (crews$boat_length - 10) + 2 * (crews$gear == "nets") -
  3 * (1 - crews$fresh) + crew_gain + rnorm(n, sd = 2)
landings <- data.frame(
  harbour = crews$harbour, quarter = crews$quarter, cold_store = harbours$cold_store[place], fresh = crews$fresh,
  boat_length = crews$boat_length, gear = crews$gear, catch_value = round(value, 1)
)

# True effects: means over the harbour-quarters (crews) with a cold store.
treated <- harbours$cold_store
by_event <- tapply(effect[treated], since[treated], mean)
by_cohort <- tapply(effect[treated], harbours$opened[treated], mean)
inside <- landings$cold_store & landings$fresh
harbours_truth <- rbind(
  data.frame(data = "harbours", over = "all", at = "all", truth = mean(effect[treated])),
  data.frame(data = "harbours", over = "event", at = names(by_event), truth = as.numeric(by_event)),
  data.frame(data = "harbours", over = "cohort", at = names(by_cohort), truth = as.numeric(by_cohort)),
  data.frame(data = "landings", over = "all", at = "all crews", truth = mean(crew_gain[landings$cold_store])),
  data.frame(data = "landings", over = "all", at = "fresh crews", truth = mean(crew_gain[inside]))
)
harbours_truth$truth <- round(harbours_truth$truth, 4)

rownames(landings) <- NULL
labels <- c(price = "price of a kilo (shells)", boats = "boats", market_km = "distance to market (km)",
            cold_store = "cold store open", catch_value = "value of a catch (shells)", boat_length = "boat length (m)",
            fresh = "sells fresh", gear = "main gear")
save_labelled <- function(name) {
  data <- get(name)
  data.table::fwrite(data, file.path("inst/extdata", paste0(name, ".csv")))
  for (column in intersect(names(labels), names(data))) attr(data[[column]], "label") <- labels[[column]]
  assign(name, data)
  save(list = name, file = file.path("data", paste0(name, ".rda")), compress = "xz", version = 2)
}
for (name in c("harbours", "landings", "harbours_truth")) save_labelled(name)
print(harbours_truth)
