# Full matching of two arms on an estimated score: bias, standard error against the spread of estimates, and coverage,
# where effects are the same for everybody and where they differ, with few and many units.
# Usage: Rscript validation/sets.R [draws]
suppressMessages(library(carefultwin))
source("validation/draws.R")

world <- function(seed, n, differ) {
  set.seed(seed)
  boat <- rnorm(n)
  past <- rnorm(n)
  joined <- rbinom(n, 1, plogis(0.5 * boat + 0.4 * past - 0.4))
  data.frame(boat, past, joined, income = boat + 0.8 * past + joined * (1 + differ * boat) + rnorm(n))
}
truth_of <- function(differ) {
  big <- world(1, 2e6, differ)
  gain <- 1 + differ * big$boat
  list(ATE = 1, ATT = mean(gain[big$joined == 1]), ATC = mean(gain[big$joined == 0]))
}
truths <- list("0" = truth_of(0), "1" = truth_of(1))

one <- function(seed) {
  cases <- expand.grid(n = c(150, 600), differ = 0:1, estimand = c("ATE", "ATT", "ATC"),
                       estimator = c("difference", "regression"), stringsAsFactors = FALSE)
  do.call(rbind, lapply(seq_len(nrow(cases)), function(k) {
    case <- cases[k, ]
    study <- frame_study(world(seed, case$n, case$differ), "joined", "income", c("boat", "past"), treated = 1,
                         estimand = case$estimand)
    own <- tidy(measure_effect(group_units(score_units(study), "full"), estimator = case$estimator))
    own <- own[own$term == "difference", ]
    truth <- truths[[as.character(case$differ)]][[case$estimand]]
    data.frame(case, estimate = own$estimate, truth, se = own$std.error,
               holds = own$conf.low < truth && own$conf.high > truth)
  }))
}
judge_draws(one, draws_asked(), c("n", "differ", "estimand", "estimator"), "validation/results/sets.csv")
