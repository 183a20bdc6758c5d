# Judging designs on a table in a database.

# The table of balance from sums; distances of distributions and rows on request need the rows.
remote_balance <- function(designs, limits, reference, extra, custom, by, tests, call) {
  asked <- c(extra = length(extra) > 0L, custom = length(custom) > 0L, by = !is.null(by), tests = tests,
             reference = reference$from == "all")
  if (any(asked)) {
    abort_unsupported(c("{.arg {names(asked)[asked]}} {?needs/need} rows in memory.",
                        i = "Leave {cli::qty(sum(asked))}{?it/them} out, or draw a sample with {.fn fetch_units}."),
                      call = call)
  }
  study <- study_of(designs[[1L]])
  reference <- find_given(reference, study, call)
  made <- Filter(alters_sample, designs)
  samples <- c(design_moments(study)["before"], lapply(made, function(design) design_moments(design)$after))
  yardstick <- balance_yardstick(study, samples$before, reference, FALSE)
  sizes <- lapply(samples, attr, "sizes")
  rows <- Map(function(rows, sample) finish_rows(rows, yardstick, limits, sample), samples, names(samples))
  rows <- do.call(rbind, unname(lapply(rows, add_reduction, before = rows$before)))
  covariance <- core_covariance_of(remote_products(study, remote_matrix(study$columns)))
  totals <- do.call(rbind, lapply(names(samples), function(sample) {
    data.frame(sample = sample, group = NA_character_, ess_treated = sizes[[sample]][["treated"]],
               ess_control = sizes[[sample]][["control"]],
               mahalanobis = core_mahalanobis_length(mean_gaps(study, rows[rows$sample == sample, ]), covariance))
  }))
  balance <- new_balance(rows, list(
    limits = limits, reference = reference, labels = vapply(study$columns, `[[`, "", "label"), levels = study$levels,
    design = paste(unique(vapply(designs, design_label, "")), collapse = "; "), estimand = study$estimand,
    totals = totals, by = NULL, tests = FALSE, study = study, weights = NULL, several = length(designs) > 1L
  ))
  log_balance(balance, extra, by)
  balance
}
