#' Divide units into strata of the score
#'
#' Cuts the propensity score into strata and gives every unit its marginal mean weight ([Methods,
#' "Strata"](../doc/methods.html#strata); Hong 2010), so that the weighted difference is the stratified estimate. For
#' the ATT treated units weigh 1 and the controls of a stratum its treated over its controls; for the ATC the other way
#' round; for the ATE every unit weighs the stratum's size times its arm's share over its cell's size. All counts use
#' the sampling weights; weights times sampling weights are scaled to mean 1. Standard errors account for the cell
#' counts and, with a score by maximum likelihood, for its estimation; where the strata are cut is taken as given.
#'
#' @param x A `twin_design` with a score, without pairs, weights or strata. Of a scored `twin_arms` of [frame_arms()]
#'   each arm is cut by its own chance and stands for everybody (ATE; Hong 2012); for the ATT and ATC strata are made
#'   within each comparison with the reference.
#' @param strata How many strata of equal size (weighted), 2 or more; default 5.
#' @param breaks_on Whose scores are cut into equal parts: `"all"`, `"treated"` or `"control"` units; by default those
#'   the estimand speaks of. Or the inner breaks themselves, rising numbers between 0 and 1 (`strata` is then left out).
#'   A score that equals a break belongs to the stratum below it.
#' @return A `twin_design`; the stratum of a unit is its set. [measure_effect()] also gives the difference within each
#'   stratum, `assess_balance(by = ".stratum")` its balance, `tidy(x, part = "strata")` one row per stratum: `stratum`,
#'   `low`, `high` (score), `treated`, `control` (units), `weight_treated`, `weight_control`.
#' @section Errors: `twin_error_input` when a stratum lacks an arm (it is named) or breaks are out of order;
#'   `twin_error_unsupported` for the estimands ATO and ATM. When scores tie so much that breaks coincide there are
#'   fewer strata, with the warning `twin_warning_strata`.
#' @references Hong, G. (2012). Marginal mean weighting through stratification: A generalized method for evaluating
#'   multivalued and multiple treatments with nonexperimental data. Psychological Methods 17. \doi{10.1037/a0024918}
#'
#'   Hong, G. (2010). Marginal mean weighting through stratification. Journal of Educational and Behavioral
#'   Statistics 35. \doi{10.3102/1076998609359785}
#' @family design
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' design <- study |> score_units() |> stratify_units(strata = 5)
#' design
#' tidy(design, part = "strata")
#' @export
stratify_units <- function(x, strata = 5, breaks_on = NULL) {
  if (is_imputed(x)) return(in_each_set(x, stratify_units, match.call()))
  again <- given_arguments(match.call())
  if (is_arms(x)) return(remember(arm_strata(x, strata, breaks_on, match.call()), x, "stratify", again))
  check_score(x, "stratify_units", remote = TRUE)
  check_undesigned(x, "stratify_units")
  study <- study_of(x)
  check_stratum_estimand(study$estimand)
  breaks_on <- check_breaks(breaks_on, study$estimand, missing(strata))
  if (!is.numeric(breaks_on)) check_count(strata, min = 2, max = 1000)
  make <- if (is_remote(x)) remote_strata else stratified_design
  remember(make(x, strata, breaks_on, rlang::current_env()), x, "stratify", again)
}

stratified_design <- function(x, strata, breaks_on, call) {
  study <- study_of(x)
  s <- kept_weight(x)
  breaks <- if (is.numeric(breaks_on)) breaks_on else quantile_breaks(x, strata, breaks_on, call)
  stratum <- findInterval(x$score$fitted, breaks, left.open = TRUE) + 1L
  stratum[!design_kept(x)] <- NA_integer_
  check_cells(stratum, study, s, c(0, breaks, 1), call)
  weight <- core_stratum_weight(stratum, study$z, s, study$estimand)
  weight <- weight * sum(s > 0) / sum(s * weight)
  source <- if (is.numeric(breaks_on)) "given breaks" else paste("quantiles of", breaks_on)
  step <- list(verb = "stratify", strata = length(breaks) + 1L, breaks = breaks,
               label = sprintf("%d strata (%s)", length(breaks) + 1L, source))
  design <- new_design(x, step, kind = "strata", weight = weight, set = stratum,
                       weighing = list(method = "strata", breaks = breaks, free = TRUE))
  cells <- table(stratum[s > 0], study$z[s > 0])
  log_design(design, "stratify", sprintf("smallest cell %d", min(cells)),
             list(strata = length(breaks) + 1L, breaks_on = breaks_on, breaks = breaks))
}

quantile_breaks <- function(x, strata, on, call) {
  z <- study_of(x)$z
  s <- kept_weight(x)
  inside <- s > 0 & switch(on, all = TRUE, treated = z == 1L, control = z == 0L)
  breaks <- core_weighted_quantiles(x$score$fitted[inside], s[inside], seq_len(strata - 1L) / strata)
  distinct_breaks(breaks, max(x$score$fitted[s > 0]), strata, on, call)
}

# Those that cut something off below `most`, the greatest score.
distinct_breaks <- function(breaks, most, strata, on, call) {
  distinct <- unique(breaks)
  distinct <- distinct[distinct < most]
  if (length(distinct) == 0L) {
    abort_input("The scores of the {on} units tie so much that no stratum can be cut.", call = call)
  }
  if (length(distinct) < strata - 1L) {
    warn_kind("strata", c("Scores tie: {strata - 1L - length(distinct)} break{?s} coincide{?s/}.",
                          i = "There are {length(distinct) + 1L} strata."), strata = length(distinct) + 1L)
  }
  distinct
}

check_breaks <- function(breaks_on, estimand, strata_left_out, call = rlang::caller_env()) {
  breaks_on <- as_given(breaks_on, call = call)
  if (is.null(breaks_on)) return(switch(population_of(estimand), everybody = "all", population_of(estimand)))
  if (is.character(breaks_on)) return(check_choice(breaks_on, c("all", "treated", "control"), "breaks_on", call))
  if (!strata_left_out) {
    abort_input("{.arg strata} has no use when the breaks are given; leave it out.", call = call)
  }
  if (are_breaks(breaks_on)) return(breaks_on)
  abort_input("{.arg breaks_on} must be \"all\", \"treated\", \"control\", or rising numbers between 0 and 1.",
              call = call)
}

are_breaks <- function(x) {
  is.numeric(x) && length(x) > 0L && all(is.finite(x)) && !is.unsorted(x, strictly = TRUE) && all(x > 0 & x < 1)
}

check_stratum_estimand <- function(estimand, call = rlang::caller_env()) {
  if (has_known_population(estimand)) return(invisible(estimand))
  abort_unsupported(c("Strata can't answer the {estimand}.",
                      i = "Frame the study for the {.or {known_population_estimands()}}, or use {.fn weigh_units}."),
                    call = call)
}

# Every stratum must hold both arms.
check_cells <- function(stratum, study, s, ends, call = rlang::caller_env()) {
  inside <- s > 0 & !is.na(stratum)
  cells <- table(factor(stratum[inside], seq_len(length(ends) - 1L)), factor(study$z[inside], c(1L, 0L)))
  check_stratum_counts(cells, ends, call)
}

# cells: units by stratum, treated first.
check_stratum_counts <- function(cells, ends, call) {
  empty <- which(cells == 0L, arr.ind = TRUE)
  if (nrow(empty) == 0L) return(invisible(cells))
  k <- empty[1L, 1L]
  arm <- c("treated", "control")[empty[1L, 2L]]
  abort_input(c(
    "Every stratum must hold both arms.",
    x = "Stratum {k}, scores from {score_range_text(ends[k], ends[k + 1L])}, has {cells[k, 1L]} treated and
         {cells[k, 2L]} control units{if (nrow(empty) > 1L) paste0('; ', nrow(empty) - 1L, ' more are empty')}.",
    i = "Use fewer {.arg strata} or other breaks, or {.fn trim_units} first."
  ), stratum = k, arm = arm, counts = cells[k, ], call = call)
}

# One row per stratum, for tidy() and prints.
stratum_table <- function(x) {
  if (is_remote(x)) return(x$weighing$table)
  study <- x$study
  s <- kept_weight(x)
  inside <- s > 0
  ends <- c(0, x$weighing$breaks, 1)
  rows <- lapply(seq_len(length(ends) - 1L), function(k) {
    cell <- function(arm) which(inside & x$set %in% k & study$z == arm)
    data.frame(stratum = k, low = ends[k], high = ends[k + 1L], treated = length(cell(1L)),
               control = length(cell(0L)), weight_treated = x$weight[cell(1L)[1L]],
               weight_control = x$weight[cell(0L)[1L]])
  })
  do.call(rbind, rows)
}
