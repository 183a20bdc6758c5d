# Pooled effects of imputed data: bias, standard error against the spread of estimates, coverage. The imputer is the one
# that the world calls for (a normal regression, its parameters drawn anew for each data set).
# Usage: Rscript validation/imputed.R [draws]
suppressMessages(library(carefultwin))
source("validation/draws.R")
draws <- draws_asked()

# Within each arm covariates are normal, so the score is a logit and what is missing is a normal regression on the rest.
world <- function(seed, n) {
  set.seed(seed)
  joined <- rbinom(n, 1, 0.4)
  size <- rnorm(n, 0.5 * joined)
  past <- rnorm(n, 0.4 * joined + 0.5 * size)
  income <- 1 * joined + size + past + rnorm(n)
  unknown <- runif(n) < plogis(-0.6 + 0.7 * size + 0.3 * joined)
  data.frame(joined, size, past = replace(past, unknown, NA), income, whole = past)
}

# One completed data set: parameters from their posterior, then values from the model (Rubin 1987, example 5.1).
complete <- function(data) {
  known <- !is.na(data$past)
  x <- cbind(1, data$size, data$joined, data$income)
  fit <- stats::lm.fit(x[known, ], data$past[known])
  sigma <- sqrt(sum(fit$residuals^2) / stats::rchisq(1, fit$df.residual))
  beta <- fit$coefficients + sigma * drop(backsolve(qr.R(fit$qr), stats::rnorm(4)))
  data$past[!known] <- drop(x[!known, ] %*% beta) + sigma * stats::rnorm(sum(!known))
  data
}

designs <- list(
  weights = function(study) measure_effect(weigh_units(score_units(study))),
  augmented = function(study) measure_effect(weigh_units(score_units(study)), estimator = "augmented"),
  strata = function(study) measure_effect(stratify_units(score_units(study), 5), estimator = "regression"),
  pairs = function(study) measure_effect(pair_units(score_units(study)), estimator = "regression")
)
frame <- function(data, estimand) frame_study(data, "joined", "income", ~ size + past, estimand = estimand, treated = 1)

one <- function(seed, n, sets) {
  data <- world(seed, n)
  imputed <- lapply(seq_len(sets), function(k) complete(data))
  do.call(rbind, lapply(names(designs), function(name) {
    estimand <- if (name == "pairs") "ATT" else "ATE"
    measure <- designs[[name]]
    effect <- suppressWarnings(measure(frame(imputed, estimand)))
    row <- tidy(effect)[tidy(effect)$term == "difference", ]
    known <- coef(suppressWarnings(measure(frame(transform(data, past = whole), estimand))))[["difference"]]
    data.frame(n, sets, design = name, estimate = row$estimate, se = row$std.error, holds = row$conf.low < 1 && row$conf.high > 1,
               missing = glance(effect)$missing_information, whole = known)
  }))
}

worlds <- data.frame(n = c(600, 600, 200), sets = c(10, 3, 10))
rows <- lapply(seq_len(nrow(worlds)), function(k) {
  found <- repeat_draws(function(seed) one(seed, worlds$n[k], worlds$sets[k]), draws, sprintf("world %d: ", k))
  do.call(rbind, found)
})
rows <- do.call(rbind, rows)
out <- do.call(rbind, lapply(split(rows, list(rows$n, rows$sets, rows$design), drop = TRUE), function(own) {
  data.frame(own[1L, c("n", "sets", "design")], draws = nrow(own), bias = mean(own$estimate) - 1,
             spread = sd(own$estimate), se_ratio = mean(own$se) / sd(own$estimate), coverage = mean(own$holds),
             missing_information = mean(own$missing), spread_if_known = sd(own$whole))
}))
rownames(out) <- NULL
out[5:10] <- round(out[5:10], 3)
print(out)
utils::write.csv(out, "validation/results/imputed.csv", row.names = FALSE)
