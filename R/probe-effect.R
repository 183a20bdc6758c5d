#' Probe an effect in every way that fits it, on one scale
#'
#' Runs the probes that fit the effect's design and puts their answers on one scale: how many times as strong as the
#' strongest measured covariate would a hidden confounder have to be to move the estimate to no effect, and its interval
#' onto it?
#'
#' * Pairs and sets: [probe_pairs()]. Strength is the log of gamma, beside that of the odds of treatment which leaving
#'   out the covariate changes.
#' * Weights, strata and cells for ATE, ATT and ATC: [probe_weights()]. Log of lambda, in the same way.
#' * Every effect but hazard ratios: [probe_omitted()]. A confounder as many times as strong as the covariate, with the
#'   treatment and with the outcome.
#' * Every effect: [probe_ratio()]. Log of the risk ratio, beside by how much leaving out the covariate moves it.
#' * Over time: [probe_trends()] by magnitude. The yardstick is the largest step before treatment.
#'
#' Strongest is the covariate that needs the fewest multiples. The smallest answer counts: each probe lets the
#' confounder do other harm. Gamma and lambda suppose that it predicts the outcome almost perfectly.
#'
#' @param x An effect (or [several], one by one) of [measure_effect()], [measure_hazard()], [measure_did()] with cells
#'   or [summarise_did()] over all or event times.
#' @param draws,seed For the interval of [probe_weights()]; 500 draws by default, 0 for none.
#' @param level Confidence level; that of `x` by default.
#' @return A `twin_probe`. `tidy()` gives one row per probe: `probe`, `measure` (what is measured), `yardstick` (the
#'   strongest covariate), `yardstick_value`, `needed` and `needed_interval` (the measure that moves the estimate to no
#'   effect, the interval onto it), `times` and `times_interval` (as multiples of the yardstick; infinite when no
#'   multiple does, NA without a yardstick). `glance()`: `probes`, `weakest` (the probe with the fewest multiples),
#'   `times`, `times_interval`. `x$probes` holds the single probes.
#' @section Errors: `twin_error_input` for several effects in one; `twin_error_unsupported` where no probe fits.
#' @family hidden bias
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + past_income + port_size)
#' effect <- study |> score_units() |> weigh_units() |> measure_effect()
#' probe_effect(effect, draws = 50)
#' @export
probe_effect <- function(x, level = x$level, draws = 500, seed = 1) {
  if (are_effects(x)) return(in_each_part(x$effects, "effect", probe_effect, match.call()))
  if (is_pooled(x)) return(in_each_set(x, probe_effect, match.call()))
  check_effect(x)
  refuse_remote(study_of(x))
  check_count(draws, min = 0)
  check_level(level)
  check_seed(seed)
  parts <- scaled_probes(x, draws, level, seed)
  rows <- do.call(rbind, lapply(parts, `[[`, "row"))
  row <- main_row(x, level)
  null <- if (inherits(x, "twin_hazard")) 1 else 0
  log_probed(x, "effect")
  new_probe("effect", rows, list(
    outcome = x$outcome, design = x$design, level = level, holds = row$conf.low <= null && row$conf.high >= null
  ), probes = lapply(parts, `[[`, "probe"))
}

# Per probe that fits list(probe, row). What several of them need is worked out once.
scaled_probes <- function(x, draws, level, seed) {
  settings <- list(draws = draws, level = level, seed = seed)
  if (!inherits(x, "twin_did")) {
    settings$without <- effects_without(x)
    settings$odds <- score_covariates(x, settings$without)
  }
  where <- if (inherits(x, "twin_did")) "panel" else "study"
  fitting <- Filter(function(probe) !is.null(probe$scaled) && where %in% probe$about, probes)
  Filter(Negate(is.null), lapply(fitting, function(probe) probe$scaled(x, settings)))
}

# Does a check let the effect pass?
fits_probe <- function(check) {
  tryCatch({
    check
    TRUE
  }, twin_error = function(e) FALSE)
}

scaled_row <- function(probe, measure, yardstick, value, needed, needed_interval, times) {
  data.frame(probe = probe, measure = measure, yardstick = yardstick, yardstick_value = value, needed = needed,
             needed_interval = needed_interval, times = times(needed), times_interval = times(needed_interval))
}

# Multiples on the log scale; a yardstick that moves nothing has none.
log_multiples <- function(value) {
  function(needed) if (is.na(value) || value <= 1) NA_real_ else log(needed) / log(value)
}

strongest <- function(table, column) {
  if (is.null(table)) return(list(name = NA_character_, value = NA_real_))
  at <- which.max(table[[column]])
  list(name = table$covariate[at], value = table[[column]][at])
}

scaled_pairs <- function(x, settings) {
  if (!has_pair_differences(x) && (is.null(x$sets) || !fits_probe(set_values(x)))) return(NULL)
  level <- settings$level
  probe <- suppressWarnings(probe_pairs(x, gamma = c(1, 1.25, 1.5, 2, 3), level = level))
  most <- strongest(settings$odds, "lambda")
  # the shift turns to 0 where the statistic meets its worst mean, which is a p-value of one half
  turn <- suppressWarnings(probe_pairs(x, gamma = 1, level = 0.5, side = probe$facts$side))
  change <- probe$facts$gamma_change
  row <- scaled_row("pairs", "gamma: odds of treatment within a pair", most$name, most$value,
                    turn$facts$gamma_change, if (is.na(change)) 1 else change, log_multiples(most$value))
  list(probe = probe, row = row)
}

scaled_weights <- function(x, settings) {
  if (!fits_probe(check_bounded_weights(x)) || !fits_probe(bounded_arms(x$source$block, x$source$asked))) return(NULL)
  probe <- probe_weights(x, lambda = c(1, 1.25, 1.5, 2, 3), draws = settings$draws, level = settings$level,
                         yardstick = FALSE, seed = settings$seed)
  probe <- with_part(probe, "covariates", weight_covariates(x, bounded_arms(x$source$block, x$source$asked),
                                                             settings$without))
  most <- strongest(probe$parts$covariates, "lambda")
  row <- scaled_row("weights", "lambda: odds of treatment behind the weights", most$name, most$value,
                    probe$facts$lambda_change, probe$facts$lambda_change_interval, log_multiples(most$value))
  list(probe = probe, row = row)
}

scaled_omitted <- function(x, settings) {
  if (inherits(x, "twin_hazard")) return(NULL)
  probe <- probe_omitted(x, level = settings$level)
  fit <- probe$facts$fit
  of <- function(critical) {
    vapply(probe$facts$strengths, function(strength) {
      core_times_needed(fit$estimate, fit$se, fit$df, strength, critical, fit$inflation)
    }, 0)
  }
  times <- of(0)
  least <- which.min(times)
  interval <- of(probe$facts$critical)[least]
  strength <- probe$facts$strengths[[least]]
  row <- scaled_row("omitted", "partial R2 with the treatment", names(times)[least], strength[["treatment"]],
                    probe$facts$robustness, probe$facts$robustness_interval, function(needed) NA_real_)
  row$times <- times[least]
  row$times_interval <- interval
  list(probe = probe, row = row)
}

scaled_ratio <- function(x, settings) {
  probe <- tryCatch(probe_ratio(x, yardstick = FALSE), twin_error = function(e) NULL)
  if (is.null(probe)) return(NULL)
  probe <- with_part(probe, "covariates", ratio_covariates(x, probe$rows, FALSE, settings$without))
  # multiples compare risk ratios; the table shows E-values
  most <- strongest(probe$parts$covariates, "e_value")
  gone <- probe$parts$covariates$risk_ratio[match(most$name, probe$parts$covariates$covariate)]
  moved <- if (is.null(gone)) NA_real_ else exp(abs(log(gone / probe$rows$risk_ratio[1L])))
  e <- probe$rows$e_value
  row <- scaled_row("ratio", "E-value: risk ratio with treatment and outcome", most$name, most$value, e[1L],
                    e[2L], function(needed) NA_real_)
  times <- log_multiples(moved)
  away <- pmax(probe$rows$risk_ratio, 1 / probe$rows$risk_ratio)
  row$times <- times(away[1L])
  row$times_interval <- if (e[2L] == 1) 0 * times(away[2L]) else times(away[2L])
  list(probe = probe, row = row)
}

scaled_trends <- function(x, settings) {
  solver <- if (rlang::is_installed("Rglpk")) "shortest" else "direct"
  probe <- probe_trends(x, m = c(0, 0.25, 0.5, 1), level = settings$level, interval = solver)
  path <- fixed_path(x, NULL, NULL)
  needed <- abs(path$effect) / (path$worst * sum(path$target * pmax(path$horizon, 0)))
  list(probe = probe, row = scaled_row("trends", "m: drift per period under treatment", "worst drift before treatment",
                                       path$worst, needed, probe$facts$change, function(needed) needed))
}

# By how much leaving out each covariate changes the odds of treatment by the score; NULL without such a score.
score_covariates <- function(x, without) {
  score <- design_score(design_of(x))
  if (is.null(score) || is.null(without) || score$settings$source == "column") return(NULL)
  covariate_table(without, by = "lambda", function(other, name) {
    again <- design_score(design_of(other))
    if (is.null(again)) return(NULL)
    ratio <- exp(abs(stats::qlogis(score$fitted) - stats::qlogis(again$fitted)))[x$rows[x$used]]
    data.frame(covariate = name, lambda = stats::quantile(ratio, 0.95, names = FALSE))
  })
}

#' @export
glance.twin_probe_effect <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows
  weakest <- which.min(ifelse(is.na(rows$times), Inf, rows$times))
  data.frame(probes = nrow(rows), weakest = rows$probe[weakest], times = rows$times[weakest],
             times_interval = rows$times_interval[weakest])
}
