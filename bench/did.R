# Effects over time at size, against plain R in the same run. Usage: Rscript bench/did.R [units]
suppressMessages(library(carefultwin))
args <- as.numeric(commandArgs(TRUE))
units <- if (length(args) > 0L) args[1L] else 1e5
cpu <- function(expr) sum(system.time(expr)[1:2])
best <- function(f, times = 3) min(vapply(seq_len(times), function(k) cpu(f()), 0))

world <- function(units, periods, cohorts, seed = 1) {
  set.seed(seed)
  start <- c(floor(seq(3, periods, length.out = cohorts)), NA)[sample.int(cohorts + 1L, units, replace = TRUE)]
  data <- data.frame(unit = rep(seq_len(units), each = periods), time = rep(seq_len(periods), units))
  data$start <- start[data$unit]
  data$open <- as.integer(!is.na(data$start) & data$time >= data$start)
  data$region <- data$unit %% 50L
  data$y <- rnorm(units)[data$unit] + 0.1 * data$time + data$open * (1 + 0.1 * (data$time - ifelse(is.na(data$start), 0,
                                                                                                 data$start))) + rnorm(nrow(data))
  data
}

# Two-way fixed effects with clustered errors; plain R projects on units and periods in turn by rowsum, which takes
# several rounds unless every unit is seen in every period: one row in twenty is missing here.
data <- world(units * 1.05, 10, 5)
data <- data[runif(nrow(data)) < 0.95, ]
data$unit <- match(data$unit, unique(data$unit))
plain_two_way <- function() {
  size <- tabulate(data$unit)
  width <- tabulate(data$time)
  alternate <- function(x) {
    repeat {
      old <- x
      x <- x - (rowsum(x, data$unit, reorder = FALSE)[, 1L] / size)[data$unit]
      x <- x - (rowsum(x, data$time)[, 1L] / width)[data$time]
      if (max(abs(x - old)) < 1e-9) return(x)
    }
  }
  y <- alternate(data$y)
  d <- alternate(data$open)
  b <- sum(d * y) / sum(d^2)
  scores <- rowsum(d * (y - b * d), data$unit, reorder = FALSE)
  c(b, sqrt(sum(scores^2) * nrow(scores) / (nrow(scores) - 1)) / sum(d^2))
}
framing <- cpu(panel <- frame_panel(data, outcome = "y", time = "time", unit = "unit", first_treated = "start"))
plain <- plain_two_way()
ours <- measure_did(panel, estimator = "two_way")
stopifnot(all.equal(plain, c(coef(ours)[[1L]], sqrt(vcov(ours)[1L, 1L])), tolerance = 1e-6))
plain_time <- best(plain_two_way)
our_time <- best(function() measure_did(panel, estimator = "two_way"), 5)
cat(sprintf("two-way, %g rows, clustered by unit: plain R %.2f s, measure_did %.3f s, ratio %.1f (20 wanted); framing %.1f s\n",
            nrow(data), plain_time, our_time, plain_time / our_time, framing))

# Wild cluster bootstrap with 50 clusters.
panel <- frame_panel(data, outcome = "y", time = "time", unit = "unit", first_treated = "start", cluster = "region")
wild <- best(function() measure_did(panel, estimator = "two_way", inference = "wild", draws = 99999))
cat(sprintf("99,999 wild draws, %g rows, 50 clusters, p-value and interval, fit included: %.2f s (2 wanted)\n", nrow(data),
            wild))

# Group-time effects with their joint covariance; plain R loops over cells.
data <- world(units, 20, 10)
panel <- frame_panel(data, outcome = "y", time = "time", unit = "unit", treatment = "open")
plain_cells <- function() {
  wide <- matrix(data$y, units, byrow = TRUE)
  start <- data$start[seq(1, nrow(data), by = 20)]
  cells <- expand.grid(time = 2:20, cohort = sort(unique(start)))
  influence <- vapply(seq_len(nrow(cells)), function(k) {
    g <- cells$cohort[k]
    base <- if (cells$time[k] >= g) g - 1 else cells$time[k] - 1
    dy <- wide[, cells$time[k]] - wide[, base]
    own <- which(start == g)
    other <- which(is.na(start))
    out <- numeric(units)
    own_part <- function(at) (dy[at] - mean(dy[at])) / sqrt(length(at) * (length(at) - 1))
    out[own] <- own_part(own)
    out[other] <- -own_part(other)
    out
  }, numeric(units))
  crossprod(influence)
}
ours <- measure_did(panel)
covariance <- plain_cells()
stopifnot(all.equal(unname(vcov(ours)), covariance, tolerance = 1e-8))
plain_time <- best(plain_cells, 2)
our_time <- best(function() measure_did(panel), 5)
cat(sprintf("%d cells of %g units x 20 periods, joint covariance: plain R %.2f s, measure_did %.3f s, ratio %.1f (30 wanted)\n",
            nrow(covariance), units, plain_time, our_time, plain_time / our_time))
path <- best(function() summarise_did(ours, "event"))
cat(sprintf("event path with its band: %.2f s\n", path))
imputation <- best(function() measure_did(panel, estimator = "imputation"))
interaction <- best(function() measure_did(panel, estimator = "interaction"))
cat(sprintf("the same cells by imputation %.2f s, by one regression %.2f s\n", imputation, interaction))

# Augmented cells with covariates, against calls of glm on one cross-section: `units` times ten periods, thirty cells. R
# collects what is left over only when it has to: framing and measuring are held to four times the data.
rm(data, panel, ours)
others <- gc()[2L, 2L]
data <- local({
  set.seed(3)
  start <- c(4, 6, 9, NA)[sample.int(4L, units, replace = TRUE)]
  depth <- rnorm(units)
  boats <- rnorm(units)
  coast <- rbinom(units, 1, 0.4)
  out <- data.frame(unit = rep(seq_len(units), each = 10), time = rep(1:10, units))
  for (name in c("start", "depth", "boats", "coast")) out[[name]] <- get(name)[out$unit]
  out$y <- rnorm(units)[out$unit] + 0.1 * out$time * (1 + out$depth) + rnorm(nrow(out))
  out
})
size <- as.numeric(object.size(data)) / 2^20
invisible(gc())
invisible(mem.maxVSize(others + 4 * size))
panel <- frame_panel(data, outcome = "y", time = "time", unit = "unit", first_treated = "start",
                     covariates = ~ depth + boats + coast)
ours <- measure_did(panel, base = "fixed")
invisible(mem.maxVSize(Inf))
section <- data[data$time == 1, ]
plain_time <- best(function() glm(!is.na(start) ~ depth + boats + coast, binomial, section))
our_time <- best(function() measure_did(panel, base = "fixed"))
cat(sprintf(paste("%d augmented cells of %g units x 10 periods, three covariates: measure_did %.2f s, one glm %.2f s, ratio %.1f",
                  "(3 wanted), in memory of at most 4 times the data (%.0f MB)\n"), nrow(ours$cells), units, our_time, plain_time,
            our_time / plain_time, size))
rm(data, panel, section, ours)

# All that is looked at before and beside an effect, 7,000 units in 65 periods.
panel <- frame_panel(world(7000, 65, 12), outcome = "y", time = "time", unit = "unit", treatment = "open")
looks <- c(timing = best(function() summary(panel), 1), trends = best(function() assess_trends(panel), 1),
           decomposition = best(function() decompose_did(panel), 1), groups = best(function() describe_groups(panel, columns = "region"), 1),
           power = best(function() assess_power(panel), 1), cells = best(function() measure_did(panel), 1))
path <- summarise_did(measure_did(panel, base = "fixed"), "event", window = c(-10, 10))
long <- frame_panel(world(300, 40, 1), outcome = "y", time = "time", unit = "unit", treatment = "open")
looks[["drift"]] <- best(function() probe_trends(path, interval = "direct"), 1)
drifts <- best(function() probe_trends(measure_did(long, base = "fixed")), 1)
cat(sprintf("conditional bounds of a path of 40 periods: %.1f s (5 wanted)\n", drifts))
cat(sprintf("diagnostics of 7,000 units x 65 periods: %s; together %.1f s (5 wanted)\n",
            paste(sprintf("%s %.2f", names(looks), looks), collapse = ", "), sum(looks)))

# The synthetic comparison of 1,000 units in 100 periods; the plain way: the same weights by accelerated projected
# gradients, to a relative step of 1e-8.
towns <- local({
  set.seed(1)
  path <- cumsum(rnorm(100))
  measure <- rnorm(1000)
  out <- data.frame(unit = rep(1:1000, each = 100), time = 1:100, first = rep(ifelse(1:1000 <= 10, 80, NA), each = 100))
  out$y <- rep(rnorm(1000), each = 100) + as.vector(outer(path, measure)) + rnorm(1e5)
  out
})
panel <- frame_panel(towns, outcome = "y", time = "time", unit = "unit", first_treated = "first")
whole <- best(function() measure_did(panel, estimator = "synthetic", inference = "analytic"))
wide <- matrix(towns$y, 100)
past <- wide[1:79, 11:1000]
about <- sweep(past, 2, colMeans(past))
target <- rowMeans(wide[1:79, 1:10])
target <- target - mean(target)
penalty <- 79 * sqrt(10 * 21) * sd(diff(past))^2
plain_weights <- function() {
  onto <- function(v) {
    u <- sort(v, decreasing = TRUE)
    k <- max(which(u + (1 - cumsum(u)) / seq_along(u) > 0))
    pmax(v + (1 - sum(u[seq_len(k)])) / k, 0)
  }
  x <- ahead <- rep(1 / ncol(about), ncol(about))
  step <- 1 / (max(svd(about, 0, 0)$d)^2 + penalty)
  pace <- 1
  repeat {
    new <- onto(ahead - step * (drop(crossprod(about, about %*% ahead - target)) + penalty * ahead))
    if (max(abs(new - x)) < 1e-8 * max(new)) return(new)
    pace_new <- (1 + sqrt(1 + 4 * pace^2)) / 2
    ahead <- new + (pace - 1) / pace_new * (new - x)
    x <- new
    pace <- pace_new
  }
}
own <- best(function() carefultwin:::core_simplex_weights(about, target, penalty))
plain <- best(plain_weights, 2)
stopifnot(max(abs(carefultwin:::core_simplex_weights(about, target, penalty) - plain_weights())) < 1e-5)
cat(sprintf("synthetic comparison of 1,000 units x 100 periods: %.2f s (5 wanted); unit weights %.3f s, by gradients %.2f s: ratio %.1f\n",
            whole, own, plain, plain / own))
