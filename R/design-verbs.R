# The verbs of a design by their names in recipes and plans.
design_verbs <- function() {
  list(score = score_units, trim = trim_units, pair = pair_units, group = group_units, search = search_metric,
       stratify = stratify_units, weigh = weigh_units, respond = weigh_responses)
}
