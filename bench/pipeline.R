# A million units with 10 covariates: frame, score, weigh, balance, effect, against one call of stats::glm on the same
# data; processor seconds and peak memory over the size of the data. Ratios in one run.
suppressMessages(library(carefultwin))
n <- 1e6
set.seed(1)
data <- as.data.frame(stats::setNames(lapply(1:10, function(j) rnorm(n)), paste0("x", 1:10)))
linear <- as.matrix(data) %*% rnorm(10, sd = 0.25)
data$joined <- as.integer(runif(n) < stats::plogis(drop(linear)))
data$income <- drop(linear) + data$joined + rnorm(n)
rm(linear)
covariates <- paste0("x", 1:10)
cpu <- function(expr) sum(system.time(expr)[c("user.self", "sys.self")])
megabytes <- function(x) as.numeric(utils::object.size(x)) / 2^20

invisible(gc(reset = TRUE))
ours <- cpu({
  study <- frame_study(data, "joined", "income", covariates)
  design <- weigh_units(score_units(study))
  balance <- assess_balance(design)
  effect <- measure_effect(design)
})
peak <- sum(gc()[, 6])
print(effect)
cat(sprintf("worst |SMD| after: %.1e\n", glance(balance)$worst_smd))
rm(study, design, balance, effect)
plain <- cpu(stats::glm(stats::reformulate(covariates, "joined"), stats::binomial(), data))
cat(sprintf("pipeline %.2f s, stats::glm %.2f s: ratio %.2f (at most 0.5 wanted)\n", ours, plain, ours / plain))
cat(sprintf("peak memory %.0f MB, data %.0f MB: ratio %.1f (at most 4 wanted)\n", peak, megabytes(data),
            peak / megabytes(data)))
