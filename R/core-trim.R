# Methods, "Overlap and trimming". e: scores; z: 0/1; s: n sampling weights, 0 where a unit is already out. Each rule
# gives c(low, high), both ends kept.

# Crump, Hotz, Imbens & Mitnik (2009): g = 1 / (e (1 - e)); keep g <= c with c = 2 mean(g | g <= c). Of several
# solutions the one with the least variance bound, sum(g) / n_kept^2.
core_least_variance_bounds <- function(e, s) {
  inside <- s > 0
  g <- 1 / (e[inside] * (1 - e[inside]))
  places <- order(g, method = "radix")
  g <- g[places]
  weight <- cumsum(s[inside][places])
  total <- cumsum(s[inside][places] * g)
  cut <- 2 * total / weight
  n <- length(g)
  if (g[n] <= cut[n]) return(c(low = 0, high = 1))
  last_of_tie <- c(g[-1L] > g[-n], TRUE)
  solves <- which(last_of_tie & g <= cut & c(g[-1L], Inf) > cut)
  best <- solves[which.min(total[solves] / weight[solves]^2)]
  low <- 0.5 - sqrt(0.25 - 1 / cut[best])
  c(low = low, high = 1 - low)
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
