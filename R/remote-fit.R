# Regressions by passes over the table: Newton's method from sums (core_climb()), on standardised columns.

# How far a linear predictor may go before exp() is an error in some engines.
most_linear <- 500

bounded_linear <- function(linear) {
  above <- bquote(ifelse(.(linear) < .(-most_linear), .(-most_linear), .(linear)))
  bquote(ifelse(.(linear) > .(most_linear), .(most_linear), .(above)))
}

# By link, calls of the linear predictor l (a word, bounded) and the response y: mean, and of the mean m its slope in l
# and the log-likelihood, which the linear one has no use for; and linear, the linear predictor of numbers that are
# means.
remote_links <- list(
  linear = list(mean = function(l) l, slope = function(m) 1),
  logit = list(mean = function(l) bquote(1 / (1 + exp(-.(l)))), slope = function(m) bquote(.(m) * (1 - .(m))),
               value = function(y, l, m) bquote(.(y) * .(l) - log(1 + exp(.(l)))), linear = stats::qlogis),
  log = list(mean = function(l) bquote(exp(.(l))), slope = function(m) m,
             value = function(y, l, m) bquote(.(y) * .(l) - .(m)))
)

# y, weight: calls or words; columns: remote_standardised(); start: the intercept to begin from. Returns list(status,
# iterations, loglik, beta: of the standardised columns, intercept first, covariance, aliased: places, linear, mean,
# slope, residual: words). known: the sums at the start, where they are (first_logit_sums()).
fit_remote <- function(rows, columns, y, weight, link, start = 0, known = NULL) {
  force(weight)  # a word must be said before scratch_rows() copies them
  fit <- if (link == "linear") solve_remote(rows, columns, y, weight) else
    climb_remote(rows, columns, y, weight, remote_links[[link]], start, known)
  inside <- setdiff(seq_along(fit$coefficients), fit$aliased)
  covariance <- matrix(0, length(fit$coefficients), length(fit$coefficients))
  covariance[inside, inside] <- solve(fit$information[inside, inside, drop = FALSE])
  words <- fitted_words(rows, columns, fit$coefficients, y, weight, link)
  c(list(status = fit$status, iterations = fit$iterations, loglik = fit$value, beta = fit$coefficients,
         covariance = covariance, aliased = setdiff(fit$aliased - 1L, 0L)), words)
}

fitted_words <- function(rows, columns, beta, y, weight, link) {
  said <- remote_links[[link]]
  linear <- say_word(rows, "l", line_of(columns$words, beta[-1L], beta[1L]))
  mean <- if (link == "linear") linear else say_word(rows, "e", said$mean(bounded_linear(linear)))
  residual <- say_word(rows, "r", bquote(.(weight) * (.(y) - .(mean))))
  list(linear = linear, mean = mean, slope = said$slope(mean), residual = residual)
}

# Gradient and information of q columns, the intercept first.
products_with <- function(h, words) {
  words <- c(list(1), words)
  pairs <- which(lower.tri(diag(length(words)), diag = TRUE), arr.ind = TRUE)
  lapply(seq_len(nrow(pairs)), function(k) multiplied(multiplied(h, words[[pairs[k, 1L]]]), words[[pairs[k, 2L]]]))
}

multiplied <- function(a, b) {
  if (identical(a, 1)) return(b)
  if (identical(b, 1)) return(a)
  call("*", a, b)
}

symmetric_of <- function(lower, q) {
  out <- matrix(0, q, q)
  out[lower.tri(out, diag = TRUE)] <- lower
  out[upper.tri(out)] <- t(out)[upper.tri(out)]
  out
}

# Of the logit of the treatment, weighted by s, where all have the chance e: from the products, without a pass.
first_logit_sums <- function(columns, e) {
  products <- columns$products
  inverse <- 1 / columns$scale
  gram <- rbind(c(products$total, products$first * inverse),
                cbind(products$first * inverse, products$second * outer(inverse, inverse)))
  treated <- c(products$treated, products$first_treated * inverse)
  list(value = products$treated * stats::qlogis(e) + products$total * log1p(-e), gradient = treated - e * gram[, 1L],
       information = e * (1 - e) * gram)
}

climb_remote <- function(rows, columns, y, weight, said, start, known = NULL) {
  q <- length(columns$words) + 1L
  at <- function(beta) {
    if (!is.null(known) && all(beta[-1L] == 0)) return(known)
    own <- scratch_rows(rows)
    linear <- say_word(own, "l", line_of(columns$words, beta[-1L], beta[1L]))
    bounded <- bounded_linear(linear)
    mean <- say_word(own, "e", said$mean(bounded))
    residual <- say_word(own, "r", bquote(.(weight) * (.(y) - .(mean))))
    h <- say_word(own, "h", bquote(.(weight) * .(said$slope(mean))))
    exprs <- c(list(bquote(.(weight) * (.(said$value(y, bounded, mean))))),
               lapply(c(list(1), columns$words), function(word) multiplied(residual, word)),
               products_with(h, columns$words))
    sums <- row_sums(own, unname(exprs))
    list(value = sums[1L], gradient = sums[1L + seq_len(q)], information = symmetric_of(sums[-seq_len(q + 1L)], q))
  }
  reach <- function(direction, by_arm) {
    own <- scratch_rows(rows)
    along <- line_of(columns$words, direction[-1L], direction[1L])
    if (by_arm) along <- bquote((2 * .(y) - 1) * (.(along)))
    along <- say_word(own, "a", bquote(ifelse(.(weight) > 0, .(along), 0)))
    ends <- row_ends(own, list(along = along))
    c(ends$least, ends$most)
  }
  fit <- core_climb(list(at = at, reach = reach), c(start, numeric(q - 1L)))
  c(fit, list(aliased = core_repeated_columns(fit$information)))
}

# Least squares: one pass for the cross-products.
solve_remote <- function(rows, columns, y, weight) {
  q <- length(columns$words) + 1L
  exprs <- c(lapply(c(list(1), columns$words), function(word) multiplied(call("*", weight, y), word)),
             products_with(weight, columns$words))
  sums <- row_sums(rows, unname(exprs))
  gram <- symmetric_of(sums[-seq_len(q)], q)
  aliased <- core_repeated_columns(gram)
  inside <- setdiff(seq_len(q), aliased)
  coefficients <- numeric(q)
  coefficients[inside] <- solve(gram[inside, inside, drop = FALSE], sums[inside])
  list(status = "converged", iterations = 1L, value = NA_real_, coefficients = coefficients, information = gram,
       aliased = aliased)
}

# Coefficients and covariance of the columns as they are, from those of the standardised ones.
raw_scale <- function(beta, covariance, columns) {
  to_raw <- diag(c(1, 1 / columns$scale), length(beta))
  to_raw[1L, -1L] <- -columns$centre / columns$scale
  list(coefficients = drop(to_raw %*% beta), covariance = to_raw %*% covariance %*% t(to_raw))
}

# Words that are for one pass only.
scratch_rows <- function(rows) rlang::env_clone(rows)
