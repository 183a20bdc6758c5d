# Imputation (Borusyak, Jaravel & Spiess 2024) with more than unit and period effects: a line in time for each unit, and
# any further columns. What untreated rows say of a unit's level (and line) is taken off all of its rows; a regression
# of what is left of untreated rows on what is left of period indicators and columns foretells the treated ones.

# y, w (untreated weight, 0 elsewhere): n; x: n x q further columns on like scales or NULL; slope: n (time) or NULL.
# Returns list(columns: n x (T + q) of period indicators and x after levels and lines, beta, inverse, scatter, aliased,
# left: n, y less what is foretold).
core_untreated_fit <- function(y, x, unit, time, periods, slope, w) {
  indicators <- vapply(seq_len(periods), function(t) as.double(time == t), numeric(length(time)))
  all <- core_residuals_by(cbind(y, indicators, x), slope, unit, w)
  columns <- all[, -1L, drop = FALSE]
  scatter <- crossprod(columns, w * columns)
  solved <- core_solve_scatter(scatter)
  beta <- drop(solved$inverse %*% crossprod(columns, w * all[, 1L]))
  list(columns = columns, beta = beta, inverse = solved$inverse, scatter = scatter,
       aliased = solved$aliased, left = all[, 1L] - drop(columns %*% beta))
}

# Contributions to the coefficients `own` of such a fit.
core_wide_source <- function(fit, rows, cohort, own, s) {
  piece <- if (is.null(rows$piece)) rows$unit else rows$piece
  scores <- rowsum(rows$weight * fit$left * fit$columns, piece)
  core_block_source(function() cbind(s, scores), of_pieces(rows, cohort),
                    rep(list(rbind(0, fit$inverse[, own, drop = FALSE])), max(cohort)), present = present_units(rows))
}

# Cells (data frame of cohort and time) of rows `shown` (weights, 0 elsewhere), with contributions as of
# core_impute_cells(): list(estimate, size, source). cohort: of units; s: of pieces.
core_impute_wide <- function(fit, rows, cohort, cohorts, w, shown, cells, s) {
  t <- rows$periods
  place <- match(cohort[rows$unit] + cohorts * (rows$time - 1L), cells$cohort + cohorts * (cells$time - 1L))
  place[shown == 0] <- NA
  count <- nrow(cells)
  size <- core_sums_by(shown, place, count)
  inside <- which(!is.na(place))
  sums <- rowsum(shown[inside] * cbind(fit$left, fit$columns)[inside, , drop = FALSE], place[inside])
  mean <- matrix(0, count, ncol(sums))
  mean[as.integer(rownames(sums)), ] <- sums
  mean <- mean / pmax(size, 1e-300)
  gap <- t(mean[, -1L, drop = FALSE])
  estimate <- ifelse(size > 0 & is_estimable(fit$scatter, fit$inverse, gap), mean[, 1L], NA_real_)
  gap[, is.na(estimate)] <- 0
  piece <- if (is.null(rows$piece)) rows$unit else rows$piece
  pieces <- max(piece)
  own <- shown * (fit$left - ifelse(is.na(place), 0, ifelse(is.na(estimate), 0, estimate)[place]))
  treated <- matrix(core_sums_by(own, piece + pieces * (rows$time - 1L), pieces * t), pieces)
  scores <- rowsum(w * fit$left * fit$columns, piece)
  moved <- -fit$inverse %*% gap
  coefficients <- lapply(seq_len(cohorts), function(h) {
    direct <- matrix(0, t, count)
    good <- which(cells$cohort == h & !is.na(estimate))
    direct[cbind(cells$time[good], good)] <- 1 / size[good]
    rbind(0, direct, moved)
  })
  present <- tabulate(piece[w + shown > 0], pieces) > 0L
  list(estimate = estimate, size = size, source = core_block_source(
    function() cbind(s, treated, scores), of_pieces(rows, cohort), coefficients, present = if (!all(present)) present
  ))
}
