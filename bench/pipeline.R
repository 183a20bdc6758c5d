# A million and ten million units with 10 covariates: frame, score, weigh, balance, effect, against one call of
# stats::glm on the same data; processor seconds and peak memory, R itself and the data included, over the size of the
# data. Ratios in one run.
#
# usage: Rscript bench/pipeline.R [UNITS ...]
suppressMessages(library(carefultwin))
cpu <- function(expr) sum(system.time(expr)[c("user.self", "sys.self")])
megabytes <- function(x) as.numeric(utils::object.size(x)) / 2^20
covariates <- paste0("x", 1:10)

made_up <- function(n) {
  set.seed(1)
  data <- as.data.frame(stats::setNames(lapply(1:10, function(j) rnorm(n)), covariates))
  linear <- drop(as.matrix(data) %*% rnorm(10, sd = 0.25))
  data$joined <- as.integer(runif(n) < stats::plogis(linear))
  data$income <- linear + data$joined + rnorm(n)
  data
}

run <- function(n) {
  data <- made_up(n)
  invisible(gc(reset = TRUE))
  ours <- cpu({
    study <- frame_study(data, "joined", "income", covariates)
    design <- weigh_units(score_units(study))
    balance <- assess_balance(design)
    effect <- measure_effect(design)
  })
  peak <- sum(gc()[, 6])
  cat(sprintf("%.0e units: difference %.3f (truth 1), worst |SMD| after: %.1e\n", n,
              effect$estimate[["difference"]], glance(balance)$worst_smd))
  rm(study, design, balance, effect)
  plain <- cpu(stats::glm(stats::reformulate(covariates, "joined"), stats::binomial(), data))
  cat(sprintf("  pipeline %.2f s, stats::glm %.2f s: ratio %.2f (at most 0.5 wanted)\n", ours, plain, ours / plain))
  cat(sprintf("  peak memory %.0f MB, data %.0f MB: ratio %.1f (at most 4 wanted)\n", peak, megabytes(data),
              peak / megabytes(data)))
}

asked <- as.numeric(commandArgs(TRUE))
for (n in if (length(asked) > 0L) asked else c(1e6, 1e7)) run(n)
