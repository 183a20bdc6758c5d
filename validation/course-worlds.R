# The world of validation/course.R, its frame and its truth: always against never.

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

frame <- function(data) {
  frame_course(data, "a", "y", "time", "unit", covariates = "size", changing = "debt", treated = 1)
}

course_truth <- function(n) {
  mean(world(1, n, rep(1, periods))$y, na.rm = TRUE) - mean(world(1, n, rep(0, periods))$y, na.rm = TRUE)
}
