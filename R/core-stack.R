# Stacked scores (van der Laan, Polley & Hubbard 2007): METHODS, "Propensity score".

# Convex weights of the learners that minimise the log-loss of the mixture. Each learner's probability of what a unit
# did is a component density, so this is the likelihood of mixing proportions: sum s log(f a) - sum(s) sum(a) over a
# >= 0 has its maximum where sum(a) = 1, so only the bounds are left as constraints. probabilities: n x k within (0,
# 1).
core_stack_weights <- function(probabilities, z, s) {
  density <- z * probabilities + (1 - z) * (1 - probabilities)
  s <- s / sum(s)
  k <- ncol(density)
  objective <- function(a) sum(a) - sum(s * log(pmax(drop(density %*% a), 1e-300)))
  gradient <- function(a) 1 - drop(crossprod(density, s / pmax(drop(density %*% a), 1e-300)))
  hessian <- function(a) crossprod(density * sqrt(s) / pmax(drop(density %*% a), 1e-300))
  found <- stats::nlminb(rep(1 / k, k), objective, gradient, hessian, lower = 0,
                         control = list(iter.max = 500, eval.max = 1000, rel.tol = 1e-14, x.tol = 1e-12))
  weight <- ifelse(found$par < 1e-8, 0, found$par)
  stats::setNames(weight / sum(weight), colnames(probabilities))
}

core_log_loss <- function(p, z, s) -sum(s * ifelse(z == 1, log(p), log1p(-p))) / sum(s)

# Weighted share of treated-control pairs in which the treated unit has the higher score, ties counted half.
core_auc <- function(e, z, s) {
  places <- order(e, method = "radix")
  value <- e[places]
  treated <- s[places] * (z[places] == 1L)
  control <- s[places] * (z[places] == 0L)
  tie <- cumsum(c(TRUE, diff(value) > 0))
  treated <- rowsum(treated, tie)[, 1L]
  control <- rowsum(control, tie)[, 1L]
  sum(treated * (cumsum(control) - control / 2)) / (sum(treated) * sum(control))
}
