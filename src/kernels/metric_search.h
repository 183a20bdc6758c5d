// Candidates of a metric search: how well the matches of each diagonal metric balance the covariates. Every candidate
// is matched and judged on its own, so threads change nothing but the time.
#pragma once
#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>
#include <memory>
#include <vector>
#include "neighbours.h"
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
  const int* sorted = nullptr;  // all units, seekers first, by their values in each row; for distributions
};

class MetricJudge {
 public:
  explicit MetricJudge(const SearchTask& task) : task_(task) {}

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
    const Eigen::Index n = task_.seekers + task_.pool;
    const int* order = task_.sorted + row * n;
    for (Eigen::Index k = 0; k < n; ++k) {
      const int unit = order[k];
      gap += unit < task_.seekers ? seeker_weight[unit] / seeker_sum : -pool_weight[unit - task_.seekers] / pool_sum;
      if (k + 1 == n || value(row, order[k + 1]) != value(row, unit)) worst = std::max(worst, std::abs(gap));
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
};

// Matches under one metric: the neighbours of neighbours.h among the covariates it scales.
class MetricMatcher {
 public:
  explicit MetricMatcher(const SearchTask& task)
      : task_(task),
        seekers_(task.seekers * task.p),
        pool_(task.pool * task.p),
        seeker_weight_(task.seekers),
        pool_weight_(task.pool),
        nearest_(task.replacement ? task.partners : 1, task.replacement, INFINITY),
        last_(task.seekers) {
    const int groups = task.group.empty() ? 1 : 1 + *std::max_element(task.group.begin(), task.group.end());
    pool_rows_.resize(groups);
    for (Eigen::Index j = 0; j < task.pool; ++j) pool_rows_[group_of(task.seekers + j)].push_back(static_cast<int>(j));
    seeker_rows_.resize(groups);
    for (const int i : task.order) seeker_rows_[group_of(i)].push_back(i);
    if (task.seeker_line != nullptr) rules_.limits.push_back({task.seeker_line, task.pool_line, task.caliper});
  }
  const std::vector<double>& seeker_weight() const { return seeker_weight_; }
  const std::vector<double>& pool_weight() const { return pool_weight_; }

  void match(const double* metric) {
    // heavy columns first: most of what is far shows it there
    std::vector<int> columns(task_.p);
    std::iota(columns.begin(), columns.end(), 0);
    std::stable_sort(columns.begin(), columns.end(), [&](int a, int b) { return metric[a] > metric[b]; });
    scale(metric, columns, task_.seeker_points, task_.seekers, seekers_);
    scale(metric, columns, task_.pool_points, task_.pool, pool_);
    std::fill(seeker_weight_.begin(), seeker_weight_.end(), 0.0);
    std::fill(pool_weight_.begin(), pool_weight_.end(), 0.0);
    for (std::size_t group = 0; group < pool_rows_.size(); ++group) {
      if (pool_rows_[group].empty() || seeker_rows_[group].empty()) continue;
      before_.clear();  // of another group
      Neighbours near(seekers_.data(), task_.seekers, pool_.data(), task_.pool, task_.p, pool_rows_[group], rules_,
                      rules_.limits.empty() ? -1 : 0, true);
      if (task_.replacement) {
        for (const int i : by_place(near, seeker_rows_[group])) settle(i, nearest(near, i));
      } else {
        match_once(near, seeker_rows_[group]);
      }
    }
  }

 private:
  int group_of(Eigen::Index unit) const { return task_.group.empty() ? 0 : task_.group[unit]; }

  void scale(const double* metric, const std::vector<int>& columns, const double* points, Eigen::Index n,
             std::vector<double>& out) const {
    for (int j = 0; j < task_.p; ++j) {
      const double root = std::sqrt(metric[columns[j]]);
      const double* from = points + columns[j] * n;
      for (Eigen::Index i = 0; i < n; ++i) out[j * n + i] = root * from[i];
    }
  }

  // Those that fall into one bucket one after the other: what one found is near the next.
  static std::vector<int> by_place(const Neighbours& near, const std::vector<int>& rows) {
    std::vector<std::pair<double, int>> asking;
    asking.reserve(rows.size());
    for (const int i : rows) asking.emplace_back(near.locality(i), i);
    std::sort(asking.begin(), asking.end());
    std::vector<int> out;
    out.reserve(rows.size());
    for (const auto& one : asking) out.push_back(one.second);
    return out;
  }

  // In turns of one partner each; who finds nobody asks no more.
  void match_once(Neighbours& near, std::vector<int> asking) {
    std::vector<std::vector<Match>> partners(task_.seekers);
    for (int turn = 0; turn < task_.partners; ++turn) {
      std::vector<int> served;
      for (const int i : asking) {
        const std::vector<Match>& found = nearest(near, i);
        if (found.empty()) continue;
        near.take(found[0].row);
        partners[i].push_back(found[0]);
        served.push_back(i);
      }
      asking.swap(served);
    }
    for (Eigen::Index i = 0; i < task_.seekers; ++i) settle(static_cast<int>(i), partners[i]);
  }

  // With replacement as many as were asked for, and ties; else one.
  const std::vector<Match>& nearest(Neighbours& near, int i) {
    const int k = nearest_.wanted();
    nearest_.restart();
    near.search(i, nearest_, {&last_[i], &before_});  // only the time depends on these
    const std::vector<Match>& found = nearest_.finish();
    last_[i].clear();
    for (std::size_t c = 0; c < found.size() && c < static_cast<std::size_t>(k); ++c) last_[i].push_back(found[c].row);
    before_ = last_[i];
    return found;
  }

  void settle(int i, const std::vector<Match>& found) {
    if (found.empty()) return;
    seeker_weight_[i] = task_.seeker_weight[i];
    for (const Match& match : found)
      pool_weight_[match.row] += task_.pool_weight[match.row] / static_cast<double>(found.size());
  }

  const SearchTask& task_;
  std::vector<double> seekers_, pool_;  // the points, scaled
  std::vector<double> seeker_weight_, pool_weight_;
  Rules rules_;
  std::vector<std::vector<int>> pool_rows_, seeker_rows_;  // by exact group
  Nearest nearest_;
  std::vector<std::vector<int>> last_;  // per seeker, its nearest under the metric judged before
  std::vector<int> before_;             // the nearest of the seeker served before
};

// candidates: p x m, column by column. Returns 2 x m: worst and mean loss.
inline Eigen::MatrixXd judge_metrics(const SearchTask& task, const MetricJudge& judge, const double* candidates, int m,
                                     int threads) {
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
