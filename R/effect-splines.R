# Natural splines along a number: of a dose (effect-response.R), of who gains (effect-gains.R).

# How many inner knots for such values: more than the ninth root of n, at which variance and squared bias together are
# least, so that what is left of the bias is small beside the standard error.
usual_knots <- function(values) max(0, min(round(length(values)^(1 / 5)), length(unique(values)) - 2L, 20))

# list(inner, ends). Ends at the tenth values from below and above: as far out as more than single units tell of, and
# further out the more units there are, lest the straight lines beyond keep a bias. Inner knots at quantiles; where many
# units have the least value, or the most, at quantiles of those between, as otherwise the curve would bend nowhere.
place_knots <- function(values, mass, knots) {
  knots <- min(knots, length(unique(values)) - 2L)
  if (knots < 1L) return(list(inner = numeric(), ends = range(values)))
  places <- function(among) {
    unique(core_weighted_quantiles(values[among], mass[among], seq_len(knots) / (knots + 1)))
  }
  inner <- places(TRUE)
  beyond <- min(0.05, 10 / length(values))
  ends <- core_weighted_quantiles(values, mass, c(beyond, 1 - beyond))
  if (inner[1L] <= ends[1L] || inner[length(inner)] >= ends[2L]) ends <- range(values)
  if (inner[1L] <= ends[1L] || inner[length(inner)] >= ends[2L]) inner <- places(ends[1L] < values & values < ends[2L])
  list(inner = inner, ends = ends)
}

# Columns of the spline without its constant, one row per value. placed: see place_knots().
spline_columns <- function(values, placed) {
  columns <- splines::ns(values, knots = placed$inner, Boundary.knots = placed$ends)
  matrix(columns, nrow(columns))
}
