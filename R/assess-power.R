#' Assess what a design could detect, before its outcome is opened
#'
#' From the design's weights, pairs and clusters alone: the smallest effect that it would find with a given power, and
#' the hidden bias beyond which even a large study of this kind would fail to find such an effect (design sensitivity,
#' Rosenbaum 2004). The treated units' outcomes are not looked at.
#'
#' The standard deviation of the outcome is stated, or that of the controls, weighted as in the design; its correlation
#' within clusters too. Looking at the controls' outcomes is written to the logbook; it does not open the outcome.
#'
#' Of a panel: from outcomes of units that are never treated (or last to be), over the same periods as each cohort's;
#' its treated units are taken to vary as much, and are not looked at.
#'
#' @param x A study, a design of [score_units()] and the verbs behind it, or a [panel][frame_panel]; a `twin_arms` for
#'   each comparison with its reference, see [several].
#' @param power Shares, default 0.8 and 0.9.
#' @param level Confidence level of the two-sided test, or several; default 0.95.
#' @param sd Standard deviation of the outcome; for shares p the root of p (1 - p). By default that of the controls'
#'   `outcome`.
#' @param outcome Whose controls are looked at, when `sd` is not stated; the study's first by default.
#' @param intraclass Correlation of the outcome within the study's clusters, 0 to 1; by default the controls', or 0
#'   where
#'   `sd` is stated. Units of a cluster in both arms cancel.
#' @param pairing Correlation of the outcomes of both units of a pair or set, default 0.
#' @return A `twin_power`. `tidy()` gives one row per power and level: `power`, `level`, `sd`, `std.error`, `detectable`
#'   (effect in units of the outcome), `standardized` (in standard deviations), `design_sensitivity` (gamma for pairs
#'   and sets, lambda for weights; NA for bare designs). `glance()`: `ess_treated`, `ess_control`, `pairs`, `clusters`,
#'   `df`, `sd`, `intraclass`, `outcome`.
#' @section Errors: `twin_error_input` for powers, shares or standard deviations out of range, or controls whose outcome
#'   does not vary; `twin_error_unsupported` for matching with replacement.
#' @references Rosenbaum, P. R. (2004). Design sensitivity in observational studies. Biometrika 91.
#'   \doi{10.1093/biomet/91.1.153}
#' @family judging
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income", cluster = "harbour",
#'                      covariates = ~ boat_length + crew_size + past_income)
#' pairs <- study |> score_units() |> pair_units(caliper = 0.2)
#' assess_power(pairs)
#' @export
assess_power <- function(x, power = c(0.8, 0.9), level = 0.95, sd = NULL, outcome = NULL, intraclass = NULL,
                         pairing = 0) {
  if (is_imputed(x)) return(in_each_set(x, assess_power, match.call()))
  if (is_arms(x)) return(in_each_part(contrasts_by_name(x), "contrast", assess_power, match.call()))
  if (inherits(x, "twin_panel")) {
    check_panel_power(power, level, sd, intraclass, pairing)
    return(panel_power(x, power, level, outcome))
  }
  check_power_input(x, power, level, sd, outcome, intraclass, pairing)
  study <- study_of(x)
  controls <- if (is.null(sd)) control_spread(x, outcome)
  if (is.null(sd)) sd <- controls$sd
  if (is.null(intraclass)) intraclass <- if (is.null(controls)) 0 else controls$intraclass
  planned <- if (is_remote(x)) remote_planned(x) else planned_sums(x)
  df <- if (is.na(planned$clusters)) Inf else planned$clusters - 1
  se <- core_planned_se_of(sd, planned$own, planned$common, intraclass, pairing)
  rows <- power_rows(power, level, sd, se, df)
  rows$design_sensitivity <- vapply(rows$standardized, design_sensitivity, 0, x = x, pairing = pairing)
  structure(list(
    rows = rows, sizes = planned$sizes, pairs = if (has_pairs(x)) length(unique(x$pairs$set)) else NA_integer_,
    clusters = planned$clusters, cluster_name = study$roles$cluster, df = df, sd = sd, intraclass = intraclass,
    pairing = pairing,
    outcome = if (is.null(controls)) NA_character_ else controls$outcome, design = design_label(x),
    kind = design_kind(x)
  ), class = "twin_power")
}

# A row per power and level.
power_rows <- function(power, level, sd, se, df) {
  rows <- expand.grid(power = power, level = level, KEEP.OUT.ATTRS = FALSE)
  rows[c("sd", "std.error")] <- list(sd, se)
  rows$detectable <- se * unlist(lapply(level, core_detectable_factor, power = power, df = df))
  rows$standardized <- rows$detectable / sd
  rows$design_sensitivity <- NA_real_
  rows
}

# list(sizes: effective, by arm; own, common: see core_planned_se_of(); clusters: their number or NA).
planned_sums <- function(x) {
  study <- study_of(x)
  v <- full_weight(x)
  inside <- v > 0
  cluster <- if (!is.null(study$cluster)) study$cluster[inside]
  c(list(sizes = arm_sizes(v, study$z), clusters = if (is.null(cluster)) NA_integer_ else length(unique(cluster))),
    core_planned_sums(v[inside], study$z[inside], cluster))
}

check_power_input <- function(x, power, level, sd, outcome, intraclass, pairing, call = rlang::caller_env()) {
  check_design(x, call = call, remote = TRUE)
  check_open_shares(power, "power", call)
  check_open_shares(level, "level", call)
  check_number(sd, min = 0, open = TRUE, null = TRUE, call = call)
  check_number(intraclass, min = 0, max = 1, null = TRUE, call = call)
  check_number(pairing, min = 0, max = 1, call = call)
  if (reuses_units(x)) {
    abort_unsupported(c("The power of matching with replacement can't be told from its weights.",
                        i = "Pair without replacement, or weigh."), call = call)
  }
  if (pairing > 0 && !has_pairs(x)) abort_input("{.arg pairing} belongs to pairs and sets; leave it out.", call = call)
  if (!is.null(sd) && !is.null(outcome)) abort_input("Give {.arg sd} or {.arg outcome}, not both.", call = call)
}

check_panel_power <- function(power, level, sd, intraclass, pairing, call = rlang::caller_env()) {
  check_open_shares(power, "power", call)
  check_open_shares(level, "level", call)
  given <- c(sd = !is.null(sd), intraclass = !is.null(intraclass), pairing = !identical(as.double(pairing), 0))
  stray <- names(given)[given]
  if (length(stray) > 0L) {
    abort_input(c("{.arg {stray}} {?does/do} not belong to a panel: its comparison units tell.",
                  i = "Leave {cli::qty(length(stray))}{?it/them} out."), arguments = stray, call = call)
  }
}

check_open_shares <- function(x, arg, call) {
  check_numbers(x, "shares above 0 and below 1", 0, 1, c("low", "high"), arg = arg, call = call)
}

# Standard deviation and correlation within clusters of the controls' outcome, weighted as in the design.
control_spread <- function(x, outcome, call = rlang::caller_env()) {
  study <- study_of(x)
  if (is.null(outcome)) outcome <- study$roles$outcome[1L]
  check_string(outcome, call = call)
  if (!outcome %in% study$roles$outcome) {
    near <- nearest_name(outcome, study$roles$outcome)
    abort_input(c("{.arg outcome} must be one of the study's outcomes.",
                  i = if (is.null(near)) "They are {.val {study$roles$outcome}}." else "Did you mean {.val {near}}?"),
                call = call)
  }
  log_step(study, "look", paste(outcome, "of controls"), settings = list(by = "assess_power"))
  found <- if (is_remote(x)) remote_control_spread(x, outcome) else control_moments(x, outcome)
  if (!is.finite(found$variance) || found$variance <= 0) {
    abort_input(c("The controls' {.val {outcome}} does not vary.", i = "State {.arg sd}."), call = call)
  }
  list(sd = sqrt(found$variance), outcome = outcome, intraclass = found$intraclass)
}

control_moments <- function(x, outcome) {
  study <- study_of(x)
  v <- full_weight(x)
  control <- which(study$z == 0L & v > 0)
  y <- coded_outcome(study$data[[outcome]][study$rows[control]], study$events[[outcome]])
  known <- !is.na(y)
  y <- as.double(y)[known]
  own <- v[control][known]
  away <- y - sum(own * y) / sum(own)
  cluster <- study$cluster[control][known]
  list(variance = core_variance_of(sum(own), sum(own^2), sum(own * away), sum(own * away^2)),
       intraclass = if (is.null(cluster)) 0 else core_intraclass(core_group_totals(y, cluster)))
}

# The hidden bias beyond which a large study of this kind would not find an effect of so many standard deviations.
design_sensitivity <- function(standardized, x, pairing) {
  if (has_pairs(x)) return(core_pairs_sensitivity(standardized / sqrt(2 * (1 - min(pairing, 0.999)))))
  if (!has_weights(x)) return(NA_real_)
  study <- study_of(x)
  own <- kept_share_treated(x)
  moving <- switch(population_of(study$estimand), treated = c(treated = 0, control = 1),
                   control = c(treated = 1, control = 0), everybody = c(treated = 1 - own, control = own), NULL)
  if (is.null(moving)) NA_real_ else core_weights_sensitivity(standardized, moving)
}

# Of the sampling weight of the units that are in.
kept_share_treated <- function(x) {
  study <- study_of(x)
  if (is_remote(x)) {
    s <- remote_kept_weight(x)
    sums <- row_sums(study$rows, list(treated = call("*", s, arm_words$treated), all = s))
    return(sums[["treated"]] / sums[["all"]])
  }
  s <- kept_weight(x)
  sum(s * study$z) / sum(s)
}

#' @export
tidy.twin_power <- function(x, ...) {
  rlang::check_dots_empty()
  x$rows
}

#' @export
as.data.frame.twin_power <- function(x, ...) x$rows

#' @export
glance.twin_power <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(ess_treated = x$sizes[["treated"]], ess_control = x$sizes[["control"]], pairs = x$pairs,
             clusters = x$clusters, df = x$df, sd = x$sd, intraclass = x$intraclass, outcome = x$outcome)
}
