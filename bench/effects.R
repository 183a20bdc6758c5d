# Effects at size, against plain R in the same run. Usage: Rscript bench/effects.R [units] [bootstrap units]
suppressMessages(library(carefultwin))
args <- as.numeric(commandArgs(TRUE))
n <- if (length(args) > 0L) args[1L] else 1e6
small <- if (length(args) > 1L) args[2L] else 1e5
p <- 10

cpu <- function(expr) sum(system.time(expr)[1:2])
peak <- function() sum(gc()[, 6L])

crowd <- function(n) {
  set.seed(1)
  data <- as.data.frame(matrix(rnorm(n * p), n))
  names(data) <- paste0("x", seq_len(p))
  data$treated <- as.integer(runif(n) < stats::plogis(0.5 * data$x1 + 0.3 * data$x2))
  data$y <- drop(as.matrix(data[seq_len(p)]) %*% rep(1, p)) + data$treated + rnorm(n)
  data$bought <- as.integer(runif(n) < stats::plogis(data$x1 + 0.5 * data$treated))
  data$visits <- stats::rpois(n, exp(0.3 * data$x1 + 0.2 * data$treated))
  data$months <- round(stats::rexp(n, exp(-3 - 0.2 * data$treated)), 1)
  data$left <- as.integer(runif(n) < 0.8)
  data
}

data <- crowd(n)
formula <- stats::reformulate(paste0("x", seq_len(p)), "treated")
glm_time <- cpu(stats::glm(formula, stats::binomial(), data))
study <- frame_study(data, "treated", c("y", "bought", "visits", "months", "left"), paste0("x", seq_len(p)),
                     estimand = "ATE")
design <- weigh_units(score_units(study))
cat(sprintf("%g x %d; one stats::glm of the score: %.1f processor s\n", n, p, glm_time))
tell <- function(what, expr) {
  before <- peak()
  gc(reset = TRUE)
  seconds <- cpu(expr)
  cat(sprintf("%-44s %5.1f s, %.2f of one glm, peak %.1f times the data\n", what, seconds, seconds / glm_time,
              peak() * 2^20 / as.numeric(object.size(data))))
}
tell("difference", measure_effect(design))
tell("augmented, gaussian (2 wanted)", measure_effect(design, estimator = "augmented"))
tell("augmented, binomial", measure_effect(design, "bought", "augmented"))
tell("augmented, poisson", measure_effect(design, "visits", "augmented", family = "poisson"))
tell("targeted, gaussian", measure_effect(design, estimator = "targeted"))
tell("quantiles 0.25, 0.5, 0.75", measure_effect(design, quantiles = c(0.25, 0.5, 0.75)))
tell("hazard ratio, curves, restricted means", measure_hazard(design, "months", "left", horizon = 40))
rm(study, design)

# 1,000 bootstrap draws of inverse weighting; plain R refits glm.fit on the drawn rows, timed on a few draws.
data <- crowd(small)
design <- weigh_units(score_units(frame_study(data, "treated", "y", paste0("x", seq_len(p)), estimand = "ATE")))
x <- cbind(1, as.matrix(data[seq_len(p)]))
timed <- 8
plain <- cpu(for (k in seq_len(timed)) {
  rows <- sample.int(small, replace = TRUE)
  z <- data$treated[rows]
  y <- data$y[rows]
  e <- stats::glm.fit(x[rows, ], z, family = stats::binomial())$fitted.values
  w <- ifelse(z == 1, 1 / e, 1 / (1 - e))
  stats::weighted.mean(y[z == 1], w[z == 1]) - stats::weighted.mean(y[z == 0], w[z == 0])
}) * 1000 / timed
ours <- cpu(measure_effect(design, inference = "bootstrap"))
cat(sprintf("1,000 bootstrap draws at %g x %d: plain R %.0f s (from %d draws), measure_effect %.1f s, ratio %.1f (20 wanted)\n",
            small, p, plain, timed, ours, plain / ours))
plain_augmented <- cpu(for (k in seq_len(timed)) {
  rows <- sample.int(small, replace = TRUE)
  z <- data$treated[rows]
  stats::glm.fit(x[rows, ], z, family = stats::binomial())
  for (arm in 0:1) stats::lm.fit(x[rows[z == arm], ], data$y[rows[z == arm]])
}) * 200 / timed
ours <- cpu(measure_effect(design, estimator = "augmented", inference = "bootstrap", draws = 200))
cat(sprintf("200 draws of the augmented estimator: plain R %.0f s, ours %.1f s, ratio %.1f\n", plain_augmented, ours,
            plain_augmented / ours))
