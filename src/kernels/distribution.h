// Weighted empirical distribution functions of two arms, and counts of Walsh averages.
#pragma once
#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <stdexcept>
#include <utility>
#include <vector>

namespace twin {
struct DistributionGap {
  double largest = 0.0;  // Kolmogorov-Smirnov
  double mean = 0.0;     // mean over the pooled distinct values of units with weight
};

// x, z (0/1), weight: n; order: the rows (1-based, as R counts) by rising x. Units of weight 0 are passed over. O(n).
inline DistributionGap distribution_gap(const Eigen::Ref<const Eigen::VectorXd>& x, const int* order, const int* z,
                                        const Eigen::Ref<const Eigen::VectorXd>& weight) {
  const Eigen::Index n = x.size();
  double total[2] = {0.0, 0.0};
  for (Eigen::Index i = 0; i < n; ++i) total[z[i]] += weight[i];
  double reached[2] = {0.0, 0.0}, sum = 0.0;
  DistributionGap gap;
  Eigen::Index values = 0, i = 0;
  while (i < n) {
    const double here = x[order[i] - 1];
    bool counted = false;
    for (; i < n && x[order[i] - 1] == here; ++i) {
      const int row = order[i] - 1;
      if (weight[row] <= 0.0) continue;
      reached[z[row]] += weight[row];
      counted = true;
    }
    if (!counted) continue;
    const double difference = std::abs(reached[1] / total[1] - reached[0] / total[0]);
    gap.largest = std::max(gap.largest, difference);
    sum += difference;
    ++values;
  }
  gap.mean = values > 0 ? sum / static_cast<double>(values) : 0.0;
  return gap;
}

struct ArmMoments {
  double mean[2], variance[2];
};

// Means and variances by arm with weights v; variance sum v (x - m)^2 / (sum v - sum v^2 / sum v). Two passes, O(n).
inline ArmMoments arm_moments(const Eigen::Ref<const Eigen::VectorXd>& x, const int* z,
                              const Eigen::Ref<const Eigen::VectorXd>& v) {
  double total[2] = {0, 0}, squares[2] = {0, 0}, first[2] = {0, 0}, second[2] = {0, 0};
  for (Eigen::Index i = 0; i < x.size(); ++i) {
    total[z[i]] += v[i];
    squares[z[i]] += v[i] * v[i];
    first[z[i]] += v[i] * x[i];
  }
  ArmMoments out;
  for (int arm = 0; arm < 2; ++arm) out.mean[arm] = first[arm] / total[arm];
  for (Eigen::Index i = 0; i < x.size(); ++i) {
    const double away = x[i] - out.mean[z[i]];
    second[z[i]] += v[i] * away * away;
  }
  for (int arm = 0; arm < 2; ++arm) out.variance[arm] = second[arm] / (total[arm] - squares[arm] / total[arm]);
  return out;
}

// How many of the averages (d_i + d_j) / 2, i <= j, exceed `value`; d sorted upwards. Two pointers, O(n).
inline long long walsh_above(const Eigen::Ref<const Eigen::VectorXd>& sorted, double value) {
  const long long n = sorted.size();
  long long count = 0, low = n;  // [low, n): partners whose average with d_i exceeds the value
  for (long long i = 0; i < n; ++i) {
    while (low > 0 && 0.5 * (sorted[i] + sorted[low - 1]) > value) --low;
    count += n - std::max(low, i);
  }
  return count;
}

// The rank-th largest Walsh average (rank from 1), by halving the interval until its ends are neighbours in double
// precision: about 60 counts.
inline double walsh_largest(const Eigen::Ref<const Eigen::VectorXd>& sorted, long long rank) {
  const long long n = sorted.size(), all = n * (n + 1) / 2;
  if (rank < 1 || rank > all) throw std::invalid_argument("walsh_largest: rank outside the Walsh averages");
  double low = sorted[0], high = sorted[n - 1];
  if (walsh_above(sorted, low) < rank) return low;
  while (true) {  // more than or exactly `rank` averages lie above low, fewer above high
    const double middle = low + 0.5 * (high - low);
    if (middle <= low || middle >= high) return high;
    if (walsh_above(sorted, middle) >= rank) low = middle;
    else high = middle;
  }
}
}  // namespace twin
