// Weighted empirical distribution functions of two arms, and counts of Walsh averages.
#pragma once
#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <memory>
#include <stdexcept>
#include <utility>
#include <vector>

namespace twin {
struct DistributionGap {
  double largest = 0.0;  // Kolmogorov-Smirnov
  double mean = 0.0;     // mean over the pooled distinct values of units with weight
};

// A unit's value and its weight in each of K samples, positive for treated and negative for control, side by side: a
// walk through separate arrays in sorted order would miss the cache once per unit and array.
template <int K>
struct WeighedValue {
  double x;
  double weight[K];
};

// Spreads values over buckets of about equal size by a rising, piecewise linear map: equal cells over the range of a
// sorted sample, each with as many buckets as it has of the sample's share. No search, so no guess that can go wrong.
class BucketMap {
 public:
  BucketMap(const std::vector<double>& sample, int buckets) : first_(kCells + 2), count_(kCells + 2) {
    low_ = sample.front();
    const double width = sample.back() - low_;
    per_unit_ = width > 0.0 && std::isfinite(kCells / width) ? kCells / width : 0.0;
    std::size_t seen = 0;
    for (int c = 0; c <= kCells; ++c) {
      first_[c] = static_cast<double>(seen * buckets / sample.size());
      while (seen < sample.size() && std::min(place(sample[seen]), kCells + 0.5) < c + 1) ++seen;
      count_[c] = static_cast<double>(seen * buckets / sample.size()) - first_[c];
    }
  }
  int operator()(double value) const {
    const double at = place(value);
    const int cell = static_cast<int>(at);
    return static_cast<int>(first_[cell] + (at - cell) * count_[cell]);
  }

 private:
  static constexpr int kCells = 4096;
  // Where the value lies, in cells; beyond the sample's range it stays at the ends.
  double place(double value) const {
    return std::min(std::max((value - low_) * per_unit_, 0.0), static_cast<double>(kCells));
  }
  std::vector<double> first_, count_;
  double low_, per_unit_;
};

// Sorts a few units by counting, for each, how many belong before it: no branch depends on the data.
template <int K>
void sort_few(WeighedValue<K>* units, int count) {
  constexpr int kFew = 96;
  if (count > kFew) {
    std::sort(units, units + count, [](const WeighedValue<K>& a, const WeighedValue<K>& b) { return a.x < b.x; });
    return;
  }
  double key[kFew];
  WeighedValue<K> copy[kFew];
  for (int i = 0; i < count; ++i) {
    key[i] = units[i].x;
    copy[i] = units[i];
  }
  for (int i = 0; i < count; ++i) {
    const double mine = key[i];
    int before = 0;
    for (int j = 0; j < i; ++j) before += key[j] <= mine;
    for (int j = i + 1; j < count; ++j) before += key[j] < mine;
    units[before] = copy[i];
  }
}

// Units by rising x: thrown into about n / 16 buckets (at most 65,000: they are numbered in 16 bits), then sorted within
// each, which fits the nearest cache. Equal values share a bucket. O(n log n), without n-sized jumps.
template <int K>
std::unique_ptr<WeighedValue<K>[]> sort_by_value(const double* x, const int* z, const double* weights, Eigen::Index n) {
  const Eigen::Index sample_size = std::min<Eigen::Index>(n, 16384);
  std::vector<double> sample(sample_size);
  for (Eigen::Index i = 0; i < sample_size; ++i) sample[i] = x[i * n / sample_size];
  std::sort(sample.begin(), sample.end());
  const int buckets = static_cast<int>(std::min<Eigen::Index>(65000, 1 + n / 16));
  const BucketMap bucket_of(sample, buckets);
  std::vector<std::uint16_t> bucket(n);
  std::vector<Eigen::Index> start(buckets + 2, 0);
  for (Eigen::Index i = 0; i < n; ++i) {
    bucket[i] = static_cast<std::uint16_t>(bucket_of(x[i]));
    ++start[bucket[i] + 1];
  }
  for (int b = 0; b <= buckets; ++b) start[b + 1] += start[b];
  std::unique_ptr<WeighedValue<K>[]> sorted(new WeighedValue<K>[n]);
  std::vector<Eigen::Index> next(start.begin(), start.end() - 1);
  for (Eigen::Index i = 0; i < n; ++i) {
    WeighedValue<K>& unit = sorted[next[bucket[i]]++];
    unit.x = x[i];
    for (int k = 0; k < K; ++k) unit.weight[k] = z[i] == 1 ? weights[n * k + i] : -weights[n * k + i];
  }
  for (int b = 0; b <= buckets; ++b) sort_few<K>(sorted.get() + start[b], static_cast<int>(start[b + 1] - start[b]));
  return sorted;
}

// Gaps of K samples from one sort. Units of weight 0 are passed over: their values do not count as values of the
// sample.
template <int K>
void gaps_of_samples(const double* x, const int* z, const double* weights, Eigen::Index n, DistributionGap* gaps) {
  const auto sorted = sort_by_value<K>(x, z, weights, n);
  double scale[K][2] = {}, reached[K] = {}, sum[K] = {};
  Eigen::Index values[K] = {};
  for (int k = 0; k < K; ++k) {
    for (Eigen::Index i = 0; i < n; ++i) scale[k][z[i]] += weights[n * k + i];
    for (double& total : scale[k]) total = 1.0 / total;
  }
  for (Eigen::Index i = 0; i < n;) {
    const double here = sorted[i].x;
    bool counted[K] = {};
    for (; i < n && sorted[i].x == here; ++i) {
      for (int k = 0; k < K; ++k) {
        const double weight = sorted[i].weight[k];
        reached[k] += weight * scale[k][weight > 0.0];
        counted[k] = counted[k] || weight != 0.0;
      }
    }
    for (int k = 0; k < K; ++k) {
      if (!counted[k]) continue;
      const double difference = std::abs(reached[k]);
      gaps[k].largest = std::max(gaps[k].largest, difference);
      sum[k] += difference;
      ++values[k];
    }
  }
  for (int k = 0; k < K; ++k) gaps[k].mean = values[k] > 0 ? sum[k] / static_cast<double>(values[k]) : 0.0;
}

// One gap per column of `weights` (n x k). x: n finite values; z: n, 0 or 1; every arm has some weight. O(n log n).
inline std::vector<DistributionGap> distribution_gaps(const Eigen::Ref<const Eigen::VectorXd>& x, const int* z,
                                                      const Eigen::Ref<const Eigen::MatrixXd>& weights) {
  const Eigen::Index n = x.size(), samples = weights.cols();
  if (weights.rows() != n) throw std::invalid_argument("distribution_gaps: one row of weights per unit");
  std::vector<DistributionGap> gaps(samples);
  Eigen::Index done = 0;
  for (; done + 2 <= samples; done += 2) gaps_of_samples<2>(x.data(), z, weights.col(done).data(), n, &gaps[done]);
  if (done < samples) gaps_of_samples<1>(x.data(), z, weights.col(done).data(), n, &gaps[done]);
  return gaps;
}

struct ArmMoments {
  double mean[2], variance[2];
};

// Means and variances by arm with weights v; variance sum v (x - m)^2 / (sum v - sum v^2 / sum v). Two passes, O(n).
inline ArmMoments arm_moments(const double* x, const int* z, const double* v, Eigen::Index n) {
  double total1 = 0, total0 = 0, squares1 = 0, squares0 = 0, first1 = 0, first0 = 0;
  for (Eigen::Index i = 0; i < n; ++i) {
    const double v1 = z[i] * v[i], v0 = v[i] - v1;
    total1 += v1;
    total0 += v0;
    squares1 += v1 * v1;
    squares0 += v0 * v0;
    first1 += v1 * x[i];
    first0 += v0 * x[i];
  }
  ArmMoments out;
  out.mean[1] = first1 / total1;
  out.mean[0] = first0 / total0;
  double second1 = 0, second0 = 0;
  for (Eigen::Index i = 0; i < n; ++i) {
    const double v1 = z[i] * v[i], v0 = v[i] - v1;
    second1 += v1 * (x[i] - out.mean[1]) * (x[i] - out.mean[1]);
    second0 += v0 * (x[i] - out.mean[0]) * (x[i] - out.mean[0]);
  }
  out.variance[1] = second1 / (total1 - squares1 / total1);
  out.variance[0] = second0 / (total0 - squares0 / total0);
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
