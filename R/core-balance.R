# Methods, "Balance". Throughout: x numeric without NA, z 0/1 integer, v the weights s * w, all of length n.

# Means, variances, Kolmogorov-Smirnov and mean distribution gap of one numeric column in several samples at once.
# weights: n x k, a column per sample. Returns a 6 x k matrix.
core_numeric_balance <- function(x, z, weights) {
  rbind(core_sample_moments(x, z, weights), glue_distribution_gaps(x, z, weights))
}

# The last two of these alone.
core_distribution_gaps <- function(x, z, weights) glue_distribution_gaps(x, z, weights)

# Means and variances by arm only, a column per sample.
core_sample_moments <- function(x, z, weights) core_moments_of(core_arm_sums(x, z, weights))

# The same of one sample, as a named vector.
core_arm_moments <- function(x, z, v) core_sample_moments(x, z, v)[, 1L]

# From sums (core_arm_sums()): variance sum v (x - m)^2 / (sum v - sum v^2 / sum v), whatever the centre.
core_moments_of <- function(sums) {
  part <- function(name) sums[paste0(name, c("_treated", "_control")), , drop = FALSE]
  total <- part("total")
  away <- part("first") / total
  out <- rbind(part("centre") + away, core_variance_of(total, part("square"), part("first"), part("second")))
  rownames(out) <- c("mean_treated", "mean_control", "var_treated", "var_control")
  out
}

# The same formula for one variance.
core_variance_of <- function(total, square, first, second) {
  away <- first / total
  (second - total * away^2) / (total - square / total)
}

# Covariance of the columns of x with weights v (NULL for 1), by the same formula; and from sums alone.
core_covariance <- function(x, v) core_covariance_of(core_cross_products(x, v))

core_covariance_of <- function(products) {
  centred <- products$second - tcrossprod(products$first) / products$total
  diag(centred) <- pmax(diag(centred), 0)  # of a constant column rounding is left, of either sign
  centred / (products$total - products$square / products$total)
}

# Covariance of the differences of level shares between the arms, from sums by level alone, or by level and cluster: of
# a unit's contribution n v (1(level) - share) / V, treated less control, nothing else is summed. code: n levels; v: n
# weights. As core_vcov(), lonely strata from the grand mean.
core_level_vcov <- function(code, levels, z, v, cluster = NULL, stratum = NULL) {
  n <- length(code)
  totals <- core_level_totals(code, levels, z, v)
  shares <- core_level_shares(totals)
  arms <- lapply(1:0, function(arm) {
    list(own = v * (z == arm), total = sum(totals[, 2L - arm]), share = shares[, 2L - arm], sign = 2 * arm - 1)
  })
  if (is.null(cluster) && is.null(stratum)) {
    square <- Reduce(`+`, lapply(arms, function(arm) {
      squares <- core_sums_by(arm$own^2, code, levels)
      mixed <- tcrossprod(arm$share, squares)
      (diag(squares, levels) - mixed - t(mixed) + tcrossprod(arm$share) * sum(squares)) / arm$total^2
    }))
    return(core_vcov_of(list(square = n^2 * square, counted = n, n = n)))
  }
  if (is.null(cluster)) cluster <- seq_len(n)
  if (is.null(stratum)) stratum <- rep(1L, n)
  unit <- core_group_codes(stratum, cluster)
  first <- !duplicated(unit)
  unit <- match(unit, unit[first])
  count <- sum(first)
  totals <- Reduce(`+`, lapply(arms, function(arm) {
    by_level <- matrix(core_sums_by(arm$own, unit + count * (code - 1), count * levels), count)
    n * arm$sign * (by_level - outer(rowSums(by_level), arm$share)) / arm$total
  }))
  core_vcov_of(list(totals = totals, stratum = stratum[first], counts = rep(TRUE, count), n = n), "centre")
}

# From sums: shares of each level by arm, of core_level_totals().
core_level_shares <- function(total) total / rep(colSums(total), each = nrow(total))

# A share p: variance p (1 - p); the distribution functions differ at 0 by |p1 - p0| and at 1 by nothing.
core_share_balance <- function(treated, control) {
  gap <- abs(treated - control)
  both_values <- pmax(treated, control) > 0 & pmin(treated, control) < 1
  cbind(
    mean_treated = treated, mean_control = control,
    var_treated = treated * (1 - treated), var_control = control * (1 - control),
    ks = gap, ecdf_mean = ifelse(both_values, gap / 2, 0)
  )
}

# The sd that standardizes a mean difference, from the variances before the design.
core_reference_sd <- function(var_treated, var_control, from) {
  sqrt(switch(from,
    treated = var_treated,
    control = var_control,
    pooled = (var_treated + var_control) / 2
  ))
}

# From shares of the levels of a factor (by arm, and of both arms together): the multinomial covariance that stands in
# for the variance when all levels are looked at together.
core_share_covariance <- function(treated, control, all, from) {
  one <- function(share) diag(share, length(share)) - tcrossprod(share)
  switch(from, treated = one(treated), control = one(control), all = one(all),
         pooled = (one(treated) + one(control)) / 2)
}

# Third standardized moment.
core_skewness <- function(x, v) {
  away <- x - sum(v * x) / sum(v)
  sum(v * away^3) / sum(v) / (sum(v * away^2) / sum(v))^1.5
}

# Kish's effective size of weights v, and the same from their sum and sum of squares.
core_effective_size <- function(v) core_effective_size_of(sum(v), drop(crossprod(v)))
core_effective_size_of <- function(total, square) total^2 / square

# Mahalanobis length of a difference between mean vectors. Directions without variance carry no information and are
# left out (pseudo-inverse); columns are put on a common scale first so that "without" does not depend on units.
core_mahalanobis_length <- function(difference, covariance) {
  sd <- sqrt(diag(covariance))
  keep <- sd > 0
  if (!any(keep)) return(0)
  standard <- difference[keep] / sd[keep]
  spectrum <- eigen(covariance[keep, keep, drop = FALSE] / outer(sd[keep], sd[keep]), symmetric = TRUE)
  real <- spectrum$values > 1e-10 * max(spectrum$values)
  along <- crossprod(spectrum$vectors[, real, drop = FALSE], standard)
  sqrt(sum(along^2 / spectrum$values[real]))
}
