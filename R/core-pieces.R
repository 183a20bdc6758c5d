# Sources of pieces. A piece is many units that are alike in all that an estimate's weights hang on (cohort, periods
# seen), of which only sums are known: with them the estimate and its variance are those of the units. Each unit is its
# own cluster. What a unit contributes is its data, s (1, outcome less the piece's mean, by period), times the piece's
# map.

# block: cohort of each of P pieces; count: units; total: list of d, sums of the units' data, s first; scatter: list of
# d x d, their cross-products; maps: list of d x K; used: does the piece take part?
core_piece_source <- function(block, count, total, scatter, maps, used) {
  structure(list(block = block, count = count, total = total, scatter = scatter, maps = maps, used = used),
            class = "twin_piece_source")
}

# The source of pieces behind one of stand-ins. Contributions are affine in a unit's outcomes, so a piece of d - 1
# periods is known from d stand-ins that share its weight: one moved by `step` in each period, and one moved back by it
# in all. found: source of stand-ins; unit: the stand-in each of its rows is of; piece, place: per stand-in, place 0 for
# the last kind. pieces: list(block, count, weight, scatter).
core_pieces_behind <- function(found, unit, piece, place, step, pieces, cells) {
  own <- core_contributions(found, diag(cells))
  sums <- matrix(0, length(piece), cells)
  sums[unit, ] <- own
  used <- logical(length(piece))
  used[unit[core_units_in_use(found)]] <- TRUE
  maps <- lapply(seq_along(pieces$block), function(p) {
    at <- which(piece == p)
    at <- at[order(place[at])]
    share <- pieces$weight[p] / length(at)
    moved <- sums[at, , drop = FALSE] / share
    middle <- colMeans(moved)
    middle[abs(middle) < 1e-13 * colSums(abs(moved))] <- 0  # rounding of a mean that is 0
    rbind(middle, sweep(moved[-1L, , drop = FALSE], 2L, middle) / step)
  })
  total <- Map(function(weight, own) replace(numeric(nrow(own)), 1L, weight), pieces$weight, pieces$scatter)
  core_piece_source(pieces$block, pieces$count, total, pieces$scatter, maps,
                    tabulate(piece[used], length(pieces$block)) > 0L)
}

#' @exportS3Method
core_units_in_use.twin_piece_source <- function(source) which(source$used) # nolint: object_name_linter.

#' @exportS3Method
core_count_in_use.twin_piece_source <- function(source) sum(source$count[source$used]) # nolint: object_name_linter.

# What a piece's data become in J combinations, d x J.
piece_map <- function(source, p, combine, shift) {
  map <- source$maps[[p]] %*% combine
  from_mean <- map[-1L, , drop = FALSE]
  scatter <- source$scatter[[p]][-1L, -1L, drop = FALSE]
  nothing <- colSums(from_mean * (scatter %*% from_mean)) < 1e-13 * colSums(from_mean^2 * diag(scatter))
  map[-1L, nothing] <- 0  # rounding of a variance that is 0
  if (!is.null(shift)) map[1L, ] <- map[1L, ] + shift[source$block[p], ]
  map
}

#' @exportS3Method
unit_squares.twin_piece_source <- function(source, combine, shift) { # nolint: object_name_linter. An S3 method.
  Reduce(`+`, core_block_moments(source, combine, NULL, shift)$square)
}

#' @exportS3Method
core_block_moments.twin_piece_source <- function(source, combine, cluster, shift = NULL) { # nolint: object_name_linter.
  blocks <- max(source$block)
  size <- ncol(combine)
  out <- list(count = numeric(blocks), total = matrix(0, blocks, size),
              square = rep(list(matrix(0, size, size)), blocks), weight = numeric(blocks))
  for (p in which(source$used)) {
    h <- source$block[p]
    map <- piece_map(source, p, combine, shift)
    out$count[h] <- out$count[h] + source$count[p]
    out$weight[h] <- out$weight[h] + source$total[[p]][1L]
    out$total[h, ] <- out$total[h, ] + drop(crossprod(map, source$total[[p]]))
    out$square[[h]] <- out$square[[h]] + crossprod(map, source$scatter[[p]] %*% map)
  }
  out
}

#' @exportS3Method
touched_terms.twin_piece_source <- function(source, h, combine) { # nolint: object_name_linter. An S3 method.
  Reduce(`|`, lapply(source$maps[source$block == h], function(map) colSums(abs(map %*% combine)) > 0))
}

# Single units are not known, so none can stand in for another.
#' @exportS3Method
lend_variance.twin_piece_source <- function(source, alone, combine, cluster, lenders) NULL # nolint: object_name_linter.
