#' Probe an effect on pairs or sets for hidden bias
#'
#' Asks how strongly a hidden confounder would have to tilt the odds of treatment within pairs to change the conclusion
#' ([Methods, "Sensitivity"](../doc/methods.html#sensitivity); Rosenbaum 2002). At each gamma the verb gives the least
#' and the greatest one-sided p-value of the test, and the range of Hodges-Lehmann estimates and of their interval
#' limits.
#'
#' On pairs the test is the signed-rank test: zero differences are dropped, before ranking or after it (`zeros`), tied
#' ones share their average rank. When all
#' non-zero differences have one size (0/1 outcomes), and with `test = "sign"`, the chance that a difference is positive
#' is all that counts: the test is McNemar's, or the sign test, with binomial p-values, and no shift is estimated.
#' On sets of one unit and several of the other arm the test sums the aligned ranks of the units that stand alone in
#' their set (Hodges & Lehmann 1962), with the normal bounds of Gastwirth, Krieger & Rosenbaum (2000); sets all of whose
#' outcomes are equal say nothing.
#'
#' With replacement each difference is that of a unit that sought partners and the mean of its matches. Differences that
#' share a partner are dependent, which the test does not count; the print says how many partners are shared. A
#' cardinality match has no pairs: its sample is paired by the nearest Mahalanobis distance in the study's covariates
#' (optimally up to 2,000 pairs).
#'
#' @param x An effect (or [several], one by one) on pairs, with or without replacement, on sets, or on a cardinality
#'   match; or a numeric vector of pair differences (treated minus control).
#' @param gamma Hidden-bias odds, each at least 1; default 1 to 3 by 0.1.
#' @param side Which way the effect is claimed to go: `"observed"` (default; that of the estimate, said in the print),
#'   `"greater"` (treated higher) or `"less"`.
#' @param exact Use the exact distribution of the signed-rank statistic, for p-values and limits? By default up to 50
#'   pairs, and always for the sign test; sets never are. `FALSE` takes normal approximations.
#' @param zeros For the signed-rank test: are zero differences dropped before the others are ranked (`"drop"`, default),
#'   or ranked with them and dropped then (`"rank"`; Pratt 1959)?
#' @param level Confidence level; 1 - level is also the significance level of the verdict. Default 0.95.
#' @param test `"signed_rank"` (default) or `"sign"`, for pairs.
#' @return A `twin_probe`. `tidy()` gives one row per gamma: `gamma`, `p_low`, `p_high`, `estimate_low`,
#'   `estimate_high`, `conf_low`, `conf_high`. `glance()` gives `pairs` (or sets), `zeros`, `side`, `form`, `exact` and
#'   `gamma_change`: the gamma at which the greatest p-value passes 1 - level, found by root-finding (NA when even
#'   gamma = 1 does not reach it). `tidy(part = "amplification")` reads `gamma_change` as confounders of two strengths
#'   (Rosenbaum & Silber 2009): `treatment`, how many times it multiplies the odds of treatment within a pair, and
#'   `outcome`, how many times those of a positive pair difference.
#' @section Errors: `twin_error_input` for a gamma below 1, an effect without pairs, no pairs, or all-zero differences;
#'   `twin_error_unsupported` for the sign test on sets. Sampling weights have no place in these tests: when the study
#'   has them the warning is `twin_warning_unweighted`.
#' @references Gastwirth, J. L., Krieger, A. M., Rosenbaum, P. R. (2000). Asymptotic separability in sensitivity
#'   analysis. Journal of the Royal Statistical Society B 62. \doi{10.1111/1467-9868.00249}
#'
#'   Hodges, J. L., Lehmann, E. L. (1962). Rank methods for combination of independent experiments in analysis of
#'   variance. Annals of Mathematical Statistics 33. \doi{10.1214/aoms/1177704575}
#'
#'   Pratt, J. W. (1959). Remarks on zeros and ties in the Wilcoxon signed rank procedures. JASA 54.
#'   \doi{10.1080/01621459.1959.10501526}
#'
#'   Rosenbaum, P. R. (2002). Observational Studies, 2nd ed. Springer. \doi{10.1007/978-1-4757-3692-2}
#'
#'   Rosenbaum, P. R., Silber, J. H. (2009). Amplification of sensitivity analysis in matched observational studies.
#'   JASA 104. \doi{10.1198/jasa.2009.tm08470}
#' @family hidden bias
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + past_income + port_size)
#' effect <- study |> score_units() |> pair_units(caliper = 0.2) |> measure_effect()
#' probe_pairs(effect, gamma = seq(1, 3, by = 0.25))
#' @export
probe_pairs <- function(x, gamma = seq(1, 3, by = 0.1), side = c("observed", "greater", "less"),
                        test = c("signed_rank", "sign"), exact = NULL, zeros = c("drop", "rank"), level = 0.95) {
  if (are_effects(x)) return(in_each_part(x$effects, "effect", probe_pairs, match.call()))
  if (is_pooled(x)) return(in_each_set(x, probe_pairs, match.call()))
  side <- check_choice(side, c("observed", "greater", "less"))
  test <- check_choice(test, c("signed_rank", "sign"))
  zeros <- check_choice(zeros, c("drop", "rank"))
  check_level(level)
  check_numbers(gamma, "numbers from 1 to a million", 1, 1e6, advice = "Gamma 1 means no hidden bias; 2 that a hidden
                confounder may double the odds of treatment within a pair.")
  if (!is.null(exact)) check_flag(exact)
  if (inherits(x, "twin_effect")) refuse_matched_arms(x)
  warn_sampling_weights(x)
  pairs <- if (!inherits(x, "twin_effect") || has_pair_differences(x)) pair_difference_values(x)
  found <- if (is.null(pairs)) probe_sets(set_values(x), gamma, side, exact, level, test) else
    probe_differences(pairs$difference, gamma, side, exact, level, test, zeros)
  change <- gamma_at_change(found$bounds, 1 - level)
  log_probed(x, "pairs")
  new_probe("pairs", cbind(data.frame(gamma = gamma), found$rows), c(found$facts, pairs["reuse"], pairs["paired"], list(
    side_chosen = side, level = level, gamma_change = change, p_at_one = found$bounds(1)[["p_high"]],
    effect = if (inherits(x, "twin_effect")) list(
      outcome = x$outcome, design = x$design, estimator = x$estimator,
      p_value = p_one_sided(x, found$facts$side == "greater"), estimate = main_row(x)$estimate
    )
  )), list(amplification = amplification_rows(change)))
}

# list(bounds = function(gamma) c(p_low, p_high), rows, facts).
probe_differences <- function(d, gamma, side, exact, level, test, zeros) {
  direction <- if (side != "observed") side else if (observed_direction(d) < 0) "less" else "greater"
  chosen <- pair_test(if (direction == "less") -d else d, exact, test, zeros)
  rows <- cbind(p_rows(chosen$bounds, gamma),
                if (chosen$form == "signed_rank") core_shift_bounds(sort(d), gamma, level, chosen$exact) else
                  no_shifts(length(gamma)))
  list(bounds = chosen$bounds, rows = rows,
       facts = list(pairs = length(d), zeros = sum(d == 0), zeros_ranked = zeros == "rank", side = direction,
                    form = chosen$form, exact = chosen$exact))
}

p_rows <- function(bounds, gamma) as.data.frame(t(vapply(gamma, bounds, numeric(2))))

no_shifts <- function(size) {
  names <- c("estimate_low", "estimate_high", "conf_low", "conf_high")
  matrix(NA_real_, size, 4L, dimnames = list(NULL, names))
}

# The test of differences whose claimed direction is up.
pair_test <- function(d, exact, test, zeros) {
  nonzero <- d[d != 0]
  one_size <- length(unique(abs(nonzero))) == 1L
  if (one_size || test == "sign") {
    positive <- sum(nonzero > 0)
    if (is.null(exact)) exact <- TRUE
    return(list(bounds = function(gamma) core_sign_bounds(positive, length(nonzero), gamma, exact),
                form = if (one_size) "mcnemar" else "sign", exact = exact))
  }
  ranks <- core_signed_ranks(d, zeros == "rank")
  if (is.null(exact)) exact <- ranks$pairs <= 50L
  list(bounds = function(gamma) core_signed_rank_bounds(ranks, gamma, exact), form = "signed_rank", exact = exact)
}

# That of the Hodges-Lehmann estimate, or of the signs where it is 0.
observed_direction <- function(d) {
  centre <- core_walsh_at(sort(d), length(d) * (length(d) + 1) / 4)
  if (centre != 0) sign(centre) else sum(sign(d))
}

probe_sets <- function(sets, gamma, side, exact, level, test, call = rlang::caller_env()) {
  if (test == "sign") {
    abort_unsupported(c("The sign test is for pairs; these are sets of several units.",
                        i = "Leave {.arg test} out."), call = call)
  }
  if (isTRUE(exact)) {
    abort_unsupported(c("No exact bounds are known for sets of several units.", i = "Leave {.arg exact} out."),
                      call = call)
  }
  reach <- diff(range(sets$y))
  above <- core_set_shift(sets, 1, TRUE, 0, reach) >= 0
  direction <- if (side != "observed") side else if (above) "greater" else "less"
  flip <- if (direction == "less") -1 else 1
  scores <- core_aligned_scores(flip * sets$y, sets$z, sets$alone, sets$set)
  bounds <- function(gamma) {
    at <- function(high) stats::pnorm(core_set_deviate(scores, gamma, high), lower.tail = FALSE)
    c(p_low = at(FALSE), p_high = at(TRUE))
  }
  list(bounds = bounds, rows = cbind(p_rows(bounds, gamma), set_shifts(sets, gamma, level, reach)),
       facts = list(pairs = max(sets$set), zeros = sets$zeros, side = direction, form = "sets", exact = FALSE))
}

# Ranges of estimates and limits; long work for many large sets.
set_shifts <- function(sets, gamma, level, reach) {
  z <- stats::qnorm(1 - (1 - level) / 2)
  rows <- run_pieces("Shifts", gamma, function(g) {
    shift <- function(high, target) core_set_shift(sets, g, high, target, reach)
    c(estimate_low = shift(TRUE, 0), estimate_high = shift(FALSE, 0), conf_low = shift(TRUE, z),
      conf_high = shift(FALSE, -z))
  })
  do.call(rbind, rows)
}

# The units of the sets that hold an outcome in both arms, one of them by a single unit: y, z, set (codes, sorted),
# alone, zeros (sets left out since nothing varies in them).
set_values <- function(x, call = rlang::caller_env()) {
  if (is.null(x$sets) || !estimators[[x$estimator]]$paired) {
    abort_input(c("{.arg x} must be an effect on pairs or sets.", x = "It was measured on: {x$design}.",
                  i = "Use {.or {.fn {probes_that_fit(x, 'probe_pairs')}}}."), call = call)
  }
  block <- x$source$block
  inside <- which(!is.na(x$sets) & !is.na(block$y) & seq_along(block$y) %in% x$rows[x$used])
  order <- order(x$sets[inside], method = "radix")
  inside <- inside[order]
  set <- match(x$sets[inside], unique(x$sets[inside]))
  y <- block$y[inside]
  z <- study_of(x)$z[inside]
  treated <- core_sums_by(z, set)
  control <- core_sums_by(1 - z, set)
  if (any(pmin(treated, control) > 1L)) {
    abort_unsupported(c("Sets must have one unit of one arm: {sum(pmin(treated, control) > 1L)} ha{?s/ve} several of
                         both.", i = "Use {.fn group_units} with {.code method = \"full\"}."), call = call)
  }
  varies <- vapply(split(y, set), function(values) any(values != values[1L]), NA)
  whole <- treated > 0 & control > 0
  keep <- (whole & varies)[set]
  if (!any(keep)) stop_all_zero(sum(whole), "set", call)
  out <- list(y = y[keep], z = z[keep], set = match(set[keep], unique(set[keep])), zeros = sum(whole & !varies))
  single <- core_sums_by(out$z, out$set) == 1  # of a set of one and one the treated unit counts as the one alone
  out$alone <- out$z == ifelse(single, 1L, 0L)[out$set]
  out
}

stop_all_zero <- function(count, what, call) {
  abort_input(c("All {count} {what} {cli::qty(count)}difference{?s} {?is/are} 0.",
                i = "There is no effect to overturn."), call = call)
}

# The greatest p-value rises with gamma, so the change has one root.
gamma_at_change <- function(bounds, alpha) {
  excess <- function(gamma) bounds(gamma)[["p_high"]] - alpha
  if (excess(1) > 0) return(NA_real_)
  top <- 2
  while (excess(top) < 0 && top < 1e6) top <- top * 2
  if (top >= 1e6) return(Inf)
  stats::uniroot(excess, c(1, top), tol = 1e-8)$root
}

# What a confounder must do to treatment and outcome to amount to gamma.
amplification_rows <- function(gamma) {
  if (is.na(gamma) || is.infinite(gamma) || gamma <= 1) return(NULL)
  equal <- gamma + sqrt(gamma^2 - 1)
  treatment <- sort(c(gamma * c(1.1, 1.25, 1.5, 2, 3), equal))
  data.frame(gamma = gamma, treatment = treatment, outcome = core_amplify(gamma, treatment))
}

# The test permutes treatment within pairs of two arms.
refuse_matched_arms <- function(x, call = rlang::caller_env()) {
  if (!is_matched_arms(design_of(x))) return(invisible(x))
  abort_unsupported(c("Matches of everybody among several arms are no pairs of treated and control units.",
                      x = "A unit of a third arm stands there for nobody: partners stand for it.",
                      i = "Frame the arms for the ATT or ATC to pair two at a time, or use
                           {.or {.fn {probes_that_fit(x, 'probe_pairs')}}}."), call = call)
}

warn_sampling_weights <- function(x) {
  if (!inherits(x, "twin_effect") || is.null(study_of(x)$s)) return(invisible(x))
  warn_kind("unweighted", c("These tests take every pair or set alike: sampling weights are not used here."))
}

# Are there pairs, or units with their matches, or a sample of both arms that can be paired?
has_pair_differences <- function(x) {
  if (!is.null(x$pairs)) return(TRUE)
  design <- design_of(x)
  if (is.null(design) || !estimators[[x$estimator]]$paired) return(FALSE)
  if (is_matched_arms(design)) return(FALSE)
  reuses_units(design) || (isTRUE(weighing_of(design)$even) && is.null(x$source$block$inside))
}

# list(difference, reuse, paired): reuse, c(partners, shared, most): how many partners there are, how many serve
# several, and how many the busiest; paired: the distance that a sample was paired by here. Both NULL where they don't
# apply.
pair_difference_values <- function(x, call = rlang::caller_env()) {
  found <- list(difference = x, reuse = NULL, paired = NULL)
  if (inherits(x, "twin_effect")) {
    found$difference <- x$pairs$difference
    if (is.null(x$pairs)) found <- if (x$reuse) seeker_differences(x) else paired_sample(x)
  }
  d <- found$difference
  refuse_wider_effect(x, call)
  if (!is_plain_numbers(d) || length(d) == 0L || any(!is.finite(d))) {
    abort_input("{.arg x} must be an effect on pairs, or finite pair differences (treated minus control).",
                call = call)
  }
  if (all(d == 0)) stop_all_zero(length(d), "pair", call)
  found$difference <- as.double(d)
  found
}

# Each seeker's outcome and the mean of its matches, treated minus control.
seeker_differences <- function(x) {
  block <- x$source$block
  pairs <- effect_units(block$x, block$y, block$inside)$pairs
  y <- block$y
  seeker <- seekers_of(pairs)
  partner <- partners_of(pairs)
  mean <- core_sums_by(pairs$weight * y[partner], pairs$set) / core_sums_by(pairs$weight, pairs$set)
  first <- match(seq_along(mean), pairs$set)
  times <- tabulate(match(partner, unique(partner)))
  list(difference = ifelse(pairs$seeks[first], 1, -1) * (y[seeker[first]] - mean),
       reuse = c(partners = length(times), shared = sum(times > 1L), most = max(times)), paired = NULL)
}

# The units of a sample with as many of both arms, in pairs.
paired_sample <- function(x) {
  design <- design_of(x)
  used <- x$rows[x$used]
  study <- study_rows(amend(study_of(design), logbook = NULL), used)
  search <- if (sum(study$z) <= 2000) "optimal" else "greedy"
  pairs <- suppressWarnings(pair_units(study, on = "mahalanobis", search = search))$pairs
  y <- x$source$block$y[used]
  list(difference = y[pairs$treated] - y[pairs$control], reuse = NULL, paired = "Mahalanobis distance")
}

# Probes of single effects that take this one, for the advice of the probe that does not (`but`).
probes_that_fit <- function(x, but) {
  sets <- !is.null(x$sets) && estimators[[x$estimator]]$paired
  weights <- but != "probe_weights" && fits_probe(check_bounded_weights(x)) &&
    fits_probe(bounded_arms(x$source$block, x$source$asked))
  pairs <- but != "probe_pairs" && (has_pair_differences(x) || (sets && fits_probe(set_values(x))))
  c(if (weights) "probe_weights", if (pairs) "probe_pairs", if (!inherits(x, "twin_hazard")) "probe_omitted",
    "probe_ratio")
}

#' @export
glance.twin_probe_pairs <- function(x, ...) {
  rlang::check_dots_empty()
  as.data.frame(x$facts[c("pairs", "zeros", "side", "form", "exact", "gamma_change")])
}
