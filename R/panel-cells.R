# Group-time effects of a panel: which cells there are, what each is compared with, and their estimates (Methods,
# "Difference-in-differences"; Callaway & Sant'Anna 2021).

# One row per cell: cohort, time, base (codes), event_time (periods since treatment), kind ("post", "pre", or "base",
# the period others are measured from) and reason (why it can't be estimated, NA where it can). settings: comparison,
# anticipation, base. With base "previous" a period before treatment is measured from the one before it.
plan_cells <- function(panel, settings) {
  position <- panel$periods$position
  cells <- lapply(which(is_treated_cohort(panel)), function(h) {
    onset <- panel$cohorts$position[h]
    before <- which(position <= onset - 1 - settings$anticipation)
    fixed <- if (length(before) > 0L) max(before) else NA_integer_
    time <- seq_along(position)
    previous <- settings$base == "previous" & position < onset - settings$anticipation
    base <- ifelse(previous, time - 1L, fixed)
    cells <- data.frame(cohort = h, time = time, base = base, event_time = position - onset,
                        kind = ifelse(position >= onset, "post", "pre"), reason = NA_character_)
    cells$kind[!is.na(base) & base == time] <- "base"
    cells$reason[is.na(base)] <- "no period before treatment to start from"
    cells[is.na(base) | base > 0L, ]
  })
  cells <- do.call(rbind, cells)
  rownames(cells) <- NULL
  cells
}

# Per cell the cohorts it is compared with; settings$without: codes of cohorts that serve nobody.
compared_cohorts <- function(panel, cells, settings) {
  onset <- replace(panel$cohorts$position, settings$without, -Inf)
  position <- panel$periods$position
  lapply(seq_len(nrow(cells)), function(k) {
    latest <- max(position[c(cells$time[k], cells$base[k])], na.rm = TRUE)
    alike <- began_alike(panel, cells$cohort[k]) & held_alike(panel, cells$cohort[k], latest)
    if (settings$comparison == "never") return(which(onset == Inf & alike))
    which(onset > latest + settings$anticipation & seq_along(onset) != cells$cohort[k] & alike)
  })
}

# y: outcome per row, NA where missing; settings also adjustment and side (of triple differences: per unit 1 where
# affected, -1 elsewhere). Returns
# list(cells, source, size = sums of s by cohort). Cells of kind "base" are 0.
panel_group_time <- function(panel, y, settings, cells = plan_cells(panel, settings)) {
  compare <- compared_cohorts(panel, cells, settings)
  cells$reason[is.na(cells$reason) & lengths(compare) == 0L] <- "no units left to compare with"
  s <- unit_weight(panel)
  balanced <- settings$adjustment == "none" && is_complete(panel, y) && has_constant_weight(panel) &&
    !isTRUE(panel$carried$by_cohort)
  asked <- which(is.na(cells$reason) & cells$kind != "base")
  fixed <- !balanced && is.null(settings$side) && settings$adjustment != "none" && is_complete(panel, y) &&
    has_constant_weight(panel) && !is_carried(panel) && length(changing_columns(panel)) == 0L
  measured <- function(cells, compare) {
    if (fixed) return(fixed_cells(panel, y, s, cells, compare, settings$adjustment))
    if (balanced) balanced_cells(y, s, panel, cells, compare, settings$side) else
      looped_cells(panel, y, s, cells, compare, settings)
  }
  found <- if (is.null(settings$side)) measured(cells[asked, ], compare[asked]) else
    triple_cells(panel, s, cells[asked, ], compare[asked], measured)
  if (is_switching(panel)) {
    sign <- switch_signs(panel)[cells$cohort[asked]]
    found$estimate <- found$estimate * sign
    found$source <- core_scaled_source(found$source, sign)
  }
  cells$estimate <- ifelse(cells$kind == "base" & is.na(cells$reason), 0, NA_real_)
  cells$estimate[asked] <- found$estimate
  cells$reason[asked] <- found$reason
  cells[c("n_treated", "n_comparison")] <- NA_real_
  cells$n_treated[asked] <- found$n_treated
  cells$n_comparison[asked] <- found$n_comparison
  affected <- if (is.null(settings$side)) TRUE else settings$side == 1L
  source <- core_on_all_cells(found$source, asked, nrow(cells))
  list(cells = cells, source = carried_source(panel, source, cells$cohort),
       size = core_sums_by(s * affected, panel$cohort, nrow(panel$cohorts)), side = settings$side)
}

# Is every unit seen with an outcome in every period?
is_complete <- function(panel, y) {
  panel$repeats && length(y) == length(panel$cohort) * nrow(panel$periods) && !anyNA(y)
}

# A unit's weight; its mean over rows where it changes over time.
unit_weight <- function(panel) {
  if (is.null(panel$s)) return(rep(1, length(panel$cohort)))
  if (has_constant_weight(panel)) return(panel$s[panel$first_row])
  core_sums_by(panel$s, panel$unit) / tabulate(panel$unit)
}

has_constant_weight <- function(panel) {
  is.null(panel$s) || all(panel$s == panel$s[panel$first_row][panel$unit])
}

# Outcome and row numbers as units x periods; NA where a unit is not seen.
wide_outcome <- function(panel, y) {
  units <- length(panel$cohort)
  periods <- nrow(panel$periods)
  if (length(y) == units * periods) {  # rows are sorted: all are seen in all
    return(list(y = t(matrix(y, periods)), row = t(matrix(seq_along(y), periods))))
  }
  at <- cbind(panel$unit, panel$time)
  out <- list(y = matrix(NA_real_, units, periods), row = matrix(NA_integer_, units, periods))
  out$y[at] <- y
  out$row[at] <- seq_along(y)
  out
}

# Triple differences against one comparison cohort at a time, averaged by the size of these: taken together, cohorts
# that differ in how many of them are affected would carry what differs between cohorts into the third difference
# (Ortiz-Villavicencio & Sant'Anna 2025). Where trends are parallel the shares move nothing, and are taken as given.
triple_cells <- function(panel, s, cells, compare, measured) {
  of <- rep(seq_len(nrow(cells)), lengths(compare))
  each <- measured(cells[of, ], as.list(unlist(compare)))
  known <- !is.na(each$estimate)
  size <- core_sums_by(s, panel$cohort, nrow(panel$cohorts))[unlist(compare)] * known
  total <- core_sums_by(size, of, nrow(cells))
  combine <- matrix(0, length(of), nrow(cells))
  combine[cbind(seq_along(of), of)] <- ifelse(known, size / total[of], 0)
  first <- match(seq_len(nrow(cells)), of)
  estimate <- drop(crossprod(combine, ifelse(known, each$estimate, 0)))
  list(estimate = ifelse(total > 0, estimate, NA_real_), reason = ifelse(total > 0, NA_character_, each$reason[first]),
       n_treated = each$n_treated[first],
       n_comparison = core_sums_by(each$n_comparison * known, of, nrow(cells)) + each$n_own[first],
       source = core_joined_source(each$source, combine, cells[c("cohort", "event_time")]))
}

balanced_cells <- function(y, s, panel, cells, compare, side) {
  sided <- !is.null(side)
  if (!sided) side <- rep(1L, length(s))
  counts <- cohort_sizes(panel)
  affected <- unit_counts(panel, which(side == 1L), panel$cohort[side == 1L], nrow(panel$cohorts))
  found <- core_balanced_cells(y, s, panel$cohort, cells, compare, side)
  found$reason <- rep(NA_character_, nrow(cells))
  lacking <- which(!is.finite(found$estimate))  # of triple differences: a side without units
  found$reason[lacking] <- "no units on one side"
  found$estimate[lacking] <- NA_real_
  found$source <- core_without_cells(found$source, lacking)
  found$n_treated <- affected[cells$cohort]
  if (sided) found$n_own <- (counts - affected)[cells$cohort]
  found$n_comparison <- vapply(compare, function(codes) sum(counts[codes]), 0)
  found
}

# Units all seen in all periods, with covariates and weights that stay the same: cells of one cohort with the same
# comparison share their units, and what is known of them but the outcome.
fixed_cells <- function(panel, y, s, cells, compare, adjustment) {
  periods <- nrow(panel$periods)
  x <- first_covariates(panel)
  copies <- unit_copies(panel)
  key <- paste(cells$cohort, vapply(compare, paste, "", collapse = " "))
  rows <- vector("list", nrow(cells))
  out <- list(estimate = rep(NA_real_, nrow(cells)), reason = rep(NA_character_, nrow(cells)),
              n_treated = numeric(nrow(cells)), n_comparison = numeric(nrow(cells)))
  values <- rows
  for (together in split(seq_len(nrow(cells)), match(key, unique(key)))) {
    at <- which(panel$cohort %in% c(cells$cohort[together[1L]], compare[[together[1L]]]))
    z <- as.integer(panel$cohort[at] == cells$cohort[together[1L]])
    seen <- unique(c(cells$time[together], cells$base[together]))
    own <- vapply(seen, function(t) y[(at - 1L) * periods + t], numeric(length(at)))  # there are no gaps
    of_period <- function(times) own[, match(times, seen), drop = FALSE]
    dy <- of_period(cells$time[together]) - of_period(cells$base[together])
    found <- core_cell_changes(dy, z, s[at], x[at, , drop = FALSE], adjustment)
    out$n_treated[together] <- sum(copies[at][z == 1L])
    out$n_comparison[together] <- sum(copies[at][z == 0L])
    if (found$status != "converged") {
      out$reason[together] <- status_reasons[[found$status]]
      next
    }
    out$estimate[together] <- found$estimate
    rows[together] <- list(at)
    values[together] <- lapply(seq_along(together), function(j) found$contributions[, j])
  }
  c(out, list(source = core_row_source(s, panel$cohort, rows, values, cells[c("cohort", "event_time")])))
}

# Covariates of the units' first rows. Terms that are made of all rows (such as splines) are made of them.
first_covariates <- function(panel) {
  plain <- is.null(panel$formula) || all(vapply(as.list(attr(stats::terms(panel$formula), "variables"))[-1L], is.symbol,
                                                NA))
  if (!plain) return(covariate_matrix(panel$columns, panel$formula)[panel$first_row, , drop = FALSE])
  columns <- lapply(panel$columns, column_rows, at = panel$first_row)
  covariate_matrix(columns, panel$formula)
}

status_reasons <- c(separated = "covariates tell cohort and comparison apart without error",
                    not_converged = "the score or outcome model did not converge")

# Cell by cell: other units in each, covariates, or a repeated cross-section.
looped_cells <- function(panel, y, s, cells, compare, settings) {
  shape <- if (panel$repeats) wide_outcome(panel, y)
  units <- split(seq_along(panel$cohort), factor(panel$cohort, seq_len(nrow(panel$cohorts))))
  x <- if (settings$adjustment != "none") covariate_matrix(panel$columns, panel$formula)
  sides <- if (is.null(settings$side)) rep(1L, length(panel$cohort)) else settings$side
  one <- function(k) {
    mates <- sort(unlist(units[c(cells$cohort[k], compare[[k]])], use.names = FALSE))
    s <- cell_weights(panel, s, cells$cohort[k])
    if (is_carried(panel)) mates <- mates[s[mates] > 0]
    own <- panel$cohort[mates] == cells$cohort[k]
    compared <- function(at, treated) {
      if (panel$repeats) change_cell(panel, shape, s, x, at, treated, cells[k, ], settings) else
        level_cell(panel, y, s, x, at, treated, cells[k, ], settings)
    }
    if (is.null(settings$side)) compared(mates, own) else
      triple_cell(mates, own, sides[mates] == 1L, compared)
  }
  steps <- seq_len(nrow(cells))
  work <- function(tick) {
    lapply(steps, function(k) {
      tick(sprintf("%d of %d", k, length(steps)))
      one(k)
    })
  }
  quick <- length(y) * length(steps) < 2e7
  found <- if (quick) work(function(what) NULL) else show_progress("Cells", work, length(steps))
  of <- function(name, empty) vapply(found, function(cell) if (is.null(cell[[name]])) empty else cell[[name]], empty)
  list(n_own = of("n_own", 0),
       estimate = of("estimate", NA_real_), reason = of("reason", NA_character_), n_treated = of("n_treated", 0),
       n_comparison = of("n_comparison", 0),
       source = core_row_source(s * (sides == 1L), panel$cohort, lapply(found, `[[`, "rows"),
                                lapply(found, `[[`, "contributions"), cells[c("cohort", "event_time")]))
}

# Those treated and affected less each of the three other groups of one cell: the others of their cohort, the affected
# of the comparison, and with its sign turned the others of the comparison. All are over the covariates of those treated
# and affected, so that the third difference speaks of nobody else (Ortiz-Villavicencio & Sant'Anna 2025, theorem 4.1).
# at: units; own, affected: of these, are they of the cohort, of the side affected?
triple_cell <- function(at, own, affected, compared) {
  target <- own & affected
  others <- list(own & !affected, !own & affected, !own & !affected)
  parts <- lapply(others, function(other) {
    if (!any(target) || !any(other)) return(list(reason = "no units on one side", n_treated = sum(target)))
    inside <- target | other
    compared(at[inside], target[inside])
  })
  counts <- list(n_treated = parts[[1L]]$n_treated)
  bad <- Find(function(part) !is.null(part$reason), parts)
  if (!is.null(bad)) return(c(list(reason = bad$reason, n_comparison = 0, n_own = 0), counts))
  sign <- c(1, 1, -1)
  rows <- sort(unique(unlist(lapply(parts, `[[`, "rows"))))
  all <- unlist(Map(function(part, sign) sign * part$contributions, parts, sign))
  c(list(estimate = sum(sign * vapply(parts, `[[`, 0, "estimate")), rows = rows,
         contributions = core_sums_by(all, match(unlist(lapply(parts, `[[`, "rows")), rows)),
         n_own = parts[[1L]]$n_comparison, n_comparison = parts[[2L]]$n_comparison + parts[[3L]]$n_comparison), counts)
}

# Units seen in both periods; on request also treated ones whose base lies earlier.
change_cell <- function(panel, shape, s, x, at, treated, cell, settings) {
  mates <- at
  earlier <- if (identical(settings$unseen, "earlier") && cell$time > cell$base) earlier_base(panel, shape, s, at, cell)
  dy <- shape$y[at, cell$time] - (if (is.null(earlier)) shape$y[at, cell$base] else earlier$y)
  at <- at[!is.na(dy)]
  z <- as.integer(treated[!is.na(dy)])
  dy <- dy[!is.na(dy)]
  start <- shape$row[at, cell$base]
  weight <- if (is.null(panel$s) || is_carried(panel)) s[at] else ifelse(is.na(start), s[at], panel$s[start])
  own <- if (!is.null(x)) x[start, , drop = FALSE]
  found <- if (all(0:1 %in% z)) core_cell_change(dy, z, weight, own, settings$adjustment)
  if (!is.null(earlier) && identical(found$status, "converged")) {
    whole <- numeric(length(mates))
    whole[match(at, mates)] <- found$contributions
    found$contributions <- whole - earlier$carry(at[z == 1L], weight[z == 1L])
    z <- as.integer(treated)
    at <- mates
  }
  cell_result(panel, z, at, found, "in both periods")
}

# Treated units not seen in the base period stand there at their last outcome before it, moved on by the change of
# comparison units between both periods. Returns list(y: outcomes in the base period of `at`, carry: function of the
# treated in use and their weights, what the estimated changes take from the cell's contributions); NULL where nobody
# needs it.
earlier_base <- function(panel, shape, s, at, cell) {
  treated <- panel$cohort[at] == cell$cohort
  y <- shape$y[at, cell$base]
  asks <- which(treated & is.na(y) & !is.na(shape$y[at, cell$time]))
  last <- vapply(at[asks], function(unit) {
    seen <- which(!is.na(shape$y[unit, seq_len(cell$base - 1L)]))
    if (length(seen) > 0L) max(seen) else NA_integer_
  }, 0L)
  parts <- lapply(unique(stats::na.omit(last)), function(from) {
    change <- ifelse(treated, NA, y - shape$y[at, from])
    known <- !is.na(change)
    if (!any(known)) return(NULL)
    mean <- sum(s[at][known] * change[known]) / sum(s[at][known])
    list(units = asks[which(last == from)], from = from, mean = mean,
         contributions = ifelse(known, s[at] * (change - mean) / sum(s[at][known]), 0))
  })
  parts <- Filter(Negate(is.null), parts)
  if (length(parts) == 0L) return(NULL)
  for (part in parts) y[part$units] <- shape$y[at[part$units], part$from] + part$mean
  list(y = y, carry = function(units, weight) {
    Reduce(`+`, lapply(parts, function(part) {
      sum(weight[units %in% at[part$units]]) / sum(weight) * part$contributions
    }))
  })
}

# Treated units with an outcome before their base period and none in it.
unseen_before_onset <- function(panel, y, anticipation) {
  since <- periods_since(panel)
  seen <- function(rows) tabulate(panel$unit[rows & !is.na(y)], length(panel$cohort)) > 0L
  base <- -1 - anticipation
  away <- is_treated_cohort(panel)[panel$cohort] & seen(since < base) & seen(since >= 0) & !seen(since == base)
  sum(unit_copies(panel)[away])
}

# Rows of either period.
level_cell <- function(panel, y, s, x, at, treated, cell, settings) {
  inside <- panel$time[at] %in% c(cell$time, cell$base) & !is.na(y[at])
  z <- as.integer(treated[inside])
  at <- at[inside]
  after <- as.double(panel$time[at] == cell$time)
  full <- all(tabulate(1 + z + 2 * after, 4L) > 0L)
  own <- if (!is.null(x)) x[at, , drop = FALSE]
  over <- if (is.null(settings$covariates_of)) "period" else settings$covariates_of
  found <- if (full) core_cell_levels(y[at], after, z, s[at], own, settings$adjustment, over)
  cell_result(panel, z, at, found, "in one of the periods")
}

# at: units, which in a cross-section are rows; z: are they the treated of the cell?
cell_result <- function(panel, z, at, found, where) {
  copies <- unit_copies(panel)[at]
  counts <- list(n_treated = as.double(sum(copies[z == 1L])), n_comparison = as.double(sum(copies[z == 0L])))
  if (is.null(found)) {
    return(c(list(reason = sprintf("nobody of the %s seen %s", if (any(z == 1L)) "comparison" else "cohort", where)),
             counts))
  }
  if (found$status != "converged") return(c(list(reason = status_reasons[[found$status]]), counts))
  c(list(estimate = found$estimate, rows = at, contributions = found$contributions), counts)
}

# Which cells averages over `over` take. window: event times to keep; balanced: only cohorts seen from treatment up to
# this event time. Returns list(values = what tells the averages apart, sets = cell numbers of each, post = per cell, is
# it under treatment and used?).
average_plan <- function(panel, cells, over, window = NULL, balanced = NULL) {
  usable <- is.na(cells$reason) & !is.na(cells$estimate)
  if (!is.null(window)) usable <- usable & cells$event_time >= window[1L] & cells$event_time <= window[2L]
  if (!is.null(balanced)) {
    reached <- unique(cells$cohort[usable & cells$event_time == balanced])
    usable <- usable & cells$cohort %in% reached & cells$event_time <= balanced
  }
  post <- usable & cells$kind == "post"
  key <- switch(over, all = rep(1, nrow(cells)), event = cells$event_time, cohort = cells$cohort, calendar = cells$time)
  inside <- if (over == "event") usable else post
  values <- sort(unique(key[inside]))
  sets <- lapply(values, function(value) which(inside & key == value))
  list(values = values, sets = sets, post = post)
}

# What the average over all rows of an event, cohort or calendar summary weighs them by.
average_weights <- function(over, values, size) {
  switch(over, event = as.double(values >= 0) / sum(values >= 0), cohort = size[values] / sum(size[values]),
         calendar = rep(1 / length(values), length(values)))
}

# list(panel, y: outcome per row of it). A panel in a database comes back as sums of the
# units that are seen alike; alone: with what errors of single units need? centred: there,
# less the mean of all, which keeps digits of effects?
open_panel <- function(panel, outcome, by, alone = TRUE, centred = TRUE) {
  if (is_remote(panel)) return(open_remote_panel(panel, outcome, by, alone, centred))
  list(panel = panel, y = panel_values(panel, outcome, by))
}

# The outcome per row of the panel: the seal is broken here. A column of plain numbers in the panel's order is not
# copied.
panel_values <- function(panel, outcome, by) {
  column <- panel$data[[outcome]]
  as_it_is <- panel$in_order && is.double(column) && is.null(attributes(column)) && is.na(panel$events[[outcome]])
  if (as_it_is) log_opening(panel, outcome, by)
  values <- if (as_it_is) column else as.vector(open_outcome(panel, outcome, by))
  check_finite_outcome(values, outcome, panel$rows)
  if (is_carried(panel)) values[panel$copies[panel$unit] == 0L] <- NA  # units that the design leaves out
  values
}

# With the outcome of units that a carried design leaves out: made anew, it may keep them.
with_left_out <- function(panel, outcome, values) {
  if (!is_carried(panel)) return(values)
  as.double(coded_outcome(panel$data[[outcome]][panel$rows], panel$events[[outcome]]))
}

check_finite_outcome <- function(values, outcome, rows, call = rlang::caller_env(2)) {
  if (!any(is.infinite(range(c(0, values), na.rm = TRUE)))) return(invisible(values))
  bad <- rows[is.infinite(values)]
  abort_input(c("The outcome {.val {outcome}} must be finite.",
                x = "{length(bad)} value{?s} {?is/are} infinite; first rows: {first_rows(bad)}.",
                i = "Recode {cli::qty(length(bad))}{?it/them} or set {?it/them} to NA."),
              column = outcome, rows = bad, call = call)
}

# The adjustment asked for, or the fullest one that the panel allows; choices: what there is, the fullest last.
panel_adjustment <- function(panel, adjustment, choices, call) {
  has_covariates <- length(panel$columns) > 0L
  if (is.null(adjustment)) return(if (has_covariates) choices[length(choices)] else "none")
  adjustment <- check_choice(adjustment, choices, "adjustment", call)
  if (adjustment != "none" && !has_covariates) {
    abort_input(c("{.code adjustment = \"{adjustment}\"} needs covariates.",
                  i = "Name them in {.fn frame_panel}."), call = call)
  }
  adjustment
}

panel_comparison <- function(panel, comparison, call) {
  has_never <- any(panel$cohorts$position == Inf)
  later <- is_carried(panel) && compares_later(panel)
  fewer <- later || is_switching(panel) || is_held(panel)  # are those never treated too few to do without the others?
  if (is.null(comparison)) return(if (has_never && !fewer) "never" else "not_yet")
  comparison <- check_choice(comparison, c("never", "not_yet"), "comparison", call)
  if (comparison == "never" && later) {
    abort_input(c("The designs compare with units treated later, too: without these their weights balance nothing.",
                  i = "Use {.code comparison = \"not_yet\"}, or designs against units never treated."), call = call)
  }
  if (comparison == "never" && !has_never) {
    abort_input(c("{.code comparison = \"never\"} needs units that are never treated; there are none.",
                  i = "Use {.code comparison = \"not_yet\"}."), call = call)
  }
  comparison
}

panel_outcome <- function(panel, outcome, call = rlang::caller_env()) {
  known <- panel$roles$outcome
  if (is.null(outcome)) return(known[1L])
  check_string(outcome, call = call)
  if (outcome %in% known) return(outcome)
  near <- nearest_name(outcome, known)
  abort_input(c("{.arg outcome} must be an outcome of the panel.", x = "It has {.val {known}}.",
                i = if (!is.null(near)) "Did you mean {.val {near}}?"), call = call)
}
