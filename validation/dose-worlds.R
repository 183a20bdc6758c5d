# The world of validation/dose.R: crews with tonnes of ice, and the true mean at a dose.

# flat: does the dose do nothing? The curve is 1.5 d - 0.1 d^2 at the mean of a modifier of mean 0.
world <- function(seed, n, flat, clusters) {
  set.seed(seed)
  size <- rnorm(n)
  depth <- rnorm(n)
  gear <- sample(c("nets", "lines", "pots"), n, TRUE)
  bay <- rep_len(seq_len(50), n)
  tonnes <- 3 + 0.4 * size + 0.3 * (gear == "nets") + rnorm(n)
  shock <- if (clusters) 0.5 * rnorm(50)[bay] else 0
  curve <- if (flat) 0 else tonnes * (1.5 + 0.2 * depth) - 0.1 * tonnes^2
  data.frame(size, depth, gear, bay, tonnes, income = curve + size + 0.5 * depth + (gear == "nets") + shock + rnorm(n))
}
mean_at <- function(d, flat) 1 / 3 + if (flat) 0 * d else 1.5 * d - 0.1 * d^2  # a third has nets
