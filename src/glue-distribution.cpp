#include "kernels/distribution.h"  // first: the build breaks if a kernel leans on R
#include <RcppEigen.h>

// [[Rcpp::export(rng = false)]]
Rcpp::NumericVector glue_distribution_gap(const Eigen::Map<Eigen::VectorXd> x, Rcpp::IntegerVector order,
                                          Rcpp::IntegerVector z, const Eigen::Map<Eigen::VectorXd> weight) {
  if (order.size() != x.size() || z.size() != x.size() || weight.size() != x.size())
    Rcpp::stop("x, order, z and weight must have one entry per unit");
  const twin::DistributionGap gap = twin::distribution_gap(x, order.begin(), z.begin(), weight);
  return Rcpp::NumericVector::create(Rcpp::_["ks"] = gap.largest, Rcpp::_["ecdf_mean"] = gap.mean);
}

// [[Rcpp::export(rng = false)]]
Rcpp::NumericVector glue_arm_moments(const Eigen::Map<Eigen::VectorXd> x, Rcpp::IntegerVector z,
                                     const Eigen::Map<Eigen::VectorXd> weight) {
  if (z.size() != x.size() || weight.size() != x.size())
    Rcpp::stop("x, z and weight must have one entry per unit");
  const twin::ArmMoments at = twin::arm_moments(x, z.begin(), weight);
  return Rcpp::NumericVector::create(Rcpp::_["mean_treated"] = at.mean[1], Rcpp::_["mean_control"] = at.mean[0],
                                     Rcpp::_["var_treated"] = at.variance[1], Rcpp::_["var_control"] = at.variance[0]);
}

// [[Rcpp::export(rng = false)]]
Rcpp::NumericVector glue_walsh_largest(const Eigen::Map<Eigen::VectorXd> sorted, Rcpp::NumericVector ranks) {
  Rcpp::NumericVector out(ranks.size());
  for (R_xlen_t k = 0; k < ranks.size(); ++k) {
    Rcpp::checkUserInterrupt();
    out[k] = twin::walsh_largest(sorted, static_cast<long long>(ranks[k]));
  }
  return out;
}
