// Optimal pairing without replacement: as many pairs as the caliper and the rules allow, and among those the least
// total distance. On one number without rules in the time of a sort (pair_line.h); otherwise by shortest augmenting
// paths on lists of nearest neighbours (assignment.h). Exact groups are solved apart.
#pragma once
#include <unordered_map>
#include <unordered_set>
#include "assignment.h"
#include "pair_greedy.h"
#include "pair_line.h"
#include "pair_nearest.h"

namespace twin {

struct TooManyEdges : std::runtime_error {
  using std::runtime_error::runtime_error;
};

// The lists of one group, lengthened by doubling. A unit of the pool stands for `copies` columns.
class NearLists {
 public:
  NearLists(const PairProblem& problem, const std::vector<int>& seekers, const std::vector<int>& pool, int copies,
            int threads)
      : problem_(problem),
        seekers_(seekers),
        copies_(copies),
        edges_(seekers.size()),
        wanted_(seekers.size(), kFirst),
        bound_(seekers.size(), kFar),
        column_(pool.empty() ? 0 : 1 + *std::max_element(pool.begin(), pool.end())),
        neighbours_(problem.seekers, problem.seekers_height, problem.pool, problem.pool_height, problem.p, pool,
                    problem.rules, problem.window) {
    for (std::size_t k = 0; k < pool.size(); ++k) column_[pool[k]] = static_cast<int>(k);
    const Eigen::Index size = static_cast<Eigen::Index>(seekers.size());
    (void)threads;
    ParallelGuard guard;
#ifdef _OPENMP
#pragma omp parallel for schedule(dynamic, 64) num_threads(threads)
#endif
    for (Eigen::Index list = 0; list < size; ++list) guard.run([&] { query(static_cast<int>(list)); });
    guard.rethrow();
    for (const auto& edges : edges_) total_ += static_cast<Eigen::Index>(edges.size());
  }
  const std::vector<Edge>& edges(int list) const { return edges_[list]; }
  double bound(int list) const { return bound_[list]; }
  double lowest(int list) const { return edges_[list].empty() ? bound_[list] : edges_[list][0].cost; }
  bool extend(int list) {
    if (bound_[list] == kFar) return false;
    total_ -= static_cast<Eigen::Index>(edges_[list].size());
    wanted_[list] *= 4;
    query(list);
    total_ += static_cast<Eigen::Index>(edges_[list].size());
    if (total_ > kMostEdges) throw TooManyEdges("optimal pairing needs too many candidate pairs");
    return true;
  }

 private:
  static constexpr double kFar = std::numeric_limits<double>::infinity();
  static constexpr int kFirst = 10;
  static constexpr Eigen::Index kMostEdges = 400000000;

  void query(int list) {
    Nearest nearest(wanted_[list], false, problem_.caliper);
    neighbours_.search(seekers_[list], nearest);
    const std::vector<Match>& found = nearest.finish();
    std::vector<Edge>& edges = edges_[list];
    for (std::size_t k = edges.size() / copies_; k < found.size(); ++k)
      for (int copy = 0; copy < copies_; ++copy)
        edges.push_back({column_[found[k].row] * copies_ + copy, std::sqrt(found[k].squared)});
    bound_[list] = static_cast<int>(found.size()) < wanted_[list] ? kFar : std::sqrt(found.back().squared);
  }

  const PairProblem& problem_;
  const std::vector<int>& seekers_;
  int copies_;
  std::vector<std::vector<Edge>> edges_;
  std::vector<int> wanted_;
  std::vector<double> bound_;
  std::vector<int> column_;
  Neighbours neighbours_;
  Eigen::Index total_ = 0;
};

// The same problem with the arms in each other's place.
inline PairProblem mirrored(const PairProblem& problem) {
  PairProblem out = problem;
  std::swap(out.seekers_height, out.pool_height);
  std::swap(out.seekers, out.pool);
  std::swap(out.scaled_seekers, out.scaled_pool);
  std::swap(out.seeker_group, out.pool_group);
  for (Rules::Limit& limit : out.rules.limits) std::swap(limit.seekers, limit.pool);
  for (Rules::Label& label : out.rules.apart) std::swap(label.seekers, label.pool);
  return out;
}

// More than the total distance of any set of pairs of these units: what a row pays that stays without.
inline double beyond_all(const PairProblem& problem, const std::vector<int>& seekers, const std::vector<int>& pool) {
  double squared = 0;
  for (int j = 0; j < problem.p; ++j) {
    double low = INFINITY, high = -INFINITY;
    const auto widen = [&](double x) {
      low = std::min(low, x);
      high = std::max(high, x);
    };
    for (const int row : seekers) widen(problem.seekers[j * problem.seekers_height + row]);
    for (const int row : pool) widen(problem.pool[j * problem.pool_height + row]);
    squared += (high - low) * (high - low);
  }
  const double longest = std::min(problem.caliper, std::sqrt(squared));
  return (1 + longest) * static_cast<double>(1 + std::min(seekers.size(), pool.size()));
}

inline Pairs pair_group_on_line(const PairProblem& problem, const std::vector<int>& seekers,
                                const std::vector<int>& pool, int partners_each) {
  Line asking, asked;
  for (const int row : seekers)
    for (int copy = 0; copy < partners_each; ++copy) asking.push_back({problem.seekers[row], row});
  for (const int row : pool) asked.push_back({problem.pool[row], row});
  return pair_line(std::move(asking), std::move(asked), problem.caliper);
}

// Each seeker asks for `least` partners at any price short of its own absence, then for up to `most` more of those
// left. First as many seekers' requests as can be met, then as many pairs, then the least total distance. Some may be
// left with fewer than `least`. Returns pairs of seeker and unit.
inline Pairs solve_group(const PairProblem& problem, const std::vector<int>& seekers, const std::vector<int>& pool,
                         int least, int most, int threads) {
  Pairs pairs;
  if (seekers.empty() || pool.empty()) return pairs;
  if (problem.on_line() && !problem.rules.any() && least == most) {
    return pair_group_on_line(problem, seekers, pool, most);
  }
  const double skip = beyond_all(problem, seekers, pool);
  if (least == most && seekers.size() * most > pool.size()) {  // the pool is the smaller side
    const PairProblem turned = mirrored(problem);
    NearLists lists(turned, pool, seekers, most, threads);
    Assignment<NearLists> assignment(lists, static_cast<int>(seekers.size()) * most);
    for (std::size_t k = 0; k < pool.size(); ++k) assignment.add_row(static_cast<int>(k), skip);
    assignment.solve(0, problem.tell);
    for (std::size_t k = 0; k < pool.size(); ++k) {
      const int column = assignment.column_of(static_cast<int>(k));
      if (column >= 0) pairs.emplace_back(seekers[column / most], pool[k]);
    }
    return pairs;
  }
  NearLists lists(problem, seekers, pool, 1, threads);
  Assignment<NearLists> assignment(lists, static_cast<int>(pool.size()));
  std::vector<int> list_of_row;
  const auto ask = [&](int list) {
    assignment.add_row(list, skip);
    list_of_row.push_back(list);
  };
  for (std::size_t k = 0; k < seekers.size(); ++k)
    for (int copy = 0; copy < least; ++copy) ask(static_cast<int>(k));
  assignment.solve(0, problem.tell);
  if (most > least) {
    const int first = static_cast<int>(list_of_row.size());
    std::vector<char> served(seekers.size(), 1);
    for (int row = 0; row < first; ++row) {
      if (assignment.column_of(row) < 0)
        served[list_of_row[row]] = 0;
      else
        assignment.must_have(row);
    }
    for (std::size_t k = 0; k < seekers.size(); ++k)
      for (int copy = least; copy < most && served[k]; ++copy) ask(static_cast<int>(k));
    assignment.solve(first, problem.tell);
  }
  for (std::size_t row = 0; row < list_of_row.size(); ++row) {
    const int column = assignment.column_of(static_cast<int>(row));
    if (column >= 0) pairs.emplace_back(seekers[list_of_row[row]], pool[column]);
  }
  return pairs;
}

// Nobody keeps fewer than `least` partners. Those who are left with some hold units that would serve others whole: the
// ones with the fewest give up, as many as can't all be served with what is held, and the rest is solved anew. (To
// serve as many as can be is a hard problem from three partners on; this is a good answer, not always the best one.)
inline Pairs pair_whole_sets(const PairProblem& problem, std::vector<int> seekers, const std::vector<int>& pool,
                             int least, int most, int threads) {
  while (true) {
    Pairs pairs = solve_group(problem, seekers, pool, least, most, threads);
    if (least < 2) return pairs;
    std::unordered_map<int, int> count;
    for (const auto& pair : pairs) ++count[pair.first];
    std::vector<std::pair<int, int>> few;  // partners, seeker
    int held = 0;
    for (const auto& [seeker, partners] : count) {
      if (partners >= least) continue;
      few.emplace_back(partners, seeker);
      held += partners;
    }
    if (few.empty()) return pairs;
    std::sort(few.begin(), few.end(), [](const auto& a, const auto& b) {
      return a.first > b.first || (a.first == b.first && a.second < b.second);
    });
    few.resize(held / least);
    std::vector<int> rest;
    for (const int seeker : seekers) {
      const auto found = count.find(seeker);
      if (found != count.end() && found->second >= least) rest.push_back(seeker);
    }
    for (const auto& [partners, seeker] : few) rest.push_back(seeker);
    std::sort(rest.begin(), rest.end());
    seekers = std::move(rest);
  }
}

// Whole sets, and then further ones from the units left over, while there are any.
inline void pair_group(const PairProblem& problem, std::vector<int> seekers, std::vector<int> pool, int least, int most,
                       int threads, Partners& partners) {
  while (!seekers.empty() && !pool.empty()) {
    const Pairs pairs = pair_whole_sets(problem, seekers, pool, least, most, threads);
    for (const auto& pair : pairs) partners.add(pair.first, pair.second);
    if (least < 2 || pairs.empty()) return;
    std::unordered_set<int> served, used;
    for (const auto& pair : pairs) {
      served.insert(pair.first);
      used.insert(pair.second);
    }
    const auto drop = [](std::vector<int>& rows, const std::unordered_set<int>& gone) {
      rows.erase(std::remove_if(rows.begin(), rows.end(), [&](int row) { return gone.count(row) > 0; }), rows.end());
    };
    drop(seekers, served);
    drop(pool, used);
  }
}

inline Partners pair_optimal(const PairProblem& problem, int least, int most, int threads) {
  Partners partners(problem.seekers_height, most);
  const auto pools = rows_by_group(problem.pool_group, problem.groups, problem.pool_height);
  const auto seekers = rows_by_group(problem.seeker_group, problem.groups, problem.seekers_height);
  for (int group = 0; group < problem.groups; ++group)
    pair_group(problem, seekers[group], pools[group], least, most, threads, partners);
  return partners;
}
}  // namespace twin
