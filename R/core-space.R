# Covariances and their roots: Methods, "Matching", distances.

# Pooled within the arms.
core_within_covariance <- function(x, v, z) {
  size <- c(sum(v * z), sum(v * (1 - z)))
  parts <- list(core_covariance(x, v * z), core_covariance(x, v * (1 - z)))
  (size[1L] * parts[[1L]] + size[2L] * parts[[2L]]) / sum(size)
}

# W with W W' the (pseudo-)inverse of a covariance of scaled columns; directions with less than 1e-10 of the largest
# variance count as none.
core_inverse_root <- function(covariance) {
  parts <- eigen(covariance, symmetric = TRUE)
  inside <- parts$values > 1e-10 * max(parts$values)
  list(root = sweep(parts$vectors[, inside, drop = FALSE], 2L, sqrt(parts$values[inside]), "/"), rank = sum(inside))
}

# Columns that follow from those before them.
core_dependent <- function(covariance) {
  parts <- qr(covariance, tol = 1e-9)
  sort(parts$pivot[-seq_len(parts$rank)])
}

# Euclidean distance between rows of two matrices, side by side.
core_distance <- function(a, b) sqrt(rowSums((a - b)^2))
