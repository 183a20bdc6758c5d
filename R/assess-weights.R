#' Assess the weights of a design
#'
#' How much of each arm's weight is held by how few units, and what that costs in precision. Weights are sampling weight
#' times design weight; a weight of 0 means a unit is out and is not counted.
#'
#' @param x A `twin_design`, or a `twin_study` for its sampling weights. A weighted `twin_arms` gives those of each
#'   comparison with the reference, see [several].
#' @return A `twin_weights`. `tidy()` gives one row per arm and sample ("before", "after" the design): `arm`,
#'   `sample`, `units`, `total`, `least`, `lower` (first quartile), `median`, `upper`, `greatest` (all relative to the
#'   arm's mean weight), `ess` (effective sample size, (sum v)^2 / sum v^2), `design_effect` (units over `ess`),
#'   `top_share` (share of the arm's weight held by the heaviest 1% of its units, rounded up) and `largest_share` (by
#'   the heaviest one). `glance()` gives the worst of each after the design in one row. `heaviest` in the object: the
#'   five heaviest units of each arm with `row`, `weight`, `share` and, with a score, `score`.
#' @references Kish, L. (1965). Survey Sampling. Wiley.
#' @family judging
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income", estimand = "ATE",
#'                      covariates = ~ boat_length + crew_size + past_income)
#' weights <- assess_weights(weigh_units(score_units(study)))
#' weights
#' plot(weights)
#' @export
assess_weights <- function(x) {
  if (is_imputed(x)) return(in_each_set(x, assess_weights, match.call()))
  if (is_arms(x)) return(in_each_part(contrasts_by_name(x), "contrast", assess_weights, match.call()))
  check_design(x, remote = TRUE)
  study <- study_of(x)
  found <- if (is_remote(x)) remote_weight_facts(x) else weight_facts(x)
  rownames(found$rows) <- NULL
  last <- found$rows[found$rows$sample == names(found$weights)[length(found$weights)], ]
  log_once(study, "judge", paste("weights of", design_label(x)),
           sprintf("largest share of an arm %s", share_text(max(last$largest_share))))
  structure(c(found, list(levels = study$levels, design = design_label(x))), class = "twin_weights")
}

weight_facts <- function(x) {
  z <- study_of(x)$z
  samples <- design_samples(x)
  rows <- do.call(rbind, Map(function(v, sample) weight_rows(v, z, sample), samples, names(samples)))
  list(rows = rows, weights = samples, z = z, heaviest = heaviest_units(x, samples[[length(samples)]]))
}

weight_rows <- function(v, z, sample) {
  rows <- lapply(c(treated = 1L, control = 0L), function(arm) {
    own <- sort(v[z == arm & v > 0], decreasing = TRUE)
    spread <- core_weighted_quantiles(own / mean(own), rep(1, length(own)), c(0, 0.25, 0.5, 0.75, 1))
    data.frame(
      arm = if (arm == 1L) "treated" else "control", sample = sample, units = length(own), total = sum(own),
      least = spread[1L], lower = spread[2L], median = spread[3L], upper = spread[4L], greatest = spread[5L],
      ess = core_effective_size(own), design_effect = length(own) / core_effective_size(own),
      top_share = sum(own[seq_len(ceiling(length(own) / 100))]) / sum(own), largest_share = own[1L] / sum(own)
    )
  })
  do.call(rbind, unname(rows))
}

heaviest_units <- function(x, v) {
  study <- study_of(x)
  rows <- lapply(c(treated = 1L, control = 0L), function(arm) {
    places <- which(study$z == arm & v > 0)
    places <- utils::head(places[order(-v[places])], 5L)
    out <- data.frame(arm = if (arm == 1L) "treated" else "control", row = study$rows[places], weight = v[places],
                      share = v[places] / sum(v[study$z == arm]))
    if (!is.null(design_score(x))) out$score <- x$score$fitted[places]
    out
  })
  do.call(rbind, unname(rows))
}

#' @export
tidy.twin_weights <- function(x, ...) {
  rlang::check_dots_empty()
  x$rows
}

#' @export
as.data.frame.twin_weights <- function(x, ...) x$rows

#' @export
glance.twin_weights <- function(x, ...) {
  rlang::check_dots_empty()
  last <- x$rows[x$rows$sample == names(x$weights)[length(x$weights)], ]
  data.frame(ess_treated = last$ess[1L], ess_control = last$ess[2L], design_effect = max(last$design_effect),
             top_share = max(last$top_share), largest_share = max(last$largest_share))
}
