# Times that are censored the more, the longer boats are: mean times by weights alone and with a model of censoring.
# Usage: Rscript validation/censoring.R [draws]
suppressMessages(library(carefultwin))
source("validation/draws.R")
horizon <- 2

# Longer boats join more often and last longer; among those who joined they leave the count earlier.
world <- function(seed, n) {
  set.seed(seed)
  boat <- rnorm(n)
  port <- sample(c("small", "large"), n, TRUE)
  z <- rbinom(n, 1, plogis(0.6 * boat))
  lasts <- cbind(rexp(n, exp(-0.6 * boat)), rexp(n, exp(-0.3 - 0.6 * boat)))
  lost <- rexp(n, 0.35 * exp(z * (0.7 * boat + 0.3 * (port == "large"))))
  own <- lasts[cbind(seq_len(n), z + 1)]
  list(data = data.frame(boat, port, z, months = pmin(own, lost), left = as.integer(own <= lost)),
       truth = mean(pmin(lasts[, 2], horizon)) - mean(pmin(lasts[, 1], horizon)))
}
truth <- world(1, 4e6)$truth

one <- function(seed) {
  data <- world(seed, 800)$data
  design <- frame_study(data, "z", c("months", "left"), c("boat", "port"), estimand = "ATE", treated = 1) |>
    score_units() |> weigh_units()
  row <- function(effect, what) {
    own <- tidy(effect)[tidy(effect)$term == "restricted_mean_difference", ]
    data.frame(what, estimate = own$estimate, truth, se = own$std.error,
               holds = own$conf.low < truth && own$conf.high > truth)
  }
  rbind(row(measure_hazard(design, "months", "left", horizon = horizon), "weights alone"),
        row(measure_hazard(design, "months", "left", horizon = horizon, censoring_model = ~ boat + port),
            "with a model of censoring"))
}
judge_draws(one, draws_asked(), "what", "validation/results/censoring.csv")
