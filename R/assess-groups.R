#' Describe both arms side by side
#'
#' The first table of a paper: means and standard deviations (or medians and quartiles) of numeric columns, counts and
#' shares of every level, what is missing, and the difference, treated minus control. Numeric rows use the recorded
#' values only; missing ones are counted. Sampling weights enter every mean, share and quantile, not the counts.
#'
#' @param study A `twin_study`; a design, for the table after pairing or weighting; a `twin_arms`, for every arm against
#'   the reference; a `twin_panel`, for every cohort against units never treated, in its first period; or a named list
#'   of studies and designs of one study, such as `list(before = study, pairs = design)`, for several comparisons in one
#'   table. Differences of designs are standardized by the sd before the design, and their standard errors take the
#'   weights as given.
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
#'   `by`; name of the comparison where there are several; NA otherwise), `covariate`, `level`, `kind`, `n_treated`,
#'   `n_control` (recorded values of a numeric column, units in a level otherwise), `missing_treated`,
#'   `missing_control` (per column), `mean_treated`, `mean_control` (a share for levels), `sd_treated`, `sd_control`,
#'   `difference` (of means), `std.error` (of the difference), `n` (units behind it), `smd`; with `overall` also
#'   `mean_all`, `sd_all`; when medians are asked for also `median_*`, `q25_*`, `q75_*` by arm and `shown` ("mean" or
#'   "median"); with `tests` also `statistic`, `df` and `p.value`.
#' @section Errors: `twin_error_input` for unknown columns or a `by` with too many values. Levels of `by` with fewer
#'   than
#'   2 units in an arm are left out with the warning `twin_warning_thin_group`.
#' @family first look
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + skipper_age + port_size)
#' describe_groups(study)
#' describe_groups(study, columns = "market_km", summary = "median", by = "port_size")
#' pairs <- study |> score_units() |> pair_units()
#' describe_groups(list("everybody" = study, "in pairs" = pairs))
#' @export
describe_groups <- function(study, columns = NULL, summary = c("mean", "median", "by_skew"), by = NULL,
                            overall = FALSE, tests = FALSE) {
  if (is_imputed(study)) return(in_each_set(study, describe_groups, match.call()))
  summary <- check_choice(summary, c("mean", "median", "by_skew"))
  check_flag(overall)
  check_flag(tests)
  if (inherits(study, "twin_remote_study")) {
    return(remote_groups_table(study, columns, summary, by, overall, tests, rlang::current_env()))
  }
  samples <- described_samples(study, columns)
  if (!is.null(by) && length(samples) > 1L) {
    abort_input("{.arg by} needs one comparison; there are {length(samples)}.")
  }
  first <- samples[[1L]]$study
  asked <- list(summary = summary, overall = overall, tests = tests)
  rows <- Map(function(sample, name) {
    groups <- if (is.null(by)) stats::setNames(list(rep(TRUE, length(sample$study$z))), name) else
      study_groups(sample$study, by)
    Map(function(inside, group) {
      part <- if (all(inside)) sample$study else restrict_study(sample$study, inside)
      reference <- if (is.null(sample$whole)) part else
        if (all(inside)) sample$whole else restrict_study(sample$reference, inside)
      cbind(group = if (nzchar(group)) group else NA_character_, describe_study(part, asked, reference))
    }, groups, names(groups))
  }, samples, names(samples))
  rows <- do.call(rbind, unlist(unname(rows), recursive = FALSE, use.names = FALSE))
  rownames(rows) <- NULL
  structure(list(
    rows = rows, labels = vapply(first$columns, `[[`, "", "label"), levels = first$levels, estimand = first$estimand,
    treatment = first$roles$treatment, counts = c(treated = sum(first$z), control = sum(1L - first$z)),
    weighted = described_weights(samples), cluster = first$roles$cluster, stratum = first$roles$stratum,
    reference = reference_arm(first$estimand), by = if (length(samples) > 1L) attr(samples, "by") else by,
    several = length(samples) > 1L, overall = overall, tests = tests, imputed = NULL,
    sizes = lapply(samples, function(sample) c(sum(sample$study$z), sum(1L - sample$study$z)))
  ), class = "twin_groups")
}

# What is described, by name: list(study, reference: whose sd standardizes where it is not the study itself, designed).
# Attribute by: what the names stand for. A single one has no name.
described_samples <- function(x, columns, call = rlang::caller_env()) {
  if (inherits(x, "twin_panel")) {
    refuse_remote(x, call)
    return(cohort_samples(x, columns, call))
  }
  by <- "comparison"
  if (is_arms(x)) {
    x <- contrasts_of(x)
    by <- "arm"
  }
  if (!is_named_list(x) || inherits(x, c("twin_study", "twin_design"))) {
    check_class(x, c("twin_study", "twin_design"), c("frame_study", "score_units"), "study", call)
    x <- stats::setNames(list(x), "")
  }
  if (length(x) == 0L) abort_input("{.arg study} has nothing to describe: the list is empty.", call = call)
  for (part in x) check_class(part, c("twin_study", "twin_design"), c("frame_study", "score_units"), "study", call)
  structure(lapply(x, described_sample, columns = columns, call = call), by = by)
}

# A design's units with its weights; those it leaves out are gone.
described_sample <- function(x, columns, call) {
  refuse_remote(x, call)
  study <- study_of(x)
  if (!is.null(columns)) study <- with_columns(study, columns, call)
  if (!inherits(x, "twin_design") || !alters_sample(x)) return(list(study = study, designed = FALSE))
  inside <- full_weight(x) > 0
  list(study = restrict_study(amend(study, s = full_weight(x)), inside), reference = restrict_study(study, inside),
       whole = study, designed = TRUE)
}

described_weights <- function(samples) {
  if (any(vapply(samples, `[[`, NA, "designed"))) return("design")
  if (any(vapply(samples, function(sample) !is.null(sample$study$s), NA))) "sampling" else "none"
}

# Every treated cohort against units never treated, or against all others where everybody is, as they are in the first
# period.
cohort_samples <- function(panel, columns, call) {
  wanted <- if (is.null(columns)) names(panel$columns) else columns
  if (length(wanted) == 0L) {
    abort_input(c("The panel has no covariates to describe.", i = "Name {.arg columns} of the data."), call = call)
  }
  rows <- panel$rows[panel$time == min(panel$time)]
  cohort <- panel$cohort[panel$unit[panel$time == min(panel$time)]]
  never <- panel$cohorts$position == Inf
  treated <- which(is_treated_cohort(panel))
  samples <- lapply(treated, function(k) {
    control <- if (any(never)) never[cohort] else cohort != k
    inside <- cohort == k | control
    data <- panel$data[rows[inside], , drop = FALSE]
    data$.cohort <- ifelse(cohort[inside] == k, "treated", if (any(never)) "never treated" else "all others")
    study <- frame_study(data, ".cohort", panel$roles$outcome[1L], wanted, treated = "treated",
                         weight = panel$roles$weight)
    list(study = study, designed = FALSE)
  })
  names(samples) <- sprintf("from %s", panel$cohorts$label[treated])
  structure(samples, by = "treated")
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

describe_study <- function(study, asked, reference = study) {
  rows <- Map(describe_column, study$columns, names(study$columns), MoreArgs = list(study = study, asked = asked))
  rows <- do.call(rbind, unname(rows))
  before <- if (identical(reference, study)) rows else do.call(rbind, unname(Map(
    describe_column, reference$columns, names(reference$columns), MoreArgs = list(
      study = reference, asked = list(summary = "mean", overall = FALSE, tests = FALSE)))))
  sd <- core_reference_sd(before$sd_treated^2, before$sd_control^2, reference_arm(study$estimand))
  smd <- standardized(rows$difference, sd)
  place <- match("n", names(rows))
  cbind(rows[seq_len(place)], smd = smd, rows[-seq_len(place)])
}

# A numeric column gives one row; every level of a factor gives one, a binary column one for its level 1.
describe_column <- function(column, name, study, asked) {
  if (column$kind == "factor") return(describe_levels(column, name, study, asked))
  absent <- column_absent(column)
  missing <- c(sum(absent & study$z == 1L), sum(absent & study$z == 0L))
  numeric <- column$kind %in% c("numeric", "date")
  means <- core_weighted_means(column$values, study$z, sampling_weight(study) * !absent)
  variance <- core_vcov(means$influence() %*% c(1, -1), study$cluster, study$stratum, used = !absent, lonely = "centre")
  level <- if (numeric) NA_character_ else column$levels
  rows <- describe_values(column$values, !absent, c(name, level, column$kind), missing, sqrt(variance$vcov[1L, 1L]),
                          study, asked)
  if (asked$tests) rows <- cbind(rows, difference_test(rows$difference, variance))
  rows
}

# Every level in one pass over the units.
describe_levels <- function(column, name, study, asked) {
  code <- column$values
  count <- length(column$levels)
  v <- sampling_weight(study)
  absent <- column_absent(column)
  in_arm <- function(arm) study$z == arm
  share <- core_level_shares(core_level_totals(code, count, study$z, v))
  sd <- sqrt(share * (1 - share))
  variance <- core_level_vcov(code, count, study$z, v, study$cluster, study$stratum)
  rows <- data.frame(
    covariate = name, level = column$levels, kind = "level", n_treated = tabulate(code[in_arm(1L)], count),
    n_control = tabulate(code[in_arm(0L)], count), missing_treated = sum(absent & in_arm(1L)),
    missing_control = sum(absent & in_arm(0L)), mean_treated = share[, "treated"], mean_control = share[, "control"],
    sd_treated = sd[, "treated"], sd_control = sd[, "control"],
    difference = share[, "treated"] - share[, "control"], std.error = sqrt(diag(variance$vcov)), n = length(code)
  )
  if (asked$overall) {
    mean <- core_sums_by(v, code, count) / sum(v)
    rows[c("mean_all", "sd_all")] <- list(mean, sqrt(mean * (1 - mean)))
  }
  if (asked$summary != "mean") {
    rows[paste0(c("median_", "q25_", "q75_"), rep(c("treated", "control"), each = 3L))[c(1, 4, 2, 5, 3, 6)]] <- NA_real_
    rows$shown <- "mean"
  }
  if (asked$tests) rows <- cbind(rows, difference_test(rows$difference, variance))
  rows
}

column_absent <- function(column) {
  if (!is.null(column$flag)) return(column$flag == 1)
  if (column$kind != "factor" || column$missing == 0L) return(rep(FALSE, length(column$values)))
  column$values == length(column$levels)
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
