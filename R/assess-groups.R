#' Describe both arms side by side
#'
#' The first table of a paper: means and standard deviations of numeric columns, counts and shares of every level, what
#' is missing, and the difference, treated minus control. Numeric rows use the recorded values only; missing ones are
#' counted. Sampling weights enter every mean and share, not the counts.
#'
#' @param study A `twin_study`.
#' @return A `twin_groups`. `tidy()` gives one row per numeric column or level with the columns `covariate`, `level`,
#'   `kind`, `n_treated`, `n_control` (recorded values of a numeric column, units in a level otherwise),
#'   `missing_treated`, `missing_control` (per column), `mean_treated`, `mean_control` (a share for levels),
#'   `sd_treated`, `sd_control`, `difference`, `std.error` (of the difference, clustered and stratified as the study
#'   says), `smd`.
#' @family first look
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + skipper_age + port_size)
#' describe_groups(study)
#' @export
describe_groups <- function(study) {
  check_class(study, "twin_study", "frame_study")
  rows <- Map(describe_column, study$columns, names(study$columns), MoreArgs = list(study = study))
  rows <- do.call(rbind, unname(rows))
  reference <- core_reference_sd(rows$sd_treated^2, rows$sd_control^2, reference_arm(study$estimand))
  rows$smd <- standardized(rows$difference, reference)
  rownames(rows) <- NULL
  structure(list(
    rows = rows, labels = vapply(study$columns, `[[`, "", "label"), levels = study$levels, estimand = study$estimand,
    treatment = study$roles$treatment, counts = c(treated = sum(study$z), control = sum(1L - study$z)),
    weighted = !is.null(study$s), reference = reference_arm(study$estimand)
  ), class = "twin_groups")
}

# A numeric column gives one row; every level of a factor gives one, a binary column one for its level 1, and filled
# columns one more for the share that is missing.
describe_column <- function(column, name, study) {
  absent <- if (is.null(column$flag)) column_absent(column) else column$flag == 1
  missing <- c(sum(absent & study$z == 1L), sum(absent & study$z == 0L))
  if (column$kind %in% c("numeric", "date")) {
    return(describe_values(column$values, !absent, name, NA_character_, column$kind, missing, study))
  }
  codes <- if (column$kind == "factor") column$values else 2 - column$values
  one_level <- function(k) {
    describe_values(as.double(codes == k), column$kind == "factor" | !absent, name, column$levels[k],
                    if (column$kind == "factor") "level" else "binary", missing, study)
  }
  do.call(rbind, lapply(seq_along(column$levels), one_level))
}

column_absent <- function(column) {
  if (column$kind != "factor" || column$missing == 0L) return(rep(FALSE, length(column$values)))
  column$values == length(column$levels)
}

describe_values <- function(values, present, name, level, kind, missing, study) {
  present <- rep_len(present, length(values))
  v <- sampling_weight(study) * present
  z <- study$z
  at <- core_arm_moments(values, z, v)
  if (!kind %in% c("numeric", "date")) {
    at[c("var_treated", "var_control")] <- at[c("mean_treated", "mean_control")] *
      (1 - at[c("mean_treated", "mean_control")])
  }
  means <- core_contrasts(core_weighted_means(values, z, v))
  variance <- core_vcov(means$influence[, "difference", drop = FALSE], study$cluster, study$stratum, used = present,
                        lonely = "centre")
  counted <- if (kind %in% c("numeric", "date")) present else present & values == 1
  data.frame(
    covariate = name, level = level, kind = kind, n_treated = sum(counted & z == 1L),
    n_control = sum(counted & z == 0L), missing_treated = missing[1L], missing_control = missing[2L],
    mean_treated = at[["mean_treated"]], mean_control = at[["mean_control"]],
    sd_treated = sqrt(at[["var_treated"]]), sd_control = sqrt(at[["var_control"]]),
    difference = at[["mean_treated"]] - at[["mean_control"]], std.error = sqrt(variance$vcov[1L, 1L])
  )
}

#' @export
tidy.twin_groups <- function(x, ...) {
  rlang::check_dots_empty()
  x$rows
}

#' @export
as.data.frame.twin_groups <- function(x, ...) x$rows
