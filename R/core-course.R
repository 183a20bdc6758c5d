# Treatment over time (Methods, "Treatment over time"). Rows are unit-periods, sorted by unit and period; `unit` codes
# them (1 to n), `period` too (1 to T). Influence is one row per unit, estimate - truth about its mean.

# A logit of what happens in each row, pooled over periods or one for each of `block` (codes of rows, NA for rows that
# take no part). Returns list(status, fit: the one that failed; fitted: per row, NA outside; aliased: in every block;
# nuisance: of the linear scores, per row).
core_fit_blocks <- function(x, y, s, block) {
  fits <- lapply(sort(unique(block[!is.na(block)])), function(code) {
    rows <- which(block == code)
    own <- x[rows, , drop = FALSE]
    fit <- core_fit(own, as.double(y[rows]), s[rows], "logit")
    if (fit$status != "converged") return(list(status = fit$status, fit = fit))
    regression <- core_regression_nuisance(own, fit$covariance, s[rows] * (y[rows] - fit$fitted))
    list(status = "converged", fit = fit, rows = rows, nuisance = core_of_rows(regression, rows, length(y)))
  })
  failed <- Find(function(one) one$status != "converged", fits)
  if (!is.null(failed)) return(failed)
  fitted <- rep(NA_real_, length(y))
  for (one in fits) fitted[one$rows] <- one$fit$fitted
  list(status = "converged", fitted = fitted, aliased = Reduce(intersect, lapply(fits, function(one) one$fit$aliased)),
       nuisance = core_joined(lapply(fits, `[[`, "nuisance")))
}

# A nuisance that only some of n rows lean on, as one of all of them.
core_of_rows <- function(nuisance, rows, n) {
  list(gradient = function(v) nuisance$gradient(v[rows]),
       influence = function(u) {
         out <- numeric(n)
         out[rows] <- nuisance$influence(u) * (n / length(rows))
         out
       })
}

# Row contributions as those of units.
core_by_unit <- function(v, unit, units) core_sums_by(v, unit, units) * (units / length(v))

# Running products over the periods of each unit, of factors per row.
core_running_products <- function(factor, unit) {
  logs <- cumsum(log(factor))
  first <- which(!duplicated(unit))
  before <- c(0, logs)[first]
  exp(logs - before[unit])
}

# What the scores behind running weights add to an estimate. slopes: list of nuisances and the derivative of each row's
# log factor in them; on: per row, the derivative of the estimate in the log of its factor; after: the same of those of
# having stayed, which belong to the row after.
core_carry_course <- function(on, after, unit, units, slopes) {
  Reduce(`+`, lapply(slopes, function(part) {
    core_by_unit(core_carry(part$nuisance)((if (isTRUE(part$later)) after else on) * part$slope), unit, units)
  }), numeric(units))
}

# Sequential augmented regression (Bang & Robins 2005) of one history. y: n outcomes, NA where not known; s: n; seen: n
# x T, is the unit there in the period; follows: n x T, weights of those who followed the history up to the period (0
# for others), running; z, there: lists of T model matrices of all n units (an intercept among them), as observed and
# had the history been followed; link: "linear" or "logit". Returns list(status, estimate, influence, on: n x T,
# derivative of each unit's contribution in the log of its running weight).
core_sequential_mean <- function(y, s, seen, follows, z, there, link) {
  n <- length(y)
  periods <- ncol(seen)
  next_mean <- y
  fits <- vector("list", periods)
  for (t in rev(seq_len(periods))) {
    used <- seen[, t] & !is.na(next_mean) & s > 0
    fit <- core_fit(z[[t]][used, -1L, drop = FALSE], next_mean[used], s[used], if (link == "logit") "fractional" else
      "gaussian")
    if (fit$status != "converged") return(list(status = fit$status, period = t))
    gamma <- fit$coefficients
    gamma[!is.finite(gamma)] <- 0
    linear <- drop(there[[t]] %*% gamma)
    mean <- core_link_mean(linear, link)
    fits[[t]] <- list(used = used, left = replace(numeric(n), used, (next_mean[used] - fit$fitted) * s[used]),
                      slope = core_link_slope(linear, mean, link), mean = ifelse(seen[, t], mean, NA),
                      covariance = n * fit$covariance, after = next_mean)
    next_mean <- fits[[t]]$mean
  }
  sequential_influence(s, seen, follows, z, there, fits)
}

# psi = mean [Q_1 + sum_t W_t (Q_t+1 - Q_t)]; every Q's coefficients are estimated by those of the period after it, so
# that derivatives are carried forward from the first.
sequential_influence <- function(s, seen, follows, z, there, fits) {
  n <- length(s)
  periods <- ncol(seen)
  zero <- function(x) ifelse(is.na(x), 0, x)
  gaps <- vapply(fits, function(fit) zero(fit$after - fit$mean), numeric(n))
  gaps <- matrix(gaps, n)
  known <- matrix(vapply(fits, function(fit) !is.na(fit$after - fit$mean), logical(n)), n)
  counts <- follows * known
  first <- fits[[1L]]$mean
  own <- first + rowSums(counts * gaps)
  total <- sum(s)
  estimate <- sum(s * own) / total
  influence <- n * s / total * (own - estimate)
  pull <- NULL
  for (t in seq_len(periods)) {
    fit <- fits[[t]]
    before <- if (t == 1L) rep(1, n) else counts[, t - 1L]
    direct <- crossprod(there[[t]], s / total * (before - counts[, t]) * zero(fit$slope) * seen[, t])
    u <- drop(direct) + if (is.null(pull)) 0 else pull
    step <- drop(fit$covariance %*% u)
    influence <- influence + fit$left * drop(z[[t]] %*% step)
    if (t < periods) {  # the fit of this period regresses what the next one foretells
      after <- fits[[t + 1L]]
      linked <- fit$used * s * drop(z[[t]] %*% step) * zero(after$slope)
      pull <- drop(crossprod(there[[t + 1L]], linked)) / n
    }
  }
  list(status = "converged", estimate = estimate, influence = influence, on = s / total * counts * gaps)
}

# Differences between who is treated and who is not in one period, of columns (list of vectors over rows), within
# weights v: standardized by `sd` of each column.
core_period_gaps <- function(columns, treated, v, sd) {
  total <- c(sum(v[treated]), sum(v[!treated]))
  vapply(seq_along(columns), function(k) {
    x <- columns[[k]]
    gap <- sum(v[treated] * x[treated]) / total[1L] - sum(v[!treated] * x[!treated]) / total[2L]
    if (sd[k] > 0) gap / sd[k] else NA_real_
  }, 0)
}
