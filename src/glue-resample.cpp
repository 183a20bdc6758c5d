#include "kernels/resample.h"  // first: the build breaks if a kernel leans on R
#include <RcppEigen.h>

namespace {
// Whole numbers that a double holds exactly.
std::uint64_t whole(double value, const char* name) {
  if (!(value >= 0.0 && value <= 9007199254740992.0)) Rcpp::stop("%s must be from 0 to 2^53", name);
  return static_cast<std::uint64_t>(value);
}
}  // namespace

// sizes: of the groups, in the order of the units; seed, place: whole numbers, at least 0.
// [[Rcpp::export(rng = false)]]
Eigen::VectorXd glue_draw_counts(const Rcpp::IntegerVector sizes, double seed, double place, int fewer) {
  std::vector<Eigen::Index> groups;
  for (const int size : sizes) {
    if (size < 0 || size == NA_INTEGER) Rcpp::stop("sizes must not be negative");
    groups.push_back(size);
  }
  return twin::draw_counts(groups, whole(seed, "seed"), whole(place, "place"), fewer);
}

// [[Rcpp::export(rng = false)]]
Eigen::MatrixXd glue_signed_sums(const Eigen::Map<Eigen::MatrixXd> left, const Eigen::Map<Eigen::MatrixXd> squares,
                                 int draws, bool webb, double seed) {
  if (left.cols() != squares.cols() || draws < 0) Rcpp::stop("left and squares must have one column per cluster");
  const std::uint64_t start = whole(seed, "seed");
  return webb ? twin::webb_sums(left, squares, draws, start) : twin::sign_sums(left, squares, draws, start);
}

// [[Rcpp::export(rng = false)]]
double glue_sub_seed(double seed, const std::string work, double place) {
  return static_cast<double>(twin::scattered_seed(whole(seed, "seed"), work, whole(place, "place")) >> 33);
}
