# The register of outcome models (Methods, "Effects"). fit: function(x, y, weight, scale_x) giving list(status, aliased,
# fitted, slope, carry) for all n units: carry(v * slope) is the influence that the model's estimation adds to an
# estimate whose derivative in the fitted values is v. together: can one regression stand for both arms? remote: are
# sums enough? fits: which outcomes it is for; needs, words: what it says of them and of itself.
new_family <- function(words, needs, fits, fit, together = TRUE, remote = FALSE) {
  list(words = words, needs = needs, fits = fits, fit = fit, together = together, remote = remote)
}

two_values <- "an outcome of 0 and 1"

outcome_families <- list(
  gaussian = new_family("linear models", "numbers", function(y, shares) TRUE, remote = TRUE,
                        function(x, y, weight, scale_x) core_fit_link(x, y, weight, "gaussian")),
  binomial = new_family("logit models", two_values, function(y, shares) shares, remote = TRUE,
                        function(x, y, weight, scale_x) core_fit_link(x, y, weight, "binomial")),
  probit = new_family("probit models", two_values, function(y, shares) shares,
                      function(x, y, weight, scale_x) core_fit_link(x, y, weight, "probit")),
  heteroskedastic_probit = new_family(
    "heteroskedastic probit models", two_values, function(y, shares) shares, together = FALSE,
    function(x, y, weight, scale_x) core_fit_spread_probit(x, y, weight, scale_x)
  ),
  poisson = new_family("log-linear (Poisson) models", "values of 0 or more", function(y, shares) all(y >= 0),
                       remote = TRUE,
                       function(x, y, weight, scale_x) core_fit_link(x, y, weight, "poisson")),
  fractional = new_family("fractional logit models", "shares between 0 and 1",
                          function(y, shares) all(y >= 0 & y <= 1),
                          function(x, y, weight, scale_x) core_fit_link(x, y, weight, "fractional")),
  negative_binomial = new_family(
    "negative binomial models", "values of 0 or more", function(y, shares) all(y >= 0), together = FALSE,
    function(x, y, weight, scale_x) core_fit_negative_binomial(x, y, weight)
  ),
  two_part = new_family(
    "two-part models (a logit of any, log-linear means of how much)", "values of 0 or more",
    function(y, shares) all(y >= 0), together = FALSE, function(x, y, weight, scale_x) core_fit_two_part(x, y, weight)
  ),
  ordered = new_family(
    "ordered logit models", "2 to 20 different values, in order", together = FALSE,
    function(y, shares) length(unique(y)) %in% 2:20, function(x, y, weight, scale_x) core_fit_ordered(x, y, weight)
  )
)

# A regression with a link.
core_fit_link <- function(x, y, weight, family) {
  fit <- core_fit(x, y, weight, family, if (family == "poisson") log_mean_start(x, y, weight))
  if (fit$status != "converged") return(fit["status"])
  as_outcome_model(fit, x, y, weight, core_family_link(family))
}

log_mean_start <- function(x, y, weight) c(log(sum(weight * y) / sum(weight)), numeric(ncol(x)))

# weight: those of the estimating equations.
as_outcome_model <- function(fit, x, y, weight, link) {
  residual <- weight * core_link_residual(fit$linear, fit$fitted, y, link)
  list(status = fit$status, aliased = fit$aliased, fitted = fit$fitted,
       slope = core_link_slope(fit$linear, fit$fitted, link),
       carry = core_carry(core_regression_nuisance(x, fit$covariance, residual)))
}

core_fit_spread_probit <- function(x, y, weight, scale_x) {
  fit <- core_fit_heteroskedastic(x, scale_x, y, weight)
  if (fit$status != "converged") return(fit["status"])
  link <- core_family_link("heteroskedastic_probit")
  residual <- weight * core_link_residual(fit$linear, fit$fitted, y, link)
  nuisance <- core_heteroskedastic_nuisance(x, scale_x, fit$linear, fit$scale, fit$covariance, residual)
  list(status = fit$status, aliased = fit$aliased, fitted = fit$fitted,
       slope = core_link_slope(fit$linear, fit$fitted, link), carry = core_carry(nuisance))
}

# Means exp(x'b), variance m + a m^2 (Cameron & Trivedi 2013): the equations are those of a log-linear regression with
# weights over 1 + a m, and a solves sum w [(y - m)^2 - m] = a sum w m^2, at least 0. Each leaves the other's solution
# unmoved in first order.
core_fit_negative_binomial <- function(x, y, weight, steps = 100L) {
  fit <- core_fit(x, y, weight, "poisson", log_mean_start(x, y, weight))
  if (fit$status != "converged") return(fit["status"])
  inside <- weight > 0
  for (step in seq_len(steps)) {
    m <- fit$fitted
    spread <- max(0, sum((weight * ((y - m)^2 - m))[inside]) / sum((weight * m^2)[inside]))
    own <- weight / (1 + spread * m)
    again <- core_fit(x, y, own, "poisson", fit$coefficients)
    if (again$status != "converged") return(again["status"])
    moved <- max(abs(again$linear[inside] - fit$linear[inside]))
    fit <- again
    if (moved < 1e-9) return(c(as_outcome_model(fit, x, y, own, "log"), list(spread = spread)))
  }
  list(status = "not_converged")
}

# P(y > 0) times the mean of those above 0 (Cragg 1971, with a log-linear mean).
core_fit_two_part <- function(x, y, weight) {
  positive <- y > 0
  any <- if (all(positive[weight > 0])) known_share(length(y)) else core_fit_link(x, as.double(positive), weight,
                                                                                  "binomial")
  if (any$status != "converged") return(any["status"])
  much <- core_fit_link(x, y, weight * positive, "poisson")
  if (much$status != "converged") return(much["status"])
  list(status = "converged", aliased = much$aliased, fitted = any$fitted * much$fitted, slope = 1,
       carry = function(v) {
         any$carry(v * much$fitted * any$slope) + much$carry(v * any$fitted * much$slope)
       })
}

known_share <- function(n) {
  list(status = "converged", fitted = rep(1, n), slope = 0, carry = function(v) 0)
}

# The ordered logit (McCullagh 1980): P(y <= k) = plogis(a_k - x'b), by Fisher scoring; its mean is that of the values.
core_fit_ordered <- function(x, y, weight, steps = 100L) {
  inside <- weight > 0
  values <- sort(unique(y[inside]))
  aliased <- core_fit(x, y, weight, "gaussian")$aliased
  own <- if (length(aliased) > 0L) x[, -aliased, drop = FALSE] else x
  cuts <- length(values) - 1L
  code <- match(y, values)
  share <- cumsum(core_sums_by(weight[inside], code[inside], cuts + 1L)) / sum(weight)
  theta <- c(stats::qlogis(share[seq_len(cuts)]), numeric(ncol(own)))
  best <- ordered_loglik(theta, own, code, weight, cuts)
  for (step in seq_len(steps)) {
    parts <- ordered_parts(theta, own, cuts)
    scores <- ordered_scores(parts, own, code, weight)
    information <- ordered_information(parts, own, weight)
    move <- tryCatch(solve(information, colSums(scores)), error = function(e) NULL)
    if (is.null(move)) return(list(status = "not_converged"))
    size <- 1
    repeat {
      tried <- theta + size * move
      now <- ordered_loglik(tried, own, code, weight, cuts)
      if (is.finite(now) && now >= best - 1e-10 * abs(best)) break
      size <- size / 2
      if (size < 1e-8) return(list(status = "not_converged"))
    }
    theta <- tried
    best <- now
    if (sum(move * colSums(scores)) < 1e-12 * sum(weight)) break
  }
  if (sum(move * colSums(scores)) >= 1e-8 * sum(weight)) return(list(status = "not_converged"))
  parts <- ordered_parts(theta, own, cuts)
  scores <- ordered_scores(parts, own, code, weight)
  bread <- solve(ordered_information(parts, own, weight))
  on_cuts <- -sweep(parts$slopes, 2L, diff(values), `*`)
  on_linear <- -drop(rowSums(on_cuts))
  list(status = "converged", aliased = aliased, fitted = drop(parts$shares %*% values), slope = 1, carry = function(v) {
    u <- c(crossprod(on_cuts, v), crossprod(own, v * on_linear))
    length(y) * drop(scores %*% (bread %*% u))
  })
}

# list(shares: n x K, of each value; slopes: n x (K - 1), density at each cut).
ordered_parts <- function(theta, x, cuts) {
  linear <- drop(x %*% theta[-seq_len(cuts)])
  below <- stats::plogis(outer(-linear, theta[seq_len(cuts)], `+`))
  list(shares = cbind(below, 1) - cbind(0, below), slopes = below * (1 - below))
}

ordered_loglik <- function(theta, x, code, weight, cuts) {
  if (is.unsorted(theta[seq_len(cuts)], strictly = TRUE)) return(-Inf)
  shares <- ordered_parts(theta, x, cuts)$shares
  inside <- weight > 0
  sum(weight[inside] * log(shares[cbind(which(inside), code[inside])]))
}

# Derivatives of log P of each unit's own value in cuts and slopes, by weight; 0 for units that take no part.
ordered_scores <- function(parts, x, code, weight) {
  n <- length(code)
  cuts <- ncol(parts$slopes)
  inside <- which(weight > 0)
  at <- function(k) {
    out <- numeric(length(inside))
    known <- k >= 1L & k <= cuts
    out[known] <- parts$slopes[cbind(inside[known], k[known])]
    out
  }
  share <- parts$shares[cbind(inside, code[inside])]
  upper <- at(code[inside]) / share
  lower <- at(code[inside] - 1L) / share
  out <- matrix(0, n, cuts + ncol(x))
  has_upper <- code[inside] <= cuts
  out[cbind(inside[has_upper], code[inside][has_upper])] <- upper[has_upper]
  has_lower <- code[inside] > 1L
  place <- cbind(inside[has_lower], code[inside][has_lower] - 1L)
  out[place] <- out[place] - lower[has_lower]
  out[inside, cuts + seq_len(ncol(x))] <- -(upper - lower) * x[inside, , drop = FALSE]
  out * weight
}

# Expected information: the sum over values of derivatives of its share, squared, over the share.
ordered_information <- function(parts, x, weight) {
  cuts <- ncol(parts$slopes)
  inside <- weight > 0
  x <- x[inside, , drop = FALSE]
  total <- matrix(0, cuts + ncol(x), cuts + ncol(x))
  slopes <- cbind(0, parts$slopes[inside, , drop = FALSE], 0)
  for (k in seq_len(cuts + 1L)) {
    d <- matrix(0, nrow(x), cuts + ncol(x))
    if (k <= cuts) d[, k] <- slopes[, k + 1L]
    if (k > 1L) d[, k - 1L] <- d[, k - 1L] - slopes[, k]
    d[, cuts + seq_len(ncol(x))] <- -(slopes[, k + 1L] - slopes[, k]) * x
    total <- total + crossprod(d, weight[inside] / pmax(parts$shares[inside, k], 1e-12) * d)
  }
  total
}
