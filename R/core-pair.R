# Methods, "Matching": who goes with whom. A pairing problem is a list of points of two sides, seekers and pool, and of
# what limits their pairs; the kernels read it as it is.

# seekers: m x p, pool: n x p, in coordinates whose Euclidean distance is the distance to be kept small. caliper: the
# largest distance (Inf for none). limits: list of list(seekers = m, pool = n, width): further calipers on single
# columns. apart: list of list(seekers, pool) of integer codes that must differ. group: list(seekers, pool) of codes
# from 1 that must agree, or NULL. not_itself: the pool is the seekers themselves. window: which limit is narrow enough
# to search along its sorted line, NA for none. The searches take `tell`, NULL or a function of the share done.
core_pair_problem <- function(seekers, pool, caliper = Inf, limits = list(), apart = list(), group = NULL,
                              not_itself = FALSE, window = NA) {
  groups <- if (is.null(group)) 1L else max(1L, group$seekers, group$pool)
  list(
    seekers = as_points(seekers), pool = as_points(pool), caliper = caliper,
    limits = lapply(limits, function(limit) {
      list(seekers = as.double(limit$seekers), pool = as.double(limit$pool), width = as.double(limit$width))
    }),
    apart = lapply(apart, function(label) lapply(label, as.integer)),
    groups = as.integer(groups), seeker_group = as.integer(group$seekers), pool_group = as.integer(group$pool),
    not_itself = not_itself, window = if (is.na(window)) -1L else as.integer(window) - 1L
  )
}

as_points <- function(x) {
  x <- as.matrix(x)
  storage.mode(x) <- "double"
  unname(x)
}

# Greedy, without replacement. difficulty: per seeker, the highest is the hardest. permutation: for "shuffled".
# Returns an m x k matrix of rows of the pool, NA for none, filled from the left.
core_pair_greedy <- function(problem, order, difficulty, k = 1L, permutation = NULL, tell = NULL) {
  rows <- seq_len(nrow(problem$seekers))
  places <- switch(order,
    closest_pair = integer(),
    hardest = base::order(-difficulty, rows, method = "radix"),
    easiest = base::order(difficulty, rows, method = "radix"),
    given = rows,
    shuffled = permutation
  )
  glue_pair_greedy(problem, places, as.integer(k), tell)
}

# The k nearest of every seeker, with all ties of the k-th if asked. Returns list(start, row, distance, too_many): the
# partners of seeker i stand at start[i] + 1, ..., start[i + 1]; too_many: more than `most` in all, none are listed.
core_nearest <- function(problem, k = 1L, ties = TRUE, threads = 1L, most = 1e8, tell = NULL) {
  glue_nearest_lists(problem, as.integer(k), ties, as.integer(threads), most, tell)
}

# Optimal, without replacement: least to most partners each. As core_pair_greedy(); NULL when it is too large.
core_pair_optimal <- function(problem, least = 1L, most = least, threads = 1L, tell = NULL) {
  glue_pair_optimal(problem, as.integer(least), as.integer(most), as.integer(threads), tell)
}

# Full matching of those who have someone to go with. limits: least and most partners of a seeker, least and most of
# a unit of the pool, Inf for no upper limit. Returns list(seeker, unit, infeasible: groups), NULL when too large.
core_full_match <- function(problem, seeker_in, pool_in, limits = c(1, Inf, 1, Inf), tell = NULL) {
  limits[is.infinite(limits)] <- 0
  glue_full_match(problem, seeker_in, pool_in, as.integer(limits), tell)
}

# Pooled sd of the linear score, sqrt((var1 + var0) / 2), with sampling weights: the unit of a caliper.
core_pooled_sd <- function(x, z, s) {
  at <- core_arm_moments(x, z, s)
  sqrt((at[["var_treated"]] + at[["var_control"]]) / 2)
}

# Searches keep to a narrow caliper's part of its line. Returns the place of the narrowest limit, NA for none.
core_narrow_window <- function(limits) {
  if (length(limits) == 0L) return(NA)
  share <- vapply(limits, function(limit) limit$width / diff(range(limit$pool, limit$seekers)), 0)
  if (!is.finite(min(share)) || min(share) > 0.25) NA else which.min(share)
}

# The problem of some of the seekers.
core_subproblem <- function(problem, rows) {
  problem$seekers <- problem$seekers[rows, , drop = FALSE]
  cut <- function(columns) {
    columns$seekers <- columns$seekers[rows]
    columns
  }
  problem$limits <- lapply(problem$limits, cut)
  problem$apart <- lapply(problem$apart, cut)
  if (problem$groups > 1L) problem$seeker_group <- problem$seeker_group[rows]
  problem
}

# Weight of each row of a table of pairs, such that a unit's weight is the sum over its rows (Methods: treated 1; a
# control the sum over its sets of 1 / controls in that set). of: "seeker": each set belongs to one seeker, of weight 1;
# for sets that partition the units, of one treated and some controls or one control and some treated: "ATT", "ATC",
# or "ATE": both arms weigh the set's size.
core_row_weights <- function(set, treated, control, of) {
  rows <- tabulate(set)[set]
  if (of == "seeker") return(1 / rows)
  distinct <- function(unit) tabulate(set[!duplicated(cbind(set, unit))], max(set))[set]
  size <- switch(population_of(of), treated = distinct(treated), control = distinct(control),
                 everybody = distinct(treated) + distinct(control))
  size / rows
}

core_pair_weights <- function(pairs, n) {
  core_sums_by(rep(pairs$weight, 2L), c(pairs$treated, pairs$control), n)
}

core_threads_offered <- function() glue_threads_offered()
