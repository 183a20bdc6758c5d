// Nearest neighbours with replacement: for every seeker its k nearest units of the pool, all ties of the last one
// kept if asked. Seekers are independent, so threads change nothing but the time.
#pragma once
#include <atomic>
#include "pair_problem.h"
#include "parallel.h"

namespace twin {
struct NearestLists {
  std::vector<Eigen::Index> start;  // one more than there are seekers
  std::vector<int> row;             // of the pool, nearest first
  std::vector<double> distance;
  bool too_many = false;  // more than `most` in all: the lists are empty then
};

// On one number: from where the seeker stands, outwards.
class LineNeighbours {
 public:
  LineNeighbours(const PairProblem& problem, const std::vector<int>& rows) : problem_(problem) {
    for (const int row : rows) line_.push_back({problem.pool[row], row});
    std::sort(line_.begin(), line_.end());
    index_.build(line_);
  }
  double locality(int seeker) const { return problem_.seekers[seeker]; }
  void search_batch(const int* batch, int size, std::vector<Nearest>& nearest) const {
    for (int k = 0; k < size; ++k) search(batch[k], nearest[k]);
  }

 private:
  void search(int seeker, Nearest& nearest) const {
    const double score = problem_.seekers[seeker];
    const Eigen::Index size = static_cast<Eigen::Index>(line_.size());
    Eigen::Index right = index_.lower_bound(line_, score), left = right - 1;
    while (left >= 0 || right < size) {
      const double to_left = left >= 0 ? score - line_[left].score : INFINITY;
      const double to_right = right < size ? line_[right].score - score : INFINITY;
      const double distance = std::min(to_left, to_right);
      if (distance * distance > nearest.limit()) return;
      // distances of units far apart are infinite too: whether there is a unit on that side decides first
      const bool to_the_left = left >= 0 && (right >= size || to_left <= to_right);
      const int row = line_[to_the_left ? left-- : right++].row;
      if (!problem_.rules.any() || problem_.rules.allow(seeker, row)) nearest.offer({distance * distance, row});
    }
  }
  const PairProblem& problem_;
  Line line_;
  LineIndex index_;
};

inline NearestLists nearest_lists(const PairProblem& problem, int k, bool ties, int threads, Eigen::Index most) {
  std::vector<std::vector<Match>> found(problem.seekers_height);
  const auto pools = rows_by_group(problem.pool_group, problem.groups, problem.pool_height);
  const auto seekers = rows_by_group(problem.seeker_group, problem.groups, problem.seekers_height);
  std::atomic<Eigen::Index> total{0};
  Eigen::Index served = 0;
  constexpr int kBatch = 64, kBatches = 64;  // tell() between rounds of this many batches
  const auto serve = [&](auto& neighbours, const std::vector<int>& group) {
    std::vector<std::pair<double, int>> asking;
    for (const int seeker : group) asking.emplace_back(neighbours.locality(seeker), seeker);
    std::sort(asking.begin(), asking.end());
    const Eigen::Index size = static_cast<Eigen::Index>(asking.size());
    for (Eigen::Index round = 0; round < size && total <= most; round += kBatch * kBatches) {
      const Eigen::Index end = std::min(size, round + kBatch * kBatches);
      ParallelGuard guard;
#ifdef _OPENMP
#pragma omp parallel for schedule(dynamic) num_threads(threads)
#endif
      for (Eigen::Index first = round; first < end; first += kBatch) {
        guard.run([&] {
          if (total > most) return;
          const int count = static_cast<int>(std::min<Eigen::Index>(kBatch, end - first));
          int batch[kBatch];
          for (int i = 0; i < count; ++i) batch[i] = asking[first + i].second;
          std::vector<Nearest> nearest(count, Nearest(k, ties, problem.caliper));
          neighbours.search_batch(batch, count, nearest);
          for (int i = 0; i < count; ++i) {
            found[batch[i]] = nearest[i].finish();
            total += static_cast<Eigen::Index>(found[batch[i]].size());
          }
        });
      }
      guard.rethrow();
      served += end - round;
      problem.tell(static_cast<double>(served) / static_cast<double>(problem.seekers_height));
    }
  };
  for (int group = 0; group < problem.groups; ++group) {
    if (problem.on_line()) {
      LineNeighbours neighbours(problem, pools[group]);
      serve(neighbours, seekers[group]);
    } else {
      Neighbours neighbours(problem.seekers, problem.seekers_height, problem.pool, problem.pool_height, problem.p,
                            pools[group], problem.rules, problem.window);
      serve(neighbours, seekers[group]);
    }
  }
  (void)threads;
  NearestLists lists;
  lists.too_many = total > most;
  lists.start.assign(problem.seekers_height + 1, 0);
  if (lists.too_many) return lists;
  lists.row.reserve(total);
  lists.distance.reserve(total);
  for (Eigen::Index seeker = 0; seeker < problem.seekers_height; ++seeker) {
    for (const Match& match : found[seeker]) {
      lists.row.push_back(match.row);
      lists.distance.push_back(std::ldexp(std::sqrt(match.squared), -problem.power));
    }
    lists.start[seeker + 1] = static_cast<Eigen::Index>(lists.row.size());
  }
  return lists;
}
}  // namespace twin
