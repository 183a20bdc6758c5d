# Times that are censored the more, the longer boats are: mean times by weights alone and with a model of censoring.
# Usage: Rscript validation/censoring.R [draws]
suppressMessages(library(carefultwin))
args <- commandArgs(TRUE)
draws <- if (length(args) > 0L) as.integer(args[1L]) else 1000L
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
    data.frame(what, estimate = own$estimate, se = own$std.error, holds = own$conf.low < truth && own$conf.high > truth)
  }
  rbind(row(measure_hazard(design, "months", "left", horizon = horizon), "weights alone"),
        row(measure_hazard(design, "months", "left", horizon = horizon, censoring_model = ~ boat + port),
            "with a model of censoring"))
}
found <- parallel::mclapply(seq_len(draws), function(seed) {
  tryCatch(suppressWarnings(one(seed)), error = function(e) conditionMessage(e))
}, mc.cores = parallel::detectCores())
failed <- vapply(found, is.character, NA)
cat(sprintf("%d failed\n", sum(failed)), unique(unlist(found[failed])))
rows <- do.call(rbind, found[!failed])
out <- do.call(rbind, lapply(split(rows, factor(rows$what, unique(rows$what))), function(own) {
  data.frame(what = own$what[1L], draws = nrow(own), bias = mean(own$estimate - truth), spread = sd(own$estimate),
             se_ratio = mean(own$se) / sd(own$estimate), coverage = mean(own$holds))
}))
rownames(out) <- NULL
out[3:6] <- round(out[3:6], 3)
print(out)
utils::write.csv(out, "validation/results/censoring.csv", row.names = FALSE)
