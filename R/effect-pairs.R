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
# score are sets of their own. Full matching on a score is summed by unit, see set_influence(). With clusters it is
# never below either. carried: see effect_vcov().
set_vcov <- function(x, influence, units, cluster, name, carried) {
  pairs <- units$pairs
  word <- if (x$kind == "pairs" && !anyDuplicated(pairs$set)) "pair" else "set"
  score <- if (pairs_carry_score(x)) ", with the estimated score accounted for" else ""
  by_unit <- sums_by_unit(x)
  independent <- if (by_unit) core_vcov(influence, NULL, used = units$used)$vcov else by_set(x, influence, units, word)
  alone <- if (by_unit) "robust, about the arms' fits on the score" else
    sprintf("clustered by %s (%s)", word, count_text(max(pairs$set)))
  if (is.null(cluster)) return(list(vcov = independent, df = Inf, text = paste0(alone, score)))
  count <- length(unique(cluster[units$used]))
  clustered <- if (by_unit) core_vcov(influence, cluster, used = units$used)$vcov else if (score != "")
    by_cluster_of_unit(x, influence, units, cluster, carried()) else by_cluster_of_pair(influence, units, cluster)
  larger <- all(diag(clustered) >= 0) && judged_variance(clustered) >= judged_variance(independent)
  text <- if (!larger) {
    sprintf("%s, which is more than by %s (%d)", alone, name, count)
  } else if (by_unit || score != "") {
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

# One-way sums of paired units' contributions about the arms' fits on the score.
by_cluster_of_unit <- function(x, influence, units, cluster, carried) {
  weight <- unit_sampling(x, units) * units$w
  own <- core_smoothed_contributions(influence - carried, units$z, weight, stood_for(x, units), set_basis(x, units)) +
    carried
  core_vcov(own, cluster, used = units$used)$vcov
}

# Full matching on a score, and sets of all arms: one set holds several units of whom the estimand speaks.
sums_by_unit <- function(x) {
  groups_whole_arms(x) || (design_kind(x) == "sets" && pairing_step(x)$on %in% c("score", "probability"))
}

# By set the covariates of those units would count as if they were one unit's, which makes errors too wide where effects
# differ. What is left of each unit about the arms' fits is its own, and what fits explain belongs to those stood for.
# given: influence with the sets taken as given; influence: with what the score adds. A fit needs 5 units for each of
# its columns, counted by the effective size of the arm: one unit may stand for many.
set_influence <- function(x, units, given, influence) {
  weight <- unit_sampling(x, units) * units$w
  basis <- if (groups_whole_arms(x)) arm_set_basis(x) else set_basis(x, units)
  size <- core_sums_by(weight, units$z + 1L, 2L)^2 / core_sums_by(weight^2, units$z + 1L, 2L)
  basis <- basis[, seq_len(max(1, min(ncol(basis), min(size) %/% 5))), drop = FALSE]
  core_smoothed_contributions(given, units$z, weight, stood_for(x, units), basis, TRUE) + influence - given
}

# How much each unit counts among those the estimand speaks of.
stood_for <- function(x, units) {
  if (groups_whole_arms(x)) return(units$matched$target)
  s <- unit_sampling(x, units)
  arms <- seeking_arms(study_of(x)$estimand)
  if (length(arms) == 2L) s * (units$w > 0) else s * units$w * (units$z %in% arms)
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
# means, text). influence: of the seekers as their matches stand; reuse: what repeated use adds, by unit
# (NULL with covariates held).
match_means <- function(block, units, asked, call) {
  x <- block$x
  stands <- if (is.null(units$pairs)) units$matched$stands else who_stands(units$pairs)
  s <- sampling_weight(study_of(x))
  y <- units$all_y
  own <- y[stands$unit]
  rest <- y
  if (estimators[[asked$estimator]]$models) {
    fitted <- arm_fits(x, units, y, outcome_formula(asked, block), stands, asked$correction, call)
    moved <- function(fit) fit[stands$seeker] - fit[stands$unit]
    own <- own + ifelse(stands$treated, moved(fitted$treated), moved(fitted$control))
    rest <- y - ifelse(study_of(x)$z == 1L, fitted$treated, fitted$control)
  }
  gap <- conditional_gaps(x, units, rest, asked$neighbours)
  found <- core_match_means(stands$set, stands$unit, stands$treated, s[stands$unit] * stands$weight, own, gap)
  adjusted <- if (asked$conditional) conditional_vcov(found) else if (estimators[[asked$estimator]]$models)
    list(vcov = found$vcov, text = "") else score_adjustment(x, units, y, found)
  rows <- length(units$rows)
  influence <- function() {
    at <- match(stands$seeker[!duplicated(stands$set)], units$rows)
    out <- matrix(0, rows, 2L)
    out[at, ] <- rows * found$sets[unique(stands$set), ]
    out
  }
  list(estimate = found$means, influence = influence, reuse = if (!asked$conditional) found$reuse, vcov = adjusted$vcov,
       text = paste0("Abadie and Imbens, matching with replacement", adjusted$text))
}

# Who stands for whom: each seeker for itself in its own arm, its matches for it in the other.
who_stands <- function(pairs) {
  seeker <- seekers_of(pairs)
  first <- !duplicated(pairs$set)
  data.frame(set = c(pairs$set[first], pairs$set), seeker = c(seeker[first], seeker),
             unit = c(seeker[first], partners_of(pairs)), treated = c(pairs$seeks[first], !pairs$seeks),
             weight = c(rep(1, sum(first)), pairs$weight))
}

# Of the effect among the units at hand, their covariates and matches held (Abadie & Imbens 2006).
conditional_vcov <- function(found) {
  list(vcov = diag(found$noise), text = ", of the effect among these units (covariates and matches held)")
}

# Fitted values of linear regressions. correction: "matched", one per arm on the units used as partners, weighted by
# times used; "all", one per arm on all of its units that could be; "pooled", one for both arms, with an intercept each,
# on the matched units with their weights. An arm that is nobody's partner (the seekers' of ATT and ATC) is fitted on
# its matched units, for the residuals alone.
arm_fits <- function(x, units, y, model, stands, correction, call) {
  study <- study_of(x)
  terms <- model_terms(study, model, call)
  matrix <- terms_matrix(study, terms)
  if (correction == "pooled") {
    weight <- replace(numeric(length(y)), units$rows, units$w * unit_sampling(x, units))
    own <- if (is.null(units$group)) matrix else columns_that_vary(matrix, weight > 0)
    whole <- list(rows = seq_along(y), y = y, z = study$z)
    return(lapply(shared_model(own, matrix(0, length(y), 0L), whole, weight, "gaussian", study, call), `[[`, "fitted"))
  }
  found <- stands$seeker != stands$unit
  times <- if (correction == "all") as.double(units$counted & (if (is.null(units$group)) TRUE else units$group)) else
    core_sums_by(stands$weight[found], stands$unit[found], length(y))
  lapply(c(treated = 1L, control = 0L), function(arm) {
    sought <- any(stands$treated[found] == (arm == 1L))
    weight <- (if (sought) times else as.double(seq_along(y) %in% units$rows)) * (study$z == arm) *
      sampling_weight(study)
    own <- if (is.null(units$group)) matrix else columns_that_vary(matrix, weight > 0)
    outcome_model(own, y, weight, "gaussian", NULL, arm, study, call)$fitted
  })
}

# The design with all units that could be paired: distances are measured with their covariance.
unpaired <- function(x) amend(x, kept = x$before_pairs)

# What the partners of an arm were sought by: the design, with its score or that of this one of several arms.
sought_by <- function(x, arm) if (has_pairs(x)) unpaired(x) else arm_start(x$weighing$arms, code_in_arms(x, arm))

# By its nearest few of the same arm in the distance of the match (ties kept), among all units still in whose outcome
# is known; in the same exact cell and apart as partners are, where there is such a neighbour. Their squares are
# conditional variances.
conditional_gaps <- function(x, units, y, neighbours) {
  step <- pairing_step(x)
  out <- numeric(length(y))
  for (arm in 1:0) {
    design <- sought_by(x, arm)
    points <- pair_space(design, step, quiet = TRUE)$points
    cell <- exact_labels(design, step$exact)
    apart <- lapply(step$apart, function(name) apart_codes(design, name))
    own <- which(units$counted & study_of(x)$z == arm)
    both <- function(codes) list(seekers = codes[own], pool = codes[own])
    near <- points[own, , drop = FALSE]
    out[own] <- nearby_gap(y[own], near, if (!is.null(cell)) both(cell), lapply(apart, both), neighbours)
    alone <- own[is.na(out[own])]
    if (length(alone) > 0L) {
      out[alone] <- nearby_gap(y[own], near, NULL, list(), neighbours)[match(alone, own)]
    }
  }
  out
}

nearby_gap <- function(y, points, group, apart, neighbours) {
  problem <- core_pair_problem(points, points, group = group, apart = apart, not_itself = TRUE)
  lists <- core_nearest(problem, as.integer(neighbours), TRUE, thread_count())
  if (lists$too_many) lists <- core_nearest(problem, as.integer(neighbours), FALSE, thread_count())
  core_conditional_gap(y, lists)
}

# The covariance of the means with what the estimation of the score takes from it.
score_adjustment <- function(x, units, y, found) {
  if (!pairing_step(x)$on %in% c("score", "probability")) return(list(vcov = found$vcov, text = ""))
  taken <- list(vcov = found$vcov, text = ", taking the score as given")
  if (!matches_on_plain_score(x)) return(taken)
  less <- if (has_pairs(x)) two_arm_adjustment(x, units, y, found) else arm_adjustment(x, units, y)
  if (is.null(less)) return(taken)
  vcov <- found$vcov - less
  variances <- c(diag(vcov), sum(vcov * c(1, -1, -1, 1)))  # of the means and of their difference
  if (!all(variances > 0)) return(taken)
  list(vcov = vcov, text = ", with the estimated score accounted for")
}

# Where Abadie & Imbens (2016) say what the estimation of the score adds: matches on the score alone, by maximum
# likelihood, without sampling weights.
matches_on_plain_score <- function(x) {
  step <- pairing_step(x)
  score <- score_behind(x)
  by_likelihood <- !score$known && is.null(score$residual) &&
    (is_matched_arms(x) || score$link %in% c("logit", "probit", "cloglog"))
  by_likelihood && is.null(sampling_behind(x)) && is.null(c(step$exact, step$apart)) &&
    all(step$calipers$name == "score")
}

# The study's sampling weights, NULL without; a contrast of several arms has some that only leave the other arms out.
sampling_behind <- function(x) if (has_pairs(x)) study_of(x)$s else arms_behind(x)$arms$base$s

two_arm_adjustment <- function(x, units, y, found) {
  about <- nearby_units(x, units, y)
  if (length(about$rows) == 0L) return(NULL)
  study <- study_of(x)
  e <- x$score$fitted[about$rows]
  slope <- core_link_slope(x$score$linear[about$rows], e, x$score$link)
  core_score_adjustment(
    about$x, study$z[about$rows], e, slope, x$score$covariance, about$local, about$gap,
    found$means[["mean_treated"]] - found$means[["mean_control"]], study$estimand
  )
}

# NULL where a unit of the arms has too few neighbours.
arm_adjustment <- function(x, units, y) {
  facts <- x$weighing
  arms <- facts$arms
  counted <- which(units$present & arms_weight(arms) > 0)
  matrix <- cbind(1, score_matrix(arms$score, arms$base))
  if (length(arms$score$aliased) > 0L) matrix <- matrix[, -(arms$score$aliased + 1L), drop = FALSE]
  parts <- lapply(c(facts$k, 1L), function(m) {
    width <- min(facts$calipers[[m]]$width, Inf)
    linear <- stats::qlogis(arms$score$fitted[, m])
    near <- two_nearest(linear, counted, counted[arms$arm[counted] == m], width)
    if (!any(near$found)) return(NULL)
    scores <- core_arm_scores(matrix, arms$score$fitted, m)
    colMeans(core_local_covariance(scores, y, near$first[near$found], near$second[near$found]))
  })
  if (all(lengths(parts) > 0L)) core_arm_adjustment(do.call(cbind, parts), arms$score$covariance)
}

# What core_score_adjustment() needs of each unit that has neighbours in both arms within the caliper.
nearby_units <- function(x, units, y) {
  study <- study_of(x)
  width <- min(pairing_step(x)$calipers$width, Inf)
  counted <- which(units$counted)
  arms <- lapply(c(treated = 1L, control = 0L), function(arm) {
    two_nearest(x$score$linear, counted, counted[study$z[counted] == arm], width)
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

# Of each row the two of a pool whose linear scores are nearest, where there are two within the caliper.
two_nearest <- function(linear, rows, pool, width) {
  lists <- core_nearest(core_pair_problem(linear[rows], linear[pool], width), 2L, FALSE, thread_count())
  found <- diff(lists$start) == 2
  last <- lists$start[-1L][found]
  pair <- matrix(NA_integer_, length(rows), 2L)
  pair[found, ] <- pool[lists$row[c(last - 1, last)]]
  list(found = found, first = pair[, 1L], second = pair[, 2L])
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
