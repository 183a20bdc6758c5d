#include "kernels/resample.h"  // first: the build breaks if a kernel leans on R
#include <RcppEigen.h>

// seed: a whole number, at least 0.
// [[Rcpp::export(rng = false)]]
Eigen::VectorXd glue_draw_counts(int n, double seed) {
  if (n < 1 || n == NA_INTEGER || !(seed >= 0.0)) Rcpp::stop("n and seed must not be negative");
  return twin::draw_counts(n, static_cast<std::uint64_t>(seed));
}
