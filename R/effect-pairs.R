# Effects on pairs and sets: who is averaged with which weight, and the variances that belong to them.

# The pairs whose units both count, with their weights worked out anew: a set that loses one of several partners keeps
# the others, a seeker without any is out. group: whose pairs are asked about (NULL for all).
measured_pairs <- function(x, counted, group = NULL) {
  pairs <- x$pairs[counted[x$pairs$treated] & counted[x$pairs$control], ]
  if (!is.null(group)) pairs <- pairs[group[ifelse(seeks_partner(x, pairs), pairs$treated, pairs$control)], ]
  pairs$set <- match(pairs$set, unique(pairs$set))
  of <- if (x$kind == "sets") study_of(x)$estimand else "seeker"
  if (nrow(pairs) > 0L) pairs$weight <- core_row_weights(pairs$set, pairs$treated, pairs$control, of)
  pairs
}

# Is it the treated unit of each pair that the estimand speaks of?
seeks_partner <- function(x, pairs) {
  if (!is.null(pairs$seeks)) pairs$seeks else rep(treated_seek(study_of(x)), nrow(pairs))
}

# Of matches with replacement: who seeks in each row, and who is found.
seekers_of <- function(pairs) ifelse(pairs$seeks, pairs$treated, pairs$control)
partners_of <- function(pairs) ifelse(pairs$seeks, pairs$control, pairs$treated)

# Variance of pairs and sets without replacement, by set (Abadie & Spiess 2022); units that only helped to estimate the
# score are sets of their own. With clusters it is never below that. carried: see effect_vcov().
set_vcov <- function(x, influence, units, cluster, name, carried) {
  pairs <- units$pairs
  word <- if (x$kind == "pairs" && !anyDuplicated(pairs$set)) "pair" else "set"
  score <- if (pairs_carry_score(x)) ", with the estimated score accounted for" else ""
  independent <- by_set(x, influence, units, word)
  if (is.null(cluster)) {
    return(list(vcov = independent, df = Inf,
                text = sprintf("clustered by %s (%s)%s", word, count_text(max(pairs$set)), score)))
  }
  count <- length(unique(cluster[units$used]))
  clustered <- if (score != "") by_cluster_of_unit(x, influence, units, cluster, carried()) else
    by_cluster_of_pair(influence, units, cluster)
  larger <- all(diag(clustered) >= 0) && judged_variance(clustered) >= judged_variance(independent)
  text <- if (!larger) {
    sprintf("clustered by %s (%s), which is more than by %s (%d)", word, count_text(max(pairs$set)), name, count)
  } else if (score != "") {
    sprintf("clustered by %s (%d)", name, count)
  } else {
    sprintf("clustered by %s and by %s of either unit (%d)", word, name, count)
  }
  list(vcov = if (larger) clustered else independent, df = core_known_df(count - 1), text = paste0(text, score))
}

# Which of two covariances is the larger: by the difference, where there is one.
judged_variance <- function(vcov) {
  if ("difference" %in% rownames(vcov)) vcov["difference", "difference"] else sum(diag(vcov))
}

# Sets are independent. What is left of a set about the estimate is too small by its own share in it: a pair's square by
# that share, a larger set's sum (as when it is left out).
by_set <- function(x, influence, units, word) {
  pairs <- units$pairs
  n <- nrow(influence)
  set <- max(pairs$set) + seq_len(n)
  set[match(c(pairs$treated, pairs$control), units$rows)] <- c(pairs$set, pairs$set)
  weight <- unit_sampling(x, units) * units$w * (units$z %in% seeking_arms(study_of(x)$estimand))
  share <- core_sums_by(weight, set)[seq_len(max(pairs$set))] / sum(weight)
  factor <- c((1 - share)^(if (word == "pair") -0.5 else -1), rep(1, n))
  sums <- rowsum(influence, set)
  crossprod(sums * factor[as.integer(rownames(sums))]) / n^2
}

# One-way sums of units' contributions about the arms' fits on the score.
by_cluster_of_unit <- function(x, influence, units, cluster, carried) {
  s <- unit_sampling(x, units)
  weight <- s * units$w
  seek <- units$z %in% seeking_arms(study_of(x)$estimand)
  target <- if (length(seeking_arms(study_of(x)$estimand)) == 2L) s * (units$w > 0) else weight * seek
  own <- core_smoothed_contributions(influence - carried, units$z, weight, target, set_basis(x, units)) + carried
  core_vcov(own, cluster, used = units$used)$vcov
}

# Without a score to smooth over: pairs are dependent when they share a cluster.
by_cluster_of_pair <- function(influence, units, cluster) {
  pairs <- units$pairs
  treated <- match(pairs$treated, units$rows)
  control <- match(pairs$control, units$rows)
  sums <- influence[treated, , drop = FALSE] * (pairs$weight / units$w[treated]) +
    influence[control, , drop = FALSE] * (pairs$weight / units$w[control])
  core_vcov_dyads(sums, nrow(influence), cluster[treated], cluster[control])
}

# Matching with replacement. asked$correction: by which linear regressions the partners' outcomes are bias-corrected
# (see arm_fits()), where the estimator corrects them (Abadie & Imbens 2011). What is left then depends on the score in
# second order only, and its conditional variance is that of the regressions' residuals: with the outcome itself, pairs
# on the score would count as noise what the regressions explain. Returns list(estimate, influence, vcov of the two
# means, text).
match_means <- function(block, units, asked, call) {
  x <- block$x
  pairs <- units$pairs
  study <- study_of(x)
  seeks <- pairs$seeks
  seeker <- seekers_of(pairs)
  partner <- partners_of(pairs)
  s <- sampling_weight(study)
  y <- units$all_y
  corrected <- if (estimators[[asked$estimator]]$models) {
    arm_fits(x, units, y, outcome_formula(asked, block), partner, seeks, asked$correction, call)
  }
  partner_y <- y[partner]
  if (!is.null(corrected)) {
    partner_y <- partner_y + ifelse(seeks, corrected$control[seeker] - corrected$control[partner],
                                    corrected$treated[seeker] - corrected$treated[partner])
  }
  spread <- conditional_variances(x, units, if (is.null(corrected)) y else
    y - ifelse(study$z == 1L, corrected$treated, corrected$control), asked$neighbours)
  found <- core_match_means(pairs$set, seeker, partner, seeks, s[seeker] * pairs$weight, s[partner] * pairs$weight,
                            y[seeker], partner_y, spread)
  adjusted <- if (asked$conditional) conditional_vcov(found) else if (is.null(corrected))
    score_adjustment(x, units, y, found) else list(vcov = found$vcov, text = "")
  share <- core_sums_by(c(found$own, found$other), c(seeker, partner), length(study$z))
  influence <- function() {
    vapply(both_arms, function(arm) {
      inside <- study$z[units$rows] == arm
      length(units$rows) * share[units$rows] * inside * (units$y - found$means[[2L - arm]])
    }, numeric(length(units$rows)))
  }
  list(estimate = found$means, influence = influence, vcov = adjusted$vcov,
       text = paste0("Abadie and Imbens, matching with replacement", adjusted$text))
}

# Of the effect among the units at hand, their covariates and matches held (Abadie & Imbens 2006).
conditional_vcov <- function(found) {
  list(vcov = diag(found$noise), text = ", of the effect among these units (covariates and matches held)")
}

# Fitted values of linear regressions. correction: "matched", one per arm on the units used as partners, weighted by
# times used; "all", one per arm on all of its units that could be; "pooled", one for both arms, with an intercept each,
# on the matched units with their weights. An arm that is nobody's partner (the seekers' of ATT and ATC) is fitted on
# its matched units, for the residuals alone.
arm_fits <- function(x, units, y, model, partner, seeks, correction, call) {
  study <- study_of(x)
  terms <- model_terms(study, model, call)
  matrix <- terms_matrix(study, terms)
  if (correction == "pooled") {
    weight <- replace(numeric(length(y)), units$rows, units$w * unit_sampling(x, units))
    own <- if (is.null(units$group)) matrix else columns_that_vary(matrix, weight > 0)
    whole <- list(rows = seq_along(y), y = y, z = study$z)
    return(lapply(shared_model(own, matrix(0, length(y), 0L), whole, weight, "gaussian", study, call), `[[`, "fitted"))
  }
  times <- if (correction == "all") as.double(units$counted & (if (is.null(units$group)) TRUE else units$group)) else
    core_sums_by(units$pairs$weight, partner, length(y))
  lapply(c(treated = 1L, control = 0L), function(arm) {
    weight <- if (any(seeks != arm)) times else as.double(seq_along(y) %in% units$rows)
    weight <- weight * (study$z == arm) * sampling_weight(study)
    own <- if (is.null(units$group)) matrix else columns_that_vary(matrix, weight > 0)
    outcome_model(own, y, weight, "gaussian", NULL, arm, study, call)$fitted
  })
}

# The design with all units that could be paired: distances are measured with their covariance.
unpaired <- function(x) amend(x, kept = x$before_pairs)

# By its nearest few of the same arm in the distance of the match (ties kept), among all units still in whose outcome
# is known; in the same exact cell and apart as partners are, where there is such a neighbour.
conditional_variances <- function(x, units, y, neighbours) {
  design <- unpaired(x)
  step <- pairing_step(x)
  space <- pair_space(design, step, quiet = TRUE)$points
  cell <- exact_codes(design, step$exact)
  apart <- lapply(step$apart, function(name) apart_codes(design, name))
  spread <- numeric(length(y))
  for (arm in 1:0) {
    own <- which(units$counted & study_of(x)$z == arm)
    both <- function(codes) list(seekers = codes[own], pool = codes[own])
    spread[own] <- nearby_variance(y[own], space[own, , drop = FALSE], if (!is.null(cell)) both(cell),
                                   lapply(apart, both), neighbours)
    alone <- own[is.na(spread[own])]
    if (length(alone) > 0L) {
      spread[alone] <- nearby_variance(y[own], space[own, , drop = FALSE], NULL, list(), neighbours)[match(alone, own)]
    }
  }
  spread
}

nearby_variance <- function(y, points, group, apart, neighbours) {
  problem <- core_pair_problem(points, points, group = group, apart = apart, not_itself = TRUE)
  lists <- core_nearest(problem, as.integer(neighbours), TRUE, thread_count())
  if (lists$too_many) lists <- core_nearest(problem, as.integer(neighbours), FALSE, thread_count())
  core_conditional_variance(y, lists)
}

# The covariance of the means with what the estimation of the score takes from it.
score_adjustment <- function(x, units, y, found) {
  if (!pairing_step(x)$on %in% c("score", "probability")) return(list(vcov = found$vcov, text = ""))
  taken <- list(vcov = found$vcov, text = ", taking the score as given")
  if (!matches_on_plain_score(x)) return(taken)
  about <- nearby_units(x, units, y)
  if (length(about$rows) == 0L) return(taken)
  study <- study_of(x)
  e <- x$score$fitted[about$rows]
  slope <- core_link_slope(x$score$linear[about$rows], e, x$score$link)
  vcov <- found$vcov - core_score_adjustment(
    about$x, study$z[about$rows], e, slope, x$score$covariance, about$local, about$gap,
    found$means[["mean_treated"]] - found$means[["mean_control"]], study$estimand
  )
  variances <- c(diag(vcov), sum(vcov * c(1, -1, -1, 1)))  # of the means and of their difference
  if (!all(variances > 0)) return(taken)
  list(vcov = vcov, text = ", with the estimated score accounted for")
}

# Where Abadie & Imbens (2016) say what the estimation of the score adds: matches on the score alone, by maximum
# likelihood, without sampling weights.
matches_on_plain_score <- function(x) {
  step <- pairing_step(x)
  by_likelihood <- !x$score$known && is.null(x$score$residual) && x$score$link %in% c("logit", "probit", "cloglog")
  by_likelihood && is.null(study_of(x)$s) && is.null(c(step$exact, step$apart)) && all(step$calipers$name == "score")
}

# What core_score_adjustment() needs of each unit that has neighbours in both arms within the caliper.
nearby_units <- function(x, units, y) {
  study <- study_of(x)
  calipers <- pairing_step(x)$calipers
  counted <- which(units$counted)
  linear <- x$score$linear
  arms <- lapply(c(treated = 1L, control = 0L), function(arm) {
    pool <- counted[study$z[counted] == arm]
    lists <- core_nearest(core_pair_problem(linear[counted], linear[pool], min(calipers$width, Inf)), 2L, FALSE,
                          thread_count())
    found <- diff(lists$start) == 2
    last <- lists$start[-1L][found]
    pair <- matrix(NA_integer_, length(counted), 2L)
    pair[found, ] <- pool[lists$row[c(last - 1, last)]]
    list(found = found, first = pair[, 1L], second = pair[, 2L])
  })
  inside <- arms$treated$found & arms$control$found
  rows <- counted[inside]
  matrix <- cbind(1, score_matrix(x$score, study))
  local <- lapply(arms, function(arm) {
    first <- arm$first[inside]
    second <- arm$second[inside]
    list(mean = (y[first] + y[second]) / 2, cov = core_local_covariance(matrix, y, first, second))
  })
  list(rows = rows, x = matrix[rows, , drop = FALSE], local = local,
       gap = covariate_gap(x, counted, y)[inside])
}

# Treated minus control outcome of each unit, the missing one taken from the unit of the other arm that is nearest in
# the covariates (Mahalanobis).
covariate_gap <- function(x, rows, y) {
  study <- study_of(x)
  points <- pair_space(unpaired(x), list(on = "mahalanobis"), quiet = TRUE)$points
  gap <- numeric(length(y))
  for (arm in 1:0) {
    own <- rows[study$z[rows] == arm]
    pool <- rows[study$z[rows] != arm]
    near <- core_nearest(core_pair_problem(points[own, , drop = FALSE], points[pool, , drop = FALSE]), 1L, FALSE,
                         thread_count())
    gap[own] <- (2 * arm - 1) * (y[own] - y[pool[near$row]])
  }
  gap[rows]
}
