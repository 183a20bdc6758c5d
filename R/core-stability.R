# Methods, "Sensitivity", coefficient stability (Oster 2019). What is observed: the coefficient and R2 without
# covariates (short) and with them (long); variances of the outcome, of the treatment, and of the treatment's residual
# given the covariates. delta: how strongly the unobserved select into treatment, relative to the observed; r_max: R2 if
# all were observed.

core_stability_facts <- function(fit) {
  size <- fit$n
  last <- ncol(fit$gram)
  own <- seq_along(fit$kept) + 1L
  z <- fit$gram[1L, 1L]
  y <- fit$gram[last, last]
  short <- fit$gram[1L, last] / z
  rss <- core_residual_gram(fit$gram, last, c(1L, own))[1L]
  c(short = short, short_r2 = short^2 * z / y, long = fit$estimate, long_r2 = 1 - rss / y, var_outcome = y / size,
    var_treatment = z / size, var_left = core_residual_gram(fit$gram, 1L, own)[1L] / size)
}

# The terms of Proposition 2: with nu = long - beta, delta times `by_delta` equals `own`, both polynomials in nu (from
# the constant up).
core_stability_terms <- function(facts, r_max) {
  gap <- facts[["short"]] - facts[["long"]]
  tx <- facts[["var_left"]]
  sx <- facts[["var_treatment"]]
  sy <- facts[["var_outcome"]]
  more <- (r_max - facts[["long_r2"]]) * sy
  list(
    by_delta = c(more * gap * sx, more * (sx - tx), tx * gap * sx, tx * (sx - tx)),
    own = c(0, (facts[["long_r2"]] - facts[["short_r2"]]) * sy * tx + sx * tx * gap^2, 2 * tx * gap * sx,
            tx * (sx - tx))
  )
}

# The delta that makes the effect beta.
core_stability_delta <- function(facts, r_max, beta) {
  terms <- core_stability_terms(facts, r_max)
  powers <- (facts[["long"]] - beta)^(0:3)
  sum(terms$own * powers) / sum(terms$by_delta * powers)
}

# All effects that go with a delta: real roots of a cubic, a quadratic at delta 1. The first is the one to take: of
# those whose bias goes the way the covariates moved the coefficient, which selection of the same sign implies, the
# nearest to the long coefficient (Oster 2019, section 3.2).
core_stability_effects <- function(facts, r_max, delta) {
  terms <- core_stability_terms(facts, r_max)
  coefficients <- delta * terms$by_delta - terms$own
  size <- max(abs(coefficients))
  while (length(coefficients) > 1L && abs(coefficients[length(coefficients)]) < 1e-12 * size) {
    coefficients <- coefficients[-length(coefficients)]
  }
  roots <- polyroot(coefficients)
  nu <- Re(roots[abs(Im(roots)) < 1e-6 * (abs(Re(roots)) + 1e-6)])
  beta <- facts[["long"]] - nu
  same_way <- sign(nu) == sign(delta) * sign(facts[["short"]] - facts[["long"]])
  beta[order(!same_way, abs(nu))]
}
