// Full matching (Rosenbaum 1991): the least total distance over partitions into sets of one seeker with some units of
// the pool or one unit of the pool with some seekers; in other words the cheapest set of pairs that leaves nobody
// alone. Without limits this is a matching: with c the distance of a unit to its nearest, taking a pair (i, j) in
// place of both units' nearest saves c_i + c_j - d_ij; the pairs of the largest total saving stay, everyone else goes
// to their nearest. Limits on the number of partners are then met by moving flow along shortest paths, which keeps it
// optimal. Exact groups are solved apart.
#pragma once
#include <array>
#include "pair_optimal.h"

namespace twin {

struct DegreeLimits {
  int seeker_least = 1, seeker_most = std::numeric_limits<int>::max();
  int pool_least = 1, pool_most = std::numeric_limits<int>::max();
  bool binding() const {
    constexpr int none = std::numeric_limits<int>::max();
    return seeker_least > 1 || pool_least > 1 || seeker_most < none || pool_most < none;
  }
};

struct FullMatch {
  std::vector<std::pair<int, int>> pairs;  // seeker, unit of the pool
  std::vector<int> infeasible;             // groups whose limits can't be met
};

// Lists given whole.
struct WholeLists {
  std::vector<std::vector<Edge>> all;
  const std::vector<Edge>& edges(int list) const { return all[list]; }
  double bound(int) const { return std::numeric_limits<double>::infinity(); }
  bool extend(int) const { return false; }
  double lowest(int list) const {
    double least = 0;
    for (const Edge& edge : all[list]) least = std::min(least, edge.cost);
    return least;
  }
};

// A cover of both sides by pairs, with prices a of the seekers and b of the pool such that a_i + b_j <= d_ij, and equal
// on the pairs chosen.
class Cover {
 public:
  Cover(const PairProblem& problem, const std::vector<int>& seekers, const std::vector<int>& pool)
      : problem_(problem), seekers_(seekers), pool_(pool), of_seeker_(seekers.size()), of_pool_(pool.size()),
        seeker_price_(seekers.size()), pool_price_(pool.size()) {}

  void solve_free() {
    const int m = static_cast<int>(seekers_.size()), n = static_cast<int>(pool_.size());
    std::vector<int> seeker_place = places(seekers_), pool_place = places(pool_);
    const PairProblem turned = mirrored(problem_);
    Neighbours near_pool(problem_.seekers, problem_.seekers_height, problem_.pool, problem_.pool_height, problem_.p,
                         pool_, problem_.rules, problem_.window);
    Neighbours near_seekers(turned.seekers, turned.seekers_height, turned.pool, turned.pool_height, turned.p, seekers_,
                            turned.rules, turned.window);
    std::vector<Match> seeker_nearest(m), pool_nearest(n);
    for (int i = 0; i < m; ++i) seeker_nearest[i] = nearest_of(near_pool, seekers_[i]);
    for (int j = 0; j < n; ++j) pool_nearest[j] = nearest_of(near_seekers, pool_[j]);
    for (int i = 0; i < m; ++i) seeker_price_[i] = std::sqrt(seeker_nearest[i].squared);
    for (int j = 0; j < n; ++j) pool_price_[j] = std::sqrt(pool_nearest[j].squared);

    WholeLists lists;
    lists.all.resize(m);
    long total = 0;
    const auto add = [&](int i, int j, double distance) {
      const double saving = seeker_price_[i] + pool_price_[j] - distance;
      if (saving <= 0) return;
      lists.all[i].push_back({j, -saving});
      if (++total > kMostEdges) throw TooManyEdges("full matching needs too many candidate pairs");
    };
    for (int i = 0; i < m; ++i) {
      for (const Match& match : within(near_pool, seekers_[i], 2 * seeker_price_[i]))
        add(i, pool_place[match.row], std::sqrt(match.squared));
      if (i % 1000 == 0) problem_.tell(0.25 * i / m);
    }
    for (int j = 0; j < n; ++j) {
      for (const Match& match : within(near_seekers, pool_[j], 2 * pool_price_[j])) {
        const int i = seeker_place[match.row];
        const double distance = std::sqrt(match.squared);
        if (distance > 2 * seeker_price_[i]) add(i, j, distance);  // the others were found from the seeker's side
      }
      if (j % 1000 == 0) problem_.tell(0.25 + 0.25 * j / n);
    }
    Assignment<WholeLists> matching(lists, n);
    for (int i = 0; i < m; ++i) matching.add_row(i, 0.0);
    matching.solve(0, problem_.tell);
    for (int i = 0; i < m; ++i) {
      if (matching.column_of(i) >= 0) join(i, matching.column_of(i));
      else join(i, pool_place[seeker_nearest[i].row]);
    }
    for (int j = 0; j < n; ++j)
      if (matching.row_of(j) < 0) join(seeker_place[pool_nearest[j].row], j);
    for (int i = 0; i < m; ++i) seeker_price_[i] = std::max(0.0, seeker_price_[i] + matching.value(i));
    for (int j = 0; j < n; ++j) pool_price_[j] = std::max(0.0, pool_price_[j] + matching.price(j));
  }

  // Takes away what pairs of distance 0 left double: a pair whose units both have others.
  void prune(const DegreeLimits& limits) {
    for (std::size_t i = 0; i < seekers_.size(); ++i) {
      for (std::size_t k = 0; k < of_seeker_[i].size();) {
        const int j = of_seeker_[i][k];
        if (static_cast<int>(of_seeker_[i].size()) > limits.seeker_least &&
            static_cast<int>(of_pool_[j].size()) > limits.pool_least && of_pool_[j].size() > 1 &&
            of_seeker_[i].size() > 1)
          part(static_cast<int>(i), j);
        else
          ++k;
      }
    }
  }

  // False when the limits can't be met.
  bool meet(const DegreeLimits& limits) {
    limits_ = limits;
    const int m = static_cast<int>(seekers_.size()), n = static_cast<int>(pool_.size());
    hub_ = m + n;
    potential_.assign(m + n + 1, 0.0);
    for (int i = 0; i < m; ++i) potential_[i] = -seeker_price_[i];
    for (int j = 0; j < n; ++j) potential_[m + j] = pool_price_[j];
    for (int i = 0; i < m; ++i) {
      while (count(of_seeker_[i]) > limits.seeker_most) if (!move_flow(hub_, i)) return false;
      while (count(of_seeker_[i]) < limits.seeker_least) if (!move_flow(i, hub_)) return false;
      if (i % 64 == 0) problem_.tell(static_cast<double>(i) / (m + n));
    }
    for (int j = 0; j < n; ++j) {
      while (count(of_pool_[j]) > limits.pool_most) if (!move_flow(m + j, hub_)) return false;
      while (count(of_pool_[j]) < limits.pool_least) if (!move_flow(hub_, m + j)) return false;
      if (j % 64 == 0) problem_.tell(static_cast<double>(m + j) / (m + n));
    }
    return true;
  }

  void report(std::vector<std::pair<int, int>>& pairs) const {
    for (std::size_t i = 0; i < seekers_.size(); ++i)
      for (const int j : of_seeker_[i]) pairs.emplace_back(seekers_[i], pool_[j]);
  }

 private:
  static constexpr double kFar = std::numeric_limits<double>::infinity();
  static constexpr long kMostEdges = 400000000;
  static int count(const std::vector<int>& of) { return static_cast<int>(of.size()); }

  static std::vector<int> places(const std::vector<int>& rows) {
    std::vector<int> place(rows.empty() ? 0 : 1 + *std::max_element(rows.begin(), rows.end()), -1);
    for (std::size_t k = 0; k < rows.size(); ++k) place[rows[k]] = static_cast<int>(k);
    return place;
  }
  Match nearest_of(Neighbours& neighbours, int row) const {
    Nearest nearest(1, false, problem_.caliper);
    neighbours.search(row, nearest);
    const auto& found = nearest.finish();
    if (found.empty()) throw std::logic_error("full matching: a unit without candidates");
    return found[0];
  }
  std::vector<Match> within(Neighbours& neighbours, int row, double radius) const {
    Nearest nearest(std::numeric_limits<int>::max(), false, std::min(problem_.caliper, radius * (1 + 1e-12)));
    neighbours.search(row, nearest);
    return nearest.finish();
  }
  void join(int i, int j) {
    if (std::find(of_seeker_[i].begin(), of_seeker_[i].end(), j) != of_seeker_[i].end()) return;
    of_seeker_[i].push_back(j);
    of_pool_[j].push_back(i);
  }
  void part(int i, int j) {
    of_seeker_[i].erase(std::find(of_seeker_[i].begin(), of_seeker_[i].end(), j));
    of_pool_[j].erase(std::find(of_pool_[j].begin(), of_pool_[j].end(), i));
  }
  double distance(int i, int j) const { return problem_.distance(seekers_[i], pool_[j]); }

  // One unit of flow along a shortest path of the residual network hub -> seekers -> pool -> hub, in which a chosen
  // pair can be taken back and a unit's flow from the hub lies within its limits. Prices stay those of an optimum.
  bool move_flow(int from, int to) {
    const int m = static_cast<int>(seekers_.size()), nodes = hub_ + 1;
    std::vector<double> reached(nodes, kFar);
    std::vector<int> before(nodes, -1);
    std::vector<char> settled(nodes, 0);
    reached[from] = 0;
    while (true) {
      int at = -1;
      for (int node = 0; node < nodes; ++node)
        if (!settled[node] && reached[node] < kFar && (at < 0 || reached[node] < reached[at])) at = node;
      if (at < 0) return false;
      if (at == to) break;
      settled[at] = 1;
      const auto relax = [&](int node, double cost) {
        const double length = reached[at] + std::max(0.0, cost + potential_[at] - potential_[node]);
        if (settled[node] || length >= reached[node]) return;
        reached[node] = length;
        before[node] = at;
      };
      if (at == hub_) {
        for (int i = 0; i < m; ++i)
          if (count(of_seeker_[i]) < limits_.seeker_most) relax(i, 0);
        for (int j = 0; j < hub_ - m; ++j)
          if (count(of_pool_[j]) > limits_.pool_least) relax(m + j, 0);
      } else if (at < m) {
        if (count(of_seeker_[at]) > limits_.seeker_least) relax(hub_, 0);
        for (int j = 0; j < hub_ - m; ++j) {
          if (settled[m + j]) continue;
          const double length = distance(at, j);
          if (length > problem_.caliper || !problem_.rules.allow(seekers_[at], pool_[j])) continue;
          if (std::find(of_seeker_[at].begin(), of_seeker_[at].end(), j) == of_seeker_[at].end()) relax(m + j, length);
        }
      } else {
        if (count(of_pool_[at - m]) < limits_.pool_most) relax(hub_, 0);
        for (const int i : of_pool_[at - m]) relax(i, -distance(i, at - m));
      }
    }
    for (int node = 0; node < nodes; ++node) potential_[node] += std::min(reached[node], reached[to]);
    for (int node = to; node != from; node = before[node]) {
      const int last = before[node];
      if (last < m && node >= m && node < hub_) join(last, node - m);
      if (node < m && last >= m && last < hub_) part(node, last - m);
    }
    return true;
  }

  const PairProblem& problem_;
  const std::vector<int>& seekers_;
  const std::vector<int>& pool_;
  std::vector<std::vector<int>> of_seeker_, of_pool_;
  std::vector<double> seeker_price_, pool_price_, potential_;
  DegreeLimits limits_;
  int hub_ = 0;
};

// Everyone who takes part must have someone to go with: leave out the others first.
inline FullMatch full_match(const PairProblem& problem, const std::vector<char>& seeker_in,
                            const std::vector<char>& pool_in, const DegreeLimits& limits) {
  FullMatch out;
  auto pools = rows_by_group(problem.pool_group, problem.groups, problem.pool_height);
  auto seekers = rows_by_group(problem.seeker_group, problem.groups, problem.seekers_height);
  for (int group = 0; group < problem.groups; ++group) {
    const auto drop = [](std::vector<int>& rows, const std::vector<char>& in) {
      rows.erase(std::remove_if(rows.begin(), rows.end(), [&](int row) { return !in[row]; }), rows.end());
    };
    drop(seekers[group], seeker_in);
    drop(pools[group], pool_in);
    if (seekers[group].empty() || pools[group].empty()) continue;
    Cover cover(problem, seekers[group], pools[group]);
    cover.solve_free();
    cover.prune(DegreeLimits());
    if (limits.binding()) {
      if (!cover.meet(limits)) {
        out.infeasible.push_back(group);
        continue;
      }
      cover.prune(limits);
    }
    cover.report(out.pairs);
  }
  return out;
}
}  // namespace twin
