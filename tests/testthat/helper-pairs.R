# Small pairing problems, full of ties where `grid`, with random calipers, limits, labels to keep apart and groups.
random_problem <- function(seed, grid = seed %% 3 > 0, big = FALSE, plain = FALSE) {
  withr::with_seed(seed, {
    p <- sample(1:3, 1)
    m <- if (big) 70 else sample(1:6, 1)
    n <- if (big) 400 else sample(1:8, 1)
    points <- function(rows) matrix(if (grid) sample(0:4, rows * p, TRUE) / 2 else rnorm(rows * p), rows, p)
    rare <- function() !plain && runif(1) < 0.3
    limits <- if (rare()) list(list(seekers = sample(0:3, m, TRUE), pool = sample(0:3, n, TRUE), width = 1))
    core_pair_problem(
      points(m), points(n), caliper = sample(c(0.5, 1, Inf), 1), limits = as.list(limits),
      apart = if (rare()) list(list(seekers = sample(1:3, m, TRUE), pool = sample(1:3, n, TRUE))) else list(),
      group = if (rare()) list(seekers = sample(1:2, m, TRUE), pool = sample(1:2, n, TRUE)),
      window = if (is.null(limits) || runif(1) < 0.5) NA else 1
    )
  })
}

# All distances of a problem by plain loops; Inf where a pair is not allowed.
allowed_distances <- function(problem) {
  m <- nrow(problem$seekers)
  n <- nrow(problem$pool)
  out <- matrix(Inf, m, n)
  for (i in seq_len(m)) for (j in seq_len(n)) {
    d <- sqrt(sum((problem$seekers[i, ] - problem$pool[j, ])^2))
    fits <- vapply(problem$limits, function(l) abs(l$seekers[i] - l$pool[j]) <= l$width, NA)
    differs <- vapply(problem$apart, function(l) l$seekers[i] != l$pool[j], NA)
    agrees <- problem$groups == 1L || problem$seeker_group[i] == problem$pool_group[j]
    if (d <= problem$caliper && all(fits) && all(differs) && agrees) out[i, j] <- d
  }
  out
}

# Greedy by loops: in each turn everybody served before takes the nearest free unit, the lower row among equals.
greedy_by_loop <- function(d, order, k) {
  out <- matrix(NA_integer_, nrow(d), k)
  for (turn in seq_len(k)) {
    served <- integer()
    for (i in order) {
      best <- which.min(d[i, ])
      if (is.infinite(d[i, best])) next
      out[i, turn] <- best
      d[, best] <- Inf
      served <- c(served, i)
    }
    order <- served
  }
  out
}

closest_by_loop <- function(d, k) {
  out <- matrix(NA_integer_, nrow(d), k)
  asking <- rep(TRUE, nrow(d))
  for (turn in seq_len(k)) {
    served <- rep(FALSE, nrow(d))
    open <- d
    open[!asking, ] <- Inf
    while (any(is.finite(open))) {
      at <- which(open == min(open), arr.ind = TRUE)
      at <- at[order(at[, 1], at[, 2])[1], ]
      out[at[1], turn] <- at[2]
      open[at[1], ] <- open[, at[2]] <- d[, at[2]] <- Inf
      served[at[1]] <- TRUE
    }
    asking <- served
  }
  out
}

# Least cost of the most rows that can be matched, by trying everything: c(pairs, total).
best_assignment <- function(d) {
  best <- c(0, 0)
  visit <- function(i, free, count, total) {
    if (i > nrow(d)) {
      if (count > best[1] || (count == best[1] && total < best[2])) best <<- c(count, total)
      return()
    }
    visit(i + 1, free, count, total)
    for (j in which(free & is.finite(d[i, ]))) {
      free[j] <- FALSE
      visit(i + 1, free, count + 1, total + d[i, j])
      free[j] <- TRUE
    }
  }
  visit(1, rep(TRUE, ncol(d)), 0, 0)
  best
}

# Least total distance in which every unit with somebody to go with has between its least and most partners, by general
# integer programming; NA when there is none.
best_cover <- function(d, limits) {
  pairs <- which(is.finite(d), arr.ind = TRUE)
  counts <- function(side) t(vapply(unique(pairs[, side]), function(u) as.double(pairs[, side] == u),
                                    numeric(nrow(pairs))))
  rows <- matrix(counts(1), ncol = nrow(pairs))
  columns <- matrix(counts(2), ncol = nrow(pairs))
  limits[is.infinite(limits)] <- 1e3
  solved <- Rglpk::Rglpk_solve_LP(
    d[pairs], rbind(rows, columns, rows, columns),
    rep(c(">=", "<="), each = nrow(rows) + nrow(columns)),
    c(rep(limits[c(1, 3)], c(nrow(rows), nrow(columns))), rep(limits[c(2, 4)], c(nrow(rows), nrow(columns)))),
    types = rep("B", nrow(pairs))
  )
  if (solved$status == 0) solved$optimum else NA
}

total_of <- function(d, partners) {
  at <- cbind(rep(seq_len(nrow(d)), ncol(partners)), c(partners))
  at <- at[!is.na(at[, 2]), , drop = FALSE]
  c(nrow(at), sum(d[at]))
}

# The most rows that can each have k columns of their own, by trying everything.
most_whole_sets <- function(d, k) {
  visit <- function(i, free) {
    if (i > nrow(d)) return(0)
    best <- visit(i + 1, free)
    open <- which(free & is.finite(d[i, ]))
    if (length(open) < k) return(best)
    for (set in utils::combn(length(open), k, simplify = FALSE)) {
      best <- max(best, 1 + visit(i + 1, replace(free, open[set], FALSE)))
    }
    best
  }
  visit(1, rep(TRUE, ncol(d)))
}

# Contributions to the effect of an outcome on sets: each unit's own, about its arm's regression on splines of the score
# (over one less its leverage), and what the regressions say of those the estimand speaks of.
by_unit_by_hand <- function(y, z, w, linear, estimand) {
  target <- switch(estimand, ATT = w * z, ATC = w * (1 - z), ATE = as.double(w > 0))
  knots <- unname(quantile(linear[target > 0], 1:4 / 5))
  basis <- cbind(linear, sapply(knots, function(knot) pmax(linear - knot, 0)))
  columns <- min(tapply(w, z, sum)^2 / tapply(w^2, z, sum)) %/% 5  # 5 units, by effective size, for each and a constant
  basis <- basis[, seq_len(min(ncol(basis), columns - 1)), drop = FALSE]
  parts <- lapply(0:1, function(arm) {
    at <- z == arm & w > 0
    fit <- lm(y[at] ~ basis[at, ], weights = w[at])
    left <- numeric(length(y))
    left[at] <- w[at] * residuals(fit) / (1 - hatvalues(fit)) / sum(w[at])
    fitted <- drop(cbind(1, basis) %*% coef(fit))
    left + target / sum(target) * (fitted - weighted.mean(y[at], w[at]))
  })
  parts[[2]] - parts[[1]]
}
