#' Weigh units so that the arms become alike
#'
#' Gives every unit the weight that makes its arm stand for the population of the study's estimand. Sampling weights
#' multiply these in every later step, and every effect on the design accounts for the estimation of the weights.
#'
#' * `"inverse"` (needs a score): h(e) / e for treated and h(e) / (1 - e) for control units, with h = 1 (ATE), e (ATT),
#'   1 - e (ATC), e(1 - e) (ATO) or min(e, 1 - e) (ATM); see [Methods, "Notation"](../doc/methods.html#notation).
#' * `"entropy"` (Hainmueller 2012): for the ATT control weights as close to the sampling weights as possible
#'   (Kullback-Leibler) whose moments equal the treated units'; for the ATC treated weights towards the controls'
#'   moments; for the ATE both arms towards the whole sample's. Balance is exact.
#' * `"balancing_score"` (Imai & Ratkovic 2014, just-identified): inverse weights of a logit score whose coefficients
#'   solve the balance conditions in place of the likelihood's. Replaces the score, if there is one.
#' * `"stable"` (Zubizarreta 2015): non-negative weights with the least variance whose every |SMD| is at most
#'   `tolerance`; for the ATE both arms are held to the whole sample's moments within half of it. The standardizing sd
#'   is that of [assess_balance()].
#' * `weight =` a column of your own, taken as known.
#'
#' @param x A `twin_design` with a score; for `"entropy"`, `"balancing_score"`, `"stable"` and own weights a
#'   `twin_study` will do.
#'   A `twin_arms` of [frame_arms()] gets inverse weights (scored), `"entropy"` weights or your own; `moments`,
#'   `interactions` and `truncate` are as for two arms.
#'   A `twin_dose` of [frame_dose()] gets inverse weights, the density of the dose over that given the covariates, or
#'   `"entropy"` weights, the closest to equal ones under which no covariate is correlated with the dose.
#'   A scored `twin_course` of [frame_course()] gets stabilised weights that run over its periods: the chance of each
#'   treatment given the one before over that given all of the past, multiplied up, times the same of staying.
#' @param method `"inverse"` (default), `"entropy"`, `"balancing_score"`, `"stable"`, or `"own"` (said by `weight`).
#' @param moments For `"entropy"` and `"stable"`: 1 (default; means), 2 (also squares of numeric columns) or 3 (also
#'   cubes).
#' @param interactions For `"entropy"` and `"stable"`: products whose means are balanced too, a one-sided formula such
#'   as `~ boat_length:port_size`, or `"all"` for every two columns.
#' @param tolerance For `"stable"`: the largest |SMD| allowed, default 0.02.
#' @param stabilise For `"inverse"` and `"balancing_score"`: multiply by the share of the unit's arm, P(Z = z)? Default
#'   `FALSE`. Estimates do not change, the weights' scale does.
#' @param truncate `NULL` (default), or where to cut weights off, within each arm: `c(bound = 20)` for an upper bound,
#'   or `list(quantile = c(0.01, 0.99))` for the arm's (sampling-weighted) quantiles of the weights; one quantile cuts
#'   from above only. Standard errors take the cut as given.
#' @param weight Name of a column of weights, not negative, without the sampling weight.
#' @param response Where outcomes are missing: a one-sided formula such as `~ boat_length + crew_size`. Units with a
#'   known outcome are weighed to stand in for the others too, as [weigh_responses()] does with this as its `model`.
#' @return A `twin_design` with weights. With `truncate` its print, the logbook and `tidy(x, part = "truncation")` say
#'   where each `arm`'s weights are cut (`low`, `high`) and how many were `raised` and `lowered`.
#' @section Errors: `twin_error_input` without a score where one is needed, for options that do not belong to the
#'   method and for bad weight columns; `twin_error_infeasible` (field `moments`) when no weights can meet the
#'   moments, with their names; `twin_error_unsupported` for an estimand that the method does not answer and on a
#'   design that already has pairs, weights or strata. When one unit carries more than a tenth of its arm's weight the
#'   warning is `twin_warning_weights`.
#' @references Hainmueller, J. (2012). Entropy balancing for causal effects. Political Analysis 20.
#'   \doi{10.1093/pan/mpr025}
#'
#'   Imai, K., Ratkovic, M. (2014). Covariate balancing propensity score. JRSS B 76. \doi{10.1111/rssb.12027}
#'
#'   Li, F., Morgan, K. L., Zaslavsky, A. M. (2018). Balancing covariates via propensity score weighting. JASA 113.
#'   \doi{10.1080/01621459.2016.1260466}
#'
#'   Zubizarreta, J. R. (2015). Stable weights that balance covariates for estimation with incomplete outcome data. JASA
#'   110. \doi{10.1080/01621459.2015.1023805}
#' @family design
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' study |> score_units() |> weigh_units()
#' weigh_units(study, "entropy", moments = 2)
#' assess_balance(weigh_units(study, "stable", tolerance = 0.05))
#' @export
weigh_units <- function(x, method = "inverse", moments = 1, interactions = NULL, tolerance = 0.02,
                        stabilise = FALSE, truncate = NULL, weight = NULL, response = NULL) {
  if (is_imputed(x)) return(in_each_set(x, weigh_units, match.call()))
  again <- given_arguments(match.call())
  again$response <- NULL  # a step of its own
  if (is_dose(x)) {
    given <- setdiff(names(match.call())[-1L], if (is.null(response)) "response")
    return(remember(weigh_dose(x, given, method, moments, truncate), x, "weigh", again))
  }
  if (is_course(x)) {
    given <- setdiff(names(match.call())[-1L], if (is.null(response)) "response")
    return(remember(weigh_course(x, given, truncate), x, "weigh", again))
  }
  if (is_arms(x)) {
    given <- setdiff(names(match.call())[-1L], if (is.null(response)) "response")
    asked <- list(method = method, moments = moments, interactions = interactions, truncate = truncate, weight = weight)
    return(remember(weigh_arms(x, given, asked), x, "weigh", again))
  }
  check_design(x, remote = is.null(response))
  check_undesigned(x, "weigh_units")
  unnamed <- missing(method)
  method <- check_choice(method, weighing_methods())
  if (!is.null(weight)) method <- check_own_method(method, unnamed)
  given <- setdiff(names(match.call())[-(1:2)], c("x", "response", if (is.null(truncate)) "truncate",
                                                  if (is.null(weight)) "weight",
                                                  if (is.null(interactions)) "interactions"))
  check_weigh_options(given, method)
  check_weigh_estimand(method, study_of(x)$estimand)
  asked <- list(method = method, moments = moments, interactions = interactions, tolerance = tolerance,
                stabilise = stabilise, truncate = check_truncate(truncate), column = weight)
  check_flag(stabilise)
  if (is_remote(x)) return(remember(remote_weights(x, asked, rlang::current_env()), x, "weigh", again))
  made <- weighings[[method]]$make(x, asked, rlang::current_env())
  weighed <- remember(finish_weights(x, made, asked), x, "weigh", again)
  if (is.null(response)) weighed else weigh_responses(weighed, model = response)
}

# made: list(weight, weighing, and score when the method made one). Stabilises, truncates, checks, logs.
finish_weights <- function(x, made, asked, call = rlang::caller_env()) {
  study <- study_of(x)
  weight <- made$weight * design_kept(x)
  check_finite_weights(weight, study, call)
  if (asked$stabilise) weight <- weight * core_share_nuisance(study$z, kept_weight(x))$share
  limits <- truncation_limits(weight, asked$truncate, study$z, kept_weight(x))
  cut <- truncate_weights(weight, limits, study$z) * design_kept(x)
  free <- if (is.null(limits)) TRUE else cut == weight
  weighing <- c(made$weighing, list(method = asked$method, stabilise = asked$stabilise, free = free,
                                    truncation = truncation_counts(weight, cut, limits, study$z)))
  step <- c(list(verb = "weigh", label = weigh_label(asked, study$estimand)),
            asked[c("method", sub("weight", "column", weighings[[asked$method]]$arguments), "truncate")])
  design <- new_design(x, step, kind = "weights", weight = cut, weighing = weighing,
                       score = if (is.null(made$score)) design_score(x) else made$score)
  warn_heavy_units(design)
  size <- arm_sizes(full_weight(design), study$z)
  moved <- if (!is.null(limits)) rowSums(weighing$truncation[c("raised", "lowered")])
  log_design(design, "weigh", paste0(
    sprintf("effective %.0f treated, %.0f control", size[["treated"]], size[["control"]]),
    if (!is.null(limits)) sprintf("; truncated %d treated, %d control", moved[[1L]], moved[[2L]])
  ), c(list(estimand = study$estimand), step[setdiff(names(step), c("verb", "label"))],
       if (!is.null(limits)) list(truncation = unlist(weighing$truncation[-1L]))))
}

weigh_label <- function(asked, estimand) {
  entry <- weighings[[asked$method]]
  extra <- c(entry$details(asked), if (asked$stabilise) "stabilised", if (!is.null(asked$truncate)) "truncated")
  sprintf("%s (%s)", entry$words, paste(c(estimand, extra), collapse = ", "))
}

check_own_method <- function(method, left_out, call = rlang::caller_env()) {
  if (left_out || method == "own") return("own")
  abort_input(c("{.arg weight} has no use with {.code method = \"{method}\"}.", i = "Leave one of them out."),
              call = call)
}

check_weigh_options <- function(given, method, call = rlang::caller_env()) {
  if (method == "own" && !"weight" %in% given) {
    abort_input("{.code method = \"own\"} needs {.arg weight}, the name of a column.", call = call)
  }
  stray <- setdiff(given, c("method", "truncate", weighings[[method]]$arguments))
  refuse_stray(stray, cli::format_inline("{.code method = \"{method}\"}"), call = call)
}

check_weigh_estimand <- function(method, estimand, call = rlang::caller_env()) {
  answers <- Filter(weighings[[method]]$answers, names(estimands))
  if (estimand %in% answers) return(invisible(estimand))
  abort_unsupported(c(
    "{.code method = \"{method}\"} can't answer the {estimand}: its population has no moments of its own to aim at.",
    i = "Use {.code method = \"inverse\"}, or frame the study for {.or {.val {answers}}}."
  ), call = call)
}

# list(bound) or list(quantile = two shares); NULL for none.
check_truncate <- function(truncate, call = rlang::caller_env()) {
  if (length(truncate) == 0L) return(as_given(truncate, call = call))
  truncate <- as.list(truncate)
  shares <- unlist(truncate)
  if (identical(names(truncate), "bound") && is_positive(shares)) return(list(bound = shares[[1L]]))
  if (identical(unique(names(truncate)), "quantile") && are_shares(shares)) {
    return(list(quantile = if (length(shares) == 1L) c(0, unname(shares)) else unname(shares)))
  }
  abort_input(c("{.arg truncate} must be an upper bound or quantiles of the weights.",
                i = "For example {.code c(bound = 20)}, {.code c(quantile = 0.99)} or
                     {.code list(quantile = c(0.01, 0.99))}."), call = call)
}

is_positive <- function(x) is_number(x) && x > 0

are_shares <- function(x) {
  is.numeric(x) && length(x) %in% 1:2 && !anyNA(x) && all(x >= 0 & x <= 1) && !is.unsorted(x, strictly = TRUE)
}

# The least and greatest weight allowed by arm: 2 x 2, treated first; NULL without truncation.
truncation_limits <- function(weight, truncate, z, s) {
  if (is.null(truncate)) return(NULL)
  if (!is.null(truncate$bound)) return(rbind(c(0, truncate$bound), c(0, truncate$bound)))
  of_arm <- function(arm) core_weighted_quantiles(weight[z == arm & s > 0], s[z == arm & s > 0], truncate$quantile)
  limits <- rbind(of_arm(1L), of_arm(0L))
  if (truncate$quantile[1L] == 0) limits[, 1L] <- 0
  limits
}

# Weights cut off at these.
truncate_weights <- function(weight, limits, z) {
  if (is.null(limits)) return(weight)
  pick <- function(k) ifelse(z == 1L, limits[1L, k], limits[2L, k])
  pmin(pmax(weight, pick(1L)), pick(2L))
}

# One row per arm: where its weights are cut and how many are.
truncation_counts <- function(weight, cut, limits, z) {
  if (is.null(limits)) return(NULL)
  count <- function(moved) c(sum(moved & z == 1L), sum(moved & z == 0L))
  data.frame(arm = c("treated", "control"), low = limits[, 1L], high = limits[, 2L],
             raised = count(weight > 0 & cut > weight), lowered = count(cut > 0 & cut < weight))
}

check_finite_weights <- function(weight, study, call) {
  bad <- which(!is.finite(weight))
  if (length(bad) == 0L) return(invisible(weight))
  abort_input(c(
    "{length(bad)} unit{?s} would weigh infinitely much: {?its score is/their scores are} 0 or 1.",
    x = "First rows: {first_rows(study$rows[bad])}.",
    i = "Leave {cli::qty(length(bad))}{?it/them} out with {.fn trim_units}, or choose an estimand that does not need
         {?it/them}."
  ), rows = study$rows[bad], call = call)
}

# The weights as a nuisance of core-nuisance.R: one mechanism for every method.
weight_nuisance <- function(design) {
  study <- design$study
  s <- kept_weight(design)
  facts <- design$weighing
  nuisance <- weighing_of(design)$nuisance(design, s)
  kept <- design_kept(design) & facts$free
  if (all(kept)) kept <- 1
  if (!isTRUE(facts$stabilise)) return(core_scaled(nuisance, kept))
  share <- core_share_nuisance(study$z, s)
  core_joined(list(core_scaled(nuisance, kept * share$share),
                   core_scaled(share, kept * design$weight / share$share)))
}

# Effective sample size by arm.
arm_sizes <- function(v, z) {
  sums <- core_arm_sums(v, z, v)[, 1L]
  c(treated = core_effective_size_of(sums[["total_treated"]], sums[["square_treated"]]),
    control = core_effective_size_of(sums[["total_control"]], sums[["square_control"]]))
}

warn_heavy_units <- function(design) {
  v <- full_weight(design)
  z <- design$study$z
  total <- core_arm_sums(v, z, v)[c("total_control", "total_treated"), 1L]
  if (max(v) <= 0.1 * min(total)) return(invisible(design))
  share <- v / total[z + 1L]
  units <- tabulate(z[v > 0] + 1L, 2L)
  heavy <- which(share > 0.1 & units[z + 1L] >= 20L)
  if (length(heavy) == 0L) return(invisible(design))
  warn_kind("weights", c(
    "{length(heavy)} unit{?s} {?carries/each carry} more than a tenth of {?its/their} arm's weight.",
    x = "First rows: {first_rows(design$study$rows[heavy])}; largest share {format(max(share), digits = 2)}.",
    i = "Look at {.fn assess_weights} and {.fn assess_overlap}; another estimand or a narrower study may be better
         supported."
  ), rows = design$study$rows[heavy])
}
