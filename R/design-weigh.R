#' Weigh units by the inverse of their score
#'
#' Gives every unit the weight that makes its arm stand for the population of the study's estimand: h(e) / e for
#' treated and h(e) / (1 - e) for control units, with h = 1 (ATE), e (ATT), 1 - e (ATC) or e(1 - e) (ATO); see METHODS,
#' "Notation". Sampling weights multiply these in every later step.
#'
#' @param x A `twin_design` with a score.
#' @param method `"inverse"` is the only one so far.
#' @return A `twin_design` with weights.
#' @section Errors: `twin_error_input` without a score; `twin_error_unsupported` on a design that already has pairs or
#'   weights. When one unit carries more than a tenth of its arm's weight the warning is `twin_warning_weights`.
#' @references Li, F., Morgan, K. L., Zaslavsky, A. M. (2018). Balancing covariates via propensity score weighting.
#'   JASA 113. \doi{10.1080/01621459.2016.1260466}
#' @family design
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' study |> score_units() |> weigh_units()
#' @export
weigh_units <- function(x, method = c("inverse")) {
  check_score(x, "weigh_units")
  check_undesigned(x, "weigh_units")
  method <- check_choice(method, "inverse")
  study <- study_of(x)
  weight <- core_inverse_weight(x$score$fitted, study$z, study$estimand)
  label <- sprintf("inverse weights (%s)", study$estimand)
  design <- new_design(x, list(verb = "weigh", label = label, method = method), kind = "weights", weight = weight)
  warn_heavy_units(design)
  size <- arm_sizes(full_weight(design), study$z)
  log_design(design, "weigh", sprintf("effective %.0f treated, %.0f control", size[["treated"]], size[["control"]]),
             list(method = method, estimand = study$estimand))
}

# Effective sample size by arm.
arm_sizes <- function(v, z) {
  c(treated = core_effective_size(v[z == 1L]), control = core_effective_size(v[z == 0L]))
}

warn_heavy_units <- function(design) {
  v <- full_weight(design)
  z <- design$study$z
  share <- v / ifelse(z == 1L, sum(v[z == 1L]), sum(v[z == 0L]))
  units <- tabulate(z + 1L, 2L)
  heavy <- which(share > 0.1 & units[z + 1L] >= 20L)
  if (length(heavy) == 0L) return(invisible(design))
  warn_kind("weights", c(
    "{length(heavy)} unit{?s} {?carries/each carry} more than a tenth of {?its/their} arm's weight.",
    x = "First rows: {first_rows(design$study$rows[heavy])}; largest share {format(max(share), digits = 2)}.",
    i = "Look at {.fn assess_overlap}; another estimand or a narrower study may be better supported."
  ), rows = design$study$rows[heavy])
}
