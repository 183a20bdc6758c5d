# What is made from sums takes sums that were added up piece by piece, as from a file or a database, and gives what
# the rows give by the formula written out.

pieces <- function(sums, ...) {
  rows <- list(...)
  n <- length(rows[[1]])
  Reduce(function(a, b) Map(`+`, a, b), lapply(split(seq_len(n), rep_len(1:3, n)), function(at) {
    do.call(sums, lapply(rows, `[`, at))
  }))
}

world <- withr::with_seed(4, {
  n <- 90L
  list(z = rbinom(n, 1L, 0.4), v = rexp(n), code = sample(4L, n, TRUE, c(5, 3, 2, 2)), y = rnorm(n, 1e6))
})

test_that("sums by code are those of the rows, missing codes left out, and wrong codes are refused", {
  code <- c(world$code[-1L], NA)
  expect_equal(core_sums_by(world$v, code), as.vector(tapply(world$v, code, sum)))
  expect_equal(core_sums_by(world$z, code, 6L), c(as.vector(tapply(world$z, code, sum)), 0, 0))
  expect_identical(core_sums_by(c(1, 2), c(NA, NA), 2L), c(0, 0))
  expect_identical(core_sums_by(numeric(), integer(), 3L), numeric(3L))
  expect_error(core_sums_by(c(1, 2), c(1L, 3L), 2L), "1 to size")
  expect_error(core_sums_by(c(1, 2), c(0L, 1L)), "1 to size")
  expect_error(core_sums_by(c(1, 2, 3), c(1L, 1L)), "one entry per unit")
})

test_that("shares of levels come from totals of any pieces", {
  totals <- pieces(function(code, z, v) list(core_level_totals(code, 4L, z, v)), world$code, world$z, world$v)[[1]]
  shares <- core_level_shares(totals)
  expect_identical(colnames(shares), c("treated", "control"))
  for (level in 1:4) {
    for (arm in c("treated", "control")) {
      inside <- world$z == (arm == "treated")
      expect_equal(shares[level, arm], weighted.mean(world$code[inside] == level, world$v[inside]), ignore_attr = TRUE)
    }
  }
  absent <- core_level_shares(core_level_totals(c(1, 1, 3), 3L, c(1L, 0L, 0L), c(1, 1, 3)))
  expect_equal(absent, cbind(treated = c(1, 0, 0), control = c(0.25, 0, 0.75)))
})

test_that("stratum weights make each cell stand for its population", {
  totals <- pieces(core_cell_totals, world$code, world$z, world$v)
  of_cell <- function(inside) as.vector(tapply(world$v * inside, world$code, sum))
  target <- list(treated = of_cell(world$z == 1), control = of_cell(world$z == 0), everybody = of_cell(TRUE))
  for (population in names(target)) {
    factors <- core_stratum_factors(totals, population)
    for (arm in c("treated", "control")) {
      weighed <- factors[[arm]] * totals[[arm]]
      expect_equal(weighed / sum(weighed), target[[population]] / sum(target[[population]]))
    }
  }
  expect_equal(core_stratum_weight(c(1, 1, 2, 2, NA), c(1L, 0L, 1L, 0L, 1L), c(2, 1, 1, 4, 1), "ATT"),
               c(1, 2, 1, 0.25, 0))
})

test_that("the correlation within clusters is that of the analysis of variance", {
  group <- paste("crew", world$code)
  y <- world$y + 2 * world$code
  total <- core_group_totals(y, group)
  expect_equal(sum(total[, "n"]), length(y))
  parts <- summary(aov(y ~ group))[[1]][["Mean Sq"]]
  n <- table(group)
  usual <- (sum(n) - sum(n^2) / sum(n)) / (length(n) - 1)
  expect_equal(core_intraclass(total), (parts[1] - parts[2]) / (parts[1] + (usual - 1) * parts[2]), tolerance = 1e-8)
  expect_equal(core_intraclass(core_group_totals(c(1, 2, 3), c(1, 1, 1))), 0)
  expect_equal(core_intraclass(core_group_totals(c(1, 2, 3), 1:3)), 0)
  expect_equal(core_effective_size_of(sum(world$v), sum(world$v^2)), core_effective_size(world$v))
})

test_that("means and variances of arms come from sums about any centre", {
  centre <- 999990
  sums <- pieces(function(x, z, v) {
    of_arm <- function(inside) c(sum(v[inside]), sum(v[inside]^2), sum((v * (x - centre))[inside]),
                                 sum((v * (x - centre)^2)[inside]))
    list(cbind(of_arm(z == 1), of_arm(z == 0)))
  }, world$y, world$z, world$v)[[1]]
  rows <- c("total", "square", "first", "second")
  sums <- rbind(matrix(t(sums), dimnames = list(paste0(rep(rows, each = 2), c("_treated", "_control")), NULL)),
                centre_treated = centre, centre_control = centre)
  by_hand <- sapply(list(world$z == 1, world$z == 0), function(inside) {
    v <- world$v[inside]
    away <- world$y[inside] - weighted.mean(world$y[inside], v)
    c(weighted.mean(world$y[inside], v), sum(v * away^2) / (sum(v) - sum(v^2) / sum(v)))
  })
  expect_equal(unname(core_moments_of(sums)[, 1]), as.vector(t(by_hand)), tolerance = 1e-9)
  expect_equal(core_moments_of(core_arm_sums(world$y, world$z, world$v)), core_moments_of(sums), tolerance = 1e-9)
})

test_that("a covariance comes from cross-products about any centre", {
  x <- cbind(world$y, world$code, world$code + world$z)
  centre <- c(1e6 + 1, 2, -3)
  products <- pieces(function(a, b, c, v) {
    away <- sweep(cbind(a, b, c), 2, centre)
    list(total = sum(v), square = sum(v^2), first = unname(colSums(v * away)), second = unname(crossprod(away, v * away)))
  }, x[, 1], x[, 2], x[, 3], world$v)
  share <- world$v / sum(world$v)
  expect_equal(core_covariance_of(products), cov.wt(x, share)$cov, tolerance = 1e-8)
  expect_equal(core_covariance(x, world$v), cov.wt(x, share)$cov, tolerance = 1e-10)
  expect_identical(core_covariance(cbind(rep(0.1, 7)), c(1, 2, 3, 1, 1, 1, 5))[1, 1] >= 0, TRUE)
})

test_that("rows taken some at a time add up to the whole", {
  x <- list(world$y, world$code, 0.1 + world$z)
  whole <- core_cross_products(do.call(cbind, x), world$v)
  for (rows in c(1L, 7L, 90L)) {
    parts <- core_column_products(x, world$v, rows)
    expect_equal(core_covariance_of(parts), core_covariance_of(whole), tolerance = 1e-9)
    expect_equal(parts[c("total", "square")], whole[c("total", "square")])
  }
  expect_equal(core_covariance_of(core_column_products(x, NULL, 40L)), cov(do.call(cbind, x)), tolerance = 1e-9)
})

test_that("standard errors come from totals of clusters, one way and two", {
  influence <- cbind(world$y - mean(world$y), world$v * (world$z - 0.4))
  other <- rep_len(1:9, 90)
  by <- function(code) {
    of <- function(at) t(vapply(unique(code), function(g) colSums(influence[at & code == g, , drop = FALSE]), c(0, 0)))
    totals <- of(seq_len(90) <= 40) + of(seq_len(90) > 40)
    list(totals = unname(totals), stratum = rep(1, nrow(totals)), counts = rep(TRUE, nrow(totals)), n = 90)
  }
  small <- function(g) g / (g - 1) / 90^2
  one_way <- function(code) crossprod(rowsum(influence, code)) * small(length(unique(code)))
  expect_equal(core_vcov_of(by(other))$vcov, one_way(other), ignore_attr = TRUE)
  both <- paste(world$code, other)
  expect_equal(core_vcov_two_way_of(list(by(world$code), by(other), by(both)))$vcov,
               one_way(world$code) + one_way(other) - one_way(both), ignore_attr = TRUE)
  expect_equal(core_vcov_of(list(square = crossprod(influence), counted = 80, n = 90))$vcov,
               crossprod(influence) / 90^2 * 80 / 79)
})

test_that("the regression on treatment comes from cross-products", {
  boats <- world$code + rep_len(c(0.3, 0, -0.4), 90)
  x <- cbind(boats, twice = 2 * boats, world$code^2)
  products <- core_treatment_products(world$y, world$z, x, world$v)
  found <- core_treatment_fit(products$gram, products$n)
  usual <- summary(lm(world$y ~ world$z + x[, -2], weights = world$v))$coefficients[2, ]
  expect_identical(found$kept, c(1L, 3L))
  expect_equal(c(found$estimate, found$se), unname(usual[1:2]), tolerance = 1e-7)
  alone <- core_treatment_products(world$y, world$z, x[, 0], world$v)
  expect_equal(core_treatment_fit(alone$gram, alone$n)$estimate,
               coef(lm(y ~ z, world, weights = v))[["z"]], tolerance = 1e-7)
})

test_that("balanced cells come from totals of cohorts", {
  withr::local_seed(8)
  cohort <- rep(1:3, c(10, 12, 9))
  s <- rexp(31)
  y <- matrix(rnorm(31 * 4), 4)
  totals <- sapply(1:3, function(h) {
    at <- cohort == h
    c(sum(s[at]), colSums((t(y) - y[1, ])[at, ] * s[at]))
  })
  cells <- data.frame(cohort = c(1, 2), time = c(3, 4), base = c(2, 3))
  found <- core_cells_of(totals, cells, list(3, c(1, 3)))
  change <- function(h, time, base) weighted.mean((y[time, ] - y[base, ])[cohort %in% h], s[cohort %in% h])
  expect_equal(found$estimate, c(change(1, 3, 2) - change(3, 3, 2), change(2, 4, 3) - change(c(1, 3), 4, 3)))
  expect_equal(core_balanced_cells(c(y), s, cohort, cells, list(3, c(1, 3)))$estimate, found$estimate)
})

# Rows in three parts; what each adds to value, gradient and information, by matrix algebra.
parted <- function(x, terms, sign = rep(1, nrow(x))) {
  parts <- split(seq_len(nrow(x)), rep_len(1:3, nrow(x)))
  list(at = function(beta) {
    Reduce(function(a, b) Map(`+`, a, b), lapply(parts, function(at) {
      own <- terms(drop(x[at, , drop = FALSE] %*% beta), at)
      list(value = sum(own$value), gradient = colSums(x[at, , drop = FALSE] * own$slope),
           information = crossprod(x[at, , drop = FALSE], x[at, , drop = FALSE] * own$bend))
    }))
  }, reach = function(direction, by_arm) {
    range(vapply(parts, function(at) range(x[at, ] %*% direction * if (by_arm) sign[at] else 1), numeric(2)))
  })
}

logit_terms <- function(z, s) {
  function(linear, at) {
    p <- plogis(linear)
    list(value = s[at] * (z[at] * linear + plogis(-linear, log.p = TRUE)), slope = s[at] * (z[at] - p),
         bend = s[at] * p * (1 - p))
  }
}

test_that("a score is fitted from sums of its parts", {
  x <- cbind(1, scale(world$v), scale(world$code))
  found <- core_climb(parted(x, logit_terms(world$z, world$v)), numeric(3))
  usual <- suppressWarnings(glm(world$z ~ x[, -1], binomial, weights = world$v, control = list(epsilon = 1e-14)))
  expect_identical(found$status, "converged")
  expect_equal(found$coefficients, unname(coef(usual)), tolerance = 1e-8)
  expect_equal(solve(found$information), unname(vcov(usual)), tolerance = 1e-6, ignore_attr = TRUE)
  expect_equal(found$coefficients[-1], core_fit(x[, -1], as.double(world$z), world$v, "binomial")$coefficients[-1],
               tolerance = 1e-8)
  told <- as.integer(world$code > 2)
  expect_identical(core_climb(parted(x, logit_terms(told, world$v), 2 * told - 1), numeric(3))$status, "separated")
})

test_that("weights that balance are found from sums of their parts", {
  controls <- which(world$z == 0)
  s <- world$v[controls]
  total <- sum(world$v[world$z == 1])
  x <- cbind(1, scale(cbind(world$code, world$v)))[controls, ]
  target <- colSums(cbind(1, scale(cbind(world$code, world$v)))[world$z == 1, ] * world$v[world$z == 1])
  entropy <- function(linear, at) list(value = -s[at] * exp(linear), slope = -s[at] * exp(linear),
                                       bend = s[at] * exp(linear))
  found <- core_meet_moments(parted(x, entropy), c(log(total / sum(s)), 0, 0), target)
  weight <- drop(exp(x %*% found$coefficients))
  expect_identical(found$status, "converged")
  expect_equal(colSums(x * s * weight), target, tolerance = 1e-8)
  kernel <- core_balance_arm(scale(cbind(world$code, world$v)), world$v, world$z == 0, world$z == 1)
  expect_equal(weight, kernel$weight[controls], tolerance = 1e-8)
  out_of_reach <- core_meet_moments(parted(x, entropy), c(log(total / sum(s)), 0, 0), target + c(0, 9 * total, 0))
  expect_identical(out_of_reach$status, "infeasible")

  least <- function(linear, at) {
    above <- pmax(linear, 0)
    list(value = -s[at] * above^2 / 2, slope = -s[at] * above, bend = s[at] * (linear > 0))
  }
  bound <- c(0, 0.1, 0.02)
  found <- core_meet_bounds(parted(x, least), c(total / sum(s), 0, 0), target, bound * total, sum(s))
  kernel <- core_balance_arm(scale(cbind(world$code, world$v)), world$v, world$z == 0, world$z == 1, bound[-1])
  expect_identical(found$status, "converged")
  expect_equal(drop(pmax(x %*% found$coefficients, 0)), kernel$weight[controls], tolerance = 1e-7)
})

test_that("sums of the wrong shape and errors of who adds them up are passed on", {
  wrong <- list(at = function(beta) list(value = 0, gradient = 1:2, information = diag(2)), reach = function(...) 0:1)
  expect_error(core_climb(wrong, numeric(3)), "one entry per coefficient")
  gone <- list(at = function(beta) stop("the server is gone"), reach = function(...) 0:1)
  expect_error(core_climb(gone, 0), "the server is gone")
  expect_error(core_meet_moments(wrong, numeric(2), 1), "one entry per coefficient")
})
