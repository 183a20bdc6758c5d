# METHODS, "one currency": every variance reads influence, cluster and stratum, and nothing else.

# influence: n x k. cluster, stratum: NULL or n codes; clusters are taken within strata. used: which units count for n
# or G (all by default; units that only helped to estimate the score do not). lonely: a stratum with one cluster is
# reported ("stop") or centred on the grand mean ("centre"). Returns list(vcov, clusters, lonely).
core_vcov <- function(influence, cluster = NULL, stratum = NULL, used = rep(TRUE, nrow(influence)),
                      lonely = "stop") {
  n <- nrow(influence)
  if (is.null(stratum) && is.null(cluster)) {
    counted <- sum(used)
    return(list(vcov = crossprod(influence) / n^2 * counted / (counted - 1), clusters = counted, lonely = NULL))
  }
  if (is.null(cluster)) cluster <- seq_len(n)
  if (is.null(stratum)) stratum <- rep(1L, n)
  unit <- core_group_codes(stratum, cluster)
  totals <- rowsum(influence, unit, reorder = FALSE)
  first <- !duplicated(unit)
  of_stratum <- stratum[first]
  counts <- rowsum(as.double(used), unit, reorder = FALSE)[, 1L] > 0
  core_stratified_vcov(totals, of_stratum, counts, n, lonely)
}

# Cluster sums centred within each stratum, times G_h / (G_h - 1). With a single stratum the sum is not centred: the
# influence already has mean zero, and METHODS writes the clustered variance without it.
core_stratified_vcov <- function(totals, stratum, counts, n, lonely) {
  groups <- split(seq_along(stratum), stratum)
  vcov <- matrix(0, ncol(totals), ncol(totals), dimnames = list(colnames(totals), colnames(totals)))
  alone <- character()
  for (name in names(groups)) {
    rows <- groups[[name]]
    size <- sum(counts[rows])
    part <- totals[rows, , drop = FALSE]
    if (size == 0L) next
    if (size == 1L) {
      alone <- c(alone, name)
      vcov <- vcov + crossprod(sweep(part, 2, colMeans(totals)))
      next
    }
    if (length(groups) > 1L) part <- sweep(part, 2, colSums(part) / size)
    vcov <- vcov + crossprod(part) * size / (size - 1)
  }
  list(vcov = vcov / n^2, clusters = sum(counts), lonely = if (lonely == "stop" && length(alone) > 0L) alone)
}

# Cameron, Gelbach & Miller (2011): V(a) + V(b) - V(a and b). When the sum is not positive for a quantity, the larger
# one-way variance stands in for the whole matrix.
core_vcov_two_way <- function(influence, first, second, used = rep(TRUE, nrow(influence))) {
  a <- core_vcov(influence, first, used = used)
  b <- core_vcov(influence, second, used = used)
  both <- core_vcov(influence, core_group_codes(first, second), used = used)
  vcov <- a$vcov + b$vcov - both$vcov
  if (any(diag(vcov) <= 0)) vcov <- if (sum(diag(a$vcov)) > sum(diag(b$vcov))) a$vcov else b$vcov
  list(vcov = vcov, clusters = min(a$clusters, b$clusters), lonely = NULL)
}

# One integer code per combination of two codings.
core_group_codes <- function(a, b) {
  a <- match(a, unique(a))
  b <- match(b, unique(b))
  (a - 1) * max(b) + b
}
