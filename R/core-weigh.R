# Inverse weights by estimand: METHODS, "Notation" (h / e for treated, h / (1 - e) for controls), and their derivative
# in the linear score of a logit, where de / d(linear) = e (1 - e).

core_inverse_weight <- function(e, z, estimand) {
  switch(estimand,
    ATE = ifelse(z == 1L, 1 / e, 1 / (1 - e)),
    ATT = ifelse(z == 1L, 1, e / (1 - e)),
    ATC = ifelse(z == 1L, (1 - e) / e, 1),
    ATO = ifelse(z == 1L, 1 - e, e)
  )
}

core_inverse_weight_slope <- function(e, z, estimand) {
  switch(estimand,
    ATE = ifelse(z == 1L, -(1 - e) / e, e / (1 - e)),
    ATT = ifelse(z == 1L, 0, e / (1 - e)),
    ATC = ifelse(z == 1L, -(1 - e) / e, 0),
    ATO = ifelse(z == 1L, -1, 1) * e * (1 - e)
  )
}

# Whom the model-based part of the augmented estimator averages over: METHODS, "ATT forms" (the treated themselves
# for ATT, not their scores), and its derivative in the linear score.
core_target_weight <- function(e, z, estimand) {
  switch(estimand, ATE = rep(1, length(z)), ATT = as.double(z == 1L), ATC = as.double(z == 0L), ATO = e * (1 - e))
}

core_target_weight_slope <- function(e, z, estimand) {
  if (estimand == "ATO") e * (1 - e) * (1 - 2 * e) else numeric(length(e))
}
