# Methods' formulas by plain loops. lists: per unit, its matches.
variance_by_loop <- function(y, z, matches, s2, estimand) {
  n <- length(y)
  seekers <- if (estimand == "ATE") seq_len(n) else which(z == 1)
  times <- squares <- numeric(n)
  imputed <- rep(NA_real_, n)
  for (i in seekers) {
    for (j in matches[[i]]) {
      times[j] <- times[j] + 1 / length(matches[[i]])
      squares[j] <- squares[j] + 1 / length(matches[[i]])^2
    }
    imputed[i] <- mean(y[matches[[i]]])
  }
  gain <- ifelse(z == 1, y - imputed, imputed - y)
  effect <- mean(gain[seekers])
  first <- sum((gain[seekers] - effect)^2)
  reuse <- if (estimand == "ATE") sum((times^2 + 2 * times - squares) * s2) else
    sum(((times^2 - squares) * s2)[z == 0])
  c(effect, (first + reuse) / length(seekers)^2)
}

random_matches <- function(seed) {
  withr::with_seed(seed, {
    z <- rep(0:1, c(9, 7))
    list(z = z, y = rnorm(16) + z, s2 = runif(16), matches = lapply(1:16, function(i) {
      sort(sample(which(z != z[i]), sample(1:3, 1)))
    }))
  })
}

match_table <- function(case, estimand) {
  seekers <- if (estimand == "ATE") 1:16 else which(case$z == 1)
  rows <- lapply(seekers, function(i) data.frame(set = match(i, seekers), seeker = i, partner = case$matches[[i]]))
  do.call(rbind, rows)
}

test_that("means and variance with replacement are Methods' formulas, by plain loops", {
  for (estimand in c("ATT", "ATE")) {
    for (seed in 1:20) {
      case <- random_matches(seed)
      table <- match_table(case, estimand)
      share <- 1 / tabulate(table$set)[table$set]
      first <- !duplicated(table$set)
      unit <- c(table$seeker[first], table$partner)
      treated <- c(case$z[table$seeker[first]], 1 - case$z[table$seeker]) == 1
      found <- core_match_means(c(table$set[first], table$set), unit, treated, c(rep(1, sum(first)), share),
                                case$y[unit], sqrt(case$s2))
      expected <- variance_by_loop(case$y, case$z, case$matches, case$s2, estimand)
      expect_equal(unname(found$means[1] - found$means[2]), expected[1])
      expect_equal(sum(found$vcov * c(1, -1, -1, 1)), expected[2])
    }
  }
})

test_that("the conditional variance is J / (J + 1) times the squared gap to the J nearest, ties kept", {
  x <- c(0, 1, 1, 3, 7)
  y <- c(5, 1, 2, 8, 4)
  problem <- core_pair_problem(x, x, not_itself = TRUE)
  lists <- core_nearest(problem, 2, TRUE)
  # of x = 0: rows 2 and 3; of 1: the other 1 and 0; of 3: both 1s; of 7: 3, and both 1s tie
  expected <- c(2 / 3 * (5 - 1.5)^2, 2 / 3 * (1 - 3.5)^2, 2 / 3 * (2 - 3)^2, 2 / 3 * (8 - 1.5)^2,
                3 / 4 * (4 - 11 / 3)^2)
  expect_equal(core_conditional_gap(y, lists)^2, expected)
})

test_that("the adjustment for the score is a plain loop over units", {
  withr::local_seed(3)
  n <- 12
  x <- cbind(1, rnorm(n))
  z <- rep(0:1, 6)
  e <- runif(n, 0.2, 0.8)
  slope <- e * (1 - e)
  covariance <- matrix(c(2, 0.5, 0.5, 1), 2)
  local <- lapply(c(treated = 1, control = 2), function(k) list(mean = rnorm(n), cov = matrix(rnorm(2 * n), n)))
  gap <- rnorm(n)
  adjust <- function(estimand) core_score_adjustment(x, z, e, slope, covariance, local, gap, 0.3, estimand)
  c_att <- d_att <- c_ate <- c(0, 0)
  for (i in 1:n) {
    c_att <- c_att + (x[i, ] * slope[i] * (local$treated$mean[i] - local$control$mean[i] - 0.3) +
                        (local$treated$cov[i, ] + e[i] / (1 - e[i]) * local$control$cov[i, ]) * slope[i]) / 6
    d_att <- d_att + x[i, ] * slope[i] * (gap[i] - 0.3) / 6
    c_ate <- c_ate + (local$treated$cov[i, ] / e[i] + local$control$cov[i, ] / (1 - e[i])) * slope[i] / n
  }
  form <- function(v) drop(t(v) %*% covariance %*% v)
  expect_equal(adjust("ATT"), diag(c(0, form(c_att) - form(d_att))))
  expect_equal(sum(adjust("ATE") * c(1, -1, -1, 1)), form(c_ate))
})

test_that("arms exchanged, the adjustment of the ATC is that of the ATT", {
  withr::local_seed(4)
  n <- 10
  x <- cbind(1, rnorm(n))
  z <- rep(0:1, 5)
  e <- runif(n, 0.2, 0.8)
  local <- lapply(c(treated = 1, control = 2), function(k) list(mean = rnorm(n), cov = matrix(rnorm(2 * n), n)))
  gap <- rnorm(n)
  att <- core_score_adjustment(x, z, e, e * (1 - e), diag(2), local, gap, 0.3, "ATT")
  # the same data with the arms' names exchanged: outcomes of the other arm, effect and gap with the other sign; the
  # linear score has the other sign too, and with it the slope
  swapped <- list(treated = local$control, control = local$treated)
  atc <- core_score_adjustment(x, 1 - z, 1 - e, -e * (1 - e), diag(2), swapped, -gap, -0.3, "ATC")
  expect_gt(abs(att[2, 2]), 0)
  expect_equal(atc[1, 1], att[2, 2])
})

test_that("cells leave out r (r - 1) s2 where a unit stands for more than one", {
  # cell a: 2 controls for 4 treated; b: 1 for 3; c: 3 for 1
  y <- c(1, 3, 10, 7, 8, 9, rep(0, 8))
  own <- rep(1:0, c(6, 8))
  cell <- c("a", "a", "b", "c", "c", "c", "a", "a", "a", "a", "b", "b", "b", "c")
  s2 <- c(2, (2 + 2) / 3)  # of the single unit in b: all within-cell squares over their degrees of freedom
  expect_equal(core_cell_shortfall(y, own, 1 - own, cell), (2 * 1 * s2[1] + 3 * 2 * s2[2]) / 8^2)
  expect_equal(core_cell_shortfall(y, 3 * own, 3 * (1 - own), cell), (2 * 1 * s2[1] + 3 * 2 * s2[2]) / 8^2)
})
