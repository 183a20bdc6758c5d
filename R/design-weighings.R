# The register of weights: Methods, "Notation", "Strata", "Balancing weights". One entry per way of weighing, whichever
# verb makes it. Adding one to weigh_units() is adding its entry here, with its computation.

# words: for labels and prints. verb: who makes it: "weigh" (a method of weigh_units()), "stratify", "group" or "arms".
# arguments: the arguments of weigh_units() it takes beside method and truncate. answers: function of an estimand's
# name. make: function(x, asked, call) giving list(weight, weighing: facts for the nuisance and for prints, score where
# the method makes one). nuisance: function(design, s) giving how the estimation of the weights enters
# (core-nuisance.R); NULL where they are known or taken as known. details: function of the settings, words for the
# label. by_score: do the weights move with the score that score_units() made? given: what standard errors take as
# given, in a word, NULL for nothing. estimated: FALSE where weights stay the same whoever is drawn. sums: do weights,
# not normalised, sum to the size of the population? odds: "score" or "weight", from which the odds behind the weights
# are read (probe_weights()), NULL where there are none; no_odds: then why, a sentence. redraw: function(x, y, fit,
# weights) for the means of a draw where they can be had faster than by the whole design, NULL else. remote: function(x,
# asked, call) giving list(weight, nuisance, score where the method makes one) in words for a table in a database, NULL
# where they need rows. even: is it a sample with as many units of both arms, each counted once, so that they can be
# paired? matched: are they matches of several arms, whose variance is not that of weights?
new_weighing <- function(words, verb = "weigh", arguments = character(), answers = function(estimand) TRUE, make = NULL,
                         nuisance = NULL, details = function(asked) NULL, by_score = FALSE, given = NULL,
                         estimated = TRUE, sums = FALSE, odds = "weight", no_odds = NULL, redraw = NULL,
                         even = FALSE, remote = NULL, matched = FALSE) {
  stopifnot(is.character(words), is.null(make) == (verb != "weigh"), is.function(answers))
  if (is.null(nuisance)) nuisance <- function(design, s) core_known(length(s))
  list(words = words, verb = verb, arguments = arguments, answers = answers, make = make, nuisance = nuisance,
       details = details, by_score = by_score, given = given, estimated = estimated, sums = sums, odds = odds,
       no_odds = no_odds, redraw = redraw, even = even, remote = remote, matched = matched)
}

matches_no_odds <- "Matches weigh by who is near; their weights are no odds that could be wrong."

weighings <- list(
  inverse = new_weighing(
    "inverse weights", arguments = "stabilise", by_score = TRUE, sums = TRUE, odds = "score",
    make = function(x, asked, call) inverse_weights(check_score(x, "weigh_units", call), x$score),
    nuisance = function(design, s) inverse_nuisance(design),
    redraw = function(matrix, z, y, s, estimand, fit) core_redraw_weighted(matrix, z, y, s, estimand, fit),
    remote = function(x, asked, call) {
      check_score(x, "weigh_units", call, remote = TRUE)
      remote_inverse(x$study$rows, x$score, x$study$estimand)
    }
  ),
  entropy = new_weighing(
    "entropy weights", arguments = c("moments", "interactions"), answers = function(e) has_known_population(e),
    make = function(x, asked, call) moment_weights(x, asked, FALSE, call),
    nuisance = function(design, s) moment_nuisance(design, s, FALSE),
    details = function(asked) moment_details(asked),
    remote = function(x, asked, call) remote_moment_weights(x, asked, call)
  ),
  balancing_score = new_weighing(
    "balancing-score weights", arguments = "stabilise", odds = "score",
    answers = function(e) has_known_population(e) || estimands[[e]]$own_likelihood,
    make = function(x, asked, call) balancing_score_weights(x, call),
    nuisance = function(design, s) inverse_nuisance(design),
    remote = function(x, asked, call) remote_balancing_score(x, call)
  ),
  stable = new_weighing(
    "stable weights", arguments = c("moments", "interactions", "tolerance"),
    answers = function(e) has_known_population(e),
    make = function(x, asked, call) moment_weights(x, asked, TRUE, call),
    nuisance = function(design, s) moment_nuisance(design, s, TRUE),
    details = function(asked) c(moment_details(asked), paste("within", format(asked$tolerance)))
  ),
  own = new_weighing(
    "own weights", arguments = "weight", given = "weights", estimated = FALSE,
    make = function(x, asked, call) own_weights(x, asked$column, call), details = function(asked) asked$column
  ),
  strata = new_weighing(
    "strata", verb = "stratify", by_score = TRUE, given = "strata",
    nuisance = function(design, s) strata_nuisance(design, s)
  ),
  cells = new_weighing(
    "cells", verb = "group", given = "cells", nuisance = function(design, s) cell_nuisance(design, s)
  ),
  cardinality = new_weighing(
    "a cardinality match", verb = "group", given = "sample", odds = NULL, even = TRUE,
    no_odds = "A cardinality match chooses units; its weights are no odds that could be wrong."
  ),
  arms = new_weighing(
    "inverse weights", verb = "arms", by_score = TRUE, sums = TRUE,
    nuisance = function(design, s) arm_weight_nuisance(design)
  ),
  arm_entropy = new_weighing(
    "entropy weights", verb = "arms", nuisance = function(design, s) arm_moment_nuisance(design)
  ),
  arm_own = new_weighing("own weights", verb = "arms", given = "weights", estimated = FALSE),
  arm_strata = new_weighing(
    "strata", verb = "arms", by_score = TRUE, given = "strata",
    nuisance = function(design, s) arm_strata_nuisance(design)
  ),
  arm_cells = new_weighing(
    "cells", verb = "arms", given = "cells", nuisance = function(design, s) arm_cell_nuisance(design)
  ),
  arm_pairs = new_weighing(
    "pairs in every arm", verb = "arms", matched = TRUE, odds = NULL,
    no_odds = matches_no_odds
  ),
  arm_sets = new_weighing(
    "full matching of all arms", verb = "arms", matched = TRUE, given = "sets", odds = NULL,
    no_odds = matches_no_odds,
    nuisance = function(design, s) arm_set_nuisance(design)
  )
)

# Methods of weigh_units().
weighing_methods <- function() names(Filter(function(entry) entry$verb == "weigh", weighings))

# The entry behind a design's weights, NULL where it has none.
weighing_of <- function(x) if (has_weights(x)) weighings[[x$weighing$method]]

is_truncated <- function(x) has_weights(x) && !all(x$weighing$free)

inverse_weights <- function(x, score) {
  list(weight = core_inverse_weight(score$fitted, study_of(x)$z, study_of(x)$estimand), weighing = list())
}

own_weights <- function(x, name, call) {
  study <- study_of(x)
  check_string(name, arg = "weight", call = call)
  check_columns(name, study$data, "weight", call)
  values <- study$data[[name]][study$rows]
  kept <- design_kept(x)
  checked <- check_weight(values[kept], name, study$z[kept], study$levels, study$rows[kept], call)
  list(weight = replace(numeric(length(kept)), kept, checked), weighing = list())
}

inverse_nuisance <- function(design) {
  study <- design$study
  score_function_nuisance(design, core_inverse_weight_slope(design$score$fitted, study$z, study$estimand))
}

# d log(inverse weight) / d(linear score), of every unit.
log_weight_slope <- function(design) {
  study <- study_of(design)
  e <- design$score$fitted
  core_inverse_weight_slope(e, study$z, study$estimand) / core_inverse_weight(e, study$z, study$estimand) *
    core_link_slope(design$score$linear, e, design$score$link)
}

# Is the score one whose estimation strata and matches can account for: by maximum likelihood?
has_likelihood_score <- function(x) {
  score <- design_score(x)
  !is.null(score) && !score$known && is.null(score$residual) && !is.null(score$covariance)
}

# Of strata of the score: their totals, and the score itself.
strata_nuisance <- function(design, s) {
  totals <- cell_nuisance(design, s)
  if (!has_likelihood_score(design)) return(totals)
  weight <- s * design$weight
  linear <- design$score$linear
  z <- design$study$z
  core_joined(list(totals, core_matched_nuisance(
    score_nuisance(design), s, weight, log_weight_slope(design),
    function(y) core_cell_residual(y, linear, design$set, z, weight)
  )))
}

# The totals of strata or cells.
cell_nuisance <- function(design, s) {
  study <- design$study
  core_stratum_nuisance(design$set, study$z, s, design$weight, study$estimand)
}
