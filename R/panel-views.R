# A panel as regressions within units read it.

# What the kernels of core-within.R read: rows sorted by unit (of a repeated cross-section: by group, or by cohort where
# there are none), and the cohort of each unit; cluster and s of each unit, or of each piece of it where clusters cut
# across units.
within_view <- function(panel, y, asked, weight = NULL) {
  view <- if (panel$repeats) unit_view(panel) else group_view(panel)
  rows <- row_weights(panel, y, weight)
  x <- if (asked$adjustment != "none") covariate_matrix(panel$columns, panel$formula)
  x <- centred_columns(x)
  pick <- function(v) if (is.null(view$order)) v else v[view$order]
  view$rows <- list(columns = cbind(pick(rows$y), if (is.null(view$order)) x else x[view$order, , drop = FALSE]),
                    unit = view$unit, time = pick(panel$time), periods = nrow(panel$periods),
                    weight = pick(rows$weight), piece = view$piece)
  view
}

unit_view <- function(panel) {
  s <- unit_weight(panel)
  list(order = NULL, unit = panel$unit, cohort = panel$cohort, unit_s = s, s = s,
       cluster = structure(as.vector(panel$cluster), name = attr(panel$cluster, "name")))
}

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
group_view <- function(panel) {
  unit <- if (is.null(panel$group)) panel$cohort else panel$group
  order <- order(unit)
  unit <- match(unit[order], unique(unit[order]))
  first <- which(!duplicated(unit))
  s <- if (is.null(panel$s)) rep(1, length(unit)) else panel$s[order]
  cluster <- panel$cluster[order]
  view <- list(order = order, unit = unit, cohort = panel$cohort[order][first], unit_s = core_sums_by(s, unit))
  cut <- any(cluster != cluster[first][unit])
  if (cut) {
    code <- core_group_codes(unit, cluster)
    view$piece <- match(code, unique(code))
    first <- which(!duplicated(view$piece))
  }
  c(view, list(s = if (cut) core_sums_by(s, view$piece) else view$unit_s,
               cluster = structure(cluster[first], name = attr(panel$cluster, "name"))))
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
