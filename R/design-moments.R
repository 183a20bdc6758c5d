# The rows of every balance table: numeric columns, one row for a binary column, one row per level of a factor, one
# row for the missing indicator of a filled column.

# samples: named list of weights s * w per study row. distribution: also KS and mean distribution gap, all samples of
# a column from one sort; known: the moments of these samples, where they have been worked out. Returns a data frame of
# the rows for each sample.
balance_moments <- function(study, samples, distribution = FALSE, known = NULL) {
  weights <- do.call(cbind, samples)
  if (!is.null(known)) return(with_distributions(known, study, weights))
  columns <- Map(function(column, name) column_moments(column, name, study$z, weights, distribution),
                 study$columns, names(study$columns))
  lapply(stats::setNames(seq_along(samples), names(samples)), function(k) {
    rows <- unlist(lapply(unname(columns), `[[`, k), recursive = FALSE)
    as.data.frame(data.table::rbindlist(rows))
  })
}

# Only numeric columns lack their distribution gaps; shares have theirs.
with_distributions <- function(known, study, weights) {
  for (name in names(study$columns)) {
    if (study$columns[[name]]$kind %in% c("factor", "binary")) next
    gaps <- core_distribution_gaps(study$columns[[name]]$values, study$z, weights)
    at <- which(known[[1L]]$covariate == name & known[[1L]]$kind != "missing")
    for (k in seq_along(known)) known[[k]][at, c("ks", "ecdf_mean")] <- gaps[, k]
  }
  known
}

# For each column of `weights` a list of its groups of rows: lists of columns.
column_moments <- function(column, name, z, weights, distribution) {
  numeric <- !column$kind %in% c("factor", "binary")
  numbers <- if (numeric) numeric_moments(column$values, z, weights, distribution)
  lapply(seq_len(ncol(weights)), function(k) {
    own <- switch(column$kind,
      factor = level_rows(name, "level", column$levels,
                          core_level_shares(core_level_totals(column$values, length(column$levels), z, weights[, k]))),
      binary = level_rows(name, "binary", column$levels, share_of_ones(column$values, z, weights[, k])),
      c(list(covariate = name, level = NA_character_, kind = column$kind), as.list(numbers[, k]))
    )
    if (is.null(column$flag)) return(list(own))
    list(own, level_rows(name, "missing", missing_level, share_of_ones(column$flag, z, weights[, k])))
  })
}

share_of_ones <- function(values, z, v) core_level_shares(core_level_totals(values + 1, 2L, z, v))[2L, , drop = FALSE]

level_rows <- function(name, kind, levels, shares) {
  numbers <- as.data.frame(core_share_balance(shares[, "treated"], shares[, "control"]))
  c(list(covariate = rep(name, nrow(numbers)), level = levels, kind = rep(kind, nrow(numbers))), as.list(numbers))
}

numeric_moments <- function(values, z, weights, distribution) {
  if (distribution) return(core_numeric_balance(values, z, weights))
  rbind(core_sample_moments(values, z, weights), ks = NA, ecdf_mean = NA)
}

# Methods, "Balance": whose sd standardizes, by estimand.

# A difference of 0 (but for rounding of shares) is 0 whatever the reference; without a reference sd any other
# difference is undefined.
standardized <- function(difference, reference) {
  out <- difference / reference
  out[reference == 0] <- ifelse(abs(difference[reference == 0]) < 1e-15, 0, NA_real_)
  out[abs(out) < 1e-15] <- 0
  out
}

# Rows of a factor's levels, or of missing values, that only one arm has; not where they leave fewer than two levels to
# the factor, which then tells the arms apart as a whole.
in_one_arm <- function(moments) {
  lone <- moments$kind %in% c("level", "missing") & (moments$mean_treated > 0) != (moments$mean_control > 0)
  level <- moments$kind == "level"
  left <- tapply(level & !lone, moments$covariate, sum)[moments$covariate]
  lone & !(level & left < 2L)
}
