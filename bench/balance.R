# All balance statistics of 20 covariates at a million rows, before and after a design, against ordering each column once
# with order(method = "radix"). Processor seconds in one run.
suppressMessages(library(carefultwin))
n <- 1e6
set.seed(1)
data <- as.data.frame(stats::setNames(lapply(1:20, function(j) rnorm(n)), paste0("x", 1:20)))
data$joined <- as.integer(runif(n) < stats::plogis(data$x1 / 2 - data$x2 / 2))
data$income <- rnorm(n)
design <- weigh_units(score_units(frame_study(data, "joined", "income", paste0("x", 1:20))))
cpu <- function(expr) sum(system.time(expr)[c("user.self", "sys.self")])
for (run in 1:3) {
  ordering <- cpu(for (j in 1:20) order(data[[j]], method = "radix"))
  statistics <- cpu(carefultwin:::balance_moments(design$study, carefultwin:::design_samples(design), TRUE))
  whole <- cpu(assess_balance(design))
  cat(sprintf("ordering %.2f s; statistics %.2f s, ratio %.2f (at most 1.5 wanted); assess_balance %.2f s, ratio %.2f\n",
              ordering, statistics, statistics / ordering, whole, whole / ordering))
}

# The first table with a column of 100 levels; plain R takes means and variances level by level.
data <- data.frame(treated = rbinom(n, 1, 0.4), y = 0, level = sample(sprintf("level %03d", 1:100), n, TRUE))
study <- frame_study(data, "treated", "y", "level", treated = 1)
plain <- system.time({
  by_hand <- vapply(sort(unique(data$level)), function(level) {
    own <- as.double(data$level == level)
    mean <- tapply(own, data$treated, mean)
    c(mean, sqrt(sum(tapply(own, data$treated, var) / table(data$treated))))
  }, numeric(3))
})[[3L]]
ours <- system.time(groups <- tidy(describe_groups(study)))[[3L]]
stopifnot(abs(groups$mean_control / by_hand[1L, ] - 1) < 1e-10, abs(groups$std.error / by_hand[3L, ] - 1) < 1e-4)
cat(sprintf("first table, %g units, 100 levels: plain R %.1f s, describe_groups %.2f s, ratio %.1f (2 s wanted at 1e6)\n", n, plain,
            ours, plain / ours))
