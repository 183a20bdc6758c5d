# Newton's method from sums, whoever adds them up (src/kernels/newton.h; rows in memory have kernels that make the sums
# themselves). sums: list(at = function(beta) list(value, gradient, information) of a concave objective, reach =
# function(direction, by_arm) the least and the most of x'direction over rows of positive weight, with by_arm of
# (2 y - 1) x'direction). Columns come standardised and beta on their scale. Returns list(status, iterations, value,
# coefficients, gradient, information).

# A likelihood: status "converged", "separated" or "not_converged".
core_climb <- function(sums, start) glue_climb(sums, as.double(start))

# The dual of weights that meet moments exactly: sum of weights = pull[1], of weights times columns = pull[-1]; status
# "converged", "infeasible" or "not_converged".
core_meet_moments <- function(sums, start, pull) glue_meet_moments(sums, as.double(start), as.double(pull))

# The same within bounds (0 for the first), base being the weight of the rows: status "converged" or "infeasible".
core_meet_bounds <- function(sums, start, pull, bound, base) {
  glue_meet_bounds(sums, as.double(start), as.double(pull), as.double(bound), as.double(base))
}

# Places of columns of a Gram matrix that the ones before them explain: Cholesky in the given order; as the kernel does.
core_repeated_columns <- function(gram, tolerance = 1e-10) glue_dependent_columns(gram, tolerance)
