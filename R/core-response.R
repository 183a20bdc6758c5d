# Effects along a dose (Methods, "Dose"). d: n doses; x: n x p covariates without intercept; s: n sampling weights, 0
# for units that take no part. Weights w are nuisances of core-nuisance.R.

# The conditional density of the dose about a regression on x. shape: "normal", "kernel" (of the residuals), or "share"
# for a dose of two values (a logit). Returns list(fit, mean, sd, shape, weight: f(d) / f(d given x), nuisance).
core_dose_score <- function(x, d, s, shape) {
  if (shape == "share") return(core_dose_share(x, d, s))
  fit <- core_fit(x, d, s, "gaussian")
  if (fit$status != "converged") return(list(fit = fit))
  away <- d - fit$fitted
  sd <- sqrt(sum(s * away^2) / sum(s))
  found <- list(fit = fit, mean = fit$fitted, sd = sd, shape = shape)
  regression <- core_regression_nuisance(x, fit$covariance, s * away)
  made <- if (shape == "normal") core_normal_dose_weight(d, away, sd, s, regression) else
    core_kernel_dose_weight(d, away, s, regression)
  c(found, made)
}

# w = N(d; m, v) / N(d; mean_i, sd^2), every parameter estimated.
core_normal_dose_weight <- function(d, away, sd, s, regression) {
  total <- sum(s)
  centre <- sum(s * d) / total
  spread <- sum(s * (d - centre)^2) / total
  weight <- exp(stats::dnorm(d, centre, sqrt(spread), log = TRUE) - stats::dnorm(away, 0, sd, log = TRUE))
  n <- length(d)
  part <- function(slope, psi) {  # slope: d log w / d parameter
    list(gradient = function(v) sum(v * weight * slope), influence = function(u) u * n * s * psi / total)
  }
  nuisance <- core_joined(list(
    core_scaled(regression, -weight * away / sd^2),
    part(1 / (2 * sd^2) - away^2 / (2 * sd^4), away^2 - sd^2),
    part((d - centre) / spread, d - centre),
    part((d - centre)^2 / (2 * spread^2) - 1 / (2 * spread), (d - centre)^2 - spread)
  ))
  list(weight = weight, nuisance = nuisance)
}

# The same with kernel densities of the residuals and of the dose, whose shapes are taken as given.
core_kernel_dose_weight <- function(d, away, s, regression) {
  own <- core_kernel_density(away, s)
  weight <- core_kernel_density(d, s)$at(d) / own$at(away)
  list(weight = weight, nuisance = core_scaled(regression, weight * own$slope(away)))
}

# list(at: density there; slope: its derivative over it), between the points of a fine grid. A kernel adds its own
# variance to that of the points, more of it where they spread less, which would pull weights towards 1: the points are
# drawn in so that the smoothed density keeps their variance (Silverman & Young 1987).
core_kernel_density <- function(x, s) {
  share <- s / sum(s)
  centre <- sum(share * x)
  width <- stats::bw.nrd0(x[s > 0])
  drawn_in <- 1 / sqrt(1 + width^2 / sum(share * (x - centre)^2))
  points <- centre + drawn_in * (x - centre)[s > 0]
  found <- stats::density(points, bw = drawn_in * width, weights = share[s > 0], n = 1024L, cut = 4)
  floor <- 1e-4 * max(found$y)  # beyond all others a unit's own kernel alone says something
  y <- pmax(found$y, floor)
  step <- found$x[2L] - found$x[1L]
  list(at = function(at) stats::approx(found$x, y, at, rule = 2L)$y,
       slope = function(at) {
         (stats::approx(found$x, log(y), at + step, rule = 2L)$y -
            stats::approx(found$x, log(y), at - step, rule = 2L)$y) / (2 * step)
       })
}

# A dose of two values: the share of each over its chance.
core_dose_share <- function(x, d, s) {
  z <- as.integer(d == max(d))
  fit <- core_fit(x, as.double(z), s, "logit")
  if (fit$status != "converged") return(list(fit = fit))
  share <- core_share_nuisance(z, s)
  own <- ifelse(z == 1L, fit$fitted, 1 - fit$fitted)
  regression <- core_regression_nuisance(x, fit$covariance, s * (z - fit$fitted))
  slope <- share$share * ifelse(z == 1L, -1, 1) / own^2 * fit$fitted * (1 - fit$fitted)
  list(fit = fit, mean = min(d) + fit$fitted * diff(range(d)), sd = NA_real_, shape = "share",
       weight = share$share / own,
       nuisance = core_joined(list(core_scaled(regression, slope), core_scaled(share, 1 / own))))
}

# Weights as close to s as can be (Kullback-Leibler) that leave no covariance of the dose with the moments (n x p,
# centred) and keep the means of both (Vegetabile et al. 2021). The kernel of entropy weights aims at means; the rows
# aimed at are the units' own, their products with the dose put to 0. keep: n x k, more whose means stay.
core_dose_balance <- function(moments, d, s, keep = NULL) {
  n <- length(d)
  own <- cbind(moments, keep, moments * d)
  aim <- cbind(moments, keep, 0 * moments)
  x <- rbind(own, aim)
  arm <- rep(c(1, 0), each = n)
  both <- c(s, s)
  fit <- core_balance_arm(x, both, arm, 1 - arm)
  left <- abs(colSums(s * fit$weight[seq_len(n)] * own)) / sum(s)
  if (fit$status == "converged" && any(left > 1e-6)) fit$status <- "infeasible"  # as a level of one unit can't be met
  if (fit$status != "converged") return(list(fit = fit))
  nuisance <- core_entropy_nuisance(x, both, arm, 1 - arm, fit)
  first <- seq_len(n)
  list(fit = fit, weight = fit$weight[first], nuisance = list(
    gradient = function(v) nuisance$gradient(c(v, numeric(n))),
    influence = function(u) {
      both <- nuisance$influence(u)
      (both[first] + both[n + first]) / 2
    }
  ))
}

# Weighted correlations of the dose with every column.
core_dose_correlations <- function(columns, d, v) {
  total <- sum(v)
  centred <- function(x) x - sum(v * x) / total
  dose <- centred(d)
  vapply(columns, function(x) {
    own <- centred(x)
    size <- sqrt(sum(v * own^2) * sum(v * dose^2))
    if (size <= 1e-12 * total) NA_real_ else sum(v * own * dose) / size
  }, 0, USE.NAMES = FALSE)
}

# A weighted regression of y on a basis, read at G places. basis: n x k; at: G x k; v: n weights (s w); carry: what the
# estimation of w adds, see core_carry(), of derivatives in w. s: n. Where few heavy units tell of a dose the fit
# follows them: residuals count over 1 - leverage (MacKinnon & White 1985, the third of their forms). Returns
# list(estimate: G; influence: n x G; share: n x G, what each unit's y counts).
core_curve_at <- function(y, basis, at, v, s, carry) {
  if (nrow(at) > ncol(basis)) {  # fewer coefficients than places: each place is a sum of them
    own <- core_curve_at(y, basis, diag(ncol(basis)), v, s, carry)
    return(list(estimate = drop(at %*% own$estimate), influence = own$influence %*% t(at), share = own$share %*% t(at)))
  }
  n <- length(y)
  solved <- core_solve_scatter(crossprod(basis, v * basis))
  hat <- basis %*% (solved$inverse %*% t(at))
  left <- y - drop(basis %*% (solved$inverse %*% crossprod(basis, v * y)))
  leverage <- pmin(v * rowSums((basis %*% solved$inverse) * basis), 0.9)
  influence <- n * v * left / (1 - leverage) * hat
  for (g in seq_len(ncol(hat))) influence[, g] <- influence[, g] + carry(s * left * hat[, g])
  list(estimate = drop(crossprod(hat, v * y)), influence = influence, share = v * hat)
}

# Local lines: at each place its own regression on the distance from it, by a normal kernel.
core_local_curve <- function(y, d, places, width, v, s, carry) {
  parts <- lapply(places, function(place) {
    kernel <- stats::dnorm((d - place) / width)
    core_curve_at(y, cbind(1, d - place), cbind(1, 0), v * kernel, s * kernel, carry)
  })
  together <- function(field) do.call(cbind, lapply(parts, `[[`, field))
  list(estimate = vapply(parts, `[[`, 0, "estimate"), influence = together("influence"), share = together("share"))
}

# The width of those kernels by leave-one-out error, from sums in 200 bins of the dose.
core_local_width <- function(y, d, v) {
  used <- v > 0
  ends <- range(d[used])
  if (diff(ends) == 0) return(1)
  bin <- pmin(200L, 1L + as.integer(200 * (d[used] - ends[1L]) / diff(ends)))
  sums <- rowsum(cbind(v, v * y, v * y^2, v^2, 1)[used, , drop = FALSE], bin)
  centre <- ends[1L] + (as.numeric(rownames(sums)) - 0.5) * diff(ends) / 200
  spread <- sqrt(core_variance_of(sum(v), sum(v^2), sum(v * d), sum(v * d^2)))
  widths <- spread * sum(used)^(-1 / 5) * c(0.4, 0.6, 0.9, 1.3, 2, 3, 5)
  errors <- vapply(widths, function(width) {
    fitted <- vapply(seq_along(centre), function(k) {
      near <- stats::dnorm((centre - centre[k]) / width)
      away <- centre - centre[k]
      a <- c(sum(near * sums[, 1L]), sum(near * sums[, 1L] * away), sum(near * sums[, 1L] * away^2))
      det <- a[1L] * a[3L] - a[2L]^2
      if (det <= 1e-10 * a[1L] * a[3L]) return(c(sum(near * sums[, 2L]) / a[1L], stats::dnorm(0) / a[1L]))
      own <- near * (a[3L] - a[2L] * away) / det
      c(sum(own * sums[, 2L]), stats::dnorm(0) * a[3L] / det)
    }, numeric(2L))
    leverage <- pmin(fitted[2L, ] * sums[, 4L] / sums[, 1L], 0.99)
    sum((sums[, 3L] - 2 * fitted[1L, ] * sums[, 2L] + fitted[1L, ]^2 * sums[, 1L]) / (1 - leverage)^2)
  }, 0)
  widths[which.min(errors)]
}

# A model of the outcome in dose and covariates: list(status, fitted, mean: G, over all units were each given the dose;
# carry: function(on_fitted: n or NULL, on_mean: G) giving what its estimation adds to an estimate with these
# derivatives; own: n x G, each unit's prediction there). design: function(d) giving the model's matrix.
core_dose_model <- function(y, d, s, places, design, family) {
  z <- design(d)
  known <- s > 0
  fit <- core_fit(z, ifelse(known, y, 0), s, family)
  if (fit$status != "converged") return(list(status = fit$status))
  link <- core_family_link(family)
  residual <- s * core_link_residual(fit$linear, fit$fitted, ifelse(known, y, 0), link)
  nuisance <- core_regression_nuisance(z, fit$covariance, residual)
  coefficients <- fit$coefficients
  coefficients[1L + fit$aliased] <- 0
  own <- matrix(0, length(d), length(places))
  pull <- matrix(0, ncol(z) + 1L, length(places))
  for (g in seq_along(places)) {
    there <- design(rep(places[g], length(d)))
    linear <- coefficients[1L] + drop(there %*% coefficients[-1L])
    own[, g] <- core_link_mean(linear, link)
    slope <- s * core_link_slope(linear, own[, g], link) / sum(s)
    pull[, g] <- c(sum(slope), crossprod(there, slope))
  }
  on_units <- core_scaled(nuisance, core_link_slope(fit$linear, fit$fitted, link))
  list(status = "converged", fitted = fit$fitted, own = own, mean = drop(crossprod(own, s)) / sum(s),
       aliased = fit$aliased,
       carry = function(v, g) nuisance$influence(drop(on_units$gradient(v)) + pull[, g]))
}

# The curve at all places: the model's mean there, and the weighted curve of what it leaves (Kennedy, Ma, McHugh & Small
# 2017, with the weights of the units in the denominator). smooth: function(y, v, carry) giving core_curve_at(); model:
# core_dose_model(), NULL for the weighted curve alone.
core_response_curve <- function(y, s, weight, nuisance, smooth, model = NULL) {
  carry <- if (is.null(nuisance)) function(v) 0 else core_carry(nuisance)
  if (is.null(model)) return(smooth(y, s * weight, carry)[c("estimate", "influence")])
  left <- smooth(y - model$fitted, s * weight, carry)
  influence <- left$influence + length(y) * s / sum(s) * sweep(model$own, 2L, model$mean)
  for (g in seq_along(model$mean)) influence[, g] <- influence[, g] + model$carry(-left$share[, g], g)
  list(estimate = left$estimate + model$mean, influence = influence)
}

# The mean slope of a curve over the units' doses: between places it is a line, and each stretch counts by the share of
# units in it. list(weights: G, of the curve's values; influence: n, of the shares).
core_mean_slope <- function(estimate, places, d, s) {
  stretch <- findInterval(d, places, rightmost.closed = TRUE, all.inside = TRUE)
  slope <- diff(estimate) / diff(places)
  share <- core_sums_by(s, stretch, length(slope)) / sum(s)
  weights <- numeric(length(places))
  at <- seq_along(slope)
  weights[at] <- -share / diff(places)
  weights[at + 1L] <- weights[at + 1L] + share / diff(places)
  list(weights = weights, influence = length(d) * s / sum(s) * (slope[stretch] - sum(share * slope)))
}

# How many units tell of each place: effective number, by weight, of those within reach of it.
core_units_near <- function(d, v, places, reach) {
  vapply(places, function(place) {
    own <- v[abs(d - place) <= reach]
    if (sum(own) == 0) 0 else core_effective_size_of(sum(own), sum(own^2))
  }, 0)
}

# Do means b with covariance V differ at all? How far they lie about their own mean, Q = b'T b / tr(TV), T = I - 11' /
# k, against what their contributions make of nothing: F(f1, f1 (G - 1)), G the effective number of contributions (of
# core_path_lengths()), f1 = tr(TV)^2 over the sum of squared off-diagonal entries of C T C' / (1 - 1 / G), C the
# contributions, held in [1, k - 1]. Without an inverse of V, which few heavy units make too small in some direction.
core_flat_test <- function(estimate, vcov, number) {
  k <- length(estimate)
  nothing <- c(statistic = NA_real_, df = k - 1, df2 = NA_real_, p.value = NA_real_)
  if (k < 2L || anyNA(vcov) || !isTRUE(number > 1)) return(nothing)
  turned <- vcov - rep(colMeans(vcov), each = k)
  trace <- sum(diag(turned))
  if (!(trace > 0)) return(nothing)
  spread <- (sum(turned * t(turned)) - trace^2 / number) / (1 - 1 / number)
  df1 <- if (spread > 0) min(max(trace^2 / spread, 1), k - 1) else k - 1
  df2 <- df1 * (number - 1)
  statistic <- sum((estimate - mean(estimate))^2) / trace
  c(statistic = statistic, df = df1, df2 = df2, p.value = stats::pf(statistic, df1, df2, lower.tail = FALSE))
}

# c'T c of each row of contributions.
core_path_lengths <- function(contributions) rowSums((contributions - rowMeans(contributions))^2)

# Limits of a band at doses whose estimates rest on few contributions. critical: of the largest |t| with df degrees of
# freedom; number: effective numbers of contributions by dose. Each dose has the quantile of the same tail with its own
# degrees of freedom (Satterthwaite 1946), but at least 4: fewer are not told apart.
core_dose_quantile <- function(critical, df, number) {
  tail <- 2 * stats::pt(-critical, df)
  core_t_quantile(1 - tail, pmin(df, pmax(number - 1, 4)))
}
