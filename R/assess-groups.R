#' Describe both arms side by side
#'
#' The first table of a paper: means and standard deviations (or medians and quartiles) of numeric columns, counts and
#' shares of every level, what is missing, and the difference, treated minus control. Numeric rows use the recorded
#' values only; missing ones are counted. Sampling weights enter every mean, share and quantile, not the counts.
#'
#' @param study A `twin_study`.
#' @param columns Names of the columns to describe, any of the data; the study's covariates by default.
#' @param summary What describes a numeric column: `"mean"` (default; with sd), `"median"` (with quartiles) or
#'   `"by_skew"` (the median where the skewness exceeds 1 in absolute value).
#' @param by Name of a column with a few levels: one block of rows for each.
#' @param overall Also describe both arms together? Default `FALSE`.
#' @param tests Also test each difference? Default `FALSE`. A t-test for numbers and yes/no columns, a chi-squared
#'   (Wald)
#'   test of all levels together for others; both clustered and stratified as the study says. A p-value shrinks with
#'   the number of units whatever the imbalance: judge balance by the standardized difference.
#' @return A `twin_groups`. `tidy()` gives one row per numeric column or level with the columns `group` (level of
#'   `by`, NA without), `covariate`, `level`, `kind`, `n_treated`, `n_control` (recorded values of a numeric column,
#'   units in
#'   a level otherwise), `missing_treated`, `missing_control` (per column), `mean_treated`, `mean_control` (a share for
#'   levels), `sd_treated`, `sd_control`, `difference` (of means), `std.error` (of the difference), `n` (units behind
#'   it), `smd`; with `overall` also `mean_all`, `sd_all`; when medians are asked for also `median_*`, `q25_*`,
#'   `q75_*` by arm and `shown` ("mean" or "median"); with `tests` also `statistic`, `df` and `p.value`.
#' @section Errors: `twin_error_input` for unknown columns or a `by` with too many values. Levels of `by` with fewer
#'   than
#'   2 units in an arm are left out with the warning `twin_warning_thin_group`.
#' @family first look
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + skipper_age + port_size)
#' describe_groups(study)
#' describe_groups(study, columns = "market_km", summary = "median", by = "port_size")
#' @export
describe_groups <- function(study, columns = NULL, summary = c("mean", "median", "by_skew"), by = NULL,
                            overall = FALSE, tests = FALSE) {
  check_class(study, "twin_study", "frame_study")
  summary <- check_choice(summary, c("mean", "median", "by_skew"))
  check_flag(overall)
  check_flag(tests)
  if (!is.null(columns)) study <- with_columns(study, columns)
  whole <- list(rep(TRUE, length(study$z)))
  groups <- if (is.null(by)) stats::setNames(whole, NA) else study_groups(study, by)
  asked <- list(summary = summary, overall = overall, tests = tests)
  rows <- Map(function(inside, group) {
    part <- if (all(inside)) study else restrict_study(study, inside)
    cbind(group = group, describe_study(part, asked))
  }, groups, names(groups))
  rows <- do.call(rbind, unname(rows))
  rownames(rows) <- NULL
  structure(list(
    rows = rows, labels = vapply(study$columns, `[[`, "", "label"), levels = study$levels, estimand = study$estimand,
    treatment = study$roles$treatment, counts = c(treated = sum(study$z), control = sum(1L - study$z)),
    weighted = !is.null(study$s), cluster = study$roles$cluster, stratum = study$roles$stratum,
    reference = reference_arm(study$estimand), by = by, overall = overall, tests = tests
  ), class = "twin_groups")
}

# The study with other columns in place of its covariates.
with_columns <- function(study, columns, call = rlang::caller_env()) {
  if (!is.character(columns) || length(columns) == 0L) {
    abort_input("{.arg columns} must be names in quotes.", call = call)
  }
  check_columns(columns, study$data, call = call)
  if (study$roles$treatment %in% columns) abort_input("{.arg columns} can't hold the treatment.", call = call)
  for (outcome in intersect(columns, study$roles$outcome)) open_outcome(study, outcome, "describe_groups")
  amend(study, columns = lapply(stats::setNames(nm = columns), function(name) {
    prepare_column(some_rows(study$data[[name]], study$rows), name, sampling_weight(study), call)
  }))
}

describe_study <- function(study, asked) {
  rows <- Map(describe_column, study$columns, names(study$columns), MoreArgs = list(study = study, asked = asked))
  rows <- do.call(rbind, unname(rows))
  reference <- core_reference_sd(rows$sd_treated^2, rows$sd_control^2, reference_arm(study$estimand))
  smd <- standardized(rows$difference, reference)
  place <- match("n", names(rows))
  cbind(rows[seq_len(place)], smd = smd, rows[-seq_len(place)])
}

# A numeric column gives one row; every level of a factor gives one, a binary column one for its level 1.
describe_column <- function(column, name, study, asked) {
  absent <- column_absent(column)
  missing <- c(sum(absent & study$z == 1L), sum(absent & study$z == 0L))
  numeric <- column$kind %in% c("numeric", "date")
  levels <- if (numeric) NA_character_ else column$levels
  codes <- if (column$kind == "factor") column$values else 2 - column$values
  indicators <- lapply(seq_along(levels), function(k) if (numeric) column$values else as.double(codes == k))
  present <- if (column$kind == "factor") rep(TRUE, length(absent)) else !absent
  kind <- switch(column$kind, factor = "level", column$kind)
  means <- lapply(indicators, function(values) core_weighted_means(values, study$z, sampling_weight(study) * present))
  variance <- difference_covariance(means, study, present)
  rows <- do.call(rbind, Map(function(values, level, se) {
    describe_values(values, present, c(name, level, kind), missing, se, study, asked)
  }, indicators, levels, sqrt(diag(variance$vcov))))
  if (asked$tests) rows <- cbind(rows, difference_test(rows$difference, variance))
  rows
}

column_absent <- function(column) {
  if (!is.null(column$flag)) return(column$flag == 1)
  if (column$kind != "factor" || column$missing == 0L) return(rep(FALSE, length(column$values)))
  column$values == length(column$levels)
}

# Joint covariance of the differences of several indicators, clustered and stratified as the study says.
difference_covariance <- function(means, study, present) {
  influence <- vapply(means, function(m) drop(m$influence() %*% c(1, -1)), numeric(length(study$z)))
  core_vcov(influence, study$cluster, study$stratum, used = present, lonely = "centre")
}

# t for a single difference; a Wald chi-squared for all levels together, repeated on each of their rows.
difference_test <- function(difference, variance) {
  if (length(difference) == 1L) {
    t <- difference / sqrt(variance$vcov[1L, 1L])
    df <- variance$clusters - 1
    return(data.frame(statistic = t, df = df, p.value = 2 * stats::pt(-abs(t), df)))
  }
  rank <- length(difference) - 1L
  statistic <- core_mahalanobis_length(difference, variance$vcov)^2
  data.frame(statistic = statistic, df = rank, p.value = stats::pchisq(statistic, rank, lower.tail = FALSE))
}

describe_values <- function(values, present, names, missing, se, study, asked) {
  v <- sampling_weight(study) * present
  z <- study$z
  numeric <- names[3L] %in% c("numeric", "date")
  at <- arm_description(values, z, v, numeric)
  counted <- if (numeric) present else present & values == 1
  row <- data.frame(
    covariate = names[1L], level = names[2L], kind = names[3L], n_treated = sum(counted & z == 1L),
    n_control = sum(counted & z == 0L), missing_treated = missing[1L], missing_control = missing[2L],
    mean_treated = at[["mean_treated"]], mean_control = at[["mean_control"]],
    sd_treated = sqrt(at[["var_treated"]]), sd_control = sqrt(at[["var_control"]]),
    difference = at[["mean_treated"]] - at[["mean_control"]], std.error = se, n = sum(present)
  )
  if (asked$overall) row <- cbind(row, overall_description(values, v, numeric))
  if (asked$summary != "mean") row <- cbind(row, median_description(values, z, v, numeric, asked$summary))
  row
}

arm_description <- function(values, z, v, numeric) {
  at <- core_arm_moments(values, z, v)
  if (!numeric) {
    shares <- at[c("mean_treated", "mean_control")]
    at[c("var_treated", "var_control")] <- shares * (1 - shares)
  }
  at
}

overall_description <- function(values, v, numeric) {
  mean <- sum(v * values) / sum(v)
  variance <- sum(v * (values - mean)^2) / (sum(v) - sum(v^2) / sum(v))
  data.frame(mean_all = mean, sd_all = sqrt(if (numeric) variance else mean * (1 - mean)))
}

median_description <- function(values, z, v, numeric, summary) {
  quartiles <- lapply(c(treated = 1L, control = 0L), function(arm) {
    inside <- z == arm & v > 0
    if (numeric) core_weighted_quantiles(values[inside], v[inside], c(0.25, 0.5, 0.75)) else rep(NA_real_, 3L)
  })
  median_shown <- numeric && (summary == "median" || abs(core_skewness(values, v)) > 1)
  data.frame(
    median_treated = quartiles$treated[2L], median_control = quartiles$control[2L],
    q25_treated = quartiles$treated[1L], q25_control = quartiles$control[1L],
    q75_treated = quartiles$treated[3L], q75_control = quartiles$control[3L],
    shown = if (median_shown) "median" else "mean"
  )
}

#' @export
tidy.twin_groups <- function(x, ...) {
  rlang::check_dots_empty()
  x$rows
}

#' @export
as.data.frame.twin_groups <- function(x, ...) x$rows
