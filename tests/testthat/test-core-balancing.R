# A fixture with skewed columns of very different size and weights, one of them 0.
arms <- function(n = 200) {
  withr::with_seed(3, {
    x <- cbind(a = rnorm(n), b = 1000 + 50 * rexp(n), c = rbinom(n, 1, 0.4))
    z <- rbinom(n, 1, plogis(0.5 * x[, 1] + 0.01 * (x[, 2] - 1050)))
    list(x = x, z = z, s = c(0, runif(n - 1, 0.5, 2)))
  })
}

test_that("probit and complementary log-log agree with glm, in the tails too", {
  data <- arms()
  data$x[1:3, 1] <- c(-9, 8, 12)
  glm_of <- function(link) {
    suppressWarnings(glm(data$z ~ data$x, binomial(link), weights = data$s, control = list(epsilon = 1e-14, maxit = 100)))
  }
  for (link in c("probit", "cloglog")) {
    fit <- core_fit(data$x, as.double(data$z), data$s, link)
    reference <- glm_of(link)
    expect_equal(fit$coefficients, unname(coef(reference)), tolerance = 1e-6, label = link)
    expect_equal(fit$fitted, unname(fitted(reference)), tolerance = 1e-6, label = link)
    loglik <- sum(data$s * ifelse(data$z == 1, log(fit$fitted), log1p(-fit$fitted)))
    expect_equal(fit$loglik, loglik, tolerance = 1e-8, label = link)
  }
})

test_that("a start changes nothing but the way", {
  data <- arms()
  cold <- core_fit(data$x, as.double(data$z), data$s, "logit")
  warm <- core_fit(data$x, as.double(data$z), data$s, "logit", start = cold$coefficients + 0.01)
  expect_equal(warm$coefficients, cold$coefficients, tolerance = 1e-8)
  expect_equal(warm$covariance, cold$covariance, tolerance = 1e-6)
})

test_that("heteroskedastic probit reaches what a general optimiser reaches", {
  data <- arms(600)
  v <- cbind(data$x[, 3], data$x[, 1] / 2)
  fit <- core_fit_heteroskedastic(data$x, v, as.double(data$z), data$s)
  minus <- function(theta) {
    u <- drop(cbind(1, data$x[, 1], (data$x[, 2] - 1050) / 50, data$x[, 3]) %*% theta[1:4]) * exp(-drop(v %*% theta[5:6]))
    -sum(data$s * pnorm((2 * data$z - 1) * u, log.p = TRUE))
  }
  reference <- optim(c(0, 0, 0, 0, 0, 0), minus, method = "BFGS", control = list(reltol = 1e-14, maxit = 1000))
  expect_identical(fit$status, "converged")
  expect_equal(fit$loglik, -reference$value, tolerance = 1e-7)
  expect_equal(fit$coefficients[5:6], reference$par[5:6], tolerance = 1e-3)
  expect_equal(fit$coefficients[3] * 50, reference$par[3], tolerance = 1e-3)
  hessian <- optimHess(reference$par, minus)
  expect_equal(diag(fit$covariance)[5:6], diag(solve(hessian))[5:6], tolerance = 1e-2)
})

test_that("entropy weights meet the moments and are those of a general optimiser on the dual", {
  data <- arms()
  fit <- core_balance_arm(data$x, data$s, 1 - data$z, data$z)
  v <- data$s * fit$weight * (1 - data$z)
  target <- colSums(data$s * data$z * data$x) / sum(data$s * data$z)
  expect_lt(max(abs((colSums(v * data$x) / sum(v) - target) / apply(data$x, 2, sd))), 1e-9)
  expect_equal(sum(v), sum(data$s * data$z))
  scaled <- scale(data$x, target, apply(data$x, 2, sd))[data$z == 0, ]
  base <- data$s[data$z == 0]
  dual <- optim(c(0, 0, 0), function(b) log(sum(base * exp(scaled %*% b))), method = "BFGS",
                gr = function(b) drop(crossprod(scaled, base * exp(scaled %*% b))) / sum(base * exp(scaled %*% b)),
                control = list(reltol = 1e-15))
  reference <- exp(drop(scaled %*% dual$par))
  reference <- reference / sum(base * reference) * sum(data$s * data$z)
  positive <- base > 0
  expect_equal(fit$weight[data$z == 0][positive], reference[positive], tolerance = 1e-5)
})

test_that("entropy weights start from a part of many rows and end in the same place", {
  n <- 60000
  x <- withr::with_seed(5, cbind(rnorm(n), rexp(n)))
  z <- withr::with_seed(6, rbinom(n, 1, plogis(0.7 * x[, 1] - 0.3 * x[, 2])))
  fit <- core_balance_arm(x, rep(1, n), 1 - z, z)
  v <- fit$weight * (1 - z)
  expect_equal(colSums(v * x) / sum(v), colMeans(x[z == 1, ]), tolerance = 1e-9)
  expect_equal(diff(range(log(v[z == 0]) - x[z == 0, ] %*% fit$coefficients[-1])), 0, tolerance = 1e-8)  # exp of a line
})

# The dual certificate: weights that are feasible and of the form max(0, line), with multipliers only where a bound binds
# and of the right sign, are the least-variance ones.
test_that("stable weights are feasible and certified least-variance", {
  data <- arms()
  tolerance <- 0.03 * apply(data$x, 2, sd)
  fit <- core_balance_arm(data$x, data$s, 1 - data$z, data$z, tolerance)
  inside <- data$z == 0 & data$s > 0
  v <- (data$s * fit$weight)[inside]
  gap <- colSums(v * data$x[inside, ]) / sum(v) - fit$target
  expect_true(all(abs(gap) <= tolerance * (1 + 1e-7)))
  expect_true(all(fit$weight >= 0))
  expect_equal(sum(v), sum(data$s * data$z))
  line <- drop(cbind(1, data$x) %*% fit$coefficients)
  expect_equal(fit$weight[inside], pmax(0, line[inside]), tolerance = 1e-8)
  multiplier <- fit$coefficients[-1]
  expect_true(all(abs(abs(gap[multiplier != 0]) - tolerance[multiplier != 0]) < 1e-7 * tolerance[multiplier != 0]))
  expect_identical(unname(sign(gap[multiplier != 0])), -sign(multiplier[multiplier != 0]))
  expect_gt(sum(multiplier != 0), 0)
})

test_that("stable weights have less variance than any feasible mixture tried", {
  data <- arms()
  tolerance <- 0.05 * apply(data$x, 2, sd)
  best <- core_balance_arm(data$x, data$s, 1 - data$z, data$z, tolerance)$weight
  exact <- core_balance_arm(data$x, data$s, 1 - data$z, data$z)$weight  # entropy: feasible too
  spread <- function(w) sum((data$s * w^2)[data$z == 0])
  expect_lt(spread(best), spread(exact))
  for (share in c(0.01, 0.1, 0.5)) expect_lt(spread(best), spread((1 - share) * best + share * exact))
})

test_that("a tolerance of 0 is exact balance, and a wide one leaves the weights alone", {
  data <- arms()
  exact <- core_balance_arm(data$x, data$s, 1 - data$z, data$z, numeric(3))
  expect_lt(max(abs(core_moment_gaps(data$x, data$s, 1 - data$z, exact)) / apply(data$x, 2, sd)), 1e-8)
  loose <- core_balance_arm(data$x, data$s, 1 - data$z, data$z, rep(1e6, 3))
  expect_equal(diff(range(loose$weight[data$z == 0 & data$s > 0])), 0)
})

test_that("the balancing score of the ATE balances every mean of its inverse weights", {
  data <- arms()
  fit <- core_fit_counterpoise(data$x, as.double(data$z), data$s)
  gap <- data$s * (data$z / fit$fitted - (1 - data$z) / (1 - fit$fitted))
  expect_lt(max(abs(colSums(gap * cbind(1, scale(data$x))))), 1e-7)
  expect_equal(fit$fitted, plogis(fit$linear))
})

test_that("targets outside the hull are recognised", {
  line <- cbind(c(0, 1, 2, 3, 1, 2), c(0, 1, 2, 3, 2.9, 0.1))  # controls on the diagonal; targets off it
  z <- c(0, 0, 0, 0, 1, 0)
  off <- core_balance_arm(line[-6, ], rep(1, 5), 1 - z[-6], z[-6])
  expect_gt(max(abs(core_moment_gaps(line[-6, ], rep(1, 5), 1 - z[-6], off))), 0.1)
  expect_identical(core_balance_arm(line[-6, ], rep(1, 5), 1 - z[-6], z[-6], c(0.01, 0.01))$status, "infeasible")
})

test_that("the stack's weights are the best convex mixture", {
  p <- withr::with_seed(9, {
    truth <- plogis(rnorm(500))
    z <- rbinom(500, 1, truth)
    cbind(good = plogis(qlogis(truth) + rnorm(500)), other = plogis(qlogis(truth) + rnorm(500)), noise = runif(500))
  })
  s <- rep(c(0.5, 2), 250)
  weight <- core_stack_weights(p, z, s)
  loss <- function(a) core_log_loss(drop(p %*% a), z, s)
  expect_equal(sum(weight), 1)
  expect_true(all(weight >= 0))
  grid <- expand.grid(seq(0, 1, 0.05), seq(0, 1, 0.05))
  grid <- grid[rowSums(grid) <= 1, ]
  losses <- apply(grid, 1, function(a) loss(c(a, 1 - sum(a))))
  expect_lte(loss(weight), min(losses))
  # first-order: moving weight towards any learner does not help, and among those in use all are equal
  density <- z * p + (1 - z) * (1 - p)
  slope <- colSums(s * density / drop(density %*% weight)) / sum(s)
  expect_true(all(slope <= 1 + 1e-6))
  expect_equal(unname(slope[weight > 0.01]), rep(1, sum(weight > 0.01)), tolerance = 1e-6)
})

test_that("least-variance bounds solve their equation and do not cut where overlap is good", {
  e <- withr::with_seed(2, plogis(rnorm(1000, 0, 2.5)))
  s <- rep(1:2, 500)
  bounds <- core_least_variance_bounds(e, s)
  g <- 1 / (e * (1 - e))
  cut <- 1 / (bounds[["low"]] * bounds[["high"]])
  expect_equal(cut, 2 * sum((s * g)[g <= cut]) / sum(s[g <= cut]), tolerance = 1e-10)
  expect_equal(bounds[["low"]], 1 - bounds[["high"]])
  # no symmetric cut on a fine grid has a smaller variance bound
  bound_of <- function(a) sum((s * g)[e >= a & e <= 1 - a]) / sum(s[e >= a & e <= 1 - a])^2
  expect_lte(bound_of(bounds[["low"]]), min(vapply(seq(0.001, 0.3, 0.001), bound_of, 0)) * (1 + 1e-3))
  expect_identical(core_least_variance_bounds(rep(c(0.3, 0.6), 50), rep(1, 100)), c(low = 0, high = 1))
})

test_that("a bootstrap refit is the fit to the drawn units, and draws differ by replicate only", {
  data <- arms()
  z <- as.double(data$z)
  y <- data$x[, 1] + z
  first <- core_fit(data$x, z, NULL, "logit")
  counts <- core_draw_counts(200, 3)
  expect_identical(core_draw_counts(200, 3), counts)
  expect_false(identical(core_draw_counts(200, 4), counts))
  expect_identical(sum(counts), 200)
  rows <- rep(1:200, counts)
  e <- fitted(glm(z[rows] ~ data$x[rows, ], binomial, control = list(epsilon = 1e-14)))
  w <- ifelse(z[rows] == 1, 1 / e, 1 / (1 - e))
  by_hand <- weighted.mean(y[rows][z[rows] == 1], w[z[rows] == 1]) - weighted.mean(y[rows][z[rows] == 0], w[z[rows] == 0])
  means <- core_redraw_weighted(data$x, z, cbind(y, 2 * y), counts, "ATE", first)
  expect_equal(unname(means["mean_treated", ] - means["mean_control", ]), c(1, 2) * by_hand, tolerance = 1e-6)
  # counts of n draws are nearly Poisson(1)
  many <- core_draw_counts(1e5, 1)
  expect_equal(mean(many == 0), exp(-1), tolerance = 0.02)
  expect_equal(var(many), 1, tolerance = 0.03)
  # neighbouring replicates are strangers, and groups keep their sizes
  expect_lt(abs(cor(many, core_draw_counts(1e5, 2))), 0.02)
  grouped <- core_draw_counts(c(30, 5, 165), 9)
  expect_identical(as.double(rowsum(grouped, rep(1:3, c(30, 5, 165)))), c(30, 5, 165))
})
