# Methods, "Sensitivity", pairs (Rosenbaum 2002): bounds on tests of pair differences when hidden bias can multiply the
# odds of treatment within a pair by at most gamma: a positive difference then has a chance between 1 / (1 + gamma) and
# gamma / (1 + gamma).

# d: pair differences, treated minus control. Zero differences are dropped before ranking, or with ranked_zeros after it
# (Pratt 1959); ties take average ranks. Ranks are doubled so that they are whole numbers.
core_signed_ranks <- function(d, ranked_zeros = FALSE) {
  if (!ranked_zeros) d <- d[d != 0]
  ranks <- data.table::frank(abs(d))[d != 0]
  d <- d[d != 0]
  list(doubled = as.integer(round(2 * ranks)), statistic = sum(ranks[d > 0]), pairs = length(d), total = sum(ranks),
       squares = sum(ranks^2))
}

# One-sided p-values in the upper direction, least and greatest over all hidden biases of size gamma: 2 x gammas.
core_signed_rank_bounds <- function(ranks, gamma, exact) {
  core_tail_bounds(gamma, function(chance) {
    if (exact) return(core_signed_rank_tail(ranks$doubled, 2 * ranks$statistic, chance))
    stats::pnorm((ranks$statistic - ranks$total * chance) / sqrt(ranks$squares * chance * (1 - chance)),
                 lower.tail = FALSE)
  })
}

# P(T >= t) when each doubled rank counts with the given chance, by convolution: O(pairs * sum of ranks).
core_signed_rank_tail <- function(doubled, t, chance) {
  probability <- core_signed_rank_chances(doubled, chance)
  sum(probability[seq.int(t + 1, length(probability))])
}

# P(T = 0), P(T = 1), ... of the sum of the ranks that count.
core_signed_rank_chances <- function(ranks, chance) {
  probability <- c(1, numeric(sum(ranks)))
  for (q in ranks) {
    moved <- c(numeric(q), probability[seq_len(length(probability) - q)])
    probability <- (1 - chance) * probability + chance * moved
  }
  probability
}

# The sign test; McNemar's when all non-zero differences have one size: the number of positive ones is binomial.
core_sign_bounds <- function(positive, pairs, gamma, exact = TRUE) {
  core_tail_bounds(gamma, function(chance) {
    if (exact) return(stats::pbinom(positive - 1, pairs, chance, lower.tail = FALSE))
    stats::pnorm(positive, pairs * chance, sqrt(pairs * chance * (1 - chance)), lower.tail = FALSE)
  })
}

core_tail_bounds <- function(gamma, tail_at) {
  c(p_low = tail_at(1 / (1 + gamma)), p_high = tail_at(gamma / (1 + gamma)))
}

# Hodges-Lehmann estimates and interval limits, a row per gamma. Shifting all differences by t leaves as many Walsh
# averages above t as the statistic counts, so each limit is the Walsh average at which that count meets its target.
# exact: are the limits those of the exact test (without ties), or of the normal one? Both are infinite when too few
# pairs can reject at all. sorted: differences, upwards.
core_shift_bounds <- function(sorted, gamma, level, exact) {
  targets <- do.call(rbind, lapply(gamma, function(g) core_shift_targets(length(sorted), g, level, exact)))
  matrix(core_walsh_at(sorted, c(targets)), length(gamma), dimnames = dimnames(targets))
}

core_shift_targets <- function(n, gamma, level, exact) {
  all <- n * (n + 1) / 2
  targets <- c(estimate_low = all * gamma / (1 + gamma), estimate_high = all / (1 + gamma))
  tail <- (1 - level) / 2
  if (exact) {
    # shifts with P(T >= count) above the tail stay in: the first count that is out, and by symmetry from below
    chances <- core_signed_rank_chances(seq_len(n), gamma / (1 + gamma))
    out <- sum(rev(cumsum(rev(chances))) > tail)
    return(c(targets, conf_low = out - 0.5, conf_high = all - out + 0.5))
  }
  # sum of squared ranks without ties
  reach <- stats::qnorm(1 - tail) * sqrt(n * (n + 1) * (2 * n + 1) / 6 * gamma / (1 + gamma)^2)
  c(targets, conf_low = targets[[1L]] + reach, conf_high = targets[[2L]] - reach)
}

# The shifts at which the number of Walsh averages above passes each target; the midpoint of the two candidates when a
# target is met over an interval (Hodges & Lehmann 1963).
core_walsh_at <- function(sorted, target) {
  n <- length(sorted)
  all <- n * (n + 1) / 2
  out <- ifelse(target >= all, -Inf, Inf)
  inside <- which(target > 0 & target < all)
  near <- round(target[inside])
  met <- abs(target[inside] - near) <= 1e-9 * all
  first <- ifelse(met, pmax(near, 1), ceiling(target[inside]))
  second <- ifelse(met, pmin(near + 1, all), first)
  ranks <- sort(unique(c(first, second)))
  values <- glue_walsh_largest(sorted, ranks)
  out[inside] <- (values[match(first, ranks)] + values[match(second, ranks)]) / 2
  out
}

# Amplification (Rosenbaum & Silber 2009): hidden bias of size gamma is that of a confounder which multiplies the odds
# of treatment by `treatment` (above gamma) and the odds of a positive pair difference by the number returned.
core_amplify <- function(gamma, treatment) (gamma * treatment - 1) / (treatment - gamma)
