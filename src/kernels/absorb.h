// What is left of columns after any number of fixed effects: least squares on their indicators by conjugate gradients,
// scaled by the indicators' own weights. The system is singular (effects share a constant), which leaves the fit and
// hence the residuals unique. O(rows x effects) per step.
#pragma once
#include <Eigen/Dense>
#include <cmath>
#include <vector>

namespace twin {
struct Effects {
  std::vector<const int*> codes;  // per effect n codes from 0
  std::vector<int> levels;
  const double* weight;  // n
  Eigen::Index n;

  Eigen::Index size() const {
    Eigen::Index total = 0;
    for (const int count : levels) total += count;
    return total;
  }
  // indicators' = sum of w v by level
  Eigen::VectorXd gather(const Eigen::Ref<const Eigen::VectorXd>& v) const {
    Eigen::VectorXd out = Eigen::VectorXd::Zero(size());
    Eigen::Index start = 0;
    for (std::size_t k = 0; k < codes.size(); ++k) {
      for (Eigen::Index i = 0; i < n; ++i) out[start + codes[k][i]] += weight[i] * v[i];
      start += levels[k];
    }
    return out;
  }
  // indicators times coefficients
  Eigen::VectorXd spread(const Eigen::VectorXd& a) const {
    Eigen::VectorXd out = Eigen::VectorXd::Zero(n);
    Eigen::Index start = 0;
    for (std::size_t k = 0; k < codes.size(); ++k) {
      for (Eigen::Index i = 0; i < n; ++i) out[i] += a[start + codes[k][i]];
      start += levels[k];
    }
    return out;
  }
};

// Replaces each column by its residual. Returns false when a column did not settle: the gap of the normal equations,
// relative to its start, is still above `tolerance` after `most` steps.
inline bool absorb_effects(Eigen::Ref<Eigen::MatrixXd> columns, const Effects& effects, double tolerance = 1e-11,
                           int most = 5000) {
  const Eigen::VectorXd own = effects.gather(Eigen::VectorXd::Ones(effects.n));
  const Eigen::VectorXd scale = (own.array() > 0.0).select(own.array().inverse(), 0.0).matrix();
  for (Eigen::Index j = 0; j < columns.cols(); ++j) {
    Eigen::VectorXd residual = columns.col(j);
    Eigen::VectorXd gap = effects.gather(residual);
    Eigen::VectorXd step = scale.cwiseProduct(gap);
    double size = gap.dot(step);
    const double start = size;
    int count = 0;
    while (size > tolerance * tolerance * start && size > 0.0) {
      if (++count > most) return false;
      const Eigen::VectorXd moved = effects.spread(step);
      double curvature = 0.0;
      for (Eigen::Index i = 0; i < effects.n; ++i) curvature += effects.weight[i] * moved[i] * moved[i];
      if (curvature <= 0.0) break;
      residual -= size / curvature * moved;
      gap = effects.gather(residual);
      const Eigen::VectorXd scaled = scale.cwiseProduct(gap);
      const double next = gap.dot(scaled);
      step = scaled + next / size * step;
      size = next;
    }
    columns.col(j) = residual;
  }
  return true;
}
}  // namespace twin
