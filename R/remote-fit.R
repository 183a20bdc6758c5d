# Regressions by passes over the table: Newton's method from sums (core_climb()), on standardised columns.

# How far a linear predictor may go before exp() is an error in some engines.
most_linear <- 500

bounded_linear <- function(linear, bound) {
  if (is.null(bound)) return(linear)
  above <- bquote(ifelse(.(linear) < .(-bound), .(-bound), .(linear)))
  bquote(ifelse(.(linear) > .(bound), .(bound), .(above)))
}

# By link: start, the linear predictor of a mean; bound, how far linear predictors may go; and words, a function of
# (rows, l, y) giving calls of the linear predictor l (a word within the bound) and the response y: mean, its slope in
# l, and of the log-likelihood of one row its value and the first and minus the second derivative in l (residual,
# variance). As the kernels have them (regression_block.inc).
remote_links <- list(
  linear = list(start = identity, bound = NULL, words = function(rows, l, y) {
    list(mean = l, slope = 1, residual = bquote((.(y) - .(l))), variance = 1)
  }),
  logit = list(start = stats::qlogis, bound = most_linear, words = function(rows, l, y) {
    mean <- say_word(rows, "e", bquote(1 / (1 + exp(-.(l)))))
    slope <- bquote(.(mean) * (1 - .(mean)))
    list(mean = mean, slope = slope, residual = bquote((.(y) - .(mean))), variance = slope,
         value = bquote(.(y) * .(l) - log(1 + exp(.(l)))))
  }),
  log = list(start = log, bound = most_linear, words = function(rows, l, y) {
    mean <- say_word(rows, "e", bquote(exp(.(l))))
    list(mean = mean, slope = mean, residual = bquote((.(y) - .(mean))), variance = mean,
         value = bquote(.(y) * .(l) - .(mean)))
  }),
  # the objective of core_fit_counterpoise(): inverse weights of its scores balance every mean of both arms
  counterpoise = list(start = stats::qlogis, bound = most_linear, words = function(rows, l, y) {
    side <- bquote((2 * .(y) - 1))
    t <- say_word(rows, "i", bquote(exp(-.(side) * .(l))))
    mean <- say_word(rows, "e", bquote(1 / (1 + exp(-.(l)))))
    list(mean = mean, slope = bquote(.(mean) * (1 - .(mean))), residual = bquote((.(side) * (1 + .(t)))), variance = t,
         value = bquote(.(side) * .(l) - .(t)))
  }),
  probit = list(start = stats::qnorm, bound = 37, words = function(rows, l, y) {
    own <- normal_words(rows, l)
    likely <- say_word(rows, "p", bquote(ifelse(.(y) > 0.5, .(own$below), .(own$above))))
    sign <- bquote((2 * .(y) - 1))
    mills <- say_word(rows, "i", bquote(.(own$density) / .(likely)))
    list(mean = own$below, slope = own$density, residual = bquote((.(sign) * .(mills))),
         variance = bquote(.(mills) * (.(sign) * .(l) + .(mills))), value = bquote(log(.(likely))))
  }),
  cloglog = list(start = function(mean) log(-log1p(-mean)), bound = 100, words = function(rows, l, y) {
    rate <- say_word(rows, "i", bquote(exp(.(l))))
    none <- say_word(rows, "n", bquote(ifelse(.(rate) > 500, 0, exp(-pmin(.(rate), 500)))))
    few <- bquote(.(rate) * (1 - .(rate) / 2 + .(rate) * .(rate) / 6))  # of 1 - exp(-rate) digits would be lost
    mean <- say_word(rows, "e", bquote(ifelse(.(rate) < 1e-5, .(few), 1 - .(none))))
    ratio <- say_word(rows, "p", bquote(ifelse(.(rate) < 1e-8, 1 - .(rate) / 2, .(rate) * .(none) / .(mean))))
    bend <- bquote(ifelse(.(rate) < 1e-4, 0.5 * .(rate), .(ratio) * (.(rate) / .(mean) - 1)))
    list(mean = mean, slope = say_word(rows, "d", bquote(.(rate) * .(none))),
         residual = bquote(ifelse(.(y) > 0.5, .(ratio), -.(rate))),
         variance = bquote(ifelse(.(y) > 0.5, .(bend), .(rate))),
         value = bquote(ifelse(.(y) > 0.5, log(.(mean)), -.(rate))))
  })
)

# Links of a model of the treatment.
binary_links <- c("logit", "probit", "cloglog")

# The standard normal density and distribution function, on both sides, of a word: rational functions of Hart (1968) in
# the middle, a continued fraction in the tails. Relative errors in the tail: 1e-15 at 2, 1e-10 at 5, 1e-8 at 8.
normal_words <- function(rows, x) {
  size <- say_word(rows, "x", bquote(abs(.(x))))
  density <- say_word(rows, "g", bquote(exp(-.(size) * .(size) / 2) / .(sqrt(2 * pi))))
  horner <- function(by) Reduce(function(sum, next_one) bquote(.(sum) * .(size) + .(next_one)), by)
  over <- say_word(rows, "o", horner(hart_over))
  under <- say_word(rows, "u", horner(hart_under))
  fraction <- Reduce(function(below, k) bquote(.(size) + .(k) / (.(below))), 4:1, bquote(.(size) + 0.65))
  tail <- say_word(rows, "a", bquote(ifelse(.(size) < 7.07, .(density) * .(sqrt(2 * pi)) * .(over) / .(under),
                                            .(density) / (.(fraction)))))
  list(density = density, below = say_word(rows, "e", bquote(ifelse(.(x) < 0, .(tail), 1 - .(tail)))),
       above = say_word(rows, "e", bquote(ifelse(.(x) < 0, 1 - .(tail), .(tail)))))
}

hart_over <- c(3.52624965998911e-2, 0.700383064443688, 6.37396220353165, 33.912866078383, 112.079291497871,
               221.213596169931, 220.206867912376)
hart_under <- c(8.83883476483184e-2, 1.75566716318264, 16.064177579207, 86.7807322029461, 296.564248779674,
                637.333633378831, 793.826512519948, 440.413735824752)

# y, weight: calls or words; columns: remote_standardised(); start: the intercept, or first coefficients, to begin from.
# Returns list(status, iterations, loglik, beta: of the standardised columns, intercept first, covariance, aliased:
# places, ends, linear, mean, slope, residual: words). known: the sums at the start, where they are
# (first_logit_sums()). ends_of: a function of the mean giving list(aggregate, exprs) to take on the way; `ends` are
# those of the fit, NULL where it took no pass.
fit_remote <- function(rows, columns, y, weight, link, start = 0, known = NULL, ends_of = NULL) {
  force(weight)  # a word must be said before scratch_rows() copies them
  fit <- if (link == "linear") solve_remote(rows, columns, y, weight) else
    climb_remote(rows, columns, y, weight, link, start, known, ends_of)
  covariance <- inverse_information(fit$information, fit$aliased)
  words <- fitted_words(rows, columns, fit$coefficients, y, weight, link)
  c(list(status = fit$status, iterations = fit$iterations, loglik = fit$value, beta = fit$coefficients,
         covariance = covariance, aliased = setdiff(fit$aliased - 1L, 0L), ends = fit$ends), words)
}

fitted_words <- function(rows, columns, beta, y, weight, link) {
  linear <- say_word(rows, "l", line_of(columns$words, beta[-1L], beta[1L]))
  said <- link_words_of(rows, link, linear, y)
  list(linear = linear, mean = said$mean, slope = said$slope,
       residual = say_word(rows, "r", call("*", weight, said$residual)))
}

link_words_of <- function(rows, link, linear, y) {
  entry <- remote_links[[link]]
  bounded <- if (is.null(entry$bound)) linear else say_word(rows, "b", bounded_linear(linear, entry$bound))
  entry$words(rows, bounded, y)
}

# 0 in rows and columns of those that others explain.
inverse_information <- function(information, aliased) {
  inside <- setdiff(seq_len(nrow(information)), aliased)
  out <- matrix(0, nrow(information), nrow(information))
  out[inside, inside] <- solve(information[inside, inside, drop = FALSE])
  out
}

# Gradient and information of q columns, the intercept first.
products_with <- function(h, words) {
  products_among(h, c(list(1), words))
}

products_among <- function(h, words) {
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

climb_remote <- function(rows, columns, y, weight, link, start, known = NULL, ends_of = NULL) {
  q <- length(columns$words) + 1L
  last <- NULL  # ends of the latest pass: a climb stops where it last looked
  at <- function(beta) {
    if (!is.null(known) && all(beta[-1L] == 0)) return(known)
    own <- scratch_rows(rows)
    linear <- say_word(own, "l", line_of(columns$words, beta[-1L], beta[1L]))
    said <- link_words_of(own, link, linear, y)
    residual <- say_word(own, "r", call("*", weight, said$residual))
    h <- say_word(own, "h", call("*", weight, said$variance))
    exprs <- c(list(bquote(.(weight) * (.(said$value)))),
               lapply(c(list(1), columns$words), function(word) multiplied(residual, word)),
               products_with(h, columns$words))
    ends <- if (!is.null(ends_of)) ends_of(said$mean)
    count <- length(exprs)
    found <- row_aggregates(own, c(rep("SUM", count), ends$aggregate), unname(c(exprs, ends$exprs)))
    last <<- found[-seq_len(count)]
    sums <- found[seq_len(count)]
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
  fit <- core_climb(list(at = at, reach = reach), c(start, numeric(q - length(start))))
  c(fit, list(aliased = core_repeated_columns(fit$information), ends = last))
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
