# Pairing at real sizes, in one run, in processor seconds. FNN (neighbours) and clue (assignment) are compared where they
# are installed; they are general tools, not part of the package. Arguments: "memory" pairs ten million units as well.
suppressMessages(library(carefultwin))
own <- asNamespace("carefultwin")
cpu <- function(expr) sum(system.time(expr)[c("user.self", "sys.self")])
best <- function(expr, times = 3) {
  expr <- substitute(expr)
  env <- parent.frame()
  median(vapply(seq_len(times), function(i) cpu(eval(expr, env)), 0))
}
problem <- own$core_pair_problem
say <- function(...) cat(sprintf(...), "\n", sep = "")

on_the_score <- function(treated, control) {
  set.seed(1)
  seekers <- rnorm(treated, 0.3)
  pool <- rnorm(control)
  given <- problem(seekers, pool, 0.2)
  sorting <- best(order(c(seekers, pool), method = "radix"))
  say("score, %g treated and %g controls; ordering them takes %.3f s, times that:", treated, control, sorting)
  for (rule in c("hardest", "easiest", "given", "closest_pair")) {
    say("  greedy, %-13s %5.1f", rule, best(own$core_pair_greedy(given, rule, seekers)) / sorting)
  }
  say("  optimal, caliper 0.2  %5.1f", best(own$core_pair_optimal(given)) / sorting)
  say("  optimal, no caliper   %5.1f", best(own$core_pair_optimal(problem(seekers, pool))) / sorting)
}

neighbours <- function(n, p) {
  set.seed(2)
  a <- matrix(rnorm(n * p), n)
  b <- matrix(rnorm(n * p), n)
  ours <- best(own$core_nearest(problem(a, b), 1, TRUE))
  line <- sprintf("nearest of %g for %g in %d dimensions: %.2f s", n, n, p, ours)
  if (requireNamespace("FNN", quietly = TRUE)) {
    found <- NULL
    theirs <- cpu(found <- FNN::knnx.dist(b, a, 1))
    stopifnot(all.equal(drop(found), own$core_nearest(problem(a, b), 1, FALSE)$distance))
    line <- paste0(line, sprintf("; FNN takes %.1f times that", theirs / ours))
  }
  slope <- rnorm(p)
  score <- drop(a %*% slope)
  other <- drop(b %*% slope)
  width <- 0.2 * sd(c(score, other))
  limits <- list(list(seekers = score, pool = other, width = width))
  window <- own$core_narrow_window(limits)
  within <- best(own$core_nearest(problem(a, b, limits = limits, window = window), 1, TRUE), 1)
  say("%s; within a score caliper %.2f s", line, within)
}

optimal <- function(treated, control, p, clue = FALSE) {
  set.seed(3)
  a <- matrix(rnorm(treated * p), treated)
  b <- matrix(rnorm(control * p), control)
  partners <- NULL
  ours <- best(partners <- own$core_pair_optimal(problem(a, b)), if (clue) 5 else 1)
  line <- sprintf("optimal pairs of %g and %g in %d dimensions: %.2f s", treated, control, p, ours)
  if (clue && requireNamespace("clue", quietly = TRUE)) {
    d <- sqrt(Reduce(`+`, lapply(seq_len(p), function(j) outer(a[, j], b[, j], "-")^2)))
    found <- NULL
    theirs <- cpu(found <- clue::solve_LSAP(d))
    stopifnot(all.equal(sum(d[cbind(seq_along(found), found)]), sum(d[cbind(seq_len(treated), partners)])))
    line <- paste0(line, sprintf("; clue takes %.0f times that", theirs / ours))
  }
  say("%s", line)
}

# share: of the units that seek. Candidates as a search draws its first ones. In plain R only where its distances fit.
search_rate <- function(n, p, share = 0.5, goal = "p_value", candidates = 500, plain = n <= 4000) {
  set.seed(4)
  x <- matrix(rnorm(n * p), n)
  t <- seq_len(n * share)
  task <- own$core_search_task(x[t, ], x[-t, ], x[t, ], x[-t, ], rep(1, p), rep(TRUE, p), rep(1, length(t)),
                               rep(1, n - length(t)), goal, 1, TRUE, t, NULL, NULL)
  metrics <- exp(matrix(runif(p * candidates, log(1e-3), log(1e3)), p))
  rate <- candidates / cpu(own$core_judge_metrics(task, metrics, 1))
  line <- sprintf("metric search, %g units (%.0f%% seek) and %d covariates, %s: %.0f candidates per second and core", n,
                  100 * share, p, goal, rate)
  if (plain) {
    slow <- cpu(for (k in 1:2) judge_in_r(x[t, ], x[-t, ], metrics[, k])) / 2
    line <- paste0(line, sprintf("; plain R takes %.0f times that", rate * slow))
  }
  say("%s", line)
}

# Full matching at n and 4n units: a ratio near 4 is n log n. Plain R has no way to set beside it but ordering the score.
full_sets <- function(n, p, on) {
  time_of <- function(n) {
    set.seed(5)
    data <- as.data.frame(matrix(rnorm(n * p), n))
    data$z <- rbinom(n, 1, plogis(0.4 * data$V1 - 0.8))
    study <- frame_study(transform(data, y = rnorm(n)), "z", "y", paste0("V", seq_len(p)), treated = 1)
    scored <- score_units(study)
    time <- cpu(suppressWarnings(group_units(if (on == "score") scored else study, "full", on = on)))
    c(time, best(order(scored$score$fitted, method = "radix")))
  }
  small <- time_of(n)
  large <- time_of(4 * n)
  say("full matching, %s, %g units x %d: %.1f s, %.1f times that of %g units%s", on, 4 * n, p, large[1L],
      large[1L] / small[1L], n, if (on == "score") sprintf("; ordering the score takes %.3f s", large[2L]) else "")
}

# Everybody among three arms: sets of all arms and pairs in every arm, at n and 4n units. Sets once more in plain R: all
# distances to each arm, then the same choice of who begins a set, by a loop; at 4,000 units, where distances fit.
all_arms <- function(n) {
  arms_of <- function(n) {
    set.seed(6)
    data <- as.data.frame(matrix(rnorm(n * 3), n))
    odds <- cbind(1, exp(0.4 * data$V1), exp(-0.4 * data$V2))
    data$gear <- c("a", "b", "c")[apply(odds, 1L, function(p) sample(3L, 1L, prob = p))]
    frame_arms(transform(data, y = rnorm(n)), "gear", "y", paste0("V", 1:3), reference = "a", estimand = "ATE")
  }
  time_of <- function(n) {
    arms <- arms_of(n)
    c(sets = cpu(group_units(arms, "full", on = "diagonal")),
      pairs = cpu(pair_units(arms, on = "diagonal", replacement = TRUE)))
  }
  small <- time_of(n)
  large <- time_of(4 * n)
  ratio <- large / small
  say("three arms, %g units x 3: sets of all arms %.1f s (%.1f times that of %g units), pairs in every arm %.1f s (%.1f)",
      4 * n, large[["sets"]], ratio[["sets"]], n, large[["pairs"]], ratio[["pairs"]])
  few <- arms_of(4000)
  x <- scale(as.matrix(few$base$data[paste0("V", 1:3)]))
  ours <- best(sets <- group_units(few, "full", on = "diagonal"))
  made <- NULL
  slow <- cpu(made <- sets_in_r(x, few$arm))
  stopifnot(identical(made, contrasts_of(sets)[[1L]]$set))
  say("sets of all arms of 4,000 units: plain R takes %.0f times the whole verb", slow / ours)
}

sets_in_r <- function(x, arm) {
  d <- as.matrix(dist(x))
  row <- vapply(seq_len(max(arm)), function(j) {
    pool <- which(arm == j)
    replace(pool[max.col(-d[, pool], "first")], pool, pool)
  }, integer(nrow(x)))
  widest <- apply(row, 2L, function(to) d[cbind(seq_along(to), to)]) |> apply(1L, max)
  set <- rep(NA_integer_, nrow(x))
  for (i in order(widest, seq_along(widest))) {
    if (all(is.na(set[row[i, ]]))) set[row[i, ]] <- max(set, 0L, na.rm = TRUE) + 1L
  }
  pool <- which(!is.na(set))
  left <- which(is.na(set))
  set[left] <- set[pool[max.col(-d[left, pool], "first")]]
  set
}

# The plain-R way: distances, nearest, weighted means and distribution gaps.
judge_in_r <- function(a, b, metric) {
  d <- Reduce(`+`, lapply(seq_along(metric), function(j) metric[j] * outer(a[, j], b[, j], "-")^2))
  w <- tabulate(max.col(-d, "first"), nrow(b))
  vapply(seq_along(metric), function(j) {
    at <- sort(c(a[, j], b[, j]))
    ranks <- order(b[, j])
    ks <- max(abs(findInterval(at, sort(a[, j])) / nrow(a) -
                    c(0, cumsum(w[ranks]))[findInterval(at, b[ranks, j]) + 1] / sum(w)))
    max(ks, abs(mean(a[, j]) - weighted.mean(b[, j], w)))
  }, 0)
}

on_the_score(5e5, 5e5)
on_the_score(2e5, 8e5)
neighbours(1e5, 5)
neighbours(2e4, 10)
optimal(1e3, 2e3, 5, clue = TRUE)
optimal(2e4, 8e4, 5)
optimal(1e5, 4e5, 5)
full_sets(2.5e5, 3, "score")
full_sets(5e4, 6, "mahalanobis")
all_arms(5e4)
search_rate(2000, 10)
search_rate(9276, 10, candidates = 100)
search_rate(32000, 10, candidates = 40)
search_rate(32000, 10, share = 0.2, goal = "smd", candidates = 60)
if ("memory" %in% commandArgs(TRUE)) {
  seekers <- rnorm(2e6, 0.3)
  pool <- rnorm(8e6)
  say("ten million units, hardest first: %.1f s", cpu(own$core_pair_greedy(problem(seekers, pool, 0.2), "hardest", seekers)))
  peak <- grep("VmHWM", readLines("/proc/self/status"), value = TRUE)
  say("peak memory of this run: %s", trimws(sub("VmHWM:", "", peak)))
}
