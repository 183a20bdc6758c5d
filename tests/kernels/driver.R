# Throws random problems at every kernel, well formed but as odd as they come: no units and one, ties and constants,
# 1e300 and denormal numbers, arms of one kind. What comes back is not judged here, beyond what must hold of any answer
# (nobody paired twice, nobody beyond the caliper): the point is that nothing reads or writes where it must not, which the
# sanitizers see. `tools/sanitize` runs it on such a build; without one it is a quick test for crashes.
#
# usage: Rscript tests/kernels/driver.R [RUNS [SEED]]
args <- as.numeric(commandArgs(TRUE))
runs <- if (length(args) > 0L) args[1L] else 1000
first <- if (length(args) > 1L) args[2L] else 1
core <- asNamespace("carefultwin")

# Mostly small, up to `most`.
size <- function(most, least = 0) as.integer(least + floor(exp(runif(1, 0, log(most - least + 1))) - 1))

odd_numbers <- function(n) {
  switch(sample(8L, 1L),
    rnorm(n), sample(3, n, TRUE), rep(runif(1), n), rnorm(n) * 1e300, rnorm(n) * 1e-310, sample(c(-1e308, 1e308, 0), n, TRUE),
    sample(c(0, 5e-324, 1, 1e300), n, TRUE), round(rcauchy(n), 1)
  ) * 1.0
}
odd_weights <- function(n) {
  switch(sample(5L, 1L), rep(1, n), runif(n), rbinom(n, 1, 0.5) * 1.0, rexp(n) * 1e150, sample(c(0, 1e-300, 1), n, TRUE))
}
odd_matrix <- function(n, p) matrix(as.double(unlist(lapply(seq_len(p), function(j) odd_numbers(n)))), n, p)
arms <- function(n) as.integer(if (runif(1) < 0.1) rep(sample(0:1, 1), n) else rbinom(n, 1, runif(1)))
codes <- function(n, most) sample.int(most, n, TRUE)

odd_problem <- function(most = 3000) {
  m <- size(most)
  n <- size(min(most, 4e5 / max(1, m)))
  p <- size(12, 1)
  seekers <- odd_matrix(m, p)
  pool <- if (runif(1) < 0.3 && n > 0 && m > 0) seekers[sample.int(m, n, TRUE), , drop = FALSE] else odd_matrix(n, p)
  rare <- function(chance = 0.3) runif(1) < chance
  groups <- size(5, 1)
  limits <- if (rare()) lapply(seq_len(size(3, 1)), function(k) {
    list(seekers = odd_numbers(m), pool = odd_numbers(n), width = abs(odd_numbers(1)))
  }) else list()
  core$core_pair_problem(
    seekers, pool, caliper = if (rare(0.6)) Inf else abs(odd_numbers(1)), limits = limits,
    apart = if (rare()) list(list(seekers = codes(m, 3), pool = codes(n, 3))) else list(),
    group = if (rare() && m > 0 && n > 0) list(seekers = codes(m, groups), pool = codes(n, groups)),
    window = if (length(limits) > 0L && rare(0.5)) sample(length(limits), 1L) else NA
  )
}

# Partners of a table are rows of the pool, none of them twice.
check_partners <- function(partners, problem, once = TRUE) {
  at <- partners[!is.na(partners)]
  stopifnot(all(at >= 1L & at <= nrow(problem$pool)), !once || !anyDuplicated(at))
}

check_least <- function(partners, least) {
  if (is.null(partners)) return()
  count <- rowSums(!is.na(partners))
  stopifnot(all(count == 0L | count >= least))
}

kernels <- list(
  greedy = function() {
    problem <- odd_problem()
    m <- nrow(problem$seekers)
    order <- sample(c("hardest", "given", "closest_pair", "shuffled"), 1L)
    k <- size(3, 1)
    check_partners(core$core_pair_greedy(problem, order, odd_numbers(m), k, sample.int(m)), problem)
  },
  nearest = function() {
    problem <- odd_problem()
    found <- core$core_nearest(problem, size(5, 1), runif(1) < 0.5, sample(2L, 1L), most = 1e5)
    check_partners(found$row, problem, once = FALSE)
  },
  optimal = function() {
    problem <- odd_problem(400)
    least <- size(3, 1)
    partners <- core$core_pair_optimal(problem, least, least + size(2), sample(2L, 1L))
    if (!is.null(partners)) check_partners(partners, problem)
    check_least(partners, least)
  },
  full = function() {
    problem <- odd_problem(300)
    turned <- problem
    turned[c("seekers", "pool")] <- problem[c("pool", "seekers")]
    turned[c("seeker_group", "pool_group")] <- problem[c("pool_group", "seeker_group")]
    turned$limits <- lapply(problem$limits, function(l) list(seekers = l$pool, pool = l$seekers, width = l$width))
    turned$apart <- lapply(problem$apart, function(l) list(seekers = l$pool, pool = l$seekers))
    has <- function(problem) diff(core$core_nearest(problem, 1L, FALSE)$start) > 0
    limits <- if (runif(1) < 0.5) c(1, Inf, 1, Inf) else c(size(2, 1), size(4, 2), 1, size(4, 2))
    core$core_full_match(problem, has(problem), has(turned), limits)
  },
  distributions = function() {
    n <- size(3000, 1)
    weights <- do.call(cbind, lapply(seq_len(size(3, 1)), function(k) odd_weights(n)))
    core$core_numeric_balance(odd_numbers(n), arms(n), weights)
    core$core_covariance(odd_matrix(n, size(4, 1)), if (runif(1) < 0.5) odd_weights(n))
  },
  walsh = function() {
    n <- size(3000, 1)
    core$glue_walsh_largest(sort(odd_numbers(n)), as.double(sample(n * (n + 1) / 2, size(5, 1), TRUE)))
  },
  signs = function() {
    clusters <- size(300, 1)
    left <- odd_matrix(size(20), clusters)
    core$glue_signed_sums(left, odd_matrix(size(4), clusters), size(200), runif(1) < 0.5, size(1e6))
    core$core_draw_counts(size(50) + seq_len(size(5)), size(100), size(1e6), sample(0:1, 1L))
  },
  newton = function() {
    q <- size(5, 1)
    odd <- runif(1) < 0.3
    curvature <- crossprod(odd_matrix(q + 2L, q))
    sums <- list(at = function(beta) {
      list(value = -sum(beta * (curvature %*% beta)) / 2, gradient = if (odd) odd_numbers(q) else -drop(curvature %*% beta),
           information = if (odd && runif(1) < 0.2) curvature * NaN else curvature)
    }, reach = function(direction, by_arm) sort(odd_numbers(2L)))
    core$core_climb(sums, rnorm(q))
    core$core_meet_moments(sums, rnorm(q), odd_numbers(q))
    core$core_meet_bounds(sums, rnorm(q), odd_numbers(q), c(0, abs(odd_numbers(q - 1L))), runif(1))
  },
  regression = function() {
    n <- size(3000)
    p <- size(6)
    x <- odd_matrix(n, p)
    link <- sample(c("logit", "probit", "cloglog", "log", "linear"), 1L)
    y <- switch(link, log = rpois(n, 2) * 1.0, linear = odd_numbers(n), arms(n) * 1.0)
    fit <- core$glue_fit_regression(x, y, if (runif(1) < 0.5) odd_weights(n), link, if (runif(1) < 0.3) rnorm(p + 1))
    core$glue_fit_counterpoise(x, arms(n) * 1.0, if (runif(1) < 0.5) odd_weights(n))
    if (link == "logit" && fit$status == "converged" && n > 0L) {
      core$glue_refit_logit(x, y, odd_weights(n), fit$coefficients, fit$fitted, fit$covariance)
    }
  },
  balancing = function() {
    n <- size(2000)
    p <- size(5)
    arm <- arms(n) * 1.0
    core$core_balance_arm(odd_matrix(n, p), odd_weights(n), arm, if (runif(1) < 0.5) 1 - arm else rep(1, n),
                          if (runif(1) < 0.5) abs(odd_numbers(p)))
  },
  metric = function() {
    m <- size(60, 1)
    n <- size(120, 1)
    p <- size(4, 1)
    rows <- size(4, 1)
    k <- size(3, 1)
    if (k > n) return()
    task <- core$core_search_task(
      odd_matrix(m, p), odd_matrix(n, p), odd_matrix(m, rows), odd_matrix(n, rows), abs(odd_numbers(rows)) + 1e-3,
      runif(rows) < 0.5, odd_weights(m) + 1e-3, odd_weights(n) + 1e-3, sample(c("smd", "ks", "p_value"), 1L), k,
      runif(1) < 0.5, sample.int(m), if (runif(1) < 0.3) codes(m + n, 2),
      if (runif(1) < 0.3) list(seekers = odd_numbers(m), pool = odd_numbers(n), width = abs(odd_numbers(1)))
    )
    core$glue_judge_metrics(task, matrix(exp(rnorm(3 * p)), p), sample(2L, 1L))
  },
  cox = function() {
    n <- size(400, 1)
    weight <- odd_weights(n) + 1e-300
    core$cox_fit(odd_matrix(n, size(4, 1)), odd_numbers(n), arms(n), weight)
  },
  resample = function() {
    sizes <- vapply(seq_len(size(20)), function(k) size(300), 0L)
    counts <- core$core_draw_counts(sizes, size(1e6), size(2^31 - 2))
    stopifnot(sum(counts) == sum(sizes), all(counts >= 0))
  },
  within = function() {
    units <- size(200, 1)
    periods <- size(8, 1)
    unit <- sort(c(seq_len(units), codes(size(1000), units))) - 1L
    n <- length(unit)
    time <- codes(n, periods) - 1L
    blocks <- size(4, 1)
    block <- c(seq_len(blocks), codes(units, blocks))[seq_len(units)] - 1L
    blocks <- max(block) + 1L
    columns <- odd_matrix(n, size(4, 1))
    weight <- odd_weights(n)
    core$glue_within_grams(columns, unit, time, periods, block, blocks, weight)
    core$glue_within_targets(columns, unit, time, periods, block, blocks, weight, odd_weights(n))
    core$glue_within_residuals(columns, unit, time, periods, block, blocks, weight, odd_weights(n),
                               odd_matrix(periods + ncol(columns), blocks), unit, units, TRUE)
    core$glue_within_residuals(columns, unit, time, periods, block, blocks, weight, odd_weights(n),
                               odd_matrix(periods + ncol(columns), blocks), seq_len(n) - 1L, n, FALSE)
    core$glue_unit_scatter(odd_numbers(units * periods), odd_weights(units), block, blocks, odd_numbers(periods))
    if (runif(1) < 0.2) core$glue_absorb_effects(columns, list(unit, time, codes(n, 3) - 1L), weight)
  }
)

# What a kernel may refuse: an arm without units, and the like.
refusals <- "lengths differ or are zero|one entry per unit|must be a value"
refused <- 0L
for (run in seq_len(runs)) {
  set.seed(first + run)
  name <- names(kernels)[(run - 1L) %% length(kernels) + 1L]
  tryCatch(kernels[[name]](), error = function(e) {
    if (grepl(refusals, conditionMessage(e))) {
      refused <<- refused + 1L
      return()
    }
    stop(sprintf("driver: %s, run %d (seed %d): %s", name, run, first + run, conditionMessage(e)), call. = FALSE)
  })
}
cat(sprintf("%d runs over %d kernels, %d refused, none failed\n", runs, length(kernels), refused))
