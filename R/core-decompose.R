# The two-way coefficient of a balanced panel taken apart (Methods, "Difference-in-differences").

# Goodman-Bacon (2021), theorem 1: every two-by-two comparison of two cohorts with its estimate and weight. mean: H x T
# weighted mean outcomes; share: H, summing to 1; start: per cohort the first treated period (code), T + 1 for none.
# Returns a list of vectors: treated, control (codes), kind ("later against earlier": the control is treated already;
# "earlier against later": it is not treated yet; "treated against untreated": it never is), estimate, weight.
core_decompose <- function(mean, share, start) {
  t <- ncol(mean)
  exposed <- (t + 1 - start) / t  # share of periods under treatment
  spread <- sum(share * rowMeans(treatment_left(share, start, t)^2))
  gap <- function(k, l, after, before) {
    change <- function(h) mean(mean[h, after]) - mean(mean[h, before])
    change(k) - change(l)
  }
  rows <- list()
  for (k in which(start <= t)) {
    for (l in seq_along(share)[-k]) {
      pair <- share[k] + share[l]
      within <- share[k] * share[l] / pair^2
      if (start[l] > t) {
        row <- list("treated against untreated", gap(k, l, start[k]:t, seq_len(start[k] - 1)),
                    pair^2 * within * exposed[k] * (1 - exposed[k]))
      } else if (start[k] < start[l]) {
        row <- list("earlier against later", gap(k, l, start[k]:(start[l] - 1), seq_len(start[k] - 1)),
                    (pair * (1 - exposed[l]))^2 * within *
                      (exposed[k] - exposed[l]) / (1 - exposed[l]) * (1 - exposed[k]) / (1 - exposed[l]))
      } else {
        row <- list("later against earlier", gap(k, l, start[k]:t, start[l]:(start[k] - 1)),
                    (pair * exposed[l])^2 * within * exposed[k] / exposed[l] * (exposed[l] - exposed[k]) / exposed[l])
      }
      rows[[length(rows) + 1L]] <- c(list(k, l), row)
    }
  }
  column <- function(i, like) vapply(rows, `[[`, like, i)
  list(treated = column(1L, 1L), control = column(2L, 1L), kind = column(3L, ""), estimate = column(4L, 0),
       weight = column(5L, 0) / spread)
}

# Treatment after unit and period effects, H x T.
treatment_left <- function(share, start, t) {
  d <- outer(start, seq_len(t), `<=`) * 1
  by_period <- drop(crossprod(share, d))
  d - rowMeans(d) - rep(by_period, each = length(share)) + mean(by_period)
}

# de Chaisemartin & D'Haultfoeuille (2020), theorem 1: the weight of every treated cell's effect in the coefficient,
# H x T, 0 where nobody is treated.
core_implicit_weights <- function(share, start, t) {
  treated <- outer(start, seq_len(t), `<=`)
  weight <- share * treatment_left(share, start, t) * treated
  weight / sum(weight)
}

# The clustered standard error of the two-way coefficient in a balanced panel with weights constant over time. y,
# treated: units x periods; s, cluster: per unit.
core_two_way_error <- function(y, treated, s, cluster) {
  within <- function(values) {
    values <- values - rowMeans(values)
    sweep(values, 2L, colSums(s * values) / sum(s))
  }
  d <- within(treated)
  y <- within(y)
  total <- sum(s * d^2)
  residual <- y - d * sum(s * d * y) / total
  sums <- core_sums_by(s * rowSums(d * residual), match(cluster, unique(cluster)))
  if (length(sums) < 2L) return(NA_real_)
  sqrt(sum(sums^2) * length(sums) / (length(sums) - 1)) / total
}
