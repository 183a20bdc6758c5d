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

inline double largest_gap(const RegressionState& at, const std::vector<int>& active) {
  double gap = 0.0;
  for (int j : active) gap = std::max(gap, std::abs(at.gradient[j]));
  return gap;
}

// Newton on a dual until every moment is met to `accuracy` of the total, in sds of the column; `at` comes evaluated.
// has_target: the moments have a target that may lie out of reach. many_rows: once within 1e-5 of the total the
// information is summed no more, since it moves by less than that of itself.
inline FitStatus meet_moments(Regression& problem, RegressionState& at, const std::vector<int>& active, double total,
                              double accuracy, bool has_target, bool many_rows, VectorXd& linear, VectorXd& fitted,
                              int& iterations) {
  for (iterations = 1; iterations <= 100; ++iterations) {
    const double gap = largest_gap(at, active);
    if (gap <= accuracy * total) return FitStatus::converged;
    bool solved = true;
    const VectorXd full_step = newton_step(at, active, solved);
    if (!solved) break;
    if (many_rows && gap <= 1e-5 * total) {
      at.beta += full_step;
      problem.slope(at, linear, fitted);
      continue;
    }
    VectorXd step = full_step;
    RegressionState next;
    for (int halvings = 0; halvings <= 40; ++halvings, step *= 0.5) {
      next.beta = at.beta + step;
      problem.evaluate(next, linear, fitted);
      if (next.loglik >= at.loglik - 1e-12 * (1.0 + std::abs(at.loglik))) break;
    }
    at = next;
    if (has_target && iterations >= 10 && (problem.escapes(full_step) || problem.escapes(at.beta)))
      return FitStatus::separated;
  }
  return has_target && problem.escapes(at.beta) ? FitStatus::separated : FitStatus::not_converged;
}

// Solves the dual of some of the rows and follows its information on all of them: about three gradients bring the gap
// near 1e-6, where one full evaluation is enough. False when the part has no solution or lacks a column.
inline bool start_from_part(Regression& problem, RegressionState& at, Regression& part_problem, double part_share,
                            double total, VectorXd& linear, VectorXd& fitted) {
  const Index q = at.beta.size();
  VectorXd part_linear(part_problem.size()), part_fitted(part_problem.size());
  RegressionState part;
  part.beta = at.beta;
  part_problem.evaluate(part, part_linear, part_fitted);
  const std::vector<int> active = independent_columns(part.information);
  int iterations = 0;
  if (static_cast<Index>(active.size()) < q) return false;
  if (meet_moments(part_problem, part, active, total * part_share, 1e-6, true, false, part_linear, part_fitted,
                   iterations) != FitStatus::converged)
    return false;
  RegressionState state;
  state.beta = part.beta;
  state.information = part.information / part_share;
  double before = 1e300;
  for (int k = 0; k < 6; ++k) {
    problem.slope(state, linear, fitted);
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
  VectorXd linear(rows.size()), fitted(rows.size());
  if (many_rows) {
    problem.pack();
    const double share = total_weight(part, weight) / base;
    Regression part_problem(plain_isa::calibrate_fit, x, nullptr, weight, scaling, &part, pull * share);
    part_problem.pack();
    start_from_part(problem, at, part_problem, share, total, linear, fitted);
  }
  problem.evaluate(at, linear, fitted);
  const std::vector<int> active = independent_columns(at.information);
  BalancingFit fit;
  fit.status = meet_moments(problem, at, active, total, 1e-10, true, many_rows, linear, fitted, fit.iterations);
  RegressionFit raw;
  to_raw_scale(at, active, scaling, raw);
  fit.coefficients = raw.coefficients;
  fit.covariance = raw.covariance;
  fit.weight = fitted;
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
  fit.linear.resize(x.rows());
  fit.fitted.resize(x.rows());
  Regression problem(plain_isa::counterpoise_fit, x, z.data(), weight, scaling);
  RegressionState at;
  const RegressionFit logit = fit_curved(plain_isa::logit_fit, x, z, weight);
  at.beta = logit.status == FitStatus::converged ? to_standard_scale(logit.coefficients.data(), scaling)
                                                 : VectorXd::Zero(x.cols() + 1);
  problem.evaluate(at, fit.linear, fit.fitted);
  const std::vector<int> active = independent_columns(at.information);
  name_aliased(active, x.cols(), fit);
  double total = static_cast<double>(x.rows());
  if (weight) total = Eigen::Map<const VectorXd>(weight, x.rows()).sum();
  fit.status = logit.status;
  fit.direction = logit.direction;
  if (logit.status != FitStatus::separated)
    fit.status = meet_moments(problem, at, active, total, 1e-10, false, x.rows() > kManyRows, fit.linear, fit.fitted,
                              fit.iterations);
  fit.loglik = at.loglik;
  to_raw_scale(at, active, scaling, fit);
  return fit;
}

// Minimises gradient'd + d'information d / 2 + sum_j bound_j |beta_j + d_j| by coordinate descent; entry 0 is free.
inline VectorXd penalised_step(const RegressionState& at, const VectorXd& bound) {
  const Index q = at.beta.size();
  VectorXd step = VectorXd::Zero(q), slope = -at.gradient;  // slope of the smooth part, of the objective to minimise
  for (int sweep = 0; sweep < 2000; ++sweep) {
    double moved = 0.0;
    for (Index j = 0; j < q; ++j) {
      const double curvature = at.information(j, j);
      if (curvature <= 0.0) continue;
      const double now = at.beta[j] + step[j], free = now - slope[j] / curvature, cut = bound[j] / curvature;
      const double next = free > cut ? free - cut : free < -cut ? free + cut : 0.0;
      const double change = next - now;
      if (change == 0.0) continue;
      step[j] += change;
      slope += change * at.information.col(j);
      moved = std::max(moved, std::abs(change));
    }
    if (moved <= 1e-13 * (1.0 + at.beta.cwiseAbs().maxCoeff())) break;
  }
  return step;
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
  const auto value = [&](const RegressionState& state) { return state.loglik - bound.dot(state.beta.cwiseAbs()); };
  RegressionState at;
  at.beta = VectorXd::Zero(p + 1);
  at.beta[0] = total / total_weight(rows, weight);
  VectorXd linear(rows.size()), fitted(rows.size());
  problem.evaluate(at, linear, fitted);
  BalancingFit fit;
  const double accuracy = 1e-10 * total;
  for (fit.iterations = 1; fit.iterations <= 200; ++fit.iterations) {
    double violation = std::abs(at.gradient[0]);
    for (Index j = 1; j <= p; ++j) {
      const double away = at.beta[j] > 0.0   ? at.gradient[j] - bound[j]
                          : at.beta[j] < 0.0 ? at.gradient[j] + bound[j]
                                             : std::max(0.0, std::abs(at.gradient[j]) - bound[j]);
      violation = std::max(violation, std::abs(away));
    }
    if (violation <= accuracy) {
      fit.status = FitStatus::converged;
      break;
    }
    if (at.beta.cwiseAbs().maxCoeff() > 1e7 * (1.0 + total / total_weight(rows, weight))) break;
    at.information.diagonal().array() += 1e-12 * (1.0 + at.information.diagonal().maxCoeff());
    VectorXd step = penalised_step(at, bound);
    RegressionState next;
    for (int halvings = 0; halvings <= 40; ++halvings, step *= 0.5) {
      next.beta = at.beta + step;
      problem.evaluate(next, linear, fitted);
      if (value(next) >= value(at) - 1e-13 * (1.0 + std::abs(value(at)))) break;
    }
    at = next;
  }
  if (fit.status != FitStatus::converged) fit.status = FitStatus::separated;
  std::vector<int> active{0};
  for (int j = 1; j <= p; ++j)
    if (at.beta[j] != 0.0) {
      active.push_back(j);
      fit.active.push_back(j - 1);
    }
  RegressionFit raw;
  to_raw_scale(at, active, scaling, raw);
  fit.coefficients = raw.coefficients;
  fit.covariance = raw.covariance;
  fit.weight = fitted;
  return fit;
}
}  // namespace twin
