# Inference with few clusters in a two-way regression (Methods, "Difference-in-differences"). Everything is worked out
# from each cluster's scatter of (period indicators, treatment, covariates), outcome included, after unit means are
# taken out; units lie within clusters. q: number of regressors.

# From the Gram matrices of blocks (core-within.R): list(kinds = the distinct scatters of clusters, q x q each, kind =
# which one each cluster has, moment = q x G). Units seen in the same periods and treated alike share their scatter, so
# that what depends on it alone is worked out once for all of them.
core_cluster_moments <- function(grams, maps, cluster, outcome) {
  of_block <- core_alike(lapply(seq_along(grams), function(b) c(grams[[b]][-outcome, -outcome], maps[[b]])))
  members <- split(seq_along(grams), cluster)
  of_cluster <- vapply(members, function(at) paste(sort(of_block[at]), collapse = " "), "")
  kind <- match(of_cluster, unique(of_cluster))
  scatter_of <- function(at) Reduce(`+`, Map(function(gram, map) crossprod(map, gram %*% map), grams[at], maps[at]))
  moment_of <- function(at) {
    Reduce(`+`, Map(function(gram, map) drop(crossprod(map, gram[, outcome])), grams[at], maps[at]))
  }
  list(kinds = lapply(members[!duplicated(kind)], scatter_of), kind = kind,
       moment = vapply(members, moment_of, numeric(ncol(maps[[1L]]))))
}

# Codes of vectors that are alike to the last bit: two sums tell nearly all apart, the rest is compared.
core_alike <- function(vectors) {
  place <- seq_len(max(lengths(vectors)))
  sums <- vapply(vectors, function(v) c(sum(v * sin(place[seq_along(v)])), sum(v * cos(1.7 * place[seq_along(v)]))),
                 c(0, 0))
  code <- match(paste(sums[1L, ], sums[2L, ]), paste(sums[1L, ], sums[2L, ]))
  same <- vapply(seq_along(vectors), function(k) identical(vectors[[k]], vectors[[code[k]]]), NA)
  code[!same] <- which(!same)
  match(code, unique(code))
}

# Scatter times a vector of q, per cluster: q x G.
kind_products <- function(moments, vector) {
  of_kind <- vapply(moments$kinds, function(scatter) drop(scatter %*% vector), numeric(length(vector)))
  of_kind[, moments$kind, drop = FALSE]
}

# Variance of one coefficient. CR2: residuals multiplied by (I - H)^(-1/2),
# which makes the variance unbiased when errors are independent and alike (Bell & McCaffrey 2002), with Satterthwaite
# degrees of freedom under that working model. CR3: by (I - H)^(-1), the jackknife, times (G - 1) / G as in their
# paper. H is the cluster's block of the projection; directions that a cluster alone determines (eigenvalue 1) have no
# residual and are left out. Nothing larger than q x q is needed: H = U M U', so functions of H act through the
# eigenvectors of M^(1/2) U'U M^(1/2).
core_small_sample <- function(moments, inverse, coefficients, own, type) {
  count <- length(moments$kind)
  size <- tabulate(moments$kind)
  root <- symmetric_root(inverse)
  along <- inverse[, own]
  score <- moments$moment - kind_products(moments, coefficients)
  parts <- numeric(count)
  toward <- matrix(0, length(along), length(moments$kinds))
  square <- numeric(length(moments$kinds))
  for (k in seq_along(moments$kinds)) {
    scatter <- moments$kinds[[k]]
    at <- moments$kind == k
    adjust <- adjustment_of(scatter, root, if (type == "CR2") -0.5 else -1)
    parts[at] <- crossprod(along, score[, at, drop = FALSE] + adjust$first(score[, at, drop = FALSE]))
    plain <- scatter %*% along
    toward[, k] <- plain + adjust$first(plain)
    square[k] <- sum(along * (plain + adjust$second(plain)))
  }
  factor <- c(CR2 = 1, CR3 = (count - 1) / count)[[type]]
  df <- count - 1
  if (type == "CR2") {
    shared <- crossprod(toward, inverse %*% toward)  # between clusters of two kinds
    own_part <- square - diag(shared)
    df <- sum(size * own_part)^2 /
      (sum(outer(size, size) * shared^2) + sum(size * (own_part^2 - diag(shared)^2)))
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
  act <- function(gain) function(v) scatter %*% (vectors %*% (gain / value * crossprod(vectors, v)))
  list(first = act(multiplier - 1), second = act(multiplier^2 - 1))
}

# The wild cluster bootstrap with the null imposed (Cameron, Gelbach & Miller 2008). The residuals under the null b are
# linear in b, so each draw's statistic needs five numbers: N0 - b N1 over sqrt(Q00 - 2 b Q01 + b^2 Q11). Returns those
# per draw: a matrix R x 5. A draw's cluster sums are a v - C'y: `a` what each cluster adds to the coefficient by
# itself, y what all of them move the fit by, C (r x G) how that reaches each cluster, r being the distinct scatters or
# q. products: function(left, squares) that gives left v and squares v^2 of each draw, below each other.
core_wild_sums <- function(moments, scatter, inverse, own, products) {
  others <- seq_len(nrow(scatter))[-own]
  restricted <- core_solve_scatter(scatter[others, others, drop = FALSE])$inverse
  along <- inverse[, own]
  fit <- function(target) replace(numeric(nrow(scatter)), others, restricted %*% target[others])
  residual <- list(moments$moment - kind_products(moments, fit(rowSums(moments$moment))),
                   kind_products(moments, replace(numeric(nrow(scatter)), own, 1)) -
                     kind_products(moments, fit(scatter[, own])))
  toward <- vapply(moments$kinds, function(kind) drop(kind %*% along), numeric(nrow(scatter)))
  few <- length(moments$kinds) <= nrow(scatter)
  reach <- if (few) diag(length(moments$kinds))[, moments$kind, drop = FALSE] else toward[, moments$kind]
  basis <- if (few) crossprod(toward, inverse) else inverse
  alone <- lapply(residual, function(r) drop(crossprod(r, along)))
  moves <- lapply(residual, function(r) basis %*% r)
  weighed <- lapply(alone, function(a) reach * rep(a, each = nrow(reach)))
  sums <- products(rbind(alone[[1L]], alone[[2L]], moves[[1L]], moves[[2L]], weighed[[1L]], weighed[[2L]]),
                   rbind(alone[[1L]]^2, alone[[1L]] * alone[[2L]], alone[[2L]]^2))
  part <- function(k) sums[2L + (k - 1L) * nrow(reach) + seq_len(nrow(reach)), , drop = FALSE]
  y <- list(part(1L), part(2L))
  own_y <- list(part(3L), part(4L))
  square <- tcrossprod(reach)
  quadratic <- function(i, j, row) {
    sums[2L + 4L * nrow(reach) + row, ] - colSums(own_y[[i]] * y[[j]]) - colSums(own_y[[j]] * y[[i]]) +
      colSums(y[[i]] * (square %*% y[[j]]))
  }
  cbind(sums[1L, ], sums[2L, ], quadratic(1, 1, 1), quadratic(1, 2, 2), quadratic(2, 2, 3))
}

# Its products for given multipliers (G x R), and for random draws: +1 or -1, or Webb's six points.
core_given_signs <- function(signs) function(left, squares) rbind(left %*% signs, squares %*% signs^2)

core_drawn_signs <- function(draws, kind, seed) {
  function(left, squares) glue_signed_sums(left, squares, as.integer(draws), kind == "webb", seed)
}

core_wild_statistic <- function(sums, b) {
  square <- pmax(sums[, 3L] - 2 * b * sums[, 4L] + b^2 * sums[, 5L], 0)
  top <- sums[, 1L] - b * sums[, 2L]
  ifelse(square > 0, abs(top) / sqrt(square), Inf)
}

# Share of draws at least as far from the null b as the data are; exact: the draws are all there are, and the data one
# of them. Ties within rounding count.
core_wild_p <- function(sums, data, b, exact) {
  core_share_beyond(core_wild_statistic(sums, b), core_wild_statistic(data, b), exact)
}

core_share_beyond <- function(drawn, observed, exact) {
  far <- sum(drawn >= observed * (1 - 1e-9))
  if (exact) far / length(drawn) else (far + 1) / (length(drawn) + 1)
}

core_wild_limits <- function(sums, data, estimate, se, level, exact) {
  core_inverted_limits(function(b) core_wild_p(sums, data, b, exact), estimate, se, level)
}

# Limits by inversion of a test with p-value p(null): the nulls nearest to the estimate on either side that are
# rejected; infinite where none is within a thousand standard errors.
core_inverted_limits <- function(p, estimate, se, level) {
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
