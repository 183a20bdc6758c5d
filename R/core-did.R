# METHODS, "Difference-in-differences": group-time effects. A cell is (cohort, period, base period, comparison cohorts).
# Its effect is the change from base to period in the cohort less that in the comparison units.
#
# Several hundred cells share their units, so influence is not stored cell by cell. A source hands out contributions
# (estimate - truth is about their sum over the units) for any combination of cells:
#   blocks: data, a function that gives an N x d matrix, of which each unit's contribution to cell k is its row times
#           column k of the coefficients of its block (list of d x K); the first column is s, so that weights which
#           depend on the sizes of cohorts are a shift of the first coefficient; scatter, where it is known: list of
#           the blocks' cross-products of data; present: per unit, does it take part (NULL: all do)?
#   rows:   per cell the units that take part and their contributions.
# `block` is the code of each unit's cohort (in triple differences: of cohort and side).

# Unadjusted cells of units all seen in all periods, with weights constant over time. y: outcomes, P per unit, unit
# after unit; s, cohort: N; cells: data frame of cohort, time, base (codes); compare: per cell the codes of the
# comparison cohorts; side: N, 1, or -1 for units whose cells are subtracted (triple differences).
core_balanced_cells <- function(y, s, cohort, cells, compare, side = rep(1L, length(s))) {
  sides <- sort(unique(side), decreasing = TRUE)  # shifts count the blocks of side 1, which come first
  count <- max(cohort)
  blocks <- count * length(sides)
  block <- if (length(sides) == 1L) cohort else cohort + count * (match(side, sides) - 1L)
  periods <- length(y) %/% length(s)
  some <- matrix(y[seq_len(periods * min(length(s), 2000L))], periods)
  centre <- rowMeans(some) - mean(some[1L, ])  # about the mean change since the first period
  sums <- glue_unit_scatter(y, as.double(s), as.integer(block) - 1L, as.integer(blocks), centre)
  parts <- Map(function(k, sign) {
    own <- sums$totals[, (k - 1L) * count + seq_len(count), drop = FALSE]
    balanced_side(sign * own[-1L, , drop = FALSE], own[1L, ], cells, compare)
  }, seq_along(sides), sides)
  of_block <- function(b) (b - 1L) * (periods + 1L) + seq_len(periods + 1L)
  list(estimate = Reduce(`+`, lapply(parts, `[[`, "estimate")), source = list(
    kind = "blocks", block = block,
    data = function() {
      wide <- t(matrix(y, periods))
      cbind(s, s * sweep(wide - wide[, 1L], 2L, centre))
    },
    scatter = lapply(seq_len(blocks), function(b) sums$scatter[, of_block(b), drop = FALSE]),
    coefficients = unlist(Map(function(part, sign) {
      lapply(part$coefficients, function(own) own * c(1, rep(sign, periods)))
    }, parts, sides), recursive = FALSE)
  ))
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

# The change of one cell among units seen twice: an ATT whose outcome is the change. dy, z, s: n; x: n x p covariates at
# the base period (NULL for none); adjustment: "none", "regression", "ipw" or "augmented" (Sant'Anna & Zhao 2020).
# Returns list(status, estimate, contributions = n).
core_cell_change <- function(dy, z, s, x, adjustment) {
  parts <- cell_parts(z, s, x, adjustment)
  if (parts$status != "converged") return(parts["status"])
  cell_contrast(list(dy), list(rep(1, length(z))), z, s, x, adjustment, parts$score)
}

# The same for other units in both periods: the difference of two ATTs, one in the period (after = 1) and one in the
# base period, weighted by one score for both (their first doubly robust form for repeated cross-sections).
core_cell_levels <- function(y, after, z, s, x, adjustment) {
  parts <- cell_parts(z, s, x, adjustment)
  if (parts$status != "converged") return(parts["status"])
  cell_contrast(list(y, -y), list(after, 1 - after), z, s, x, adjustment, parts$score)
}

# The score of belonging to the cohort, where the adjustment needs one.
cell_parts <- function(z, s, x, adjustment) {
  if (!adjustment %in% c("ipw", "augmented")) return(list(status = "converged"))
  fit <- core_fit(x, as.double(z), as.double(s), "logit")
  if (fit$status != "converged") return(list(status = fit$status))
  odds <- fit$fitted / (1 - fit$fitted)
  nuisance <- core_scaled(core_regression_nuisance(x, fit$covariance, s * (z - fit$fitted)), s * (z == 0L) * odds)
  list(status = "converged", score = list(weight = s * ifelse(z == 1L, 1, odds), nuisance = nuisance))
}

# Sum over periods of treated less control mean; y: outcomes with the sign of their period; inside: its 0/1 indicator.
cell_contrast <- function(y, inside, z, s, x, adjustment, score) {
  n <- length(z)
  estimate <- 0
  contributions <- numeric(n)
  for (k in seq_along(y)) {
    means <- cell_means(y[[k]], inside[[k]], z, s, x, adjustment, score)
    if (is.character(means)) return(list(status = means))
    influence <- means$influence()
    estimate <- estimate + means$estimate[[1L]] - means$estimate[[2L]]
    contributions <- contributions + (influence[, 1L] - influence[, 2L]) / n
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

# Contributions of N units to J combinations of cells. combine: K x J; shift: blocks x J or NULL, what a unit of the
# block adds per unit of s.
core_contributions <- function(source, combine, shift = NULL) {
  out <- matrix(0, length(source$block), ncol(combine))
  if (source$kind == "rows") {
    for (k in which(rowSums(combine != 0) > 0)) {
      at <- source$rows[[k]]
      out[at, ] <- out[at, ] + outer(source$values[[k]], combine[k, ])
    }
    if (!is.null(shift)) out <- out + source$s * shift[source$block, , drop = FALSE]
    return(out)
  }
  data <- source$data()
  for (h in seq_along(source$coefficients)) {
    at <- which(source$block == h)
    if (length(at) > 0L) out[at, ] <- data[at, , drop = FALSE] %*% block_coefficients(source, h, combine, shift)
  }
  out
}

block_coefficients <- function(source, h, combine, shift) {
  coefficients <- source$coefficients[[h]] %*% combine
  if (!is.null(shift) && h <= nrow(shift)) coefficients[1L, ] <- coefficients[1L, ] + shift[h, ]
  coefficients
}

# Which units of the source take part in any of its cells.
core_units_in_use <- function(source) {
  if (source$kind == "rows") return(sort(unique(unlist(source$rows))))
  in_block <- vapply(source$coefficients, function(own) any(own != 0), NA)
  used <- if (all(in_block)) rep(TRUE, length(source$block)) else in_block[source$block]
  which(if (is.null(source$present)) used else used & source$present)
}

# Sums of contributions by cluster (codes from 1), G x J.
core_cluster_sums <- function(source, combine, shift, cluster) {
  size <- max(cluster)
  if (source$kind == "rows") {
    if (is_own_cluster(cluster)) return(core_contributions(source, combine, shift))
    return(sums_on(core_contributions(source, combine, shift), cluster, size))
  }
  out <- matrix(0, size, ncol(combine))
  data <- source$data()
  for (h in seq_along(source$coefficients)) {
    at <- which(source$block == h)
    if (length(at) == 0L) next
    sums <- sums_on(data[at, , drop = FALSE], cluster[at], size)
    out <- out + sums %*% block_coefficients(source, h, combine, shift)
  }
  out
}

sums_on <- function(x, code, size) {
  out <- matrix(0, size, ncol(x))
  sums <- rowsum(x, code)
  out[as.integer(rownames(sums)), ] <- sums
  out
}

is_own_cluster <- function(cluster) !is.unsorted(cluster, strictly = TRUE)

# J x J covariance with the factor G / (G - 1); clusters: G. Units that are their own clusters need only the scatter of
# each block.
core_source_vcov <- function(source, combine, shift, cluster, clusters = length(unique(cluster))) {
  factor <- clusters / (clusters - 1)
  if (!is_own_cluster(cluster)) return(crossprod(core_cluster_sums(source, combine, shift, cluster)) * factor)
  if (source$kind == "rows") return(rows_vcov(source, combine, shift) * factor)
  few <- is.null(source$scatter) && ncol(combine) < nrow(source$coefficients[[1L]])
  if (few) return(crossprod(core_contributions(source, combine, shift)) * factor)
  scatter <- if (is.null(source$scatter)) block_scatter(source) else source$scatter
  out <- matrix(0, ncol(combine), ncol(combine))
  size <- numeric(ncol(combine))
  for (h in seq_along(source$coefficients)) {
    coefficients <- block_coefficients(source, h, combine, shift)
    out <- out + crossprod(coefficients, scatter[[h]] %*% coefficients)
    size <- size + colSums(coefficients^2 * diag(scatter[[h]]))
  }
  nothing <- diag(out) < 1e-13 * size  # rounding of a variance that is 0
  out[nothing, ] <- 0
  out[, nothing] <- 0
  out * factor
}

block_scatter <- function(source) {
  data <- source$data()
  lapply(seq_along(source$coefficients), function(h) crossprod(data[source$block == h, , drop = FALSE]))
}

# A stretch of units at a time, so that n x cells never stands in memory at once.
rows_vcov <- function(source, combine, shift, stretch = 20000L) {
  n <- length(source$block)
  out <- matrix(0, ncol(combine), ncol(combine))
  for (start in seq(1L, n, by = stretch)) {
    end <- min(n, start + stretch - 1L)
    part <- matrix(0, end - start + 1L, length(source$rows))
    for (k in seq_along(source$rows)) {
      at <- seq_len(findInterval(end, source$rows[[k]]) - findInterval(start - 1L, source$rows[[k]])) +
        findInterval(start - 1L, source$rows[[k]])
      part[source$rows[[k]][at] - start + 1L, k] <- source$values[[k]][at]
    }
    part <- part %*% combine
    if (!is.null(shift)) {
      part <- part + source$s[start:end] * shift[source$block[start:end], , drop = FALSE]
    }
    out <- out + crossprod(part)
  }
  out
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
