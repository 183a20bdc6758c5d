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
  vapply(lambda, function(one) {
    first <- if (high) 1 / one else one
    last <- 1 / first
    n <- length(table$y)
    all <- table$fixed + last * table$free[n + 1L]
    all_y <- table$fixed_y + last * table$free_y[n + 1L]
    change <- first - last
    value <- function(k) (all_y + change * table$free_y[k + 1L]) / (all + change * table$free[k + 1L])
    low <- 0L
    top <- n
    while (low < top) {
      k <- (low + top + 1L) %/% 2L
      if (table$y[k] < value(k - 1L)) low <- k else top <- k - 1L
    }
    value(low)
  }, 0)
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
