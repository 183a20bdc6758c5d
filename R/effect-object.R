# An effect is an influence vector: estimates, one row of influence per study row in `rows`, and what is needed to say
# how they were made.

# source: what probes need to measure it again.
# block: see effect_blocks(); result: list(estimate, influence, v where the estimator made weights of its own, reused:
# per study row what repeated use of a unit adds, of matches with replacement; by_unit: see sums_by_unit()); inference:
# list(vcov, df, text, given: what is taken as given, in words); units: see effect_units(); asked: the settings of
# measure_effect(). pairs, sets, clusters: who belongs together, for what reads the effect later.
new_effect <- function(block, result, inference, units, asked) {
  x <- block$x
  study <- study_of(x)
  stopifnot(identical(names(result$estimate), colnames(result$influence)),
            nrow(result$influence) == length(units$rows))
  inference <- with_honest_errors(inference, result$estimate, stats::sd(units$y[units$used]), units$where)
  v <- if (is.null(result$v)) unit_sampling(x, units) * units$w else result$v
  worst <- block_imbalance(block, v, units, result$v)
  structure(list(
    outcome = block$outcome, estimator = asked$estimator, level = asked$level, shares = block$shares,
    contrast = block$contrast, group = block$group, by = asked$by, family = used_family(block, asked),
    interval = asked$interval, normalised = asked$normalise,
    study = study, kind = design_kind(x), reuse = reuses_units(x), design = design_label(x),
    note = effect_note(x, units), estimand = study$estimand,
    estimate = result$estimate, influence = result$influence, reused = result$reused,
    rows = units$rows, used = units$used, vcov = inference$vcov, df = inference$df,
    inference = paste(c(inference$text, inference$given), collapse = ", "), given = inference$given,
    counts = c(treated = sum(units$used & units$z == 1L), control = sum(units$used & units$z == 0L),
               missing = units$missing),
    sizes = arm_sizes(v, units$z), worst_smd = unname(worst), worst_row = names(worst),
    outcome_sd = core_pooled_sd(units$y, units$z, unit_sampling(x, units)),
    pairs = if (are_plain_pairs(x) && estimators[[asked$estimator]]$paired) pair_differences(units),
    sets = if (has_pairs(x) && !reuses_units(x)) x$set, by_unit = isTRUE(result$by_unit),
    clusters = asked$clusters$codes,
    measured = if (asked$inference == "jackknife") list(y = units$y[units$used], z = units$z[units$used],
                                                        v = v[units$used]),
    source = list(block = block, asked = asked), draws = NULL, responding = !is.null(units$response),
    cautions = design_cautions(x)
  ), class = "twin_effect")
}

# No standard error where nothing varies that it could be measured by, or no degrees of freedom are left. spread: sd of
# the outcome.
with_honest_errors <- function(inference, estimate, spread, where) {
  of_terms <- term_scale(names(estimate))
  scale <- ifelse(of_terms == "log", abs(estimate), ifelse(of_terms == "percent", 100 * spread, spread))
  inference$vcov <- core_without_certainty(inference$vcov, scale)
  gone <- names(estimate)[is.na(diag(inference$vcov))]
  if (length(gone) > 0L) {
    words <- gsub("_", " ", gone)
    warn_kind("no_error", c(
      "{length(gone)} estimate{?s}{where} {?has/have} no standard error: nothing varies that {?it/they} could be
       measured by.", x = "{.val {words}}.",
      i = "A variance of 0 is no certainty. Look at the outcome in each arm, and at how many clusters there are."
    ), terms = gone)
  }
  if (is.na(inference$df)) {
    warn_kind("no_error", c(
      "No degrees of freedom are left{where}: there are no intervals and no p-values.",
      i = "There must be more clusters than survey strata; merge strata, or cluster by something smaller."
    ))
  }
  inference
}

# What the outcome models were, in a word; NULL where there were none.
used_family <- function(block, asked) {
  entry <- estimators[[asked$estimator]]
  if (!entry$models || !is.null(asked$words)) return(NULL)
  if (!is.null(asked$learners) || entry$learns == "always") return("learners")
  if (reuses_units(block$x)) "gaussian" else outcome_family(asked, block)
}

# Whom the effect is about: the design's notes, and what missing outcomes leave of it.
effect_note <- function(x, units) {
  note <- if (inherits(x, "twin_design")) x$note else character()
  if (units$missing == 0L || !is.null(units$response)) return(note)
  study <- study_of(x)
  used <- seq_along(study$z) %in% units$rows[units$used]
  if (has_pairs(x)) {
    own <- pair_note(study, used, x$before_pairs)
    if (length(own) == 0L) return(note)
    return(c(setdiff(note, pair_note(study, design_kept(x), x$before_pairs)),
             paste(sub("that found a partner$", "that are in a", own), if (x$kind == "pairs") "pair" else "set",
                   "with known outcomes")))
  }
  if (!is.null(units$group)) return(c(note, "units whose outcome is known"))
  c(note, sprintf("the %s of %s units whose outcome is known", count_text(sum(used)),
                  count_text(sum(used) + units$missing)))
}

# Of a group, the imbalance left within it; of an estimator with weights of its own, the one they leave; with missing
# outcomes, that of the units in use.
block_imbalance <- function(block, v, units, own) {
  if (is.null(block$inside) && is.null(own) && units$missing == 0L) return(worst_imbalance(block$x))
  after <- numeric(length(study_of(block$x)$z))
  after[units$rows] <- v
  worst_imbalance(block$x, after)
}

#' @exportS3Method
study_of.twin_effect <- function(x) x$study # nolint: object_name_linter. An S3 method.

# One treated and one control unit each, nobody twice: what tests of pair differences are about.
are_plain_pairs <- function(x) {
  design_kind(x) == "pairs" && !reuses_units(x) && !anyDuplicated(x$pairs$set)
}

# One row per pair with both outcomes: set, difference (treated minus control).
pair_differences <- function(units) {
  y_of <- function(rows) units$y[match(rows, units$rows)]
  data.frame(set = units$pairs$set, difference = y_of(units$pairs$treated) - y_of(units$pairs$control))
}

# On which scale a term's interval and test are made: ratios by their logs, per cents by the differences of logs that
# they come from.
term_scale <- function(terms) {
  ifelse(terms %in% c("ratio", "odds_ratio", "hazard_ratio"), "log", ifelse(terms == "percent", "percent", "plain"))
}

# What a term is where there is no effect.
null_value <- function(terms) as.double(term_scale(terms) == "log")

to_scale <- function(values, scale) {
  out <- values
  out[scale == "log"] <- log(values[scale == "log"])
  out[scale == "percent"] <- log1p(values[scale == "percent"] / 100)
  out
}

from_scale <- function(values, scale) {
  out <- unname(values)
  out[scale == "log"] <- exp(out[scale == "log"])
  out[scale == "percent"] <- 100 * expm1(out[scale == "percent"])
  out
}

#' @export
tidy.twin_effect <- function(x, conf.level = x$level, ...) { # nolint: object_name_linter. broom-style name.
  rlang::check_dots_empty()
  check_level(conf.level)
  terms <- names(x$estimate)
  se <- sqrt(diag(x$vcov))
  scale <- term_scale(terms)
  scaled <- interval_scale(x$estimate, se, scale)
  statistic <- scaled$centre / scaled$spread
  data.frame(
    outcome = x$outcome, estimator = x$estimator, estimand = x$estimand, term = terms,
    estimate = unname(x$estimate), std.error = unname(se), statistic = unname(statistic),
    p.value = unname(effect_p_values(x, statistic)), effect_limits(x, scaled, scale, conf.level),
    row.names = NULL
  )
}

# One inference, one p-value: that of the draws where the interval is made of them.
effect_p_values <- function(x, statistic) {
  if (has_percentiles(x)) return(core_percentile_p(x$draws, null_value(names(x$estimate))))
  core_t_p_value(statistic, x$df)
}

has_percentiles <- function(x) !is.null(x$draws) && x$interval == "percentile"

# Limits by percentiles of the draws where those were asked for, else from interval_scale().
effect_limits <- function(x, scaled, scale, level) {
  if (has_percentiles(x)) {
    limits <- core_percentile_limits(x$draws, level)
    return(data.frame(conf.low = limits[, 1L], conf.high = limits[, 2L]))
  }
  limits <- limits_around(scaled$centre, core_t_quantile(level, x$df) * scaled$spread, scale)
  data.frame(conf.low = limits$low, conf.high = limits$high)
}

# Centre -/+ half, back from the scale they are on.
limits_around <- function(centre, half, scale) {
  list(low = from_scale(centre - half, scale), high = from_scale(centre + half, scale))
}

# Estimates and standard errors on the scale that intervals are made on.
interval_scale <- function(estimate, se, scale) {
  slope <- ifelse(scale == "log", estimate, ifelse(scale == "percent", 100 + estimate, 1))
  list(centre = to_scale(estimate, scale), spread = se / slope)
}

#' @export
glance.twin_effect <- function(x, ...) {
  rlang::check_dots_empty()
  book <- summary(logbook(x))
  data.frame(
    outcome = x$outcome, estimator = x$estimator, estimand = x$estimand, design = x$design,
    family = if (is.null(x$family)) NA_character_ else x$family, nobs = stats::nobs(x),
    n_treated = x$counts[["treated"]], n_control = x$counts[["control"]],
    missing_outcome = x$counts[["missing"]], ess_treated = x$sizes[["treated"]], ess_control = x$sizes[["control"]],
    worst_smd = x$worst_smd, df = x$df, inference = x$inference, designs_before = book$before,
    designs_after = book$after, cautions = caution_cell(x)
  )
}

#' @export
augment.twin_effect <- function(x, ...) {
  rlang::check_dots_empty()
  influence <- as.data.frame(x$influence)
  names(influence) <- paste0(".influence_", names(influence))
  data.frame(row = x$study$rows[x$rows], .used = x$used, influence, check.names = FALSE)
}

#' @export
as.data.frame.twin_effect <- function(x, ...) generics::tidy(x)

#' @export
coef.twin_effect <- function(object, ...) object$estimate

#' @export
vcov.twin_effect <- function(object, ...) object$vcov

#' @export
nobs.twin_effect <- function(object, ...) sum(object$counts[c("treated", "control")])

#' @export
confint.twin_effect <- function(object, parm = names(object$estimate), level = object$level, ...) {
  rlang::check_dots_empty()
  table <- generics::tidy(object, conf.level = level)
  limits_of_terms(table, table$term, parm, level)
}
