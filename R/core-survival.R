# Survival with weights v (Methods, "Effects"). time, event (0/1): n. `away` vectors are derivatives of an estimate in
# each v_i; a weight of 0 takes a unit out.

# The hazard ratio of treated against control by weighted Cox regression, ties by Efron; x: n x p covariates beside the
# treatment, p may be 0. Returns list(log_ratio, away, converged, aliased: columns of x left out).
core_cox <- function(time, event, z, v, x = matrix(0, length(time), 0L)) {
  inside <- v > 0
  columns <- cbind(as.numeric(z), x)[inside, , drop = FALSE]
  units <- list(time = time[inside], event = event[inside], v = v[inside])
  fit <- cox_fit(columns, units$time, units$event, units$v)
  b <- fit$coefficients
  kept <- which(!is.na(b))
  linear <- drop(columns[, kept, drop = FALSE] %*% b[kept])
  risk <- exp(linear - mean(linear))
  covariance <- fit$var[kept, kept, drop = FALSE]
  away <- numeric(length(time))
  for (k in seq_along(kept)) {
    if (covariance[1L, k] != 0) {
      away[inside] <- away[inside] + covariance[1L, k] * cox_score_away(units, columns[, kept[k]], risk)
    }
  }
  list(log_ratio = b[1L], away = away, converged = fit$converged && is.finite(b[1L]), aliased = which(is.na(b[-1L])))
}

# Cox regression on the columns of x, ties by Efron: list(coefficients, NA where aliased; var; converged).
cox_fit <- function(x, time, event, v) {
  fit <- glue_fit_cox(x, as.numeric(time), as.numeric(event), as.numeric(v))
  coefficients <- rep(NA_real_, ncol(x))
  coefficients[fit$active] <- fit$coefficients[fit$active]
  list(coefficients = coefficients, var = fit$covariance, converged = fit$status == "converged")
}

# The derivative of the score equation of one column z in each weight; times the inverse information it is that of the
# coefficients (Lin & Wei 1989). risk: exp(linear predictor), on any scale. At a time with d deaths, whose weights have
# the mean m, Efron's equation is
#   U = sum over deaths v z - m sum over j = 0..d-1 of x_j,  x_j = (S1 - (j / d) T1) / D_j,  D_j = S0 - (j / d) T0,
# with S0, S1 the sums of v r and v r z (r: risk) over those at risk, T0, T1 over the deaths. In v_i it changes by
# z_i - sum x_j / d for a death, and by -m r_i sum (z_i - x_j) / D_j for one at risk, times 1 - j / d for a death.
cox_score_away <- function(units, z, risk) {
  order <- order(units$time)
  time <- units$time[order]
  event <- units$event[order] == 1
  z <- z[order]
  v <- units$v[order]
  r <- risk[order]
  first <- match(time[event], time)  # the sums of a time stand at its first row
  tie <- match(time[event], unique(time[event]))
  size <- tabulate(tie)
  share <- (sequence(size) - 1) / size[tie]
  of_tie <- function(x) core_sums_by(x, tie)
  t0 <- of_tie((v * r)[event])[tie]
  t1 <- of_tie((v * r * z)[event])[tie]
  d <- sums_onwards(v * r)[first] - share * t0
  x <- (sums_onwards(v * r * z)[first] - share * t1) / d
  m <- of_tie(v[event])[tie] / size[tie]
  place <- findInterval(time, unique(time[event])) + 1L
  up_to <- function(terms) c(0, cumsum(of_tie(terms)))[place]
  away <- -r * (z * up_to(m / d) - up_to(m * x / d))
  own <- function(terms) of_tie(terms)[tie]
  away[event] <- away[event] + z[event] - own(x) / size[tie] +
    r[event] * (z[event] * own(m * share / d) - own(m * share * x / d))
  out <- numeric(length(time))
  out[order] <- away
  out
}

# Sums from each entry to the last: over those still at risk, in the order of time.
sums_onwards <- function(x) rev(cumsum(rev(x)))

# Weighted product-limit curve: at the event times, those who died (N), those at risk (Y) and survival after.
core_survival_curve <- function(time, event, v) {
  inside <- v > 0
  v <- v[inside]
  event <- event[inside]
  order <- order(time[inside])
  sorted <- time[inside][order]
  times <- unique(sorted[event[order] == 1])
  died <- core_sums_by((v * event)[order], match(sorted, times), length(times))
  risk <- sums_onwards(v[order])[match(times, sorted)]
  list(times = times, died = died, risk = risk, survival = cumprod(1 - pmin(died / risk, 1)))
}

core_survival_at <- function(curve, at) c(1, curve$survival)[findInterval(at, curve$times) + 1L]

# d log S(t) / d v_i = -[event_i 1(T_i <= t) / (Y - N)(T_i) - G(min(t, T_i))], with G(u) the sum over t_k <= u of
# N / (Y (Y - N)). Where everybody dies survival is 0 and nothing moves it.
curve_parts <- function(curve) {
  left <- curve$risk - curve$died
  open <- left > 1e-12 * curve$risk
  list(one = ifelse(open, 1 / ifelse(open, left, 1), 0),
       g = c(0, cumsum(ifelse(open, curve$died / (curve$risk * ifelse(open, left, 1)), 0))))
}

# As a function of t, for many of them.
core_survival_slopes <- function(curve, time, event, inside) {
  parts <- curve_parts(curve)
  place <- findInterval(time, curve$times)
  own <- event * c(0, parts$one)[place + 1L]
  function(at) {
    last <- findInterval(at, curve$times)
    -core_survival_at(curve, at) * inside * (own * (time <= at) - parts$g[pmin(place, last) + 1L])
  }
}

# Area under the curve up to the horizon.
core_restricted_mean <- function(curve, horizon) {
  ends <- c(curve$times[curve$times < horizon], horizon)
  sum(c(1, curve$survival)[seq_along(ends)] * diff(c(0, ends)))
}

core_restricted_away <- function(curve, time, event, inside, horizon) {
  parts <- curve_parts(curve)
  ends <- c(0, curve$times[curve$times < horizon], horizon)
  steps <- seq_len(length(ends) - 1L)
  height <- c(1, curve$survival)[steps]
  area <- height * diff(ends)
  before <- c(0, cumsum(area))  # integral of S up to each end
  weighted <- c(0, cumsum(area * parts$g[steps]))  # of S G
  u <- pmin(time, horizon)
  place <- pmin(findInterval(u, ends), length(steps))
  within <- u - ends[place]
  up_to <- before[place] + height[place] * within
  rest <- sum(area) - up_to  # integral of S from T_i to the horizon
  at <- findInterval(time, curve$times) + 1L
  own <- event * c(0, parts$one)[at] - parts$g[at]
  sg <- weighted[place] + height[place] * parts$g[place] * within
  -inside * ((time <= horizon) * own * rest - sg)
}
