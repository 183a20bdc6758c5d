#include "kernels/pair_greedy.h"  // first: the build breaks if a kernel leans on R
#include <RcppEigen.h>

namespace {
Rcpp::IntegerVector to_rows(const std::vector<int>& partner) {
  Rcpp::IntegerVector rows(partner.begin(), partner.end());
  for (int& row : rows) row = row < 0 ? NA_INTEGER : row + 1;
  return rows;
}
}  // namespace

// [[Rcpp::export(rng = false)]]
Rcpp::IntegerVector glue_pair_in_order(const Eigen::Map<Eigen::VectorXd> seekers,
                                       const Eigen::Map<Eigen::VectorXd> pool, Rcpp::IntegerVector order,
                                       double caliper) {
  if (order.size() != seekers.size()) Rcpp::stop("order must have one entry per seeker");
  std::vector<int> zero_based(order.begin(), order.end());
  for (int& row : zero_based) {
    if (row < 1 || row > seekers.size()) Rcpp::stop("order must hold rows of seekers");
    --row;
  }
  return to_rows(twin::pair_in_order(seekers, pool, zero_based, caliper));
}

// [[Rcpp::export(rng = false)]]
Rcpp::IntegerVector glue_pair_closest_first(const Eigen::Map<Eigen::VectorXd> seekers,
                                            const Eigen::Map<Eigen::VectorXd> pool, double caliper) {
  return to_rows(twin::pair_closest_first(seekers, pool, caliper));
}
