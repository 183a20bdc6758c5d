#include "kernels/newton.h"  // first: the build breaks if a kernel leans on R
#include <RcppEigen.h>
#include "glue-status.h"

namespace {
// Sums that functions of R hand out: at(beta) gives list(value, gradient, information), reach(direction, by_arm) the
// least and the most of what rows reach.
class SumsOfR final : public twin::SumsSource {
 public:
  SumsOfR(const Rcpp::List& sums, const Eigen::VectorXd& pull) : at_(sums["at"]), reach_(sums["reach"]), pull_(pull) {}

  void evaluate(twin::RegressionState& at) override {
    const Rcpp::List found = at_(at.beta);
    at.loglik = Rcpp::as<double>(found["value"]);
    at.gradient = Rcpp::as<Eigen::VectorXd>(found["gradient"]);
    at.information = Rcpp::as<Eigen::MatrixXd>(found["information"]);
    const Eigen::Index q = at.beta.size();
    if (at.gradient.size() != q || at.information.rows() != q || at.information.cols() != q)
      Rcpp::stop("sums must have one entry per coefficient");
    if (pull_.size() == 0) return;
    at.loglik += pull_.dot(at.beta);
    at.gradient += pull_;
  }

  void slope(twin::RegressionState& at) override {
    const Eigen::MatrixXd information = at.information;
    evaluate(at);
    at.information = information;
  }

  void predict(twin::RegressionState&) override {}

  twin::Reach reach(const Eigen::VectorXd& direction, bool by_arm) override {
    const Rcpp::NumericVector found = reach_(direction, by_arm);
    if (found.size() != 2) Rcpp::stop("reach must be two numbers");
    return {found[0], found[1]};
  }

  const Eigen::VectorXd& pull() const override { return pull_; }

 private:
  const Rcpp::Function at_, reach_;
  const Eigen::VectorXd pull_;
};

Rcpp::List as_list(twin::FitStatus status, const char* separated, int iterations, const twin::RegressionState& at) {
  return Rcpp::List::create(Rcpp::_["status"] = status_word(status, separated), Rcpp::_["iterations"] = iterations,
                            Rcpp::_["value"] = at.loglik, Rcpp::_["coefficients"] = at.beta,
                            Rcpp::_["gradient"] = at.gradient, Rcpp::_["information"] = at.information);
}

twin::RegressionState evaluated(SumsOfR& source, const Eigen::VectorXd& start) {
  twin::RegressionState at;
  at.beta = start;
  source.evaluate(at);
  return at;
}

void check_length(const Eigen::VectorXd& vector, const Eigen::VectorXd& start) {
  if (vector.size() != start.size()) Rcpp::stop("a vector must have one entry per coefficient");
}
}  // namespace

// sums: see SumsOfR. Columns should come on like scales, near 1.
// [[Rcpp::export(rng = false)]]
Rcpp::List glue_climb(const Rcpp::List sums, const Eigen::VectorXd start) {
  SumsOfR source(sums, Eigen::VectorXd());
  twin::RegressionState at = evaluated(source, start);
  int iterations = 0;
  Eigen::VectorXd direction = Eigen::VectorXd::Zero(start.size());
  const twin::FitStatus status =
      twin::climb(source, at, twin::independent_columns(at.information), false, iterations, direction);
  return as_list(status, "separated", iterations, at);
}

// pull: what is added to the gradient; its first entry is the total that the weights sum to.
// [[Rcpp::export(rng = false)]]
Rcpp::List glue_meet_moments(const Rcpp::List sums, const Eigen::VectorXd start, const Eigen::VectorXd pull) {
  check_length(pull, start);
  SumsOfR source(sums, pull);
  twin::RegressionState at = evaluated(source, start);
  int iterations = 0;
  const twin::FitStatus status = twin::meet_moments(source, at, twin::independent_columns(at.information), pull[0],
                                                    1e-10, true, false, iterations);
  return as_list(status, "infeasible", iterations, at);
}

// bound: how far each moment may lie from the pull, times the total; base: the weight of the rows.
// [[Rcpp::export(rng = false)]]
Rcpp::List glue_meet_bounds(const Rcpp::List sums, const Eigen::VectorXd start, const Eigen::VectorXd pull,
                            const Eigen::VectorXd bound, double base) {
  check_length(pull, start);
  check_length(bound, start);
  SumsOfR source(sums, pull);
  twin::RegressionState at = evaluated(source, start);
  int iterations = 0;
  const twin::FitStatus status = twin::meet_bounds(source, at, bound, pull[0], base, iterations);
  return as_list(status, "infeasible", iterations, at);
}

// Columns (from 1) that those before them explain.
// [[Rcpp::export(rng = false)]]
std::vector<int> glue_dependent_columns(const Eigen::MatrixXd gram, double tolerance) {
  if (gram.rows() != gram.cols()) Rcpp::stop("a Gram matrix is square");
  std::vector<int> places = twin::dependent_columns(gram, tolerance);
  for (int& place : places) ++place;
  return places;
}
