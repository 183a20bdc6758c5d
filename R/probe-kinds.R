# The register of probes: Methods, "Sensitivity". One entry each; adding one is adding its entry here, with its verb and
# the methods format(), plot(), probe_verdict() and table_parts() of its class, twin_probe_<name>.

# verb: its name; its arguments are its plan keys. about: "study" and "panel", whose effects it is for. bare: does it
# take numbers without an effect? words: its name where probes stand side by side. reading: how its number reads, for a
# report that is read alone. turn: function(x) giving list(word, number, tone) for the first screen of a report, tone
# "good", "care" or "open". scaled: function(x, settings) giving list(probe, row) for probe_effect(), NULL where the
# effect does not fit; NULL for probes that have no place on its scale.
new_probe_kind <- function(verb, words, reading, turn, about = "study", bare = FALSE, scaled = NULL) {
  stopifnot(is.character(verb), is.character(words), is.function(turn), about %in% c("study", "panel"))
  list(verb = verb, words = words, reading = reading, turn = turn, about = about, bare = bare, scaled = scaled)
}

# Where a conclusion turns, on a scale of its own: what lies below `least` takes no confounder at all.
turning_point <- function(value, least, number) {
  if (is.na(value) || value <= least) return(list(word = "no conclusion", number = "to overturn", tone = "care"))
  if (is.infinite(value)) return(list(word = "none would do", number = "of any size", tone = "good"))
  list(word = "turns", number = number, tone = "open")
}

# In multiples of the strongest that was measured: more than once is more than anything seen.
scaled_turn <- function(x) {
  rows <- x$rows[!is.na(x$rows$times), ]
  if (x$facts$holds) return(turning_point(NA, 0))
  if (nrow(rows) == 0L) return(list(word = "no yardstick", number = "read the probes", tone = "open"))
  least <- rows[which.min(rows$times), ]
  times <- if (is.na(least$times_interval)) least$times else least$times_interval
  if (is.infinite(times)) return(turning_point(Inf, 0))
  list(word = if (times > 1) "sturdy" else "fragile", tone = if (times > 1) "good" else "care",
       number = sprintf("%s times %s", number_text(times, 2), if (least$probe == "trends")
         "the worst drift before" else least$yardstick))
}

probes <- list(
  effect = new_probe_kind(
    turn = function(x) scaled_turn(x),
    "probe_effect", "All that fit", about = c("study", "panel"),
    reading = paste("Each line is one way for a hidden confounder to do harm, as a multiple of the strongest measured",
                    "covariate. The smallest multiple counts.")
  ),
  pairs = new_probe_kind(
    turn = function(x) pairs_turn(x),
    "probe_pairs", "Pairs", bare = TRUE, scaled = function(x, settings) scaled_pairs(x, settings),
    reading = paste("Gamma 2 means that of two units paired as alike one may be twice as likely, in odds, to have been",
                    "treated. (Rosenbaum 2002.)")
  ),
  weights = new_probe_kind(
    turn = function(x) weights_turn(x),
    "probe_weights", "Weights", scaled = function(x, settings) scaled_weights(x, settings),
    reading = paste("Lambda 2 means that the odds of treatment behind every weight may be off by up to twice, in",
                    "whatever way does most harm. (Tan 2006; Zhao, Small and Bhattacharya 2019.)")
  ),
  omitted = new_probe_kind(
    turn = function(x) omitted_turn(x),
    "probe_omitted", "Omitted variable", bare = TRUE, scaled = function(x, settings) scaled_omitted(x, settings),
    reading = paste("Strength is the share of what the covariates leave that a confounder explains, of the treatment",
                    "and of the outcome. (Cinelli and Hazlett 2020.)")
  ),
  ratio = new_probe_kind(
    turn = function(x) {
      limit <- x$rows$e_value[nrow(x$rows)]
      turning_point(limit, 1, sprintf("at an E-value of %s", number_text(limit)))
    },
    "probe_ratio", "Ratio", bare = TRUE, scaled = function(x, settings) scaled_ratio(x, settings),
    reading = paste("The E-value is the risk ratio with both treatment and outcome that a confounder needs beyond the",
                    "measured covariates. (VanderWeele and Ding 2017.)")
  ),
  stability = new_probe_kind(
    turn = function(x) {
      delta <- x$facts$usual$delta_needed
      turning_point(abs(delta), 0, sprintf("at delta %s", number_text(delta)))
    },
    "probe_stability", "Stability", bare = TRUE,
    reading = "Delta 1 means that the unobserved select into treatment as strongly as the observed. (Oster 2019.)"
  ),
  placebo = new_probe_kind(
    turn = function(x) placebo_turn(x),
    "probe_placebo", "Placebo", about = c("study", "panel"),
    reading = "Where the treatment can't have worked, an estimate other than 0 is bias."
  ),
  choices = new_probe_kind(
    turn = function(x) choices_turn(x),
    "probe_choices", "Design choices",
    reading = "Every run is a design that could have been chosen; only those that balance the covariates speak."
  ),
  stand_ins = new_probe_kind(
    turn = function(x) stand_ins_turn(x), "probe_stand_ins", "Units that stand in", about = "panel",
    reading = paste("Each line is the effect without one of the units that stand in for the treated, the others",
                    "weighed anew: an effect that one of them makes is that unit's luck. (Abadie and others 2010.)")
  ),
  trends = new_probe_kind(
    turn = function(x) turning_point(x$facts$change, 0, sprintf("at m %s", number_text(x$facts$change, 2))),
    "probe_trends", "Trends not parallel", about = "panel", scaled = function(x, settings) scaled_trends(x, settings),
    reading = paste("m 1 means that both sides may drift apart in every period under treatment as much as in the worst",
                    "period before it; by curvature, m is a change of slope. (Rambachan and Roth 2023.)")
  )
)

pairs_turn <- function(x) {
  gamma <- x$facts$gamma_change
  turning_point(gamma, 1, sprintf("at gamma %s", number_text(gamma, 2)))
}

omitted_turn <- function(x) {
  share <- x$facts$robustness_interval
  turning_point(share, 0, sprintf("at %s of both", share_text(share)))
}

weights_turn <- function(x) {
  interval <- x$facts$lambda_change_interval
  at <- if (is.null(interval) || is.na(interval)) x$facts$lambda_change else interval
  turning_point(at, 1, sprintf("at lambda %s", number_text(at, 2)))
}

placebo_turn <- function(x) {
  p <- if (is.null(x$facts$joint)) NA else x$facts$joint[["p.value"]]
  if (is.na(p)) p <- min(x$rows$p.value)
  clean <- p >= 1 - x$facts$level
  list(word = if (clean) "placebos clean" else "placebos fail", number = sprintf("p %s", p_text(p)),
       tone = if (clean) "good" else "care")
}

stand_ins_turn <- function(x) {
  turned <- any(sign(x$rows$estimate) != sign(x$facts$effect))
  list(word = if (turned) "hangs on one unit" else "one sign",
       number = sprintf("%s to %s", number_text(min(x$rows$estimate)), number_text(max(x$rows$estimate))),
       tone = if (turned) "care" else "good")
}

# Only runs that balance the covariates speak.
choices_turn <- function(x) {
  known <- x$rows[x$rows$pass & !is.na(x$rows$estimate), ]
  if (nrow(known) == 0L) return(list(word = "no answer", number = "no run is balanced", tone = "care"))
  same <- max(table(sign(known$estimate)))
  list(word = if (same == nrow(known)) "one sign" else "signs differ",
       number = sprintf("%d of %d balanced runs", same, nrow(known)),
       tone = if (same == nrow(known)) "good" else "care")
}

verb_of_probe <- function(entry) get(entry$verb, mode = "function")

# The entry behind a probe.
probe_entry <- function(x) probes[[sub("twin_probe_", "", class(x)[1L])]]
