# Standard errors of a weighted survival curve at many times at once, where weights hang on a regression and units are
# independent. They are those of the influence
#   n v_i a_i(t) + n r_i (1, x_i) C u(t),   a_i(t) = -S(t) [own_i 1(T_i <= t) - G(min(t, T_i))],
# with r the regression's residuals, C its covariance and u(t) = sum a_i(t) slope_i (1, x_i); see curve_parts(). Up to
# the factors S(t) and G(t) all sums over units are sums up to t of what does not depend on t: one pass over the units
# in the order of time has them for every t.

# at: times, rising; inside: 1 for units of the arm; regression: see core_regression_nuisance(); counted: how many units
# the variance is of.
core_curve_errors <- function(curve, at, time, event, inside, v, regression, counted) {
  n <- length(time)
  rows <- which(inside > 0 & v > 0)
  rows <- rows[order(time[rows])]
  parts <- curve_parts(curve)
  place <- findInterval(time[rows], curve$times) + 1L
  own <- event[rows] * c(0, parts$one)[place] - parts$g[place]
  g <- parts$g[findInterval(at, curve$times) + 1L]
  ends <- findInterval(at, time[rows]) + 1L
  v <- v[rows]
  of <- function(values) if (length(values) == n) values[rows] else values
  # sums over units of w q(t), q being `own` for those whose time has come and -G(t) for the others
  along <- function(w) {
    up_to <- c(0, cumsum(w))
    c(0, cumsum(w * own))[ends] - g * (up_to[length(up_to)] - up_to[ends])
  }
  slope <- of(regression$slope)
  weight <- v * of(regression$residual)
  columns <- one_and_columns(regression$x)
  gradient <- matrix(0, length(at), length(columns))
  cross <- gradient
  for (j in seq_along(columns)) {
    column <- of(columns[[j]])
    gradient[, j] <- along(slope * column)
    cross[, j] <- along(weight * column)
  }
  direction <- gradient %*% regression$covariance
  square <- c(0, cumsum(v^2 * own^2))[ends]
  later <- c(0, cumsum(v^2))
  square <- square + g^2 * (later[length(later)] - later[ends])
  square <- square + 2 * rowSums(direction * cross) + rowSums(direction * (direction %*% residual_products(regression)))
  core_survival_at(curve, at) * sqrt(pmax(square, 0) * counted / (counted - 1))
}

one_and_columns <- function(x) c(list(1), if (is.list(x)) unname(x) else lapply(seq_len(ncol(x)), function(j) x[, j]))

# sum residual^2 (1, x)(1, x)'.
residual_products <- function(regression) {
  squares <- regression$residual^2
  of <- function(values) c(sum(values), times_columns(regression$x, values))
  do.call(cbind, lapply(one_and_columns(regression$x), function(column) of(squares * column)))
}
