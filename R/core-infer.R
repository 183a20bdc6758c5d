# Methods, "Standard errors": every variance reads influence, cluster and stratum, and nothing else.

# influence: n x k. cluster, stratum: NULL or n codes; clusters are taken within strata. used: which units count for n
# or G (all by default; units that only helped to estimate the score do not). lonely: a stratum with one cluster is
# reported ("stop") or centred on the grand mean ("centre"). Returns list(vcov, clusters, lonely).
core_vcov <- function(influence, cluster = NULL, stratum = NULL, used = rep(TRUE, nrow(influence)),
                      lonely = "stop") {
  core_vcov_of(core_influence_sums(influence, cluster, stratum, used), lonely)
}

# From sums: core_influence_sums(), or those of single units within strata, core_stratum_sums() with n.
core_vcov_of <- function(sums, lonely = "stop") {
  if (is.null(sums$stratum)) {
    return(list(vcov = sums$square / sums$n^2 * sums$counted / (sums$counted - 1), clusters = sums$counted,
                lonely = NULL))
  }
  core_stratified_vcov(if (is.null(sums$scatter)) core_stratum_sums(sums) else sums, sums$n, lonely)
}

# Cluster totals by stratum: list(stratum: H, total: H x k, scatter: a k x k matrix each, about the stratum's mean,
# rows, counts: H, how many clusters there are and how many of them count).
core_stratum_sums <- function(sums) {
  groups <- split(seq_along(sums$stratum), sums$stratum)
  totals <- lapply(groups, function(rows) sums$totals[rows, , drop = FALSE])
  list(stratum = names(groups), total = do.call(rbind, lapply(totals, colSums)),
       scatter = lapply(totals, function(part) crossprod(sweep(part, 2L, colMeans(part)))), rows = lengths(groups),
       counts = vapply(groups, function(rows) sum(sums$counts[rows]), 0))
}

# Cluster sums centred within each stratum, times G_h / (G_h - 1). With a single stratum the sum is not centred: the
# influence already has mean zero, and Methods writes the clustered variance without it.
core_stratified_vcov <- function(strata, n, lonely) {
  mean <- strata$total / strata$rows
  centre <- if (length(strata$stratum) > 1L) strata$total / pmax(strata$counts, 1) else 0 * mean
  alone <- which(strata$counts == 1)
  for (h in alone) centre[h, ] <- colSums(strata$total) / sum(strata$rows)
  vcov <- matrix(0, ncol(mean), ncol(mean), dimnames = list(colnames(mean), colnames(mean)))
  for (h in which(strata$counts > 0)) {
    scatter <- strata$scatter[[h]] + strata$rows[[h]] * tcrossprod(mean[h, ] - centre[h, ])
    vcov <- vcov + scatter * if (h %in% alone) 1 else strata$counts[[h]] / (strata$counts[[h]] - 1)
  }
  list(vcov = vcov / n^2, clusters = sum(strata$counts),
       lonely = if (lonely == "stop" && length(alone) > 0L) strata$stratum[alone])
}

# Cameron, Gelbach & Miller (2011): V(a) + V(b) - V(a and b). raised: that was not positive, and the larger one-way
# variance is returned in its place.
core_vcov_two_way <- function(influence, first, second, used = rep(TRUE, nrow(influence))) {
  codes <- list(first, second, core_group_codes(first, second))
  core_vcov_two_way_of(lapply(codes, function(code) core_influence_sums(influence, code, used = used)))
}

# From sums by each of the two ways and by both.
core_vcov_two_way_of <- function(sums) {
  one_way <- lapply(sums, core_vcov_of)
  a <- one_way[[1L]]
  b <- one_way[[2L]]
  vcov <- a$vcov + b$vcov - one_way[[3L]]$vcov
  raised <- any(diag(vcov) <= 0)
  if (raised) vcov <- if (sum(diag(a$vcov)) > sum(diag(b$vcov))) a$vcov else b$vcov
  list(vcov = vcov, clusters = min(a$clusters, b$clusters), raised = raised)
}

# What robust variances of cells leave out (exact and coarsened matching). A cell of n units of an arm that stand for r
# n units of the target gives n r^2 s2 to the variance of the arm's total, but its influence contributions hold only
# r s2 (through the units stood for) + (n - 1) r^2 s2: too little by r (r - 1) s2 where r > 1. s2 is the cell's own
# variance, or where n is 1 the arm's mean of those. y, own, target (sampling weights, 0 for units that are not of the
# arm, not of the target), cell: n; returns the addition to the variance of the arm's mean.
core_cell_shortfall <- function(y, own, target, cell) {
  cell <- match(cell, unique(cell[own > 0]))
  r <- core_sums_by(target, cell) / core_sums_by(own, cell)
  y <- y[own > 0]
  cell <- cell[own > 0]
  size <- core_sums_by(own[own > 0], cell)
  n <- tabulate(cell)
  mean <- core_sums_by(y, cell) / n
  squares <- core_sums_by((y - mean[cell])^2, cell)
  core_cell_shortfall_of(size, r * size, n, squares, sum(target))
}

# From sums by cell: size of `own`, target, the number of units and the sum of their squares about the cell's mean;
# whole: of target, over all cells.
core_cell_shortfall_of <- function(size, target, n, squares, whole) {
  r <- target / size
  s2 <- ifelse(n > 1, squares / (n - 1), sum(squares) / max(1, sum(n - 1)))
  sum(pmax(0, r * (r - 1)) * s2 * (size / n)^2) / whole^2
}

# The `level` quantile of max |t| over k estimates with the given correlation, t with df degrees of freedom.
core_band_quantile <- function(correlation, level, df, draws = 20000L) {
  parts <- eigen(correlation, symmetric = TRUE)
  root <- parts$vectors %*% (sqrt(pmax(parts$values, 0)) * t(parts$vectors))
  normal <- matrix(stats::rnorm(draws * ncol(correlation)), draws)
  size <- abs(normal %*% root)
  largest <- Reduce(pmax, lapply(seq_len(ncol(size)), function(j) size[, j]))
  if (is.finite(df)) largest <- largest / sqrt(stats::rchisq(draws, df) / df)
  stats::quantile(largest, level, names = FALSE)
}

# Quantile and two-sided p-value of t with df degrees of freedom (of all, or of each), normal where they are infinite.
core_t_quantile <- function(level, df) stats::qt(1 - (1 - level) / 2, df)

core_t_p_value <- function(statistic, df) 2 * stats::pt(-abs(statistic), df)

# No degrees of freedom left: none are known, and there is no interval.
core_known_df <- function(df) if (df < 1) NA_real_ else as.double(df)

# Averages may differ in their degrees of freedom: the least of those that are known.
core_least_df <- function(df) if (all(is.na(df))) NA_real_ else min(df, na.rm = TRUE)

# The covariance without the entries of estimates whose variance is 0 but for rounding, which is no certainty. scale:
# what the estimate's own rounding is measured by.
core_without_certainty <- function(vcov, scale) {
  nothing <- which(sqrt(pmax(diag(vcov), 0)) <= 1e-9 * scale)
  vcov[nothing, ] <- NA_real_
  vcov[, nothing] <- NA_real_
  vcov
}

# Wald test of k contrasts that all are 0; c(statistic, df, p.value), df the rank of their variance. With few clusters
# the variance is estimated with as few degrees of freedom: Hotelling's T2 instead of chi-squared; NA where it has fewer
# than contrasts.
core_zero_test <- function(away, variance, df) {
  parts <- eigen(variance, symmetric = TRUE)
  free <- parts$values > 1e-10 * max(parts$values, 1e-300)
  statistic <- sum(crossprod(parts$vectors[, free, drop = FALSE], away)^2 / parts$values[free])
  rank <- sum(free)
  left <- df - rank + 1
  p <- if (!is.finite(df)) stats::pchisq(statistic, rank, lower.tail = FALSE) else if (left < 1) NA_real_ else
    stats::pf(statistic / rank * left / df, rank, left, lower.tail = FALSE)
  c(statistic = statistic, df = rank, p.value = p)
}

# Power of that test when the statistic's noncentrality is `far`, at level alpha, df finite.
core_zero_power <- function(far, rank, df, alpha) {
  left <- df - rank + 1
  if (left < 1) return(NA_real_)
  stats::pf(stats::qf(1 - alpha, rank, left), rank, left, ncp = far, lower.tail = FALSE)
}

# Test that all differences from the first are 0; as core_zero_test().
core_equality_test <- function(estimate, joint, df) {
  k <- length(estimate) - 1L
  if (k < 1L || anyNA(joint)) return(c(statistic = NA_real_, df = k, p.value = NA_real_))
  contrast <- cbind(-1, diag(k))
  core_zero_test(drop(contrast %*% estimate), contrast %*% joint %*% t(contrast), df)
}

# One integer code per combination of two codings.
core_group_codes <- function(a, b) {
  a <- match(a, unique(a))
  b <- match(b, unique(b))
  (a - 1) * max(b) + b
}

# The raw comparison of two means, units independent and of weight 1. kind: "classical", one variance for both arms, n -
# 2 degrees of freedom; "welch", one for each, degrees of freedom by Welch (1947) for the difference; "hc1", squares of
# the residuals of a regression on the treatment times n / (n - 2) (MacKinnon & White 1985). Returns list(vcov of the
# means of treated and control, df).
core_raw_errors <- function(y, z, kind) {
  of_arm <- function(measure) vapply(1:0, function(arm) measure(y[z == arm]), 0)
  count <- of_arm(length)
  squares <- of_arm(function(y) sum((y - mean(y))^2))
  n <- sum(count)
  variance <- switch(kind, classical = sum(squares) / (n - 2) / count, welch = squares / (count - 1) / count,
                     hc1 = squares / count^2 * n / (n - 2))
  df <- if (kind == "welch") sum(variance)^2 / sum(variance^2 / (count - 1)) else n - 2
  list(vcov = diag(variance), df = df)
}

# Variances within strata and arms. v: weights, 0 for units that are out; set: stratum per unit. Returns list(set:
# codes, variance: strata x 2 of the means of treated and control, share: strata x 2, what each counts in its arm's
# mean, df, single: strata with one unit in an arm).
core_stratified_errors <- function(y, z, v, set) {
  inside <- v > 0
  codes <- sort(unique(set[inside]))
  by <- function(values, arm) core_sums_by((values * inside * (z == arm))[inside], match(set[inside], codes))
  arms <- lapply(1:0, function(arm) {
    count <- by(rep(1, length(y)), arm)
    mean <- by(y, arm) / count
    squares <- by((y - mean[match(set, codes)])^2, arm)
    total <- by(v, arm)
    list(variance = squares / (count - 1) / count, share = total / sum(total), count = count)
  })
  part <- function(name) vapply(arms, `[[`, numeric(length(codes)), name)
  count <- matrix(part("count"), length(codes))
  list(set = codes, variance = matrix(part("variance"), length(codes)), share = matrix(part("share"), length(codes)),
       df = sum(count) - length(count), single = codes[rowSums(count < 2) > 0])
}
