// What every way of pairing is given: two sets of points, a caliper on their distance, further rules, exact groups.
#pragma once
#include <cmath>
#include <functional>
#include <memory>
#include <stdexcept>
#include <vector>
#include "neighbours.h"

namespace twin {
struct PairProblem {
  Eigen::Index seekers_height = 0, pool_height = 0;
  int p = 1;
  const double* seekers = nullptr;  // column-major points
  const double* pool = nullptr;
  double caliper = INFINITY;  // on the distance, closed
  Rules rules;
  int window = -1;                            // the limit whose sorted line is scanned, see Neighbours
  int groups = 1;                             // pairs are made within groups only
  std::vector<int> seeker_group, pool_group;  // 0-based; empty when there is one group
  // Told the share of the work done, every so often; may throw to interrupt. Called from the main thread only.
  std::function<void(double)> tell = [](double) {};
  int power = 0;  // of two, that the points given were multiplied by, see bring_into_range()
  std::shared_ptr<std::vector<double>> scaled_seekers, scaled_pool;

  bool on_line() const { return p == 1; }
  double distance(int seeker, int unit) const {
    double squared = 0;
    for (int j = 0; j < p; ++j) {
      const double gap = seekers[j * seekers_height + seeker] - pool[j * pool_height + unit];
      squared += gap * gap;
    }
    return std::sqrt(squared);
  }
};

// Squares of numbers beyond 1e154 or below 1e-154 are no numbers any more. Points of such size are multiplied by a
// power of two, which is exact, and the caliper with them: who is near whom stays the same.
inline void bring_into_range(PairProblem& problem) {
  const Eigen::Index seekers = problem.seekers_height * problem.p, pool = problem.pool_height * problem.p;
  double largest = 0;
  for (Eigen::Index k = 0; k < seekers; ++k) largest = std::max(largest, std::abs(problem.seekers[k]));
  for (Eigen::Index k = 0; k < pool; ++k) largest = std::max(largest, std::abs(problem.pool[k]));
  if (largest == 0 || !std::isfinite(largest) || (largest > 1e-100 && largest < 1e100)) return;
  const int power = -std::ilogb(largest);
  const auto scaled = [&](const double* from, Eigen::Index size) {
    auto out = std::make_shared<std::vector<double>>(from, from + size);
    for (double& x : *out) x = std::ldexp(x, power);
    return out;
  };
  problem.scaled_seekers = scaled(problem.seekers, seekers);
  problem.scaled_pool = scaled(problem.pool, pool);
  problem.seekers = problem.scaled_seekers->data();
  problem.pool = problem.scaled_pool->data();
  problem.caliper = std::ldexp(problem.caliper, power);
  problem.power = power;
}

inline std::vector<std::vector<int>> rows_by_group(const std::vector<int>& group, int groups, Eigen::Index height) {
  std::vector<std::vector<int>> rows(groups);
  for (Eigen::Index row = 0; row < height; ++row) rows[group.empty() ? 0 : group[row]].push_back(static_cast<int>(row));
  return rows;
}

// Rows along one number.
struct Place {
  double score;
  int row;
  bool operator<(const Place& other) const { return score < other.score || (score == other.score && row < other.row); }
};
using Line = std::vector<Place>;  // sorted

// Where a value would stand on a sorted line: a table of equal steps leaves a short stretch to search, which spares the
// memory jumps of a search over the whole line.
class LineIndex {
 public:
  // line: sorted, of things with a score.
  template <class Line>
  void build(const Line& line) {
    if (line.empty()) return;
    steps_ = line.size();
    low_ = line.front().score;
    high_ = line.back().score;
    const double width = high_ - low_;
    const double scale = static_cast<double>(steps_) / width;
    scale_ = width > 0 && std::isfinite(width) && std::isfinite(scale) ? scale : 0;  // 0: one step for all
    start_.assign(steps_ + 2, 0);
    for (const auto& place : line) ++start_[step(place.score) + 1];
    for (std::size_t k = 1; k < start_.size(); ++k) start_[k] += start_[k - 1];
  }
  template <class Line>
  Eigen::Index lower_bound(const Line& line, double x) const {
    if (line.empty() || x <= low_) return 0;
    if (x > high_) return static_cast<Eigen::Index>(line.size());
    const std::size_t at = step(x);
    Eigen::Index first = start_[at];
    for (Eigen::Index count = start_[at + 1] - first; count > 0;) {
      const Eigen::Index half = count / 2;
      if (line[first + half].score < x) {
        first += half + 1;
        count -= half + 1;
      } else {
        count = half;
      }
    }
    return first;
  }

 private:
  std::size_t step(double x) const {
    return scale_ > 0 ? std::min(steps_, static_cast<std::size_t>((x - low_) * scale_)) : 0;
  }
  std::size_t steps_ = 0;
  double low_ = 0, high_ = 0, scale_ = 0;
  std::vector<int> start_;
};

// Partners of every seeker, at most `width` each: row k of the result, seeker by seeker; -1 for none.
struct Partners {
  Partners(Eigen::Index seekers, int width) : width(width), row(seekers * width, -1) {}
  void add(int seeker, int unit) {
    for (int k = 0; k < width; ++k) {
      if (row[static_cast<Eigen::Index>(seeker) * width + k] >= 0) continue;
      row[static_cast<Eigen::Index>(seeker) * width + k] = unit;
      return;
    }
    throw std::logic_error("Partners: a seeker has too many partners");
  }
  int count(int seeker) const {
    int k = 0;
    while (k < width && row[static_cast<Eigen::Index>(seeker) * width + k] >= 0) ++k;
    return k;
  }
  int width;
  std::vector<int> row;
};
}  // namespace twin
