# Bounds under hidden bias against the plain-R way, in one run: ratios of the best of several runs.
suppressMessages(library(carefultwin))
own <- asNamespace("carefultwin")
best <- function(expr, times = 3) {
  expr <- substitute(expr)
  env <- parent.frame()
  min(vapply(seq_len(times), function(k) system.time(eval(expr, env))[["elapsed"]], 0))
}
report <- function(what, plain, ours) {
  cat(sprintf("%-58s plain R %7.2f s   ours %6.2f s   ratio %5.1f\n", what, plain, ours, plain / ours))
}
n <- 1e6
set.seed(1)
d <- rnorm(n, 0.2)
gammas <- seq(1, 3, length.out = 20)

plain_signed_rank <- function(d, gamma) {
  d <- d[d != 0]
  q <- rank(abs(d))
  t <- sum(q[d > 0])
  tail <- function(p) pnorm((t - sum(q) * p) / sqrt(sum(q^2) * p * (1 - p)), lower.tail = FALSE)
  c(tail(1 / (1 + gamma)), tail(gamma / (1 + gamma)))
}
ours_signed_rank <- function() {
  ranks <- own$core_signed_ranks(d)
  vapply(gammas, function(g) own$core_signed_rank_bounds(ranks, g, FALSE), numeric(2))
}
stopifnot(all.equal(unname(ours_signed_rank()[, 3]), plain_signed_rank(d, gammas[3])))
report("signed-rank bounds, 1e6 pairs, 20 gammas",
       best(for (g in gammas) plain_signed_rank(d, g), 1), best(ours_signed_rank()))

z <- rbinom(n, 1, 0.5)
y <- rnorm(n) + z
e <- plogis(rnorm(n))
lambdas <- gammas
plain_extreme <- function(y, odds, lambda, high) {
  place <- order(y, decreasing = high)
  y <- y[place]
  odds <- odds[place]
  up <- 1 + odds * lambda
  down <- 1 + odds / lambda
  top <- (cumsum(up * y) + sum(down * y) - cumsum(down * y)) / (cumsum(up) + sum(down) - cumsum(down))
  if (high) max(top) else min(top)
}
plain_bounds <- function(lambda) {
  t <- z == 1
  odds <- ifelse(t, (1 - e) / e, e / (1 - e))
  c(plain_extreme(y[t], odds[t], lambda, FALSE) - plain_extreme(y[!t], odds[!t], lambda, TRUE),
    plain_extreme(y[t], odds[t], lambda, TRUE) - plain_extreme(y[!t], odds[!t], lambda, FALSE))
}
ours_bounds <- function() {
  odds <- ifelse(z == 1, (1 - e) / e, e / (1 - e))
  arms <- lapply(c(treated = 1, control = 0), function(arm) {
    own_rows <- z == arm
    list(added = 0, table = own$core_bound_table(y[own_rows], rep(1, sum(own_rows)), odds[own_rows]))
  })
  own$core_difference_bounds(arms, lambdas)
}
stopifnot(all.equal(unname(ours_bounds()[3, ]), plain_bounds(lambdas[3])))
report("weight-model bounds, 1e6 units, 20 lambdas", best(for (l in lambdas) plain_bounds(l), 1), best(ours_bounds()))

plain_shift <- function(sorted, target) {  # bisection on counts by findInterval
  above <- function(value) {
    upper <- length(sorted) - findInterval(2 * value - sorted, sorted)
    sum(pmin(upper, rev(seq_along(sorted))))
  }
  range <- range(sorted)
  for (k in 1:50) {
    middle <- mean(range)
    if (above(middle) >= target) range[1] <- middle else range[2] <- middle
  }
  range[2]
}
sorted <- sort(d)
one <- best(plain_shift(sorted, n * (n + 1) / 3), 1)
report("Hodges-Lehmann bounds, 1e6 pairs, 20 gammas (plain: 1 of 80)", 80 * one,
       best(own$core_shift_bounds(sorted, gammas, 0.95, FALSE), 2))

study <- frame_study(data.frame(z, y, x = qlogis(e) + rnorm(n)), "z", "y", "x", estimand = "ATE")
effect <- suppressWarnings(measure_effect(weigh_units(score_units(study))))
cat(sprintf("probe_weights() without draws, 1e6 units: %.2f s\n", best(
  probe_weights(effect, lambda = lambdas, draws = 0, yardstick = FALSE), 2)))
cat(sprintf("probe_omitted(), 1e6 units: %.2f s\n", best(probe_omitted(effect), 2)))
