#' Group units into matched sets
#'
#' Sets of treated and control units that are alike ([Methods, "Matching"](../doc/methods.html#matching)), in four ways:
#'
#' * `"full"` (default; Rosenbaum 1991, Hansen 2004): everybody is in a set of one treated and some controls or one
#'   control and some treated, with the least total distance, exactly. `ratio` limits the sets.
#' * `"exact"`: a set for each combination of values that both arms have.
#' * `"coarsened"` (Iacus, King & Porro 2012): the same on numbers cut into bins and merged levels.
#' * `"cardinality"` (Zubizarreta, Paredes & Rosenbaum 2014): the largest sample with as many treated as controls whose
#'   every |SMD| is at most `tolerance`. The units are chosen, not paired; use [pair_units()] for pairs.
#'
#' Full matching answers the ATT (treated units weigh 1, the controls of a set share the weight of its treated), the ATC
#' and the ATE (both arms of a set weigh its size). Exact and coarsened sets weigh like strata, by the set's arms
#' in sums of the sampling weights; units in sets that lack an arm fall out.
#'
#' Of several arms ([frame_arms()]) exact and coarsened sets hold every arm. Full matching for the ATT and ATC, and
#' cardinality matches, are made within each comparison with the reference. Full matching for the ATE makes sets that
#' hold units of all arms (Savje, Higgins & Sekhon 2021), near in the scores of all of them at once or in the
#' covariates: no set is wider than four times what it must be for everybody to be near a unit of every arm. A caliper
#' limits how far a unit may be from the one that begins its set, or from the one it joins; `ratio` and `apart` have no
#' use there.
#'
#' @param x A `twin_design`, `twin_study` or `twin_arms` of [frame_arms()]; `"full"` on the score needs a score.
#' @param method `"full"` (default), `"coarsened"`, `"exact"` or `"cardinality"`.
#' @param on,covariates,metric,spread For `"full"`: the distance, see [pair_units()]. For the other methods
#'   `covariates` names the study's covariates to use, all by default.
#' @param exact,caliper,caliper_unit,apart For `"full"`: see [pair_units()]; no caliper by default.
#' @param ratio For `"full"`: the least and the most controls per treated unit, such as `c(1 / 3, 5)`: no set has more
#'   than 3 treated for one control, nor more than 5 controls for one treated. By default no limits.
#' @param bins For `"coarsened"`: a named list that says how to cut covariates; those not named are cut automatically
#'   (numbers into equal bins, as many as Sturges' rule asks for; levels stay as they are). For numbers: how many equal
#'   bins, or the rising inner cut points; for levels: a list of groups, `list(c("a", "b"), "c")`.
#' @param tolerance For `"cardinality"`: the largest |SMD| allowed, default 0.1.
#' @param seconds For `"cardinality"`: how long the integer-programming solver (package Rglpk) may search, default 30.
#'   When it runs out of time the best sample so far is used and the design says so.
#' @return A `twin_design` with sets, of kind `"sets"` (full), `"cells"` (exact, coarsened) or `"weights"`
#'   (cardinality). `tidy(x, part = "bins")` shows the bins, `tidy(x, part = "sets")` the sets, `tidy(x, part =
#'   "unmatched")` who is out and why.
#' @section Errors: `twin_error_input` for options that do not belong to the method, unknown columns and bad bins, or
#'   when nothing is left; `twin_error_infeasible` when the limits of full matching can't be met;
#'   `twin_error_unsupported` for estimands that a method does not answer.
#' @references Hansen, B. B. (2004). Full matching in an observational study of coaching for the SAT. JASA 99.
#'   \doi{10.1198/016214504000000647}
#'
#'   Iacus, S. M., King, G., Porro, G. (2012). Causal inference without balance checking: coarsened exact matching.
#'   Political Analysis 20. \doi{10.1093/pan/mpr013}
#'
#'   Rosenbaum, P. R. (1991). A characterization of optimal designs for observational studies. JRSS B 53.
#'   \doi{10.1111/j.2517-6161.1991.tb01848.x}
#'
#'   Savje, F., Higgins, M. J., Sekhon, J. S. (2021). Generalized full matching. Political Analysis 29.
#'   \doi{10.1017/pan.2020.32}
#'
#'   Zubizarreta, J. R., Paredes, R. D., Rosenbaum, P. R. (2014). Matching for balance, pairing for heterogeneity in
#'   an observational study of the effectiveness of for-profit and not-for-profit high schools in Chile. Annals of
#'   Applied Statistics 8. \doi{10.1214/13-AOAS713}
#' @family design
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' study |> score_units() |> group_units("full", ratio = c(1 / 4, 4))
#' coarse <- group_units(study, "coarsened", bins = list(boat_length = 5, crew_size = c(3, 5)))
#' tidy(coarse, part = "bins")
#' arms <- frame_arms(crews, treatment = "gear", outcome = "income", reference = "pots", estimand = "ATE",
#'                    covariates = ~ boat_length + crew_size)
#' group_units(arms, "full", on = "mahalanobis")
#' @export
group_units <- function(x, method = c("full", "coarsened", "exact", "cardinality"),
                        on = c("score", "probability", "mahalanobis", "diagonal", "metric"), covariates = NULL,
                        metric = NULL, exact = NULL, apart = NULL, caliper = NULL, caliper_unit = "sd", ratio = NULL,
                        spread = c("all", "within"), bins = NULL, tolerance = 0.1, seconds = 30) {
  if (is_imputed(x)) return(in_each_set(x, group_units, match.call()))
  again <- given_arguments(match.call())
  check_matching_start(x, "group_units")
  method <- check_choice(method, c("full", "coarsened", "exact", "cardinality"))
  given <- names(match.call())[-1L]
  stray <- setdiff(given, c("x", "method", group_options[[method]]))
  refuse_stray(stray, cli::format_inline("{.code method = \"{method}\"}"), call = rlang::current_env())
  if (is_arms(x)) {
    made <- switch(if (method == "full" && !seeks_everybody(x)) "two" else method,
                   coarsened = , exact = group_arms(x, method, covariates, bins),
                   full = full_arms(x, on, covariates, metric, spread, given, list(
                     exact = exact, apart = apart, ratio = ratio, caliper = caliper, unit = caliper_unit
                   )),
                   in_each_contrast(x, "group", match.call()))
    return(remember(made, x, "group", again))
  }
  check_group_estimand(method, study_of(x)$estimand)
  make_cells <- if (is_remote(x)) remote_cell_sets else cell_sets
  remember(switch(method,
    full = full_sets(x, check_space(x, on, covariates, metric, spread, given),
                     list(exact = exact, apart = apart, ratio = ratio, caliper = caliper, unit = caliper_unit)),
    exact = make_cells(x, "exact", covariates, NULL, rlang::current_env()),
    coarsened = make_cells(x, "coarsened", covariates, bins, rlang::current_env()),
    cardinality = cardinality_sample(x, covariates, tolerance, seconds)
  ), x, "group", again)
}

group_options <- list(
  full = c("on", "covariates", "metric", "exact", "caliper", "caliper_unit", "apart", "ratio", "spread"),
  exact = "covariates", coarsened = c("covariates", "bins"), cardinality = c("covariates", "tolerance", "seconds")
)

check_group_estimand <- function(method, estimand, call = rlang::caller_env()) {
  answers <- if (method == "cardinality") estimands_for("treated") else known_population_estimands()
  if (estimand %in% answers) return(invisible(estimand))
  abort_unsupported(c("{.code method = \"{method}\"} can't answer the {estimand}.",
                      i = "Frame the study for the {.or {answers}}, or use {.fn weigh_units}."), call = call)
}

# Sets that hold units of all arms; they can't keep single units apart, nor have limits.
full_arms <- function(x, on, covariates, metric, spread, given, asked, call = rlang::caller_env()) {
  refuse_stray(intersect(given, c("apart", "ratio")), "sets of all arms", call = call)
  settings <- check_space(x, on, covariates, metric, spread, given, call)
  if (needs_score(settings)) check_arms_scored(x, "group_units", call)
  if (settings$on == "metric" && needs_score(settings)) {
    abort_unsupported(c("A metric of sets of all arms can't hold {.val score}: there is one of every arm.",
                        i = "Leave it out of {.arg metric}, or use {.code on = \"score\"}."), call = call)
  }
  group_whole_arms(x, settings, asked, call)
}

full_sets <- function(x, space_settings, asked, call = rlang::caller_env()) {
  refuse_remote(x, call)
  if (needs_score(space_settings)) check_score(x, "group_units", call)
  settings <- c(space_settings, list(exact = asked$exact, apart = asked$apart))
  if (!is.null(asked$apart)) check_column_names(asked$apart, study_of(x), "apart", call)
  limits <- set_limits(asked$ratio, call)
  if (is.null(asked$caliper)) asked$caliper <- list()
  settings$calipers <- check_calipers(x, asked$caliper, asked$unit, settings$on, call)
  made <- make_full_sets(x, settings, limits, call)
  words <- c(
    on_label(settings$on),
    if (!is.null(asked$ratio)) ratio_words(limits),
    if (!is.null(asked$exact)) paste("exact on", and_list(asked$exact)),
    if (!is.null(asked$apart)) paste("apart by", and_list(asked$apart)),
    if (!is.null(settings$calipers)) caliper_label(settings$calipers)
  )
  step <- list(verb = "group", label = paste0("full matching", if (length(words) > 0L)
    sprintf(" (%s)", paste(words, collapse = ", "))), method = "full", ratio = asked$ratio)
  step <- c(step, settings[!vapply(settings, is.null, NA)])
  design_from_pairs(x, made, step, "group", "sets")
}

# Least and most partners of a treated unit and of a control: a set has one unit of one arm.
set_limits <- function(ratio, call) {
  ratio <- as_given(ratio, call = call)
  if (is.null(ratio)) return(c(1, Inf, 1, Inf))
  good <- is_plain_numbers(ratio) && length(ratio) == 2L && !anyNA(ratio) && all(ratio > 0) && ratio[1L] <= ratio[2L]
  if (!good) {
    abort_input(c("{.arg ratio} must be the least and the most controls per treated unit.",
                  i = "For example c(1 / 3, 5)."), call = call)
  }
  whole <- function(value) floor(value + 1e-9)
  low <- ratio[1L]
  high <- ratio[2L]
  c(max(1, ceiling(low - 1e-9)), max(1, whole(high)), max(1, ceiling(1 / high - 1e-9)), max(1, whole(1 / low)))
}

ratio_words <- function(limits) {
  side <- function(least, most) if (least == most) format(least) else sprintf("%s to %s", format(least), format(most))
  sprintf("%s controls per treated, %s treated per control", side(limits[1L], limits[2L]), side(limits[3L], limits[4L]))
}

make_full_sets <- function(x, settings, limits, call) {
  study <- study_of(x)
  kept <- design_kept(x)
  space <- pair_space(x, settings, call)
  labels <- exact_codes(x, settings$exact, call)
  apart <- lapply(settings$apart, apart_codes, x = x, call = call)
  treated <- which(kept & study$z == 1L)
  control <- which(kept & study$z == 0L)
  problem <- pair_problem(x, space, settings, labels, apart, treated, control)
  turned <- pair_problem(x, space, settings, labels, apart, control, treated)
  treated_in <- have_candidates(problem)
  control_in <- have_candidates(turned)
  reason <- integer(length(study$z))
  reason[treated[!treated_in]] <- reasons_of(problem, which(!treated_in), integer())
  reason[control[!control_in]] <- reasons_of(turned, which(!control_in), integer())
  found <- with_shares("Full matching", problem, function(tell) {
    core_full_match(problem, treated_in, control_in, limits, tell)
  })
  if (is.null(found)) stop_too_large(call)
  if (length(found$infeasible) > 0L) stop_limits(found$infeasible, labels, settings, limits, treated, control, x, call)
  if (length(found$seeker) == 0L) {
    stop_no_pairs(x, c(settings, list(ratio = c(least = 1, most = 1), replacement = FALSE, search = "optimal")),
                  list(reason = reason), call)
  }
  list(pairs = set_table(problem, treated, control, found, study$estimand), reason = reason)
}

# Sets are what pairs connect: all of one treated unit, or all of one control.
set_table <- function(problem, treated, control, found, estimand) {
  shared <- tabulate(found$unit, length(control))[found$unit] > 1L  # one control, several treated
  key <- ifelse(shared, -found$unit, found$seeker)
  places <- order(treated[found$seeker], control[found$unit])
  set <- match(key[places], unique(key[places]))
  pairs <- data.frame(
    set = set, treated = treated[found$seeker[places]], control = control[found$unit[places]],
    distance = core_distance(problem$seekers[found$seeker[places], , drop = FALSE],
                             problem$pool[found$unit[places], , drop = FALSE])
  )
  pairs <- pairs[order(pairs$set), ]
  pairs$weight <- core_row_weights(pairs$set, pairs$treated, pairs$control, estimand)
  rownames(pairs) <- NULL
  pairs
}

# The values of the exact columns in one group, as " where a = 1, b = 2"; "" when there are no such columns.
group_words <- function(study, labels, group, exact) {
  if (is.null(labels)) return("")
  row <- study$rows[which(labels == group)[1L]]
  values <- vapply(exact, function(name) paste0(name, " = ", format(study$data[[name]][row])), "")
  paste0(" where ", paste(values, collapse = ", "))
}

stop_limits <- function(groups, labels, settings, limits, treated, control, x, call) {
  count <- function(rows) {
    if (is.null(labels)) length(rows) else sum(labels[rows] == groups[1L])
  }
  where <- group_words(study_of(x), labels, groups[1L], settings$exact)
  abort_kind("infeasible", c(
    "The limits on the sets can't be met: {ratio_words(limits)}.",
    x = "There are {count(treated)} treated and {count(control)} control units{where}.",
    i = "Widen {.arg ratio}{if (!is.null(settings$calipers)) ' or the caliper'}."
  ), call = call, .envir = environment())
}
