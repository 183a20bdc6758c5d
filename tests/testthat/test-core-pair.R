# Plain loops: each seeker in turn takes the nearest free unit, the lower row among equals.
greedy_by_loop <- function(seekers, pool, caliper, places) {
  partner <- rep(NA_integer_, length(seekers))
  for (i in places) {
    distance <- abs(pool - seekers[i])
    distance[partner[!is.na(partner)]] <- Inf
    best <- which.min(distance)
    if (length(best) == 1L && is.finite(distance[best]) && distance[best] <= caliper) partner[i] <- best
  }
  partner
}

closest_by_loop <- function(seekers, pool, caliper) {
  partner <- rep(NA_integer_, length(seekers))
  distance <- abs(outer(seekers, pool, "-"))
  repeat {
    best <- min(distance)
    if (best > caliper || is.infinite(best)) return(partner)
    at <- which(distance == best, arr.ind = TRUE)
    at <- at[order(at[, 1], at[, 2])[1], ]
    partner[at[1]] <- at[2]
    distance[at[1], ] <- Inf
    distance[, at[2]] <- Inf
  }
}

# Scores on a coarse grid, so that ties are everywhere.
random_case <- function(seed) {
  withr::with_seed(seed, list(seekers = sample(0:8, sample(1:7, 1), TRUE) / 4, pool = sample(0:8, sample(1:9, 1), TRUE) / 4,
                              caliper = sample(c(0.25, 0.5, Inf), 1)))
}

test_that("pairs agree with plain loops on 300 small cases full of ties, in every order", {
  differing <- vapply(1:300, function(seed) {
    case <- random_case(seed)
    n <- length(case$seekers)
    turn <- withr::with_seed(seed, sample(n))
    run <- function(order) core_pair_greedy(case$seekers, case$pool, case$caliper, order, TRUE, turn)
    loop <- function(places) greedy_by_loop(case$seekers, case$pool, case$caliper, places)
    c(
      hardest = !identical(run("hardest"), loop(order(-case$seekers, seq_len(n)))),
      easiest = !identical(run("easiest"), loop(order(case$seekers, seq_len(n)))),
      given = !identical(run("given"), loop(seq_len(n))), shuffled = !identical(run("shuffled"), loop(turn)),
      closest = !identical(run("closest_pair"), closest_by_loop(case$seekers, case$pool, case$caliper))
    )
  }, logical(5))
  expect_identical(rowSums(differing), c(hardest = 0, easiest = 0, given = 0, shuffled = 0, closest = 0))
})

test_that("the hardest control is the one with the lowest score", {
  # both controls want the treated unit at 0; the one at -1 is harder to match and goes first
  expect_identical(core_pair_greedy(c(0.1, -1), 0, Inf, "hardest", treated_seek = FALSE), c(NA, 1L))
  expect_identical(core_pair_greedy(c(0.1, -1), 0, Inf, "hardest", treated_seek = TRUE), c(1L, NA))
})

test_that("the caliper is closed and its unit is the pooled sd", {
  expect_identical(core_pair_greedy(0, 0.25, 0.25, "given"), 1L)
  expect_identical(core_pair_greedy(0, 0.25, 0.2499, "given"), NA_integer_)
  x <- c(1, 3, 2, 6, 7)
  z <- c(1L, 1L, 0L, 0L, 0L)
  expect_equal(core_pooled_sd(x, z, rep(1, 5)), sqrt((var(c(1, 3)) + var(c(2, 6, 7))) / 2))
})
