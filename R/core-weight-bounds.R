# Methods, "Sensitivity", weights (Tan 2006; Zhao, Small & Bhattacharya 2019): the odds of treatment may be off by a
# factor between 1 / lambda and lambda, unit by unit. The part of a unit's weight that is in proportion to its odds
# moves by that factor. A weighted mean is largest when all units below some outcome have the least weight and all above
# it the greatest; sums up to each place of the sorted outcome, made once, serve every lambda.

# y, fixed, free: outcome, and the parts of the weight that stay and that move.
core_bound_table <- function(y, fixed, free) {
  order <- order(y, method = "radix")
  y <- y[order]
  free <- free[order]
  list(y = y, fixed = sum(fixed), fixed_y = sum(fixed[order] * y), free = c(0, cumsum(free)),
       free_y = c(0, cumsum(free * y)))
}

# The largest (or smallest) weighted mean for each lambda. value(k): with the first k units at one end of the factor and
# the others at the other; unit k improves on value(k - 1) as long as its outcome lies below it, so the best k is found
# by halving.
core_mean_bound <- function(table, lambda, high) {
  first <- if (high) 1 / lambda else lambda
  last <- 1 / first
  n <- length(table$y)
  value <- function(k) {
    below <- table$free[k + 1L]
    below_y <- table$free_y[k + 1L]
    (table$fixed_y + first * below_y + last * (table$free_y[n + 1L] - below_y)) /
      (table$fixed + first * below + last * (table$free[n + 1L] - below))
  }
  low <- integer(length(lambda))
  top <- rep(n, length(lambda))
  while (any(low < top)) {
    k <- (low + top + 1L) %/% 2L
    better <- table$y[k] < value(k - 1L)
    low <- ifelse(low < top & better, k, low)
    top <- ifelse(low < top & !better, k - 1L, top)
  }
  value(low)
}

# Bounds of treated minus control: lambdas x (low, high). arms: for treated and control a core_bound_table() and
# `added`, what augmentation adds to its mean.
core_difference_bounds <- function(arms, lambda) {
  of <- function(arm, high) arm$added + core_mean_bound(arm$table, lambda, high)
  cbind(low = of(arms$treated, FALSE) - of(arms$control, TRUE), high = of(arms$treated, TRUE) - of(arms$control, FALSE))
}

# The lambda at which the bound on the far side of 0 meets it: 1 when the estimate is on the other side already.
core_lambda_at_change <- function(arms, above, most = 1e6) {
  left <- function(log_lambda) {
    bounds <- core_difference_bounds(arms, exp(log_lambda))
    if (above) bounds[[1L]] else -bounds[[2L]]
  }
  if (left(0) <= 0) return(1)
  if (left(log(most)) > 0) return(Inf)
  exp(stats::uniroot(left, c(0, log(most)), tol = 1e-9)$root)
}
