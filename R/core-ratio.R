# Methods, "Sensitivity", ratio scale (VanderWeele & Ding 2017).

# E = RR + sqrt(RR (RR - 1)), after inverting ratios below 1.
core_e_value <- function(ratio) {
  away <- pmax(ratio, 1 / ratio)
  away + sqrt(away * (away - 1))
}

# Approximate risk ratio behind another measure. "mean_difference" is in standard deviations of the outcome.
core_as_risk_ratio <- function(value, scale, rare) {
  switch(scale,
    risk_ratio = value,
    odds_ratio = if (rare) value else sqrt(value),
    hazard_ratio = if (rare) value else (1 - 0.5^sqrt(value)) / (1 - 0.5^sqrt(1 / value)),
    mean_difference = exp(0.91 * value)
  )
}
