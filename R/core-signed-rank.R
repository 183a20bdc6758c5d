# METHODS, "Sensitivity", pairs (Rosenbaum 2002): bounds on the signed-rank test when hidden bias can multiply the
# odds of treatment within a pair by at most gamma.

# d: pair differences, treated minus control. Zero differences are dropped, ties take average ranks. Ranks are doubled
# so that they are whole numbers.
core_signed_ranks <- function(d) {
  d <- d[d != 0]
  ranks <- rank(abs(d))
  list(doubled = as.integer(round(2 * ranks)), statistic = sum(ranks[d > 0]), pairs = length(d))
}

# One-sided p-values in the upper direction, least and greatest over all hidden biases of size gamma.
core_signed_rank_bounds <- function(ranks, gamma, exact) {
  tail_at <- function(chance) {
    if (exact) return(core_signed_rank_tail(ranks$doubled, 2 * ranks$statistic, chance))
    q <- ranks$doubled / 2
    stats::pnorm((ranks$statistic - sum(q) * chance) / sqrt(sum(q^2) * chance * (1 - chance)), lower.tail = FALSE)
  }
  c(p_low = tail_at(1 / (1 + gamma)), p_high = tail_at(gamma / (1 + gamma)))
}

# P(T >= t) when each doubled rank counts with the given chance, by convolution: O(pairs * sum of ranks).
core_signed_rank_tail <- function(doubled, t, chance) {
  probability <- c(1, numeric(sum(doubled)))
  for (q in doubled) {
    moved <- c(numeric(q), probability[seq_len(length(probability) - q)])
    probability <- (1 - chance) * probability + chance * moved
  }
  sum(probability[seq.int(t + 1, length(probability))])
}

# McNemar's form, when all non-zero differences have one size: the number of positive ones is binomial.
core_sign_bounds <- function(positive, pairs, gamma) {
  tail_at <- function(chance) stats::pbinom(positive - 1, pairs, chance, lower.tail = FALSE)
  c(p_low = tail_at(1 / (1 + gamma)), p_high = tail_at(gamma / (1 + gamma)))
}

# Hodges-Lehmann estimates and interval limits. Shifting all differences by t leaves as many Walsh averages above t
# as the statistic counts, so each limit is the Walsh average at which that count meets its target. The limits use the
# normal approximation, and are infinite when too few pairs can reject at all. sorted: differences, upwards.
core_shift_bounds <- function(sorted, gamma, level) {
  n <- length(sorted)
  all <- n * (n + 1) / 2
  upper_mean <- all * gamma / (1 + gamma)
  lower_mean <- all / (1 + gamma)
  # sum of squared ranks without ties
  sd <- sqrt(n * (n + 1) * (2 * n + 1) / 6 * gamma / (1 + gamma)^2)
  z <- stats::qnorm(1 - (1 - level) / 2)
  c(
    estimate_low = core_walsh_at(sorted, upper_mean),
    estimate_high = core_walsh_at(sorted, lower_mean),
    conf_low = core_walsh_at(sorted, upper_mean + z * sd),
    conf_high = core_walsh_at(sorted, lower_mean - z * sd)
  )
}

# The shift at which the number of Walsh averages above it passes `target`; the midpoint of the two candidates when
# the target is met over an interval (Hodges & Lehmann 1963).
core_walsh_at <- function(sorted, target) {
  n <- length(sorted)
  all <- n * (n + 1) / 2
  if (target >= all) return(-Inf)
  if (target <= 0) return(Inf)
  near <- round(target)
  if (abs(target - near) > 1e-9 * all) return(glue_walsh_largest(sorted, ceiling(target)))
  mean(glue_walsh_largest(sorted, c(near, near + 1)))
}
