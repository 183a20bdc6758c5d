# How often each of n units is drawn in bootstrap replicate `seed`; every replicate has a random stream of its own.
core_draw_counts <- function(n, seed) glue_draw_counts(n, seed)

# One bootstrap draw of the inverse-weighted difference. arms: n x 4, cbind(z, z * y, 1, y); counts: how often each
# unit was drawn; fit: core_fit() of the logit score to all units, from which this draw's score is found. NA when the
# draw has no score.
core_redraw_weighted <- function(x, z, arms, counts, estimand, fit) {
  e <- glue_refit_logit(x, z, counts, fit$coefficients, fit$fitted, fit$covariance)
  if (length(e) == 0L) return(NA_real_)
  sums <- drop(crossprod(arms, counts * core_inverse_weight(e, z, estimand)))
  sums[2L] / sums[1L] - (sums[4L] - sums[2L]) / (sums[3L] - sums[1L])
}
