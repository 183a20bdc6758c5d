# Outcome models beyond one regression, augmented quantiles, double selection: bias, standard error against the spread of
# estimates, coverage. Usage: Rscript validation/models.R [draws]
suppressMessages(library(carefultwin))
source("validation/draws.R")

# Potential outcomes of all kinds, so that truths are means over many units.
potential <- function(x, gear, arm) {
  eta <- 0.3 + 0.4 * x + 0.3 * arm + 0.2 * (gear == "nets")
  list(count = exp(eta), any = plogis(0.5 + 0.5 * x + 0.4 * arm), much = exp(0.4 + 0.3 * x + 0.2 * arm),
       level = x + 0.8 * arm, sold = 2 + x + arm)
}
world <- function(seed, n) {
  set.seed(seed)
  x <- rnorm(n)
  gear <- sample(c("nets", "lines"), n, TRUE)
  z <- rbinom(n, 1, plogis(0.6 * x - 0.2))
  at <- potential(x, gear, z)
  data.frame(x, gear, z, trips = rnbinom(n, size = 0.8, mu = at$count), sales = rbinom(n, 1, at$any) * rgamma(n, 2, 2 / at$much),
             grade = findInterval(at$level + rlogis(n), c(-1, 0.5, 2)), income = at$sold + rnorm(n) * (1 + 0.3 * z))
}
big <- world(1, 4e6)
truth_of <- local({
  arms <- lapply(1:0, function(arm) potential(big$x, big$gear, arm))
  grade <- function(a) mean(3 - rowSums(vapply(c(-1, 0.5, 2), function(cut) plogis(cut - a$level), numeric(4e6))))
  median_of <- function(a, sd) uniroot(function(q) mean(pnorm((q - a$sold) / sd)) - 0.5, c(0, 6))$root
  c(trips = mean(arms[[1]]$count) - mean(arms[[2]]$count),
    sales = mean(arms[[1]]$any * arms[[1]]$much) - mean(arms[[2]]$any * arms[[2]]$much),
    grade = grade(arms[[1]]) - grade(arms[[2]]), income = median_of(arms[[1]], 1.3) - median_of(arms[[2]], 1))
})
rm(big)

wide <- function(seed, n, p) {
  set.seed(seed)
  x <- matrix(rnorm(n * p), n, dimnames = list(NULL, paste0("x", seq_len(p))))
  z <- rbinom(n, 1, plogis(0.7 * x[, 1] - 0.5 * x[, 2]))
  data.frame(z, y = z + x[, 1] + 0.5 * x[, 3] + rnorm(n), x)
}

one <- function(seed) {
  data <- world(seed, 800)
  design <- frame_study(data, "z", c("trips", "sales", "grade", "income"), c("x", "gear"), estimand = "ATE", treated = 1) |>
    score_units() |> weigh_units()
  row <- function(effect, what, truth, term = "difference") {
    own <- tidy(effect)[tidy(effect)$term == term, ]
    data.frame(what, estimate = own$estimate, truth, se = own$std.error, holds = own$conf.low < truth && own$conf.high > truth)
  }
  measure <- function(outcome, ...) measure_effect(design, outcome, estimator = "augmented", ...)
  many <- frame_study(wide(seed, 400, 200), "z", "y", paste0("x", 1:200), estimand = "ATE", treated = 1)
  rbind(row(measure("trips", family = "negative_binomial"), "negative binomial", truth_of[["trips"]]),
        row(measure("sales", family = "two_part"), "two parts", truth_of[["sales"]]),
        row(measure("grade", family = "ordered"), "ordered logit", truth_of[["grade"]]),
        row(measure("income", quantiles = 0.5), "augmented median", truth_of[["income"]], "quantile_0.5_difference"),
        row(measure_effect(many, estimator = "selection"), "double selection, 200 columns", 1))
}
judge_draws(one, draws_asked(), "what", "validation/results/models.csv")
