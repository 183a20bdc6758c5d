# Regressions with unit and period effects (Methods, "Difference-in-differences"). The outcome is regressed on period
# indicators, treatment columns and covariates after each unit's mean is taken out. A treatment column is a function of
# cohort and period, so it is a combination of period indicators within a cohort: one pass over the rows gives, per
# block of units, the scatter of (period indicators, outcome, covariates), and everything else is small algebra.

# rows: list(columns = n x (1 + p) outcome first, unit, time (codes from 1, sorted by unit), periods = T, weight (n, 0
# for rows that take no part)); block: code per unit. Returns a list of (T + 1 + p) square matrices, one per block.
core_within_grams <- function(rows, block, blocks = max(block)) {
  size <- rows$periods + ncol(rows$columns)
  grams <- glue_within_grams(rows$columns, rows$unit - 1L, rows$time - 1L, rows$periods, as.integer(block) - 1L,
                             as.integer(blocks), rows$weight)
  lapply(seq_len(blocks), function(b) grams[, (b - 1L) * size + seq_len(size), drop = FALSE])
}

# What a row of regressors is of (period indicators, outcome, covariates): (T + 1 + p) x (T + p + J), for a block whose
# treatment columns are `treat` (T x J, by period).
within_map <- function(treat, p) {
  t <- nrow(treat)
  out <- matrix(0, t + 1L + p, t + p + ncol(treat))
  out[cbind(seq_len(t), seq_len(t))] <- 1
  if (p > 0L) out[cbind(t + 1L + seq_len(p), t + seq_len(p))] <- 1
  out[seq_len(t), t + p + seq_len(ncol(treat))] <- treat
  out
}

# The least-squares fit. treat: per block a T x J matrix. grams as above. Returns list(estimate = J, inverse =
# generalised inverse of the regressors' scatter, coefficients (all), aliased (logical, all), maps).
core_within_fit <- function(grams, treat, p) {
  t <- nrow(treat[[1L]])
  maps <- lapply(treat, within_map, p = p)
  y <- t + 1L
  scatter <- Reduce(`+`, Map(function(gram, map) crossprod(map, gram %*% map), grams, maps))
  moment <- Reduce(`+`, Map(function(gram, map) crossprod(map, gram[, y]), grams, maps))
  solved <- core_solve_scatter(scatter)
  coefficients <- drop(solved$inverse %*% moment)
  own <- t + p + seq_len(ncol(treat[[1L]]))
  list(estimate = coefficients[own], own = own, inverse = solved$inverse, coefficients = coefficients,
       aliased = solved$aliased, maps = maps, scatter = scatter)
}

# A generalised inverse: columns that the ones before them explain get rows and columns of 0. Cholesky in the given
# order; a pivot below 1e-9 of the column's own size drops it, and so does a size that is rounding beside the largest
# (columns that are constant within units): columns must come on like scales.
core_solve_scatter <- function(scatter, tolerance = 1e-9) {
  size <- nrow(scatter)
  left <- scatter
  kept <- logical(size)
  own <- diag(scatter)
  for (j in seq_len(size)) {
    kept[j] <- own[j] > 1e-14 * max(own) && left[j, j] > tolerance * own[j]
    if (!kept[j]) next
    rest <- seq_len(size) > j
    column <- left[rest, j]
    left[rest, rest] <- left[rest, rest] - tcrossprod(column) / left[j, j]
  }
  inverse <- matrix(0, size, size)
  if (any(kept)) inverse[kept, kept] <- chol2inv(chol(scatter[kept, kept, drop = FALSE]))
  list(inverse = inverse, aliased = !kept)
}

# Each unit's contributions to the J treatment coefficients as a source of blocks (core-did.R): sums of weighted
# residuals by period and with covariates, times the coefficients' rows of the inverse. rows$piece, codes from 1 per
# row: parts of units that contribute on their own, where clusters cut across units; s is theirs then.
core_within_source <- function(rows, block, fit, s) {
  t <- rows$periods
  p <- ncol(rows$columns) - 1L
  residual <- vapply(fit$maps, function(map) {
    g <- -drop(map %*% fit$coefficients)
    g[t + 1L] <- 1
    g
  }, numeric(t + 1L + p))
  data <- residual_sums(rows, block, rows$weight, rows$weight, residual)
  coefficients <- lapply(fit$maps, function(map) {
    map[t + 1L, ] <- 0
    rbind(0, map %*% fit$inverse[, fit$own, drop = FALSE])
  })
  core_block_source(function() cbind(s, data), of_pieces(rows, block), coefficients, present = present_units(rows))
}

# Sums of residuals by unit, or by piece where rows$piece cuts units: see within_residuals() in src/kernels/within.h.
residual_sums <- function(rows, block, weight, shown, g) {
  whole <- is.null(rows$piece)
  piece <- if (whole) rows$unit else rows$piece
  glue_within_residuals(rows$columns, rows$unit - 1L, rows$time - 1L, rows$periods, as.integer(block) - 1L, ncol(g),
                        weight, shown, g, as.integer(piece) - 1L, if (whole) length(block) else max(piece), whole)
}

# What each unit has, as each piece has it.
of_pieces <- function(rows, values) {
  if (is.null(rows$piece)) values else values[rows$unit[!duplicated(rows$piece)][order(unique(rows$piece))]]
}

# Which units (or pieces) have a row that counts; NULL where all do.
present_units <- function(rows) {
  gone <- rows$weight == 0
  piece <- if (is.null(rows$piece)) rows$unit else rows$piece
  if (any(gone)) tabulate(piece[!gone], max(piece)) > 0L
}

# Imputation (Borusyak, Jaravel & Spiess 2024): unit and period effects, and covariates, from untreated rows alone;
# a cell is the mean of what treated outcomes are above them. untreated_weight, shown: n, the weights of untreated and
# of treated rows. cells: data frame of cohort and time (codes). Contributions follow their conservative variance:
# treated rows enter with their distance from the mean of their cell. Returns list(estimate, size, source); estimate NA
# where the period or all units of the cell have no untreated rows.
core_impute_cells <- function(rows, cohort, cohorts, untreated_weight, shown, cells, s) {
  t <- rows$periods
  p <- ncol(rows$columns) - 1L
  rows$weight <- untreated_weight
  grams <- core_within_grams(rows, cohort, cohorts)
  none <- rep(list(matrix(0, t, 0L)), cohorts)
  fit <- core_within_fit(grams, none, p)
  targets <- glue_within_targets(rows$columns, rows$unit - 1L, rows$time - 1L, t, as.integer(cohort) - 1L,
                                 as.integer(cohorts), untreated_weight, shown)
  place <- (cells$cohort - 1L) * t + cells$time
  q <- t + 1L + p
  size <- targets[q + 1L, place]
  mean <- sweep(targets[seq_len(q), place, drop = FALSE], 2L, size, `/`)
  regressors <- c(seq_len(t), t + 1L + seq_len(p))
  gap <- mean[regressors, , drop = FALSE]  # T + p by K: from the unit's untreated mean to the cell
  known <- is_estimable(fit$scatter, fit$inverse, gap)
  estimate <- ifelse(size > 0 & known, mean[t + 1L, ] - drop(crossprod(gap, fit$coefficients)), NA_real_)
  g <- numeric(q)
  g[t + 1L] <- 1
  g[regressors] <- -fit$coefficients
  data <- residual_sums(rows, cohort, untreated_weight, untreated_weight + shown, matrix(g, q, cohorts))
  data <- centre_treated(data, rows, cohort, shown, cells, ifelse(is.na(estimate), 0, estimate))
  gap[, is.na(estimate)] <- 0
  moved <- -fit$inverse %*% gap
  coefficients <- lapply(seq_len(cohorts), function(h) {
    column <- matrix(0, q, nrow(cells))
    column[regressors, ] <- moved
    own <- which(cells$cohort == h)
    column[cells$time[own], ] <- 0  # these periods hold treated rows
    good <- own[!is.na(estimate[own])]
    column[cbind(cells$time[good], good)] <- 1 / size[good]
    rbind(0, column)
  })
  list(estimate = estimate, size = size, aliased = fit$aliased,
       source = core_block_source(
         function() cbind(s, data), of_pieces(rows, cohort), coefficients,
         present = present_units(utils::modifyList(rows, list(weight = untreated_weight + shown)))
       ))
}

# Is a combination of coefficients in the span of what the rows tell?
is_estimable <- function(scatter, inverse, gap) {
  back <- scatter %*% (inverse %*% gap)
  colSums(abs(back - gap)) < 1e-6 * pmax(1, colSums(abs(gap)))
}

# Treated sums of w (effect) become w (effect - mean of the cell).
centre_treated <- function(data, rows, cohort, shown, cells, estimate) {
  treated <- which(shown > 0)
  mean <- matrix(0, max(cohort), rows$periods)
  mean[cbind(cells$cohort, cells$time)] <- estimate
  unit <- rows$unit[treated]
  time <- rows$time[treated]
  own <- shown[treated] * mean[cbind(cohort[unit], time)]
  at <- if (is.null(rows$piece)) unit else rows$piece[treated]
  data - core_sums_by(own, at + nrow(data) * (time - 1L), length(data))  # a group may have several rows in a period
}

# Residuals after any number of effects. columns: n x k; codes: list of n codes from 1; NULL when they did not settle.
core_absorb <- function(columns, codes, weight) {
  glue_absorb_effects(columns, lapply(codes, function(code) as.integer(code) - 1L), as.double(weight))
}

# Columns (n x k) less their weighted fit within each group on a constant (level) and, where there is one, on `slope`
# (n).
core_residuals_by <- function(columns, slope, group, weight, level = TRUE) {
  code <- match(group, unique(group))
  sums <- function(values) rowsum(as.matrix(values), code)[code, , drop = FALSE]
  total <- pmax(sums(weight)[, 1L], 1e-300)
  if (level) {
    columns <- columns - sums(weight * columns) / total
    if (!is.null(slope)) slope <- slope - sums(weight * slope)[, 1L] / total
  }
  if (is.null(slope)) return(columns)
  spread <- sums(weight * slope^2)[, 1L]
  columns - slope * sums(weight * slope * columns) / ifelse(spread > 0, spread, 1)
}
