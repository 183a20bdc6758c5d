# Every way of weighing with every estimand it answers, for tests of all of them.
scored_weights <- function(...) function(study) weigh_units(score_units(study, ...))
weighted_by <- function(...) function(study) weigh_units(study, ...)

every <- c("ATE", "ATT", "ATC", "ATO", "ATM")
recipes <- list(
  logit = list(make = scored_weights(), estimands = every),
  probit = list(make = scored_weights(link = "probit"), estimands = every),
  cloglog = list(make = scored_weights(link = "cloglog"), estimands = every),
  heteroskedastic_probit = list(make = scored_weights(link = "heteroskedastic_probit", scale_model = ~ boat), estimands = every),
  stabilised = list(make = function(study) weigh_units(score_units(study), stabilise = TRUE), estimands = c("ATE", "ATT")),
  truncated = list(make = function(study) weigh_units(score_units(study), truncate = c(bound = 3)),
                   estimands = c("ATE", "ATT")),
  entropy = list(make = weighted_by("entropy"), estimands = c("ATE", "ATT", "ATC")),
  balancing = list(make = weighted_by("balancing_score"), estimands = c("ATE", "ATT", "ATC", "ATO")),
  stable = list(make = weighted_by("stable", tolerance = 0.05), estimands = c("ATE", "ATT", "ATC")),
  strata = list(make = function(study) stratify_units(score_units(study, score = "chance"), breaks_on = c(0.3, 0.5, 0.7)),
                estimands = c("ATE", "ATT", "ATC")),
  refitted = list(make = function(study) {
    weigh_units(trim_units(score_units(study), "range", bounds = c(0.2, 0.8), rescore = TRUE))
  }, estimands = c("ATE", "ATT")),
  trimmed_entropy = list(make = function(study) {
    weigh_units(trim_units(score_units(study), "range", bounds = c(0.2, 0.8)), "entropy", moments = 2,
                interactions = ~ boat:port)
  }, estimands = "ATT")
)

combinations <- do.call(rbind, lapply(names(recipes), function(name) {
  data.frame(recipe = name, estimand = recipes[[name]]$estimands)
}))

recipe_design <- function(data, recipe, estimand) {
  recipes[[recipe]]$make(study_of_many(with_chance(data), estimand = estimand, weight = "s"))
}
