# Methods, "Overlap and trimming". e: scores; z: 0/1; s: n sampling weights, 0 where a unit is already out. Each rule
# gives c(low, high), both ends kept.

# Crump, Hotz, Imbens & Mitnik (2009), for which g = 1 / (e (1 - e)).
core_least_variance_bounds <- function(e, s) {
  inside <- s > 0
  most <- core_least_variance_cut(1 / (e[inside] * (1 - e[inside])), s[inside])
  if (most == Inf) return(c(low = 0, high = 1))
  low <- 0.5 - sqrt(0.25 - 1 / most)
  c(low = low, high = 1 - low)
}

# Which g = sum of 1 / e over the arms are kept: g <= c with c = 2 mean(g | g <= c), Inf where that is all (of several
# arms Yang, Imbens, Cui, Faries & Kadziola 2016). Of several solutions the one with the least variance bound, which is
# the sum of g over the squared number kept.
core_least_variance_cut <- function(g, s) {
  places <- order(g, method = "radix")
  g <- g[places]
  weight <- cumsum(s[places])
  total <- cumsum(s[places] * g)
  cut <- 2 * total / weight
  n <- length(g)
  if (g[n] <= cut[n]) return(Inf)
  last_of_tie <- c(g[-1L] > g[-n], TRUE)
  solves <- which(last_of_tie & g <= cut & c(g[-1L], Inf) > cut)
  cut[solves[which.min(total[solves] / weight[solves]^2)]]
}

# Of several arms, per arm (rows) the least and the greatest chance of being in it that every arm reaches: ends of the
# arms' ranges, or of those between their q and 1 - q quantiles. e: n x K.
core_arm_support <- function(e, arm, s, q = 0) {
  bounds <- vapply(seq_len(ncol(e)), function(j) {
    ends <- vapply(seq_len(ncol(e)), function(k) {
      inside <- arm == k & s > 0
      if (q == 0) range(e[inside, j]) else core_weighted_quantiles(e[inside, j], s[inside], c(q, 1 - q))
    }, numeric(2))
    c(max(ends[1L, ]), min(ends[2L, ]))
  }, numeric(2))
  t(bounds)
}

core_common_support_bounds <- function(e, z, s, estimand) {
  core_common_support_of(range(e[z == 1L & s > 0]), range(e[z == 0L & s > 0]), estimand)
}

# From the ends of both arms.
core_common_support_of <- function(treated, control, estimand) {
  switch(population_of(estimand),
    treated = c(low = control[[1L]], high = control[[2L]]), control = c(low = treated[[1L]], high = treated[[2L]]),
    c(low = max(treated[[1L]], control[[1L]]), high = min(treated[[2L]], control[[2L]]))
  )
}

core_quantile_bounds <- function(e, z, s, q) {
  of_arm <- function(arm) core_weighted_quantiles(e[z == arm & s > 0], s[z == arm & s > 0], c(q, 1 - q))
  treated <- of_arm(1L)
  control <- of_arm(0L)
  c(low = max(treated[1L], control[1L]), high = min(treated[2L], control[2L]))
}

# The least value at which the weighted distribution function reaches p.
core_weighted_quantiles <- function(x, v, p) {
  places <- order(x, method = "radix")
  reached <- cumsum(v[places]) / sum(v)
  x[places][pmin(findInterval(p, reached + 1e-12, left.open = TRUE) + 1L, length(x))]
}
