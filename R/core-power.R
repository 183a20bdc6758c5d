# What a design can detect before its outcome is opened.

# Effects found with the given power by a two-sided test: how many standard errors from 0, t with df degrees of freedom.
core_detectable_factor <- function(power, level, df) {
  if (!is.finite(df)) return(stats::qnorm(1 - (1 - level) / 2) + stats::qnorm(power))
  critical <- core_t_quantile(level, df)
  vapply(power, function(p) {
    short <- function(far) stats::pt(critical, df, ncp = far, lower.tail = FALSE) - p
    stats::uniroot(short, c(0, critical + 40), tol = 1e-10)$root
  }, 0)
}

# Standard error of a difference of weighted means with one standard deviation per unit. intraclass: correlation within
# clusters. Units of a cluster in the same arm then add up, those of both arms cancel. pairing: correlation of both
# units of a pair, which takes its share of the variance away. own: the sum of the squared shares of weight, those of
# control units negative; common: of the squared sums of these by cluster.
core_planned_se_of <- function(sd, own, common, intraclass = 0, pairing = 0) {
  sd * sqrt((1 - pairing) * ((1 - intraclass) * own + intraclass * common))
}

# These two. v: weights, z: arms, cluster: codes or NULL.
core_planned_sums <- function(v, z, cluster = NULL) {
  weight <- ifelse(z == 1L, v / sum(v[z == 1L]), -v / sum(v[z == 0L]))
  list(own = sum(weight^2), common = if (is.null(cluster)) 0 else sum(rowsum(weight, cluster)^2))
}

# From sums: intraclass correlation by analysis of variance, cut at 0 (Donner 1986). total: of core_group_totals().
core_intraclass <- function(total) {
  size <- total[, "n"]
  n <- sum(size)
  groups <- length(size)
  if (groups < 2L || n <= groups) return(0)
  explained <- sum(total[, "sum"]^2 / size)
  between <- explained / (groups - 1)
  within <- (sum(total[, "square"]) - explained) / (n - groups)
  usual <- (n - sum(size^2) / n) / (groups - 1)
  max(0, (between - within) / (between + (usual - 1) * within))
}

# Design sensitivity (Rosenbaum 2004): as pairs grow without end, the gamma below which a true effect without hidden
# bias is found and above which it is not. Pair differences normal, mean over sd `effect`: the signed-rank test weighs
# pairs by how likely the sum of two differences is positive.
core_pairs_sensitivity <- function(effect) {
  chance <- stats::pnorm(sqrt(2) * effect)
  chance / (1 - chance)
}

# The same for weights: the lambda at which the worst weighted means of two normal arms, `effect` sd apart, meet. The
# share `moving` of each arm's weight moves (1: all of it). The highest mean of a standard normal whose weight lies
# between 1 / lambda and lambda solves mean = E (x - mean) t = 0 with t = lambda above the mean, 1 / lambda below.
core_weights_sensitivity <- function(effect, moving = c(treated = 1, control = 1)) {
  farthest <- function(lambda, share) {
    if (share <= 0) return(0)
    gap <- function(c) {
      # E[t (x - c)] for x standard normal, plus the part that stays
      up <- stats::dnorm(c) - c * stats::pnorm(c, lower.tail = FALSE)
      down <- -stats::dnorm(c) - c * stats::pnorm(c)
      share * (lambda * up + down / lambda) - (1 - share) * c
    }
    stats::uniroot(gap, c(0, 40), tol = 1e-10)$root
  }
  left <- function(log_lambda) {
    lambda <- exp(log_lambda)
    abs(effect) - farthest(lambda, moving[["treated"]]) - farthest(lambda, moving[["control"]])
  }
  if (effect == 0) return(1)
  if (left(log(1e8)) > 0) return(Inf)
  exp(stats::uniroot(left, c(0, log(1e8)), tol = 1e-10)$root)
}
