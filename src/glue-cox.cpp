#include "kernels/cox.h"  // first: the build breaks if a kernel leans on R
#include <RcppEigen.h>
#include "glue-status.h"

// x: n x q; time, event (0 or 1) and weight (above 0): n. active: columns (from 1) with a coefficient.
// [[Rcpp::export(rng = false)]]
Rcpp::List glue_fit_cox(const Eigen::MatrixXd x, const Eigen::VectorXd time, const Eigen::VectorXd event,
                        const Eigen::VectorXd weight) {
  if (time.size() != x.rows() || event.size() != x.rows() || weight.size() != x.rows())
    Rcpp::stop("time, event and weight must have one entry per row");
  twin::CoxFit fit = twin::fit_cox(x, time, event, weight);
  for (int& column : fit.active) ++column;
  return Rcpp::List::create(Rcpp::_["status"] = status_word(fit.status, "separated"),
                            Rcpp::_["coefficients"] = fit.coefficients, Rcpp::_["covariance"] = fit.covariance,
                            Rcpp::_["active"] = fit.active);
}
