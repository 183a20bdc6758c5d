# Methods, "Sensitivity", for matched sets of one unit of one arm and several of the other (Rosenbaum 2002, chapter 4;
# Gastwirth, Krieger & Rosenbaum 2000): the statistic sums the score of the unit that stands alone in its set. With
# hidden bias gamma it has, in a set, chances in proportion to weights between 1 and gamma; the worst ones are 1 for the
# lowest scores and gamma for the others, cut at the place that makes the mean largest (and, among equals, the
# variance).

# q: scores; set: codes 1, 2, ...; both per unit and ordered by set, then score. Returns the sums over sets of the
# worst means and their variances, high or low.
core_set_moments <- function(q, set, gamma, high) {
  size <- tabulate(set)
  place <- sequence(size)
  whole <- core_sums_by(q, set)[set]
  squares <- core_sums_by(q^2, set)[set]
  first <- which(place == 1L)
  within <- function(v) {
    total <- cumsum(v)
    total - (total[first] - v[first])[set]
  }
  lower <- if (high) 1 else gamma
  upper <- if (high) gamma else 1
  mass <- lower * place + upper * (size[set] - place)
  mean <- (lower * within(q) + upper * (whole - within(q))) / mass
  variance <- (lower * within(q^2) + upper * (squares - within(q^2))) / mass - mean^2
  cut <- place < size[set]  # a cut after the last unit is gamma 1
  order <- order(set[cut], round(if (high) -mean[cut] else mean[cut], 9), -variance[cut], method = "radix")
  best <- which(cut)[order][!duplicated(set[cut][order])]
  c(mean = sum(mean[best]), variance = sum(variance[best]))
}

# Aligned ranks (Hodges & Lehmann 1962): outcomes less the mean of their set, ranked over all sets. alone: is the unit
# the only one of its arm in the set? sign: 1 where that is the treated one, -1 where it is the control, whose low score
# speaks for the treatment. shift: taken off the treated units' outcomes first. Returns q and set in the order
# core_set_moments() wants, and the statistic.
core_aligned_scores <- function(y, z, alone, set, shift = 0) {
  size <- tabulate(set)
  y <- y - shift * z
  rank <- data.table::frank(y - (core_sums_by(y, set) / size)[set])
  sign <- ifelse(core_sums_by(alone * z, set)[set] > 0, 1, -1)
  q <- sign * (rank - mean(rank))
  order <- order(set, q, method = "radix")
  list(q = q[order], set = set[order], statistic = sum(q[alone]))
}

# How many standard errors the statistic lies above its worst mean (or, high FALSE, above its least one).
core_set_deviate <- function(scores, gamma, high) {
  moments <- core_set_moments(scores$q, scores$set, gamma, high)
  unname((scores$statistic - moments[1L]) / sqrt(moments[2L]))
}

# The shift at which the deviate passes `target`: it falls as more is taken off the treated. values: set data.
core_set_shift <- function(sets, gamma, high, target, reach) {
  excess <- function(shift) {
    core_set_deviate(core_aligned_scores(sets$y, sets$z, sets$alone, sets$set, shift), gamma, high) - target
  }
  if (excess(-reach) < 0) return(-Inf)
  if (excess(reach) > 0) return(Inf)
  stats::uniroot(excess, c(-reach, reach), tol = 1e-6 * reach)$root
}
