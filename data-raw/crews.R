# Simulates `crews` and `crews_truth`: fishing crews of small harbours, some of which join their harbour's cold-store
# co-operative. All made up; the true effects follow from the potential outcomes below. Run: Rscript data-raw/crews.R
set.seed(20261123, kind = "Mersenne-Twister", normal.kind = "Inversion", sample.kind = "Rejection")

# Harbours: 60, in four coasts (the survey strata), of three sizes.
harbours <- data.frame(
  harbour = sprintf("harbour_%02d", 1:60),
  coast = rep(c("amber", "grey", "long", "slate"), each = 15),
  port_size = sample(c("small", "medium", "large"), 60, replace = TRUE, prob = c(0.45, 0.35, 0.20)),
  mood = rnorm(60, sd = 3),  # what a harbour's crews have in common in their income
  crews = 28 + rpois(60, 12)
)
crews <- harbours[rep(1:60, harbours$crews), ]
n <- nrow(crews)

# Crews.
crews$boat_length <- round(pmin(24, pmax(5, rnorm(n, 10 + 2.5 * (crews$port_size == "large"), 3))), 1)
crews$crew_size <- pmax(1L, as.integer(round(crews$boat_length / 3 + rnorm(n, sd = 1))))
crews$skipper_age <- round(pmin(75, pmax(19, rnorm(n, 44, 11))))
crews$gear <- sample(c("nets", "lines", "pots", "dredge"), n, replace = TRUE, prob = c(0.4, 0.3, 0.2, 0.1))
crews$in_debt <- runif(n) < plogis(-0.6 - 0.06 * (crews$boat_length - 10))
crews$past_income <- round(40 + 3.2 * (crews$boat_length - 10) + 4 * (crews$crew_size - 3) - 5 * crews$in_debt +
                             crews$mood + rnorm(n, sd = 8), 1)
crews$market_km <- round(rexp(n, 1 / 25) + ifelse(crews$port_size == "small", 15, 3), 1)

# Who joins: poorer crews with shorter boats, in debt, far from the market. Long boats in large ports hardly ever do:
# the corner without overlap.
linear <- -1.45 - 0.12 * (crews$boat_length - 10) - 0.035 * (crews$past_income - 40) + 0.7 * crews$in_debt +
  0.012 * (crews$market_km - 30) + 0.35 * (crews$gear == "pots") - 0.25 * (crews$gear == "dredge") -
  0.5 * (crews$port_size == "large") + 0.010 * (crews$skipper_age - 44)
crews$joined <- runif(n) < plogis(linear)

# Income per trip, in shells: joining adds most to crews far from the market.
gain <- 8 + 0.10 * (crews$market_km - 30) - 0.5 * (crews$crew_size - 3)
income0 <- 38 + 1.5 * (crews$boat_length - 10) + 0.7 * (crews$past_income - 40) + 2 * (crews$gear == "dredge") -
  0.05 * (crews$market_km - 30) - 0.03 * (crews$skipper_age - 44) + 0.5 * crews$mood
noise <- rnorm(n, sd = 7)
crews$income <- round(income0 + gain * crews$joined + noise, 1)

# Sold at least one catch directly to buyers inland.
direct <- function(joined) {
  plogis(-1.1 + 0.9 * joined + 0.03 * (crews$past_income - 40) - 0.01 * (crews$market_km - 30) +
           0.3 * (crews$port_size == "large"))
}
crews$sold_direct <- ifelse(runif(n) < direct(crews$joined), "yes", "no")

# Days at sea in the season, a count.
days <- function(joined) exp(3.4 + 0.10 * joined + 0.02 * (crews$boat_length - 10) + 0.004 * (crews$past_income - 40))
crews$days_at_sea <- rpois(n, days(crews$joined))

# Months until a crew gives up fishing; the study ends after 60.
rate <- exp(-4.6 - 0.5 * crews$joined - 0.02 * (crews$past_income - 40) + 0.4 * crews$in_debt)
month <- rexp(n, rate)
crews$months_afloat <- round(pmin(month, 60), 1)
crews$left <- month < 60

# Survey: small ports were sampled more densely; weights are the crews each one stands for.
crews$survey_weight <- round(c(small = 2, medium = 3, large = 4.5)[crews$port_size] * runif(n, 0.85, 1.15), 2)
crews$crew_id <- sprintf("C%04d", seq_len(n))

# True effects, crew by crew.
effects <- data.frame(
  outcome = c("income", "sold_direct", "days_at_sea"),
  rbind(gain, direct(1) - direct(0), days(1) - days(0))
)

# Recorded values that were lost at random.
crews$skipper_age[runif(n) < 0.06] <- NA
crews$market_km[runif(n) < 0.03] <- NA
crews$gear[runif(n) < 0.02] <- NA

truth_of <- function(effect, weight) {
  joined <- crews$joined
  c(ATE = weighted.mean(effect, weight), ATT = weighted.mean(effect[joined], weight[joined]),
    ATC = weighted.mean(effect[!joined], weight[!joined]))
}
crews_truth <- do.call(rbind, lapply(seq_len(nrow(effects)), function(k) {
  effect <- as.numeric(effects[k, -1])
  do.call(rbind, lapply(c(FALSE, TRUE), function(weighted) {
    truth <- truth_of(effect, if (weighted) crews$survey_weight else rep(1, n))
    data.frame(outcome = effects$outcome[k], estimand = names(truth), weighted = weighted,
               truth = round(unname(truth), 4))
  }))
}))

crews <- crews[c("crew_id", "harbour", "coast", "survey_weight", "joined", "boat_length", "crew_size", "skipper_age",
                 "port_size", "gear", "in_debt", "past_income", "market_km", "income", "sold_direct", "days_at_sea",
                 "months_afloat", "left")]
rownames(crews) <- NULL
labels <- c(
  boat_length = "boat length (m)", crew_size = "crew size", skipper_age = "skipper's age (years)",
  port_size = "port size", gear = "main gear", in_debt = "crew in debt", past_income = "income last season (shells)",
  market_km = "distance to market (km)", income = "income per trip (shells)", sold_direct = "sold directly inland",
  days_at_sea = "days at sea in the season", months_afloat = "months until giving up", joined = "joined the cold store"
)
data.table::fwrite(crews, "inst/extdata/crews.csv")
for (name in names(labels)) attr(crews[[name]], "label") <- labels[[name]]
save(crews, file = "data/crews.rda", compress = "xz", version = 2)
save(crews_truth, file = "data/crews_truth.rda", compress = "xz", version = 2)
data.table::fwrite(crews_truth, "inst/extdata/crews_truth.csv")
print(crews_truth)
