# What a design hands to a panel (panel-design.R): its weights by unit, and how they were estimated.

#' @exportS3Method
carried_parts.twin_design <- function(x, call) { # nolint: object_name_linter. An S3 method.
  if (!alters_sample(x)) {
    abort_input(c("The design compares units as they are: there is nothing to carry into the panel.",
                  i = "Call {.fn weigh_units}, {.fn pair_units}, {.fn stratify_units} or {.fn group_units} first."),
                call = call)
  }
  if (!is.null(design_responses(x))) {
    abort_unsupported(c("Response weights belong to one outcome of the study, which the panel does not have.",
                        i = "Carry the design from before {.fn weigh_responses}."), call = call)
  }
  study <- study_of(x)
  if (!is.null(study$outside)) {
    abort_unsupported(c("The design is one of several arms.",
                        i = "Make a design of two arms: the treated of a cohort, and units to compare them with."),
                      call = call)
  }
  units <- weighed_units(x)
  s <- unit_sampling(x, units)
  estimated <- has_weights(x) && weighing_of(x)$estimated
  nuisance <- if (estimated) weight_nuisance(x) else if (pairs_carry_score(x)) set_nuisance(x, units)
  list(study = study, v = s * units$w, z = study$z, label = design_label(x), estimand = study$estimand, hash = x$hash,
       set = if (has_pairs(x) && !reuses_units(x)) x$set, reuses = reuses_units(x),
       nuisance = if (!is.null(nuisance)) core_scaled(nuisance, s),
       given = c(weighing_of(x)$given, if (trims(x)) "trimming", if (is_truncated(x)) "truncation"),
       held = held_in_draws(x), made = x)
}

# All units of a design as effect_units() would have them, used or not.
weighed_units <- function(x) {
  study <- study_of(x)
  weight <- design_weight(x)
  list(rows = seq_along(study$z), used = design_kept(x) & sampling_weight(study) > 0 & weight > 0, w = weight,
       z = study$z)
}

#' @exportS3Method
redrawn_weights.twin_design <- function(x, counts, factor) { # nolint: object_name_linter. An S3 method.
  times <- counts * factor
  drawn <- redrawn_on(x, sampling_weight(study_of(x)) * times, counts, factor)
  units <- weighed_units(drawn$made)
  v <- unit_sampling(drawn$made, units) * units$w
  if (is.null(drawn$index)) v else core_sums_by(v, drawn$index, length(counts))
}

#' @exportS3Method
carried_parts.twin_study <- function(x, call) { # nolint: object_name_linter. An S3 method.
  abort_input(c("{.arg design} must be a design, or a list of designs named by cohort.",
                x = "It is a study: its units have no weights or pairs yet.",
                i = "Call {.fn weigh_units}, {.fn pair_units}, {.fn stratify_units} or {.fn group_units} on it."),
              call = call)
}

#' @exportS3Method
carried_parts.twin_remote_design <- function(x, call) refuse_remote(x, call) # nolint: object_name_linter.

# Pairs without replacement and full matching on a score that was estimated by maximum likelihood.
pairs_carry_score <- function(x) {
  has_pairs(x) && !reuses_units(x) && pairing_step(x)$on %in% c("score", "probability") && has_likelihood_score(x)
}

# Sampling weight of the units at hand (effect_units(), or the fields of it that are read here), 0 for those that are
# not averaged.
unit_sampling <- function(x, units) {
  s <- sampling_weight(study_of(x))
  if (length(units$rows) < length(s)) s <- s[units$rows]
  if (all(units$used)) s else s * units$used
}

# The score behind pairs and sets, as the weights' nuisance.
set_nuisance <- function(x, units) {
  s <- unit_sampling(x, units)
  weight <- s * units$w
  basis <- set_basis(x, units)
  core_matched_nuisance(score_nuisance(x), s, weight, log_weight_slope(x),
                        function(y) core_spline_residual(y, basis, units$z, weight))
}

# Splines of the linear score with knots at the fifths of whom the estimand speaks of.
set_basis <- function(x, units) {
  inside <- units$used & units$w > 0 & units$z %in% seeking_arms(study_of(x)$estimand)
  linear <- x$score$linear[units$rows]
  core_spline_basis(linear, stats::quantile(linear[inside], 1:4 / 5, names = FALSE))
}
