# Methods, "Matching", genetic search (Diamond & Sekhon 2013): an evolution of diagonal metrics.

# What the kernel needs to judge metrics. seekers, pool: points, columns of sd 1; seeker_values, pool_values: the rows
# of the balance table; reference: their sds; continuous: logical; weights: sampling weights; goal: "smd", "ks" or
# "p_value"; order: of the seekers, without replacement; group: of seekers, then pool, or NULL; line: NULL or
# list(seekers, pool, width), a score caliper.
core_search_task <- function(seekers, pool, seeker_values, pool_values, reference, continuous, seeker_weight,
                             pool_weight, goal, partners, replacement, order, group, line) {
  list(
    seekers = as_points(seekers), pool = as_points(pool), seeker_values = as_points(seeker_values),
    pool_values = as_points(pool_values), reference = as.double(reference), continuous = as.integer(continuous),
    seeker_weight = as.double(seeker_weight), pool_weight = as.double(pool_weight),
    goal = match(goal, c("smd", "ks", "p_value")) - 1L, partners = as.integer(partners), replacement = replacement,
    order = as.integer(order), group = as.integer(group), seeker_line = line$seekers, pool_line = line$pool,
    caliper = if (is.null(line)) Inf else line$width,
    sorted = if (goal == "smd") matrix(0L, 0L, length(reference)) else
      core_sorted_units(seeker_values, pool_values, continuous)
  )
}

# The units of both sides (from 0, seekers first) by their values in each column that has a distribution; 0 elsewhere.
core_sorted_units <- function(seeker_values, pool_values, continuous) {
  out <- vapply(seq_along(continuous), function(j) {
    if (!continuous[j]) return(integer(nrow(seeker_values) + nrow(pool_values)))
    order(c(seeker_values[, j], pool_values[, j])) - 1L
  }, integer(nrow(seeker_values) + nrow(pool_values)))
  matrix(out, ncol = length(continuous))
}

# candidates: p x m. Returns a data-like list(worst, mean), m each. They go to the kernel so many at a time that each
# time takes well under a second: in between the search can be interrupted.
core_judge_metrics <- function(task, candidates, threads = 1L) {
  units <- nrow(task$seekers) + nrow(task$pool)
  at_once <- as.integer(max(1, min(ncol(candidates), floor(2e5 / units)))) * as.integer(threads)
  stretches <- split(seq_len(ncol(candidates)), (seq_len(ncol(candidates)) - 1L) %/% at_once)
  loss <- do.call(cbind, lapply(unname(stretches), function(some) {
    glue_judge_metrics(task, candidates[, some, drop = FALSE], as.integer(threads))
  }))
  list(worst = loss[1L, ], mean = loss[2L, ])
}

# The best tenth, best first, which the next generation begins with.
core_survivors <- function(rank) order(rank)[seq_len(max(1L, length(rank) %/% 10L))]

# The next generation of log weights (p x m): the best stay, the others come from parents picked in duels, by blending
# two of them, exchanging genes, moving one gene anywhere or all of them a little; one in ten is a newcomer. Draws come
# from the session's stream.
core_breed <- function(genes, rank, bounds) {
  m <- ncol(genes)
  p <- nrow(genes)
  next_genes <- genes[, core_survivors(rank), drop = FALSE]
  keep <- ncol(next_genes)
  duel <- function() {
    pair <- sample.int(m, 2L)
    genes[, pair[which.min(rank[pair])]]
  }
  newcomers <- m %/% 10L
  children <- vapply(seq_len(m - keep - newcomers), function(k) {
    one <- duel()
    switch(sample.int(4L, 1L),
      {
        share <- stats::runif(1L)
        share * one + (1 - share) * duel()
      },
      ifelse(stats::runif(p) < 0.5, one, duel()),
      {
        one[sample.int(p, 1L)] <- stats::runif(1L, bounds[1L], bounds[2L])
        one
      },
      one + stats::rnorm(p, sd = 0.1 * diff(bounds))
    )
  }, numeric(p))
  fresh <- matrix(stats::runif(p * newcomers, bounds[1L], bounds[2L]), p)
  pmin(pmax(cbind(next_genes, matrix(children, p), fresh), bounds[1L]), bounds[2L])
}
