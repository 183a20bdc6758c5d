# Heteroskedastic probit: P(z = 1) = Phi(u), u = x'b exp(-v'g); Methods, "Propensity score". The likelihood is not
# concave in (b, g) together, so steps use minus the second derivatives where those are positive definite and Fisher's
# expected information elsewhere, with halving.

# x: n x p without intercept (one is added); v: n x q; z: 0/1 doubles; s: n or NULL. Returns the fields of core_fit()
# and `scale`, the n values of exp(-v'g).
core_fit_heteroskedastic <- function(x, v, z, s) {
  start <- core_fit(x, z, s, "probit")
  if (start$status != "converged") return(c(start, list(scale = NULL)))
  weight <- if (is.null(s)) rep(1, length(z)) else s
  free <- setdiff(seq_len(ncol(x)), start$aliased)
  centre <- c(colMeans(x)[free], colMeans(v))
  spread <- c(apply(x[, free, drop = FALSE], 2L, stats::sd), apply(v, 2L, stats::sd))
  p <- length(free)
  standard <- list(
    x = cbind(1, sweep(sweep(x[, free, drop = FALSE], 2L, centre[seq_len(p)]), 2L, spread[seq_len(p)], "/")),
    v = sweep(sweep(v, 2L, centre[p + seq_len(ncol(v))]), 2L, spread[p + seq_len(ncol(v))], "/"), z = z, s = weight
  )
  beta <- start$coefficients[c(1L, free + 1L)]
  beta <- c(beta[1L] + sum(beta[-1L] * centre[seq_len(p)]), beta[-1L] * spread[seq_len(p)])
  found <- heteroskedastic_climb(c(beta, numeric(ncol(v))), standard)

  g <- found$theta[-seq_len(p + 1L)] / spread[p + seq_len(ncol(v))]
  b <- found$theta[seq_len(p + 1L)]
  b[-1L] <- b[-1L] / spread[seq_len(p)]
  b[1L] <- b[1L] - sum(b[-1L] * centre[seq_len(p)])
  b <- b * exp(sum(g * centre[p + seq_len(ncol(v))]))  # v was centred: undo it in the scale of b
  raw <- list(x = cbind(1, x[, free, drop = FALSE]), v = v, z = z, s = weight)
  at <- heteroskedastic_at(c(b, g), raw)
  active <- c(1L, free + 1L, ncol(x) + 1L + seq_len(ncol(v)))
  size <- ncol(x) + 1L + ncol(v)
  covariance <- matrix(0, size, size)
  covariance[active, active] <- scaled_inverse(at$information)
  coefficients <- replace(numeric(size), active, c(b, g))
  list(status = found$status, iterations = found$iterations, loglik = at$loglik, coefficients = coefficients,
       covariance = covariance, linear = at$u, fitted = stats::pnorm(at$u), aliased = start$aliased,
       direction = start$direction, scale = at$scale)
}

# Log-likelihood, gradient and both informations at theta = (b, g).
heteroskedastic_at <- function(theta, data, derivatives = TRUE) {
  k <- ncol(data$x)
  scale <- exp(-drop(data$v %*% theta[-seq_len(k)]))
  u <- drop(data$x %*% theta[seq_len(k)]) * scale
  side <- 2 * data$z - 1
  log_share <- stats::pnorm(side * u, log.p = TRUE)
  out <- list(loglik = sum(data$s * log_share), u = u, scale = scale)
  if (!derivatives || !is.finite(out$loglik)) return(out)
  mills <- exp(stats::dnorm(u, log = TRUE) - log_share)
  residual <- data$s * side * mills
  slopes <- cbind(data$x * scale, -data$v * u)
  mixed <- crossprod(data$x * (residual * scale), data$v)
  second <- rbind(cbind(matrix(0, k, k), mixed), cbind(t(mixed), -crossprod(data$v * (residual * u), data$v)))
  expected <- exp(2 * stats::dnorm(u, log = TRUE) - stats::pnorm(u, log.p = TRUE) - stats::pnorm(-u, log.p = TRUE))
  c(out, list(
    gradient = drop(crossprod(slopes, residual)),
    information = crossprod(slopes * (data$s * mills * (mills + side * u)), slopes) + second,
    expected = crossprod(slopes * (data$s * expected), slopes)
  ))
}

heteroskedastic_climb <- function(theta, data) {
  at <- heteroskedastic_at(theta, data)
  for (iteration in 1:200) {
    step <- heteroskedastic_step(theta, at, data)
    if (is.null(step)) break
    theta <- theta + step
    at <- heteroskedastic_at(theta, data)
    if (is.null(at$gradient) || max(abs(theta)) > 1e4) break
    if (max(abs(step)) <= 1e-9) return(list(status = "converged", theta = theta, iterations = iteration))
  }
  list(status = "not_converged", theta = theta, iterations = iteration)
}

# NULL when neither information is positive definite.
heteroskedastic_step <- function(theta, at, data) {
  factor <- tryCatch(chol(at$information), error = function(e) NULL)
  if (is.null(factor)) factor <- tryCatch(chol(at$expected), error = function(e) NULL)
  if (is.null(factor)) return(NULL)
  step <- backsolve(factor, forwardsolve(t(factor), at$gradient))
  for (halving in 0:30) {
    trial <- heteroskedastic_at(theta + step, data, derivatives = FALSE)
    if (is.finite(trial$loglik) && trial$loglik >= at$loglik - 1e-10 * (1 + abs(at$loglik))) break
    step <- step / 2
  }
  step
}

scaled_inverse <- function(information) {
  size <- sqrt(abs(diag(information)))
  tryCatch(solve(information / outer(size, size)) / outer(size, size), error = function(e) information * NA)
}

# q = u. residual: score residual d log-likelihood / du times s.
core_heteroskedastic_nuisance <- function(x, v, u, scale, covariance, residual) {
  list(
    gradient = function(d) c(sum(d * scale), crossprod(x, d * scale), -crossprod(v, d * u)),
    influence = function(a) {
      direction <- drop(covariance %*% a)
      p <- ncol(x)
      along <- scale * (direction[1L] + drop(x %*% direction[1L + seq_len(p)])) -
        u * drop(v %*% direction[-seq_len(p + 1L)])
      length(residual) * residual * along
    }
  )
}
