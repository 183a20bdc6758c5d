#' State the question for more than two arms
#'
#' Like [frame_study()], for a treatment with three values or more: every arm is compared with one reference.
#' [score_units()] then fits a multinomial logit, [trim_units()] keeps who could have been in any arm, and
#' [weigh_units()], [stratify_units()], [pair_units()] or [group_units()] make the arms alike. [assess_overlap()],
#' [assess_balance()], [measure_effect()] and [measure_hazard()] take them as they are; [contrasts_of()] gives the
#' two-arm study or design of each arm.
#'
#' @param data,outcome,covariates,... As in [frame_study()]; `...` takes its `estimand`, `weight`, `frequency`,
#'   `cluster`, `stratum`, `id`, `subset`, `missing`, `event` and `imputation`. For three arms or more the estimands
#'   mean: `"ATE"` everybody, `"ATT"` those in the arm compared, `"ATC"` those in the reference, `"ATO"` weight 1 /
#'   sum(1 / e), `"ATM"` weight min(e).
#' @param treatment Name of the treatment column.
#' @param reference The value of `treatment` that every other is compared with.
#' @return A `twin_arms`. [contrasts_of()] gives a two-arm [study][frame_study] for each arm against the reference.
#'   `tidy()` gives the coefficients of the score, `tidy(x, part = "trimming")` one row per arm with the chances kept
#'   (`low`, `high`; `most`, the largest sum of 1 / chance) and how many have `fallen` off, `tidy(x, part = "learners")`
#'   the learners' losses.
#' @section Errors: As [frame_study()]; `twin_error_input` when the treatment has fewer than three values or an arm
#'   fewer than 2 units.
#' @references Li, F., Li, F. (2019). Propensity score weighting for causal inference with multiple treatments. Annals
#'   of Applied Statistics 13. \doi{10.1214/19-AOAS1282}
#' @family question
#' @examples
#' arms <- frame_arms(crews, treatment = "gear", outcome = "income", reference = "pots", estimand = "ATE",
#'                    covariates = ~ boat_length + crew_size + past_income)
#' design <- arms |> score_units() |> weigh_units()
#' design
#' assess_balance(design)
#' measure_effect(design)
#' @export
frame_arms <- function(data, treatment, outcome, covariates, reference, ...) {
  call <- rlang::current_env()
  more <- list(...)
  if (are_several_sets(data, more$imputation)) {
    asked <- c(list(data = data, treatment = treatment, outcome = outcome, covariates = covariates,
                    reference = reference), more)
    return(frame_imputed(frame_arms, asked, call))
  }
  check_units(data, call)
  check_string(treatment)
  check_columns(treatment, data)
  given <- declared_column(data, treatment, more, call)
  more <- without_categories(more, treatment, data, call)
  check_column_kind(given, treatment, call)
  values <- plain_column(if (is.logical(given)) factor(given) else given, treatment, call)
  text <- as.character(values)
  listing <- table(text)
  check_reference_arm(reference, listing, treatment)
  data[[treatment]] <- text != as.character(reference)
  base <- in_the_name_of(call, rlang::inject(frame_study(data, treatment, outcome, covariates, !!!more)))
  if (!is.null(base$row_of)) {
    given <- given[base$row_of]
    text <- text[base$row_of]
  }
  base$data[[treatment]] <- given
  base$levels <- c(treated = paste("other than", reference), control = as.character(reference))
  levels <- c(as.character(reference), setdiff(names(listing), as.character(reference)))
  arm <- match(text[base$rows], levels)
  small <- levels[tabulate(arm, length(levels)) < 2L]
  if (length(small) > 0L) {
    abort_input(c("Each arm must have at least 2 units.", x = "{.val {treatment}} has fewer in {.val {small}}.",
                  i = "Merge arms, or leave {cli::qty(length(small))}{?it/them} out with {.arg subset}."),
                levels = small)
  }
  new_arms(amend(base, arms = stats::setNames(tabulate(arm, length(levels)), levels)), arm, levels)
}

check_reference_arm <- function(reference, listing, treatment, call = rlang::caller_env()) {
  counts <- sprintf("%s (%d)", dQuote(names(listing), FALSE), as.integer(listing))
  if (length(listing) < 3L) {
    abort_input(c("{.fn frame_arms} is for three arms or more.", x = "{.val {treatment}} has {counts}.",
                  i = "Use {.fn frame_study}."), column = treatment, call = call)
  }
  if (is_single_value(reference) && as.character(reference) %in% names(listing)) return(invisible(reference))
  abort_input(c("{.arg reference} must be one of the values of {.val {treatment}}.",
                x = "It is {describe_value(reference)}; the values are {counts}."), column = treatment, call = call)
}

# base: a study whose treated arm is "any but the reference"; arm: codes into levels, the reference first; kept:
# logical, who is left after trimming (NULL for everybody); score: see score_arms(); designs: named list of two-arm
# designs (both NULL until made); recipe: see design_recipe().
new_arms <- function(base, arm, levels, kept = NULL, score = NULL, designs = NULL, steps = list(), recipe = list(),
                     cautions = character()) {
  stopifnot(length(arm) == length(base$z), is.integer(arm), !anyNA(arm), is.null(kept) || length(kept) == length(arm))
  structure(list(base = base, arm = arm, levels = levels, kept = kept, score = score, designs = designs, steps = steps,
                 recipe = recipe, cautions = cautions, hash = arms_hash(base, steps)), class = "twin_arms")
}

# As they were before any score.
as_framed <- function(x) new_arms(x$base, x$arm, x$levels)

arms_hash <- function(base, steps) rlang::hash(list(base$hash, steps))

# The same after one more step; ...: what it has changed.
step_arms <- function(x, step, ...) {
  steps <- c(x$steps, list(step))
  amend(x, ..., steps = steps, hash = arms_hash(x$base, steps))
}

is_arms <- function(x) inherits(x, "twin_arms")

#' @exportS3Method
study_of.twin_arms <- function(x) x$base # nolint: object_name_linter. An S3 method.

# The study of arm k against the reference. whole: keep the units of other arms with sampling weight 0, since a score of
# all arms leans on them; else leave them out.
arm_study <- function(x, k, whole) {
  inside <- x$arm %in% c(1L, k)
  study <- amend(x$base, z = as.integer(x$arm == k), levels = c(treated = x$levels[k], control = x$levels[1L]),
                 arms = NULL, hash = rlang::hash(list(x$base$hash, k)), family = x$base$hash)
  if (!whole) return(restrict_study(study, inside))
  amend(study, s = sampling_weight(study) * inside, outside = !inside)
}

# All units, those of arm j against all others.
one_arm_study <- function(x, j) {
  amend(x$base, arms = NULL, z = as.integer(x$arm == j),
        levels = c(treated = x$levels[j], control = paste("other than", x$levels[j])))
}

# Codes of the arms that are compared with the reference, by name.
compared_arms <- function(x) stats::setNames(seq_along(x$levels)[-1L], x$levels[-1L])

arms_kept <- function(x) if (is.null(x$kept)) rep(TRUE, length(x$arm)) else x$kept

# The last step that trimmed, NULL where none did.
trimming_of <- function(x) Find(function(step) step$verb == "trim", x$steps, right = TRUE)

# Sampling weights of the units of all arms that are still in.
arms_weight <- function(x) sampling_weight(x$base) * arms_kept(x)

# The units of an arm, without those of other arms that a study of several keeps for its score.
in_arm <- function(study, arm) study$z == arm & !(if (is.null(study$outside)) FALSE else study$outside)
