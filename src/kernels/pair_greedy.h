// Greedy pairing without replacement. Every seeker, in the given order, takes the nearest free unit of the pool that
// the caliper and the rules allow; equal distances go to the lower row. With more partners each, the seekers take
// turns: all choose once, then all who found one choose again.
#pragma once
#include <queue>
#include <tuple>
#include "pair_problem.h"

namespace twin {

// The free places of a sorted line: the next free one at or after, and at or before, a place. Near-constant time.
class FreePlaces {
 public:
  explicit FreePlaces(int size) : link_(size + 1) {
    for (int k = 0; k <= size; ++k) link_[k] = {k, k};
  }
  int at_or_after(int place) { return follow<&Link::right>(place); }          // size when none
  int at_or_before(int place) { return follow<&Link::left>(place + 1) - 1; }  // -1 when none
  void take(int place) {
    link_[place].right = place + 1;
    link_[place + 1].left = place;
  }

 private:
  struct Link {
    int right, left;
  };
  template <int Link::*side>
  int follow(int place) {
    int root = place;
    while (link_[root].*side != root) root = link_[root].*side;
    while (link_[place].*side != root) {
      const int next = link_[place].*side;
      link_[place].*side = root;
      place = next;
    }
    return root;
  }
  std::vector<Link> link_;
};

// Sorting once and following links past the taken units keeps pairing on one number at n log n.
class LineFinder {
 public:
  LineFinder(const PairProblem& problem, const std::vector<int>& rows)
      : problem_(problem), line_(rows.size()), free_(static_cast<int>(rows.size())) {
    for (std::size_t k = 0; k < rows.size(); ++k) line_[k] = {problem.pool[rows[k]], rows[k], 0};
    std::sort(line_.begin(), line_.end());
    int highest = -1;
    for (std::size_t k = 0; k < line_.size(); ++k) {
      highest = std::max(highest, line_[k].row);
      line_[k].run_start = k > 0 && line_[k].score == line_[k - 1].score ? line_[k - 1].run_start : static_cast<int>(k);
    }
    place_.assign(highest + 1, -1);
    for (std::size_t k = 0; k < line_.size(); ++k) place_[line_[k].row] = static_cast<int>(k);
    index_.build(line_);
  }

  bool find(int seeker, Match& best) {
    const double score = problem_.seekers[seeker];
    const int size = static_cast<int>(line_.size());
    const int middle = static_cast<int>(index_.lower_bound(line_, score));
    int right = free_.at_or_after(middle);
    while (right < size && line_[right].score - score <= problem_.caliper && !allow(seeker, right))
      right = free_.at_or_after(right + 1);
    const int left = leftwards(seeker, score, free_.at_or_before(middle - 1));
    const double right_distance = right < size ? line_[right].score - score : INFINITY;
    const double left_distance = left >= 0 ? score - line_[left].score : INFINITY;
    const double distance = std::min(left_distance, right_distance);
    if (distance > problem_.caliper || std::isinf(distance)) return false;
    const bool goes_left =
        left_distance == right_distance ? line_[left].row < line_[right].row : left_distance < right_distance;
    best = {distance * distance, line_[goes_left ? left : right].row};
    return true;
  }
  void take(int row) { free_.take(place_[row]); }
  bool is_free(int row) { return free_.at_or_after(place_[row]) == place_[row]; }

 private:
  struct Slot {
    double score;
    int row, run_start;
    bool operator<(const Slot& other) const { return score < other.score || (score == other.score && row < other.row); }
  };
  bool allow(int seeker, int place) const {
    return !problem_.rules.any() || problem_.rules.allow(seeker, line_[place].row);
  }
  // The nearest allowed place from `place` down; among equal scores the lowest row.
  int leftwards(int seeker, double score, int place) {
    while (place >= 0 && score - line_[place].score <= problem_.caliper) {
      const int start = line_[place].run_start;
      if (start == place && allow(seeker, place)) return place;
      for (int k = free_.at_or_after(start); k <= place; k = free_.at_or_after(k + 1))
        if (allow(seeker, k)) return k;
      place = free_.at_or_before(start - 1);
    }
    return -1;
  }
  const PairProblem& problem_;
  std::vector<Slot> line_;
  std::vector<int> place_;
  LineIndex index_;
  FreePlaces free_;
};

class SpaceFinder {
 public:
  SpaceFinder(const PairProblem& problem, const std::vector<int>& rows)
      : nearest_(1, false, problem.caliper),
        neighbours_(problem.seekers, problem.seekers_height, problem.pool, problem.pool_height, problem.p, rows,
                    problem.rules, problem.window) {}
  bool find(int seeker, Match& best) {
    nearest_.clear();
    neighbours_.search(seeker, nearest_);
    const std::vector<Match>& found = nearest_.finish();
    if (found.empty()) return false;
    best = found[0];
    return true;
  }
  void take(int row) { neighbours_.take(row); }
  bool is_free(int row) const { return neighbours_.is_free(row); }

 private:
  Nearest nearest_;
  Neighbours neighbours_;
};

// seekers: in the order they choose. Those who fail once have nothing left to find in later turns. A thousand searches
// lie between two calls of tell(): `done` of `all` units of work.
struct Meter {
  const PairProblem& problem;
  double all;
  Eigen::Index done = 0;
  void step() {
    if (++done % 1000 == 0) problem.tell(std::min(1.0, static_cast<double>(done) / all));
  }
};

template <class Finder>
void pair_in_order(Finder& finder, std::vector<int> seekers, Partners& partners, Meter& meter) {
  for (int turn = 0; turn < partners.width; ++turn) {
    std::vector<int> served;
    for (const int seeker : seekers) {
      Match best;
      meter.step();
      if (!finder.find(seeker, best)) continue;
      partners.add(seeker, best.row);
      finder.take(best.row);
      served.push_back(seeker);
    }
    seekers.swap(served);
  }
}

// The closest pair of all goes first, then the closest of what is left. A seeker's best distance only grows as the
// pool empties, so a heap of possibly outdated bests is enough: an outdated one is renewed when it comes up.
template <class Finder>
void pair_closest_first(Finder& finder, std::vector<int> seekers, Partners& partners, Meter& meter) {
  using Offer = std::tuple<double, int, int>;  // squared distance, seeker, partner
  for (int turn = 0; turn < partners.width; ++turn) {
    std::vector<Offer> waiting;
    std::vector<int> served;
    Match best;
    for (const int seeker : seekers) {
      meter.step();
      if (finder.find(seeker, best)) waiting.emplace_back(best.squared, seeker, best.row);
    }
    std::priority_queue<Offer, std::vector<Offer>, std::greater<Offer>> offers(std::greater<Offer>(),
                                                                               std::move(waiting));
    while (!offers.empty()) {
      const auto [squared, seeker, row] = offers.top();
      offers.pop();
      if (finder.is_free(row)) {
        partners.add(seeker, row);
        finder.take(row);
        served.push_back(seeker);
        continue;
      }
      meter.step();
      if (finder.find(seeker, best)) offers.emplace(best.squared, seeker, best.row);
    }
    seekers.swap(served);
  }
}

// Closest first on one number without rules: the closest pair of all always stands side by side on the sorted line of
// both arms. Equal scores share a node, with a queue of each arm in row order; nodes of opposite arms that become
// neighbours offer their distance. Offers at the start are sorted once, later ones go through a heap.
class ClosestOnLine {
 public:
  ClosestOnLine(const PairProblem& problem, const std::vector<int>& seekers, const std::vector<int>& pool)
      : problem_(problem) {
    std::vector<Unit> units;
    units.reserve(seekers.size() + pool.size());
    for (const int row : seekers) units.push_back({problem.seekers[row], row, 0});
    for (const int row : pool) units.push_back({problem.pool[row], row, 1});
    std::sort(units.begin(), units.end(), [](const Unit& a, const Unit& b) {
      if (a.score != b.score) return a.score < b.score;
      return a.arm != b.arm ? a.arm < b.arm : a.row < b.row;
    });
    for (const Unit& unit : units) {
      if (nodes_.empty() || nodes_.back().score != unit.score) {
        const int at = static_cast<int>(rows_.size());
        nodes_.push_back({unit.score, {at, at}, {at, at}});
      }
      Node& node = nodes_.back();
      rows_.push_back(unit.row);
      const int end = static_cast<int>(rows_.size());
      if (unit.arm == 0) node.head[1] = node.end[0] = node.end[1] = end;
      node.end[unit.arm] = end;
    }
  }

  template <class Report>  // report(seeker, unit of the pool)
  void run(const Report& report) {
    const int size = static_cast<int>(nodes_.size());
    for (Node& node : nodes_)
      while (waits(node, 0) && waits(node, 1)) report(rows_[node.head[0]++], rows_[node.head[1]++]);
    int last = -1;
    for (int k = 0; k < size; ++k) {
      if (!waits(nodes_[k], 0) && !waits(nodes_[k], 1)) continue;
      nodes_[k].before = last;
      if (last >= 0) nodes_[last].after = k;
      last = k;
    }
    for (int k = 0; k < size; ++k)
      if (nodes_[k].after >= 0) offer(k, nodes_[k].after, first_);
    std::sort(first_.begin(), first_.end());
    std::size_t next = 0;
    while (next < first_.size() || !later_.empty()) {
      Offer best;
      if (later_.empty() || (next < first_.size() && first_[next] < later_.top())) {
        best = first_[next++];
      } else {
        best = later_.top();
        later_.pop();
      }
      settle(best, report);
    }
  }

 private:
  struct Unit {
    double score;
    int row, arm;
  };
  struct Node {
    double score;
    int head[2], end[2];
    int before = -1, after = -1;
  };
  struct Offer {
    double distance;
    int seeker, unit, left, right;
    bool operator<(const Offer& other) const {
      return std::tie(distance, seeker, unit) < std::tie(other.distance, other.seeker, other.unit);
    }
    bool operator>(const Offer& other) const { return other < *this; }
  };

  static bool waits(const Node& node, int arm) { return node.head[arm] < node.end[arm]; }

  template <class To>
  void offer(int left, int right, To& to) {
    const Node& a = nodes_[left];
    const Node& b = nodes_[right];
    const double distance = b.score - a.score;
    if (distance > problem_.caliper) return;
    if (waits(a, 0) && waits(b, 1)) add(to, {distance, rows_[a.head[0]], rows_[b.head[1]], left, right});
    if (waits(a, 1) && waits(b, 0)) add(to, {distance, rows_[b.head[0]], rows_[a.head[1]], left, right});
  }
  static void add(std::vector<Offer>& to, const Offer& offer) { to.push_back(offer); }
  template <class Queue>
  static void add(Queue& to, const Offer& offer) {
    to.push(offer);
  }

  template <class Report>
  void settle(const Offer& best, const Report& report) {
    Node& a = nodes_[best.left];
    Node& b = nodes_[best.right];
    if (a.after != best.right || a.head[0] > a.end[0]) return;  // no longer side by side
    const int seeker_arm_left = waits(a, 0) ? 1 : 0;
    Node& from = seeker_arm_left ? a : b;
    Node& to = seeker_arm_left ? b : a;
    if (!waits(from, 0) || !waits(to, 1)) return;
    if (rows_[from.head[0]] != best.seeker || rows_[to.head[1]] != best.unit) return;  // a renewed offer stands
    report(rows_[from.head[0]++], rows_[to.head[1]++]);
    const bool a_left = waits(a, 0) || waits(a, 1), b_left = waits(b, 0) || waits(b, 1);
    const int before = a_left ? best.left : a.before;
    const int after = b_left ? best.right : b.after;
    if (!a_left) a.after = -2;
    if (!b_left) b.before = -2;
    if (before >= 0) nodes_[before].after = after;
    if (after >= 0) nodes_[after].before = before;
    if (before >= 0 && after >= 0) offer(before, after, later_);
    // heads have changed: offers to the other side are renewed
    if (a_left && a.before >= 0) offer(a.before, best.left, later_);
    if (b_left && b.after >= 0) offer(best.right, b.after, later_);
  }

  const PairProblem& problem_;
  std::vector<Node> nodes_;
  std::vector<int> rows_;
  std::vector<Offer> first_;
  std::priority_queue<Offer, std::vector<Offer>, std::greater<Offer>> later_;
};

// order: rows of the seekers (0-based), each once, in the order they choose; empty for the closest pair first.
inline Partners pair_greedy(const PairProblem& problem, const std::vector<int>& order, int partners_each) {
  const bool closest = order.empty();
  Partners partners(problem.seekers_height, partners_each);
  const auto pools = rows_by_group(problem.pool_group, problem.groups, problem.pool_height);
  std::vector<std::vector<int>> seekers(problem.groups);
  if (closest) {
    seekers = rows_by_group(problem.seeker_group, problem.groups, problem.seekers_height);
  } else {
    for (const int row : order) seekers[problem.seeker_group.empty() ? 0 : problem.seeker_group[row]].push_back(row);
  }
  Meter meter{problem, static_cast<double>(problem.seekers_height) * partners_each};
  const auto serve = [&](auto&& finder, int group) {
    if (closest)
      pair_closest_first(finder, std::move(seekers[group]), partners, meter);
    else
      pair_in_order(finder, std::move(seekers[group]), partners, meter);
  };
  for (int group = 0; group < problem.groups; ++group) {
    if (problem.on_line() && closest && !problem.rules.any()) {
      std::vector<int> asking = std::move(seekers[group]), left = pools[group];
      for (int turn = 0; turn < partners_each && !asking.empty(); ++turn) {
        std::vector<char> gone(problem.pool_height, 0);
        std::vector<int> served;
        ClosestOnLine(problem, asking, left).run([&](int seeker, int unit) {
          partners.add(seeker, unit);
          served.push_back(seeker);
          gone[unit] = 1;
        });
        left.erase(std::remove_if(left.begin(), left.end(), [&](int unit) { return gone[unit]; }), left.end());
        asking.swap(served);
      }
    } else if (problem.on_line()) {
      serve(LineFinder(problem, pools[group]), group);
    } else {
      serve(SpaceFinder(problem, pools[group]), group);
    }
  }
  return partners;
}
}  // namespace twin
