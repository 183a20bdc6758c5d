# Facts about a panel that prints and plots show.

# How many units each of a panel's stands for: itself, but for sums of a table in a database (panel-remote.R).
unit_copies <- function(panel) if (is.null(panel$copies)) rep(1L, length(panel$cohort)) else panel$copies

# Units of each cohort.
cohort_sizes <- function(panel) unit_counts(panel, seq_along(panel$cohort), panel$cohort, nrow(panel$cohorts))

# How many units stand at each code.
unit_counts <- function(panel, unit, code, size) {
  if (is.null(panel$copies)) tabulate(code, size) else core_sums_by(panel$copies[unit], code, size)
}

panel_rows_count <- function(panel) sum(unit_copies(panel)[panel$unit])

# How many clusters there are; those that are single units are as many as these.
panel_cluster_count <- function(panel) {
  if (is_own_remote(panel)) sum(panel$copies) else length(unique(panel$cluster[unit_copies(panel) > 0]))
}

# list(units, periods, rows, absent = unit-periods without a row, gaps = periods of the grid that nobody is seen in).
panel_shape <- function(panel) {
  position <- panel$periods$position
  list(
    units = sum(unit_copies(panel)), periods = length(position), rows = panel_rows_count(panel),
    absent = if (panel$repeats) sum(unit_copies(panel)) * length(position) - panel_rows_count(panel) else 0,
    gaps = if (is.na(panel$scale$step)) 0 else max(position) - min(position) + 1 - length(position)
  )
}

# Weighted mean outcome by cohort and period: cohort, time (codes), mean, rows. y: per row, NA where missing.
panel_means <- function(panel, y) {
  inside <- which(!is.na(y))
  cohort <- panel$cohort[panel$unit[inside]]
  periods <- nrow(panel$periods)
  cell <- (cohort - 1L) * periods + panel$time[inside]
  cells <- sort(unique(cell))
  code <- match(cell, cells)
  s <- if (is.null(panel$s)) rep(1, length(inside)) else panel$s[inside]
  data.frame(cohort = (cells - 1L) %/% periods + 1L, time = (cells - 1L) %% periods + 1L,
             mean = core_sums_by(s * y[inside], code) / core_sums_by(s, code),
             rows = unit_counts(panel, panel$unit[inside], code, length(cells)))
}

# Treated cohorts by periods since treatment, and those not treated yet in the same calendar periods, each averaged over
# cohorts by their size, both as changes since the period before treatment. side ("treated", "comparison"), event_time,
# mean, cohorts.
aligned_means <- function(panel, y) {
  means <- panel_means(panel, y)
  size <- cohort_sizes(panel)
  position <- panel$periods$position
  wide <- matrix(NA_real_, nrow(panel$cohorts), length(position))
  wide[cbind(means$cohort, means$time)] <- means$mean
  parts <- lapply(which(is_treated_cohort(panel)), function(h) {
    onset <- panel$cohorts$position[h]
    base <- suppressWarnings(max(which(position < onset & !is.na(wide[h, ]))))
    if (!is.finite(base)) return(NULL)
    others <- vapply(seq_along(position), function(t) {
      latest <- max(position[c(t, base)])
      later <- which(panel$cohorts$position > latest & seq_along(size) != h & began_alike(panel, h) &
                       held_alike(panel, h, latest))
      later <- later[!is.na(wide[later, t] + wide[later, base])]
      if (length(later) == 0L) NA_real_ else stats::weighted.mean(wide[later, t] - wide[later, base], size[later])
    }, 0)
    data.frame(side = rep(c("treated", "comparison"), each = length(position)), event_time = rep(position - onset, 2L),
               mean = c(wide[h, ] - wide[h, base], others), size = size[h])
  })
  table <- do.call(rbind, parts)
  table <- table[!is.na(table$mean), ]
  key <- interaction(table$side, table$event_time, drop = TRUE)
  first <- !duplicated(key)
  out <- table[first, c("side", "event_time")]
  out$mean <- vapply(split(seq_along(key), key)[as.character(key[first])], function(at) {
    stats::weighted.mean(table$mean[at], table$size[at])
  }, 0)
  out$cohorts <- as.integer(table(key)[as.character(key[first])])
  out[order(out$side, out$event_time), ]
}

# The column that says who is treated, or since when.
treatment_of <- function(panel) {
  if (is.null(panel$roles$treatment)) panel$roles$first_treated else panel$roles$treatment
}

# Names of covariates that differ within a unit, known since framing.
changing_columns <- function(panel) panel$varying

columns_over_time <- function(columns, first_row, unit) {
  names(columns)[vapply(columns, function(column) any(column$values != column$values[first_row][unit]), NA)]
}

# Clusters of the units, from 1 in the order they come in.
cluster_codes <- function(panel) match(panel$cluster, unique(panel$cluster))

# A column of the panel's rows that belongs to its units.
check_of_units <- function(x, panel, name, call) {
  check_constant(x, structure(panel$unit, labels = panel$unit_labels), name, panel$roles$unit, panel$rows, call)
}
