# Augmented survival curves: right where the weights are or the models are, with errors that match their spread. One
# confounder, curved in what matters; half leave the data before the event, more of them in one arm.
draw_lasting <- function(seed, n = 600) {
  withr::with_seed(seed, {
    x <- rnorm(n)
    joined <- rbinom(n, 1, plogis(0.8 * (x + x^2 - 1) / 1.5))
    time <- rexp(n, exp(-2.5 + 0.5 * (x + x^2) - 0.5 * joined))
    gone <- rexp(n, ifelse(joined == 1, 0.08, 0.04))
    data.frame(x, joined, months = pmin(time, gone), left = as.integer(time <= gone))
  })
}

test_that("augmented curves are right where either model is, and their errors are those of the spread", {
  square <- withr::with_seed(1, rnorm(1e6))
  share <- exp(-10 * exp(-2.5 + 0.5 * (square + square^2)))
  truth <- mean(share^exp(-0.5)) - mean(share)
  formulas <- list(right = ~ x + I(x^2), wrong = ~ x)
  cases <- data.frame(score = c("right", "wrong", "right"), curves = c("right", "right", "wrong"))
  measure <- function(seed) {
    withr::local_options(carefultwin.threads = 1)
    study <- frame_study(draw_lasting(seed), "joined", c("months", "left"), "x", estimand = "ATE")
    row_of <- function(effect) unlist(tidy(effect)[4, c("estimate", "std.error")])
    by_case <- lapply(seq_len(3), function(k) {
      design <- weigh_units(score_units(study, model = formulas[[cases$score[k]]]))
      c(row_of(measure_hazard(design, "months", "left", horizon = 10, curve_model = formulas[[cases$curves[k]]])),
        if (k == 2L) row_of(measure_hazard(design, "months", "left", horizon = 10))[1])
    })
    unlist(by_case)
  }
  measure(0)  # loads once what every process would load
  draws <- do.call(rbind, on_two_cores(1:100, measure))  # estimate, error: right; wrong score, and by its weights alone; wrong curves
  off <- function(k) (mean(draws[, k]) - truth) / (sd(draws[, k]) / sqrt(nrow(draws)))
  for (k in c(1, 3, 6)) expect_lt(abs(off(k)), 4)
  expect_gt(abs(off(5)), 6)
  # the sd of 100 draws is known within 7%; four of those
  for (k in c(1, 6)) expect_lt(abs(log(mean(draws[, k + 1]) / sd(draws[, k]))), 0.28)
})
