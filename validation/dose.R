# Effects along a dose: bias, standard error against the spread of estimates, coverage of a contrast and of the band of the
# whole curve as it is told by default (2 to 98 per cent of the doses, where it has support), and size of the test that the
# curve is flat. Usage: Rscript validation/dose.R [draws]
suppressMessages(library(carefultwin))
source("validation/draws.R")
draws <- draws_asked()

source("validation/dose-worlds.R")

designs <- list(
  inverse = function(study) weigh_units(score_units(study)),
  kernel = function(study) weigh_units(score_units(study, density = "kernel")),
  entropy = function(study) weigh_units(study, "entropy")
)
one <- function(seed, n, flat, clusters) {
  study <- frame_dose(world(seed, n, flat, clusters), "tonnes", "income", ~ size + depth + gear,
                      cluster = if (clusters) "bay")
  do.call(rbind, lapply(names(designs), function(name) {
    design <- designs[[name]](study)
    do.call(rbind, lapply(c("weighted", "augmented"), function(estimator) {
      found <- measure_response(design, estimator = estimator, contrasts = list(c(2, 4)), seed = seed)
      row <- tidy(found, part = "contrasts")
      true <- mean_at(4, flat) - mean_at(2, flat)
      curve <- tidy(found)
      curve <- curve[curve$supported, ]
      truth <- mean_at(curve$dose, flat)
      data.frame(design = name, estimator, estimate = row$estimate, true, se = row$std.error,
                 holds = row$conf.low < true && row$conf.high > true,
                 band = all(curve$band.low < truth & curve$band.high > truth),
                 rejects = glance(found)$p_flat < 0.05)
    }))
  }))
}

worlds <- data.frame(n = c(1000, 1000, 2000, 4000, 4000), flat = c(FALSE, TRUE, FALSE, FALSE, TRUE),
                     clusters = c(FALSE, FALSE, TRUE, FALSE, FALSE))
out <- do.call(rbind, lapply(seq_len(nrow(worlds)), function(k) {
  w <- worlds[k, ]
  found <- repeat_draws(function(seed) one(seed, w$n, w$flat, w$clusters), draws, sprintf("world %d: ", k))
  rows <- do.call(rbind, found)
  do.call(rbind, lapply(split(rows, paste(rows$design, rows$estimator)), function(own) {
    data.frame(w, own[1L, c("design", "estimator")], draws = nrow(own), bias = mean(own$estimate - own$true),
               spread = sd(own$estimate), se_ratio = mean(own$se) / sd(own$estimate), coverage = mean(own$holds),
               band = mean(own$band), rejects = mean(own$rejects))
  }))
}))
rownames(out) <- NULL
out[7:12] <- round(out[7:12], 3)
print(out)
utils::write.csv(out, "validation/results/dose.csv", row.names = FALSE)
