# Who gains: size of both tests without variation, coverage with it, along a line and along a hump. Usage:
# Rscript validation/variation.R [draws]
suppressMessages(library(carefultwin))
source("validation/draws.R")
draws <- draws_asked()

world <- function(seed, n, slope, clusters, hump) {
  set.seed(seed)
  size <- rnorm(n)
  depth <- rnorm(n)
  gear <- sample(c("nets", "lines", "pots"), n, TRUE)
  bay <- rep_len(seq_len(60), n)
  joined <- rbinom(n, 1, plogis(0.5 * size - 0.3 * (gear == "nets")))
  shock <- if (clusters) 0.5 * rnorm(60)[bay] else 0
  income <- size + depth + (gear == "pots") + joined * (1 + slope * size + hump * exp(-size^2)) + shock + rnorm(n)
  data.frame(size, depth, gear, bay, joined, income)
}

# Of one draw: what do the tests find, in all columns together, in the bends of size and in gear, and do intervals hold
# the slope, the curve and the average?
one <- function(seed, n, estimand, learners, slope, clusters, weighed, hump) {
  data <- world(seed, n, slope, clusters, hump)
  study <- frame_study(data, "joined", "income", covariates = ~ size + depth + gear, estimand = estimand, treated = 1,
                       cluster = if (clusters) "bay")
  x <- if (weighed) weigh_units(study, "entropy") else study
  found <- suppressWarnings(measure_variation(x, learners = strsplit(learners, ", ")[[1L]], seed = seed))
  own <- tidy(found, part = "predictor")
  row <- own[own$term == "size", ]
  truth <- if (estimand == "ATE") 1 + hump / sqrt(3) else 1 + slope * mean(data$size[data$joined == 1])
  mean_row <- own[own$term == "average", ]
  levels <- tidy(found, part = "levels")
  levels <- levels[levels$column == "size" & levels$at > -1.5 & levels$at < 1.5, ]
  curve <- 1 + slope * levels$at + hump * exp(-levels$at^2)
  tests <- glance(found)
  by_column <- tidy(found)
  by_column <- stats::setNames(by_column$p.value < 0.05, by_column$column)
  c(p_columns = tests$p_columns < 0.05, p_prediction = tests$p_prediction < 0.05, p_size = by_column[["size"]],
    p_gear = by_column[["gear"]],
    slope = row$conf.low < slope && slope < row$conf.high,
    average = mean_row$conf.low < truth && truth < mean_row$conf.high,
    curve = mean(levels$conf.low < curve & curve < levels$conf.high),
    band = all(levels$band.low < curve & curve < levels$band.high), varies = tests$varies)
}

worlds <- data.frame(
  n = c(2000, 2000, 2000, 2000, 2000, 2000, 1000, 1000, 4000, 2000, 2000, 20000),
  estimand = c("ATE", "ATE", "ATT", "ATT", rep("ATE", 8)),
  learners = c(rep("logit", 7), "forest", "forest", "logit, forest", "logit", "logit"), slope = c(0, 0.4, 0, 0.4, rep(0, 8)),
  clusters = seq_len(12) == 5, weighed = seq_len(12) == 6, hump = rep(0:1, c(10, 2))
)
rows <- lapply(seq_len(nrow(worlds)), function(k) {
  w <- worlds[k, ]
  size <- if (grepl("forest", w$learners)) ceiling(draws / 4) else draws
  drawn <- function(seed) one(seed, w$n, w$estimand, w$learners, w$slope, w$clusters, w$weighed, w$hump)
  found <- repeat_draws(drawn, size, sprintf("world %d: ", k))
  data.frame(w, draws = length(found), t(round(rowMeans(do.call(cbind, found)), 3)))
})
rows <- do.call(rbind, rows)
print(rows)
utils::write.csv(rows, "validation/results/variation.csv", row.names = FALSE)
