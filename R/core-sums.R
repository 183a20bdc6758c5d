# The lower of core's two floors for counts and totals: sums over rows. What is made of them (shares, effective sizes,
# stratum weights, the correlation within clusters) takes these sums alone and can't tell where the rows are.

# Sums of v by code 1, ..., size (the largest that occurs); NA codes are left out.
core_sums_by <- function(v, code, size = max(code[inside])) {
  inside <- !is.na(code)
  out <- numeric(size)
  totals <- rowsum(v[inside], code[inside])
  out[as.integer(rownames(totals))] <- totals[, 1L]
  out
}

# Weight of each level by arm: levels x (treated, control).
core_level_totals <- function(code, levels, z, v) {
  sums <- vapply(c(1L, 0L), function(arm) core_sums_by(v[z == arm], code[z == arm], levels), numeric(levels))
  matrix(sums, nrow = levels, dimnames = list(NULL, c("treated", "control")))
}

# Weight s of each cell 1, 2, ... by arm: list(treated, control). Units without a cell (NA) are left out.
core_cell_totals <- function(cell, z, s) {
  list(treated = core_sums_by(s * (z == 1L), cell), control = core_sums_by(s * (z == 0L), cell))
}

# Units, sum and sum of squares of y by group (codes of any kind), y measured from its mean so that nothing cancels.
core_group_totals <- function(y, group) {
  away <- y - mean(y)
  group <- match(group, unique(group))
  cbind(n = tabulate(group), sum = core_sums_by(away, group), square = core_sums_by(away^2, group))
}
