// Optimal pairing on one number, exact, in the time of a sort: as many pairs within the caliper as there can be, and
// among those the least total distance. No two pairs of an optimum need cross.
//
// When every unit of one side ("needs") can have a partner: walk the sorted line; b counts the needs passed minus the
// partners used. A stretch of length g costs g |b|, a need moves b up by one, a partner may be used (b down by one) or
// not. The least cost f(b) is convex. Kept are its slopes f(b + 1) - f(b), sorted: those at b < 0 and at b >= 0, each
// split by sign, so that adding g to one side and -g to the other, shifting at a need and inserting a slope of 0 at a
// partner all happen at the ends of four queues. The caliper bounds b: the k-th need meets the k-th partner used, so
// that partner may not come too early or too late. Used are the partners met with b below the least point of f, read
// backwards from b = 0.
//
// Otherwise the line falls into parts in each of which one side is served whole (Dulmage & Mendelsohn 1958): what
// alternating paths reach from the needs left over, what they reach from the partners left over, and the rest. Pairs
// of a largest pairing never join two parts.
#pragma once
#include <deque>
#include "pair_problem.h"

namespace twin {
class LineFlow {
 public:
  void stretch(double length) {
    below_shift_ -= length;
    above_shift_ += length;
    while (!below_rising_.empty() && below_rising_.front() + below_shift_ < 0) {
      below_falling_.push_back(below_rising_.front());
      below_rising_.pop_front();
    }
    while (!above_falling_.empty() && above_falling_.back() + above_shift_ >= 0) {
      above_rising_.push_back(above_falling_.back());
      above_falling_.pop_back();
    }
  }
  void need() {  // the slope at b = -1 moves to b = 0
    double slope = -kHuge;
    if (below() > 0) slope = take_last_below();
    put_first_above(slope);
  }
  // Returns the least point of f before the partner: it is used where b, after it, is below.
  Eigen::Index partner() {
    if (!above_falling_.empty()) {
      const Eigen::Index least = static_cast<Eigen::Index>(above_falling_.size());
      put_last_below(take_first_above());
      above_rising_.push_back(-above_shift_);
      return least;
    }
    const Eigen::Index least = -static_cast<Eigen::Index>(below_rising_.size());
    below_rising_.push_front(-below_shift_);
    return least;
  }
  // From here on b lies in low .. high. Each slope becomes a wall once, so that this costs no more than the walk.
  void bound(Eigen::Index low, Eigen::Index high) {
    while (below() > 0 && below() > -low) take_first_below();
    while (above() > 0 && above() > high) take_last_above();
    if (low > 0) raise_walls(low);
    if (high < 0) lower_walls(-high);
  }

 private:
  static constexpr double kHuge = 1e300;
  Eigen::Index below() const { return static_cast<Eigen::Index>(below_falling_.size() + below_rising_.size()); }
  Eigen::Index above() const { return static_cast<Eigen::Index>(above_falling_.size() + above_rising_.size()); }

  double take_last_below() {
    std::deque<double>& from = below_rising_.empty() ? below_falling_ : below_rising_;
    const double slope = from.back() + below_shift_;
    from.pop_back();
    return slope;
  }
  void take_first_below() {
    if (below_falling_.empty())
      below_rising_.pop_front();
    else
      below_falling_.pop_front();
  }
  void put_last_below(double slope) {
    if (slope < 0)
      below_falling_.push_back(slope - below_shift_);
    else
      below_rising_.push_back(slope - below_shift_);
  }
  double take_first_above() {
    std::deque<double>& from = above_falling_.empty() ? above_rising_ : above_falling_;
    const bool falling = !above_falling_.empty();
    const double slope = (falling ? from.front() : from.back()) + above_shift_;
    if (falling)
      from.pop_front();
    else
      from.pop_back();
    return slope;
  }
  void take_last_above() {
    if (above_rising_.empty())
      above_falling_.pop_back();
    else
      above_rising_.pop_front();
  }
  void put_first_above(double slope) {
    if (slope < 0)
      above_falling_.push_front(slope - above_shift_);
    else
      above_rising_.push_back(slope - above_shift_);
  }
  // The slopes at 0 .. count - 1 forbid to stay below `count`.
  void raise_walls(Eigen::Index count) {
    const auto end = std::partition_point(above_falling_.begin(), above_falling_.end(),
                                          [](double slope) { return slope < -kHuge / 2; });
    for (Eigen::Index k = static_cast<Eigen::Index>(end - above_falling_.begin()); k < count; ++k) {
      if (k < static_cast<Eigen::Index>(above_falling_.size())) {
        above_falling_[k] = -kHuge;
      } else if (!above_rising_.empty()) {
        above_rising_.pop_back();
        above_falling_.push_back(-kHuge);
      }
    }
  }
  // The slopes at -count .. -1 forbid to stay above -count.
  void lower_walls(Eigen::Index count) {
    const auto start = std::partition_point(below_rising_.begin(), below_rising_.end(),
                                            [](double slope) { return slope < kHuge / 2; });
    for (Eigen::Index k = static_cast<Eigen::Index>(below_rising_.end() - start); k < count; ++k) {
      const Eigen::Index size = static_cast<Eigen::Index>(below_rising_.size());
      if (k < size) {
        below_rising_[size - 1 - k] = kHuge;
      } else if (!below_falling_.empty()) {
        below_falling_.pop_back();
        below_rising_.push_front(kHuge);
      }
    }
  }

  double below_shift_ = 0, above_shift_ = 0;
  // Slopes less their side's shift, rising along the line: below_falling_, below_rising_ (from the front),
  // above_falling_ (from the front), above_rising_ (from the back).
  std::deque<double> below_falling_, below_rising_, above_falling_, above_rising_;
};

using Pairs = std::vector<std::pair<int, int>>;  // (need, partner)

// Every need can have a partner within the caliper.
inline void pair_all_needs(const Line& needs, const Line& partners, double caliper, Pairs& pairs) {
  const Eigen::Index m = static_cast<Eigen::Index>(needs.size()), n = static_cast<Eigen::Index>(partners.size());
  LineFlow flow;
  std::vector<Eigen::Index> least(n);
  Eigen::Index passed = 0, expired = 0,
               in_reach = 0;  // needs passed; too far back for the next partner; not too far ahead
  double position = 0;
  const auto move_to = [&](double to) {
    if (to > position) flow.stretch(to - position);
    position = to;
  };
  if (m > 0) position = needs[0].score;
  if (n > 0) position = m > 0 ? std::min(position, partners[0].score) : partners[0].score;
  for (Eigen::Index at = 0; at <= n; ++at) {
    while (passed < m && (at == n || needs[passed].score <= partners[at].score)) {
      move_to(needs[passed++].score);
      flow.need();
    }
    if (at == n) break;
    move_to(partners[at].score);
    least[at] = flow.partner();
    if (std::isinf(caliper)) continue;
    while (expired < m && (at + 1 == n || partners[at + 1].score - needs[expired].score > caliper)) ++expired;
    while (in_reach < m && needs[in_reach].score - partners[at].score <= caliper) ++in_reach;
    flow.bound(passed - in_reach, passed - expired);
  }
  std::vector<char> used(n, 0);
  Eigen::Index balance = 0;
  for (Eigen::Index at = n; at-- > 0;) {
    while (passed > 0 && needs[passed - 1].score > partners[at].score) {
      --passed;
      --balance;
    }
    if (balance < least[at]) {
      used[at] = 1;
      ++balance;
    }
  }
  Eigen::Index next = 0;
  for (Eigen::Index at = 0; at < n; ++at)
    if (used[at] && next < m) pairs.emplace_back(needs[next++].row, partners[at].row);
  if (next != m) throw std::logic_error("pair_all_needs: a need was left out");
}

// A largest pairing within the caliper: each need in turn takes the first partner still in reach. Place of the
// partner, or -1.
inline std::vector<Eigen::Index> largest_pairing(const Line& needs, const Line& partners, double caliper) {
  std::vector<Eigen::Index> partner(needs.size(), -1);
  std::size_t at = 0;
  for (std::size_t k = 0; k < needs.size(); ++k) {
    while (at < partners.size() && needs[k].score - partners[at].score > caliper) ++at;
    if (at < partners.size() && partners[at].score - needs[k].score <= caliper)
      partner[k] = static_cast<Eigen::Index>(at++);
  }
  return partner;
}

// Which of the first side alternating paths from its unpaired reach, and which of the second side they pass.
inline void reach_from_unpaired(const Line& first, const Line& second, const std::vector<Eigen::Index>& second_of,
                                const std::vector<Eigen::Index>& first_of, double caliper,
                                std::vector<char>& first_reached, std::vector<char>& second_reached) {
  std::vector<Eigen::Index> unseen(second.size() + 1);
  std::iota(unseen.begin(), unseen.end(), Eigen::Index(0));
  const auto next_unseen = [&](Eigen::Index at) {
    while (unseen[at] != at) at = unseen[at] = unseen[unseen[at]];
    return at;
  };
  std::vector<Eigen::Index> waiting;
  for (std::size_t k = 0; k < first.size(); ++k) {
    if (second_of[k] >= 0) continue;
    first_reached[k] = 1;
    waiting.push_back(static_cast<Eigen::Index>(k));
  }
  while (!waiting.empty()) {
    const double score = first[waiting.back()].score;
    waiting.pop_back();
    Eigen::Index at = std::partition_point(second.begin(), second.end(),
                                           [&](const Place& place) { return score - place.score > caliper; }) -
                      second.begin();
    for (at = next_unseen(at); at < static_cast<Eigen::Index>(second.size()) && second[at].score - score <= caliper;
         at = next_unseen(at)) {
      unseen[at] = at + 1;
      second_reached[at] = 1;
      const Eigen::Index mate = first_of[at];
      if (mate < 0) throw std::logic_error("reach_from_unpaired: the pairing was not a largest one");
      if (!first_reached[mate]) {
        first_reached[mate] = 1;
        waiting.push_back(mate);
      }
    }
  }
}

inline Pairs pair_line(Line needs, Line partners, double caliper) {
  std::sort(needs.begin(), needs.end());
  std::sort(partners.begin(), partners.end());
  Pairs pairs, turned;
  const auto turn_in = [&] {
    for (const auto& pair : turned) pairs.emplace_back(pair.second, pair.first);
  };
  if (std::isinf(caliper)) {
    if (needs.size() <= partners.size()) {
      pair_all_needs(needs, partners, caliper, pairs);
    } else {
      pair_all_needs(partners, needs, caliper, turned);
      turn_in();
    }
    return pairs;
  }
  const std::vector<Eigen::Index> partner_of = largest_pairing(needs, partners, caliper);
  std::vector<Eigen::Index> need_of(partners.size(), -1);
  for (std::size_t k = 0; k < needs.size(); ++k)
    if (partner_of[k] >= 0) need_of[partner_of[k]] = static_cast<Eigen::Index>(k);
  std::vector<char> scarce_needs(needs.size(), 0), scarce_partners(partners.size(), 0);
  reach_from_unpaired(needs, partners, partner_of, need_of, caliper, scarce_needs, scarce_partners);
  const auto part = [](const Line& line, const std::vector<char>& inside, char which) {
    Line out;
    for (std::size_t k = 0; k < line.size(); ++k)
      if (inside[k] == which) out.push_back(line[k]);
    return out;
  };
  // where partners are scarce all of them are used; elsewhere all needs are served
  pair_all_needs(part(partners, scarce_partners, 1), part(needs, scarce_needs, 1), caliper, turned);
  turn_in();
  pair_all_needs(part(needs, scarce_needs, 0), part(partners, scarce_partners, 0), caliper, pairs);
  return pairs;
}
}  // namespace twin
