// Candidates of a metric search: how well the matches of each diagonal metric balance the covariates. Every candidate
// is matched (nearest neighbours in the scaled covariates, screened in single and measured in double precision) and
// judged on its own, so threads change nothing but the time.
#pragma once
#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>
#include <memory>
#include <vector>
#include "screen.h"
#include "parallel.h"

namespace twin {

enum class Goal { kSmd = 0, kKs = 1, kPValue = 2 };

struct SearchTask {
  Eigen::Index seekers = 0, pool = 0;
  int p = 0;  // scaled columns that make the distance
  const double* seeker_points = nullptr;
  const double* pool_points = nullptr;
  int rows = 0;  // columns whose balance is judged
  const double* seeker_values = nullptr;
  const double* pool_values = nullptr;
  const double* reference = nullptr;  // sd of each row; 0 leaves it out
  const int* continuous = nullptr;    // does the row have a KS distance?
  const double* seeker_weight = nullptr;
  const double* pool_weight = nullptr;  // sampling weights
  int partners = 1;
  bool replacement = true;
  Goal goal = Goal::kSmd;
  std::vector<int> order;  // of the seekers, without replacement
  std::vector<int> group;  // exact groups of the seekers, then of the pool; empty: none
  double caliper = std::numeric_limits<double>::infinity();  // on the line, if there is one
  const double* seeker_line = nullptr;
  const double* pool_line = nullptr;
};

// What does not depend on the candidate: the order of all units' values, row by row.
class MetricJudge {
 public:
  explicit MetricJudge(const SearchTask& task) : task_(task), order_(task.rows) {
    const Eigen::Index n = task.seekers + task.pool;
    for (int row = 0; row < task.rows; ++row) {
      if (!task.continuous[row]) continue;
      order_[row].resize(n);
      std::iota(order_[row].begin(), order_[row].end(), 0);
      std::sort(order_[row].begin(), order_[row].end(), [&](int a, int b) { return value(row, a) < value(row, b); });
    }
  }

  // The worst statistic, as a loss (to be small), and the mean of all, which settles ties. weights: of both sides.
  std::pair<double, double> loss(const std::vector<double>& seeker_weight,
                                 const std::vector<double>& pool_weight) const {
    double worst = -std::numeric_limits<double>::infinity(), sum = 0;
    Eigen::Index counted = 0;
    const Totals first = totals(seeker_weight), second = totals(pool_weight);
    if (first.sum <= 0 || second.sum <= 0) return {std::numeric_limits<double>::infinity(), 0.0};
    const auto add = [&](double statistic) {
      worst = std::max(worst, statistic);
      sum += statistic;
      ++counted;
    };
    for (int row = 0; row < task_.rows; ++row) {
      if (task_.reference[row] <= 0) continue;
      if (task_.goal == Goal::kKs && !task_.continuous[row]) continue;
      if (task_.goal != Goal::kKs) {
        const Moments a = moments(task_.seeker_values + row * task_.seekers, seeker_weight, first.sum);
        const Moments b = moments(task_.pool_values + row * task_.pool, pool_weight, second.sum);
        const double gap = std::abs(a.mean - b.mean);
        if (task_.goal == Goal::kSmd) {
          add(gap / task_.reference[row]);
        } else {
          const double se = std::sqrt(a.variance / first.size() + b.variance / second.size());
          add(se > 0 ? 1 - std::erfc(gap / se / std::sqrt(2.0)) : (gap > 0 ? 1.0 : 0.0));
        }
      }
      if (task_.goal != Goal::kSmd && task_.continuous[row]) {
        const double ks = distance(row, seeker_weight, pool_weight, first.sum, second.sum);
        add(task_.goal == Goal::kKs ? ks : 1 - ks_p_value(ks, first.size(), second.size()));
      }
    }
    return {worst, counted > 0 ? sum / static_cast<double>(counted) : 0.0};
  }

 private:
  struct Totals {
    double sum = 0, squares = 0;
    double size() const { return sum * sum / squares; }  // effective sample size
  };
  struct Moments {
    double mean, variance;
  };
  static Totals totals(const std::vector<double>& weight) {
    Totals out;
    for (const double w : weight) {
      out.sum += w;
      out.squares += w * w;
    }
    return out;
  }
  static Moments moments(const double* x, const std::vector<double>& weight, double sum) {
    double first = 0, second = 0;
    for (std::size_t i = 0; i < weight.size(); ++i) {
      first += weight[i] * x[i];
      second += weight[i] * x[i] * x[i];
    }
    const double mean = first / sum;
    return {mean, std::max(0.0, second / sum - mean * mean)};
  }
  double value(int row, int unit) const {
    return unit < task_.seekers ? task_.seeker_values[row * task_.seekers + unit]
                                : task_.pool_values[row * task_.pool + unit - task_.seekers];
  }
  double distance(int row, const std::vector<double>& seeker_weight, const std::vector<double>& pool_weight,
                  double seeker_sum, double pool_sum) const {
    double gap = 0, worst = 0;
    const auto& order = order_[row];
    for (std::size_t k = 0; k < order.size(); ++k) {
      const int unit = order[k];
      gap += unit < task_.seekers ? seeker_weight[unit] / seeker_sum : -pool_weight[unit - task_.seekers] / pool_sum;
      if (k + 1 == order.size() || value(row, order[k + 1]) != value(row, unit)) worst = std::max(worst, std::abs(gap));
    }
    return worst;
  }
  // Kolmogorov's limit with Stephens' correction for small samples.
  static double ks_p_value(double ks, double first, double second) {
    const double n = std::sqrt(first * second / (first + second));
    const double lambda = (n + 0.12 + 0.11 / n) * ks;
    if (lambda < 0.2) return 1;
    double sum = 0;
    for (int k = 1; k <= 100; ++k) sum += (k % 2 == 1 ? 2 : -2) * std::exp(-2.0 * k * k * lambda * lambda);
    return std::min(1.0, std::max(0.0, sum));
  }

  const SearchTask& task_;
  std::vector<std::vector<int>> order_;
};

// Matches under one metric, by brute force over the pool in blocks of eight.
class MetricMatcher {
 public:
  explicit MetricMatcher(const SearchTask& task)
      : task_(task),
        padded_((task.pool + 7) / 8),
        seeker_weight_(task.seekers),
        pool_weight_(task.pool),
        taken_(task.pool),
        screen_(best_screen()),
        last_(task.seekers) {
    blocks_.resize(static_cast<std::size_t>(padded_) * 8 * task.p);
    found_.resize(static_cast<std::size_t>(padded_) * 8);
  }
  const std::vector<double>& seeker_weight() const { return seeker_weight_; }
  const std::vector<double>& pool_weight() const { return pool_weight_; }

  void match(const double* metric) {
    scale(metric);
    std::fill(seeker_weight_.begin(), seeker_weight_.end(), 0.0);
    std::fill(pool_weight_.begin(), pool_weight_.end(), 0.0);
    std::fill(taken_.begin(), taken_.end(), 0);
    if (task_.replacement) {
      for (Eigen::Index i = 0; i < task_.seekers; ++i) {
        nearest(static_cast<int>(i), task_.partners, true);
        settle(static_cast<int>(i));
      }
      return;
    }
    std::vector<std::vector<int>> partners(task_.seekers);
    std::vector<int> asking = task_.order;
    for (int turn = 0; turn < task_.partners; ++turn) {
      std::vector<int> served;
      for (const int i : asking) {
        nearest(i, 1, false);
        if (hits_.empty()) continue;
        take(hits_[0].second);
        partners[i].push_back(hits_[0].second);
        served.push_back(i);
      }
      asking.swap(served);
    }
    for (Eigen::Index i = 0; i < task_.seekers; ++i) {
      hits_.clear();
      for (const int j : partners[i]) hits_.emplace_back(0.0, j);
      settle(static_cast<int>(i));
    }
  }

 private:
  void scale(const double* metric) {
    metric_.assign(metric, metric + task_.p);
    reach_ = 0;
    std::vector<float> root(task_.p);
    for (int j = 0; j < task_.p; ++j) root[j] = static_cast<float>(std::sqrt(metric[j]));
    float* out = blocks_.data();
    std::fill(out, out + padded_ * 8 * task_.p, std::numeric_limits<float>::infinity());
    for (int j = 0; j < task_.p; ++j) {
      const double* x = task_.pool_points + j * task_.pool;
      for (Eigen::Index i = 0; i < task_.pool; ++i) {
        out[(i / 8) * 8 * task_.p + j * 8 + i % 8] = root[j] * static_cast<float>(x[i]);
        reach_ = std::max(reach_, std::abs(root[j] * x[i]));
      }
    }
    root_ = root;
  }

  // The nearest of the pool into hits_, nearest first, lower rows first; with all ties of the last one if asked.
  void nearest(int i, int k, bool ties) {
    float query[kMostColumns];
    double reach = reach_;
    for (int j = 0; j < task_.p; ++j) {
      const double x = task_.seeker_points[j * task_.seekers + i];
      query[j] = root_[j] * static_cast<float>(x);
      reach = std::max(reach, std::abs(root_[j] * x));
    }
    hits_.clear();
    double limit = last_limit(i, k, ties);
    // without a limit all are measured: only a few at first
    Eigen::Index chunk = std::isinf(limit) ? 2 : kChunk;
    for (Eigen::Index first = 0; first < padded_;) {
      // three roundings more than in single_limit(): of the root, of the coordinate, of their product
      const float single = single_limit(limit, task_.p + 6, 2 * reach);
      const int count =
          screen_(blocks_.data(), first, std::min(padded_, first + chunk), task_.p, query, single, found_.data());
      for (int c = 0; c < count; ++c) {
        const int unit = found_[c];
        if (unit >= task_.pool || taken_[unit] || !may_meet(i, unit)) continue;
        const double squared = measure(i, unit);
        if (squared > limit) continue;
        hits_.insert(std::upper_bound(hits_.begin(), hits_.end(), std::make_pair(squared, unit)), {squared, unit});
        if (static_cast<int>(hits_.size()) < k) continue;
        limit = std::min(limit, hits_[k - 1].first * (ties ? 1 + 2e-12 : 1.0));
        while (static_cast<int>(hits_.size()) > k && (!ties || hits_.back().first > limit)) hits_.pop_back();
      }
      first += chunk;
      chunk = kChunk;
    }
    last_[i].clear();
    for (std::size_t c = 0; c < hits_.size() && c < static_cast<std::size_t>(k); ++c)
      last_[i].push_back(hits_[c].second);
  }
  double measure(int i, int unit) const {
    double squared = 0;
    for (int j = 0; j < task_.p; ++j) {
      const double gap = task_.seeker_points[j * task_.seekers + i] - task_.pool_points[j * task_.pool + unit];
      squared += metric_[j] * gap * gap;
    }
    return squared;
  }
  // The nearest under the metric judged before are near under this one too: none of its k nearest is farther than the
  // farthest of them. Only the time depends on this.
  double last_limit(int i, int k, bool ties) const {
    double limit = 0;
    int counted = 0;
    for (const int unit : last_[i]) {
      if (taken_[unit]) continue;
      limit = std::max(limit, measure(i, unit));
      ++counted;
    }
    if (counted < k) return std::numeric_limits<double>::infinity();
    return ties ? limit * (1 + 2e-12) : limit;
  }
  bool may_meet(int i, int unit) const {
    if (!task_.group.empty() && task_.group[i] != task_.group[task_.seekers + unit]) return false;
    return task_.seeker_line == nullptr || std::abs(task_.seeker_line[i] - task_.pool_line[unit]) <= task_.caliper;
  }
  void take(int unit) {
    taken_[unit] = 1;
    for (int j = 0; j < task_.p; ++j)
      blocks_.data()[(unit / 8) * Eigen::Index(8) * task_.p + j * 8 + unit % 8] =
          std::numeric_limits<float>::infinity();
  }
  void settle(int i) {
    if (hits_.empty()) return;
    seeker_weight_[i] = task_.seeker_weight[i];
    for (const auto& hit : hits_)
      pool_weight_[hit.second] += task_.pool_weight[hit.second] / static_cast<double>(hits_.size());
  }

  static constexpr int kMostColumns = 512;
  static constexpr Eigen::Index kChunk = 32;
  const SearchTask& task_;
  Eigen::Index padded_;
  std::vector<double> seeker_weight_, pool_weight_, metric_;
  std::vector<float> root_;
  std::vector<char> taken_;
  std::vector<int> found_;
  std::vector<std::pair<double, int>> hits_;
  double reach_ = 0;
  SingleBlocks blocks_;
  Screen screen_;
  std::vector<std::vector<int>> last_;  // per seeker, its nearest under the metric judged before
};

// candidates: p x m, column by column. Returns 2 x m: worst and mean loss.
inline Eigen::MatrixXd judge_metrics(const SearchTask& task, const MetricJudge& judge, const double* candidates, int m,
                                     int threads) {
  if (task.p > 512) throw std::invalid_argument("judge_metrics: too many columns");
  Eigen::MatrixXd out(2, m);
  (void)threads;
  ParallelGuard guard;
#ifdef _OPENMP
#pragma omp parallel num_threads(threads)
#endif
  {
    std::unique_ptr<MetricMatcher> matcher;
    guard.run([&] { matcher = std::make_unique<MetricMatcher>(task); });
#ifdef _OPENMP
#pragma omp for schedule(dynamic, 1)
#endif
    for (int c = 0; c < m; ++c) {
      guard.run([&] {
        matcher->match(candidates + static_cast<Eigen::Index>(c) * task.p);
        const auto loss = judge.loss(matcher->seeker_weight(), matcher->pool_weight());
        out(0, c) = loss.first;
        out(1, c) = loss.second;
      });
    }
  }
  guard.rethrow();
  return out;
}
}  // namespace twin
