# Methods, "Difference-in-differences": interactive fixed effects (Xu 2017; Gobillon & Magnac 2016). Untreated outcomes
# are unit and period effects and a few factors that each unit feels in its own measure; they are fitted to the rows
# without treatment, and foretell the others.

# y: units x periods, NA where a row is treated or not seen; s: weights of the units; count: of factors. What is
# not known is filled by the fit until it no longer moves (Dempster, Laird & Rubin 1977). Returns list(fitted: units x
# periods, settled).
core_fit_factors <- function(y, s, count, most = 5000L) {
  known <- !is.na(y)
  size <- stats::sd(y[known])
  if (!is.finite(size) || size == 0) size <- 1
  fitted <- two_way_fill(y, s, known, size)
  if (count == 0L) return(list(fitted = fitted, settled = TRUE))
  for (round in seq_len(most)) {
    whole <- ifelse(known, y, fitted)
    level <- effects_of(whole, s)
    rest <- whole - level
    factors <- eigen(crossprod(rest * sqrt(s)), symmetric = TRUE)$vectors[, seq_len(count), drop = FALSE]
    new <- level + tcrossprod(rest %*% factors, factors)
    moved <- max(abs((new - fitted)[!known]), 0)
    fitted <- new
    if (moved < 1e-7 * size) return(list(fitted = fitted, settled = TRUE))
  }
  list(fitted = fitted, settled = FALSE)
}

# Unit and period effects of complete outcomes.
effects_of <- function(y, s) {
  period <- colSums(s * y) / sum(s)
  outer(rowMeans(y) - mean(period), period, `+`)
}

# The same from the known rows alone, by turns.
two_way_fill <- function(y, s, known, size) {
  value <- ifelse(known, y, 0)
  unit <- rowSums(value) / pmax(rowSums(known), 1)
  period <- numeric(ncol(y))
  for (round in seq_len(5000L)) {
    before <- period
    period <- colSums(s * known * (value - unit)) / pmax(colSums(s * known), 1e-300)
    unit <- rowSums(known * (value - rep(period, each = nrow(y)))) / pmax(rowSums(known), 1)
    if (max(abs(period - before)) < 1e-9 * size) break
  }
  outer(unit, period, `+`)
}

# How well 0 to `most` factors foretell known rows that are left out: mean squares by number of factors. folds: a number
# per known row, in the order of which(!is.na(y)).
core_choose_factors <- function(y, s, most, folds) {
  at <- which(!is.na(y))
  weight <- s[(at - 1L) %% nrow(y) + 1L]
  vapply(0:most, function(count) {
    missed <- lapply(unique(folds), function(fold) {
      left <- at[folds == fold]
      found <- core_fit_factors(replace(y, left, NA), s, count)
      weight[folds == fold] * (y[left] - found$fitted[left])^2
    })
    sum(unlist(missed)) / sum(weight)
  }, 0)
}
