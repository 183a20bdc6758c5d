#include "kernels/regression.h"  // first: the build breaks if a kernel leans on R
#include <RcppEigen.h>

namespace {
const double* optional_weight(const Rcpp::Nullable<Rcpp::NumericVector>& weight, Eigen::Index n) {
  if (weight.isNull()) return nullptr;
  const Rcpp::NumericVector given(weight.get());  // holds the caller's own memory, which outlives the call
  if (given.size() != n) Rcpp::stop("weight must have one entry per row");
  return given.begin();
}

Rcpp::List as_list(const twin::RegressionFit& fit) {
  const Rcpp::IntegerVector aliased(fit.aliased.begin(), fit.aliased.end());
  const char* status = fit.status == twin::FitStatus::converged   ? "converged"
                       : fit.status == twin::FitStatus::separated ? "separated"
                                                                  : "not_converged";
  return Rcpp::List::create(
      Rcpp::_["status"] = status, Rcpp::_["iterations"] = fit.iterations, Rcpp::_["loglik"] = fit.loglik,
      Rcpp::_["coefficients"] = fit.coefficients, Rcpp::_["covariance"] = fit.covariance,
      Rcpp::_["linear"] = fit.linear, Rcpp::_["fitted"] = fit.fitted, Rcpp::_["aliased"] = aliased + 1,
      Rcpp::_["direction"] = fit.direction);
}
}  // namespace

// [[Rcpp::export(rng = false)]]
Rcpp::List glue_fit_logit(const Eigen::Map<Eigen::MatrixXd> x, const Eigen::Map<Eigen::VectorXd> y,
                          Rcpp::Nullable<Rcpp::NumericVector> weight) {
  if (x.rows() != y.size()) Rcpp::stop("x and y must have the same number of rows");
  return as_list(twin::fit_logit(x, y, optional_weight(weight, x.rows())));
}

// [[Rcpp::export(rng = false)]]
Rcpp::List glue_fit_linear(const Eigen::Map<Eigen::MatrixXd> x, const Eigen::Map<Eigen::VectorXd> y,
                           Rcpp::Nullable<Rcpp::NumericVector> weight) {
  if (x.rows() != y.size()) Rcpp::stop("x and y must have the same number of rows");
  return as_list(twin::fit_linear(x, y, optional_weight(weight, x.rows())));
}

// [[Rcpp::export(rng = false)]]
Eigen::MatrixXd glue_weighted_covariance(const Eigen::Map<Eigen::MatrixXd> x,
                                         Rcpp::Nullable<Rcpp::NumericVector> weight) {
  return twin::weighted_covariance(x, optional_weight(weight, x.rows()));
}
