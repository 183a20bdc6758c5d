#' Weigh units so that the arms become alike
#'
#' Gives every unit the weight that makes its arm stand for the population of the study's estimand. Sampling weights
#' multiply these in every later step, and every effect on the design accounts for the estimation of the weights.
#'
#' * `"inverse"` (needs a score): h(e) / e for treated and h(e) / (1 - e) for control units, with h = 1 (ATE), e (ATT),
#'   1 - e (ATC), e(1 - e) (ATO) or min(e, 1 - e) (ATM); see METHODS, "Notation".
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
#'   A scored `twin_arms` of [frame_arms()] gets inverse weights; only `truncate` can be chosen then.
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
#' @return A `twin_design` with weights.
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
weigh_units <- function(x, method = c("inverse", "entropy", "balancing_score", "stable", "own"), moments = 1,
                        interactions = NULL, tolerance = 0.02, stabilise = FALSE, truncate = NULL, weight = NULL) {
  again <- given_arguments(match.call())
  if (inherits(x, "twin_arms")) {
    return(remember(weigh_arms(x, names(match.call())[-1L], method, truncate), x, "weigh", again))
  }
  check_design(x)
  check_undesigned(x, "weigh_units")
  unnamed <- missing(method)
  method <- check_choice(method, c("inverse", "entropy", "balancing_score", "stable", "own"))
  if (!is.null(weight)) method <- check_own_method(method, unnamed)
  given <- setdiff(names(match.call())[-(1:2)], c("x", if (is.null(truncate)) "truncate", if (is.null(weight)) "weight",
                                                  if (is.null(interactions)) "interactions"))
  check_weigh_options(given, method)
  check_weigh_estimand(method, study_of(x)$estimand)
  asked <- list(method = method, moments = moments, interactions = interactions, tolerance = tolerance,
                stabilise = stabilise, truncate = check_truncate(truncate), column = weight)
  check_flag(stabilise)
  made <- switch(method,
    inverse = inverse_weights(check_score(x, "weigh_units"), x$score),
    balancing_score = balancing_score_weights(x),
    entropy = ,
    stable = moment_weights(x, asked),
    own = own_weights(x, weight)
  )
  remember(finish_weights(x, made, asked), x, "weigh", again)
}

# made: list(weight, weighing, and score when the method made one). Stabilises, truncates, checks, logs.
finish_weights <- function(x, made, asked, call = rlang::caller_env()) {
  study <- study_of(x)
  weight <- made$weight * design_kept(x)
  check_finite_weights(weight, study, call)
  if (asked$stabilise) weight <- weight * core_share_nuisance(study$z, kept_weight(x))$share
  cut <- truncate_weights(weight, asked$truncate, study$z, kept_weight(x)) * design_kept(x)
  weighing <- c(made$weighing, list(method = asked$method, stabilise = asked$stabilise, free = cut == weight))
  step <- c(list(verb = "weigh", label = weigh_label(asked, study$estimand)),
            asked[c("method", weigh_options[[asked$method]], "truncate")])
  design <- new_design(x, step, kind = "weights", weight = cut, weighing = weighing,
                       score = if (is.null(made$score)) design_score(x) else made$score)
  warn_heavy_units(design)
  size <- arm_sizes(full_weight(design), study$z)
  log_design(design, "weigh", sprintf("effective %.0f treated, %.0f control", size[["treated"]], size[["control"]]),
             c(list(estimand = study$estimand), step[setdiff(names(step), c("verb", "label"))]))
}

weigh_options <- list(inverse = "stabilise", balancing_score = "stabilise", entropy = c("moments", "interactions"),
                      stable = c("moments", "interactions", "tolerance"), own = "column")

weigh_label <- function(asked, estimand) {
  words <- c(inverse = "inverse weights", entropy = "entropy weights", balancing_score = "balancing-score weights",
             stable = "stable weights", own = "own weights")
  extra <- c(
    if (asked$method %in% c("entropy", "stable") && asked$moments > 1) paste(round(asked$moments), "moments"),
    if (asked$method %in% c("entropy", "stable") && !is.null(asked$interactions)) "interactions",
    if (asked$method == "stable") paste("within", format(asked$tolerance)),
    if (asked$stabilise) "stabilised", if (!is.null(asked$truncate)) "truncated", asked$column
  )
  sprintf("%s (%s)", words[[asked$method]], paste(c(estimand, extra), collapse = ", "))
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
  stray <- setdiff(given, c("method", "truncate", sub("column", "weight", weigh_options[[method]])))
  refuse_stray(stray, cli::format_inline("{.code method = \"{method}\"}"), call = call)
}

check_weigh_estimand <- function(method, estimand, call = rlang::caller_env()) {
  answers <- switch(method, inverse = , own = estimand, balancing_score = c("ATE", "ATT", "ATC", "ATO"),
                    c("ATE", "ATT", "ATC"))
  if (estimand %in% answers) return(invisible(estimand))
  abort_unsupported(c(
    "{.code method = \"{method}\"} can't answer the {estimand}: its population has no moments of its own to aim at.",
    i = "Use {.code method = \"inverse\"}, or frame the study for {.or {.val {answers}}}."
  ), call = call)
}

# list(bound) or list(quantile = two shares); NULL for none.
check_truncate <- function(truncate, call = rlang::caller_env()) {
  truncate <- as.list(truncate)
  if (length(truncate) == 0L) return(NULL)
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

# Weights cut off at the least and greatest allowed in their arm.
truncate_weights <- function(weight, truncate, z, s) {
  if (is.null(truncate)) return(weight)
  if (!is.null(truncate$bound)) return(pmin(weight, truncate$bound))
  of_arm <- function(arm) core_weighted_quantiles(weight[z == arm & s > 0], s[z == arm & s > 0], truncate$quantile)
  limits <- list(treated = of_arm(1L), control = of_arm(0L))
  pick <- function(k) ifelse(z == 1L, limits$treated[k], limits$control[k])
  pmin(pmax(weight, if (truncate$quantile[1L] > 0) pick(1L) else 0), pick(2L))
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

inverse_weights <- function(x, score) {
  list(weight = core_inverse_weight(score$fitted, study_of(x)$z, study_of(x)$estimand), weighing = list())
}

own_weights <- function(x, name, call = rlang::caller_env(2)) {
  study <- study_of(x)
  check_string(name, arg = "weight", call = call)
  check_columns(name, study$data, "weight", call)
  values <- study$data[[name]][study$rows]
  kept <- design_kept(x)
  checked <- check_weight(values[kept], name, study$z[kept], study$levels, study$rows[kept], call)
  list(weight = replace(numeric(length(kept)), kept, checked), weighing = list())
}

# The logit score of METHODS, "Balancing weights", and its inverse weights.
balancing_score_weights <- function(x, call = rlang::caller_env(2)) {
  study <- study_of(x)
  matrix <- study_matrix(study)
  s <- kept_weight(x)
  z <- as.double(study$z)
  score <- switch(study$estimand,
    ATE = counterpoise_score(matrix, z, s, x, call),
    ATO = {  # the moments of e (1 - e) are the likelihood's own
      fit <- core_fit(matrix, z, s, "logit")
      check_fit(fit, matrix, x, call)
      c(fit[c("linear", "fitted", "coefficients", "covariance", "aliased")], list(residual = s * (z - fit$fitted)))
    },
    odds_score(matrix, z, s, study, call)
  )
  names <- c("(intercept)", colnames(matrix))
  dimnames(score$covariance) <- list(names, names)
  score$coefficients <- stats::setNames(score$coefficients, names)
  score$aliased <- colnames(matrix)[score$aliased]
  score <- c(list(link = "logit", terms = study_terms(study), formula = study$formula, columns = names(study$columns),
                  known = FALSE, settings = list(source = "balancing")), score)
  c(inverse_weights(x, score), list(score = score))
}

counterpoise_score <- function(matrix, z, s, x, call) {
  fit <- core_fit_counterpoise(matrix, z, s)
  check_fit(fit, matrix, x, call)
  along <- ifelse(z == 1, fit$linear, -fit$linear)
  c(fit[c("linear", "fitted", "coefficients", "covariance", "aliased")],
    list(residual = s * (2 * z - 1) * (1 + exp(-along))))
}

# ATT, ATC: the odds of the arm to be weighted are exp(b0 + x'b), which is the entropy dual of the means.
odds_score <- function(matrix, z, s, study, call) {
  targets <- core_balancing_targets(study$z, study$estimand)
  side <- if (study$estimand == "ATT") 1 else -1
  arm <- if (study$estimand == "ATT") 1 - z else z
  fit <- core_balance_arm(matrix, s, arm, targets[[1L]])
  check_balanced(fit, matrix, s, arm, names(targets), study, NULL, call)
  linear <- side * (fit$coefficients[1L] + drop(matrix %*% fit$coefficients[-1L]))
  list(linear = linear, fitted = stats::plogis(linear), coefficients = side * fit$coefficients,
       covariance = fit$covariance, aliased = setdiff(seq_len(ncol(matrix)), fit$active),
       residual = side * s * (targets[[1L]] - arm * fit$weight))
}

# Entropy and stable weights.
moment_weights <- function(x, asked, call = rlang::caller_env(2)) {
  study <- study_of(x)
  stable <- asked$method == "stable"
  if (stable) check_number(asked$tolerance, min = 0, arg = "tolerance", call = call)
  check_moments(asked$moments, call)
  moments <- moment_matrix(study, asked$moments, asked$interactions, all_levels = stable, call)
  s <- kept_weight(x)
  targets <- core_balancing_targets(study$z, study$estimand)
  tolerance <- if (stable) asked$tolerance / length(targets) * reference_sds(moments, study)
  fits <- Map(function(target, name) {
    arm <- as.double(study$z == (name == "treated"))
    fit <- core_balance_arm(moments, s, arm, target, tolerance)
    check_balanced(fit, moments, s, arm, name, study, tolerance, call)
    fit[c("coefficients", "covariance", "weight", "active")]
  }, targets, names(targets))
  weight <- Reduce(`+`, lapply(fits, `[[`, "weight"))
  if (length(targets) == 1L) weight[study$z != (names(targets) == "treated")] <- 1
  list(weight = weight, weighing = list(moments = asked$moments, interactions = asked$interactions,
                                        tolerance = asked$tolerance, fits = fits))
}

check_moments <- function(moments, call) {
  if (is_number(moments) && moments %in% 1:3) return(invisible(moments))
  abort_input("{.arg moments} must be 1, 2 or 3.", call = call)
}

# What is to be balanced: the covariates and whatever terms a formula adds, numeric columns standardised (so that
# powers do not run together), their powers, and products asked for. all_levels: with the first level of every factor,
# as the balance table has it.
moment_matrix <- function(study, moments, interactions, all_levels, call) {
  base <- covariate_matrix(study$columns)
  if (!is.null(study$formula)) {
    terms <- study_matrix(study)
    base <- cbind(base, terms[, setdiff(colnames(terms), colnames(base)), drop = FALSE])
  }
  if (all_levels) base <- cbind(base, reference_levels(study$columns))
  numeric <- Filter(function(column) column$kind %in% c("numeric", "date"), study$columns)
  standard <- lapply(numeric, function(column) standardise(column$values, sampling_weight(study)))
  plain <- intersect(names(standard), colnames(base))
  if (length(plain) > 0L) base[, plain] <- do.call(cbind, standard[plain])
  powers <- lapply(seq_len(moments)[-1L], function(power) {
    columns <- lapply(standard, function(values) values^power)
    do.call(cbind, stats::setNames(columns, sprintf("%s^%d", names(columns), power)))
  })
  do.call(cbind, c(list(base), powers, list(interaction_matrix(study, interactions, standard, call))))
}

standardise <- function(x, s) {
  mean <- sum(s * x) / sum(s)
  (x - mean) / sqrt(sum(s * (x - mean)^2) / sum(s))
}

interaction_matrix <- function(study, interactions, standard, call) {
  if (is.null(interactions)) return(NULL)
  columns <- study$columns
  columns[names(standard)] <- Map(function(column, values) {
    column$values <- values
    column
  }, columns[names(standard)], standard)
  columns <- lapply(columns, function(column) column[names(column) != "flag"])
  if (identical(interactions, "all")) {
    if (length(columns) < 2L) abort_input("{.arg interactions} needs two covariates or more.", call = call)
    wanted <- utils::combn(formula_names(names(columns)), 2L, paste, collapse = ":")
  } else {
    wanted <- attr(stats::terms(score_formula(interactions, study, call, "interactions")), "term.labels")
    wanted <- wanted[grepl(":", wanted, fixed = TRUE)]
    if (length(wanted) == 0L) {
      abort_input("{.arg interactions} must hold products such as {.code ~ a:b}, or be \"all\".", call = call)
    }
  }
  do.call(cbind, lapply(wanted, function(label) product_matrix(columns, label, call)))
}

# Products of the columns of each part; main effects are in the base already.
product_matrix <- function(columns, label, call) {
  parts <- all.vars(str2lang(label))
  own <- Map(function(column, name) do.call(cbind, plain_part(column, name)), columns[parts], parts)
  product <- Reduce(function(a, b) {
    out <- column_products(a, b)
    colnames(out) <- paste(rep(colnames(a), ncol(b)), rep(colnames(b), each = ncol(a)), sep = " x ")
    out
  }, own)
  product
}

# The sds that standardize differences, of the sample before the design (METHODS, "Balance").
reference_sds <- function(moments, study) {
  vapply(seq_len(ncol(moments)), function(j) reference_sd(moments[, j], study)$sd, 0)
}

reference_sd <- function(values, study) {
  core_reference_spread(values, study$z, sampling_weight(study), reference_arm(study$estimand), all(values %in% 0:1))
}

# Turns the facts of a balancing fit into an error that names the moments that can't be met.
check_balanced <- function(fit, moments, s, arm, name, study, tolerance, call) {
  slack <- if (is.null(tolerance)) 1e-8 else tolerance + 1e-8
  left <- abs(core_moment_gaps(moments, s, arm, fit))
  if (fit$status == "converged" && all(left <= slack + 1e-8 * abs(fit$target))) return(invisible(fit))
  beyond <- beyond_range(moments[arm == 1 & s > 0, , drop = FALSE], fit$target, tolerance)
  guilty <- if (any(beyond)) which(beyond) else which(left >= max(left) / 20)
  named <- colnames(moments)[guilty[order(-left[guilty])]]
  shown <- utils::head(named, 6L) # nolint: object_usage_linter. In the message.
  other <- if (name == "treated") "control" else "treated" # nolint: object_usage_linter. In the message.
  abort_kind("infeasible", c(
    "No weights of the {name} units can meet the moments asked for.",
    x = paste0(if (any(beyond)) "Out of their range: {.val {shown}}" else "They can't be met together: {.val {shown}}",
               if (length(named) > 6L) " and {length(named) - 6L} more", "."),
    i = "Ask for less: fewer {.arg moments} or {.arg interactions}, merged levels, a larger {.arg tolerance}
         ({.code method = \"stable\"}); or {.fn trim_units} the {other} units without counterpart first."
  ), moments = named, call = call, .envir = environment())
}

# Moments whose target no weights of the arm can reach. Entropy weights are positive, so that the ends of the range are
# out of reach too.
beyond_range <- function(x, target, tolerance) {
  least <- apply(x, 2L, min)
  most <- apply(x, 2L, max)
  if (!is.null(tolerance)) return(target - tolerance > most | target + tolerance < least)
  target > most | target < least | (least < most & (target == least | target == most))
}

# The weights as a nuisance of core-nuisance.R: one mechanism for every method.
weight_nuisance <- function(design) {
  study <- design$study
  s <- kept_weight(design)
  facts <- design$weighing
  if (facts$method %in% c("strata", "cells")) {
    return(core_stratum_nuisance(design$set, study$z, s, design$weight, study$estimand))
  }
  if (facts$method == "arms") return(arm_weight_nuisance(design))
  if (facts$method %in% c("own", "cardinality")) return(core_known(length(s)))
  nuisance <- switch(facts$method,
    inverse = , balancing_score = inverse_nuisance(design),
    entropy = , stable = moment_nuisance(design, s)
  )
  kept <- as.double(design_kept(design) & facts$free)
  if (!facts$stabilise) return(core_scaled(nuisance, kept))
  share <- core_share_nuisance(study$z, s)
  core_joined(list(core_scaled(nuisance, kept * share$share),
                   core_scaled(share, kept * design$weight / share$share)))
}

inverse_nuisance <- function(design) {
  study <- design$study
  score_function_nuisance(design, core_inverse_weight_slope(design$score$fitted, study$z, study$estimand))
}

moment_nuisance <- function(design, s) {
  study <- design$study
  facts <- design$weighing
  moments <- moment_matrix(study, facts$moments, facts$interactions, facts$method == "stable", rlang::caller_env())
  targets <- core_balancing_targets(study$z, study$estimand)
  core_joined(unname(Map(function(fit, target, name) {
    arm <- as.double(study$z == (name == "treated"))
    if (facts$method == "entropy") return(core_entropy_nuisance(moments, s, arm, target, fit))
    share <- facts$tolerance / length(targets)
    spreads <- lapply(seq_len(ncol(moments)), function(j) reference_sd(moments[, j], study))
    core_stable_nuisance(moments, s, arm, target, fit, share * vapply(spreads, `[[`, 0, "sd"), function(u) {
      Reduce(`+`, Map(function(spread, u) if (u == 0) 0 else share * u * spread$influence(), spreads, u), 0)
    })
  }, facts$fits, targets, names(targets))))
}

# Effective sample size by arm.
arm_sizes <- function(v, z) {
  c(treated = core_effective_size(v[z == 1L]), control = core_effective_size(v[z == 0L]))
}

warn_heavy_units <- function(design) {
  v <- full_weight(design)
  z <- design$study$z
  share <- v / ifelse(z == 1L, sum(v[z == 1L]), sum(v[z == 0L]))
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
