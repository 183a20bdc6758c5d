# Variances of averages of cells where cohorts are few or small (Methods, "Difference-in-differences", few clusters).
# Cohorts are taken as given: what a cluster contributes is measured from the mean of its cohort and scaled by
# sqrt(G_h / (G_h - 1)), G_h the clusters of cohort h, and never treated units are a cohort too. A cohort of one cluster
# has no variance of its own; it borrows that of the other treated cohorts, where those can lend one. Blocks are the
# cohorts (in triple differences by side), pieces the parts of clusters within one block.

# Sums over the units that take part, per block: count (clusters), total (H x J) and square (list of J x J) of the
# contributions of pieces, weight (sum of s). combine: K x J; shift: blocks x J or NULL, what the estimated sizes of
# cohorts add per unit of s.
core_block_moments <- function(source, combine, cluster, shift = NULL) UseMethod("core_block_moments")

#' @exportS3Method
core_block_moments.default <- function(source, combine, cluster, shift = NULL) { # nolint: object_name_linter.
  blocks <- max(source$block)
  if (is_own_cluster(cluster) && !is.null(source$totals) && is.null(source$present)) {
    own <- lapply(seq_len(blocks), function(h) block_coefficients(source, h, combine, shift))
    used <- vapply(source$coefficients, function(own) any(own != 0), NA)
    total <- vapply(seq_len(blocks), function(h) drop(crossprod(own[[h]], source$totals[, h])), numeric(ncol(combine)))
    return(list(count = tabulate(source$block, blocks) * used, total = matrix(total, blocks, byrow = TRUE),
                square = Map(function(own, scatter) crossprod(own, scatter %*% own), own, source$scatter),
                weight = source$totals[1L, ] * used))
  }
  used <- core_units_in_use(source)
  if (is_own_cluster(cluster) && inherits(source, "twin_row_source")) return(row_moments(source, combine, shift, used))
  if (is_own_cluster(cluster) && is_long_source(source, combine)) return(data_moments(source, combine, shift, used))
  pieces <- core_pieces(source, combine, cluster, shift)
  list(count = tabulate(pieces$block, blocks), total = sums_on(pieces$sums, pieces$block, blocks),
       square = lapply(seq_len(blocks), function(h) crossprod(pieces$sums[pieces$block == h, , drop = FALSE])),
       weight = core_sums_by(source_weight(source)[used], source$block[used], blocks))
}

# Are there more terms than columns of data behind them?
is_long_source <- function(source, combine) {
  inherits(source, "twin_block_source") && ncol(combine) > nrow(source$coefficients[[1L]])
}

# The moments of units that are their own clusters, from those of the data behind their contributions.
data_moments <- function(source, combine, shift, used) {
  data <- source$data()[used, , drop = FALSE]
  block <- source$block[used]
  blocks <- max(source$block)
  j <- ncol(combine)
  total <- matrix(0, blocks, j)
  square <- rep(list(matrix(0, j, j)), blocks)
  for (h in unique(block)) {
    own <- data[block == h, , drop = FALSE]
    coefficients <- block_coefficients(source, h, combine, shift)
    total[h, ] <- drop(crossprod(coefficients, colSums(own)))
    square[[h]] <- crossprod(coefficients, crossprod(own) %*% coefficients)
  }
  list(count = tabulate(block, blocks), total = total, square = square,
       weight = core_sums_by(data[, 1L], block, blocks))
}

# The moments of units that are their own clusters, from their contributions to each cell.
row_moments <- function(source, combine, shift, used) {
  blocks <- max(source$block)
  j <- ncol(combine)
  inside <- logical(length(source$block))
  inside[used] <- TRUE
  total <- matrix(0, blocks, j)
  square <- rep(list(matrix(0, j, j)), blocks)
  each_stretch(source, combine, shift, function(part, units) {
    block <- source$block[units]
    for (h in unique(block[inside[units]])) {
      own <- part[block == h & inside[units], , drop = FALSE]
      total[h, ] <<- total[h, ] + colSums(own)
      square[[h]] <<- square[[h]] + crossprod(own)
    }
  })
  block <- source$block[used]
  list(count = tabulate(block, blocks), total = total, square = square,
       weight = core_sums_by(source_weight(source)[used], block, blocks))
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
  degrees <- matrix(moments$count - 1, length(moments$count), ncol(combine))
  alone <- which(moments$count == 1L)
  touched <- lapply(alone, function(h) touched_terms(source, h, combine))
  alone <- alone[vapply(touched, any, NA)]
  able <- setdiff(lenders[moments$count[lenders] > 1L], alone)
  lent <- if (length(alone) > 0L && length(able) > 0L) lend_variance(source, alone, combine, cluster, able)
  if (!is.null(lent)) {
    parts[alone] <- lent$parts
    degrees[alone, ] <- lent$df
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

# (sum v_h)^2 / sum v_h^2 / df_h of each term; that of all clusters where nothing varies. degrees: blocks x J.
satterthwaite <- function(parts, degrees) {
  known <- !vapply(parts, is.null, NA)
  if (!any(known)) return(rep(NA_real_, ncol(degrees)))
  own <- vapply(parts[known], diag, numeric(ncol(parts[known][[1L]])))
  own <- matrix(own, ncol = sum(known))
  degrees <- t(degrees[known, , drop = FALSE])
  slack <- rowSums(own^2 / degrees)
  ifelse(slack > 0, rowSums(own)^2 / slack, rowSums(degrees))
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

# Contributions of pieces from the mean of their block, times sqrt(G_h / (G_h - 1)).
scaled_pieces <- function(pieces, moments) {
  n <- moments$count[pieces$block]
  (pieces$sums - moments$total[pieces$block, , drop = FALSE] / n) * sqrt(ifelse(n > 1, n / (n - 1), 0))
}

# Clusters that hold units of several blocks: their pieces, centred and scaled, are summed before they are squared. The
# degrees of freedom count clusters by what they are expected to contribute.
crossing_vcov <- function(source, combine, shift, cluster, moments, lent) {
  pieces <- core_pieces(source, combine, cluster, shift)
  scaled <- scaled_pieces(pieces, moments)
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

# What the lenders' clusters vary by, as if they stood in the place of each lone block: list(parts: J x J per lone
# block, NA for terms that nobody can lend to; df: lone blocks x J), NULL where nobody can lend at all.
lend_variance <- function(source, alone, combine, cluster, lenders) UseMethod("lend_variance")

# Blocks know their data: its covariance per unit of s, pooled within the lenders, goes through the lone block's
# coefficients.
#' @exportS3Method
lend_variance.twin_block_source <- function(source, alone, combine, cluster, lenders) { # nolint: object_name_linter.
  identity <- diag(nrow(source$coefficients[[1L]]))
  plain <- with_coefficients(source, rep(list(identity), length(source$coefficients)))
  pieces <- core_pieces(plain, identity, cluster)
  inside <- pieces$block %in% lenders
  part <- pieces$all > 0L
  weight <- core_sums_by(source_weight(source)[part], pieces$all[part])
  centred <- about_own_mean(pieces$sums[inside, , drop = FALSE] / weight[inside], pieces$block[inside])
  df <- sum(inside) - length(unique(pieces$block[inside]))
  scatter <- crossprod(centred) / df
  list(df = df, parts = lapply(alone, function(h) {
    own <- source$coefficients[[h]] %*% combine
    crossprod(own, scatter %*% own) * sum(weight[pieces$block == h])^2
  }))
}

# Rows know residuals by cell: those of the lenders' treated at the same time since treatment.
#' @exportS3Method
lend_variance.twin_row_source <- function(source, alone, combine, cluster, lenders) { # nolint: object_name_linter.
  if (is.null(source$cells)) return(NULL)
  residual <- lent_residuals(source, cluster, lenders)
  found <- lapply(alone, function(h) {
    own <- which(source$cells$cohort %in% h & rowSums(combine != 0) > 0)
    at <- match(source$cells$event_time[own], residual$event)
    stand_in <- vapply(seq_len(ncol(combine)), function(j) {
      needed <- combine[own, j] != 0
      if (anyNA(at[needed])) return(rep(NA_real_, nrow(residual$values)))
      drop(residual$values[, at[needed], drop = FALSE] %*% combine[own[needed], j])
    }, numeric(nrow(residual$values)))
    pooled_covariance(matrix(stand_in, ncol = ncol(combine)), residual$block)
  })
  df <- do.call(rbind, lapply(found, `[[`, "df"))
  if (all(is.na(df))) return(NULL)
  list(parts = lapply(found, `[[`, "vcov"), df = df)
}

# Covariance of columns within blocks, each pair of columns from the rows that have both; list(vcov, df), NA where none
# is left over. Columns with the same rows go together.
pooled_covariance <- function(values, block) {
  size <- ncol(values)
  seen <- !is.na(values)
  pattern <- apply(seen, 2L, function(rows) paste(which(rows), collapse = " "))
  columns <- split(seq_len(size), match(pattern, unique(pattern)))
  rows <- lapply(columns, function(at) seen[, at[1L]])
  left <- function(both) sum(both) - length(unique(block[both]))
  vcov <- matrix(NA_real_, size, size)
  for (a in seq_along(columns)) {
    for (b in seq_len(a)) {
      both <- rows[[a]] & rows[[b]]
      df <- left(both)
      if (df < 1L) next
      of <- function(k) about_own_mean(values[both, columns[[k]], drop = FALSE], block[both])
      own <- crossprod(of(a), of(b)) / df
      vcov[columns[[a]], columns[[b]]] <- own
      vcov[columns[[b]], columns[[a]]] <- t(own)
    }
  }
  df <- vapply(rows, left, 0)[match(pattern, unique(pattern))]
  list(vcov = vcov, df = unname(ifelse(df < 1, NA_real_, df)))
}

# Of the lenders' clusters: how far each lies from the mean of its cohort, by time since treatment. list(values:
# clusters x times, NA where not seen; event; block).
lent_residuals <- function(source, cluster, lenders) {
  cells <- which(source$cells$cohort %in% lenders & lengths(source$rows) > 0L)
  event <- sort(unique(source$cells$event_time[cells]))
  units <- which(source$block %in% lenders)
  code <- core_group_codes(source$block[units], cluster[units])
  piece <- match(code, unique(code))
  values <- matrix(NA_real_, max(piece), length(event))
  for (k in cells) {
    at <- match(source$rows[[k]], units)
    inside <- !is.na(at) & source$block[source$rows[[k]]] == source$cells$cohort[k]
    own <- piece[at[inside]]
    s <- source[["s"]][source$rows[[k]][inside]]
    place <- cbind(sort(unique(own)), match(source$cells$event_time[k], event))
    values[place] <- rowsum(source$values[[k]][inside], own) / rowsum(s / sum(s), own)
  }
  list(values = values, event = event, block = source$block[units][!duplicated(piece)])
}

about_own_mean <- function(values, block) {
  code <- match(block, unique(block))
  values - (rowsum(values, code) / tabulate(code))[code, , drop = FALSE]
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
  scaled <- scaled_pieces(pieces, moments)
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
