// Newton's method from sums: value, gradient and information of a concave objective at a point, whoever adds them up.
// The second of core's two floors; regression.h makes the sums from rows in memory.
#pragma once
#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <vector>

namespace twin {
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

enum class FitStatus { converged, separated, not_converged };

struct Scaling {
  VectorXd centre, inverse_scale;
};

struct RegressionState {
  VectorXd beta, gradient;
  MatrixXd information;
  double loglik = 0.0;
};

// How far rows of positive weight reach along a direction.
struct Reach {
  double least = 0.0, most = 0.0;
};

// Where sums come from. With `by_arm` a row's reach counts with the sign of its arm. `pull` (empty for none) is a
// vector of q in the gradient that is no row's: total and target of a weighting problem.
class SumsSource {
 public:
  virtual ~SumsSource() = default;
  virtual void evaluate(RegressionState& at) = 0;  // value, gradient and information
  virtual void slope(RegressionState& at) = 0;     // the gradient; the others stay those of a nearby point
  virtual void predict(RegressionState& at) = 0;   // what the source holds by row, at the answer; no sums
  virtual Reach reach(const VectorXd& direction, bool by_arm) = 0;
  virtual const VectorXd& pull() const = 0;
};

// Albert & Anderson (1984): the arms are separated when some direction d has (2y - 1) x'd >= 0 for every unit and
// > 0 for some. Late Newton steps of a separated fit point along such a direction; here that is certified.
inline bool separates(SumsSource& sums, const VectorXd& step) {
  const Reach along = sums.reach(step, true);
  return along.most > 0.0 && along.least >= -1e-4 * along.most;
}

// A direction that no row of positive weight exceeds while the pull does not fall short of it: then the pull lies
// outside the rows' convex hull and the objective rises for ever.
inline bool escapes(SumsSource& sums, const VectorXd& step) {
  const Reach along = sums.reach(step, false);
  const double scale = std::max(std::abs(along.least), std::abs(along.most));
  return sums.pull().dot(step) / sums.pull()[0] >= along.most - 1e-6 * scale;
}

// Columns of a Gram matrix (lower triangle) that the ones before them explain: Cholesky in the given order, a pivot
// below `tolerance` of the column's own size drops the column. Tolerance 1e-10 is a multiple correlation within
// 1e-10 of one; finer differences are lost in the rounding of the sums.
inline std::vector<int> dependent_columns(const MatrixXd& gram, double tolerance = 1e-10) {
  const Index q = gram.rows();
  MatrixXd factor = MatrixXd::Zero(q, q);
  std::vector<int> dropped;
  for (Index j = 0; j < q; ++j) {
    for (Index k = 0; k < j; ++k) {
      if (factor(k, k) == 0.0) continue;
      factor(j, k) = (gram(j, k) - factor.row(j).head(k).dot(factor.row(k).head(k))) / factor(k, k);
    }
    const double left = gram(j, j) - factor.row(j).head(j).squaredNorm();
    if (left > tolerance * gram(j, j) && gram(j, j) > 0.0)
      factor(j, j) = std::sqrt(left);
    else
      dropped.push_back(static_cast<int>(j));
  }
  return dropped;
}

inline std::vector<int> independent_columns(const MatrixXd& gram) {
  const std::vector<int> dropped = dependent_columns(gram);
  std::vector<int> active;
  for (int j = 0; j < gram.rows(); ++j)
    if (std::find(dropped.begin(), dropped.end(), j) == dropped.end()) active.push_back(j);
  return active;
}

inline VectorXd newton_step(const RegressionState& at, const std::vector<int>& active, bool& solved) {
  const Index k = static_cast<Index>(active.size());
  MatrixXd information(k, k);
  VectorXd gradient(k), step = VectorXd::Zero(at.beta.size());
  for (Index a = 0; a < k; ++a) {
    gradient[a] = at.gradient[active[a]];
    for (Index b = 0; b < k; ++b) information(a, b) = at.information(active[a], active[b]);
  }
  Eigen::LLT<MatrixXd> factor(information);
  solved = factor.info() == Eigen::Success;
  if (!solved) return step;
  const VectorXd reduced = factor.solve(gradient);
  for (Index a = 0; a < k; ++a) step[active[a]] = reduced[a];
  return step;
}

// Newton with step halving from `at.beta`; `at` comes evaluated. Stops when the last step moved no standardised
// coefficient by more than 1e-5: the error left is about its square. With many rows the information is then not summed
// again (it moves by less than 1e-5 of itself).
inline FitStatus climb(SumsSource& sums, RegressionState& at, const std::vector<int>& active, bool many_rows,
                       int& iterations, VectorXd& direction, int most_iterations = 60) {
  bool solved = true;
  for (iterations = 1; iterations <= most_iterations; ++iterations) {
    VectorXd step = newton_step(at, active, solved);
    if (!solved) break;
    direction = step;
    if (many_rows && step.cwiseAbs().maxCoeff() <= 1e-5) {
      at.beta += step;
      sums.predict(at);
      return FitStatus::converged;
    }
    RegressionState next;
    int halvings = 0;
    for (;; ++halvings) {
      next.beta = at.beta + step;
      sums.evaluate(next);
      if (next.loglik >= at.loglik - 1e-10 * (1.0 + std::abs(at.loglik)) || halvings == 30) break;
      step *= 0.5;
    }
    at = next;
    if (step.cwiseAbs().maxCoeff() <= 1e-5 && halvings == 0) return FitStatus::converged;
    if (iterations >= 15 && separates(sums, direction)) return FitStatus::separated;
  }
  return separates(sums, direction) ? FitStatus::separated : FitStatus::not_converged;
}

inline double largest_gap(const RegressionState& at, const std::vector<int>& active) {
  double gap = 0.0;
  for (int j : active) gap = std::max(gap, std::abs(at.gradient[j]));
  return gap;
}

// Newton on a dual until every moment is met to `accuracy` of the total, in sds of the column; `at` comes evaluated.
// has_target: the moments have a target that may lie out of reach. many_rows: once within 1e-5 of the total the
// information is summed no more, since it moves by less than that of itself.
inline FitStatus meet_moments(SumsSource& sums, RegressionState& at, const std::vector<int>& active, double total,
                              double accuracy, bool has_target, bool many_rows, int& iterations) {
  for (iterations = 1; iterations <= 100; ++iterations) {
    const double gap = largest_gap(at, active);
    if (gap <= accuracy * total) return FitStatus::converged;
    bool solved = true;
    const VectorXd full_step = newton_step(at, active, solved);
    if (!solved) break;
    if (many_rows && gap <= 1e-5 * total) {
      at.beta += full_step;
      sums.slope(at);
      continue;
    }
    VectorXd step = full_step;
    RegressionState next;
    for (int halvings = 0; halvings <= 40; ++halvings, step *= 0.5) {
      next.beta = at.beta + step;
      sums.evaluate(next);
      if (next.loglik >= at.loglik - 1e-12 * (1.0 + std::abs(at.loglik))) break;
    }
    at = next;
    if (has_target && iterations >= 10 && (escapes(sums, full_step) || escapes(sums, at.beta)))
      return FitStatus::separated;
  }
  return has_target && escapes(sums, at.beta) ? FitStatus::separated : FitStatus::not_converged;
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

// How far the dual of least-variance weights is from its answer: the largest moment beyond its bound.
inline double bound_violation(const RegressionState& at, const VectorXd& bound) {
  double violation = std::abs(at.gradient[0]);
  for (Index j = 1; j < at.beta.size(); ++j) {
    const double away = at.beta[j] > 0.0   ? at.gradient[j] - bound[j]
                        : at.beta[j] < 0.0 ? at.gradient[j] + bound[j]
                                           : std::max(0.0, std::abs(at.gradient[j]) - bound[j]);
    violation = std::max(violation, std::abs(away));
  }
  return violation;
}

// Proximal Newton on that dual, moments within bound (q, entry 0 is 0) of the pull; `at` comes evaluated. base: the
// weight of the rows.
inline FitStatus meet_bounds(SumsSource& sums, RegressionState& at, const VectorXd& bound, double total, double base,
                             int& iterations) {
  const auto value = [&](const RegressionState& state) { return state.loglik - bound.dot(state.beta.cwiseAbs()); };
  for (iterations = 1; iterations <= 200; ++iterations) {
    if (bound_violation(at, bound) <= 1e-10 * total) return FitStatus::converged;
    if (at.beta.cwiseAbs().maxCoeff() > 1e7 * (1.0 + total / base)) break;
    at.information.diagonal().array() += 1e-12 * (1.0 + at.information.diagonal().maxCoeff());
    VectorXd step = penalised_step(at, bound);
    RegressionState next;
    for (int halvings = 0; halvings <= 40; ++halvings, step *= 0.5) {
      next.beta = at.beta + step;
      sums.evaluate(next);
      if (value(next) >= value(at) - 1e-13 * (1.0 + std::abs(value(at)))) break;
    }
    at = next;
  }
  return FitStatus::separated;
}

struct RawSolution {
  VectorXd coefficients;  // q, intercept first; 0 where not active
  MatrixXd covariance;    // inverse information; 0 in rows and columns that are not active
};

// Back to the raw scale: beta_raw = T beta with T = diag(1/scale) and a first row that moves the centres.
inline RawSolution to_raw_scale(const RegressionState& at, const std::vector<int>& active, const Scaling& scaling) {
  RawSolution out;
  const Index k = static_cast<Index>(active.size());
  MatrixXd information(k, k), to_raw = MatrixXd::Zero(at.beta.size(), k);
  for (Index a = 0; a < k; ++a) {
    for (Index b = 0; b < k; ++b) information(a, b) = at.information(active[a], active[b]);
    if (active[a] == 0) {
      to_raw(0, a) = 1.0;
      continue;
    }
    const Index j = active[a] - 1;
    to_raw(active[a], a) = scaling.inverse_scale[j];
    to_raw(0, a) = -scaling.centre[j] * scaling.inverse_scale[j];
  }
  VectorXd reduced(k);
  for (Index a = 0; a < k; ++a) reduced[a] = at.beta[active[a]];
  out.coefficients = to_raw * reduced;
  Eigen::LLT<MatrixXd> factor(information);
  out.covariance = factor.info() == Eigen::Success ? MatrixXd(to_raw * factor.solve(to_raw.transpose()))
                                                   : MatrixXd::Zero(at.beta.size(), at.beta.size());
  return out;
}

}  // namespace twin
