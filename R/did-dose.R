# Effects by dose (core-dose.R): each treated row's change against the comparison of its cohort and period, regressed on
# a spline of the dose. Time before treatment is put to the same test.

refuse_no_dose <- function(panel, call) {
  if (!has_dose(panel)) {
    abort_input(c("The panel has no doses.", i = "Name the column that tells them with {.arg dose} in
                   {.fn frame_panel}."), call = call)
  }
  if (is_carried(panel)) {
    abort_unsupported(c("Effects by dose take no design: it balances treated and untreated, not one dose with another.",
                        i = "Frame the panel without {.arg design}, and with {.arg covariates}."), call = call)
  }
}

# The spline (knots at quantiles of the doses of treated units, or at every dose where there are few) and the doses that
# are told; both follow from the doses alone, so that every draw has them.
settled_dose <- function(panel, asked, call) {
  if (!identical(asked$estimator, "dose")) return(asked)
  if (!panel$repeats) {
    abort_unsupported(c("Effects by dose follow units, and those of a repeated cross-section are seen once.",
                        i = "Take means of groups: {.code collapse = \"groups\"}."), call = call)
  }
  dose <- panel$dose$amount[dose_units(panel)]
  distinct <- sort(unique(dose))
  few <- length(distinct) <= 6L && is.null(asked$knots)
  inner <- if (few) {
    distinct[-c(1L, length(distinct))]
  } else {
    count <- if (is.null(asked$knots)) as.integer(length(distinct) >= 20L) else asked$knots
    unique(unname(stats::quantile(dose, seq_len(count) / (count + 1))))
  }
  inner <- inner[inner > distinct[1L] & inner < distinct[length(distinct)]]
  degree <- if (few) 1L else min(3L, length(distinct) - length(inner) - 1L)
  if (degree < 1L) {
    abort_input(c("{.arg knots} must leave more doses than the spline has terms.",
                  x = "There are {length(distinct)} different doses."), call = call)
  }
  asked$spline <- list(ends = range(distinct), knots = inner, degree = degree, each = few)
  asked$doses <- if (is.null(asked$doses)) {
    tenths <- signif(unname(stats::quantile(dose, seq(0.1, 0.9, 0.1))), 3)
    if (few) distinct else unique(pmin(pmax(tenths, distinct[1L]), max(distinct)))
  } else {
    sort(unique(asked$doses))
  }
  outside <- asked$doses[asked$doses < distinct[1L] | asked$doses > distinct[length(distinct)]]
  if (length(outside) > 0L) {
    abort_input(c("{.arg doses} must lie among the doses of treated units.",
                  x = "{.val {outside}} {?does/do} not; they go from {distinct[1L]} to {distinct[length(distinct)]}."),
                call = call)
  }
  asked
}

estimate_dose <- function(panel, y, asked, call) {
  asked$base <- "fixed"
  cells <- plan_cells(panel, asked)
  compare <- compared_cohorts(panel, cells, asked)
  able <- is.na(cells$reason) & lengths(compare) > 0L
  since <- if (is.null(asked$since)) c(0, Inf) else asked$since
  after <- able & cells$kind == "post" & cells$event_time >= since[1L] & cells$event_time <= since[2L]
  before <- able & cells$kind == "pre" & cells$time == cells$base - 1L
  shape <- wide_outcome(panel, y)
  measured <- dose_part(panel, shape, cells[after, ], compare[after], asked)
  if (is.null(measured)) {
    abort_input(c("Effects by dose can't be told.",
                  x = "Too few treated units have an outcome in both periods, with units to compare them with.",
                  i = "Ask for fewer {.arg knots}, or another {.arg since}."), call = call)
  }
  earlier <- dose_part(panel, shape, cells[before, ], compare[before], asked)
  count <- length(asked$doses)
  both <- 2L * count + 1:2
  table <- dose_rows(asked$doses, measured$estimate, measured$counts)
  contributions <- measured$contributions
  if (!is.null(earlier)) {
    more <- dose_rows(numeric(), earlier$estimate[both], earlier$counts)
    more$term <- c("before", "slope before")
    more[c("kind", "event_time")] <- list("pre", -2 - asked$anticipation)
    table <- rbind(table, more)
    contributions <- cbind(contributions, earlier$contributions[, both])
  }
  rows <- which(rowSums(contributions != 0) > 0)
  source <- core_row_source(unit_weight(panel), panel$cohort, rep(list(rows), nrow(table)),
                            lapply(seq_len(nrow(table)), function(j) contributions[rows, j]))
  table$alone <- c(measured$alone, logical(nrow(table) - length(measured$alone)))
  list(cells = NULL, path = table, over = "dose", estimate = table$estimate, source = source, size = NULL, fixed = TRUE,
       cluster = panel$cluster, notes = varying_note(panel, asked))
}

dose_rows <- function(doses, estimate, counts) {
  count <- length(doses)
  shown <- vapply(doses, format, "", digits = 10L)
  data.frame(
    term = c(if (count > 0L) c(paste("dose", shown), paste("slope at", shown)), "average", "average slope"),
    cohort = NA_character_, time = NA_character_, event_time = NA_real_, kind = "post", estimate = estimate,
    n_treated = c(rep(NA_real_, 2L * count), counts[c(1L, 1L)]),
    n_comparison = c(rep(NA_real_, 2L * count), counts[c(2L, 2L)]), reason = NA_character_, reach = 1,
    dose = c(doses, doses, NA, NA), what = c(rep(c("effect", "slope"), each = count), "effect", "slope")
  )
}

# list(estimate, contributions: units x columns, counts: treated and comparison units); NULL where nothing can be told.
dose_part <- function(panel, shape, cells, compare, asked) {
  s <- unit_weight(panel)
  x <- if (asked$adjustment != "none") covariate_matrix(panel$columns, panel$formula)
  parts <- Filter(Negate(is.null), lapply(seq_len(nrow(cells)), function(k) {
    dose_gaps(panel, shape, s, x, cells[k, ], compare[[k]])
  }))
  if (length(parts) == 0L) return(NULL)
  of <- function(name) unlist(lapply(parts, `[[`, name))
  unit <- of("unit")
  curve <- core_dose_curve(of("gap"), panel$dose$amount[unit], of("s"), unit, asked$spline, asked$doses)
  if (is.null(curve)) return(NULL)
  units <- length(panel$cohort)
  out <- matrix(0, units, ncol(curve$shares))
  own <- rowsum(curve$own, unit)
  treated <- as.integer(rownames(own))
  out[treated, ] <- own
  last <- cumsum(lengths(lapply(parts, `[[`, "unit")))
  for (k in seq_along(parts)) {
    part <- parts[[k]]
    rows <- seq.int(to = last[k], length.out = length(part$unit))
    out[part$others, ] <- out[part$others, ] - part$carry(curve$shares[rows, , drop = FALSE])
  }
  copies <- unit_copies(panel)
  list(estimate = curve$estimate, contributions = out, alone = curve$alone,
       counts = c(sum(copies[treated]), sum(copies[unique(of("others"))])))
}

# One cell: gap, the change of each treated unit less what the comparison foretells for it; carry: what the comparison's
# units contribute to weighted sums of what is foretold (weights: treated x columns). NULL where a side is empty.
dose_gaps <- function(panel, shape, s, x, cell, compare) {
  at <- which(panel$cohort %in% c(cell$cohort, compare))
  dy <- shape$y[at, cell$time] - shape$y[at, cell$base]
  at <- at[!is.na(dy)]
  dy <- dy[!is.na(dy)]
  own <- panel$cohort[at] == cell$cohort
  if (!any(own) || all(own)) return(NULL)
  start <- shape$row[at, cell$base]
  w <- if (is.null(panel$s)) s[at] else panel$s[start]
  others <- which(!own)
  if (is.null(x)) {
    mean <- sum(w[others] * dy[others]) / sum(w[others])
    influence <- w[others] * (dy[others] - mean) / sum(w[others])
    return(list(unit = at[own], gap = dy[own] - mean, s = w[own], others = at[others],
                carry = function(weights) outer(influence, colSums(weights))))
  }
  model <- core_fit_outcome(x[start, , drop = FALSE], dy, w * !own, "gaussian")
  if (model$status != "converged") return(NULL)
  carry <- function(weights) {
    vapply(seq_len(ncol(weights)), function(j) {
      (model$carry(replace(numeric(length(at)), own, weights[, j])) / length(at))[others]
    }, numeric(length(others)))
  }
  list(unit = at[own], gap = dy[own] - model$fitted[own], s = w[own], others = at[others], carry = carry)
}

# The band over the effects at all doses; slopes have intervals alone.
with_dose_band <- function(effect) {
  moving <- is_dose_effect(effect$table) & !is.na(diag(effect$vcov)) & diag(effect$vcov) > 0
  if (sum(moving) < 2L) return(effect)
  correlation <- stats::cov2cor(effect$vcov[moving, moving, drop = FALSE])
  df <- min(rep_len(effect$df, length(moving))[moving])
  amend_effect(effect, bands = with_own_seed(effect$asked$seed, core_band_quantile(correlation, effect$level, df)))
}

is_dose_effect <- function(table) table$what == "effect" & !is.na(table$dose)

# The two-way coefficient of amounts taken apart: by dose, what the effects of those rows count in it.
decompose_dose <- function(panel, y, outcome, complete, call) {
  shape <- balanced_outcome(panel, y, complete, call)
  inside <- which(shape$whole)
  dose <- panel$dose$amount[inside]
  since <- outer(panel$cohorts$position, panel$periods$position, function(onset, at) at - onset)
  treated <- since[shape$cohort, , drop = FALSE] >= 0 & !is.na(dose)
  amount <- ifelse(treated, dose, 0)
  weight <- core_amount_weights(amount, shape$s)
  effect <- not_yet_gaps(panel, shape)
  level <- dose_levels(dose)
  rows <- do.call(rbind, lapply(split(seq_along(dose), level), function(units) {
    on <- treated[units, , drop = FALSE]
    own <- weight[units, , drop = FALSE][on]
    gap <- effect[units, , drop = FALSE][on]
    share <- (shape$s[units] * on)[on]
    known <- !is.na(gap)
    data.frame(from = min(dose[units]), to = max(dose[units]), dose = stats::weighted.mean(dose[units], shape$s[units]),
               units = as.double(length(units)), effect = sum((share * gap)[known]) / sum(share[known]),
               weight = sum(own), share = NA_real_, adds = sum((own * gap)[known]))
  }))
  rownames(rows) <- NULL
  own <- weight[treated]
  rows$share <- rows$weight / sum(abs(own))
  structure(list(panel = panel, outcome = outcome, note = shape$note, covariates = length(panel$columns) > 0L,
                 rows = rows, estimate = sum(weight * shape$y), negative = sum(own[own < 0]) / sum(abs(own)),
                 slope = mean_dose_slope(panel, y)),
            class = c("twin_dose_decomposition", "twin_decomposition"))
}

# Each level, or tenths where there are many; NA for the untreated.
dose_levels <- function(dose) {
  distinct <- sort(unique(dose))
  if (length(distinct) <= 10L) return(match(dose, distinct))
  findInterval(dose, unique(stats::quantile(dose, seq(0, 0.9, 0.1), na.rm = TRUE)))
}

# Of balanced outcomes: changes since the last period before treatment, less those of cohorts not treated by then; NA
# where there are none.
not_yet_gaps <- function(panel, shape) {
  start <- panel$cohorts$position[shape$cohort]
  position <- panel$periods$position
  out <- shape$y
  out[] <- NA_real_
  for (h in unique(start[start <= max(position)])) {
    own <- start == h
    base <- max(which(position < h))
    for (t in which(position >= h)) {
      others <- start > position[t]
      if (!any(others)) next
      change <- shape$y[, t] - shape$y[, base]
      out[own, t] <- change[own] - sum((shape$s * change)[others]) / sum(shape$s[others])
    }
  }
  out
}

# c(estimate, std.error) of the mean slope over the treated, by default settings; NA where it can't be told.
mean_dose_slope <- function(panel, y) {
  asked <- list(estimator = "dose", anticipation = 0, base = "fixed", adjustment = "none",
                comparison = panel_comparison(panel, "not_yet", NULL))
  tryCatch({
    asked <- settled_dose(panel, asked, NULL)
    found <- estimate_dose(panel, y, asked, NULL)
    row <- matrix(as.double(found$path$term == "average slope"))
    cluster <- cluster_codes(panel)
    c(sum(row * found$estimate), sqrt(core_source_vcov(found$source, row, NULL, cluster)))
  }, twin_error = function(e) c(NA_real_, NA_real_))
}

#' @export
tidy.twin_dose_decomposition <- function(x, ...) { # nolint: object_name_linter. An S3 method.
  rlang::check_dots_empty()
  x$rows
}

#' @export
glance.twin_dose_decomposition <- function(x, ...) {
  rlang::check_dots_empty()
  away <- abs(x$estimate - x$slope[1L])
  data.frame(estimate = x$estimate, negative_share = -x$negative, average_slope = x$slope[1L],
             average_slope.error = x$slope[2L], remainder = x$estimate - sum(x$rows$adds),
             trusted = away <= max(0.5 * x$slope[2L], 0.1 * abs(x$slope[1L])))
}
