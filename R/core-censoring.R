# Means of what censoring may hide, by inverse chances of not having been censored (Robins & Finkelstein 2000; Satten &
# Datta 2001): Methods, "Effects".

# The arm's Cox model of being censored. time, event, s: n; s: weights, 0 for units that are not of the arm; x: n x p.
# Returns list(before: function of a time u (one, or n) that gives every unit's chance K of not being censored before u;
# carried: function(slope, u) giving s times the derivative in each s of an estimate whose derivative in -log K_i(u_i)
# is slope_i (n), which is how the estimation of the model enters; converged, aliased: columns of x). Deaths at a time
# come before censorings there.
core_censoring <- function(time, event, s, x) {
  lost <- s > 0 & event == 0
  if (!any(lost)) {
    return(list(before = function(u) rep(1, length(time)), carried = function(slope, u) numeric(length(time)),
                converged = TRUE, aliased = integer()))
  }
  steps <- rank(time, ties.method = "min") + 0.5 * (event == 0)
  model <- core_arm_hazard(steps, as.numeric(lost), s, x)
  at <- sort(unique(time[lost]))
  cumulative <- c(0, cumsum(model$hazard))
  reached <- function(u) findInterval(u, at, left.open = TRUE)
  list(before = function(u) exp(-model$risk * cumulative[reached(u) + 1L]),
       carried = function(slope, u) censoring_carried(model, steps, s, x, slope, reached(u)),
       converged = model$converged, aliased = model$aliased)
}

# -log K_i = r_i sum over the censoring times k before u_i of h_k, with Breslow's h_k = (those lost) / S0_k and r_i =
# exp(x_i'b). g_k is the estimate's derivative in h_k; its derivative in b counts both r_i and h_k. count: how many
# censoring times lie before each u_i.
censoring_carried <- function(model, steps, s, x, slope, count) {
  r <- model$risk
  onwards <- function(values) sums_onwards(core_sums_by(values, count + 1L, length(model$times) + 1L))[-1L]
  g <- onwards(slope * r)
  order <- order(steps)
  first <- match(model$times, steps[order])
  still <- function(values) sums_onwards(values[order])[first]
  at_risk <- still(s * r)
  share <- g / at_risk
  reached <- findInterval(steps, model$times)
  out <- -r * c(0, cumsum(share * model$hazard))[reached + 1L]
  own <- match(steps, model$times)
  lost <- model$died & !is.na(own)
  out[lost] <- out[lost] + share[own[lost]]
  kept <- which(!is.na(model$fit$coefficients))
  if (length(kept) > 0L) {
    cumulative <- c(0, cumsum(model$hazard))[count + 1L]
    direction <- vapply(kept, function(j) {
      sum(slope * r * cumulative * x[, j]) - sum(share * model$hazard * still(s * r * x[, j]))
    }, 0)
    direction <- drop(model$fit$var[kept, kept, drop = FALSE] %*% direction)
    among <- which(model$inside)
    units <- list(time = steps[among], event = as.numeric(model$died)[among], v = s[among])
    along <- drop(x[among, kept, drop = FALSE] %*% direction)
    out[among] <- out[among] + cox_score_away(units, along, r[among])
  }
  out * s
}

# The mean of values that are known where `complete`; chance: of being so. v: weights, 0 outside the arm. `away`: its
# derivative in each v_i; `slope`: in -log(chance).
core_complete_mean <- function(value, complete, chance, v) {
  factor <- complete / chance
  total <- sum(v * factor)
  estimate <- sum(v * factor * value) / total
  away <- ifelse(v > 0, factor * (value - estimate) / total, 0)
  list(estimate = estimate, away = away, slope = v * away)
}
