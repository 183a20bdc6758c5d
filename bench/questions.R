# Doses and treatment over time against the plain-R way: a density by lm() and a weighted regression on a spline by lm();
# scores of all periods by glm() and a weighted regression. Neither plain way has standard errors that know the weights.
# Usage: Rscript bench/questions.R [units]
suppressMessages(library(carefultwin))
args <- commandArgs(TRUE)
n <- if (length(args) > 0L) as.numeric(args[1L]) else 2e5
seconds <- function(run) min(replicate(3L, system.time(run())[["elapsed"]]))
set.seed(1)
x <- matrix(rnorm(n * 10), n, dimnames = list(NULL, paste0("x", 1:10)))
data <- data.frame(x, dose = 3 + 0.4 * x[, 1] + rnorm(n))
data$y <- data$dose + x[, 1] + rnorm(n)
plain <- seconds(function() {
  fit <- lm(dose ~ . - y, data)
  w <- dnorm(data$dose, mean(data$dose), sd(data$dose)) / dnorm(residuals(fit), 0, sd(residuals(fit)))
  lm(y ~ splines::ns(dose, 3), data, weights = w)
})
own <- seconds(function() {
  design <- weigh_units(score_units(frame_dose(data, "dose", "y", paste0("x", 1:10))))
  measure_response(design)
})
cat(sprintf("dose, %g units x 10: %.2f times the plain way, with 25 standard errors and a band\n", n, own / plain))

units <- n / 4
long <- data.frame(unit = rep(seq_len(units), 4), time = rep(1:4, each = units), base = rep(rnorm(units), 4), debt = rnorm(n))
long$a <- rbinom(n, 1, plogis(long$debt))
long$y <- long$debt + long$a + rnorm(n)
plain <- seconds(function() {
  fit <- glm(a ~ base + debt + factor(time), binomial, long)
  p <- ifelse(long$a == 1, fitted(fit), 1 - fitted(fit))
  w <- 1 / tapply(p, long$unit, prod)
  lm(long$y[long$time == 4] ~ tapply(long$a, long$unit, sum), weights = as.numeric(w))
})
own <- seconds(function() {
  study <- frame_course(long, "a", "y", "time", "unit", covariates = "base", changing = "debt", treated = 1)
  measure_course(weigh_units(score_units(study)))
})
cat(sprintf("course, %g units x 4: %.2f times the plain way\n", units, own / plain))
