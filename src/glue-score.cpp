#include "kernels/balancing.h"  // first: the build breaks if a kernel leans on R
#include <RcppEigen.h>
#include "glue-status.h"

namespace {
// A vector that may be left out. Holds what R gave, or the copy made of it, as long as it is read.
class OptionalVector {
 public:
  OptionalVector(const Rcpp::Nullable<Rcpp::NumericVector>& given, Eigen::Index n) : given_(given.isNotNull()) {
    if (!given_) return;
    held_ = Rcpp::NumericVector(given.get());
    if (held_.size() != n) Rcpp::stop("a vector has the wrong number of entries");
  }
  const double* data() const { return given_ ? held_.begin() : nullptr; }

 private:
  bool given_;
  Rcpp::NumericVector held_;
};

twin::Objective objective_of(const std::string& link) {
  if (link == "logit") return twin::plain_isa::logit_fit;
  if (link == "probit") return twin::plain_isa::probit_fit;
  if (link == "cloglog") return twin::plain_isa::cloglog_fit;
  if (link == "log") return twin::plain_isa::count_fit;
  Rcpp::stop("the link \"%s\" is not known", link);
}

Rcpp::List as_list(const twin::RegressionFit& fit) {
  const Rcpp::IntegerVector aliased(fit.aliased.begin(), fit.aliased.end());
  return Rcpp::List::create(Rcpp::_["status"] = status_word(fit.status, "separated"),
                            Rcpp::_["iterations"] = fit.iterations, Rcpp::_["loglik"] = fit.loglik,
                            Rcpp::_["coefficients"] = fit.coefficients, Rcpp::_["covariance"] = fit.covariance,
                            Rcpp::_["linear"] = fit.linear, Rcpp::_["fitted"] = fit.fitted,
                            Rcpp::_["aliased"] = aliased + 1, Rcpp::_["direction"] = fit.direction);
}
}  // namespace

// link: "logit", "probit", "cloglog", "log" (counts), or "linear" for least squares. start: p + 1 coefficients to begin
// from, or NULL.
// [[Rcpp::export(rng = false)]]
Rcpp::List glue_fit_regression(const Eigen::Map<Eigen::MatrixXd> x, const Eigen::Map<Eigen::VectorXd> y,
                               Rcpp::Nullable<Rcpp::NumericVector> weight, std::string link,
                               Rcpp::Nullable<Rcpp::NumericVector> start) {
  if (x.rows() != y.size()) Rcpp::stop("x and y must have the same number of rows");
  const OptionalVector s(weight, x.rows());
  if (link == "linear") return as_list(twin::fit_linear(x, y, s.data()));
  const OptionalVector from(start, x.cols() + 1);
  return as_list(twin::fit_curved(objective_of(link), x, y, s.data(), from.data()));
}

// Fitted values of a logit refitted with other weights; empty when it fails. start, fitted, covariance: of the first
// fit.
// [[Rcpp::export(rng = false)]]
Eigen::VectorXd glue_refit_logit(const Eigen::Map<Eigen::MatrixXd> x, const Eigen::Map<Eigen::VectorXd> y,
                                 const Eigen::Map<Eigen::VectorXd> weight, const Eigen::Map<Eigen::VectorXd> start,
                                 const Eigen::Map<Eigen::VectorXd> fitted,
                                 const Eigen::Map<Eigen::MatrixXd> covariance) {
  const Eigen::Index q = x.cols() + 1;
  if (x.rows() != y.size() || weight.size() != y.size() || fitted.size() != y.size())
    Rcpp::stop("x, y, weight and fitted must have the same number of rows");
  if (start.size() != q || covariance.rows() != q || covariance.cols() != q) Rcpp::stop("start does not fit x");
  return twin::refit_logit(x, y, weight, start, fitted, covariance);
}

// [[Rcpp::export(rng = false)]]
Rcpp::List glue_fit_counterpoise(const Eigen::Map<Eigen::MatrixXd> x, const Eigen::Map<Eigen::VectorXd> z,
                                 Rcpp::Nullable<Rcpp::NumericVector> weight) {
  if (x.rows() != z.size()) Rcpp::stop("x and z must have the same number of rows");
  const OptionalVector s(weight, x.rows());
  return as_list(twin::fit_counterpoise(x, z, s.data()));
}

// weight, arm, target: n; arm and target 0 or 1. tolerance: p raw units for least-variance weights, NULL for entropy.
// The weights come back on all rows, 0 outside the arm and where weight is 0.
// [[Rcpp::export(rng = false)]]
Rcpp::List glue_fit_balancing(const Eigen::Map<Eigen::MatrixXd> x, const Rcpp::NumericVector weight,
                              const Rcpp::NumericVector arm, const Rcpp::NumericVector target,
                              Rcpp::Nullable<Rcpp::NumericVector> tolerance) {
  if (weight.size() != x.rows() || arm.size() != x.rows() || target.size() != x.rows())
    Rcpp::stop("weight, arm and target must have one entry per row");
  const OptionalVector given(tolerance, x.cols());
  const double* slack = given.data();
  double total = 0.0;
  const Eigen::VectorXd means = twin::member_means(x, weight.begin(), target.begin(), total);
  const std::vector<int> rows = twin::member_rows(weight.begin(), arm.begin(), x.rows());
  const twin::BalancingFit fit = slack ? twin::fit_stable(x, rows, weight.begin(), means,
                                                          Eigen::Map<const Eigen::VectorXd>(slack, x.cols()), total)
                                       : twin::fit_entropy(x, rows, weight.begin(), means, total);
  Rcpp::NumericVector spread(x.rows());
  for (std::size_t k = 0; k < rows.size(); ++k) spread[rows[k]] = fit.weight[k];
  const Rcpp::IntegerVector active(fit.active.begin(), fit.active.end());
  return Rcpp::List::create(Rcpp::_["status"] = status_word(fit.status, "infeasible"),
                            Rcpp::_["iterations"] = fit.iterations, Rcpp::_["coefficients"] = fit.coefficients,
                            Rcpp::_["covariance"] = fit.covariance, Rcpp::_["weight"] = spread,
                            Rcpp::_["target"] = Rcpp::wrap(means), Rcpp::_["active"] = active + 1);
}

// start plus the columns times their coefficients, without a vector in between.
// [[Rcpp::export(rng = false)]]
Eigen::VectorXd glue_along_columns(const Rcpp::List columns, const Rcpp::NumericVector coefficients, double start,
                                   double n) {
  if (coefficients.size() != columns.size()) Rcpp::stop("there must be one coefficient per column");
  Eigen::VectorXd out = Eigen::VectorXd::Constant(static_cast<Eigen::Index>(n), start);
  for (R_xlen_t j = 0; j < columns.size(); ++j) {
    const Rcpp::NumericVector column = columns[j];
    if (column.size() != out.size()) Rcpp::stop("columns must have one entry per row");
    out += coefficients[j] * Eigen::Map<const Eigen::VectorXd>(column.begin(), out.size());
  }
  return out;
}

// [[Rcpp::export(rng = false)]]
Rcpp::List glue_cross_products(const Eigen::Map<Eigen::MatrixXd> x, Rcpp::Nullable<Rcpp::NumericVector> weight) {
  const OptionalVector s(weight, x.rows());
  const twin::CrossProducts at = twin::cross_products(x, s.data());
  return Rcpp::List::create(Rcpp::_["total"] = at.total, Rcpp::_["square"] = at.square, Rcpp::_["centre"] = at.centre,
                            Rcpp::_["first"] = at.first, Rcpp::_["second"] = at.second);
}
