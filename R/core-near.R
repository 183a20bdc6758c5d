# Standard errors of contributions that are not independent between units: two ways of clustering at once, or units that
# are near each other (Methods, "Difference-in-differences", errors across clusters).

# Clustered by two codes at once: both, less what both count (Cameron, Gelbach & Miller 2011); what is not positive
# semi-definite then is brought back to it.
core_crossed_vcov <- function(source, combine, shift, first, second) {
  both <- core_group_codes(first, second)
  of <- function(code) core_source_vcov(source, combine, shift, match(code, unique(code)))
  whole <- of(first) + of(second) - of(both)
  parts <- eigen((whole + t(whole)) / 2, symmetric = TRUE)
  if (all(parts$values >= 0)) return(whole)
  parts$vectors %*% (pmax(parts$values, 0) * t(parts$vectors))
}

# Products of contributions count by how near two units are: (1 - gap / reach) in either direction, multiplied, and not
# at all beyond the reach (Conley 1999, with whose kernel no variance is negative). place: N x 2. Blocks as wide as the
# reach stand for clusters: list(vcov, blocks).
core_near_vcov <- function(source, combine, shift, place, reach) {
  sums <- core_contributions(source, combine, shift)
  used <- core_units_in_use(source)
  sums <- sums[used, , drop = FALSE]
  place <- place[used, , drop = FALSE]
  cell <- core_place_cells(place, reach)
  wide <- max(cell[, 2L]) + 2
  key <- function(cell) cell[, 1L] * wide + cell[, 2L]
  members <- split(seq_len(nrow(cell)), format_key(key(cell)))
  out <- matrix(0, ncol(sums), ncol(sums))
  for (own in members) {
    from <- cell[own[1L], ]
    around <- cbind(from[1L] + rep(-1:1, 3L), from[2L] + rep(-1:1, each = 3L))
    around <- around[around[, 2L] >= 0 & around[, 2L] < wide - 1, , drop = FALSE]
    others <- unlist(members[format_key(key(around))], use.names = FALSE)
    for (some in split(own, (seq_along(own) - 1L) %/% 500L)) {
      weight <- nearness(place[some, 1L], place[others, 1L], reach) *
        nearness(place[some, 2L], place[others, 2L], reach)
      out <- out + crossprod(sums[some, , drop = FALSE], weight %*% sums[others, , drop = FALSE])
    }
  }
  blocks <- length(members)
  list(vcov = (out + t(out)) / 2 * blocks / max(blocks - 1, 1), blocks = blocks)
}

# Squares as wide as the reach: columns and rows of a grid, from 0.
core_place_cells <- function(place, reach) floor(sweep(place, 2L, apply(place, 2L, min)) / reach)

format_key <- function(key) sprintf("%.0f", key)

nearness <- function(a, b, reach) pmax(1 - abs(outer(a, b, `-`)) / reach, 0)
