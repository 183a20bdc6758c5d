// Weights that balance: duals of entropy and least-variance weighting, solved by Newton's method over the rows of one
// arm. Methods, "Balancing weights".
#pragma once
#include "regression.h"

namespace twin {
struct BalancingFit {
  FitStatus status = FitStatus::not_converged;  // separated: the target lies outside the hull of the rows
  int iterations = 0;
  VectorXd coefficients;    // p + 1, raw scale; weight of a row = link(its linear predictor)
  MatrixXd covariance;      // inverse of the sum of link'(linear) s (1, x)(1, x)' over the rows, 0 where not active
  VectorXd weight;          // one per row of the arm
  std::vector<int> active;  // columns (0-based) with a multiplier: those that shape the weights
};

// Columns centred at the target, so that the target's moments are 0, on the scale of the rows themselves.
inline Scaling centre_at(const Eigen::Ref<const MatrixXd>& x, const std::vector<int>& rows, const VectorXd& target) {
  Scaling out{target, VectorXd(x.cols())};
  const double n = static_cast<double>(rows.size());
  for (Index j = 0; j < x.cols(); ++j) {
    double mean = 0.0, square = 0.0;
    for (int i : rows) mean += x(i, j);
    mean /= n;
    for (int i : rows) square += (x(i, j) - mean) * (x(i, j) - mean);
    const double spread = std::sqrt(square / n);
    out.inverse_scale[j] = spread > 1e-13 * std::abs(mean) && spread > 0.0 ? 1.0 / spread : 1.0;
  }
  return out;
}

inline std::vector<int> member_rows(const double* weight, const double* arm, Index n) {
  std::vector<int> rows;
  rows.reserve(n);
  for (Index i = 0; i < n; ++i)
    if (arm[i] > 0.5 && weight[i] > 0.0) rows.push_back(static_cast<int>(i));
  return rows;
}

inline double total_weight(const std::vector<int>& rows, const double* weight) {
  if (!weight) return static_cast<double>(rows.size());
  double total = 0.0;
  for (int i : rows) total += weight[i];
  return total;
}

// Solves the dual of some of the rows and follows its information on all of them: about three gradients bring the gap
// near 1e-6, where one full evaluation is enough. False when the part has no solution or lacks a column.
inline bool start_from_part(Regression& problem, RegressionState& at, Regression& part_problem, double part_share,
                            double total) {
  const Index q = at.beta.size();
  RegressionState part;
  part.beta = at.beta;
  part_problem.evaluate(part);
  const std::vector<int> active = independent_columns(part.information);
  int iterations = 0;
  if (static_cast<Index>(active.size()) < q) return false;
  if (meet_moments(part_problem, part, active, total * part_share, 1e-6, true, false, iterations) !=
      FitStatus::converged)
    return false;
  RegressionState state;
  state.beta = part.beta;
  state.information = part.information / part_share;
  double before = 1e300;
  for (int k = 0; k < 6; ++k) {
    problem.slope(state);
    const double gap = largest_gap(state, active);
    if (!(gap < 0.5 * before)) return false;
    before = gap;
    bool solved = true;
    const VectorXd step = newton_step(state, active, solved);
    if (!solved) return false;
    state.beta += step;
    if (gap <= 1e-3 * total) break;
  }
  at.beta = state.beta;
  return true;
}

// Means of the columns of x with weights weight * member (n each).
inline VectorXd member_means(const Eigen::Ref<const MatrixXd>& x, const double* weight, const double* member,
                             double& total) {
  const Index n = x.rows();
  VectorXd share(n);
  for (Index i = 0; i < n; ++i) share[i] = weight[i] * member[i];
  total = share.sum();
  return x.transpose() * share / total;
}

// Hainmueller (2012): weights exp(b0 + x'b) of the chosen rows, least Kullback-Leibler divergence from `weight`, such
// that they sum to `total` and their means are `target`. A part of the rows gives the start.
inline BalancingFit fit_entropy(const Eigen::Ref<const MatrixXd>& x, const std::vector<int>& rows, const double* weight,
                                const VectorXd& target, double total) {
  if (rows.empty() || target.size() != x.cols()) throw std::invalid_argument("fit_entropy: lengths differ or are zero");
  const Index p = x.cols();
  const bool many_rows = static_cast<Index>(rows.size()) > kManyRows;
  std::vector<int> part;
  if (many_rows) {
    const std::size_t stride = rows.size() / std::max<std::size_t>(rows.size() / 30, 5000);
    for (std::size_t k = stride / 2; k < rows.size(); k += stride) part.push_back(rows[k]);
  }
  const Scaling scaling = centre_at(x, many_rows ? part : rows, target);
  VectorXd pull = VectorXd::Zero(p + 1);
  pull[0] = total;
  Regression problem(plain_isa::calibrate_fit, x, nullptr, weight, scaling, &rows, pull);
  const double base = total_weight(rows, weight);
  RegressionState at;
  at.beta = VectorXd::Zero(p + 1);
  at.beta[0] = std::log(total / base);
  if (many_rows) {
    problem.pack();
    const double share = total_weight(part, weight) / base;
    Regression part_problem(plain_isa::calibrate_fit, x, nullptr, weight, scaling, &part, pull * share);
    part_problem.pack();
    start_from_part(problem, at, part_problem, share, total);
  }
  problem.evaluate(at);
  const std::vector<int> active = independent_columns(at.information);
  BalancingFit fit;
  fit.status = meet_moments(problem, at, active, total, 1e-10, true, many_rows, fit.iterations);
  RawSolution raw = to_raw_scale(at, active, scaling);
  fit.coefficients = std::move(raw.coefficients);
  fit.covariance = std::move(raw.covariance);
  fit.weight = std::move(problem.fitted());
  for (int j : active)
    if (j > 0) fit.active.push_back(j - 1);
  return fit;
}

// Imai & Ratkovic (2014), just-identified, ATE: the logit whose inverse weights balance every mean. The objective
// sum s (u - exp(-u)), u = (2z - 1) x'b, is concave and has those moments as its gradient.
inline RegressionFit fit_counterpoise(const Eigen::Ref<const MatrixXd>& x, const Eigen::Ref<const VectorXd>& z,
                                      const double* weight) {
  if (x.rows() != z.size() || x.rows() == 0)
    throw std::invalid_argument("fit_counterpoise: lengths differ or are zero");
  const Scaling scaling = standardise(x);
  RegressionFit fit;
  Regression problem(plain_isa::counterpoise_fit, x, z.data(), weight, scaling);
  RegressionState at;
  const RegressionFit logit = fit_curved(plain_isa::logit_fit, x, z, weight);
  at.beta = logit.status == FitStatus::converged ? to_standard_scale(logit.coefficients.data(), scaling)
                                                 : VectorXd::Zero(x.cols() + 1);
  problem.evaluate(at);
  const std::vector<int> active = independent_columns(at.information);
  name_aliased(active, x.cols(), fit);
  double total = static_cast<double>(x.rows());
  if (weight) total = Eigen::Map<const VectorXd>(weight, x.rows()).sum();
  fit.status = logit.status;
  fit.direction = logit.direction;
  if (logit.status != FitStatus::separated)
    fit.status = meet_moments(problem, at, active, total, 1e-10, false, x.rows() > kManyRows, fit.iterations);
  finish(problem, at, active, scaling, fit);
  return fit;
}

// Zubizarreta (2015): non-negative weights of the chosen rows with the least sum of s w^2, summing (times s) to
// `total`, whose means lie within `tolerance` (p, raw units) of `target`. The dual in (b0, b), w = max(0, b0 + x'b), is
// piecewise quadratic with an absolute-value penalty: proximal Newton with step halving.
inline BalancingFit fit_stable(const Eigen::Ref<const MatrixXd>& x, const std::vector<int>& rows, const double* weight,
                               const VectorXd& target, const VectorXd& tolerance, double total) {
  if (rows.empty() || target.size() != x.cols() || tolerance.size() != x.cols())
    throw std::invalid_argument("fit_stable: lengths differ or are zero");
  const Index p = x.cols();
  const Scaling scaling = centre_at(x, rows, target);
  VectorXd pull = VectorXd::Zero(p + 1), bound = VectorXd::Zero(p + 1);
  pull[0] = total;
  bound.tail(p) = total * tolerance.cwiseProduct(scaling.inverse_scale);
  Regression problem(plain_isa::least_square_fit, x, nullptr, weight, scaling, &rows, pull);
  RegressionState at;
  at.beta = VectorXd::Zero(p + 1);
  at.beta[0] = total / total_weight(rows, weight);
  problem.evaluate(at);
  BalancingFit fit;
  fit.status = meet_bounds(problem, at, bound, total, total_weight(rows, weight), fit.iterations);
  std::vector<int> active{0};
  for (int j = 1; j <= p; ++j)
    if (at.beta[j] != 0.0) {
      active.push_back(j);
      fit.active.push_back(j - 1);
    }
  RawSolution raw = to_raw_scale(at, active, scaling);
  fit.coefficients = std::move(raw.coefficients);
  fit.covariance = std::move(raw.covariance);
  fit.weight = std::move(problem.fitted());
  return fit;
}
}  // namespace twin
