// Sums over the units of a balanced panel, by block of units: what group-time effects and their joint covariance need.
#pragma once
#include <Eigen/Dense>
#include <vector>

namespace twin {
struct UnitScatter {
  Eigen::MatrixXd scatter;  // (P + 1) x ((P + 1) blocks): sum of u u', u = s (1, y - its first value - centre)
  Eigen::MatrixXd totals;   // (P + 1) x blocks: sum of u
};

// y: P values per unit, unit after unit; s: weight per unit; block: code from 0 per unit; centre: P values taken off,
// so that sums stay small. O(units P^2).
inline UnitScatter unit_scatter(const double* y, Eigen::Index units, int periods, const double* s, const int* block,
                                int blocks, const double* centre) {
  const int d = periods + 1;
  UnitScatter out{Eigen::MatrixXd::Zero(d, static_cast<Eigen::Index>(d) * blocks), Eigen::MatrixXd::Zero(d, blocks)};
  std::vector<double> u(d);
  for (Eigen::Index i = 0; i < units; ++i) {
    const double* own = y + i * periods;
    u[0] = s[i];
    for (int t = 0; t < periods; ++t) u[t + 1] = s[i] * (own[t] - own[0] - centre[t]);
    double* total = out.totals.col(block[i]).data();
    double* gram = out.scatter.data() + static_cast<Eigen::Index>(block[i]) * d * d;
    for (int j = 0; j < d; ++j) {
      const double factor = u[j];
      total[j] += factor;
      double* column = gram + static_cast<Eigen::Index>(j) * d;
      for (int k = 0; k <= j; ++k) column[k] += factor * u[k];
    }
  }
  for (int b = 0; b < blocks; ++b) {
    auto gram = out.scatter.middleCols(static_cast<Eigen::Index>(b) * d, d);
    for (int j = 0; j < d; ++j) {
      for (int k = j + 1; k < d; ++k) gram(k, j) = gram(j, k);
    }
  }
  return out;
}
}  // namespace twin
