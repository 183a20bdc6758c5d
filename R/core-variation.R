# Who gains (Methods, "Who gains"): unit scores, whose mean given covariates is the effect there, and what is read off
# them. g: n scores; t: n, whom they speak of (1 for everybody, the treated for the ATT), so that E(g | x) = E(t | x)
# times the effect; s: n sampling weights, 0 for units that take no part. Influence is n x k with estimate - truth about
# its mean over all n.

# Augmented scores. treated, control: predictions of each arm's outcome model, made without the unit; v: n, design
# weights that take either arm to t.
core_unit_scores <- function(y, z, treated, control, v, t) {
  t * (treated - control) + v * z * (y - treated) - v * (1 - z) * (y - control)
}

# Best linear predictor of the effect in columns (n x p, the intercept among them; Semenova & Chernozhukov 2021): list(
# estimate, influence, aliased).
core_effect_predictor <- function(columns, g, t, s) {
  solved <- core_solve_scatter(crossprod(columns, s * t * columns))
  estimate <- drop(solved$inverse %*% crossprod(columns, s * g))
  left <- g - t * drop(columns %*% estimate)
  list(estimate = estimate, influence = length(g) * (s * left * columns) %*% solved$inverse, aliased = solved$aliased)
}

# Effects among those of each column of `member` (n x k, 0/1 or shares).
core_effects_among <- function(member, g, t, s) {
  mass <- colSums(s * t * member)
  estimate <- colSums(s * g * member) / mass
  left <- member * (g - outer(t, estimate))
  list(estimate = estimate, influence = length(g) * s * sweep(left, 2L, mass, `/`))
}

# Within each fold, the share of its units' mass (s t) that stands above a unit in `predicted`, its own counted half;
# among equals as they come in `order` (n, distinct).
core_share_above <- function(predicted, mass, fold, order) {
  out <- rep(NA_real_, length(predicted))
  for (k in setdiff(unique(fold), 0L)) {
    rows <- which(fold == k)
    rows <- rows[order(-predicted[rows], order[rows])]
    share <- mass[rows] / sum(mass[rows])
    out[rows] <- cumsum(share) - share / 2
  }
  out
}

# Does a prediction that was learnt elsewhere foretell the effect (Chernozhukov, Demirer, Duflo & Fernandez-Val 2025)?
# In each fold scores are set against the fold's own mean effect and against the prediction from its mean. Each fold's
# prediction is learnt from folds before it, and counts in its standard deviations there, so that the sum of what folds
# say is a martingale whose steps are of known size. list(estimate: per SD of the prediction; slope: per unit of it, 1
# where it is calibrated; influence: n x 2).
core_calibration <- function(predicted, g, t, s, fold) {
  centred <- scaled <- left <- numeric(length(g))
  for (k in setdiff(unique(fold), 0L)) {
    rows <- which(fold == k)
    mass <- s[rows] * t[rows]
    away <- predicted[rows] - sum(mass * predicted[rows]) / sum(mass)
    sd <- sqrt(sum(mass * away^2) / sum(mass))
    left[rows] <- g[rows] - t[rows] * sum(s[rows] * g[rows]) / sum(mass)
    centred[rows] <- away
    if (sd > 1e-12 * max(abs(predicted[rows]))) scaled[rows] <- away / sd
  }
  each <- lapply(list(scaled, centred), function(x) {
    size <- sum(s * t * x^2)
    if (size == 0) return(list(estimate = NA_real_, influence = numeric(length(g))))
    estimate <- sum(s * left * x) / size
    list(estimate = estimate, influence = length(g) * s * x * (left - t * x * estimate) / size)
  })
  list(estimate = vapply(each, `[[`, 0, "estimate"), influence = vapply(each, `[[`, numeric(length(g)), "influence"))
}

# The targeting curve (Yadlowsky, Fleming, Shah, Brunskill & Wager 2025): effect among the share with the largest
# prediction less that among all, for each of `shares`, and the area under the curve. above: core_share_above().
core_targeting <- function(above, g, t, s, shares) {
  member <- cbind(1, outer(above, shares, `<=`))
  among <- core_effects_among(member, g, t, s)
  mass <- sum(s * t)
  pull <- -log(pmax(above, 1 / (2 * length(g))))
  pull <- pull - sum(s * t * pull) / mass
  area <- sum(s * pull * g) / mass
  list(estimate = c(among$estimate[-1L] - among$estimate[1L], area),
       influence = cbind(among$influence[, -1L, drop = FALSE] - among$influence[, 1L],
                         length(g) * s * pull * (g - t * among$estimate[1L]) / mass))
}

# What treating those with chosen = 1 brings, per unit of the population, against treating nobody.
core_value_of <- function(chosen, g, t, s) {
  mass <- sum(s * t)
  estimate <- sum(s * g * chosen) / mass
  list(estimate = estimate, influence = length(g) * s * (g * chosen - t * estimate) / mass)
}

# Questions that a rule can ask: list(code: per column the codes of n units; yes: per column an answers x codes matrix
# of 0/1), C answers in all. Sums of gains and sizes over the units that answer yes to both of two questions:
# list(gains, sizes: C x C, all: c(gain, size)). Sums of parts of the units add up.
core_question_sums <- function(g, t, s, questions) {
  code <- questions$code
  yes <- questions$yes
  width <- vapply(yes, ncol, 0L)
  last <- cumsum(vapply(yes, nrow, 0L))
  place <- Map(function(end, own) end - rev(seq_len(nrow(own))) + 1L, last, yes)
  parts <- list(gains = s * g, sizes = s * t)
  out <- lapply(parts, function(v) matrix(0, max(last, 0L), max(last, 0L)))
  for (j in seq_along(code)) {
    for (k in seq_len(j)) {
      cell <- code[[j]] + width[j] * (code[[k]] - 1L)
      for (part in names(parts)) {
        both <- matrix(core_sums_by(parts[[part]], cell, width[j] * width[k]), width[j])
        block <- yes[[j]] %*% tcrossprod(both, yes[[k]])
        out[[part]][place[[j]], place[[k]]] <- block
        out[[part]][place[[k]], place[[j]]] <- t(block)
      }
    }
  }
  c(out, list(all = c(sum(parts$gains), sum(parts$sizes))))
}

# The rule of at most `depth` questions (0 to 2) whose treated gain most, none treated beyond the share `budget`; a
# price on treating, found by halving, keeps to it. Returns list(first, second: c(where yes, where no), numbers of
# questions or NA, treat: leaves yes-yes, yes-no, no-yes, no-no).
core_shallow_rule <- function(sums, depth, budget = 1) {
  at <- function(price) {
    best_questions(sums$gains - price * sums$sizes, sums$all[1L] - price * sums$all[2L], depth)
  }
  share <- function(rule) sum(rule_leaves(sums$sizes, sums$all[2L], rule) * rule$treat) / sums$all[2L]
  rule <- at(0)
  if (share(rule) <= budget) return(rule)
  low <- 0
  high <- 2 * max(abs(diag(sums$gains)), abs(sums$all[1L])) / min(diag(sums$sizes), sums$all[2L])
  best <- at(Inf)
  for (step in 1:50) {
    middle <- (low + high) / 2
    tried <- at(middle)
    if (share(tried) <= budget) {
      high <- middle
      best <- tried
    } else {
      low <- middle
    }
  }
  best
}

# What stands in each leaf. sums: C x C, see above; all: over all units.
rule_leaves <- function(sums, all, rule) {
  if (is.na(rule$first)) return(c(all, 0, 0, 0))
  own <- sums[rule$first, rule$first]
  if (anyNA(rule$second)) return(c(own, 0, all - own, 0))
  yes_yes <- sums[rule$first, rule$second[1L]]
  no_yes <- sums[rule$second[2L], rule$second[2L]] - sums[rule$first, rule$second[2L]]
  c(yes_yes, own - yes_yes, no_yes, all - own - no_yes)
}

# gains: C x C sums of net gains where both answers are yes; all: their sum.
best_questions <- function(gains, all, depth) {
  nobody <- list(first = NA_integer_, second = c(NA_integer_, NA_integer_), treat = rep(FALSE, 4L))
  if (!is.finite(all)) return(nobody)
  rule <- utils::modifyList(nobody, list(treat = rep(all > 0, 4L)))
  if (depth == 0 || ncol(gains) == 0L) return(rule)
  own <- diag(gains)
  best <- max(all, 0)
  once <- pmax(own, 0) + pmax(all - own, 0)
  slack <- 1e-12 * max(abs(c(own, all)))
  if (max(once) > best + slack) {
    pick <- which.max(once)
    best <- once[pick]
    rule <- list(first = pick, second = c(NA_integer_, NA_integer_),
                 treat = rep(c(own[pick] > 0, all - own[pick] > 0), each = 2L))
  }
  if (depth < 2) return(rule)
  right <- pmax(gains, 0) + pmax(own - gains, 0)  # row: first question, answered yes; column: the second
  rest <- matrix(own, nrow(gains), ncol(gains), byrow = TRUE) - gains
  left <- pmax(rest, 0) + pmax(all - own - rest, 0)
  in_right <- max.col(right, "first")
  in_left <- max.col(left, "first")
  rows <- seq_len(nrow(gains))
  twice <- right[cbind(rows, in_right)] + left[cbind(rows, in_left)]
  if (max(twice) <= best + slack) return(rule)
  pick <- which.max(twice)
  rule <- list(first = pick, second = c(in_right[pick], in_left[pick]))
  c(rule, list(treat = rule_leaves(gains, all, rule) > 0))
}

# 1 for those of `rows` whom the rule treats.
core_rule_answer <- function(rule, questions, rows) {
  if (is.na(rule$first)) return(rep(as.double(rule$treat[1L]), length(rows)))
  first <- core_answers(questions, rule$first, rows)
  second <- function(k) if (is.na(rule$second[k])) TRUE else core_answers(questions, rule$second[k], rows)
  leaf <- ifelse(first, ifelse(second(1L), 1L, 2L), ifelse(second(2L), 3L, 4L))
  as.double(rule$treat[leaf])
}

# Who of `rows` answers yes to a question.
core_answers <- function(questions, number, rows) {
  sizes <- vapply(questions$yes, nrow, 0L)
  j <- which(number <= cumsum(sizes))[1L]
  questions$yes[[j]][number - sum(sizes[seq_len(j - 1L)]), questions$code[[j]][rows]] == 1
}

# Medians over splits, elementwise; variances are medians of each split's own and its distance from the median
# (Chernozhukov et al. 2018, definition 3.3), correlations those of the mean covariance. each: list of list(estimate,
# vcov).
core_median_splits <- function(each) {
  if (length(each) == 1L) return(each[[1L]])
  estimates <- do.call(rbind, lapply(each, `[[`, "estimate"))
  centre <- apply(estimates, 2L, stats::median)
  variances <- do.call(rbind, lapply(each, function(one) diag(one$vcov) + (one$estimate - centre)^2))
  mean <- Reduce(`+`, lapply(each, `[[`, "vcov")) / length(each)
  size <- sqrt(apply(variances, 2L, stats::median))
  own <- sqrt(diag(mean))
  scale <- ifelse(own > 0, size / own, 0)
  list(estimate = centre, vcov = outer(scale, scale) * mean)
}
