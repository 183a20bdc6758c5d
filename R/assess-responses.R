#' Assess whether units with a known outcome stand for all of their arm
#'
#' Compares, arm by arm, the units whose outcome is known with all units of the arm, before and after the response
#' weights of [weigh_responses()]: means of every covariate and level with the design's weights, and their difference in
#' standard deviations of the whole arm. No outcome is opened.
#'
#' @param x A `twin_design` of [weigh_responses()].
#' @param outcome Name of the outcome; the first one weighed by default.
#' @param limit Largest acceptable absolute difference in standard deviations, default 0.1.
#' @return A `twin_responses`. `tidy()` gives one row per arm and covariate or level: `arm`, `covariate`, `level`,
#'   `mean_all`, `mean_known`, `mean_weighted`, `smd_known`, `smd_weighted`, `pass`. `glance()` gives one row per arm:
#'   `arm`, `units`, `known`, `ess` (effective number of those known, after weighting), `lowest` (the lowest chance to
#'   be known among those known), `rows`, `passing`, `worst_smd`, `worst_covariate`. `plot()` shows the differences.
#' @section Errors: `twin_error_input` without response weights or for another outcome.
#' @family judging
#' @examples
#' some <- transform(crews, income = ifelse(past_income > 40 & seq_along(income) %% 3 == 0, NA, income))
#' study <- frame_study(some, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + past_income)
#' responses <- assess_responses(weigh_responses(weigh_units(score_units(study))))
#' responses
#' plot(responses)
#' @export
assess_responses <- function(x, outcome = NULL, limit = 0.1) {
  if (is_imputed(x)) return(in_each_set(x, assess_responses, match.call()))
  check_class(x, "twin_design", "weigh_responses")
  check_number(limit, min = 0, open = TRUE)
  if (is.null(x$responses)) {
    abort_input(c("The design has no response weights.", i = "Make them with {.fn weigh_responses}."))
  }
  if (is.null(outcome)) outcome <- names(x$responses)[1L]
  check_choice(outcome, names(x$responses))
  response <- x$responses[[outcome]]
  study <- x$study
  all <- full_weight(x)
  known <- all * response$known
  weighted <- ifelse(response$known, known / response$fitted, 0)
  moments <- balance_moments(study, list(all = all, known = known, weighted = weighted))
  by_arm <- lapply(c("treated", "control"), function(arm) {
    of <- function(sample) moments[[sample]][[paste0("mean_", arm)]]
    sd <- sqrt(moments$all[[paste0("var_", arm)]])
    smd <- function(sample) standardized(of(sample) - of("all"), sd)
    data.frame(arm = arm, moments$all[c("covariate", "level")], mean_all = of("all"), mean_known = of("known"),
               mean_weighted = of("weighted"), smd_known = smd("known"), smd_weighted = smd("weighted"),
               pass = abs(smd("weighted")) <= limit)
  })
  facts <- lapply(1:0, function(arm) {
    inside <- study$z == arm & all > 0
    data.frame(arm = if (arm == 1L) "treated" else "control", units = sum(inside), known = sum(inside & response$known),
               ess = core_effective_size(weighted[inside]), lowest = min(response$fitted[inside & response$known]))
  })
  structure(list(rows = do.call(rbind, by_arm), arms = do.call(rbind, facts), outcome = outcome, limit = limit,
                 design = design_label(x), levels = study$levels,
                 labels = vapply(study$columns, `[[`, "", "label")), class = "twin_responses")
}

#' @export
tidy.twin_responses <- function(x, ...) {
  rlang::check_dots_empty()
  x$rows
}

#' @export
as.data.frame.twin_responses <- function(x, ...) x$rows

#' @export
glance.twin_responses <- function(x, ...) {
  rlang::check_dots_empty()
  verdicts <- lapply(x$arms$arm, function(arm) {
    rows <- x$rows[x$rows$arm == arm, ]
    worst <- which.max(abs(rows$smd_weighted))
    data.frame(rows = nrow(rows), passing = sum(rows$pass, na.rm = TRUE),
               worst_smd = if (length(worst) > 0L) abs(rows$smd_weighted[worst]) else NA_real_,
               worst_covariate = if (length(worst) > 0L) row_name(rows$covariate[worst], rows$level[worst]) else
                 NA_character_)
  })
  cbind(x$arms, do.call(rbind, verdicts))
}
