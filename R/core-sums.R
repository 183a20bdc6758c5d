# The lower of core's two floors: sums over rows. What is made of them (means, variances, shares, effective sizes,
# stratum weights, regressions, standard errors, effects of cells) takes these sums alone and can't tell where the rows
# are. Sums of parts add up to those of the whole, as long as the parts are measured from the same centre.

# Sums of v by code 1, ..., size (the largest that occurs); NA codes are left out.
core_sums_by <- function(v, code, size = max(code, na.rm = TRUE)) glue_group_sums(v, code, size)

# Weight of each level by arm: levels x (treated, control).
core_level_totals <- function(code, levels, z, v) {
  sums <- vapply(c(1L, 0L), function(arm) core_sums_by(v[z == arm], code[z == arm], levels), numeric(levels))
  matrix(sums, nrow = levels, dimnames = list(NULL, c("treated", "control")))
}

# Weight s of each cell 1, 2, ... by arm: list(treated, control). Units without a cell (NA) are left out.
core_cell_totals <- function(cell, z, s) {
  list(treated = core_sums_by(s * (z == 1L), cell), control = core_sums_by(s * (z == 0L), cell))
}

# Units, sum and sum of squares of y by group (codes of any kind), y measured from its mean so that nothing cancels.
core_group_totals <- function(y, group) {
  away <- y - mean(y)
  group <- match(group, unique(group))
  cbind(n = tabulate(group), sum = core_sums_by(away, group), square = core_sums_by(away^2, group))
}

# Sums by arm of one numeric column, a column per sample. weights: n, or n x k. Returns a 10 x k matrix: total and
# square (sums of the weights v and of v^2), first and second (of v (x - centre) and v (x - centre)^2), and the centre,
# each of the treated and of the control units.
core_arm_sums <- function(x, z, weights) glue_arm_sums(x, z, weights)

# Cross-products of the columns of x less a centre. v: weights, NULL for 1. Returns list(total, square, centre, first,
# second).
core_cross_products <- function(x, v) glue_cross_products(x, v)

# The same of a list of columns, some rows at a time, so that they never stand side by side in memory all at once.
core_column_products <- function(columns, v, rows = 65536L) {
  n <- length(columns[[1L]])
  out <- NULL
  for (start in seq(1L, n, by = rows)) {
    at <- start:min(n, start + rows - 1L)
    part <- core_cross_products(do.call(cbind, lapply(unname(columns), `[`, at)), v[at])
    out <- if (is.null(out)) part else core_add_products(out, part)
  }
  out
}

# Cross-products of two sets of rows together, about the centre of the first.
core_add_products <- function(a, b) {
  shift <- b$centre - a$centre
  mixed <- tcrossprod(shift, b$first)
  list(total = a$total + b$total, square = a$square + b$square, centre = a$centre,
       first = a$first + b$first + b$total * shift,
       second = a$second + b$second + mixed + t(mixed) + b$total * tcrossprod(shift))
}

# Totals of influence (n x k) by cluster within stratum; NULL for each unit its own, NULL for one stratum. used: which
# units count. Returns list(totals: G x k, stratum: G codes, counts: G, whether the cluster has a unit that counts, n);
# for units on their own list(square = cross-products, counted, n), which is all a variance needs.
core_influence_sums <- function(influence, cluster = NULL, stratum = NULL, used = rep(TRUE, nrow(influence))) {
  n <- nrow(influence)
  if (is.null(stratum) && is.null(cluster)) return(list(square = crossprod(influence), counted = sum(used), n = n))
  if (is.null(cluster)) cluster <- seq_len(n)
  if (is.null(stratum)) stratum <- rep(1L, n)
  unit <- core_group_codes(stratum, cluster)
  list(totals = rowsum(influence, unit, reorder = FALSE), stratum = stratum[!duplicated(unit)],
       counts = rowsum(as.double(used), unit, reorder = FALSE)[, 1L] > 0, n = n)
}

# Of a regression of y on z and the columns of x: sums of squares and cross-products of (z, x, y), each column measured
# from its mean and columns of x scaled to length 1. v: weights, 0 for rows that take no part. Returns list(gram, n),
# and the columns for those who want more than sums.
core_treatment_products <- function(y, z, x, v) {
  used <- v > 0
  weight <- v[used] * sum(used) / sum(v)
  root <- sqrt(weight)
  centred <- function(a) (a[used] - sum(weight * a[used]) / sum(weight)) * root
  scaled <- function(a) a / sqrt(max(sum(a^2), 1e-300))
  columns <- cbind(centred(z), apply(x, 2L, function(a) scaled(centred(a))), centred(y))
  list(gram = crossprod(columns), n = sum(used), columns = columns)
}

# Of a balanced panel, by block of units: sums of u = s (1, change of the outcome since the first period - centre) and
# of u u'. y: outcomes, P per unit, unit after unit; s, block: N. Returns list(totals: (P + 1) x blocks, scatter: a
# (P + 1) x (P + 1) matrix per block, centre).
core_panel_sums <- function(y, s, block, blocks = max(block)) {
  periods <- length(y) %/% length(s)
  some <- matrix(y[seq_len(periods * min(length(s), 2000L))], periods)
  centre <- rowMeans(some) - mean(some[1L, ])  # about the mean change since the first period
  sums <- glue_unit_scatter(y, as.double(s), as.integer(block) - 1L, as.integer(blocks), centre)
  of_block <- function(b) (b - 1L) * (periods + 1L) + seq_len(periods + 1L)
  list(totals = sums$totals, scatter = lapply(seq_len(blocks), function(b) sums$scatter[, of_block(b), drop = FALSE]),
       centre = centre)
}
