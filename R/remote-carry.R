# What estimated quantities add to influence (core-nuisance.R), in words. A nuisance is a list of three: moments, calls
# m_k such that the derivative of sum(v q) in its parameters is sum(v m_k); in their place gradient, a function of the
# word v that finds these derivatives by passes of its own; and influence, function of those derivatives giving each
# row's contribution as a call. Contributions sum to (estimate - truth), without the factor n. Several nuisances of one
# q stand in a list `parts`.

no_nuisance <- function() list(moments = list(), influence = function(g) 0)

joined_nuisance <- function(...) list(parts = list(...))

# The share of the treated, of which stabilised weights are made; total: sum of s.
share_nuisance <- function(s, share, total) {
  list(moments = list(quote((2 * u_z - 1))), influence = function(g) bquote(.(g / total) * .(s) * (u_z - .(share))))
}

# The linear predictor of a fit of fit_remote().
fit_nuisance <- function(fit, columns) {
  list(moments = c(list(1), columns$words), influence = function(g) {
    d <- drop(fit$covariance %*% g)
    bquote(.(fit$residual) * (.(line_of(columns$words, d[-1L], d[1L]))))
  })
}

scaled_nuisance <- function(nuisance, slope) {
  if (!is.null(nuisance$parts)) return(list(parts = lapply(nuisance$parts, scaled_nuisance, slope)))
  if (!is.null(nuisance$gradient)) {
    return(list(gradient = function(v) nuisance$gradient(multiplied(v, slope)), influence = nuisance$influence))
  }
  list(moments = lapply(nuisance$moments, function(m) multiplied(slope, m)), influence = nuisance$influence)
}

# terms: per estimate list(own: each row's contribution through its own weight, carries: list of list(v, nuisance)). All
# derivatives are summed in one pass. Returns a word per estimate.
influence_words <- function(rows, terms) {
  carries <- unlist(lapply(terms, `[[`, "carries"), recursive = FALSE)
  moments <- lapply(carries, function(carry) lapply(carry$nuisance$moments, function(m) multiplied(carry$v, m)))
  of <- rep(seq_along(moments), lengths(moments))
  flat <- unlist(moments, recursive = FALSE)
  sums <- if (length(flat) > 0L) row_sums(rows, unname(flat)) else numeric()
  carried <- lapply(seq_along(carries), function(k) {
    nuisance <- carries[[k]]$nuisance
    nuisance$influence(if (is.null(nuisance$gradient)) sums[of == k] else nuisance$gradient(carries[[k]]$v))
  })
  owner <- rep(seq_along(terms), vapply(terms, function(term) length(term$carries), 0L))
  words <- lapply(seq_along(terms), function(k) {
    say_word(rows, "f", sum_of(c(list(terms[[k]]$own), carried[owner == k])))
  })
  stats::setNames(words, names(terms))
}

# The sums core_vcov_of() takes, of words: by cluster and stratum where there are any. used: a call, 1 for rows that
# count. check: more sums to take on the way, returned as `check`.
influence_sums <- function(rows, words, keys, used, check = list()) {
  k <- length(words)
  if (length(keys) == 0L) {
    pairs <- which(lower.tri(diag(k), diag = TRUE), arr.ind = TRUE)
    exprs <- c(lapply(seq_len(nrow(pairs)), function(i) call("*", words[[pairs[i, 1L]]], words[[pairs[i, 2L]]])), used,
               unname(check))
    sums <- row_sums(rows, unname(exprs))
    square <- symmetric_of(sums[seq_len(nrow(pairs))], k)
    dimnames(square) <- list(names(words), names(words))
    rest <- sums[-seq_len(nrow(pairs))]
    return(list(square = square, counted = rest[1L], n = 1, check = stats::setNames(rest[-1L], names(check))))
  }
  found <- row_sums_by(rows, c(words, list(.used = used), check), unlist(keys))
  totals <- as.matrix(found[names(words)])
  rownames(totals) <- NULL
  stratum <- if (is.null(keys$stratum)) rep(1L, nrow(found)) else found[[keys$stratum]]
  list(totals = totals, stratum = stratum, counts = found$.used > 0, n = 1,
       check = colSums(as.matrix(found[names(check)])))
}
