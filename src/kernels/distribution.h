// Weighted empirical distribution functions of two arms, and counts of Walsh averages.
#pragma once
#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <functional>
#include <iterator>
#include <limits>
#include <map>
#include <memory>
#include <numeric>
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
    per_unit_ = width > 0.0 && std::isfinite(width) && std::isfinite(kCells / width) ? kCells / width : 0.0;
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
  // Where the value lies, in cells; beyond the sample's range it stays at the ends. All in the first cell where the
  // range can't be divided (it is 0, or more than a double holds).
  double place(double value) const {
    if (per_unit_ == 0.0) return 0.0;
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

// Units by rising x: thrown into about n / 16 buckets (at most 65,000: they are numbered in 16 bits), then sorted
// within each, which fits the nearest cache. Equal values share a bucket. O(n log n), without n-sized jumps.
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

// Of each arm (0, 1): sum and sum of squares of the weights v, and sums of v (x - centre) and v (x - centre)^2.
struct ArmSums {
  double total[2] = {}, square[2] = {}, centre[2] = {}, first[2] = {}, second[2] = {};
};

// The centre is the arm's mean but for rounding, so that nothing cancels. Two passes, O(n).
inline ArmSums arm_sums(const double* x, const int* z, const double* v, Eigen::Index n) {
  ArmSums out;
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
  const double centre1 = first1 / total1, centre0 = first0 / total0;
  double away1 = 0, away0 = 0, second1 = 0, second0 = 0;
  for (Eigen::Index i = 0; i < n; ++i) {
    const double v1 = z[i] * v[i], v0 = v[i] - v1, x1 = x[i] - centre1, x0 = x[i] - centre0;
    away1 += v1 * x1;
    away0 += v0 * x0;
    second1 += v1 * x1 * x1;
    second0 += v0 * x0 * x0;
  }
  return {{total0, total1}, {squares0, squares1}, {centre0, centre1}, {away0, away1}, {second0, second1}};
}

// Around up to `kLanes` values: how many of the Walsh averages (d_i + d_j) / 2, i <= j, exceed each, and the nearest
// averages on both sides; d sorted upwards. Two pointers meet after exactly n steps, whatever the value, so several
// walks run side by side without a branch.
constexpr int kLanes = 4;

struct WalshCount {
  long long above;
  double floor, ceiling;  // the largest average that does not exceed the value, the smallest that does
};

inline void walsh_counts(const double* d, long long n, const double* values, WalshCount* out) {
  constexpr double kNone = std::numeric_limits<double>::infinity();
  long long i[kLanes] = {0}, end[kLanes];  // partners from `end` on exceed the value together with d_i
  for (int k = 0; k < kLanes; ++k) {
    end[k] = n;
    out[k] = {0, -kNone, kNone};
  }
  for (long long step = 0; step < n; ++step) {
    for (int k = 0; k < kLanes; ++k) {
      const double average = 0.5 * (d[i[k]] + d[end[k] - 1]);
      const bool above = average > values[k];
      const long long down = above;
      out[k].above += (down - 1) & (n - end[k]);
      out[k].ceiling = std::min(out[k].ceiling, above ? average : kNone);
      out[k].floor = std::max(out[k].floor, above ? -kNone : average);
      end[k] -= down;
      i[k] += 1 - down;
    }
  }
  for (int k = 0; k < kLanes; ++k) out[k].above += (n - i[k]) * (n - i[k] + 1) / 2;  // all that is left exceeds it
}

// Walsh averages by their place from the largest one down, many places at once. Values are counted in rounds: first
// where a thinned sample has its averages, then close on both sides of where the counts known so far meet a place, now
// and then in the middle. What one place learns narrows the search for the others. Once few averages are left between
// two known values they are laid out and the one wanted is picked.
class WalshSearch {
 public:
  WalshSearch(const double* d, long long n) : d_(d), n_(n), all_(n * (n + 1) / 2) {
    known_[before(d[0])] = all_;
    known_[d[n - 1]] = 0;
  }

  // ranks: places from 1. pause: called after each round.
  template <typename Callback>
  std::vector<double> operator()(const std::vector<long long>& ranks, Callback&& pause) {
    for (const long long rank : ranks) {
      if (rank < 1 || rank > all_) throw std::invalid_argument("WalshSearch: rank outside the averages");
    }
    if (n_ > 8 * kThin) count(guesses(ranks));
    std::vector<double> out(ranks.size());
    std::vector<std::size_t> sought(ranks.size());
    std::iota(sought.begin(), sought.end(), std::size_t{0});
    for (int round = 0; !sought.empty(); ++round) {
      std::vector<std::size_t> open;
      std::vector<double> next;
      for (const std::size_t k : sought) {
        const auto [low, high] = around(ranks[k]);
        if (std::nextafter(low->first, high->first) >= high->first) {
          out[k] = high->first;
        } else if (low->second - high->second <= n_ / 16 + 64) {
          out[k] = pick(low->first, high->first, ranks[k] - high->second);
        } else {
          open.push_back(k);
          add_values(*low, *high, ranks[k], round, &next);
        }
      }
      count(next);
      sought = std::move(open);
      pause();
    }
    return out;
  }

 private:
  using Known = std::map<double, long long>;
  static constexpr long long kThin = 512;

  static double before(double value) { return std::nextafter(value, -std::numeric_limits<double>::infinity()); }

  // The same places among the averages of `kThin` order statistics.
  std::vector<double> guesses(const std::vector<long long>& ranks) const {
    std::vector<double> thin(kThin);
    for (long long k = 0; k < kThin; ++k) thin[k] = d_[(2 * k + 1) * n_ / (2 * kThin)];
    const long long thin_all = kThin * (kThin + 1) / 2;
    std::vector<long long> places;
    for (const long long rank : ranks) {
      const auto place = static_cast<long long>(std::ceil(static_cast<double>(rank) / all_ * thin_all));
      places.push_back(std::min(std::max(place, 1LL), thin_all));
    }
    return WalshSearch(thin.data(), kThin)(places, [] {});
  }

  // Neighbouring known values: at least `rank` averages exceed the first, fewer the second.
  std::pair<Known::const_iterator, Known::const_iterator> around(long long rank) const {
    auto high = known_.begin();
    while (high->second >= rank) ++high;
    return {std::prev(high), high};
  }

  // Values to count at next. Many equal averages stand as one step, which only the value just above `low` can show.
  static void add_values(const Known::value_type& low, const Known::value_type& high, long long rank, int round,
                         std::vector<double>* next) {
    const double width = high.first - low.first;
    const double share = (low.second - rank + 0.5) / static_cast<double>(low.second - high.second);
    const double away = 0.02 * std::min(share, 1.0 - share);
    if (round % 3 < 2) {
      next->push_back(low.first + (share - away) * width);
      next->push_back(low.first + (share + away) * width);
    } else {
      next->push_back(low.first + 0.5 * width);
      next->push_back(std::nextafter(low.first, high.first));
    }
  }

  void count(const std::vector<double>& values) {
    for (std::size_t first = 0; first < values.size(); first += kLanes) {
      double lane[kLanes];
      WalshCount counts[kLanes];
      for (std::size_t k = 0; k < kLanes; ++k) lane[k] = values[std::min(first + k, values.size() - 1)];
      walsh_counts(d_, n_, lane, counts);
      for (const WalshCount& at : counts) {  // nothing lies between its floor and its ceiling
        if (std::isfinite(at.floor)) known_[at.floor] = at.above;
        if (std::isfinite(at.ceiling)) known_[before(at.ceiling)] = at.above;
      }
    }
  }

  // The place-th largest of the averages in (low, high].
  double pick(double low, double high, long long place) const {
    std::vector<double> inside;
    const auto gather = [&](long long i, long long from) {
      for (long long j = from; j < n_ && 0.5 * (d_[i] + d_[j]) <= high; ++j) inside.push_back(0.5 * (d_[i] + d_[j]));
    };
    long long i = 0, end = n_;
    while (i < end) {
      if (0.5 * (d_[i] + d_[end - 1]) > low)
        --end;
      else
        gather(i++, end);
    }
    for (; i < n_; ++i) gather(i, i);
    std::nth_element(inside.begin(), inside.begin() + (place - 1), inside.end(), std::greater<double>());
    return inside[place - 1];
  }

  const double* d_;
  long long n_, all_;
  Known known_;  // value: how many averages exceed it
};

// The Walsh averages at the given places from the largest down; d: sorted upwards, at least one, finite. Numbers so
// large or small that their sums or halves are none are moved by a power of two first, which is exact.
template <typename Callback>
std::vector<double> walsh_largest(const double* d, Eigen::Index n, const std::vector<long long>& ranks,
                                  Callback&& pause) {
  const double largest = std::max(std::abs(d[0]), std::abs(d[n - 1]));
  if (!std::isfinite(largest)) throw std::invalid_argument("walsh_largest: values must be finite");
  if (largest == 0.0 || (largest > 1e-150 && largest < 1e150)) return WalshSearch(d, n)(ranks, pause);
  const int power = -std::ilogb(largest);
  std::vector<double> moved(d, d + n);
  for (double& value : moved) value = std::ldexp(value, power);
  std::vector<double> out = WalshSearch(moved.data(), n)(ranks, pause);
  for (double& value : out) value = std::ldexp(value, -power);
  return out;
}
}  // namespace twin
