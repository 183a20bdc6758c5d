# An effect is an influence vector: estimates, one row of influence per study row in `rows`, and what is needed to say
# how they were made.

# result: list(estimate, influence); inference: list(vcov, df, text); units: see effect_units(); settings: list of
# outcome, estimator, level, shares.
new_effect <- function(x, result, inference, units, settings) {
  study <- study_of(x)
  stopifnot(identical(names(result$estimate), colnames(result$influence)),
            nrow(result$influence) == length(units$rows))
  v <- sampling_weight(study)[units$rows] * units$w * units$used
  structure(c(settings, list(
    study = study, kind = design_kind(x), reuse = reuses_units(x), design = design_label(x),
    note = if (inherits(x, "twin_design")) x$note else character(), estimand = study$estimand,
    estimate = result$estimate, influence = result$influence,
    rows = units$rows, used = units$used, vcov = inference$vcov, df = inference$df, inference = inference$text,
    counts = c(treated = sum(units$used & units$z == 1L), control = sum(units$used & units$z == 0L),
               missing = units$missing),
    sizes = arm_sizes(v, units$z), worst_smd = worst_imbalance(x),
    outcome_sd = core_pooled_sd(units$y, units$z, unit_sampling(x, units)),
    pairs = if (are_plain_pairs(x)) pair_differences(units)
  )), class = "twin_effect")
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

# Ratios live on the log scale.
is_ratio_term <- function(terms) terms %in% c("ratio", "odds_ratio")

effect_quantile <- function(level, df) {
  tail <- 1 - (1 - level) / 2
  if (is.finite(df)) stats::qt(tail, df) else stats::qnorm(tail)
}

effect_p_value <- function(statistic, df) {
  if (is.finite(df)) 2 * stats::pt(-abs(statistic), df) else 2 * stats::pnorm(-abs(statistic))
}

#' @export
tidy.twin_effect <- function(x, conf.level = x$level, ...) { # nolint: object_name_linter. broom-style name.
  rlang::check_dots_empty()
  check_number(conf.level, min = 0, max = 1, open = TRUE)
  terms <- names(x$estimate)
  se <- sqrt(diag(x$vcov))
  ratio <- is_ratio_term(terms)
  centre <- ifelse(ratio, log(ifelse(ratio, x$estimate, 1)), x$estimate)
  spread <- ifelse(ratio, se / x$estimate, se)
  half <- effect_quantile(conf.level, x$df) * spread
  back <- function(values) ifelse(ratio, exp(values), values)
  statistic <- centre / spread
  data.frame(
    outcome = x$outcome, estimator = x$estimator, estimand = x$estimand, term = terms,
    estimate = unname(x$estimate), std.error = unname(se), statistic = unname(statistic),
    p.value = unname(effect_p_value(statistic, x$df)),
    conf.low = unname(back(centre - half)), conf.high = unname(back(centre + half))
  )
}

#' @export
glance.twin_effect <- function(x, ...) {
  rlang::check_dots_empty()
  book <- summary(logbook(x))
  data.frame(
    outcome = x$outcome, estimator = x$estimator, estimand = x$estimand, design = x$design,
    nobs = stats::nobs(x), n_treated = x$counts[["treated"]], n_control = x$counts[["control"]],
    missing_outcome = x$counts[["missing"]], ess_treated = x$sizes[["treated"]], ess_control = x$sizes[["control"]],
    worst_smd = x$worst_smd, df = x$df, inference = x$inference, designs_before = book$before,
    designs_after = book$after
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
nobs.twin_effect <- function(object, ...) sum(object$used)

#' @export
confint.twin_effect <- function(object, parm = names(object$estimate), level = object$level, ...) {
  rlang::check_dots_empty()
  table <- generics::tidy(object, conf.level = level)
  known <- if (is.numeric(parm)) table$term[parm] else parm
  check_terms(known, table$term)
  tail <- (1 - level) / 2
  limits <- as.matrix(table[match(known, table$term), c("conf.low", "conf.high")])
  dimnames(limits) <- list(known, paste(format(100 * c(tail, 1 - tail), trim = TRUE, digits = 3), "%"))
  limits
}

check_terms <- function(terms, known, call = rlang::caller_env()) {
  if (all(terms %in% known)) return(invisible(terms))
  abort_input(c("{.arg parm} must name terms of the effect.", x = "The terms are {.val {known}}."), call = call)
}
