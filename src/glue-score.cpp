#include "kernels/balancing.h"  // first: the build breaks if a kernel leans on R
#include <RcppEigen.h>

namespace {
const double* optional_weight(const Rcpp::Nullable<Rcpp::NumericVector>& weight, Eigen::Index n) {
  if (weight.isNull()) return nullptr;
  const Rcpp::NumericVector given(weight.get());  // holds the caller's own memory, which outlives the call
  if (given.size() != n) Rcpp::stop("a vector has the wrong number of entries");
  return given.begin();
}

const char* status_word(twin::FitStatus status, const char* separated) {
  return status == twin::FitStatus::converged   ? "converged"
         : status == twin::FitStatus::separated ? separated
                                                : "not_converged";
}

Rcpp::List as_list(const twin::RegressionFit& fit) {
  const Rcpp::IntegerVector aliased(fit.aliased.begin(), fit.aliased.end());
  return Rcpp::List::create(
      Rcpp::_["status"] = status_word(fit.status, "separated"), Rcpp::_["iterations"] = fit.iterations, Rcpp::_["loglik"] = fit.loglik,
      Rcpp::_["coefficients"] = fit.coefficients, Rcpp::_["covariance"] = fit.covariance,
      Rcpp::_["linear"] = fit.linear, Rcpp::_["fitted"] = fit.fitted, Rcpp::_["aliased"] = aliased + 1,
      Rcpp::_["direction"] = fit.direction);
}
}  // namespace

// link: "logit", "probit", "cloglog", or "linear" for least squares. start: p + 1 coefficients to begin from, or NULL.
// [[Rcpp::export(rng = false)]]
Rcpp::List glue_fit_regression(const Eigen::Map<Eigen::MatrixXd> x, const Eigen::Map<Eigen::VectorXd> y,
                               Rcpp::Nullable<Rcpp::NumericVector> weight, std::string link,
                               Rcpp::Nullable<Rcpp::NumericVector> start) {
  if (x.rows() != y.size()) Rcpp::stop("x and y must have the same number of rows");
  const double* s = optional_weight(weight, x.rows());
  if (link == "linear") return as_list(twin::fit_linear(x, y, s));
  const twin::Objective objective = link == "probit"    ? twin::plain_isa::probit_fit
                                    : link == "cloglog" ? twin::plain_isa::cloglog_fit
                                                        : twin::plain_isa::logit_fit;
  return as_list(twin::fit_binary(objective, x, y, s, optional_weight(start, x.cols() + 1)));
}

// [[Rcpp::export(rng = false)]]
Rcpp::List glue_fit_counterpoise(const Eigen::Map<Eigen::MatrixXd> x, const Eigen::Map<Eigen::VectorXd> z,
                                 Rcpp::Nullable<Rcpp::NumericVector> weight) {
  if (x.rows() != z.size()) Rcpp::stop("x and z must have the same number of rows");
  return as_list(twin::fit_counterpoise(x, z, optional_weight(weight, x.rows())));
}

// rows: 1-based rows of x. tolerance: p raw units for least-variance weights, NULL for entropy.
// [[Rcpp::export(rng = false)]]
Rcpp::List glue_fit_balancing(const Eigen::Map<Eigen::MatrixXd> x, const Rcpp::IntegerVector rows,
                              Rcpp::Nullable<Rcpp::NumericVector> weight, const Eigen::Map<Eigen::VectorXd> target,
                              double total, Rcpp::Nullable<Rcpp::NumericVector> tolerance) {
  if (x.cols() != target.size()) Rcpp::stop("target must have one entry per column");
  std::vector<int> chosen(rows.begin(), rows.end());
  for (int& row : chosen) {
    row -= 1;
    if (row < 0 || row >= x.rows()) Rcpp::stop("rows must be rows of x");
  }
  const double* s = optional_weight(weight, x.rows());
  const double* slack = optional_weight(tolerance, x.cols());
  const twin::BalancingFit fit =
      slack ? twin::fit_stable(x, chosen, s, target, Eigen::Map<const Eigen::VectorXd>(slack, x.cols()), total)
            : twin::fit_entropy(x, chosen, s, target, total);
  const Rcpp::IntegerVector active(fit.active.begin(), fit.active.end());
  return Rcpp::List::create(
      Rcpp::_["status"] = status_word(fit.status, "infeasible"), Rcpp::_["iterations"] = fit.iterations,
      Rcpp::_["coefficients"] = fit.coefficients, Rcpp::_["covariance"] = fit.covariance,
      Rcpp::_["weight"] = fit.weight, Rcpp::_["gap"] = fit.gap, Rcpp::_["active"] = active + 1);
}

// [[Rcpp::export(rng = false)]]
Eigen::MatrixXd glue_weighted_covariance(const Eigen::Map<Eigen::MatrixXd> x,
                                         Rcpp::Nullable<Rcpp::NumericVector> weight) {
  return twin::weighted_covariance(x, optional_weight(weight, x.rows()));
}
