# Augmented survival curves of one arm (Methods, "Effects"). A Cox model within the arm says of every unit i of the
# target which share S_i(t) = exp(-r_i L(t)) is left at t. The arm's units correct the mean of those by weights, each by
#   residual_i(t) = - sum over event times t_k <= t of S_i(t) / S_i(t_k) dM_i(t_k) / G(t_k),
# with dM_i the event less its model's chance while i is at risk, and G(u) the share not censored before u: the
# efficient influence function (Bai, Tsiatis & O'Brien 2013). Where nobody is censored it is 1(T_i > t) - S_i(t).
#
# Sums over event times for every unit would be n x K. They are smooth in r, and so are taken at the Chebyshev points of
# its range and interpolated: with r L up to core_model_reach the functions e^(-r L) are met to rounding. For survival
# one sum per unit is enough, residual_i(t) = residual_i(T_i) S_i(t) / S_i(T_i) once it has left.

core_model_reach <- 50  # the model gives nobody less than e^-50 to be left

# The arm's Cox model. time, event, s: n; s: weights, 0 for units that are not of the arm; x: n x p. Returns list(times:
# event times, hazard: the model's increments of L there, risk: r of all n, place: how many event times each unit has
# reached, inside, died: at the last of those, converged, aliased: columns of x, fit: of cox_fit()).
core_arm_hazard <- function(time, event, s, x) {
  inside <- s > 0
  fit <- if (ncol(x) == 0L) list(coefficients = numeric(), converged = TRUE) else
    cox_fit(x[inside, , drop = FALSE], time[inside], event[inside], s[inside])
  b <- ifelse(is.na(fit$coefficients), 0, fit$coefficients)
  linear <- drop(x %*% b)
  risk <- exp(pmin(linear - sum(s * linear) / sum(s), 500))
  times <- sort(unique(time[inside & event == 1]))
  hazard <- breslow_hazard(times, time, event, s, risk)
  list(times = times, hazard = hazard, risk = pmin(risk, core_model_reach / sum(hazard)), inside = inside,
       place = findInterval(time, times), died = inside & event == 1, converged = fit$converged,
       aliased = which(is.na(fit$coefficients)), fit = fit)
}

# Breslow's increments: those who died over the risks of those still there.
breslow_hazard <- function(times, time, event, s, risk) {
  order <- order(time)
  still <- sums_onwards((s * risk)[order])[match(times, time[order])]
  core_sums_by(s * event, match(time, times), length(times)) / still
}

# G at the event times, by the product limit: deaths at a time come before censorings there. v: 0 outside the arm.
core_uncensored_before <- function(times, time, event, v) {
  inside <- v > 0
  steps <- rank(time[inside], ties.method = "min") + 0.5 * (event[inside] == 0)
  curve <- core_survival_curve(steps, 1 - event[inside], v[inside])
  first <- sort(time[inside])
  core_survival_at(curve, match(times, first) - 0.25)
}

# Two functions of a time, survival and restricted (the time spent up to it), that give list(fitted: n, the model's
# value for each unit; residual: n, 0 outside the arm). uncensored: G at the event times.
core_augmented_parts <- function(model, uncensored) {
  among <- which(model$inside)
  r <- model$risk[among]
  place <- model$place[among]
  died <- model$died[among]
  cumulative <- c(0, cumsum(model$hazard))
  at <- core_chebyshev(range(model$risk), ceiling(14 + 4 * sqrt(max(model$risk) * sum(model$hazard))))
  basis <- core_interpolation(r, at)
  in_whole <- function(values) replace(numeric(length(model$risk)), among, values)
  # what a unit still at risk has lost so far, relative to what its model leaves: (K + 1) x points
  lost <- vapply(at, function(r) {
    exp(-r * cumulative) * cumsum(c(0, -expm1(-r * model$hazard) * exp(r * cumulative[-1L]) / uncensored))
  }, cumulative)
  lost <- matrix(lost, ncol = length(at))
  own <- row_interpolation(basis, function(j) lost[place + 1L, j]) - died * c(0, 1 / uncensored)[place + 1L]
  list(
    survival = function(until) {
      last <- findInterval(until, model$times)
      whole <- cumulative[last + 1L]
      residual <- drop(basis %*% lost[last + 1L, ])  # of those still there
      gone <- which(place <= last)
      residual[gone] <- exp(-r[gone] * (whole - cumulative[place[gone] + 1L])) * own[gone]
      list(fitted = exp(-model$risk * whole), residual = in_whole(residual))
    },
    restricted = function(until) {
      steps <- seq_len(findInterval(until, model$times))
      upto <- cumulative[c(steps, length(steps) + 1L)]
      width <- diff(c(0, model$times[steps], until))
      # per point: the integral of S(u) / S(t_k) from t_k to `until`, at 0 and the event times
      ahead <- function(r) exp(r * upto) * sums_onwards(width * exp(-r * upto))
      reached <- pmin(place, length(steps)) + 1L
      leaves <- died & place <= length(steps)
      residual <- row_interpolation(basis, function(j) {
        loss <- ahead(at[j])[-1L] / uncensored[steps]
        c(0, cumsum(-expm1(-at[j] * model$hazard[steps]) * loss))[reached] - leaves * c(0, loss)[reached]
      })
      fitted <- drop(core_interpolation(model$risk, at) %*% vapply(at, function(r) ahead(r)[1L], 0))
      list(fitted = fitted, residual = in_whole(residual))
    }
  )
}

# Chebyshev points from low to high, both included.
core_chebyshev <- function(range, count) {
  if (range[2L] <= range[1L]) return(range[1L])
  mean(range) - diff(range) / 2 * cos(pi * seq(0, count - 1) / (count - 1))
}

# n x points: times the values of a smooth function there it gives those at x. The barycentric formula (Berrut &
# Trefethen 2004).
core_interpolation <- function(x, points) {
  count <- length(points)
  if (count == 1L) return(matrix(1, length(x), 1L))
  sign <- rep_len(c(1, -1), count) * c(0.5, rep(1, count - 2L), 0.5)
  shares <- vapply(seq_len(count), function(j) {
    off <- x - points[j]
    off[off == 0] <- 1e-200  # at a point itself its value alone counts
    sign[j] / off
  }, x)
  shares <- matrix(shares, length(x))
  shares / rowSums(shares)
}

# The same where each row has its own function; value(j): their values at point j.
row_interpolation <- function(basis, value) {
  total <- numeric(nrow(basis))
  for (j in seq_len(ncol(basis))) total <- total + basis[, j] * value(j)
  total
}
