# Which keys each part of a plan may have; those of verbs are the verbs' own arguments.

plan_keys <- function() {
  arguments <- function(verb, drop) setdiff(names(formals(verb)), drop)
  list(
    top = c("study", "designs", "power", "effects", "variation", "probes", "report"),
    panel_top = c("panel", "baseline", "designs", "power", "composition", "trends", "decompose", "effects", "probes",
                  "report"),
    panel = c(arguments(frame_panel, c("design", "...")), reading_keys()),
    baseline = c(arguments(baseline_rows, "panel"), "each_cohort", baseline_framing()),
    composition = arguments(assess_composition, "panel"), trends = c("design", arguments(assess_trends, "panel")),
    decompose = arguments(decompose_did, "panel"),
    did = c("design", arguments(measure_did, "panel"), arguments(summarise_did, c("x", "level", "seed"))),
    panel_report = c("title", "truth", "headline", arguments(assess_balance, c("x", "custom", "by"))),
    study = c(arguments(frame_study, "..."), "reference", "dose", "time", "unit", "changing", reading_keys()),
    score = arguments(score_units, "x"), trim = arguments(trim_units, "x"), pair = arguments(pair_units, "x"),
    group = arguments(group_units, "x"), search = arguments(search_metric, "x"),
    stratify = arguments(stratify_units, "x"), weigh = arguments(weigh_units, "x"),
    respond = arguments(weigh_responses, "x"),
    effect = c("design", "measure", arguments(measure_effect, "x")),
    hazard = c("design", "measure", arguments(measure_hazard, "x")),
    response = c("design", "measure", arguments(measure_response, "x")),
    course = c("design", "measure", arguments(measure_course, "x")),
    power = c("design", arguments(assess_power, "x")), variation = c("design", arguments(measure_variation, "x")),
    probes = lapply(probes, function(probe) {
      c("probe", "effect", if (probe$bare) "estimate", arguments(verb_of_probe(probe), "x"))
    }),
    report = c("title", "truth", "headline", "groups", arguments(assess_balance, c("x", "custom"))),
    groups = arguments(describe_groups, "study")
  )
}

# What of frame_study() baseline rows leave open.
baseline_framing <- function() c("covariates", "estimand", "missing", "stratum", "subset")

# How the data are read; a plan never trusts a file.
reading_keys <- function() setdiff(names(formals(read_units)), c("path", "trusted"))

plan_measures <- function() {
  list(effect = measure_effect, hazard = measure_hazard, response = measure_response, course = measure_course)
}
