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
