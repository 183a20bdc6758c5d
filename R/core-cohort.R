# Variances of averages of cells where cohorts are few or small (Methods, "Difference-in-differences", few clusters).
# Cohorts are taken as given: what a cluster contributes is measured from the mean of its cohort and scaled by
# sqrt(G_h / (G_h - 1)), G_h the clusters of cohort h, and never treated units are a cohort too. A cohort of one cluster
# has no variance of its own; it borrows that of the other treated cohorts, where those can lend one. Blocks are the
# cohorts (in triple differences by side), pieces the parts of clusters within one block.

# Sums over the units that take part, per block: count (clusters), total (H x J) and square (list of J x J) of the
# contributions of pieces, weight (sum of s). combine: K x J; shift: blocks x J or NULL, what the estimated sizes of
# cohorts add per unit of s.
core_block_moments <- function(source, combine, cluster, shift = NULL) {
  blocks <- max(source$block)
  if (is_own_cluster(cluster) && !is.null(source$totals) && is.null(source$present)) {
    own <- lapply(seq_len(blocks), function(h) block_coefficients(source, h, combine, shift))
    used <- vapply(source$coefficients, function(own) any(own != 0), NA)
    total <- vapply(seq_len(blocks), function(h) drop(crossprod(own[[h]], source$totals[, h])), numeric(ncol(combine)))
    return(list(count = tabulate(source$block, blocks) * used, total = matrix(total, blocks, byrow = TRUE),
                square = Map(function(own, scatter) crossprod(own, scatter %*% own), own, source$scatter),
                weight = source$totals[1L, ] * used))
  }
  pieces <- core_pieces(source, combine, cluster, shift)
  used <- core_units_in_use(source)
  list(count = tabulate(pieces$block, blocks), total = sums_on(pieces$sums, pieces$block, blocks),
       square = lapply(seq_len(blocks), function(h) crossprod(pieces$sums[pieces$block == h, , drop = FALSE])),
       weight = core_sums_by(source_weight(source)[used], source$block[used], blocks))
}

# list(sums: P x J contributions, block: P, cluster: P codes, all: per unit its piece, 0 for those that take no part).
core_pieces <- function(source, combine, cluster, shift = NULL) {
  used <- core_units_in_use(source)
  code <- core_group_codes(source$block[used], cluster[used])
  piece <- integer(length(source$block))
  piece[used] <- match(code, unique(code))
  first <- used[!duplicated(code)]
  count <- length(first)
  sums <- core_cluster_sums(source, combine, shift, ifelse(piece == 0L, count + 1L, piece))
  list(sums = sums[seq_len(count), , drop = FALSE], block = source$block[first], cluster = cluster[first], all = piece)
}

source_weight <- function(source) if (is.null(source[["s"]])) source$data()[, 1L] else source[["s"]]

# From sums: the variance that each block's clusters make, J x J; NULL for blocks of fewer than two.
core_cohort_parts <- function(moments) {
  Map(function(count, square, total) {
    if (count < 2L) return(NULL)
    centred <- square - tcrossprod(total) / count
    nothing <- diag(centred) <= 1e-13 * diag(square)  # rounding of a variance that is 0
    centred[nothing, ] <- 0
    centred[, nothing] <- 0
    centred * count / (count - 1)
  }, moments$count, moments$square, asplit(moments$total, 1L))
}

# Covariance of J averages, each with its degrees of freedom (Satterthwaite). lenders: blocks that may lend to those of
# one cluster. Returns list(vcov, df, alone: the blocks of one cluster that matter, lent: did they borrow?); what can't
# be told is NA.
core_cohort_vcov <- function(source, combine, shift, cluster, lenders = integer()) {
  moments <- core_block_moments(source, combine, cluster, shift)
  parts <- core_cohort_parts(moments)
  degrees <- moments$count - 1
  alone <- which(moments$count == 1L)
  touched <- lapply(alone, function(h) touched_terms(source, h, combine))
  alone <- alone[vapply(touched, any, NA)]
  able <- setdiff(lenders[moments$count[lenders] > 1L], alone)
  lent <- if (length(alone) > 0L) core_lent_scatter(source, cluster, able)
  if (!is.null(lent)) {
    for (h in alone) {
      own <- source$coefficients[[h]] %*% combine
      parts[[h]] <- crossprod(own, lent$scatter %*% own) * moments$weight[h]^2
      degrees[h] <- lent$df
    }
  }
  vcov <- if (is_nested(source$block, cluster)) list(vcov = sum_parts(parts, ncol(combine))) else
    crossing_vcov(source, combine, shift, cluster, moments, if (!is.null(lent)) parts[alone])
  if (is.null(vcov$df)) vcov$df <- satterthwaite(parts, degrees)
  vcov$vcov <- vcov$vcov + shift_variance(moments, shift, ncol(combine))
  if (is.null(lent) && length(alone) > 0L) {
    unknown <- Reduce(`|`, touched)
    vcov$vcov[unknown, ] <- NA_real_
    vcov$vcov[, unknown] <- NA_real_
    vcov$df[unknown] <- NA_real_
  }
  c(vcov, list(alone = alone, lent = !is.null(lent)))
}

sum_parts <- function(parts, size) Reduce(`+`, Filter(Negate(is.null), parts), matrix(0, size, size))

# (sum v_h)^2 / sum v_h^2 / df_h of each term; that of all clusters where nothing varies.
satterthwaite <- function(parts, degrees) {
  known <- !vapply(parts, is.null, NA)
  own <- vapply(parts[known], diag, numeric(ncol(parts[known][[1L]])))
  own <- matrix(own, ncol = sum(known))
  slack <- drop(own^2 %*% (1 / degrees[known]))
  ifelse(slack > 0, rowSums(own)^2 / slack, sum(degrees[known]))
}

# What the estimated size of a cohort moves an average by is alike for all its clusters: their mean, taken off above,
# counts here.
shift_variance <- function(moments, shift, size) {
  out <- matrix(0, size, size)
  for (h in seq_len(NROW(shift))) {
    if (moments$count[h] > 0L) out <- out + tcrossprod(shift[h, ]) * moments$weight[h]^2 / moments$count[h]
  }
  out
}

is_nested <- function(block, cluster) is_own_cluster(cluster) || all(block == block[match(cluster, cluster)])

# Clusters that hold units of several blocks: their pieces, centred and scaled, are summed before they are squared. The
# degrees of freedom count clusters by what they are expected to contribute.
crossing_vcov <- function(source, combine, shift, cluster, moments, lent) {
  pieces <- core_pieces(source, combine, cluster, shift)
  n <- moments$count[pieces$block]
  scaled <- (pieces$sums - moments$total[pieces$block, , drop = FALSE] / n) * sqrt(ifelse(n > 1, n / (n - 1), 0))
  share <- vapply(seq_len(ncol(combine)), function(j) {
    core_sums_by(scaled[, j]^2, pieces$block, length(moments$count)) / pmax(moments$count, 1)
  }, numeric(length(moments$count)))
  expected <- rowsum(matrix(share, ncol = ncol(combine))[pieces$block, , drop = FALSE], pieces$cluster)
  effective <- colSums(expected)^2 / colSums(expected^2)
  list(vcov = crossprod(rowsum(scaled, pieces$cluster)) + sum_parts(lent, ncol(combine)),
       df = ifelse(is.finite(effective), effective - 1, sum(moments$count) - 1))
}

# Which of the J terms a block takes part in.
touched_terms <- function(source, h, combine) UseMethod("touched_terms")

#' @exportS3Method
touched_terms.twin_block_source <- function(source, h, combine) { # nolint: object_name_linter. An S3 method.
  colSums(abs(source$coefficients[[h]] %*% combine)) > 0
}

#' @exportS3Method
touched_terms.twin_row_source <- function(source, h, combine) { # nolint: object_name_linter. An S3 method.
  holds <- vapply(source$rows, function(at) any(source$block[at] == h), NA)
  colSums(abs(combine[holds, , drop = FALSE])) > 0
}

# What the lenders' clusters vary by: pooled covariance of their data per unit of s, and its degrees of freedom; NULL
# where nobody can lend. Only sources that hand out data know it.
core_lent_scatter <- function(source, cluster, lenders) UseMethod("core_lent_scatter")

#' @exportS3Method
core_lent_scatter.twin_row_source <- function(source, cluster, lenders) NULL # nolint: object_name_linter. An S3 method.

#' @exportS3Method
core_lent_scatter.twin_block_source <- function(source, cluster, lenders) { # nolint: object_name_linter.
  if (length(lenders) == 0L) return(NULL)
  identity <- diag(nrow(source$coefficients[[1L]]))
  source$coefficients <- rep(list(identity), length(source$coefficients))
  pieces <- core_pieces(source, identity, cluster)
  inside <- pieces$block %in% lenders
  weight <- core_sums_by(source_weight(source)[pieces$all > 0L], pieces$all[pieces$all > 0L])
  means <- pieces$sums[inside, , drop = FALSE] / weight[inside]
  block <- match(pieces$block[inside], lenders)
  centred <- means - (rowsum(means, block) / tabulate(block))[block, , drop = FALSE]
  list(scatter = crossprod(centred) / (sum(inside) - length(lenders)), df = sum(inside) - length(lenders))
}

# The averaged-path test of the time before treatment (Methods, "Difference-in-differences"): the path b of k averages
# with its zero base, about its own mean, against what its clusters make of nothing. combine: K x k, sizes of cohorts
# taken as given. Returns list(statistic, df1, df2, p.value, clusters: effective number, vcov, away: function of a path
# that gives the test's noncentrality).
core_profile_test <- function(source, combine, cluster, estimate) {
  moments <- core_block_moments(source, combine, cluster)
  pieces <- core_pieces(source, combine, cluster)
  k <- ncol(combine)
  n <- moments$count[pieces$block]
  scaled <- (pieces$sums - moments$total[pieces$block, , drop = FALSE] / n) * sqrt(ifelse(n > 1, n / (n - 1), 0))
  shape <- diag(k) - 1 / (k + 1)
  length_of <- function(x) rowSums((x %*% shape) * x)
  expected <- core_sums_by(core_sums_by(length_of(scaled), pieces$block, max(pieces$block))[pieces$block] / n,
                           match(pieces$cluster, unique(pieces$cluster)))
  clusters <- sum(expected)^2 / sum(expected^2)
  sums <- rowsum(scaled, pieces$cluster)
  vcov <- crossprod(sums)
  trace <- sum(shape * vcov)
  spread <- sum((shape %*% vcov) * t(shape %*% vcov)) - sum(length_of(sums)^2)
  df1 <- min(max(trace^2 / (spread / (1 - 1 / clusters)), 1), k)
  df2 <- df1 * (clusters - 1)
  statistic <- drop(estimate %*% shape %*% estimate) / trace
  list(statistic = statistic, df1 = df1, df2 = df2, clusters = clusters, vcov = vcov,
       p.value = stats::pf(statistic, df1, df2, lower.tail = FALSE),
       away = function(path) df1 * drop(path %*% shape %*% path) / trace)
}
