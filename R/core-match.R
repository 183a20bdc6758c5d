# Matching with replacement: Methods, "Standard errors" (Abadie & Imbens 2006, 2011, 2016).

# Both means and their covariance from a table of matches. set: code from 1 per match, each set being one seeker's;
# seeker, partner: units (1..n) of each match; seeks: is the seeker treated?; share: s of the unit times the match's
# weight, for seeker and partner; seeker_y, partner_y: outcomes of each match (bias-corrected ones where asked); spread:
# n, conditional variance of the outcome given the covariates. With v the shares scaled to sum 1 by arm,
#   V = sum over sets of u u', u = the set's sums of v (y - mean) by arm,
#     + by arm sum over units of ((sum v)^2 - sum over its sets of (sum v in the set)^2) s2.
# Without sampling weights this is Methods' formula for the ATT and the ATE.
core_match_means <- function(set, seeker, partner, seeks, seeker_share, partner_share, seeker_y, partner_y, spread) {
  arm_total <- function(treated) {
    sum(seeker_share[seeks == treated]) + sum(partner_share[seeks != treated])
  }
  total <- c(arm_total(TRUE), arm_total(FALSE))
  own <- seeker_share / ifelse(seeks, total[1L], total[2L])
  other <- partner_share / ifelse(seeks, total[2L], total[1L])
  mean_of <- function(treated) sum((own * seeker_y)[seeks == treated]) + sum((other * partner_y)[seeks != treated])
  means <- c(mean_treated = mean_of(TRUE), mean_control = mean_of(FALSE))
  away <- function(v, y, treated) v * (y - ifelse(treated, means[[1L]], means[[2L]]))
  own_away <- away(own, seeker_y, seeks)
  other_away <- away(other, partner_y, !seeks)
  u <- rowsum(cbind(ifelse(seeks, own_away, other_away), ifelse(seeks, other_away, own_away)), set)
  noise <- core_reuse_variance(set, seeker, partner, seeks, own, other, spread)
  list(means = means, vcov = crossprod(u) + diag(noise$extra), noise = noise$whole, own = own, other = other)
}

# By arm: extra, the last sum above; whole, sum over units of (sum v)^2 s2, which is the variance with covariates held.
core_reuse_variance <- function(set, seeker, partner, seeks, own, other, spread) {
  n <- length(spread)
  first <- !duplicated(set)
  own_set <- drop(rowsum(own, set))[as.character(set[first])]  # a seeker's share is spread over its matches
  unit <- c(seeker[first], partner)
  whole <- core_sums_by(c(own_set, other), unit, n)
  squares <- core_sums_by(c(own_set, other)^2, unit, n)
  treated <- logical(n)
  treated[c(seeker[seeks], partner[!seeks])] <- TRUE
  by_arm <- function(values) c(sum(values[treated]), sum(values[!treated]))
  list(extra = by_arm((whole^2 - squares) * spread), whole = by_arm(whole^2 * spread))
}

# s2_i = J / (J + 1) (y_i - mean of its J nearest in the same arm)^2. lists: see core_nearest(), seekers being the
# units of one arm in the order of y. Units without a neighbour get NA.
core_conditional_variance <- function(y, lists) {
  count <- diff(lists$start)
  total <- core_sums_by(y[lists$row], rep(seq_along(y), count), length(y))
  mean <- ifelse(count > 0, total / count, NA)
  count / (count + 1) * (y - mean)^2
}

# Covariance of y and the columns of x among two units: Abadie & Imbens (2016), L = 2. first, second: rows.
core_local_covariance <- function(x, y, first, second) {
  (x[first, , drop = FALSE] - x[second, , drop = FALSE]) * (y[first] - y[second]) / 2
}

# What the estimation of the score takes from the variance of a matching estimator (Abadie & Imbens 2016, theorems 1
# and 2), as a 2 x 2 matrix for the two means: c' cov c for the ATE; c' cov c - d' cov d for the ATT (and, arms
# exchanged, the ATC). x: n x (p + 1) with a first column of 1; e, slope: score and its derivative in the linear score;
# covariance: of the score's coefficients; local: for treated and control, lists of mean (n, local mean of y in that
# arm) and cov (n x (p + 1)); gap: n, treated minus control outcome with the missing one taken from the unit nearest in
# the covariates; effect: the estimate.
core_score_adjustment <- function(x, z, e, slope, covariance, local, gap, effect, estimand) {
  if (population_of(estimand) == "everybody") {
    parts <- cbind(colMeans(local$treated$cov / e * slope), -colMeans(local$control$cov / (1 - e) * slope))
    return(crossprod(parts, covariance %*% parts))
  }
  form <- function(v) drop(crossprod(v, covariance %*% v))
  treated_ask <- seeking_arms(estimand) == 1L
  seek <- if (treated_ask) e else 1 - e
  count <- sum(z == treated_ask)
  side <- if (treated_ask) 1 else -1  # the chance to be among the seekers of the ATC falls where e rises
  own <- if (treated_ask) local$treated else local$control
  other <- if (treated_ask) local$control else local$treated
  contrast <- local$treated$mean - local$control$mean - effect
  c_vector <- colSums(x * slope * side * contrast) / count +
    colSums((own$cov + seek / (1 - seek) * other$cov) * slope) / count
  d_vector <- colSums(x * slope * side * (gap - effect)) / count
  sought <- c(!treated_ask, treated_ask)  # the mean that matching supplies
  diag(sought * (form(c_vector) - form(d_vector)))
}
