# Balance of doses: how covariates are still correlated with the dose.

are_doses <- function(x) is_dose(x) || (is.list(x) && !is.object(x) && length(x) > 0L && all(vapply(x, is_dose, NA)))

dose_balance <- function(x, limit, given, call = rlang::caller_env()) {
  refuse_stray(setdiff(given, c("x", "limit")), "a dose", "Its balance is judged by correlations; only {.arg limit} can
               be chosen.", call)
  designs <- if (is_dose(x)) list(after = x) else x
  if (is.null(names(designs)) || !all(nzchar(names(designs))) || anyDuplicated(names(designs))) {
    abort_input("{.arg x} must be a list with names, such as list(weights = ...).", call = call)
  }
  if (length(unique(vapply(designs, function(one) one$base$hash, ""))) > 1L) {
    abort_input("Designs side by side must come from one study.", call = call)
  }
  limit <- balance_limits(limit, NULL, call)$smd
  first <- designs[[1L]]
  own <- Map(function(one, name) {
    rows <- dose_correlations(one)
    rows <- rows[rows$sample == "after", ]
    rows$sample <- rep(name, nrow(rows))
    rows
  }, designs, names(designs))
  before <- dose_correlations(first)
  rows <- do.call(rbind, c(list(before[before$sample == "before", ]), unname(own)))
  rows$pass <- ifelse(is.na(rows$correlation), NA, abs(rows$correlation) <= limit)
  rownames(rows) <- NULL
  weighted <- Filter(function(one) !is.null(one$weight), designs)
  totals <- data.frame(sample = c("before", names(weighted)), effective = c(
    effective_units(new_dose(first$base, first$d, list())), vapply(weighted, effective_units, 0)), row.names = NULL)
  balance <- structure(list(
    rows = rows, totals = totals, limit = limit, dose = first$base$roles$treatment, study = first$base,
    labels = vapply(first$base$columns, `[[`, "", "label"), several = length(designs) > 1L,
    design = paste(unique(vapply(designs, question_label, "")), collapse = "; "), imputed = NULL
  ), class = "twin_dose_balance")
  judged <- glance.twin_dose_balance(balance)
  log_once(first$base, "judge", paste("balance of", balance$design),
           sprintf("%d of %d rows pass", sum(judged$passing), sum(judged$rows)), list(limit = limit))
  balance
}

judged_doses <- function(x) {
  samples <- setdiff(unique(x$rows$sample), "before")
  if (length(samples) > 0L) samples else "before"
}

#' @export
tidy.twin_dose_balance <- function(x, ...) { # nolint: object_name_linter. broom-style name.
  rlang::check_dots_empty()
  x$rows
}

#' @export
as.data.frame.twin_dose_balance <- function(x, ...) x$rows

#' @export
glance.twin_dose_balance <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- do.call(rbind, lapply(judged_doses(x), function(sample) {
    own <- x$rows[x$rows$sample == sample & !is.na(x$rows$correlation), ]
    size <- abs(largest_correlation(own))
    worst <- which.max(size)
    data.frame(sample = sample, rows = nrow(own), passing = sum(own$pass),
               worst_correlation = if (length(worst)) size[worst] else NA_real_,
               worst_covariate = if (length(worst)) row_name(own$covariate[worst], own$level[worst]) else NA_character_,
               effective = x$totals$effective[match(sample, x$totals$sample)])
  }))
  if (x$several) rows else rows[names(rows) != "sample"]
}

# The largest of several imputed data sets, where there are such.
largest_correlation <- function(rows) if (is.null(rows$correlation_worst)) rows$correlation else rows$correlation_worst

#' @exportS3Method
over_sets.twin_dose_balance <- function(first, results) { # nolint: object_name_linter. An S3 method.
  keys <- c("covariate", "level", "kind", "sample")
  rows <- rows_over_sets(lapply(results, `[[`, "rows"), keys, function(own) {
    data.frame(correlation_worst = furthest(own$correlation, abs(own$correlation)),
               pass = if (all(is.na(own$pass))) NA else all(own$pass, na.rm = TRUE))
  })
  totals <- rows_over_sets(lapply(results, `[[`, "totals"), "sample", function(own) NULL)
  amend(first, rows = rows, totals = totals, imputed = length(results))
}
