// Regressions with unit and period effects, period effects being few: what is left of each column after its unit's
// weighted mean is taken out ("within"), summed into small systems that are then solved exactly. Rows stand sorted by
// unit. A row is u = (indicators of the T periods, its c columns); rows of weight 0 take no part.
#pragma once
#include <Eigen/Dense>
#include <algorithm>
#include <stdexcept>
#include <vector>

namespace twin {
struct WithinRows {
  const double* columns;  // n x c, column by column
  Eigen::Index n;
  int c;
  const int* unit;   // n codes from 0, not falling
  const int* time;   // n codes 0..T-1
  int periods;       // T
  const int* block;  // code from 0 per unit
  int blocks;
};

// Calls f(first row, row after the last, unit) for every unit.
template <class F>
void for_each_unit(const WithinRows& rows, F f) {
  Eigen::Index first = 0;
  while (first < rows.n) {
    Eigen::Index last = first + 1;
    while (last < rows.n && rows.unit[last] == rows.unit[first]) ++last;
    if (last < rows.n && rows.unit[last] < rows.unit[first]) throw std::invalid_argument("rows are not sorted by unit");
    f(first, last, rows.unit[first]);
    first = last;
  }
}

// A unit's weighted means of u over its rows; false where all its weights are 0.
inline bool unit_means(const WithinRows& rows, const double* weight, Eigen::Index first, Eigen::Index last,
                       std::vector<double>& mean) {
  std::fill(mean.begin(), mean.end(), 0.0);
  double total = 0.0;
  for (Eigen::Index i = first; i < last; ++i) {
    const double w = weight[i];
    total += w;
    mean[rows.time[i]] += w;
    for (int j = 0; j < rows.c; ++j) mean[rows.periods + j] += w * rows.columns[j * rows.n + i];
  }
  if (total <= 0.0) return false;
  for (double& value : mean) value /= total;
  return true;
}

// Per block the sum of w (u - unit mean)(u - unit mean)': (T + c) x (T + c), blocks side by side. O(n c^2 + rows x
// periods of their unit).
inline Eigen::MatrixXd within_grams(const WithinRows& rows, const double* weight) {
  const int t = rows.periods, q = t + rows.c;
  Eigen::MatrixXd out = Eigen::MatrixXd::Zero(q, static_cast<Eigen::Index>(q) * rows.blocks);
  std::vector<double> mean(q), away(rows.c);
  std::vector<int> seen;
  for_each_unit(rows, [&](Eigen::Index first, Eigen::Index last, int unit) {
    if (!unit_means(rows, weight, first, last, mean)) return;
    auto gram = out.middleCols(static_cast<Eigen::Index>(q) * rows.block[unit], q);
    double total = 0.0;
    seen.clear();
    for (Eigen::Index i = first; i < last; ++i) {
      const double w = weight[i];
      if (w == 0.0) continue;
      total += w;
      const int at = rows.time[i];
      gram(at, at) += w;
      seen.push_back(at);
      for (int j = 0; j < rows.c; ++j) away[j] = rows.columns[j * rows.n + i] - mean[t + j];
      for (int j = 0; j < rows.c; ++j) {
        gram(t + j, at) += w * away[j];
        for (int k = 0; k <= j; ++k) gram(t + j, t + k) += w * away[j] * away[k];
      }
    }
    // of the period indicators: diag(weights) - total mean mean'
    std::sort(seen.begin(), seen.end());
    seen.erase(std::unique(seen.begin(), seen.end()), seen.end());
    for (const int a : seen) {
      for (const int b : seen) {
        if (b <= a) gram(a, b) -= total * mean[a] * mean[b];
      }
    }
  });
  for (int block = 0; block < rows.blocks; ++block) {
    auto gram = out.middleCols(static_cast<Eigen::Index>(q) * block, q);
    for (int a = 0; a < q; ++a) {
      for (int b = a + 1; b < q; ++b) gram(a, b) = gram(b, a);
    }
  }
  return out;
}

// Residuals e = (u - unit mean)'g, g the coefficients of the unit's block ((T + c) x blocks); means are taken with
// `weight`. Rows belong to pieces, which are units or parts of them. Per piece the sums of shown * e by period (T), and
// of weight * e * column (c): pieces x (T + c). A part's residuals do not sum to 0, so what it moves the unit's mean by
// is taken off (over a whole unit that is nothing). Rows of units without weight count for nothing.
inline Eigen::MatrixXd within_residuals(const WithinRows& rows, const double* weight, const double* shown,
                                        const Eigen::Ref<const Eigen::MatrixXd>& coefficients, const int* piece,
                                        int pieces, bool whole) {
  const int t = rows.periods, q = t + rows.c;
  Eigen::MatrixXd out = Eigen::MatrixXd::Zero(pieces, q);
  std::vector<double> mean(q), left(pieces, 0.0);
  for_each_unit(rows, [&](Eigen::Index first, Eigen::Index last, int unit) {
    if (!unit_means(rows, weight, first, last, mean)) return;
    const double* g = coefficients.col(rows.block[unit]).data();
    double centre = 0.0, total = 0.0;
    for (int k = 0; k < q; ++k) centre += mean[k] * g[k];
    for (Eigen::Index i = first; i < last; ++i) {
      if (shown[i] == 0.0 && weight[i] == 0.0) continue;
      double e = g[rows.time[i]] - centre;
      for (int j = 0; j < rows.c; ++j) e += rows.columns[j * rows.n + i] * g[t + j];
      out(piece[i], rows.time[i]) += shown[i] * e;
      for (int j = 0; j < rows.c; ++j) out(piece[i], t + j) += weight[i] * e * rows.columns[j * rows.n + i];
      left[piece[i]] += weight[i] * e;
      total += weight[i];
    }
    if (whole) return;
    std::fill(mean.begin(), mean.begin() + t, 0.0);
    for (Eigen::Index i = first; i < last; ++i) mean[rows.time[i]] += shown[i] / total;
    for (Eigen::Index i = first; i < last; ++i) {
      double& rest = left[piece[i]];
      if (rest == 0.0) continue;
      for (int k = 0; k < q; ++k) out(piece[i], k) -= rest * mean[k];
      rest = 0.0;
    }
  });
  return out;
}

// Per block and period the sums over its rows of shown * (u - unit mean) (T + c), and of shown (last row): (T + c + 1)
// x (T x blocks). Rows of units without weight are left out.
inline Eigen::MatrixXd within_targets(const WithinRows& rows, const double* weight, const double* shown) {
  const int t = rows.periods, q = t + rows.c;
  Eigen::MatrixXd out = Eigen::MatrixXd::Zero(q + 1, static_cast<Eigen::Index>(t) * rows.blocks);
  std::vector<double> mean(q);
  for_each_unit(rows, [&](Eigen::Index first, Eigen::Index last, int unit) {
    if (!unit_means(rows, weight, first, last, mean)) return;
    for (Eigen::Index i = first; i < last; ++i) {
      if (shown[i] == 0.0) continue;
      auto target = out.col(static_cast<Eigen::Index>(t) * rows.block[unit] + rows.time[i]);
      target[rows.time[i]] += shown[i];
      target[q] += shown[i];
      for (int k = 0; k < t; ++k) target[k] -= shown[i] * mean[k];
      for (int j = 0; j < rows.c; ++j) target[t + j] += shown[i] * (rows.columns[j * rows.n + i] - mean[t + j]);
    }
  });
  return out;
}
}  // namespace twin
