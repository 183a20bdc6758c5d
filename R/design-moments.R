# The rows of every balance table: numeric columns, one row for a binary column, one row per level of a factor, one
# row for the missing indicator of a filled column.

# v: weights s * w per study row. distribution: also KS and mean distribution gap, with `orders` as made by
# column_orders(), so that one sort serves the samples before and after.
balance_moments <- function(study, v, distribution = FALSE, orders = NULL) {
  rows <- Map(function(column, name) column_moments(column, name, study$z, v, distribution, orders[[name]]),
              study$columns, names(study$columns))
  rows <- do.call(rbind, unname(rows))
  rownames(rows) <- NULL
  rows
}

column_orders <- function(study) {
  lapply(study$columns, function(column) {
    if (column$kind %in% c("numeric", "date")) order(column$values, method = "radix")
  })
}

column_moments <- function(column, name, z, v, distribution, order) {
  own <- switch(column$kind,
    factor = level_moments(name, "level", column$levels, core_level_shares(column$values, length(column$levels), z, v)),
    binary = level_moments(name, "binary", column$levels, core_level_shares(column$values + 1, 2L, z, v)[2L, ,
                                                                                                    drop = FALSE]),
    numeric_moments(column, name, z, v, distribution, order)
  )
  if (is.null(column$flag)) return(own)
  shares <- core_level_shares(column$flag + 1, 2L, z, v)[2L, , drop = FALSE]
  rbind(own, level_moments(name, "missing", missing_level, shares))
}

level_moments <- function(name, kind, levels, shares) {
  numbers <- core_share_balance(shares[, "treated"], shares[, "control"])
  data.frame(covariate = name, level = levels, kind = kind, numbers, row.names = NULL)
}

numeric_moments <- function(column, name, z, v, distribution, order) {
  numbers <- if (distribution) core_numeric_balance(column$values, z, v, order)
             else c(glue_arm_moments(column$values, z, v), ks = NA, ecdf_mean = NA)
  data.frame(covariate = name, level = NA_character_, kind = column$kind, as.list(numbers))
}

# METHODS, "Balance": whose sd standardizes, by estimand.
reference_arm <- function(estimand) switch(estimand, ATT = "treated", ATC = "control", "pooled")

# A difference of 0 is 0 whatever the reference; without a reference sd any other difference is undefined.
standardized <- function(difference, reference) {
  out <- difference / reference
  out[reference == 0] <- NA_real_
  out[abs(difference) < 1e-15] <- 0
  out
}
