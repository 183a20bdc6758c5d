#' Pair treated and control units
#'
#' Greedy nearest-neighbour pairing on the linear propensity score, without replacement (METHODS, "Matching"). For the
#' ATT each treated unit seeks a control; for the ATC each control seeks a treated unit. A unit that finds no partner
#' within the caliper falls out, and every later print says so.
#'
#' @param x A `twin_design` with a score.
#' @param caliper Largest distance allowed within a pair, closed; `Inf` for none. Default 0.2 (Austin 2011).
#' @param caliper_unit `"sd"` (default): pooled standard deviations of the linear score, sqrt((var1 + var0) / 2);
#'   `"raw"`: the linear score itself.
#' @param order Who chooses first: `"hardest"` (default; highest score first for the ATT, lowest first for the ATC),
#'   `"easiest"`, `"given"` (as the rows stand), `"shuffled"` (needs `seed`), or `"closest_pair"` (the closest pair of
#'   all, then the closest of the rest).
#' @param seed A whole number for `order = "shuffled"`. The random stream of the session is left as it was.
#' @return A `twin_design` with pairs; [pairs_of()] lists them.
#' @section Errors: `twin_error_input` without a score, for a caliper of 0 or less, or when no pair is left;
#'   `twin_error_unsupported` for the estimands ATE and ATO, which pairing without replacement does not answer.
#' @references Austin, P. C. (2011). Optimal caliper widths for propensity-score matching. Pharmaceutical Statistics
#'   10. \doi{10.1002/pst.433}
#' @family design
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' design <- study |> score_units() |> pair_units(caliper = 0.2)
#' design
#' head(pairs_of(design))
#' @export
pair_units <- function(x, caliper = 0.2, caliper_unit = c("sd", "raw"),
                       order = c("hardest", "easiest", "given", "shuffled", "closest_pair"), seed = NULL) {
  check_score(x, "pair_units")
  check_undesigned(x, "pair_units")
  check_number(caliper, min = 0, open = TRUE, infinite = TRUE)
  caliper_unit <- check_choice(caliper_unit, c("sd", "raw"))
  order <- check_choice(order, c("hardest", "easiest", "given", "shuffled", "closest_pair"))
  study <- study_of(x)
  check_pair_estimand(study$estimand)
  check_seed(seed, order)

  treated_seek <- study$estimand == "ATT"
  kept <- design_kept(x)
  seekers <- which(kept & study$z == as.integer(treated_seek))
  pool <- which(kept & study$z != as.integer(treated_seek))
  unit <- if (caliper_unit == "sd") core_pooled_sd(x$score$linear[kept], study$z[kept], kept_weight(x)[kept]) else 1
  partner <- core_pair_greedy(
    x$score$linear[seekers], x$score$linear[pool], if (is.finite(caliper)) caliper * unit else Inf, order,
    treated_seek, if (order == "shuffled") with_own_seed(seed, sample.int(length(seekers)))
  )
  pairs <- pair_table(study, x$score$linear, seekers, pool[partner], treated_seek)
  if (nrow(pairs) == 0L) stop_no_pairs(caliper, caliper_unit, x$score$linear[kept], study$z[kept])
  design_from_pairs(x, pairs, list(
    verb = "pair", caliper = caliper, caliper_unit = caliper_unit, order = order, seed = seed,
    label = pair_label(caliper, caliper_unit)
  ))
}

pair_label <- function(caliper, unit) {
  if (is.infinite(caliper)) return("pairs (no caliper)")
  sprintf("pairs (caliper %s%s)", format(caliper), if (unit == "sd") " sd" else ", raw")
}

# set, treated, control (study rows), distance, weight. Sets are numbered in the order of their treated rows.
pair_table <- function(study, linear, seekers, partner, treated_seek) {
  found <- !is.na(partner)
  treated <- if (treated_seek) seekers[found] else partner[found]
  control <- if (treated_seek) partner[found] else seekers[found]
  places <- order(treated)
  data.frame(
    set = seq_along(treated), treated = treated[places], control = control[places],
    distance = abs(linear[treated[places]] - linear[control[places]]), weight = rep(1, length(treated))
  )
}

design_from_pairs <- function(x, pairs, step) {
  study <- study_of(x)
  set <- rep(NA_integer_, length(study$z))
  set[pairs$treated] <- pairs$set
  set[pairs$control] <- pairs$set
  inside <- !is.na(set)
  design <- new_design(x, step, kind = "pairs", kept = inside, weight = as.double(inside), set = set, pairs = pairs,
                       note = pair_note(study, inside, design_kept(x)))
  design$before_pairs <- design_kept(x)
  log_design(design, "pair", sprintf("%d pairs; without a partner: %d treated, %d control", nrow(pairs),
                                     sum(study$z == 1L & design_kept(x) & !inside),
                                     sum(study$z == 0L & design_kept(x) & !inside)),
             step[c("caliper", "caliper_unit", "order")], if (is.null(step$seed)) NA_integer_ else step$seed)
}

# Whom the effect speaks of when not every seeker found a partner.
pair_note <- function(study, inside, kept) {
  seeking <- if (study$estimand == "ATT") 1L else 0L
  arm <- if (seeking == 1L) "treated" else "control"
  lost <- sum(study$z == seeking & kept & !inside)
  if (lost == 0L) return(character())
  sprintf("the %d of %d %s units that found a partner", sum(study$z == seeking & inside),
          sum(study$z == seeking & kept), arm)
}

check_pair_estimand <- function(estimand, call = rlang::caller_env()) {
  if (estimand %in% c("ATT", "ATC")) return(invisible(estimand))
  abort_unsupported(c(
    "Pairing without replacement can't answer the {estimand}.",
    x = "Each pair stands for its treated unit (ATT) or its control unit (ATC).",
    i = "Frame the study for the ATT, or use {.fn weigh_units} for the {estimand}."
  ), call = call)
}

check_seed <- function(seed, order, call = rlang::caller_env()) {
  check_number(seed, null = TRUE, call = call)
  if (order == "shuffled" && is.null(seed)) {
    abort_input("{.code order = \"shuffled\"} needs a {.arg seed}, so that the pairs can be made again.", call = call)
  }
  if (order != "shuffled" && !is.null(seed)) {
    abort_input("{.arg seed} has no use with {.code order = \"{order}\"}; leave it out.", call = call)
  }
}

stop_no_pairs <- function(caliper, unit, linear, z, call = rlang::caller_env()) {
  gap <- max(min(linear[z == 1L]) - max(linear[z == 0L]), min(linear[z == 0L]) - max(linear[z == 1L]))
  abort_input(c(
    "No pair is left within the caliper of {format(caliper)}{if (unit == 'sd') ' pooled sd' else ''}.",
    x = if (gap > 0) "The arms' linear scores do not overlap: the gap is {format(gap, digits = 3)}.",
    i = "Widen the caliper, or look at {.fn assess_overlap} first."
  ), call = call)
}
