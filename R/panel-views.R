# A panel as regressions within units read it.

# What the kernels of core-within.R read: rows sorted by unit (of a repeated cross-section: by group, or by cohort where
# there are none), and the cohort of each unit; cluster and s of each unit, or of each piece of it where clusters cut
# across units, as a second column of them may (asked$spread$rows, code per row of the panel; then attribute "crossed"
# of cluster holds its codes).
within_view <- function(panel, y, asked, weight = NULL) {
  crossed <- asked$spread$rows
  view <- if (panel$repeats) unit_view(panel, crossed) else group_view(panel, crossed)
  rows <- row_weights(panel, y, weight)
  x <- if (asked$adjustment != "none") covariate_matrix(panel$columns, panel$formula)
  x <- centred_columns(x)
  pick <- function(v) if (is.null(view$order)) v else v[view$order]
  view$rows <- list(columns = cbind(pick(rows$y), if (is.null(view$order)) x else x[view$order, , drop = FALSE]),
                    unit = view$unit, time = pick(panel$time), periods = nrow(panel$periods),
                    weight = pick(rows$weight), piece = view$piece)
  view
}

unit_view <- function(panel, crossed = NULL) {
  s <- unit_weight(panel)
  view <- list(order = NULL, unit = panel$unit, cohort = panel$cohort, unit_s = s, s = s,
               cluster = structure(as.vector(panel$cluster), name = attr(panel$cluster, "name")))
  if (is.null(crossed)) return(view)
  view$piece <- dense_codes(core_group_codes(panel$unit, crossed))
  first <- which(!duplicated(view$piece))
  unit <- panel$unit[first]
  view$s <- s[unit] * tabulate(view$piece) / tabulate(panel$unit)[unit]
  view$cluster <- structure(as.vector(panel$cluster)[unit], name = attr(panel$cluster, "name"),
                            crossed = crossed[first])
  view
}

dense_codes <- function(code) match(code, unique(code))

# Weights, 0 for rows without an outcome, whose outcome becomes 0; the others' mean is taken off.
row_weights <- function(panel, y, weight) {
  own <- if (is.null(panel$s)) rep(1, length(y)) else panel$s
  if (!is.null(weight)) own <- own * weight
  if (!anyNA(y)) return(list(weight = own, y = y - sum(own * y) / sum(own)))
  own[is.na(y)] <- 0
  y[is.na(y)] <- 0
  list(weight = own, y = y - sum(own * y) / sum(own))
}

# Of a repeated cross-section: its rows by group, which then are the units.
group_view <- function(panel, crossed = NULL) {
  unit <- if (is.null(panel$group)) panel$cohort else panel$group
  order <- order(unit)
  unit <- match(unit[order], unique(unit[order]))
  first <- which(!duplicated(unit))
  s <- if (is.null(panel$s)) rep(1, length(unit)) else panel$s[order]
  cluster <- panel$cluster[order]
  view <- list(order = order, unit = unit, cohort = panel$cohort[order][first], unit_s = core_sums_by(s, unit))
  whole <- if (is.null(crossed)) cluster else core_group_codes(cluster, crossed[order])
  cut <- any(whole != whole[first][unit])
  if (cut) {
    view$piece <- dense_codes(core_group_codes(unit, whole))
    first <- which(!duplicated(view$piece))
  }
  c(view, list(s = if (cut) core_sums_by(s, view$piece) else view$unit_s,
               cluster = structure(cluster[first], name = attr(panel$cluster, "name"),
                                   crossed = if (!is.null(crossed)) crossed[order][first])))
}

# On one scale, and without their large means.
centred_columns <- function(x) {
  if (is.null(x)) return(NULL)
  x <- sweep(x, 2L, colMeans(x))
  size <- sqrt(colMeans(x^2))
  sweep(x, 2L, ifelse(size > 0, size, 1), `/`)
}

# Periods since treatment of every row, -Inf where it never comes.
periods_since <- function(panel) {
  panel$periods$position[panel$time] - panel$cohorts$position[panel$cohort[panel$unit]]
}

# Slopes in time for each "unit" or "group", NULL for none.
panel_trends <- function(panel, trends, absorb, call) {
  if (is.null(trends)) return(NULL)
  trends <- check_choice(trends, c("unit", "group"), "trends", call)
  if (!is.null(absorb)) abort_input("{.arg trends} and {.arg absorb} don't go together.", call = call)
  if (trends == "group" && is.null(panel$group)) {
    abort_input(c("The panel has no groups to have trends.", i = "Name {.arg group} in {.fn frame_panel}."),
                call = call)
  }
  if (trends == "unit" && !panel$repeats) {
    abort_input(c("Units of a repeated cross-section are seen once and have no trends.",
                  i = "Use {.code trends = \"group\"}."), call = call)
  }
  trends
}

# List of codes per row for each absorbed column or combination "a:b".
absorbed_codes <- function(panel, absorb, call) {
  if (is.null(absorb)) return(NULL)
  if (!is.character(absorb) || anyNA(absorb) || !all(nzchar(absorb))) {
    abort_input("{.arg absorb} must be column names in quotes, such as \"coast\" or \"coast:quarter\".", call = call)
  }
  lapply(strsplit(absorb, ":", fixed = TRUE), function(names) {
    check_columns(names, panel$data, "absorb", call)
    codes <- lapply(names, function(name) {
      as.integer(group_codes(panel$data[[name]][panel$rows], name, "absorbed column", panel$rows, call))
    })
    code <- Reduce(core_group_codes, codes)
    match(code, unique(code))
  })
}

# What goes with unit and period effects in a regression on rows of a view: list(x: columns on like scales, covariates
# first, NULL for none; slope: time, where each unit has a line of its own).
trend_columns <- function(panel, view, asked, call) {
  rows <- view$rows
  position <- panel$periods$position[rows$time]
  by_group <- identical(asked$trends, "group") && panel$repeats
  lines <- if (by_group) list(panel$group[rows$unit])
  pick <- function(code) if (is.null(view$order)) code else code[view$order]
  levels <- c(lines, lapply(asked$absorb, pick))
  count <- sum(vapply(levels, function(code) length(unique(code)), 0L))
  if (count > 2000L || as.double(count) * length(rows$unit) > 4e8) {
    abort_unsupported(c("Imputation holds every further effect as a column, and {count} of them are too many here.",
                        i = "Absorb fewer, or use {.code estimator = \"two_way\"}."), call = call)
  }
  centred <- (position - mean(position)) / max(stats::sd(position), 1e-8)
  made <- lapply(seq_along(levels), function(k) {
    code <- match(levels[[k]], unique(levels[[k]]))
    columns <- matrix(0, length(code), max(code))
    columns[cbind(seq_along(code), code)] <- if (by_group && k == 1L) centred else 1
    columns
  })
  covariates <- if (ncol(rows$columns) > 1L) rows$columns[, -1L, drop = FALSE]
  list(x = do.call(cbind, c(list(covariates), made)), slope = if (!is.null(asked$trends) && !by_group) centred)
}
