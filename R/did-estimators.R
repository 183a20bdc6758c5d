# The register of estimators over time: Methods, "Difference-in-differences". One entry each; adding one is adding its
# entry here, with its computation (did-estimate.R says what that returns).

# words: for prints.arguments: the arguments of measure_did() that not all take. estimate: function(panel, y, asked,
# call). adjustments: what covariates may do, the fullest last; adjusted: words for adjustment by regression where it is
# not that of the comparison's outcomes. compares: is each cell against units that are not treated (argument
# comparison)? fixed_base: function of the settings, are all cells measured from one base period? collapses: can it be
# had from means by group and period? regression: is it one regression, so that few clusters have corrections of their
# own (small_sample, inference "wild")? refusal: function(panel, call) that refuses panels. mean: what its single number
# averages, in words, NULL where the effects under treatment alone count. details: function of the settings, words to
# follow the estimator's own. remote: adjustments of a panel in a database, the fullest last; none where it needs rows.
# randomise: function(effect, panel, y, asked, call) for inference "randomization"; ranked: function(effect, plan)
# giving its p-values of averages. lone_errors: has a single treated unit a standard error? by_rows: are errors sums
# over rows, so that clusters may cut units?
new_did_estimator <- function(words, arguments, estimate, adjustments = c("none", "regression"),
                              adjusted = ", adjusted by outcome regression", compares = FALSE,
                              fixed_base = function(asked) FALSE, collapses = TRUE, regression = FALSE,
                              refusal = function(panel, call) invisible(panel), mean = NULL,
                              details = function(asked) NULL, remote = "none",
                              randomise = function(effect, panel, y, asked, call) {
                                randomise_timing(effect, panel, y, asked, call)
                              },
                              ranked = function(effect, plan) with_timing_draws(effect, plan), lone_errors = TRUE,
                              by_rows = FALSE) {
  stopifnot(is.character(words), is.function(estimate), "none" %in% adjustments)
  list(words = words, arguments = arguments, estimate = estimate, adjustments = adjustments, adjusted = adjusted,
       compares = compares, fixed_base = fixed_base, collapses = collapses, regression = regression, refusal = refusal,
       mean = mean, details = details, remote = remote, randomise = randomise, ranked = ranked,
       lone_errors = lone_errors, by_rows = by_rows)
}

did_estimators <- list(
  group_time = new_did_estimator(
    "group-time differences", c("adjustment", "comparison", "base", "covariates_of", "unseen"),
    adjustments = cell_adjustments,
    compares = TRUE,
    fixed_base = function(asked) asked$base == "fixed",
    details = function(asked) covariates_of_words(asked), remote = c("none", "regression"),
    estimate = function(panel, y, asked, call) estimate_group_time(panel, y, asked)
  ),
  imputation = new_did_estimator(
    "imputation from untreated rows", c("adjustment", "factors", "trends", "absorb", "leads"),
    adjusted = " with covariates", by_rows = TRUE, details = function(asked) {
      c(if (!is.null(asked$factors)) sprintf(" with %s", plural(asked$factors, "shared factor")) else line_words(asked),
        if (held_out(asked) > 0) sprintf(", holding out %s before treatment", plural(held_out(asked), "period"))) |>
        paste(collapse = "")
    },
    estimate = function(panel, y, asked, call) {
      if (!is.null(asked$factors)) return(estimate_factors(panel, y, asked, call))
      plain <- is.null(asked$trends) && is.null(asked$absorb)
      if (plain) estimate_imputation(panel, y, asked, call) else estimate_wide_imputation(panel, y, asked, call)
    }
  ),
  interaction = new_did_estimator(
    "a regression with a term for every cohort and period", "adjustment", adjusted = " with covariates", by_rows = TRUE,
    fixed_base = function(asked) TRUE,
    estimate = function(panel, y, asked, call) estimate_interaction(panel, y, asked, call)
  ),
  two_way = new_did_estimator(
    "a two-way fixed-effects regression", c("adjustment", "absorb", "trends", "small_sample"),
    adjusted = " with covariates",
    by_rows = TRUE, regression = TRUE, mean = "a weighted mix of effects that decompose_did() takes apart",
    details = function(asked) line_words(asked),
    estimate = function(panel, y, asked, call) estimate_two_way(panel, y, asked, call)
  ),
  event_study = new_did_estimator(
    "a two-way regression on periods since treatment", c("adjustment", "leads", "lags"), adjusted = " with covariates",
    by_rows = TRUE, fixed_base = function(asked) TRUE,
    estimate = function(panel, y, asked, call) estimate_event_study(panel, y, asked, call)
  ),
  two_period = new_did_estimator(
    "a before-and-after difference", c("adjustment", "covariates_of"), adjustments = cell_adjustments,
    details = function(asked) covariates_of_words(asked),
    estimate = function(panel, y, asked, call) estimate_two_period(panel, y, asked, call)
  ),
  triple = new_did_estimator(
    "triple differences", c("adjustment", "comparison", "base", "third", "affected"), adjustments = cell_adjustments,
    compares = TRUE, collapses = FALSE, fixed_base = function(asked) asked$base == "fixed", remote = character(),
    details = function(asked) {
      levels <- asked$third$levels
      sprintf(" (%s = \"%s\" against \"%s\")", asked$third$name, levels[["treated"]], levels[["control"]])
    },
    estimate = function(panel, y, asked, call) estimate_group_time(panel, y, asked)
  ),
  dose = new_did_estimator(
    "differences by dose", c("adjustment", "comparison", "doses", "knots", "since"), compares = TRUE,
    fixed_base = function(asked) TRUE, remote = character(),
    refusal = function(panel, call) refuse_no_dose(panel, call), details = function(asked) since_words(asked),
    estimate = function(panel, y, asked, call) estimate_dose(panel, y, asked, call),
    randomise = function(effect, panel, y, asked, call) {
      abort_unsupported(c("Doses belong to who has them: drawing anew who is treated when would part them.",
                          i = "Use {.code inference = \"bootstrap\"}, or analytic errors."), call = call)
    }
  ),
  synthetic = new_did_estimator(
    "a synthetic comparison", "parallel", adjustments = "none", remote = character(), lone_errors = FALSE,
    refusal = function(panel, call) refuse_synthetic(panel, call),
    details = function(asked) {
      if (asked$parallel) " (units never treated, and periods before treatment, weighed)" else
        " (units never treated, weighed to meet its level)"
    },
    estimate = function(panel, y, asked, call) estimate_synthetic(panel, y, asked, call),
    randomise = function(effect, panel, y, asked, call) rank_placebos(effect, panel, y, asked, call),
    ranked = function(effect, plan) with_placebo_ranks(effect, plan)
  )
)

# How many periods before treatment imputation holds out.
held_out <- function(asked) if (isTRUE(is.finite(asked$leads))) asked$leads else 0

line_words <- function(asked) if (!is.null(asked$trends)) sprintf(" with a linear trend for each %s", asked$trends)

since_words <- function(asked) {
  if (is.null(asked$since)) return(NULL)
  last <- if (is.finite(asked$since[2L])) asked$since[2L] else "the last"
  sprintf(" over periods %s to %s since treatment", asked$since[1L], last)
}

covariates_of_words <- function(asked) if (asked$covariates_of == "all") " over the covariates of all treated"

# The entry behind an effect over time.
did_estimator_of <- function(x) did_estimators[[x$estimator]]

uses_comparison <- function(x) did_estimator_of(x)$compares

is_fixed_base <- function(x) did_estimator_of(x)$fixed_base(x$asked)

refuse_synthetic <- function(panel, call) {
  if (is_carried(panel)) {
    abort_unsupported(c("A synthetic comparison makes weights of its own; the panel has those of a design.",
                        i = "Frame the panel without {.arg design} for it."), call = call)
  }
  if (length(panel$columns) == 0L) return(invisible(panel))
  abort_unsupported(c("A synthetic comparison takes no covariates: it is made of outcomes before treatment.",
                      i = "Frame the panel without {.arg covariates} for it."), call = call)
}
