# The computation of each entry of did-estimators.R. Each returns list(cells, estimate, source, size, fixed, cluster,
# notes): cells as plan_cells() gives them with estimate, n_treated and n_comparison (NULL where there is one number,
# the term "difference"); source: see core-source.R; size: what averages weigh by, of cohorts or with fixed of cells;
# cluster: code per unit of the source.

# Triple differences are the same with two sides.
estimate_group_time <- function(panel, y, asked) {
  asked$side <- asked$third$side
  found <- panel_group_time(panel, y, asked)
  list(cells = found$cells, estimate = found$cells$estimate, source = found$source, size = found$size, fixed = FALSE,
       cluster = panel$cluster, notes = c(varying_note(panel, asked), unseen_note(panel, y, asked)))
}

# Units that are away just before their onset, and what becomes of them.
unseen_note <- function(panel, y, asked) {
  if (!panel$repeats || is_complete(panel, y)) return(NULL)
  count <- unseen_before_onset(panel, y, asked$anticipation)
  if (count == 0L) return(NULL)
  told <- sprintf("%s %s not seen just before %s onset", plural(count, "treated unit"),
                  if (count == 1L) "is" else "are", if (count == 1L) "its" else "their")
  if (identical(asked$unseen, "earlier")) return(paste(told, "and measured from the last period before it"))
  if (asked$adjustment != "none") return(paste(told, "and left out"))
  paste0(told, " and left out; unseen = \"earlier\" measures ", if (count == 1L) "it" else "them",
         " from an earlier one")
}

varying_note <- function(panel, asked) {
  if (asked$adjustment == "none" || !panel$repeats) return(NULL)
  varies <- changing_columns(panel)
  if (length(varies) == 0L) return(NULL)
  one <- length(varies) == 1L
  sprintf("used as %s in the base period, since %s over time: %s", if (one) "it stands" else "they stand",
          if (one) "it varies" else "they vary", and_list(varies))
}

and_list_verb <- function(words, one, many) paste(and_list(words), if (length(words) == 1L) one else many)

estimate_two_way <- function(panel, y, asked, call) {
  if (asked$anticipation > 0) y[is_anticipating(panel, asked$anticipation)] <- NA
  if (length(asked$absorb) > 0L) return(absorbed_two_way(panel, y, asked, call))
  if (!is.null(asked$trends)) return(trended_two_way(panel, y, asked, call))
  view <- within_view(panel, y, asked)
  p <- ncol(view$rows$columns) - 1L
  treat <- lapply(panel$cohorts$position, function(onset) matrix(as.double(panel$periods$position >= onset)))
  grams <- core_within_grams(view$rows, view$cohort, length(treat))
  fit <- core_within_fit(grams, treat, p)
  if (fit$aliased[fit$own]) stop_absorbed(call)
  source <- core_within_source(view$rows, view$cohort, fit, view$s)
  list(cells = NULL, estimate = c(difference = fit$estimate), source = source, size = NULL, fixed = TRUE,
       cluster = view$cluster, view = view, fit = fit,
       notes = aliased_note(view, fit$aliased[view$rows$periods + seq_len(p)]))
}

# Rows of the periods of anticipation.
is_anticipating <- function(panel, anticipation) {
  since <- periods_since(panel)
  since < 0 & since >= -anticipation
}

stop_absorbed <- function(call) {
  abort_input(c("Treatment can't be told apart from the fixed effects: they explain it fully.",
                i = "Absorb fewer effects; within each there must be treated and untreated rows at one time."),
              call = call)
}

# aliased: of the view's covariates, which stand behind the outcome.
aliased_note <- function(view, aliased) {
  names <- colnames(view$rows$columns)[-1L][aliased]
  if (length(names) == 0L) return(NULL)
  sprintf("left out: %s, which the fixed effects explain", and_list(names))
}

# Three or more effects: residuals by conjugate gradients, then a regression of residuals.
absorbed_two_way <- function(panel, y, asked, call) {
  view <- within_view(panel, y, asked)
  rows <- view$rows
  if (is.null(view$order)) view$order <- seq_along(y)
  d <- as.double(panel$periods$position[rows$time] >= panel$cohorts$position[view$cohort[rows$unit]])
  codes <- c(list(rows$unit, rows$time), lapply(asked$absorb, function(code) code[view$order]))
  columns <- core_absorb(cbind(d, rows$columns), codes, rows$weight)
  if (is.null(columns)) {
    abort_convergence(c("The fixed effects could not be absorbed to full precision.",
                        i = "They may be nearly nested; absorb fewer."), call = call)
  }
  x <- columns[, -2L, drop = FALSE]
  out <- freed_regression(panel, view, x[, rev(seq_len(ncol(x))), drop = FALSE], columns[, 2L], d, call)
  c(out$found, list(notes = aliased_note(view, rev(out$aliased)[-1L])))
}

# The regression of what fixed effects leave. x: rows x k, treatment last; y, d: rows, d being the treatment before.
# Returns list(found: what every estimate returns, but notes, aliased: per column of x).
freed_regression <- function(panel, view, x, y, d, call) {
  rows <- view$rows
  last <- ncol(x)
  if (sum(rows$weight * x[, last]^2) <= 1e-10 * sum(rows$weight * d^2)) stop_absorbed(call)
  solved <- core_solve_scatter(crossprod(x, rows$weight * x))
  if (solved$aliased[last]) stop_absorbed(call)
  coefficients <- drop(solved$inverse %*% crossprod(x, rows$weight * y))
  residual <- y - drop(x %*% coefficients)
  piece <- if (is.null(rows$piece)) rows$unit else rows$piece
  own <- core_sums_by(rows$weight * residual * drop(x %*% solved$inverse[, last]), piece)
  source <- core_block_source(function() cbind(view$s, own), of_pieces(rows, view$cohort),
                              rep(list(matrix(0:1)), nrow(panel$cohorts)), present = present_units(rows))
  list(found = list(cells = NULL, estimate = c(difference = coefficients[last]), source = source, size = NULL,
                    fixed = TRUE, cluster = view$cluster), aliased = solved$aliased)
}

# A line in time for each unit or group: taken off every column, period indicators among them, which then are columns
# like others.
trended_two_way <- function(panel, y, asked, call) {
  view <- within_view(panel, y, asked)
  rows <- view$rows
  of <- if (asked$trends == "unit" || !panel$repeats) rows$unit else panel$group[rows$unit]
  position <- panel$periods$position[rows$time]
  d <- as.double(position >= panel$cohorts$position[view$cohort[rows$unit]])
  periods <- vapply(seq_len(rows$periods)[-1L], function(t) as.double(rows$time == t), numeric(length(d)))
  columns <- cbind(rows$columns, periods, d)
  # units have levels of their own beside their group's line
  if (asked$trends == "group" && panel$repeats) {
    columns <- core_residuals_by(cbind(columns, position), NULL, rows$unit, rows$weight)
    position <- columns[, ncol(columns)]
    columns <- columns[, -ncol(columns), drop = FALSE]
    columns <- core_residuals_by(columns, position, of, rows$weight, level = FALSE)
  } else {
    columns <- core_residuals_by(columns, position, of, rows$weight)
  }
  out <- freed_regression(panel, view, columns[, -1L, drop = FALSE], columns[, 1L], d, call)
  c(out$found, list(notes = aliased_note(view, out$aliased[seq_len(ncol(rows$columns) - 1L)])))
}

# One regression on indicators of the periods since treatment, all cohorts together; those beyond the window join its
# ends.
estimate_event_study <- function(panel, y, asked, call) {
  base <- -1 - asked$anticipation
  onset <- panel$cohorts$position
  since <- outer(onset, panel$periods$position, function(from, at) at - from)
  since[onset == Inf | !is_treated_cohort(panel), ] <- NA
  joined <- pmin(pmax(since, base - asked$leads), asked$lags)
  events <- setdiff(sort(unique(joined[!is.na(joined)])), base)
  view <- within_view(panel, y, asked)
  p <- ncol(view$rows$columns) - 1L
  is_at <- function(since, event) as.double(!is.na(since) & since == event)
  treat <- lapply(seq_along(onset), function(h) outer(joined[h, ], events, is_at))
  fit <- core_within_fit(core_within_grams(view$rows, view$cohort, length(treat)), treat, p)
  gone <- fit$aliased[fit$own]
  if (all(gone)) stop_absorbed(call)
  source <- core_within_source(view$rows, view$cohort, fit, view$s)
  counts <- cell_counts(panel, y)
  treated <- vapply(events, function(event) sum(counts[!is.na(joined) & joined == event]), 0)
  reach <- vapply(events, function(event) treated_share(panel, which(rowSums(!is.na(joined) & joined == event) > 0)), 0)
  path <- data.frame(
    term = sprintf("event %d", as.integer(events)), cohort = NA_character_, time = NA_character_, event_time = events,
    kind = ifelse(events < 0, "pre", "post"), estimate = ifelse(gone, NA_real_, fit$estimate), n_treated = treated,
    n_comparison = NA_real_, reason = ifelse(gone, "not told apart from the fixed effects", NA_character_),
    reach = reach
  )
  whole <- with_base_and_average(path, base)
  list(cells = NULL, path = whole$path, combine = whole$combine, estimate = path$estimate, source = source, size = NULL,
       fixed = TRUE, cluster = view$cluster, notes = c(
         if (sum(is_treated_cohort(panel)) > 1L) paste(
           "where effects differ between cohorts this path mixes effects of other times, before treatment too;",
           "the interaction estimator does not"
         ), aliased_note(view, fit$aliased[view$rows$periods + seq_len(p)])
       ))
}

# The path with its base period, and the plain mean of what is under treatment; combine: what each row is of the
# regression's coefficients.
with_base_and_average <- function(path, base) {
  row <- path[1L, ]
  row[c("term", "event_time", "kind", "estimate", "n_treated", "reason", "reach")] <-
    list(sprintf("event %d", as.integer(base)), base, "base", 0, NA_real_, NA_character_, 1)
  all <- rbind(path, row)
  order <- order(all$event_time)
  combine <- cbind(diag(nrow(path)), 0)[, order, drop = FALSE]
  post <- path$kind == "post" & !is.na(path$estimate)
  row[c("term", "event_time", "kind", "estimate", "n_treated")] <-
    list("average", NA_real_, "post", mean(path$estimate[post]), sum(path$n_treated[post]))
  out <- rbind(all[order, ], row)
  rownames(out) <- NULL
  list(path = out, combine = cbind(combine, post / sum(post)))
}

estimate_interaction <- function(panel, y, asked, call) {
  asked$base <- "fixed"
  cells <- plan_cells(panel, asked)
  weight <- rep(1, length(y))
  onset <- panel$cohorts$position
  if (!any(onset == Inf | !is_treated_cohort(panel))) {
    # nobody is never treated: the last cohort stands for them until it is
    last <- which.max(onset)
    cells$reason[cells$cohort == last] <- "the last cohort serves as comparison"
    late <- panel$periods$position >= onset[last] - asked$anticipation
    cells$reason[is.na(cells$reason) & late[cells$time]] <- "no units left to compare with"
    weight[late[panel$time]] <- 0
  }
  own <- which(is.na(cells$reason) & cells$kind != "base")
  view <- within_view(panel, y, asked, weight)
  p <- ncol(view$rows$columns) - 1L
  treat <- lapply(seq_along(onset), function(h) {
    out <- matrix(0, view$rows$periods, length(own))
    mine <- which(cells$cohort[own] == h)
    out[cbind(cells$time[own[mine]], mine)] <- 1
    out
  })
  fit <- core_within_fit(core_within_grams(view$rows, view$cohort, length(treat)), treat, p)
  source <- core_within_source(view$rows, view$cohort, fit, view$s)
  cells$estimate <- ifelse(cells$kind == "base" & is.na(cells$reason), 0, NA_real_)
  cells$estimate[own] <- ifelse(fit$aliased[fit$own], NA_real_, fit$estimate)
  cells$reason[own[fit$aliased[fit$own]]] <- "not told apart from the fixed effects"
  counts <- cell_counts(panel, y)
  cells$n_treated <- counts[cbind(cells$cohort, cells$time)]
  cells$n_comparison <- colSums(counts[onset == Inf, , drop = FALSE])[cells$time]
  list(cells = cells, estimate = cells$estimate, source = core_on_all_cells(source, own, nrow(cells)),
       size = core_sums_by(view$unit_s, view$cohort, length(onset)), fixed = FALSE, cluster = view$cluster,
       notes = aliased_note(view, fit$aliased[view$rows$periods + seq_len(p)]))
}

# Rows with an outcome, cohorts x periods.
cell_counts <- function(panel, y) {
  cohorts <- nrow(panel$cohorts)
  cell <- panel$cohort[panel$unit] + cohorts * (panel$time - 1L)
  if (anyNA(y)) cell[is.na(y)] <- NA
  matrix(as.double(unit_counts(panel, panel$unit, cell, cohorts * nrow(panel$periods))), cohorts)
}

estimate_imputation <- function(panel, y, asked, call) {
  cells <- imputed_cells(panel, asked)
  since <- periods_since(panel)
  view <- within_view(panel, y, asked)
  if (!is.null(view$order)) since <- since[view$order]
  found <- core_impute_cells(view$rows, view$cohort, nrow(panel$cohorts),
                             view$rows$weight * tells_untreated(since, asked),
                             view$rows$weight * is_foretold(since, asked), cells,
                             view$s)
  cells$estimate <- found$estimate
  cells$reason[is.na(found$estimate)] <- "no untreated rows that tell its period or unit effects"
  counts <- cell_counts(panel, y)
  cells$n_treated <- counts[cbind(cells$cohort, cells$time)]
  copies <- unit_copies(panel)[if (is.null(view$order)) panel$unit else panel$unit[view$order]]
  cells$n_comparison <- sum(copies[view$rows$weight > 0 & tells_untreated(since, asked)])
  p <- ncol(view$rows$columns) - 1L
  list(cells = cells, estimate = found$estimate, source = found$source, size = found$size, fixed = TRUE,
       cluster = view$cluster, notes = aliased_note(view, found$aliased[view$rows$periods + seq_len(p)]))
}

estimate_two_period <- function(panel, y, asked, call) {
  treated <- which(is_treated_cohort(panel))
  if (length(treated) > 1L) {
    abort_unsupported(c(
      "{.code estimator = \"two_period\"} is for a single date of treatment.",
      x = "There are {length(treated)}: {.val {panel$cohorts$label[treated]}}.",
      i = "Use {.code estimator = \"group_time\"}, or choose a cohort with {.arg subset} in {.fn frame_panel}."
    ), call = call)
  }
  since <- panel$periods$position[panel$time] - panel$cohorts$position[treated]
  side <- ifelse(since >= 0, 1L, ifelse(since < -asked$anticipation, 0L, NA))
  if (!0L %in% side) abort_input("No period before treatment is left.", call = call)
  z <- as.integer(panel$cohort == treated)
  x <- if (asked$adjustment != "none") covariate_matrix(panel$columns, panel$formula)
  s <- unit_weight(panel)
  both_sides <- if (panel$repeats) means_before_after else rows_before_after
  found <- both_sides(panel, y, side, z, s, x, asked)
  if (!is.null(found$reason)) {
    abort_input(c("The effect can't be estimated.", x = "Reason: {found$reason}."), call = call)
  }
  list(cells = NULL, estimate = c(difference = found$estimate),
       source = core_row_source(s, panel$cohort, list(found$rows), list(found$contributions)),
       size = NULL, fixed = TRUE, cluster = panel$cluster, counts = c(found$n_treated, found$n_comparison),
       notes = varying_note(panel, asked))
}

# Rows of a cross-section on both sides of the date.
rows_before_after <- function(panel, y, side, z, s, x, asked) {
  at <- which(!is.na(side) & !is.na(y))
  full <- all(tabulate(1 + z[at] + 2 * side[at], 4L) > 0L)
  own <- if (!is.null(x)) x[at, , drop = FALSE]
  levels <- if (full) core_cell_levels(y[at], side[at], z[at], s[at], own, asked$adjustment, asked$covariates_of)
  cell_result(panel, z[at], at, levels, "in one of the periods")
}

# Each unit's means on both sides of the date; covariates of its last period before.
means_before_after <- function(panel, y, side, z, s, x, asked) {
  units <- length(panel$cohort)
  mean_of <- function(value) {
    at <- which(side == value & !is.na(y))
    core_sums_by(y[at], panel$unit[at], units) / tabulate(panel$unit[at], units)
  }
  dy <- mean_of(1L) - mean_of(0L)
  at <- which(is.finite(dy))
  last <- last_row_of(panel, which(side == 0L))
  own <- if (!is.null(x)) x[last[at], , drop = FALSE]
  change <- if (all(0:1 %in% z[at])) core_cell_change(dy[at], z[at], s[at], own, asked$adjustment)
  cell_result(panel, z[at], at, change, "in both periods")
}
