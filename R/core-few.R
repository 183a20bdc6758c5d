# Inference with few clusters in a two-way regression (Methods, "Difference-in-differences"). Everything is worked out
# from each cluster's scatter of (period indicators, treatment, covariates), outcome included, after unit means are
# taken out; units lie within clusters. q: number of regressors.

# Per cluster: list(scatter = q x q, moment = q), from the Gram matrices of its blocks (core-within.R).
core_cluster_moments <- function(grams, maps, cluster, outcome) {
  lapply(split(seq_along(grams), cluster), function(at) {
    list(scatter = Reduce(`+`, Map(function(gram, map) crossprod(map, gram %*% map), grams[at], maps[at])),
         moment = Reduce(`+`, Map(function(gram, map) drop(crossprod(map, gram[, outcome])), grams[at], maps[at])))
  })
}

# Variance of one coefficient. CR2: residuals multiplied by (I - H)^(-1/2),
# which makes the variance unbiased when errors are independent and alike (Bell & McCaffrey 2002), with Satterthwaite
# degrees of freedom under that working model. CR3: by (I - H)^(-1), the jackknife, times (G - 1) / G. H is the
# cluster's block of the projection; directions that a cluster alone determines (eigenvalue 1) have no residual and are
# left out. Nothing larger than q x q is needed: H = U M U', so functions of H act through the eigenvectors of M^(1/2)
# U'U M^(1/2).
core_small_sample <- function(moments, inverse, coefficients, own, kind) {
  count <- length(moments)
  root <- symmetric_root(inverse)
  along <- inverse[, own]
  clusters <- lapply(moments, function(cluster) {
    score <- cluster$moment - drop(cluster$scatter %*% coefficients)
    adjust <- adjustment_of(cluster$scatter, root, if (kind == "CR2") -0.5 else -1)
    toward <- drop(cluster$scatter %*% along)
    list(part = sum(along * (score + adjust$first(score))), toward = toward + adjust$first(toward),
         square = sum(along * (toward + adjust$second(toward))))
  })
  parts <- vapply(clusters, `[[`, 0, "part")
  factor <- c(CR2 = 1, CR3 = (count - 1) / count)[[kind]]
  df <- count - 1
  if (kind == "CR2") {
    toward <- vapply(clusters, `[[`, numeric(length(along)), "toward")
    between <- -crossprod(toward, inverse %*% toward)
    diag(between) <- diag(between) + vapply(clusters, `[[`, 0, "square")
    df <- sum(diag(between))^2 / sum(between^2)
  }
  list(variance = factor * sum(parts^2), df = df)
}

symmetric_root <- function(x) {
  parts <- eigen(x, symmetric = TRUE)
  parts$vectors %*% (sqrt(pmax(parts$values, 0)) * t(parts$vectors))
}

# With A = (I - H)^power: first(v) turns v = U'a into U'(A - I)a, second into U'(A A - I)a, for a in the span of U.
adjustment_of <- function(scatter, root, power, tolerance = 1e-8) {
  parts <- eigen(root %*% scatter %*% root, symmetric = TRUE)
  used <- parts$values > tolerance
  value <- parts$values[used]
  vectors <- root %*% parts$vectors[, used, drop = FALSE]
  own <- value > 1 - tolerance
  multiplier <- ifelse(own, 0, pmax(1 - value, tolerance)^power)
  act <- function(gain) function(v) drop(scatter %*% vectors %*% (gain / value * crossprod(vectors, v)))
  list(first = act(multiplier - 1), second = act(multiplier^2 - 1))
}

# The wild cluster bootstrap with the null imposed (Cameron, Gelbach & Miller 2008). The residuals under the null b are
# linear in b, so each draw's statistic needs five numbers: N0 - b N1 over sqrt(Q00 - 2 b Q01 + b^2 Q11). Returns those
# per column of signs (G x R): a matrix R x 5. The statistic of the data is that of signs all 1.
core_wild_sums <- function(moments, scatter, inverse, own, signs) {
  others <- seq_len(nrow(scatter))[-own]
  restricted <- core_solve_scatter(scatter[others, others, drop = FALSE])$inverse
  along <- inverse[, own]
  whole <- Reduce(`+`, lapply(moments, `[[`, "moment"))
  fit <- function(target) {
    out <- numeric(nrow(scatter))
    out[others] <- restricted %*% target[others]
    out
  }
  of_outcome <- fit(whole)
  of_treatment <- fit(scatter[, own])
  scores <- function(each) vapply(moments, each, numeric(nrow(scatter)))
  residual <- list(scores(function(m) m$moment - drop(m$scatter %*% of_outcome)),
                   scores(function(m) m$scatter[, own] - drop(m$scatter %*% of_treatment)))
  toward <- vapply(moments, function(m) drop(m$scatter %*% along), numeric(nrow(scatter)))
  parts <- lapply(residual, function(r) {
    alone <- drop(crossprod(r, along))
    list(numerator = alone, matrix = diag(alone, length(alone)) - crossprod(toward, inverse %*% r))
  })
  out <- matrix(0, ncol(signs), 5L)
  for (at in split(seq_len(ncol(signs)), ceiling(seq_len(ncol(signs)) / 20000))) {
    v <- signs[, at, drop = FALSE]
    s0 <- parts[[1L]]$matrix %*% v
    s1 <- parts[[2L]]$matrix %*% v
    out[at, ] <- cbind(crossprod(v, parts[[1L]]$numerator), crossprod(v, parts[[2L]]$numerator), colSums(s0^2),
                       colSums(s0 * s1), colSums(s1^2))
  }
  out
}

core_wild_statistic <- function(sums, b) {
  square <- pmax(sums[, 3L] - 2 * b * sums[, 4L] + b^2 * sums[, 5L], 0)
  top <- sums[, 1L] - b * sums[, 2L]
  ifelse(square > 0, abs(top) / sqrt(square), Inf)
}

# Share of draws at least as far from the null b as the data are; exact: the draws are all there are, and the data one
# of them. Ties within rounding count.
core_wild_p <- function(sums, data, b, exact) {
  far <- sum(core_wild_statistic(sums, b) >= core_wild_statistic(data, b) * (1 - 1e-9))
  if (exact) far / nrow(sums) else (far + 1) / (nrow(sums) + 1)
}

# Limits by inversion: the nulls nearest to the estimate on either side that are rejected; infinite where none is within
# a thousand standard errors.
core_wild_limits <- function(sums, data, estimate, se, level, exact) {
  p <- function(b) core_wild_p(sums, data, b, exact)
  one_side <- function(sign) {
    inside <- estimate
    step <- se
    repeat {
      outside <- estimate + sign * step
      if (p(outside) < 1 - level) break
      inside <- outside
      step <- 1.5 * step
      if (step > 1000 * se) return(sign * Inf)
    }
    while (abs(outside - inside) > 1e-7 * se) {
      middle <- (inside + outside) / 2
      if (p(middle) < 1 - level) outside <- middle else inside <- middle
    }
    inside
  }
  c(one_side(-1), one_side(1))
}

# All 2^G sign vectors, G x 2^G.
core_all_signs <- function(count) {
  bit <- bitwShiftL(1L, seq_len(count) - 1L)
  vapply(seq_len(2^count) - 1L, function(k) ifelse(bitwAnd(k, bit) > 0, -1, 1), numeric(count))
}

# Random draws: +1 or -1, or Webb's six points.
core_draw_signs <- function(count, draws, kind) {
  points <- if (kind == "webb") c(-1, 1) %x% sqrt(c(0.5, 1, 1.5)) else c(-1, 1)
  matrix(points[sample.int(length(points), count * draws, replace = TRUE)], count)
}
