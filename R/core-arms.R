# Weights that make the units of one arm stand for others, of several arms: Methods, "More than two arms".

# Within each cell (codes, NA for units that are out) the own units stand for the target's: w = sum of s target / sum of
# s own, 0 outside the arm. own, target: n indicators; s: n.
core_standing_weight <- function(cell, own, target, s) {
  total <- standing_totals(cell, own, target, s)
  replace((total$target / total$own)[cell], is.na(cell) | own == 0, 0)
}

standing_totals <- function(cell, own, target, s) {
  list(target = core_sums_by(s * target, cell), own = core_sums_by(s * own, cell))
}

# Parameters: both totals of each cell; where cells are cut is taken as given.
core_standing_nuisance <- function(cell, own, target, s) {
  total <- standing_totals(cell, own, target, s)
  weight <- core_standing_weight(cell, own, target, s)
  list(
    gradient = function(v) {
      of_cell <- core_sums_by(v * weight, cell, length(total$own))
      list(target = of_cell / total$target, own = -of_cell / total$own)
    },
    influence = function(u) {
      at <- replace(u$target[cell] * target + u$own[cell] * own, is.na(cell), 0)
      length(s) * s * at - sum(u$target * total$target + u$own * total$own)
    }
  )
}

# Sets that hold a unit of every arm (Savje, Higgins & Sekhon 2021). row, distance: n x arms, the nearest unit of each
# arm (itself in its own; NA for nobody) and how far it is. Whoever has somebody in every arm may start a set of these;
# the closest together come first, and sets do not overlap. Returns codes, NA for units in no set: each of them that has
# somebody in every arm has one of them in a set.
core_arm_sets <- function(row, distance) {
  widest <- do.call(pmax, lapply(seq_len(ncol(distance)), function(j) distance[, j]))
  starts <- which(!is.na(rowSums(row)))
  set <- glue_arm_sets(row, starts[order(widest[starts], starts, method = "radix")])
  ifelse(set == 0L, NA_integer_, set)
}
