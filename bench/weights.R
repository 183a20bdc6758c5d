# Weights at real sizes against the plain-R way, in one run. Processor seconds (elapsed for the folds in parallel).
suppressMessages(library(carefultwin))
cpu <- function(expr) sum(system.time(expr)[c("user.self", "sys.self")])

# Correlated columns as economists have them: numbers, skewed amounts, yes/no.
mixed_columns <- function(n, p) {
  common <- rnorm(n)
  vapply(seq_len(p), function(j) {
    u <- 0.55 * common + sqrt(1 - 0.55^2) * rnorm(n)
    if (j %% 4 == 0) as.double(u > 0.3) else if (j %% 4 == 1) exp(0.7 * u) else u
  }, numeric(n))
}

# Entropy balancing: the kernel against optim(BFGS) with gradient on the same dual, both from the raw columns to weights
# whose standardized gaps are below 1e-7 (ours below 1e-8). Plain R takes the controls out, centres and scales them once.
entropy <- function(n, p) {
  x <- mixed_columns(n, p)
  z <- as.double(runif(n) < stats::plogis(drop(scale(x) %*% rnorm(p, sd = 0.15)) - 0.5))
  s <- rep(1, n)
  ours <- vapply(1:5, function(i) cpu(fit <<- carefultwin:::core_balance_arm(x, s, 1 - z, z)), 0)
  preparing <- cpu({
    away <- sweep(x[z == 0, ], 2, colMeans(x[z == 1, ]))
    away <- sweep(away, 2, sqrt(colMeans(away^2)), "/")
  })
  solving <- cpu(found <- stats::optim(numeric(p), function(b) log(sum(exp(away %*% b))), function(b) {
    w <- exp(away %*% b)
    drop(crossprod(away, w)) / sum(w)
  }, method = "BFGS", control = list(maxit = 500, reltol = 1e-14)))
  w <- exp(drop(away %*% found$par))
  own <- abs(carefultwin:::core_moment_gaps(x, s, 1 - z, fit)) / apply(x, 2, sd)
  cat(sprintf("entropy %g x %d: plain R %.2f s (%.2f to prepare, %.2f in optim; gap %.0e), ours %.2f s (gap %.0e)\n", n, p,
              preparing + solving, preparing, solving, max(abs(crossprod(away, w)) / sum(w)), stats::median(ours),
              max(own)))
  cat(sprintf("  ratio %.1f (at least 6 wanted); to optim alone %.1f\n", (preparing + solving) / stats::median(ours),
              solving / stats::median(ours)))
}

# 1,000 bootstrap draws of inverse weighting, the score fitted again each time from the last fit; glm.fit is timed on 10.
bootstrap <- function(n, p, draws = 1000, timed = 10) {
  x <- matrix(rnorm(n * p), n)
  z <- as.double(runif(n) < stats::plogis(drop(x %*% rnorm(p, sd = 0.25))))
  y <- drop(x %*% rnorm(p)) + z + rnorm(n)
  first <- carefultwin:::core_fit(x, z, NULL, "logit")
  outcome <- cbind(y)
  ours <- cpu(fast <- vapply(seq_len(draws), function(draw) {
    means <- carefultwin:::core_redraw_weighted(x, z, outcome, carefultwin:::core_draw_counts(n, draw), "ATE", first)
    means[1L] - means[2L]
  }, 0))
  design <- cbind(1, x)
  plain <- cpu(slow <- vapply(seq_len(timed), function(draw) {
    rows <- rep(seq_len(n), carefultwin:::core_draw_counts(n, draw))
    e <- stats::glm.fit(design[rows, ], z[rows], family = stats::binomial())$fitted.values
    w <- ifelse(z[rows] == 1, 1 / e, 1 / (1 - e))
    weighted.mean(y[rows][z[rows] == 1], w[z[rows] == 1]) - weighted.mean(y[rows][z[rows] == 0], w[z[rows] == 0])
  }, 0)) * draws / timed
  cat(sprintf("%d draws at %g x %d: glm.fit %.0f s (from %d), ours %.1f s, ratio %.1f (at least 20 wanted), gap %.0e\n", draws,
              n, p, plain, timed, ours, plain / ours, max(abs(fast[seq_len(timed)] - slow))))
}

# Ten folds of four learners, one worker against two.
folds <- function(n) {
  units <- suppressMessages(simulate_units(n, seed = 1))
  study <- frame_study(units, "treated", "outcome", c("x1", "x2", "b1", "f1"))
  elapsed <- function() system.time(score_units(study, learners = c("logit", "forest", "boosted", "splines"), folds = 10))[[3]]
  one <- elapsed()
  future::plan(future::multisession, workers = 2)
  two <- elapsed()
  future::plan(future::sequential)
  cat(sprintf("10 folds of 4 learners at %g: one worker %.1f s, two %.1f s, ratio %.2f\n", n, one, two, one / two))
}

set.seed(1)
for (run in 1:2) entropy(1e6, 20)
bootstrap(1e5, 10)
folds(5000)
