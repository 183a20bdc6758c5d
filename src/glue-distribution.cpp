#include "kernels/distribution.h"  // first: the build breaks if a kernel leans on R
#include "kernels/group_sums.h"
#include <RcppEigen.h>

namespace {
// Arms are 0 and 1, and there is somebody.
void check_arms(const Rcpp::IntegerVector& z, R_xlen_t n) {
  if (z.size() != n || n == 0) Rcpp::stop("x, z and weights must have one entry per unit");
  for (const int arm : z)
    if (arm != 0 && arm != 1) Rcpp::stop("an arm must be 0 or 1");
}
}  // namespace

// [[Rcpp::export(rng = false)]]
Rcpp::NumericMatrix glue_distribution_gaps(const Eigen::Map<Eigen::VectorXd> x, Rcpp::IntegerVector z,
                                           const Eigen::Map<Eigen::MatrixXd> weights) {
  check_arms(z, x.size());
  if (weights.rows() != x.size()) Rcpp::stop("x, z and weights must have one entry per unit");
  const std::vector<twin::DistributionGap> gaps = twin::distribution_gaps(x, z.begin(), weights);
  Rcpp::NumericMatrix out(2, static_cast<int>(gaps.size()));
  for (int j = 0; j < out.ncol(); ++j) {
    out(0, j) = gaps[j].largest;
    out(1, j) = gaps[j].mean;
  }
  Rcpp::rownames(out) = Rcpp::CharacterVector::create("ks", "ecdf_mean");
  return out;
}

// Sums by arm, a column per column of weights; a plain vector of weights counts as one column.
// [[Rcpp::export(rng = false)]]
Rcpp::NumericMatrix glue_arm_sums(const Eigen::Map<Eigen::VectorXd> x, Rcpp::IntegerVector z,
                                  Rcpp::NumericVector weights) {
  const R_xlen_t n = x.size();
  check_arms(z, n);
  if (weights.size() % n != 0) Rcpp::stop("x, z and weights must have one entry per unit");
  Rcpp::NumericMatrix out(10, static_cast<int>(weights.size() / n));
  for (int k = 0; k < out.ncol(); ++k) {
    const twin::ArmSums at = twin::arm_sums(x.data(), z.begin(), weights.begin() + n * k, n);
    int row = 0;
    for (const auto& sums : {at.total, at.square, at.centre, at.first, at.second}) {
      out(row++, k) = sums[1];
      out(row++, k) = sums[0];
    }
  }
  Rcpp::rownames(out) = Rcpp::CharacterVector::create(
      "total_treated", "total_control", "square_treated", "square_control", "centre_treated", "centre_control",
      "first_treated", "first_control", "second_treated", "second_control");
  return out;
}

// [[Rcpp::export(rng = false)]]
Rcpp::NumericVector glue_walsh_largest(const Eigen::Map<Eigen::VectorXd> sorted, Rcpp::NumericVector ranks) {
  if (sorted.size() == 0) Rcpp::stop("there must be a value");
  const std::vector<long long> places(ranks.begin(), ranks.end());
  return Rcpp::wrap(twin::walsh_largest(sorted.data(), sorted.size(), places, [] { Rcpp::checkUserInterrupt(); }));
}

// [[Rcpp::export(rng = false)]]
Rcpp::NumericVector glue_group_sums(const Rcpp::NumericVector v, const Rcpp::IntegerVector code, const double size) {
  if (v.size() != code.size()) Rcpp::stop("v and code must have one entry per unit");
  for (const int at : code)
    if (at != NA_INTEGER && (at < 1 || at > size)) Rcpp::stop("codes must be 1 to size, or missing");
  return Rcpp::wrap(twin::group_sums(v.begin(), code.begin(), v.size(), static_cast<std::size_t>(size)));
}
