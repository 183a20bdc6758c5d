# How often each unit is drawn in replicate k of a bootstrap, as many from every group as it has, less `fewer`; `sizes`
# of the groups, whose units stand together. Every replicate has a random stream of its own.
core_draw_counts <- function(sizes, k, seed = 0, fewer = 0L) glue_draw_counts(sizes, seed, k, fewer)

# Percentile limits of each term, terms x 2. draws: replicates x terms.
core_percentile_limits <- function(draws, level) {
  tail <- (1 - level) / 2
  t(apply(draws, 2L, stats::quantile, probs = c(tail, 1 - tail), names = FALSE))
}

# The p-value that goes with a percentile interval: twice the smaller share of draws on either side of the null, that
# is the level at which the interval's end reaches it (shares between draws as quantiles are); never below two in all
# draws. draws: replicates x terms; null: per term.
core_percentile_p <- function(draws, null) {
  size <- nrow(draws)
  vapply(seq_len(ncol(draws)), function(j) {
    sorted <- sort(draws[, j])
    below <- stats::approx(sorted, (seq_len(size) - 1) / (size - 1), null[j], yleft = 0, yright = 1, ties = mean)$y
    min(1, max(2 * min(below, 1 - below), 2 / (size + 1)))
  }, 0)
}

# A whole number from 0 to 2^31 - 1, hashed from a seed, a word and a place.
core_sub_seed <- function(seed, work, k) glue_sub_seed(seed, work, k)

# One bootstrap draw of inverse-weighted means. y: n x k outcomes; s: the draw's weights (sampling weight times how
# often the unit was drawn); fit: core_fit() of the logit score to all units, from which this draw's score is found.
# Returns 2 x k means (treated, control); NULL when the draw has no score.
core_redraw_weighted <- function(x, z, y, s, estimand, fit) {
  e <- glue_refit_logit(x, z, s, fit$coefficients, fit$fitted, fit$covariance)
  if (length(e) == 0L) return(NULL)
  v <- s * core_inverse_weight(e, z, estimand)
  treated <- v * z
  total <- c(sum(treated), sum(v))
  sums <- rbind(drop(crossprod(treated, y)), drop(crossprod(v, y)))
  out <- rbind(sums[1L, ] / total[1L], (sums[2L, ] - sums[1L, ]) / (total[2L] - total[1L]))
  rownames(out) <- c("mean_treated", "mean_control")
  out
}

# One bootstrap draw of the augmented means with linear outcome models (Methods, "Effects"): a model with an intercept
# foretells at a mean of columns what it foretells on average. known: list(x, z, y: n x k outcomes, estimand, fit), see
# core_redraw_weighted(); columns: n x (q + k), those of the outcome models and then the outcomes; arms: for treated and
# control list(rows, columns: of these). Returns 2 x k means; NULL when the draw has no score.
core_redraw_augmented <- function(known, columns, arms, s) {
  e <- glue_refit_logit(known$x, known$z, s, known$fit$coefficients, known$fit$fitted, known$fit$covariance)
  if (length(e) == 0L) return(NULL)
  v <- s * core_inverse_weight(e, known$z, known$estimand)
  weights <- cbind(v * known$z, v * (1 - known$z), s * core_target_weight(e, known$z, known$estimand))
  means <- crossprod(weights, columns) / colSums(weights)
  outcome <- seq.int(to = ncol(columns), length.out = ncol(known$y))
  model <- seq_len(ncol(columns) - ncol(known$y))
  out <- vapply(1:2, function(arm) {
    sums <- core_cross_products(arms[[arm]]$columns, s[arms[[arm]]$rows])
    scatter <- sums$second - tcrossprod(sums$first) / sums$total
    size <- sqrt(pmax(diag(scatter)[model], 1e-300))
    own <- core_solve_scatter(scatter[model, model, drop = FALSE] / outer(size, size))
    slopes <- own$inverse %*% (scatter[model, outcome, drop = FALSE] / size)
    means[arm, outcome] + drop(((means[3L, model] - means[arm, model]) / size) %*% slopes)
  }, numeric(length(outcome)))
  out <- matrix(out, 2L, byrow = TRUE)
  rownames(out) <- c("mean_treated", "mean_control")
  out
}

# Weighted means of both arms with each unit left out in turn, n x 2.
core_leave_one_out <- function(y, z, v) {
  vapply(1:0, function(arm) {
    own <- v * (z == arm)
    (sum(own * y) - own * y) / (sum(own) - own)
  }, numeric(length(y)))
}

# sum over strata of (G_h - 1) / G_h times the squares about the stratum's mean. draws: replicates x terms; stratum,
# size (G_h): per replicate.
core_jackknife_vcov <- function(draws, stratum, size) {
  centred <- draws - rowsum(draws, stratum)[as.character(stratum), , drop = FALSE] / tabulate(stratum)[stratum]
  crossprod(centred * sqrt((size - 1) / size))
}
