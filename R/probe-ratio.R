#' Probe an effect on the ratio scale
#'
#' The E-value (VanderWeele & Ding 2017): how strongly, as a risk ratio, a hidden confounder would have to be tied both
#' to treatment and to outcome to explain the effect away, and to move the limit nearer to no effect onto it. Other
#' scales are first turned into approximate risk ratios: the square root of an odds ratio and
#' (1 - 0.5^sqrt(HR)) / (1 - 0.5^sqrt(1/HR)) of a hazard ratio when the outcome is common, the ratio itself when it is
#' rare, and exp(0.91 d) of a difference of d standard deviations.
#'
#' So that the number has a yardstick, every covariate of an effect is left out in turn, as if it had not been measured:
#' by how much does that move the risk ratio, and what would a hidden confounder that moves it as far have to be tied by
#' (the same formula, of the ratio of both risk ratios)?
#'
#' @param x An effect (or [several], one by one), or the estimate as a number on `scale`. For an effect the risk ratio
#'   is used when its outcome is 0/1, and otherwise the difference in pooled standard deviations of the outcome. Of
#'   [measure_response()] the first contrast of doses is meant, of [measure_course()] the first history against the
#'   last.
#' @param low,high Confidence limits on the same scale, when `x` is a number. Either may be left out.
#' @param scale `"risk_ratio"` (default), `"odds_ratio"`, `"hazard_ratio"` or `"mean_difference"` (in standard
#'   deviations of the outcome). Taken from the effect when `x` is one.
#' @param rare Is the outcome rare (below 15 per cent at the end of follow-up)? For odds and hazard ratios. Default
#'   `FALSE`.
#' @param yardstick Leave out every covariate of an effect in turn, to have something to compare with? Default `TRUE`.
#' @return A `twin_probe`. `tidy()` gives one row for the estimate and, with limits, one for the limit nearer to no
#'   effect: `quantity` ("estimate", "limit"), `value` (on `scale`), `risk_ratio`, `e_value`. The e-value of the limit
#'   is 1 when the interval holds no effect. `tidy(part = "covariates")`: `covariate`, `risk_ratio` without it,
#'   `e_value` (of the move of the estimate) and `e_value_limit` (of the limit's; NA where either interval holds no
#'   effect).
#' @section Errors: `twin_error_input` for a ratio of 0 or less, limits that do not enclose the estimate, or `scale`
#'   given beside an effect.
#' @references VanderWeele, T. J., Ding, P. (2017). Sensitivity analysis in observational research: introducing the
#'   E-value. Annals of Internal Medicine 167. \doi{10.7326/M16-2607}
#' @family hidden bias
#' @examples
#' probe_ratio(1.8, low = 1.3, high = 2.5)
#' @export
probe_ratio <- function(x, low = NULL, high = NULL,
                        scale = c("risk_ratio", "odds_ratio", "hazard_ratio", "mean_difference"), rare = FALSE,
                        yardstick = TRUE) {
  if (are_effects(x)) return(in_each_part(x$effects, "effect", probe_ratio, match.call()))
  check_flag(rare)
  check_flag(yardstick)
  scale_given <- !missing(scale)
  scale <- check_choice(scale, c("risk_ratio", "odds_ratio", "hazard_ratio", "mean_difference"))
  measured <- list(estimate = x, low = low, high = high, scale = scale)
  refuse_variation(x, rlang::current_env())
  wider <- is_wider_effect(x)
  if (wider || inherits(x, c("twin_effect", "twin_effects"))) {
    if (!wider) check_designed_effect(x, remote = TRUE)
    if (scale_given || !is.null(low) || !is.null(high)) {
      abort_input("{.arg low}, {.arg high} and {.arg scale} come from the effect; leave them out.")
    }
    measured <- effect_on_ratio_scale(x)
  }
  check_ratio_numbers(measured$estimate, measured$low, measured$high, measured$scale)
  if (rare && !measured$scale %in% c("odds_ratio", "hazard_ratio")) {
    abort_input("{.arg rare} matters for odds and hazard ratios only; leave it out for {.val {measured$scale}}.")
  }
  rows <- ratio_rows(measured, rare)
  others <- if (yardstick && !is.numeric(x)) ratio_covariates(x, rows, rare)
  log_probed(x, "ratio")
  new_probe("ratio", rows, c(measured[c("scale", "low", "high")], list(
    rare = rare, outcome = if (wider || inherits(x, "twin_effect")) x$outcome)), list(covariates = others))
}

# What leaving out each covariate does to the risk ratio and its limit.
ratio_covariates <- function(x, rows, rare, without = measured_without(x)) {
  covariate_table(without, by = "e_value", function(other, name) {
    again <- tryCatch(ratio_rows(effect_on_ratio_scale(other), rare), twin_error = function(e) NULL)
    if (is.null(again)) return(NULL)
    limits <- rows$e_value[2L] > 1 && again$e_value[2L] > 1
    data.frame(covariate = name, risk_ratio = again$risk_ratio[1L],
               e_value = core_e_value(again$risk_ratio[1L] / rows$risk_ratio[1L]),
               e_value_limit = if (limits) core_e_value(again$risk_ratio[2L] / rows$risk_ratio[2L]) else NA_real_)
  })
}

measured_without <- function(x) {
  if (inherits(x, "twin_response")) return(without_each_covariate(x, function(name) response_without(x, name)))
  if (inherits(x, "twin_course_effect")) return(without_each_covariate(x, function(name) histories_without(x, name)))
  if (inherits(x, "twin_effect") && !is_remote(study_of(x))) effects_without(x)
}

# The estimate and, when it is known, the limit nearer to no effect.
ratio_rows <- function(measured, rare) {
  null <- if (measured$scale == "mean_difference") 0 else 1
  above <- measured$estimate >= null
  rows <- ratio_row("estimate", measured$estimate, measured$scale, rare)
  limit <- if (above) measured$low else measured$high
  if (is.null(limit)) return(rows)
  rows <- rbind(rows, ratio_row("limit", limit, measured$scale, rare))
  if (if (above) limit <= null else limit >= null) rows$e_value[2L] <- 1
  rows
}

ratio_row <- function(quantity, value, scale, rare) {
  ratio <- core_as_risk_ratio(value, scale, rare)
  data.frame(quantity = quantity, value = value, risk_ratio = ratio, e_value = core_e_value(ratio))
}

effect_on_ratio_scale <- function(effect, call = rlang::caller_env()) {
  if (is_wider_effect(effect)) return(wider_on_ratio_scale(effect, call))
  table <- generics::tidy(effect)
  if (inherits(effect, "twin_hazard")) {
    row <- table[table$term == "hazard_ratio", ]
    return(list(scale = "hazard_ratio", estimate = row$estimate, low = row$conf.low, high = row$conf.high))
  }
  if (effect$shares && !"ratio" %in% table$term) {
    abort_input("The ratio of means is undefined here: one arm's share is 0.", call = call)
  }
  row <- table[table$term == if (effect$shares) "ratio" else "difference", ]
  unit <- if (effect$shares) 1 else effect$outcome_sd
  if (unit == 0) abort_input("The outcome {.val {effect$outcome}} does not vary.", call = call)
  list(scale = if (effect$shares) "risk_ratio" else "mean_difference", estimate = row$estimate / unit,
       low = row$conf.low / unit, high = row$conf.high / unit)
}

# The first contrast of doses; of stated histories the first against the last.
wider_on_ratio_scale <- function(x, call) {
  if (x$shares) {
    if (is.na(x$ratio$estimate)) {
      abort_input("The ratio of shares is undefined here: one of them is not above 0.", call = call)
    }
    return(list(scale = "risk_ratio", estimate = x$ratio$estimate, low = x$ratio$conf.low, high = x$ratio$conf.high))
  }
  row <- if (inherits(x, "twin_response")) x$contrasts[1L, ] else x$effects[1L, ]
  if (!is.finite(x$outcome_sd) || x$outcome_sd == 0) {
    abort_input("The outcome {.val {x$outcome}} does not vary.", call = call)
  }
  list(scale = "mean_difference", estimate = row$estimate / x$outcome_sd, low = row$conf.low / x$outcome_sd,
       high = row$conf.high / x$outcome_sd)
}

check_ratio_numbers <- function(x, low, high, scale, call = rlang::caller_env()) {
  check_number(x, call = call)
  check_number(low, null = TRUE, call = call)
  check_number(high, null = TRUE, call = call)
  if (scale != "mean_difference" && any(c(x, low, high) <= 0)) {
    abort_input(c("A ratio must be above 0.", x = "Given: {.val {c(x, low, high)}}.",
                  i = "For a difference use {.code scale = \"mean_difference\"}, in standard deviations."), call = call)
  }
  if (any(c(low > x, high < x))) {
    abort_input(c("The interval must hold its estimate.",
                  x = "The estimate is {x}, the limits are {low} and {high}."), call = call)
  }
}

#' @export
glance.twin_probe_ratio <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(scale = x$facts$scale, e_value = x$rows$e_value[1L],
             e_value_limit = if (nrow(x$rows) > 1L) x$rows$e_value[2L] else NA_real_)
}
