# Imputation with interactive fixed effects (core-factors.R): effects are what treated rows lie above what units,
# periods and shared factors, fitted to untreated rows, foretell for them. Its errors are those of a bootstrap of
# clusters.

most_factors <- 3L

estimate_factors <- function(panel, y, asked, call) {
  wide <- wide_outcome(panel, y)$y
  s <- unit_weight(panel)
  untreated <- untreated_outcomes(panel, wide, asked$anticipation + held_out(asked))
  known <- rowSums(!is.na(untreated))
  told <- known > asked$factors & s > 0
  found <- core_fit_factors(untreated[told, , drop = FALSE], s[told], asked$factors)
  if (!found$settled) {
    abort_convergence(c("The factors did not settle in 5,000 rounds.",
                        i = "Ask for fewer {.arg factors}; or the time before treatment is too short to tell them."),
                      call = call)
  }
  gap <- wide
  gap[] <- NA_real_
  gap[told, ] <- wide[told, , drop = FALSE] - found$fitted
  cells <- imputed_cells(panel, asked)
  seen <- colSums(!is.na(untreated[told, , drop = FALSE])) > 0
  parts <- lapply(seq_len(nrow(cells)), function(k) {
    at <- which(panel$cohort == cells$cohort[k] & !is.na(gap[, cells$time[k]]) & seen[cells$time[k]])
    list(rows = at, own = gap[at, cells$time[k]], share = s[at] / sum(s[at]), size = sum(s[at]))
  })
  empty <- lengths(lapply(parts, `[[`, "rows")) == 0L
  mean_of <- vapply(parts, function(part) sum(part$share * part$own), 0)
  cells$estimate <- ifelse(empty, NA_real_, mean_of)
  cells$reason[empty] <- "no treated unit with more untreated periods than factors, in a period with untreated rows"
  counts <- cell_counts(panel, y)
  cells$n_treated <- counts[cbind(cells$cohort, cells$time)]
  cells$n_comparison <- as.double(sum(!is.na(untreated[told, ])))
  rows <- lapply(parts, function(part) if (length(part$rows) > 0L) which(told) else integer())
  values <- Map(function(part, rows) {
    out <- numeric(length(rows))
    out[match(part$rows, rows)] <- part$share * (part$own - sum(part$share * part$own))
    out
  }, parts, rows)
  gone <- sum(!told & is_treated_cohort(panel)[panel$cohort] & rowSums(!is.na(wide)) > 0)
  list(cells = cells, estimate = cells$estimate,
       source = core_row_source(s, panel$cohort, rows, values, cells[c("cohort", "event_time")]),
       size = vapply(parts, `[[`, 0, "size"), fixed = TRUE, cluster = panel$cluster, notes = c(
         asked$chosen, if (gone > 0L) sprintf("%s seen in no more untreated periods than there are factors left out",
                                              plural(gone, "treated unit"))
       ))
}

# Outcomes of rows without treatment (and anticipation), NA for the others.
untreated_outcomes <- function(panel, wide, anticipation) {
  since <- outer(panel$cohorts$position, panel$periods$position, function(onset, at) at - onset)
  treated <- (since >= -anticipation)[panel$cohort, , drop = FALSE]
  replace(wide, treated, NA)
}

# How many factors, chosen where the data are to choose: the number that best foretells a tenth of the untreated rows at
# a time.
settled_factors <- function(panel, y, asked, call) {
  if (is.null(asked$factors)) return(asked)
  if (asked$adjustment != "none") {
    abort_unsupported(c("Factors take no covariates: they stand for what moves units apart.",
                        i = "Use {.code adjustment = \"none\"}."), call = call)
  }
  if (!panel$repeats) {
    abort_unsupported(c("Factors are felt by units, and those of a repeated cross-section are seen once.",
                        i = "Take means of groups: {.code collapse = \"groups\"}."), call = call)
  }
  untreated <- untreated_outcomes(panel, wide_outcome(panel, y)$y, asked$anticipation + held_out(asked))
  short <- stats::median(rowSums(!is.na(untreated))[is_treated_cohort(panel)[panel$cohort]])
  most <- min(most_factors, short - 1, ncol(untreated) - 2, nrow(untreated) - 2)
  if (most < 1) {
    abort_input(c("Factors need treated units that are seen in several periods before treatment.",
                  x = "Half of them are seen in {short} or fewer.", i = "Leave out {.arg factors}."), call = call)
  }
  if (is.numeric(asked$factors)) {
    if (asked$factors <= most) return(asked)
    abort_input(c("There must be fewer factors than periods before treatment.",
                  x = "{asked$factors} are asked for; this panel can tell {most}."), call = call)
  }
  known <- sum(!is.na(untreated))
  folds <- with_own_seed(sub_seed(asked$seed, "factors", 1L), sample(rep_len(seq_len(10L), known)))
  missed <- core_choose_factors(untreated, unit_weight(panel), most, folds)
  asked$factors <- which.min(missed) - 1L
  asked$chosen <- sprintf("%s chosen, which foretells untreated rows best (root mean square %s; with %s)",
                          plural(asked$factors, "factor"), number_text(sqrt(min(missed))),
                          paste(sprintf("%d: %s", seq_along(missed) - 1L, number_text(sqrt(missed))), collapse = ", "))
  asked
}

did_factors <- function(given, call) {
  if (is.null(given$factors)) return(NULL)
  if (!is.null(given$trends) || !is.null(given$absorb)) {
    abort_input(c("{.arg factors} stand for what moves units apart, and go with neither {.arg trends} nor
                   {.arg absorb}.", i = "Leave out {.arg factors}, or the other."), call = call)
  }
  if (identical(given$factors, "choose")) return(given$factors)
  good <- is.numeric(given$factors) && length(given$factors) == 1L && given$factors %in% 0:most_factors
  if (good) return(as.integer(given$factors))
  abort_input(c("{.arg factors} must be 0 to {most_factors}, or \"choose\".",
                x = "It is {describe_value(given$factors)}."), call = call)
}
