# Sources of contributions. Several hundred cells of an effect over time share their units, so influence is not stored
# cell by cell. A source hands out contributions (estimate - truth is about their sum over the units) for any
# combination of cells; `block` is the code of each unit's cohort (in triple differences: of cohort and side).

# Of blocks. data: a function that gives an N x d matrix, of which each unit's contribution to cell k is its row times
# column k of the coefficients of its block (list of d x K); the first column is s, so that weights which depend on the
# sizes of cohorts are a shift of the first coefficient; scatter and totals, where they are known: list of the blocks'
# cross-products of data, and their sums (d x blocks); present: per unit, does it take part (NULL: all do)?
core_block_source <- function(data, block, coefficients, scatter = NULL, totals = NULL, present = NULL) {
  structure(list(data = data, block = block, coefficients = coefficients, scatter = scatter, totals = totals,
                 present = present), class = "twin_block_source")
}

# Of rows. rows, values: per cell the units that take part, rising, and their contributions; s: N, what a shift
# multiplies; cells: NULL, or data frame of each cell's cohort (its block) and event_time.
core_row_source <- function(s, block, rows, values, cells = NULL) {
  structure(list(s = s, block = block, rows = rows, values = values, cells = cells), class = "twin_row_source")
}

# Contributions of N units to J combinations of cells. combine: K x J; shift: blocks x J or NULL, what a unit of the
# block adds per unit of s.
core_contributions <- function(source, combine, shift = NULL) UseMethod("core_contributions")

#' @exportS3Method
core_contributions.twin_row_source <- function(source, combine, shift = NULL) { # nolint: object_name_linter.
  out <- matrix(0, length(source$block), ncol(combine))
  for (k in seq_len(nrow(combine))) {
    at <- source$rows[[k]]
    for (j in which(combine[k, ] != 0)) out[at, j] <- out[at, j] + source$values[[k]] * combine[k, j]
  }
  if (!is.null(shift)) out <- out + source$s * shift[source$block, , drop = FALSE]
  out
}

#' @exportS3Method
core_contributions.twin_block_source <- function(source, combine, shift = NULL) { # nolint: object_name_linter.
  out <- matrix(0, length(source$block), ncol(combine))
  data <- source$data()
  for (h in seq_along(source$coefficients)) {
    at <- which(source$block == h)
    if (length(at) > 0L) out[at, ] <- data[at, , drop = FALSE] %*% block_coefficients(source, h, combine, shift)
  }
  out
}

block_coefficients <- function(source, h, combine, shift) {
  coefficients <- source$coefficients[[h]] %*% combine
  if (!is.null(shift) && h <= nrow(shift)) coefficients[1L, ] <- coefficients[1L, ] + shift[h, ]
  coefficients
}

# Which units take part in any of the cells.
core_units_in_use <- function(source) UseMethod("core_units_in_use")

#' @exportS3Method
core_units_in_use.twin_row_source <- function(source) { # nolint: object_name_linter. An S3 method.
  used <- logical(length(source$block))
  for (rows in source$rows) used[rows] <- TRUE
  which(used)
}

#' @exportS3Method
core_units_in_use.twin_block_source <- function(source) { # nolint: object_name_linter.
  in_block <- vapply(source$coefficients, function(own) any(own != 0), NA)
  used <- if (all(in_block)) rep(TRUE, length(source$block)) else in_block[source$block]
  which(if (is.null(source$present)) used else used & source$present)
}

# How many units these are that an estimate counts.
core_count_in_use <- function(source) UseMethod("core_count_in_use")

#' @exportS3Method
core_count_in_use.default <- function(source) length(core_units_in_use(source)) # nolint: object_name_linter.

# How many clusters hold any of them.
core_clusters_in_use <- function(source, cluster) {
  counted <- if (inherits(source, "twin_carried_source")) source$inner else source
  length(unique(cluster[core_units_in_use(counted)]))
}

# The source with a column for every one of `count` cells, 0 for those not among `asked`.
core_on_all_cells <- function(source, asked, count) UseMethod("core_on_all_cells")

#' @exportS3Method
core_on_all_cells.twin_row_source <- function(source, asked, count) { # nolint: object_name_linter.
  rows <- rep(list(integer()), count)
  values <- rep(list(numeric()), count)
  good <- lengths(source$rows) > 0L
  rows[asked[good]] <- source$rows[good]
  values[asked[good]] <- source$values[good]
  cells <- if (!is.null(source$cells)) source$cells[match(seq_len(count), asked), ]
  core_row_source(source$s, source$block, rows, values, cells)
}

#' @exportS3Method
core_on_all_cells.twin_block_source <- function(source, asked, count) { # nolint: object_name_linter.
  coefficients <- lapply(source$coefficients, function(own) {
    out <- matrix(0, nrow(own), count)
    out[, asked] <- own
    out
  })
  with_coefficients(source, coefficients)
}

# The source with each cell multiplied by a factor.
core_scaled_source <- function(source, factor) UseMethod("core_scaled_source")

#' @exportS3Method
core_scaled_source.twin_row_source <- function(source, factor) { # nolint: object_name_linter. An S3 method.
  core_row_source(source$s, source$block, source$rows, Map(function(own, by) if (!is.null(own)) own * by, source$values,
                                                           factor), source$cells)
}

#' @exportS3Method
core_scaled_source.twin_block_source <- function(source, factor) { # nolint: object_name_linter. An S3 method.
  with_coefficients(source, lapply(source$coefficients, function(own) own * rep(factor, each = nrow(own))))
}

# The source of J combinations of its cells. combine: K x J; cells: what they are then, see core_row_source().
core_joined_source <- function(source, combine, cells) UseMethod("core_joined_source")

#' @exportS3Method
core_joined_source.twin_block_source <- function(source, combine, cells) { # nolint: object_name_linter. An S3 method.
  with_coefficients(source, lapply(source$coefficients, function(own) own %*% combine))
}

#' @exportS3Method
core_joined_source.twin_row_source <- function(source, combine, cells) { # nolint: object_name_linter. An S3 method.
  joined <- lapply(seq_len(ncol(combine)), function(j) {
    parts <- which(combine[, j] != 0)
    if (length(parts) == 0L) return(list(rows = integer(), values = numeric()))
    at <- unlist(source$rows[parts])
    rows <- sort(unique(at))
    values <- unlist(Map(function(own, by) own * by, source$values[parts], combine[parts, j]))
    list(rows = rows, values = core_sums_by(values, match(at, rows)))
  })
  core_row_source(source$s, source$block, lapply(joined, `[[`, "rows"), lapply(joined, `[[`, "values"), cells)
}

# A source of blocks in which some cells have no contributions.
core_without_cells <- function(source, cells) {
  with_coefficients(source, lapply(source$coefficients, function(own) {
    own[, cells] <- 0
    own
  }))
}

with_coefficients <- function(source, coefficients) {
  core_block_source(source$data, source$block, coefficients, source$scatter, source$totals, source$present)
}

# Sums of contributions by cluster (codes from 1), G x J.
core_cluster_sums <- function(source, combine, shift, cluster) UseMethod("core_cluster_sums")

#' @exportS3Method
core_cluster_sums.twin_row_source <- function(source, combine, shift, cluster) { # nolint: object_name_linter.
  contributions <- core_contributions(source, combine, shift)
  if (is_own_cluster(cluster)) contributions else sums_on(contributions, cluster, max(cluster))
}

#' @exportS3Method
core_cluster_sums.twin_block_source <- function(source, combine, shift, cluster) { # nolint: object_name_linter.
  size <- max(cluster)
  out <- matrix(0, size, ncol(combine))
  data <- source$data()
  for (h in seq_along(source$coefficients)) {
    at <- which(source$block == h)
    if (length(at) == 0L) next
    sums <- sums_on(data[at, , drop = FALSE], cluster[at], size)
    out <- out + sums %*% block_coefficients(source, h, combine, shift)
  }
  out
}

sums_on <- function(x, code, size) {
  out <- matrix(0, size, ncol(x))
  sums <- rowsum(x, code)
  out[as.integer(rownames(sums)), ] <- sums
  out
}

is_own_cluster <- function(cluster) !is.unsorted(cluster, strictly = TRUE)

# J x J covariance with the factor G / (G - 1); clusters: G.
core_source_vcov <- function(source, combine, shift, cluster, clusters = length(unique(cluster))) {
  squares <- if (is_own_cluster(cluster)) unit_squares(source, combine, shift) else
    crossprod(core_cluster_sums(source, combine, shift, cluster))
  squares * clusters / (clusters - 1)
}

# Sum over units of the cross-products of their contributions, J x J.
unit_squares <- function(source, combine, shift) UseMethod("unit_squares")

# Needs only the scatter of each block.
#' @exportS3Method
unit_squares.twin_block_source <- function(source, combine, shift) { # nolint: object_name_linter. An S3 method.
  few <- is.null(source$scatter) && ncol(combine) < nrow(source$coefficients[[1L]])
  if (few) return(crossprod(core_contributions(source, combine, shift)))
  scatter <- if (is.null(source$scatter)) block_scatter(source) else source$scatter
  out <- matrix(0, ncol(combine), ncol(combine))
  size <- numeric(ncol(combine))
  for (h in seq_along(source$coefficients)) {
    coefficients <- block_coefficients(source, h, combine, shift)
    out <- out + crossprod(coefficients, scatter[[h]] %*% coefficients)
    size <- size + colSums(coefficients^2 * diag(scatter[[h]]))
  }
  nothing <- diag(out) < 1e-13 * size  # rounding of a variance that is 0
  out[nothing, ] <- 0
  out[, nothing] <- 0
  out
}

block_scatter <- function(source) {
  data <- source$data()
  lapply(seq_along(source$coefficients), function(h) crossprod(data[source$block == h, , drop = FALSE]))
}

#' @exportS3Method
unit_squares.twin_row_source <- function(source, combine, shift) { # nolint: object_name_linter. An S3 method.
  out <- matrix(0, ncol(combine), ncol(combine))
  each_stretch(source, combine, shift, function(part, units) out <<- out + crossprod(part))
  out
}

# Contributions of a stretch of units at a time, so that n x cells never stands in memory at once. use: function(part:
# units x J, units).
each_stretch <- function(source, combine, shift, use, stretch = 20000L) {
  n <- length(source$block)
  starts <- seq(1L, n, by = stretch)
  ends <- pmin(starts + stretch - 1L, n)
  plain <- nrow(combine) == ncol(combine) && all(combine == diag(nrow(combine)))
  cuts <- lapply(source$rows, function(rows) c(0L, findInterval(ends, rows)))
  for (b in seq_along(starts)) {
    start <- starts[b]
    end <- ends[b]
    part <- matrix(0, end - start + 1L, length(source$rows))
    for (k in seq_along(source$rows)) {
      at <- seq_len(cuts[[k]][b + 1L] - cuts[[k]][b]) + cuts[[k]][b]
      part[source$rows[[k]][at] - start + 1L, k] <- source$values[[k]][at]
    }
    if (!plain) part <- part %*% combine
    if (!is.null(shift)) part <- part + source$s[start:end] * shift[source$block[start:end], , drop = FALSE]
    use(part, start:end)
  }
}
