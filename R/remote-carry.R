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
  if (length(keys) == 0L) {
    products <- unname(products_among(1, words))
    sums <- row_sums(rows, unname(c(products, used, check)))
    square <- symmetric_of(sums[seq_along(products)], length(words))
    dimnames(square) <- list(names(words), names(words))
    rest <- sums[-seq_along(products)]
    return(list(square = square, counted = rest[1L], n = 1, check = stats::setNames(rest[-1L], names(check))))
  }
  if (is.null(keys$cluster)) {
    products <- products_among(1, words)
    names(products) <- sprintf(".product%d", seq_along(products))
    found <- row_sums_by(rows, c(words, products, list(.used = used, .rows = quote(0 * u_z + 1)), check), keys$stratum)
    sums <- within_strata(found, keys$stratum, names(words), names(products), ".used")
    return(c(sums, list(check = colSums(as.matrix(found[names(check)])))))
  }
  found <- row_sums_by(rows, c(words, list(.used = used), check), unlist(keys))
  totals <- as.matrix(found[names(words)])
  rownames(totals) <- NULL
  stratum <- if (is.null(keys$stratum)) rep(1L, nrow(found)) else found[[keys$stratum]]
  list(totals = totals, stratum = stratum, counts = found$.used > 0, n = 1,
       check = colSums(as.matrix(found[names(check)])))
}

# core_stratum_sums() of single units, from row_sums_by() with the names of sums, of their products and of units that
# count.
within_strata <- function(found, key, words, products, counts) {
  total <- as.matrix(found[words])
  rownames(total) <- NULL
  scatter <- lapply(seq_len(nrow(found)), function(h) {
    own <- symmetric_of(unlist(found[h, products]), length(words)) - tcrossprod(total[h, ]) / found$.rows[h]
    diag(own) <- pmax(diag(own), 0)
    own
  })
  list(stratum = as.character(found[[key]]), total = total, scatter = scatter, rows = found$.rows,
       counts = found[[counts]], n = 1)
}
