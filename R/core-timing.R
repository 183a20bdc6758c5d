# Randomization of timing (Methods, "Difference-in-differences"): the assignment of cohorts to groups is drawn anew,
# within strata of those that could have had each other's.

# How many assignments there are, cohorts keeping their sizes.
core_assignment_count <- function(assigned, stratum) {
  of_one <- function(own) lfactorial(length(own)) - sum(lfactorial(tabulate(match(own, unique(own)))))
  round(exp(sum(vapply(split(assigned, stratum), of_one, 0))))
}

# All of them, one per column.
core_stratified_assignments <- function(assigned, stratum) {
  at <- split(seq_along(assigned), stratum)
  each <- lapply(at, function(own) core_all_assignments(assigned[own]))
  chosen <- expand.grid(lapply(each, function(own) seq_len(ncol(own))))
  out <- matrix(0L, length(assigned), nrow(chosen))
  for (k in seq_along(at)) out[at[[k]], ] <- each[[k]][, chosen[[k]]]
  out
}

# One of them.
core_draw_assignment <- function(assigned, stratum) {
  for (own in split(seq_along(assigned), stratum)) assigned[own] <- assigned[own][sample.int(length(own))]
  assigned
}

# All of one stratum, one per column.
core_all_assignments <- function(assigned) {
  place <- function(free, codes) {
    if (length(codes) == 1L) return(matrix(codes, length(free), 1L))
    chosen <- utils::combn(length(free), sum(assigned == codes[1L]))
    do.call(cbind, lapply(seq_len(ncol(chosen)), function(k) {
      rest <- place(free[-chosen[, k]], codes[-1L])
      out <- matrix(codes[1L], length(free), ncol(rest))
      out[-chosen[, k], ] <- rest
      out
    }))
  }
  place(seq_along(assigned), unique(assigned))
}

# One term. draws: R x 5 (estimates on outcome and treatment, variances on outcome, on treatment and on their
# difference); observed: the same of the data. Under a constant effect b the estimate is a - b d, its variance quadratic
# in b. exact: are the draws all assignments? Returns list(p.value, limits): the effects not rejected at `level`; NA
# where the term does not move with the treatment.
core_timing_test <- function(draws, observed, level, exact) {
  if (anyNA(observed[3:5]) || observed[3L] <= 0) {  # no standard error: the estimate itself is the statistic
    observed[3:5] <- c(1, 0, 1)
    draws[, 3:5] <- rep(c(1, 0, 1), each = nrow(draws))
  }
  draws <- draws[stats::complete.cases(draws), , drop = FALSE]
  if (nrow(draws) == 0L || anyNA(observed)) return(list(p.value = NA_real_, limits = c(NA_real_, NA_real_)))
  statistic <- function(rows, b) {
    shared <- (rows[, 3L] + rows[, 4L] - rows[, 5L]) / 2
    variance <- pmax(rows[, 3L] - 2 * b * shared + b^2 * rows[, 4L], 0)
    top <- abs(rows[, 1L] - b * rows[, 2L])
    ifelse(variance > 1e-20 * top^2, top / sqrt(variance), ifelse(top > 0, Inf, 0))
  }
  p <- function(b) core_share_beyond(statistic(draws, b), statistic(rbind(observed), b), exact)
  if (abs(observed[2L]) < 1e-12) return(list(p.value = p(0), limits = c(NA_real_, NA_real_)))
  centre <- observed[1L] / observed[2L]
  se <- max(sqrt(observed[3L]), 1e-8 * abs(centre)) / abs(observed[2L])
  list(p.value = p(0), limits = core_inverted_limits(p, centre, se, level))
}
