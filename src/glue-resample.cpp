#include "kernels/resample.h"  // first: the build breaks if a kernel leans on R
#include <RcppEigen.h>

// sizes: of the groups, in the order of the units; seed: a whole number, at least 0.
// [[Rcpp::export(rng = false)]]
Eigen::VectorXd glue_draw_counts(const Rcpp::IntegerVector sizes, double seed) {
  if (!(seed >= 0.0)) Rcpp::stop("seed must not be negative");
  std::vector<Eigen::Index> groups;
  for (const int size : sizes) {
    if (size < 0 || size == NA_INTEGER) Rcpp::stop("sizes must not be negative");
    groups.push_back(size);
  }
  return twin::draw_counts(groups, static_cast<std::uint64_t>(seed));
}
