# Three arms: bias, standard error against the spread of estimates, and coverage, by way of comparing them and for whom.
# Usage: Rscript validation/arms.R [draws]
suppressMessages(library(carefultwin))
source("validation/draws.R")

# Gear is chosen by two numbers and a port; nets help longer boats more, so that whom one asks about matters.
world <- function(seed, n) {
  set.seed(seed)
  boat <- rnorm(n)
  past <- rnorm(n)
  port <- sample(c("small", "large"), n, TRUE)
  odds <- cbind(pots = 1, nets = exp(0.2 + 0.5 * boat), lines = exp(-0.1 - 0.4 * past + 0.3 * (port == "small")))
  gear <- colnames(odds)[apply(odds, 1L, function(p) sample(3L, 1L, prob = p))]
  data.frame(boat, past, port, gear,
             income = 3 + boat + past + (gear == "nets") * (1 + boat) - (gear == "lines") + rnorm(n))
}
truth_of <- local({
  big <- world(1, 2e6)
  nets <- function(inside) mean(1 + big$boat[inside])
  list(ATE = nets(TRUE), ATT = nets(big$gear == "nets"), ATC = nets(big$gear == "pots"))
})

one <- function(seed) {
  data <- world(seed, 900)
  rows <- lapply(names(truth_of), function(estimand) {
    arms <- frame_arms(data, "gear", "income", c("boat", "past", "port"), reference = "pots", estimand = estimand)
    scored <- score_units(arms)
    row <- function(effects, what, any_two = FALSE, of = NULL) {
      if (any_two) {
        own <- tidy(effects, part = "arms")
        own <- own[own$first == "nets" & own$second == "lines" | own$first == "lines" & own$second == "nets", ]
        truth <- truth_of[[estimand]] + 1
        if (own$first == "lines") truth <- -truth
        names(own)[names(own) == "difference"] <- "estimate"
      } else {
        own <- tidy(effects)
        own <- own[own$term == "difference" & own$contrast == "nets vs pots", ]
        truth <- if (is.null(of)) truth_of[[estimand]] else mean(1 + data$boat[of])
      }
      data.frame(estimand, what, estimate = own$estimate, truth, se = own$std.error,
                 holds = own$conf.low < truth && own$conf.high > truth)
    }
    everybody_matched <- function(scored) {
      paired <- pair_units(scored, replacement = TRUE, caliper = Inf)
      data$place <- rep(1:45, 20)
      data$income <- data$income + 0.5 * rnorm(45)[data$place]  # luck that a place shares
      clustered <- frame_arms(data, "gear", "income", c("boat", "past", "port"), reference = "pots", estimand = "ATE",
                              cluster = "place")
      rbind(row(measure_effect(paired), "matches with replacement"),
            row(measure_effect(paired), "matches with replacement, any two", any_two = TRUE),
            row(measure_effect(group_units(arms, "full", on = "mahalanobis"), estimator = "regression"),
                "full matching on covariates, regression"),
            row(measure_effect(group_units(score_units(clustered), "full")), "full matching, 45 clusters"))
    }
    weighted <- measure_effect(weigh_units(scored))
    stratified <- stratify_units(scored, strata = 10)
    cells <- group_units(arms, "coarsened", bins = list(boat = 6, past = 6))
    regressed <- measure_effect(cells, estimator = "regression")
    asked <- list(ATE = unique(data$gear), ATT = "nets", ATC = "pots")[[estimand]]
    rbind(
      row(weighted, "inverse weights"), if (estimand == "ATE") row(weighted, "any two", any_two = TRUE),
      row(measure_effect(scored, estimator = "augmented"), "augmented"),
      row(measure_effect(weigh_units(arms, "entropy")), "entropy weights"),
      row(measure_effect(stratified), "10 strata"),
      row(measure_effect(stratified, estimator = "augmented"), "10 strata, augmented"),
      row(measure_effect(cells), "coarsened cells"),
      row(regressed, "coarsened cells, regression"),
      row(regressed, "coarsened cells, regression, of whom they hold", of = rowSums(weights(cells)) > 0 & data$gear %in% asked),
      row(measure_effect(arms, estimator = "regression"), "regression"),
      row(measure_effect(arms, estimator = "selection"), "double selection"),
      if (estimand == "ATE") row(measure_effect(arms, estimator = "crossfit", learners = "logit", folds = 3, repeats = 1), "cross-fitted"),
      row(measure_effect(group_units(scored, "full")), "full matching"),
      row(measure_effect(group_units(scored, "full"), estimator = "regression"), "full matching, regression"),
      row(measure_effect(pair_units(scored, replacement = TRUE), estimator = "regression"),
          "matches with replacement, corrected"),
      if (estimand == "ATE") everybody_matched(scored)
    )
  })
  do.call(rbind, rows)
}
judge_draws(one, draws_asked(), c("estimand", "what"), "validation/results/arms.csv")
