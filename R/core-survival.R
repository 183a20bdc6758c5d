# Survival with weights v (METHODS, "Effects"). time, event (0/1): n. `away` vectors are derivatives of an estimate in
# each v_i; a weight of 0 takes a unit out.

# The hazard ratio of treated against control by weighted Cox regression (Lin & Wei 1989: score residuals over the
# information are the derivative in the weights, ties by Efron): list(log_ratio, away).
core_cox <- function(time, event, z, v) {
  inside <- v > 0
  data <- data.frame(time = time[inside], event = event[inside], z = z[inside], v = v[inside])
  # a formula of its own environment: coxph() looks for weights there
  fit <- survival::coxph(survival::Surv(time, event) ~ z, data, weights = v, robust = FALSE, model = TRUE,
                         control = survival::coxph.control(eps = 1e-11, iter.max = 50, timefix = FALSE))
  away <- numeric(length(time))
  away[inside] <- stats::residuals(fit, type = "score", weighted = FALSE) * drop(fit$var)
  list(log_ratio = unname(fit$coefficients), away = away, converged = fit$iter < 50)
}

# Weighted product-limit curve: at the event times, those who died (N), those at risk (Y) and survival after.
core_survival_curve <- function(time, event, v) {
  inside <- v > 0
  v <- v[inside]
  event <- event[inside]
  order <- order(time[inside])
  sorted <- time[inside][order]
  at_risk <- rev(cumsum(rev(v[order])))
  times <- unique(sorted[event[order] == 1])
  died <- rowsum((v * event)[order], sorted)[as.character(times), 1L]
  risk <- at_risk[match(times, sorted)]
  list(times = times, died = unname(died), risk = risk, survival = cumprod(1 - pmin(died / risk, 1)))
}

core_survival_at <- function(curve, at) c(1, curve$survival)[findInterval(at, curve$times) + 1L]

# d log S(t) / d v_i = -[event_i 1(T_i <= t) / (Y - N)(T_i) - G(min(t, T_i))], G(u) = sum over t_k <= u of N / (Y (Y - N)).
# Where everybody dies survival is 0 and nothing moves it.
curve_parts <- function(curve) {
  left <- curve$risk - curve$died
  open <- left > 1e-12 * curve$risk
  list(one = ifelse(open, 1 / ifelse(open, left, 1), 0),
       g = c(0, cumsum(ifelse(open, curve$died / (curve$risk * ifelse(open, left, 1)), 0))))
}

core_survival_away <- function(curve, time, event, inside, at) {
  parts <- curve_parts(curve)
  place <- findInterval(time, curve$times)
  own <- event * (time <= at) * c(0, parts$one)[place + 1L]
  -core_survival_at(curve, at) * inside * (own - parts$g[pmin(place, findInterval(at, curve$times)) + 1L])
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
  own_g <- parts$g[findInterval(time, curve$times) + 1L]
  own <- event * (time <= horizon) * c(0, parts$one)[findInterval(time, curve$times) + 1L]
  sg <- weighted[place] + height[place] * parts$g[place] * within
  -inside * (own * rest - (sg + ifelse(time <= horizon, own_g * rest, 0)))
}
