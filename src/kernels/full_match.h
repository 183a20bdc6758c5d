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

struct MatchedSets {
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

// A cover of both sides by pairs, with prices a of the seekers and b of the pool such that a_i + b_j <= d_ij for
// pairs not chosen and >= for those chosen.
class Cover {
 public:
  Cover(const PairProblem& problem, const std::vector<int>& seekers, const std::vector<int>& pool)
      : problem_(problem),
        seekers_(seekers),
        pool_(pool),
        of_seeker_(seekers.size()),
        of_pool_(pool.size()),
        seeker_price_(seekers.size()),
        pool_price_(pool.size()) {}

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
    Eigen::Index total = 0;
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
      if (matching.column_of(i) >= 0)
        join(i, matching.column_of(i));
      else
        join(i, pool_place[seeker_nearest[i].row]);
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
    const int m = static_cast<int>(seekers_.size()), n = static_cast<int>(pool_.size());
    Side seekers{of_seeker_, seeker_price_, limits.seeker_least, limits.seeker_most, false, {}, {}, {}};
    Side pool{of_pool_, pool_price_, limits.pool_least, limits.pool_most, true, {}, {}, {}};
    for (Side* side : {&seekers, &pool}) {
      side->reached.assign(side->partners.size(), kFar);
      side->before.assign(side->partners.size(), -1);
      side->settled.assign(side->partners.size(), 0);
    }
    for (int i = 0; i < m; ++i) {
      while (count(of_seeker_[i]) > limits.seeker_most)
        if (!move_flow(pool, seekers, i, false)) return false;
      while (count(of_seeker_[i]) < limits.seeker_least)
        if (!move_flow(seekers, pool, i, true)) return false;
      if (i % 64 == 0) problem_.tell(static_cast<double>(i) / (m + n));
    }
    for (int j = 0; j < n; ++j) {
      while (count(of_pool_[j]) > limits.pool_most)
        if (!move_flow(seekers, pool, j, false)) return false;
      while (count(of_pool_[j]) < limits.pool_least)
        if (!move_flow(pool, seekers, j, true)) return false;
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
  static constexpr Eigen::Index kMostEdges = 400000000;
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

  struct Side {
    std::vector<std::vector<int>>& partners;
    std::vector<double>& price;
    int least, most;
    bool is_pool;
    std::vector<double> reached;  // scratch of move_flow()
    std::vector<int> before;
    std::vector<char> settled;
  };

  double between(const Side& senders, int sender, int receiver) const {
    return senders.is_pool ? distance(receiver, sender) : distance(sender, receiver);
  }

  // One unit of flow from a unit with too many or too few partners to the hub, along a shortest path of the residual
  // network hub -> senders -> receivers -> hub, in which a chosen pair can be taken back and every unit's flow lies
  // within its limits. A receiver with too many partners sends one back; a sender with too few takes one more. The
  // search starts at the unit and ends where the hub is nearest; prices stay those of an optimum.
  bool move_flow(Side& senders, Side& receivers, int start, bool from_sender) {
    struct Step {
      double distance;
      bool sender;
      int unit;
      bool operator>(const Step& other) const {
        return std::tie(distance, sender, unit) > std::tie(other.distance, other.sender, other.unit);
      }
    };
    std::priority_queue<Step, std::vector<Step>, std::greater<Step>> steps;
    std::vector<int> seen[2];
    const auto reach = [&](bool sender, int unit, double distance, int before) {
      Side& side = sender ? senders : receivers;
      if (side.settled[unit] || distance >= side.reached[unit]) return;
      if (side.reached[unit] == kFar) seen[sender].push_back(unit);
      side.reached[unit] = distance;
      side.before[unit] = before;
      steps.push({distance, sender, unit});
    };
    reach(from_sender, start, 0.0, -1);
    double best = kFar;
    bool last_sender = false;
    int last = -1;
    const auto leave = [&](bool sender, int unit, double distance) {
      if (distance >= best) return;
      best = distance;
      last_sender = sender;
      last = unit;
    };
    while (!steps.empty() && steps.top().distance < best) {
      const Step step = steps.top();
      steps.pop();
      Side& own = step.sender ? senders : receivers;
      if (own.settled[step.unit] || step.distance > own.reached[step.unit]) continue;
      own.settled[step.unit] = 1;
      const double at = step.distance;
      const auto& partners = own.partners[step.unit];
      if (!step.sender) {
        if (count(partners) < own.most) leave(false, step.unit, at + std::max(0.0, own.price[step.unit]));
        for (const int i : partners)  // a pair is used at most once, so its prices may exceed its length
          reach(true, i, at + std::max(0.0, senders.price[i] + own.price[step.unit] - between(senders, i, step.unit)),
                step.unit);
        continue;
      }
      if (count(partners) > own.least) leave(true, step.unit, at + std::max(0.0, -own.price[step.unit]));
      for (int j = 0; j < static_cast<int>(receivers.partners.size()); ++j) {
        if (receivers.settled[j]) continue;
        const int i = step.unit;
        const double length = between(senders, i, j);
        const double cost = at + std::max(0.0, length - senders.price[i] - receivers.price[j]);
        if (cost >= best || cost >= receivers.reached[j] || length > problem_.caliper) continue;
        if (!(senders.is_pool ? problem_.rules.allow(seekers_[j], pool_[i])
                              : problem_.rules.allow(seekers_[i], pool_[j])))
          continue;
        if (std::find(partners.begin(), partners.end(), j) == partners.end()) reach(false, j, cost, i);
      }
    }
    if (last >= 0) {
      for (const int i : seen[1]) senders.price[i] += best - std::min(best, senders.reached[i]);
      for (const int j : seen[0]) receivers.price[j] -= best - std::min(best, receivers.reached[j]);
      const auto pair_of = [&](int sender, int receiver, bool joins) {
        const int i = senders.is_pool ? receiver : sender, j = senders.is_pool ? sender : receiver;
        if (joins)
          join(i, j);
        else
          part(i, j);
      };
      bool sender = last_sender;
      for (int unit = last; !(unit == start && sender == from_sender);) {
        const int before = (sender ? senders : receivers).before[unit];
        if (sender)
          pair_of(unit, before, false);
        else
          pair_of(before, unit, true);
        unit = before;
        sender = !sender;
      }
    }
    for (const bool sender : {false, true}) {
      Side& side = sender ? senders : receivers;
      for (const int unit : seen[sender]) {
        side.reached[unit] = kFar;
        side.settled[unit] = 0;
      }
    }
    return last >= 0;
  }

  const PairProblem& problem_;
  const std::vector<int>& seekers_;
  const std::vector<int>& pool_;
  std::vector<std::vector<int>> of_seeker_, of_pool_;
  std::vector<double> seeker_price_, pool_price_;
};

// Everyone who takes part must have someone to go with: leave out the others first.
inline MatchedSets full_match(const PairProblem& problem, const std::vector<char>& seeker_in,
                              const std::vector<char>& pool_in, const DegreeLimits& limits) {
  MatchedSets out;
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
