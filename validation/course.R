# Histories of treatment: bias, standard error against the spread of estimates, coverage, of both estimators; and what a
# raw comparison and ordinary adjustment say. Usage: Rscript validation/course.R [draws]
suppressMessages(library(carefultwin))
source("validation/draws.R")
draws <- draws_asked(2000L)
source("validation/course-worlds.R")
truth <- course_truth(2e6)

one <- function(seed, n, leave, bent) {
  design <- frame(world(seed, n, leave = leave, bent = bent)) |> score_units(lags = 0) |> weigh_units()
  ways <- list(weighted = measure_course(design), periods = measure_course(design, form = "periods"),
               exact = measure_course(design, form = "exact"), augmented = measure_course(design, estimator = "augmented"))
  rows <- do.call(rbind, lapply(names(ways), function(name) {
    row <- tidy(ways[[name]])
    data.frame(by = name, estimate = row$estimate, se = row$std.error, holds = row$conf.low < truth && row$conf.high > truth)
  }))
  beside <- tidy(ways$weighted, part = "beside")[-1L, ]
  rbind(rows, data.frame(by = beside$by, estimate = beside$estimate, se = beside$std.error,
                         holds = beside$conf.low < truth & beside$conf.high > truth))
}

worlds <- data.frame(n = c(1000, 2000, 1000), leave = c(0, 0.7, 0), bent = c(FALSE, FALSE, TRUE))
out <- do.call(rbind, lapply(seq_len(nrow(worlds)), function(k) {
  w <- worlds[k, ]
  found <- repeat_draws(function(seed) one(seed, w$n, w$leave, w$bent), draws, sprintf("world %d: ", k))
  rows <- do.call(rbind, found)
  do.call(rbind, lapply(split(rows, factor(rows$by, unique(rows$by))), function(own) {
    data.frame(w, by = own$by[1L], draws = nrow(own), bias = mean(own$estimate) - truth, spread = sd(own$estimate),
               se_ratio = mean(own$se) / sd(own$estimate), coverage = mean(own$holds))
  }))
}))
rownames(out) <- NULL
out[6:9] <- round(out[6:9], 3)
print(out)
utils::write.csv(out, "validation/results/course.csv", row.names = FALSE)
