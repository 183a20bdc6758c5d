#' Assess covariate balance before and after a design
#'
#' Compares the arms covariate by covariate, level by level, in the sample before the design and in the one after it
#' (METHODS, "Balance"). Look here before opening the outcome: balance belongs to the sample, and no p-value is needed
#' to judge it.
#'
#' @param x A `twin_design`, or a `twin_study` for the sample before any design.
#' @param limit Largest acceptable absolute standardized mean difference: a number, or `"strict"` (0.05), `"standard"`
#'   (0.1, default) or `"lenient"` (0.25).
#' @param ratio_range Acceptable range of the variance ratio, two numbers; 0.5 to 2 by default, 0.8 to 1.25 for
#'   `limit = "strict"`.
#' @param reference Whose standard deviation, before the design, standardizes: `"treated"`, `"control"` or `"pooled"`;
#'   by default treated for the ATT, control for the ATC, pooled otherwise.
#' @return A `twin_balance`. `tidy()` gives one row per covariate or level and sample with the columns `covariate`,
#'   `level`, `kind` ("numeric", "date", "binary", "level", "missing"), `sample` ("before", "after"), `mean_treated`,
#'   `mean_control`, `sd_treated`, `sd_control`, `difference` (treated minus control), `smd`, `variance_ratio`
#'   (numeric columns), `ks`, `ecdf_mean`, `pass` (NA where the standardized difference is undefined). `glance()` gives
#'   one row for the last sample: `rows`, `passing`, `worst_smd`, `worst_covariate`, `ess_treated`, `ess_control`,
#'   `mahalanobis`.
#' @section Errors: `twin_error_input` for limits out of range.
#' @family judging
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' balance <- study |> score_units() |> pair_units(caliper = 0.2) |> assess_balance()
#' balance
#' plot(balance)
#' @export
assess_balance <- function(x, limit = "standard", ratio_range = NULL,
                           reference = c("by_estimand", "treated", "control", "pooled")) {
  check_design(x)
  study <- study_of(x)
  limits <- balance_limits(limit, ratio_range)
  reference <- check_choice(reference, c("by_estimand", "treated", "control", "pooled"))
  if (reference == "by_estimand") reference <- reference_arm(study$estimand)
  samples <- balance_moments(study, design_samples(x), distribution = TRUE)
  sd <- core_reference_sd(samples$before$var_treated, samples$before$var_control, reference)
  rows <- Map(function(rows, sample) finish_rows(rows, sd, limits, sample), samples, names(samples))
  v <- full_weight(x)
  new_balance(do.call(rbind, unname(rows)), list(
    limits = limits, reference = reference, labels = vapply(study$columns, `[[`, "", "label"), levels = study$levels,
    design = design_label(x), estimand = study$estimand, sizes = arm_sizes(v, study$z),
    mahalanobis = joint_imbalance(study, v)
  ))
}

# facts: limits, reference, labels of the columns, levels of the treatment, design, estimand, effective sizes by arm
# and the joint imbalance.
new_balance <- function(rows, facts) {
  stopifnot(is.data.frame(rows), c("covariate", "smd", "pass") %in% names(rows), is.list(facts))
  rownames(rows) <- NULL
  structure(c(list(rows = rows), facts), class = "twin_balance")
}

balance_limits <- function(limit, ratio_range, call = rlang::caller_env()) {
  presets <- c(strict = 0.05, standard = 0.1, lenient = 0.25)
  if (is.null(ratio_range)) ratio_range <- if (identical(limit, "strict")) c(0.8, 1.25) else c(0.5, 2)
  if (is.character(limit)) limit <- presets[[check_choice(limit, names(presets), "limit", call)]]
  check_number(limit, min = 0, open = TRUE, call = call)
  if (!is_ratio_range(ratio_range)) {
    abort_input("{.arg ratio_range} must be two positive numbers around 1, such as c(0.5, 2).", call = call)
  }
  list(smd = limit, ratio = ratio_range)
}

is_ratio_range <- function(x) is.numeric(x) && length(x) == 2L && all(is.finite(x), x[1L] > 0, x[1L] <= 1, x[2L] >= 1)

finish_rows <- function(rows, sd, limits, sample) {
  smd <- standardized(rows$mean_treated - rows$mean_control, sd)
  ratio <- ifelse(rows$kind %in% c("numeric", "date") & rows$var_control > 0, rows$var_treated / rows$var_control, NA)
  ratio_fails <- !is.na(ratio) & (ratio < limits$ratio[1L] | ratio > limits$ratio[2L])
  data.frame(
    covariate = rows$covariate, level = rows$level, kind = rows$kind, sample = sample,
    mean_treated = rows$mean_treated, mean_control = rows$mean_control,
    sd_treated = sqrt(rows$var_treated), sd_control = sqrt(rows$var_control),
    difference = rows$mean_treated - rows$mean_control, smd = smd, variance_ratio = ratio,
    ks = rows$ks, ecdf_mean = rows$ecdf_mean, pass = ifelse(is.na(smd), NA, abs(smd) <= limits$smd & !ratio_fails)
  )
}

# METHODS: Mahalanobis distance between the arms' weighted mean vectors, covariance of the sample before the design.
joint_imbalance <- function(study, v) {
  matrix <- covariate_matrix(study$columns)
  mean_of <- function(arm) drop(crossprod(matrix, v * (study$z == arm))) / sum(v[study$z == arm])
  core_mahalanobis_length(mean_of(1L) - mean_of(0L), core_covariance(matrix, study$s))
}

#' @export
tidy.twin_balance <- function(x, ...) {
  rlang::check_dots_empty()
  x$rows
}

#' @export
as.data.frame.twin_balance <- function(x, ...) x$rows

#' @export
glance.twin_balance <- function(x, ...) {
  rlang::check_dots_empty()
  last <- x$rows[x$rows$sample == utils::tail(x$rows$sample, 1L), ]
  worst <- which.max(abs(last$smd))
  none <- length(worst) == 0L
  data.frame(
    rows = nrow(last), passing = sum(last$pass, na.rm = TRUE),
    worst_smd = if (none) NA_real_ else abs(last$smd[worst]),
    worst_covariate = if (none) NA_character_ else row_name(last$covariate[worst], last$level[worst]),
    ess_treated = x$sizes[["treated"]], ess_control = x$sizes[["control"]], mahalanobis = x$mahalanobis
  )
}

#' @export
summary.twin_balance <- function(object, ...) {
  numbers <- generics::glance(object)
  last <- object$rows[object$rows$sample == utils::tail(object$rows$sample, 1L), ]
  c(as.list(numbers), list(undefined = sum(is.na(last$smd)),
                           balanced = numbers$passing == numbers$rows))
}

# "port_size: large", "boat_length": how a row is named everywhere.
row_name <- function(covariate, level) ifelse(is.na(level), covariate, paste0(covariate, ": ", level))
