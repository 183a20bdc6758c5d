# Methods, "Difference-in-differences": the synthetic comparison (Abadie, Diamond & Hainmueller 2010; Arkhangelsky,
# Athey, Hirshberg, Imbens & Wager 2021). Units are weighed so that they run as the treated did before treatment,
# periods so that they foretell the time after it among the units compared with.

# The x >= 0 with sum x = 1 that minimises |a x - b|^2 + penalty sum x^2 / s. a: T x N; s: N, how many units each column
# stands for (they share its weight). Systems are of size T, whatever N.
core_simplex_weights <- function(a, b, penalty, s = rep(1, ncol(a))) {
  root <- sqrt(s)
  a <- a * rep(root, each = nrow(a))
  if (nrow(a) > ncol(a)) {  # only what lies in the columns' span matters
    turned <- qr(a)
    b <- qr.qty(turned, b)[seq_len(ncol(a))]
    a <- qr.R(turned)[, order(turned$pivot), drop = FALSE]
  }
  accuracy <- 1e-9 * (mean(a^2) + mean(b^2) + penalty)
  z <- by_blocks(a, b, penalty, root, accuracy)
  if (is.null(z)) z <- one_by_one(a, b, penalty, root, accuracy)
  x <- pmax(z, 0) * root
  x / sum(x)
}

# Columns leave and enter in blocks until none is negative and none would enter (Judice & Pires 1994): a dozen rounds
# where many share the weight. NULL where that does not settle.
by_blocks <- function(a, b, penalty, root, accuracy) {
  free <- rep(TRUE, ncol(a))
  least <- Inf
  patience <- 5L
  while (patience >= 0L && any(free)) {
    found <- free_weights(a, b, penalty, root, free)
    wrong <- c(which(free & found$z < 0), which(!free & found$gain > accuracy))
    if (length(wrong) == 0L) return(found$z)
    patience <- if (length(wrong) < least) 5L else patience - 1L
    least <- min(least, length(wrong))
    free[wrong] <- !free[wrong]
  }
  NULL
}

# From one column on, each time the one that gains most enters, and those that would turn negative leave (Lawson &
# Hanson 1974, chapter 23): finite, and as many rounds as columns stay.
one_by_one <- function(a, b, penalty, root, accuracy) {
  start <- which.min(colSums((a / rep(root, each = nrow(a)) - b)^2) + penalty / root^2)
  free <- seq_len(ncol(a)) == start
  z <- free / root
  for (round in seq_len(10L * ncol(a))) {
    found <- free_weights(a, b, penalty, root, free)
    while (any(found$z < 0)) {
      short <- which(found$z < 0)
      step <- min(z[short] / (z[short] - found$z[short]))
      z <- z + step * (found$z - z)
      gone <- free & z <= 1e-14
      gone[short[which.min(z[short])]] <- TRUE
      free <- free & !gone
      z[!free] <- 0
      found <- free_weights(a, b, penalty, root, free)
    }
    z <- found$z
    gain <- ifelse(free, -Inf, found$gain)
    if (max(gain) <= accuracy) break
    free[which.max(gain)] <- TRUE
  }
  z
}

# Of the columns `free`, without the bounds: z with root'z = 1, and gain, what every column would gain by entering. In
# the span of the rows by a system of their number, outside it along what is left of `root`; lift: the multiplier of the
# sum over the penalty.
free_weights <- function(a, b, penalty, root, free) {
  own <- a[, free, drop = FALSE]
  gram <- tcrossprod(own)
  diag(gram) <- diag(gram) + penalty
  factor <- chol(gram)
  solve_for <- function(v) backsolve(factor, forwardsolve(factor, v, upper.tri = TRUE, transpose = TRUE))
  inside <- drop(crossprod(own, solve_for(b)))
  outside <- root[free] - drop(crossprod(own, solve_for(drop(own %*% root[free]))))
  lift <- (1 - sum(root[free] * inside)) / sum(root[free] * outside)
  z <- replace(numeric(ncol(a)), free, inside + lift * outside)
  list(z = z, gain = drop(crossprod(a, b - own %*% z[free])) + penalty * lift * root)
}

# One cohort. y: periods x units compared with; treated: mean of the treated by period; before, after: places of
# periods; s: of the units; count: how many units are treated. parallel: may the comparison run at another level, with
# periods weighed too? Else its levels are to be met, without penalty. Returns list(weight, period_weight: per place of
# before, gap: by period, the treated less the synthetic, both from their weighted mean before where parallel).
core_synthetic <- function(y, treated, before, after, s, count, parallel) {
  past <- y[before, , drop = FALSE]
  noise <- stats::sd(diff(past))
  if (!is.finite(noise) || noise == 0) noise <- max(stats::sd(past), 1e-8, na.rm = TRUE)
  if (!parallel) {
    weight <- core_simplex_weights(past, treated[before], length(before) * (1e-3 * noise)^2, s)
    return(list(weight = weight, period_weight = NULL, gap = treated - drop(y %*% weight)))
  }
  about <- function(x) sweep(x, 2L, colMeans(x))
  zeta <- (count * length(after))^(1 / 4) * noise  # their equation (2.2)
  weight <- core_simplex_weights(about(past), treated[before] - mean(treated[before]), length(before) * zeta^2, s)
  target <- colMeans(y[after, , drop = FALSE])
  centre <- function(x) x - sum(s * x) / sum(s)
  middle <- drop(past %*% s) / sum(s)
  period_weight <- core_simplex_weights(t(past - middle) * sqrt(s), centre(target) * sqrt(s),
                                        ncol(y) * (1e-3 * noise)^2)
  other <- drop(y %*% weight)
  level <- sum(period_weight * (treated - other)[before])
  list(weight = weight, period_weight = period_weight, gap = treated - other - level)
}
