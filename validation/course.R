# Histories of treatment: bias, standard error against the spread of estimates, coverage, of both estimators; and what a
# raw comparison and ordinary adjustment say. Usage: Rscript validation/course.R [draws]
suppressMessages(library(carefultwin))
args <- commandArgs(TRUE)
draws <- if (length(args) > 0L) as.integer(args[1L]) else 1000L
periods <- 3L

# A changing confounder that treatment moves; outcomes linear, scores logits. history: NULL for what units do themselves;
# hidden: does the score need the square of the changing column, which it is not given?
world <- function(seed, n, history = NULL, leave = 0, bent = FALSE) {
  set.seed(seed)
  size <- rnorm(n)
  debt <- rnorm(n) - 0.3 * size
  before <- numeric(n)
  there <- rep(TRUE, n)
  total <- 0
  rows <- vector("list", periods)
  for (t in seq_len(periods)) {
    extra <- if (bent) 0.35 * (debt^2 - 1) else 0
    a <- if (is.null(history)) rbinom(n, 1, plogis(-0.3 + 0.5 * debt + 0.2 * size + 0.8 * before + extra)) else rep(history[t], n)
    rows[[t]] <- data.frame(unit = seq_len(n), time = t, size, debt, a, there)
    there <- there & (leave == 0 | t == periods | runif(n) > plogis(-3.2 + leave * debt))
    total <- total + a
    debt <- 0.6 * debt - 0.5 * a + 0.2 * size + rnorm(n)
    before <- a
  }
  y <- total - 0.8 * debt + size + rnorm(n)
  data <- do.call(rbind, rows)
  data$y <- ifelse(data$time == periods, y[data$unit], NA)
  data[data$there, ]
}
truth <- mean(world(1, 2e6, rep(1, periods))$y, na.rm = TRUE) - mean(world(1, 2e6, rep(0, periods))$y, na.rm = TRUE)

frame <- function(data) {
  frame_course(data, "a", "y", "time", "unit", covariates = "size", changing = "debt", treated = 1)
}
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

worlds <- data.frame(n = c(1000, 1000, 1000), leave = c(0, 0.7, 0), bent = c(FALSE, FALSE, TRUE))
out <- do.call(rbind, lapply(seq_len(nrow(worlds)), function(k) {
  w <- worlds[k, ]
  found <- parallel::mclapply(seq_len(draws), function(seed) {
    tryCatch(suppressWarnings(one(seed, w$n, w$leave, w$bent)), error = function(e) conditionMessage(e))
  }, mc.cores = parallel::detectCores())
  failed <- vapply(found, is.character, NA)
  cat(sprintf("world %d: %d failed\n", k, sum(failed)), unique(unlist(found[failed])))
  rows <- do.call(rbind, found[!failed])
  do.call(rbind, lapply(split(rows, factor(rows$by, unique(rows$by))), function(own) {
    data.frame(w, by = own$by[1L], draws = nrow(own), bias = mean(own$estimate) - truth, spread = sd(own$estimate),
               se_ratio = mean(own$se) / sd(own$estimate), coverage = mean(own$holds))
  }))
}))
rownames(out) <- NULL
out[6:9] <- round(out[6:9], 3)
print(out)
utils::write.csv(out, "validation/results/course.csv", row.names = FALSE)
