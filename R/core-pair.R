# METHODS, "Matching": greedy pairing without replacement on the linear score.

# seekers, pool: linear scores; caliper on their scale (Inf for none). The difficulty of a seeker rises with its score
# when seekers are treated, and falls with it when they are controls. permutation: the order for "shuffled".
# Returns the row of the partner in `pool` for every seeker, NA for none.
core_pair_greedy <- function(seekers, pool, caliper, order, treated_seek = TRUE, permutation = NULL) {
  if (order == "closest_pair") return(glue_pair_closest_first(seekers, pool, caliper))
  difficulty <- if (treated_seek) seekers else -seekers
  places <- switch(order,
    hardest = base::order(-difficulty, seq_along(seekers), method = "radix"),
    easiest = base::order(difficulty, seq_along(seekers), method = "radix"),
    given = seq_along(seekers),
    shuffled = permutation
  )
  glue_pair_in_order(seekers, pool, places, caliper)
}

# Pooled sd of the linear score, sqrt((var1 + var0) / 2), with sampling weights: the unit of a caliper.
core_pooled_sd <- function(x, z, s) {
  at <- core_arm_moments(x, z, s)
  sqrt((at[["var_treated"]] + at[["var_control"]]) / 2)
}
