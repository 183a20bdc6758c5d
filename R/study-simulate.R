#' Simulate units with a known effect
#'
#' Practice data: confounded treatment, overlap from good to poor, and the true effects, so that a method can be learnt
#' or checked where the answer is known.
#'
#' Confounders are independent: standard normal numbers `x1, x2, ...`, yes/no columns `b1, ...` and three-level columns
#' `f1, ...`. The log odds of treatment and the outcome's linear predictor both rise with them. The effect of a unit, on
#' the scale of the linear predictor, is `effect + heterogeneity * x1`.
#'
#' @param n Number of units, at least 20.
#' @param confounders Named counts: `numeric`, `binary`, `factor`; default 2, 1 and 1. At least one numeric.
#' @param effect Mean effect on the linear predictor: outcome units for `kind = "continuous"`, log odds for
#'   `"binary"`, log rate for `"count"`. Default 1.
#' @param overlap `"good"`, `"fair"` (default) or `"poor"`: how strongly the confounders decide treatment.
#' @param heterogeneity How much the effect rises with `x1`, in the same unit; default 0.
#' @param kind Outcome: `"continuous"` (default; noise sd 1), `"binary"` or `"count"`.
#' @param seed Whole number; the same seed gives the same units. The session's random stream is left as it was.
#' @return A data frame with the columns `treated` (0/1), `outcome` and the confounders. Its attribute `truth` is a
#'   named vector of `ATE`, `ATT` and `ATC`: the mean over units of the expected difference between both potential
#'   outcomes, on the outcome's own scale. A message (class `twin_message_truth`) says them.
#' @section Errors: `twin_error_input` for counts, sizes or words out of range.
#' @family data
#' @examples
#' units <- simulate_units(500, overlap = "poor", heterogeneity = 0.5, seed = 7)
#' attr(units, "truth")
#' study <- frame_study(units, "treated", "outcome", c("x1", "x2", "b1", "f1"))
#' compare_effects(raw = measure_effect(study), weights = measure_effect(weigh_units(score_units(study))),
#'                 truth = attr(units, "truth")[["ATT"]])
#' @export
simulate_units <- function(n = 1000, confounders = c(numeric = 2, binary = 1, factor = 1), effect = 1,
                           overlap = c("fair", "good", "poor"), heterogeneity = 0,
                           kind = c("continuous", "binary", "count"), seed = 1) {
  check_count(n, min = 20, max = 1e8)
  check_number(effect)
  check_number(heterogeneity)
  check_seed(seed)
  overlap <- check_choice(overlap, c("fair", "good", "poor"))
  kind <- check_choice(kind, c("continuous", "binary", "count"))
  counts <- check_confounders(confounders)
  units <- with_own_seed(seed, draw_units(n, counts, effect, overlap, heterogeneity, kind))
  truth <- attr(units, "truth")
  rlang::inform(sprintf("True effects: ATE %.3f, ATT %.3f, ATC %.3f.", truth[["ATE"]], truth[["ATT"]], truth[["ATC"]]),
                class = "twin_message_truth")
  units
}

check_confounders <- function(confounders, call = rlang::caller_env()) {
  counts <- c(numeric = 0, binary = 0, factor = 0)
  if (are_counts(confounders, names(counts))) counts[names(confounders)] <- round(confounders)
  if (counts[["numeric"]] >= 1) return(counts)
  abort_input(c("{.arg confounders} must be counts named {.val {names(counts)}}, at least one numeric.",
                x = "For example {.code c(numeric = 2, binary = 1)}."), call = call)
}

are_counts <- function(x, known) {
  is.numeric(x) && !is.null(names(x)) && all(names(x) %in% known, is.finite(x), x >= 0)
}

draw_units <- function(n, counts, effect, overlap, heterogeneity, kind) {
  columns <- c(
    draw_columns("x", counts[["numeric"]], function() stats::rnorm(n)),
    draw_columns("b", counts[["binary"]], function() stats::runif(n) < 0.4),
    draw_columns("f", counts[["factor"]], function() sample(c("low", "middle", "high"), n, replace = TRUE))
  )
  push <- Reduce(`+`, lapply(columns, column_push)) / sqrt(length(columns))
  strength <- c(good = 0.5, fair = 1, poor = 2.5)[[overlap]]
  treated <- as.integer(stats::runif(n) < stats::plogis(-0.4 + strength * push))
  slope <- c(continuous = 2, binary = 0.8, count = 0.4)[[kind]]
  base <- c(continuous = 0, binary = -0.5, count = 0.5)[[kind]] + slope * push
  own_effect <- effect + heterogeneity * columns$x1
  mean_of <- switch(kind, continuous = identity, binary = stats::plogis, count = exp)
  expected <- mean_of(base + own_effect * treated)
  outcome <- switch(kind,
    continuous = stats::rnorm(n, expected), binary = as.integer(stats::runif(n) < expected),
    count = stats::rpois(n, expected)
  )
  gain <- mean_of(base + own_effect) - mean_of(base)
  structure(
    data.frame(treated = treated, outcome = outcome, columns),
    truth = c(ATE = mean(gain), ATT = mean(gain[treated == 1L]), ATC = mean(gain[treated == 0L]))
  )
}

draw_columns <- function(prefix, count, draw) {
  stats::setNames(lapply(seq_len(count), function(k) draw()), paste0(rep(prefix, count), seq_len(count)))
}

# What a column adds to the log odds of treatment and to the outcome, about centred.
column_push <- function(x) {
  if (is.character(x)) return(c(low = -1, middle = 0, high = 1)[x])
  if (is.logical(x)) x - 0.4 else x
}
