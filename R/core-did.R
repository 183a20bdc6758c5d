# Methods, "Difference-in-differences": group-time effects. A cell is (cohort, period, base period, comparison cohorts).
# Its effect is the change from base to period in the cohort less that in the comparison units. Contributions are handed
# out by sources (core-source.R).

# Unadjusted cells of units all seen in all periods, with weights constant over time. y: outcomes, P per unit, unit
# after unit; s, cohort: N; cells: data frame of cohort, time, base (codes); compare: per cell the codes of the
# comparison cohorts; side: N, 1, or -1 for units whose cells are subtracted (triple differences).
core_balanced_cells <- function(y, s, cohort, cells, compare, side = rep(1L, length(s))) {
  sides <- sort(unique(side), decreasing = TRUE)  # shifts count the blocks of side 1, which come first
  count <- max(cohort)
  block <- if (length(sides) == 1L) cohort else cohort + count * (match(side, sides) - 1L)
  sums <- core_panel_sums(y, s, block, count * length(sides))
  found <- core_cells_of(sums$totals, cells, compare, sides)
  changes <- function() {
    wide <- t(matrix(y, length(y) %/% length(s)))
    cbind(s, s * sweep(wide - wide[, 1L], 2L, sums$centre))
  }
  list(estimate = found$estimate,
       source = core_block_source(changes, block, found$coefficients, sums$scatter, sums$totals))
}

# From sums: totals as of core_panel_sums(), blocks being the cohorts of each of the sides in turn. Returns
# list(estimate, coefficients: per block a matrix (P + 1) x cells, as a block source wants them).
core_cells_of <- function(totals, cells, compare, sides = 1L) {
  count <- ncol(totals) %/% length(sides)
  parts <- Map(function(k, sign) {
    own <- totals[, (k - 1L) * count + seq_len(count), drop = FALSE]
    balanced_side(sign * own[-1L, , drop = FALSE], own[1L, ], cells, compare)
  }, seq_along(sides), sides)
  list(estimate = Reduce(`+`, lapply(parts, `[[`, "estimate")),
       coefficients = unlist(Map(function(part, sign) {
         lapply(part$coefficients, function(own) own * c(1, rep(sign, nrow(totals) - 1L)))
       }, parts, sides), recursive = FALSE))
}

# Of one side: totals (P x cohorts), sums of s times the outcome; weight: sums of s.
balanced_side <- function(totals, weight, cells, compare) {
  coefficients <- rep(list(matrix(0, nrow(totals) + 1L, nrow(cells))), length(weight))
  estimate <- numeric(nrow(cells))
  for (k in seq_len(nrow(cells))) {
    arms <- list(cells$cohort[k], compare[[k]])
    for (arm in 1:2) {
      size <- sum(weight[arms[[arm]]])
      share <- c(1, -1)[arm] / size
      change <- sum(totals[cells$time[k], arms[[arm]]] - totals[cells$base[k], arms[[arm]]])
      estimate[k] <- estimate[k] + share * change
      for (h in arms[[arm]]) {
        coefficients[[h]][c(1L, cells$time[k] + 1L, cells$base[k] + 1L), k] <- c(-share * change / size, share, -share)
      }
    }
  }
  list(estimate = estimate, coefficients = coefficients)
}

cell_adjustments <- c("none", "regression", "ipw", "augmented")  # the fullest last

# The change of one cell among units seen twice: an ATT whose outcome is the change. dy, z, s: n; x: n x p covariates at
# the base period (NULL for none); adjustment: "none", "regression", "ipw" or "augmented" (Sant'Anna & Zhao 2020).
# Returns list(status, estimate, contributions = n).
core_cell_change <- function(dy, z, s, x, adjustment) {
  parts <- cell_parts(z, s, x, adjustment)
  if (parts$status != "converged") return(parts["status"])
  cell_contrast(list(dy), list(rep(1, length(z))), z, s, x, adjustment, parts$score)
}

# Several changes of the same units, dy being n x m: what does not depend on the outcome is made once. Returns
# list(status, estimate = m, contributions = n x m).
core_cell_changes <- function(dy, z, s, x, adjustment) {
  parts <- cell_parts(z, s, x, adjustment)
  if (parts$status != "converged") return(parts["status"])
  weighted <- !is.null(parts$score)
  own <- s * z / sum(s * z)
  other <- if (weighted) parts$score$weight * (1 - z) / sum(parts$score$weight * (1 - z)) else numeric(length(z))
  about <- function(weight, r, mean) weight * r - outer(weight, mean)
  model <- if (adjustment == "ipw") NULL else comparison_model(dy, z, s, x)
  r <- if (is.null(model)) dy else model$residual
  first <- colSums(own * r)
  second <- colSums(other * r)
  contributions <- about(own, r, first)
  if (weighted) {
    away <- about(other, r, second)
    pull <- rbind(colSums(away), crossprod(x, away))
    contributions <- contributions - away - parts$score$residual * (cbind(1, x) %*% (parts$score$covariance %*% pull))
  }
  if (!is.null(model)) contributions <- contributions + model$carry(other - own)
  list(status = "converged", estimate = first - second, contributions = contributions)
}

# Linear regressions of each column of dy among the comparison: residual (n x m, of all), carry: what it contributes
# to sums of what it foretells with the given weights (n).
comparison_model <- function(dy, z, s, x) {
  w <- s * (1 - z)
  centre <- colSums(w * x) / sum(w)
  x <- x - rep(centre, each = nrow(x))
  size <- sqrt(colSums(w * x^2) / sum(w))
  x <- cbind(1, x / rep(ifelse(size > 0, size, 1), each = nrow(x)))
  inverse <- core_solve_scatter(crossprod(x, w * x))$inverse
  residual <- dy - x %*% (inverse %*% crossprod(x, w * dy))
  list(residual = residual, carry = function(v) w * drop(x %*% (inverse %*% crossprod(x, v))) * residual)
}

# The same for other units in both periods: the difference of two ATTs, one in the period (after = 1) and one in the
# base period, weighted by one score for both (their first doubly robust form for repeated cross-sections). over:
# "period", models are averaged over the treated of their own period; "all", over those of both, with which the
# augmented form models the treated too (their second, locally efficient form).
core_cell_levels <- function(y, after, z, s, x, adjustment, over = "period") {
  parts <- cell_parts(z, s, x, adjustment)
  if (parts$status != "converged") return(parts["status"])
  if (over == "period" || !adjustment %in% c("regression", "augmented")) {
    return(cell_contrast(list(y, -y), list(after, 1 - after), z, s, x, adjustment, parts$score))
  }
  first <- if (adjustment == "regression") {
    cell_contrast(list(y, -y), list(after, 1 - after), z, s, x, "none", NULL, arms = c(1, 0))
  } else {
    cell_contrast(list(y, -y), list(after, 1 - after), z, s, x, adjustment, parts$score)
  }
  if (first$status != "converged") return(first)
  second <- cell_predictions(y, after, z, s, x, adjustment)
  if (second$status != "converged") return(second)
  list(status = "converged", estimate = first$estimate + second$estimate,
       contributions = first$contributions + second$contributions)
}

# What the models' predictions add when they are averaged over all treated. Regression: less the mean over all treated
# of what the comparison's models of both periods predict. Augmented: the mean over all treated of treated less
# comparison models, less that over the treated of the model's own period.
cell_predictions <- function(y, after, z, s, x, adjustment) {
  n <- length(z)
  none <- core_known(n)
  everybody <- s * z
  estimate <- 0
  contributions <- numeric(n)
  for (period in 1:0) {
    own <- s * (after == period)
    for (arm in if (adjustment == "regression") 0L else 0:1) {
      weight <- own * (z == arm)
      model <- core_fit_outcome(x, y, weight, "gaussian")
      if (model$status != "converged") return(list(status = model$status))
      mean_over <- function(t) {
        at <- sum(t * model$fitted) / sum(t)
        list(at = at, influence = t * (model$fitted - at) / sum(t) + model$carry(t / sum(t)) / n)
      }
      whole <- mean_over(everybody)
      gap <- if (adjustment == "regression") {
        whole
      } else {
        part <- mean_over(own * z)
        list(at = whole$at - part$at, influence = whole$influence - part$influence)
      }
      sign <- (2 * period - 1) * (2 * arm - 1)
      estimate <- estimate + sign * gap$at
      contributions <- contributions + sign * gap$influence
    }
  }
  list(status = "converged", estimate = estimate, contributions = contributions)
}

# The score of belonging to the cohort, where the adjustment needs one.
cell_parts <- function(z, s, x, adjustment) {
  if (!adjustment %in% c("ipw", "augmented")) return(list(status = "converged"))
  fit <- core_fit(x, as.double(z), as.double(s), "logit")
  if (fit$status != "converged") return(list(status = fit$status))
  odds <- fit$fitted / (1 - fit$fitted)
  nuisance <- core_scaled(core_regression_nuisance(x, fit$covariance, s * (z - fit$fitted)), s * (z == 0L) * odds)
  list(status = "converged", score = list(weight = s * ifelse(z == 1L, 1, odds), nuisance = nuisance,
                                          covariance = fit$covariance, residual = s * (z - fit$fitted)))
}

# Sum over periods of treated less control mean (times arms); y: outcomes with the sign of their period; inside: its 0/1
# indicator.
cell_contrast <- function(y, inside, z, s, x, adjustment, score, arms = c(1, 1)) {
  n <- length(z)
  estimate <- 0
  contributions <- numeric(n)
  for (k in seq_along(y)) {
    means <- cell_means(y[[k]], inside[[k]], z, s, x, adjustment, score)
    if (is.character(means)) return(list(status = means))
    influence <- means$influence()
    estimate <- estimate + arms[1L] * means$estimate[[1L]] - arms[2L] * means$estimate[[2L]]
    contributions <- contributions + (arms[1L] * influence[, 1L] - arms[2L] * influence[, 2L]) / n
  }
  list(status = "converged", estimate = estimate, contributions = contributions)
}

# Both arms' means; the treated stand for themselves. A string says why there are none.
cell_means <- function(y, inside, z, s, x, adjustment, score) {
  none <- core_known(length(z))
  own <- s * inside
  if (adjustment == "none") return(core_weighted_means(y, z, own))
  v <- if (is.null(score)) own else score$weight * inside
  v_nuisance <- if (is.null(score)) none else core_scaled(score$nuisance, inside)
  if (adjustment == "ipw") return(core_weighted_means(y, z, v, v_nuisance))
  weight <- own * (z == 0L)
  model <- core_fit_outcome(x, y, weight, "gaussian")
  if (model$status != "converged") return(model$status)
  models <- list(list(fitted = y, slope = 0, carry = function(v) 0), model)
  if (adjustment == "regression") {
    return(core_regression_means(weight, none, own * z, none, models))
  }
  core_augmented_means(y, z, v, v_nuisance, own * z, none, models)
}

# Averages of cells. estimate: K; cohort: K codes; size: sums of s of each cohort (by code), or with fixed = TRUE of
# each cell; sets: list of cell numbers, one per average. An average weighs its cells by size; the sizes of cohorts are
# estimated too, and move it by (effect - average) / sum of sizes. Returns list(estimate, combine = K x J,
# shift = cohorts x J).
core_average_cells <- function(estimate, cohort, size, sets, fixed = FALSE) {
  combine <- matrix(0, length(estimate), length(sets))
  shift <- matrix(0, length(size), length(sets))
  average <- numeric(length(sets))
  for (j in seq_along(sets)) {
    set <- sets[[j]]
    weight <- if (fixed) size[set] else size[cohort[set]]
    combine[set, j] <- weight / sum(weight)
    average[j] <- sum(combine[set, j] * estimate[set])
    if (!fixed) {
      moved <- (estimate[set] - average[j]) / sum(weight)
      for (k in seq_along(set)) shift[cohort[set[k]], j] <- shift[cohort[set[k]], j] + moved[k]
    }
  }
  list(estimate = average, combine = combine, shift = if (!fixed) shift)
}

# Their mean with the given weights, itself an average. moves: what each cohort's size does to the weights (as shift).
core_mean_of_averages <- function(averages, weight, moves = 0) {
  list(estimate = sum(weight * averages$estimate), combine = averages$combine %*% weight,
       shift = if (!is.null(averages$shift)) averages$shift %*% weight + moves)
}
