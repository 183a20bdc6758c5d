# Six crews in three harbours of two, outcomes unequal within each, weights unequal.
six_crews <- function() {
  data.frame(
    harbour = c("a", "a", "b", "b", "c", "c"), joined = c(1, 0, 1, 0, 1, 0), income = c(9, 4, 7, 8, 12, 5),
    weight = c(1, 2, 1.5, 1, 0.5, 3), boat = c(5, 7, 6, 9, 8, 4)
  )
}

# 300 crews with confounding by two numbers and a factor, 30 harbours, a continuous and a yes/no outcome, weights.
# Well posed: every method must work here.
many_crews <- function(n = 300, seed = 1) {
  withr::with_seed(seed, {
    boat <- rnorm(n)
    past <- rnorm(n) + 0.5 * boat
    port <- sample(c("small", "medium", "large"), n, replace = TRUE)
    joined <- rbinom(n, 1, plogis(-0.3 + 0.7 * boat + 0.3 * past + 0.5 * (port == "small")))
    income <- 20 + 3 * boat + 2 * past + joined * (2 + boat) + rnorm(n, sd = 2)
    direct <- rbinom(n, 1, plogis(-0.5 + 0.7 * joined + 0.4 * boat))
    data.frame(boat, past, port, joined, income, direct, s = runif(n, 0.5, 2), harbour = rep(1:30, length.out = n),
               coast = rep(c("east", "west"), each = n / 2))
  })
}

# The chance of joining as a column: a score that is known.
with_chance <- function(data) {
  transform(data, chance = plogis(-0.3 + 0.7 * boat + 0.3 * past + 0.5 * (port == "small")))
}

study_of_many <- function(data = many_crews(), ..., outcome = "income", covariates = c("boat", "past", "port")) {
  frame_study(data, "joined", outcome, covariates, ...)
}

# The influence of unit i on an estimate is n times the derivative in its sampling weight, everything re-estimated.
influence_by_weight <- function(data, i, estimate, step = 1e-4) {
  moved <- function(by) {
    data$s[i] <- data$s[i] + by
    estimate(data)
  }
  nrow(data) * data$s[i] * (moved(step) - moved(-step)) / (2 * step)
}

difference_of <- function(effect) coef(effect)[["difference"]]

# A stacked system: psi(theta) is n x k; its last two equations are the arm means. Newton with a numerical Jacobian from
# `start`, then the sandwich of their difference. Returns c(estimate, se).
stacked <- function(psi, start) {
  sums <- function(theta) colSums(psi(theta))
  jacobian <- function(theta) {
    vapply(seq_along(theta), function(k) {
      h <- replace(numeric(length(theta)), k, 1e-5 * max(1, abs(theta[k])))
      (sums(theta + h) - sums(theta - h)) / (2 * max(h))
    }, numeric(length(theta)))
  }
  theta <- start
  for (iteration in 1:50) {
    step <- solve(jacobian(theta), sums(theta))
    theta <- theta - step
    if (max(abs(step)) < 1e-9) break
  }
  inverse <- solve(jacobian(theta))
  variance <- inverse %*% crossprod(psi(theta)) %*% t(inverse)
  k <- length(theta)
  unname(c(theta[k - 1] - theta[k], sqrt(variance[k - 1, k - 1] + variance[k, k] - 2 * variance[k - 1, k])))
}

# Root of the source tree, NULL when the tests run without it.
source_root <- function() {
  places <- c("../..", "../../00_pkg_src/carefultwin", "../../../carefultwin")
  found <- Filter(function(place) file.exists(file.path(place, "R", "core-effect.R")), places)
  if (length(found) > 0L) found[1L]
}

# The largest relative gap, over two units, between a term's influence and its derivative in the sampling weight.
# make: function of the data that gives an effect; clean data have weights `s`.
influence_gap <- function(make, data = many_crews(120, seed = 4), term = "difference", units = c(17, 101)) {
  effect <- suppressWarnings(make(data))
  expected <- vapply(units, function(i) {
    influence_by_weight(data, i, function(data) coef(suppressWarnings(make(data)))[[term]])
  }, 0)
  max(abs(effect$influence[match(units, effect$rows), term] - expected)) / max(abs(expected))
}

# Counts, shares, and times that may be censored, beside many_crews().
more_outcomes <- function(n = 300, seed = 1) {
  data <- many_crews(n, seed)
  withr::with_seed(seed + 100, {
    data$days <- rpois(n, exp(1 + 0.3 * data$boat + 0.2 * data$joined))
    data$sold <- plogis(0.5 * data$boat + 0.4 * data$joined + rnorm(n))
    data$mixed <- rbinom(n, 1, pnorm((0.2 + 0.8 * data$boat) / exp(0.5 * data$past)))
    time <- rexp(n, exp(-3 + 0.3 * data$boat - 0.5 * data$joined))
    data$months <- round(pmin(time, 30), 1)
    data$left <- as.integer(time < 30)
  })
  data
}

# Draws a picture: warnings of ggplot come up only then.
draw_quietly <- function(plot) {
  file <- withr::local_tempfile(fileext = ".png")
  testthat::expect_s3_class(plot, "ggplot")
  testthat::expect_no_warning(ggplot2::ggsave(file, plot, device = ragg::agg_png, width = 6, height = 4, dpi = 60))
}

# 400 crews with three kinds of gear, chosen by boat, past and port.
three_gears <- function(n = 400, seed = 2) {
  data <- many_crews(n, seed)
  withr::with_seed(seed, {
    odds <- cbind(1, exp(0.3 + 0.6 * data$boat), exp(-0.2 - 0.5 * data$past + 0.4 * (data$port == "small")))
    data$gear <- c("lines", "nets", "pots")[apply(odds, 1, function(p) sample(3, 1, prob = p))]
  })
  data
}

arms_of <- function(data = three_gears(), ..., estimand = "ATE") {
  frame_arms(data, "gear", "income", c("boat", "past", "port"), reference = "lines", estimand = estimand, ...)
}
