# The register of probes: Methods, "Sensitivity". One entry each; adding one is adding its entry here, with its verb and
# the methods format(), plot(), probe_verdict() and table_parts() of its class, twin_probe_<name>.

# verb: its name; its arguments are its plan keys. about: "study" and "panel", whose effects it is for. bare: does it
# take numbers without an effect? words: its name where probes stand side by side. reading: how its number reads, for a
# report that is read alone. scaled: function(x, settings) giving list(probe, row) for probe_effect(), NULL where the
# effect does not fit; NULL for probes that have no place on its scale.
new_probe_kind <- function(verb, words, reading, about = "study", bare = FALSE, scaled = NULL) {
  stopifnot(is.character(verb), is.character(words), about %in% c("study", "panel"))
  list(verb = verb, words = words, reading = reading, about = about, bare = bare, scaled = scaled)
}

probes <- list(
  effect = new_probe_kind(
    "probe_effect", "All that fit", about = c("study", "panel"),
    reading = paste("Each line is one way for a hidden confounder to do harm, as a multiple of the strongest measured",
                    "covariate. The smallest multiple counts.")
  ),
  pairs = new_probe_kind(
    "probe_pairs", "Pairs", bare = TRUE, scaled = function(x, settings) scaled_pairs(x, settings),
    reading = paste("Gamma 2 means that of two units paired as alike one may be twice as likely, in odds, to have been",
                    "treated. (Rosenbaum 2002.)")
  ),
  weights = new_probe_kind(
    "probe_weights", "Weights", scaled = function(x, settings) scaled_weights(x, settings),
    reading = paste("Lambda 2 means that the odds of treatment behind every weight may be off by up to twice, in",
                    "whatever way does most harm. (Tan 2006; Zhao, Small and Bhattacharya 2019.)")
  ),
  omitted = new_probe_kind(
    "probe_omitted", "Omitted variable", bare = TRUE, scaled = function(x, settings) scaled_omitted(x, settings),
    reading = paste("Strength is the share of what the covariates leave that a confounder explains, of the treatment",
                    "and of the outcome. (Cinelli and Hazlett 2020.)")
  ),
  ratio = new_probe_kind(
    "probe_ratio", "Ratio", bare = TRUE, scaled = function(x, settings) scaled_ratio(x, settings),
    reading = paste("The E-value is the risk ratio with both treatment and outcome that a confounder needs beyond the",
                    "measured covariates. (VanderWeele and Ding 2017.)")
  ),
  stability = new_probe_kind(
    "probe_stability", "Stability", bare = TRUE,
    reading = "Delta 1 means that the unobserved select into treatment as strongly as the observed. (Oster 2019.)"
  ),
  placebo = new_probe_kind(
    "probe_placebo", "Placebo", about = c("study", "panel"),
    reading = "Where the treatment can't have worked, an estimate other than 0 is bias."
  ),
  choices = new_probe_kind(
    "probe_choices", "Design choices",
    reading = "Every run is a design that could have been chosen; only those that balance the covariates speak."
  ),
  trends = new_probe_kind(
    "probe_trends", "Trends not parallel", about = "panel", scaled = function(x, settings) scaled_trends(x, settings),
    reading = paste("m 1 means that both sides may drift apart in every period under treatment as much as in the worst",
                    "period before it; by curvature, m is a change of slope. (Rambachan and Roth 2023.)")
  )
)

verb_of_probe <- function(entry) get(entry$verb, mode = "function")

# The entry behind a probe.
probe_entry <- function(x) probes[[sub("twin_probe_", "", class(x)[1L])]]
