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

# Root of the source tree, NULL when the tests run without it.
source_root <- function() {
  places <- c("../..", "../../00_pkg_src/carefultwin", "../../../carefultwin")
  found <- Filter(function(place) file.exists(file.path(place, "R", "core-effect.R")), places)
  if (length(found) > 0L) found[1L]
}

# lapply over two processes where the system can fork; an error in one of them is an error here.
on_two_cores <- function(x, f) {
  out <- parallel::mclapply(x, f, mc.cores = if (.Platform$OS.type == "unix") 2L else 1L, mc.preschedule = FALSE)
  failed <- vapply(out, inherits, NA, "try-error")
  if (any(failed)) stop(out[[which(failed)[1]]])
  out
}
