# Who gains at size, against plain R in the same run. Usage: Rscript bench/variation.R [units] [forest units]
suppressMessages(library(carefultwin))
args <- as.numeric(commandArgs(TRUE))
n <- if (length(args) > 0L) args[1L] else 1e5
wooded <- if (length(args) > 1L) args[2L] else 1e5
p <- 20

crowd <- function(n) {
  set.seed(1)
  data <- as.data.frame(matrix(rnorm(n * p), n))
  names(data) <- paste0("x", seq_len(p))
  data$treated <- as.integer(runif(n) < stats::plogis(0.5 * data$x1))
  data$y <- data$x1 + data$x2 + data$treated * (1 + 0.3 * data$x3) + rnorm(n)
  data
}
framed <- function(data) {
  frame_study(data, "treated", "y", stats::reformulate(paste0("x", seq_len(p))), estimand = "ATE", treated = 1)
}

# Plain R: scores of five folds by glm and lm, their regression on all columns, and its robust errors.
data <- crowd(n)
formula <- stats::reformulate(paste0("x", seq_len(p)), "y")
plain <- system.time({
  fold <- sample(rep_len(1:5, n))
  g <- numeric(n)
  for (k in 1:5) {
    other <- data[fold != k, ]
    own <- data[fold == k, ]
    e <- stats::predict(stats::glm(stats::update(formula, treated ~ .), stats::binomial, other), own, type = "response")
    m <- lapply(1:0, function(arm) stats::predict(stats::lm(formula, other[other$treated == arm, ]), own))
    g[fold == k] <- m[[1L]] - m[[2L]] + own$treated / e * (own$y - m[[1L]]) - (1 - own$treated) / (1 - e) * (own$y - m[[2L]])
  }
  x <- cbind(1, scale(as.matrix(data[paste0("x", seq_len(p))]), scale = FALSE))
  inverse <- solve(crossprod(x))
  b <- inverse %*% crossprod(x, g)
  se <- sqrt(diag(inverse %*% crossprod(x * drop(g - x %*% b)) %*% inverse))
})[[3L]]
study <- framed(data)
ours <- system.time(found <- measure_variation(study, learners = "logit"))[[3L]]
slopes <- tidy(found, part = "predictor")
stopifnot(abs(slopes$estimate[-1L] - b[-1L]) < 4 * se[-1L] / 5, abs(slopes$std.error[-1L] / se[-1L] - 1) < 0.05)
cat(sprintf("%g units x %d, logit: plain R, scores and one regression alone, %.1f s; measure_variation, all of it, %.1f s, ratio %.1f\n",
            n, p, plain, ours, plain / ours))
future::plan(future::multisession, workers = 2)
for (k in c(3, 5)) {
  forests <- system.time(measure_variation(framed(crowd(wooded)), learners = "forest", folds = k))[[3L]]
  cat(sprintf("%g units x %d, forests in %d folds on two workers: %.0f s\n", wooded, p, k, forests))
}
