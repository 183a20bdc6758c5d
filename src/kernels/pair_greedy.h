// Greedy pairing on a scalar score without replacement. Every unit of the first arm, in the given order, takes the
// nearest free unit of the second arm within the closed caliper; equal distances go to the lower row. Sorting once
// and following links past the taken ones keeps it at n log n.
#pragma once
#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <functional>
#include <numeric>
#include <queue>
#include <stdexcept>
#include <tuple>
#include <vector>

namespace twin {

// The free places of a sorted line: the next free one at or after, and at or before, a place. Near-constant time.
class FreePlaces {
 public:
  explicit FreePlaces(int size) : size_(size), right_(size + 1), left_(size + 1) {
    std::iota(right_.begin(), right_.end(), 0);
    std::iota(left_.begin(), left_.end(), 0);
  }
  int at_or_after(int place) { return follow(right_, place); }              // size when none
  int at_or_before(int place) { return follow(left_, place + 1) - 1; }      // -1 when none
  void take(int place) {
    right_[place] = place + 1;
    left_[place + 1] = place;
  }

 private:
  static int follow(std::vector<int>& link, int place) {
    int root = place;
    while (link[root] != root) root = link[root];
    while (link[place] != root) {
      const int next = link[place];
      link[place] = root;
      place = next;
    }
    return root;
  }
  int size_;
  std::vector<int> right_, left_;
};

class NearestFree {
 public:
  explicit NearestFree(const Eigen::Ref<const Eigen::VectorXd>& scores)
      : row_(scores.size()), score_(scores.size()), run_start_(scores.size()), free_(static_cast<int>(scores.size())) {
    std::iota(row_.begin(), row_.end(), 0);
    std::sort(row_.begin(), row_.end(),
              [&](int a, int b) { return scores[a] < scores[b] || (scores[a] == scores[b] && a < b); });
    for (std::size_t k = 0; k < row_.size(); ++k) {
      score_[k] = scores[row_[k]];
      run_start_[k] = k > 0 && score_[k] == score_[k - 1] ? run_start_[k - 1] : static_cast<int>(k);
    }
  }

  // Place of the nearest free unit to `score` within `caliper`, or -1.
  int find(double score, double caliper) {
    const int size = static_cast<int>(row_.size());
    const int middle = static_cast<int>(std::lower_bound(score_.begin(), score_.end(), score) - score_.begin());
    const int right = free_.at_or_after(middle);
    int left = free_.at_or_before(middle - 1);
    if (left >= 0) left = free_.at_or_after(run_start_[left]);  // the lowest row among equal scores
    const double right_distance = right < size ? score_[right] - score : INFINITY;
    const double left_distance = left >= 0 ? score - score_[left] : INFINITY;
    if (std::min(left_distance, right_distance) > caliper || (right >= size && left < 0)) return -1;
    if (left_distance == right_distance) return row_[left] < row_[right] ? left : right;
    return left_distance < right_distance ? left : right;
  }
  double distance(int place, double score) const { return std::abs(score_[place] - score); }
  int row(int place) const { return row_[place]; }
  bool is_free(int place) { return free_.at_or_after(place) == place; }
  void take(int place) { free_.take(place); }

 private:
  std::vector<int> row_;
  std::vector<double> score_;
  std::vector<int> run_start_;
  FreePlaces free_;
};

// order: rows of `seekers` (0-based), each once, in the order they choose. Returns for each seeker the row of its
// partner in `pool`, or -1.
inline std::vector<int> pair_in_order(const Eigen::Ref<const Eigen::VectorXd>& seekers,
                                      const Eigen::Ref<const Eigen::VectorXd>& pool, const std::vector<int>& order,
                                      double caliper) {
  if (static_cast<Eigen::Index>(order.size()) != seekers.size())
    throw std::invalid_argument("pair_in_order: one place in the order per seeker");
  std::vector<int> partner(seekers.size(), -1);
  NearestFree nearest(pool);
  for (const int seeker : order) {
    const int place = nearest.find(seekers[seeker], caliper);
    if (place < 0) continue;
    partner[seeker] = nearest.row(place);
    nearest.take(place);
  }
  return partner;
}

// The closest pair of all goes first, then the closest of what is left. A seeker's best distance only grows as the
// pool empties, so a heap of possibly outdated bests is enough: an outdated one is renewed when it comes up.
inline std::vector<int> pair_closest_first(const Eigen::Ref<const Eigen::VectorXd>& seekers,
                                           const Eigen::Ref<const Eigen::VectorXd>& pool, double caliper) {
  using Offer = std::tuple<double, int, int, int>;  // distance, seeker, partner's row, partner's place
  std::priority_queue<Offer, std::vector<Offer>, std::greater<Offer>> offers;
  std::vector<int> partner(seekers.size(), -1);
  NearestFree nearest(pool);
  const auto offer = [&](int seeker) {
    const int place = nearest.find(seekers[seeker], caliper);
    if (place >= 0) offers.emplace(nearest.distance(place, seekers[seeker]), seeker, nearest.row(place), place);
  };
  for (int seeker = 0; seeker < seekers.size(); ++seeker) offer(seeker);
  while (!offers.empty()) {
    const auto [distance, seeker, row, place] = offers.top();
    offers.pop();
    if (!nearest.is_free(place)) { offer(seeker); continue; }
    partner[seeker] = row;
    nearest.take(place);
  }
  return partner;
}
}  // namespace twin
