# Who is averaged, with which weights, and for whom.

# Which study rows carry influence (`rows`), which of them are averaged (`used`) and with which design weight (`w`), and
# their data. Units without an outcome or with sampling weight 0 leave with their pair; on weights they stay as carriers
# of the score's influence. group: of the study's rows, which are asked about (NULL for all); on pairs the seekers.
# response: of weigh_responses() for this outcome, NULL without; its weights are part of `w`. asked: whom the estimate
# is about or uses. present: per study row, is the outcome known? counted: per study row, was the unit in the sample the
# design started from, with a known outcome? matched: see measured_arms(). all_y: per study row.
effect_units <- function(x, y, group = NULL, outcome = NULL) {
  refuse_remote(x)
  study <- study_of(x)
  response <- if (!is.null(outcome)) design_responses(x)[[outcome]]
  present <- if (is.null(response)) !is.na(y) else !is.na(y) & response$known
  counted <- present & sampling_weight(study) > 0
  weight <- design_weight(x)
  pairs <- if (has_pairs(x)) measured_pairs(x, counted, group)
  if (!is.null(pairs)) weight <- core_pair_weights(pairs, length(y))
  matched <- if (is_matched_arms(x)) measured_arms(x, present, group)
  if (!is.null(matched)) weight <- matched$weight
  inside <- design_kept(x) & counted & weight > 0
  asked <- if (is.null(group) || has_pairs(x) || !is.null(matched)) TRUE else group
  if (!is.null(response)) weight <- weight / response$fitted
  rows <- if (carries_score(x) || !is.null(response)) seq_along(y) else which(inside & asked)
  before <- if (has_pairs(x)) x$before_pairs else if (!is.null(matched)) !study$outside else design_kept(x)
  missing <- if (all(present)) 0L else sum(design_kept(x) & !present & (if (is.null(group)) TRUE else group))
  if (!all(present)) y[!present] <- 0
  pick <- function(values) if (length(rows) == length(values)) values else values[rows]
  used <- pick(inside & asked)
  everybody <- if (is.null(response)) used else pick(design_kept(x) & sampling_weight(study) > 0 & asked)
  list(rows = rows, used = used, asked = everybody,
       response = response, w = pick(weight), y = pick(y),
       z = pick(study$z), pairs = pairs, matched = matched,
       counted = counted & before, present = present, all_y = y, missing = missing, group = group, where = "")
}

# Do units that are not averaged carry influence all the same, through a score or weights they helped to estimate?
carries_score <- function(x) {
  has_weights(x) || (design_kind(x) == "raw" && !is.null(design_score(x))) || pairs_carry_score(x) ||
    !is.null(study_of(x)$outside)
}

# list(v, nuisance): s w of the design, and how its estimation enters.
unit_weights <- function(x, units) {
  s <- unit_sampling(x, units)
  if (!is.null(units$response)) return(responding_weights(x, units, design_weight(x), weight_nuisance_of(x)))
  nuisance <- if (isTRUE(units$given)) core_known(length(s)) else if (has_weights(x)) weight_nuisance(x) else
    if (pairs_carry_score(x)) set_nuisance(x, units) else core_known(length(s))
  list(v = s * units$w, nuisance = core_scaled(nuisance, s))
}

weight_nuisance_of <- function(x) if (has_weights(x)) weight_nuisance(x) else core_known(length(study_of(x)$z))

# s w / P(known) of units with an outcome: weight is w, nuisance that of w.
responding_weights <- function(x, units, weight, nuisance) {
  s <- unit_sampling(x, units)
  chance <- units$response$fitted
  list(v = s * weight / chance, nuisance = if (isTRUE(units$given)) core_known(length(s)) else core_joined(list(
    core_scaled(nuisance, s / chance),
    core_scaled(response_nuisance(study_of(x), units$response), -s * weight * (1 - chance) / chance)
  )))
}

# The same for estimators that weigh by the score where the design has no weights of its own; made: those weights.
score_weights <- function(x, units) {
  if (has_weights(x)) return(unit_weights(x, units))
  s <- unit_sampling(x, units)
  weight <- core_inverse_weight(x$score$fitted, x$study$z, x$study$estimand)
  if (!is.null(units$response)) {
    own <- responding_weights(x, units, weight * design_kept(x), inverse_nuisance(x))
    return(c(own, list(made = own$v)))
  }
  v <- s * weight
  list(v = v, made = v, nuisance = core_scaled(inverse_nuisance(x), s))
}

# Whom the outcome models average over: list(t, nuisance), t = s h; with response weights units without an outcome too.
# Only populations defined by the score ask it.
effect_target <- function(x, units) {
  study <- study_of(x)
  s <- if (is.null(units$response)) unit_sampling(x, units) else sampling_weight(study) * units$asked
  if (!is.null(study$outside)) return(arms_target(x, units))
  e <- design_score(x)$fitted[units$rows]
  h <- core_target_weight(e, units$z, study$estimand)
  if (has_known_population(study$estimand)) return(list(t = s * h, nuisance = core_known(length(s))))
  slope <- core_target_weight_slope(e, units$z, study$estimand)
  list(t = s * h, nuisance = core_scaled(score_function_nuisance(x, slope), s))
}

# Of several arms: the population may hold units of the others, among whom, as in the contrast, those whose outcome is
# known, so that every contrast speaks of the same.
arms_target <- function(x, units) {
  behind <- arms_behind(x)
  arms <- behind$arms
  asked <- if (is.null(units$group)) TRUE else units$group
  s <- everybody_behind(x) * (units$used | (x$study$outside & units$present & asked))
  made <- core_arm_target(arms$score$fitted, arms$arm, behind$k, arms$base$estimand)
  nuisance <- if (is.null(made$slope)) core_known(length(s)) else
    core_scaled(arm_score_nuisance(arms), s * made$slope)
  list(t = s * made$h, nuisance = nuisance)
}

# What small cells leave out of the variances of the two means.
cell_shortfalls <- function(x, units) {
  s <- unit_sampling(x, units)
  cell <- x$set[units$rows]
  target <- s * core_target_weight(NULL, units$z, x$study$estimand)
  diag(vapply(1:0, function(arm) core_cell_shortfall(units$y, s * (units$z == arm), target, cell), 0))
}
