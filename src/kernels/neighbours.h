// Nearest neighbours between two sets of points in Euclidean coordinates: a bucketed k-d tree in few dimensions, a
// vectorised scan in many; where a score caliper leaves only a part of the pool, of a window of the line. Buckets are
// screened in single precision and measured in double (screen.h). Ties go to the lower row.
#pragma once
#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <deque>
#include <initializer_list>
#include <limits>
#include <memory>
#include <numeric>
#include <vector>
#include "boxes.h"
#include "screen.h"

namespace twin {

// Which units may meet besides being near: |difference| at most a width (closed) on every limit, different labels on
// every `apart`. Columns of the seekers and of the pool, in their own row order.
struct Rules {
  struct Limit {
    const double* seekers;
    const double* pool;
    double width;
  };
  struct Label {
    const int* seekers;
    const int* pool;
  };
  std::vector<Limit> limits;
  std::vector<Label> apart;
  bool not_itself = false;  // seekers are the pool: nobody is their own neighbour

  bool any() const { return not_itself || !limits.empty() || !apart.empty(); }
  bool allow(int seeker, int unit) const {
    if (not_itself && seeker == unit) return false;
    for (const Limit& limit : limits)
      if (!(std::abs(limit.seekers[seeker] - limit.pool[unit]) <= limit.width)) return false;
    for (const Label& label : apart)
      if (label.seekers[seeker] == label.pool[unit]) return false;
    return true;
  }
};

struct Match {
  double squared;  // squared distance
  int row;         // of the pool
  bool operator<(const Match& other) const {
    return squared < other.squared || (squared == other.squared && row < other.row);
  }
};

// Squared distances whose roots agree within 1e-12 relative are ties (Methods, "Matching").
inline double tie_limit(double squared) { return squared * (1 + 2e-12); }

// The k nearest offered so far, with all ties of the last one if asked.
class Nearest {
 public:
  Nearest(int k, bool ties, double caliper) : k_(k), ties_(ties), caliper_(caliper) {}
  void clear() {
    best_.clear();
    evicted_.clear();
  }
  // For another seeker, after narrow().
  void restart() {
    clear();
    caliper_ = INFINITY;
  }
  // There are k within this squared distance.
  void narrow(double squared) { caliper_ = std::min(caliper_, std::sqrt(squared) * (1 + 1e-9)); }
  int wanted() const { return k_; }
  // Nothing beyond this squared distance is wanted.
  double limit() const {
    if (static_cast<int>(best_.size()) < k_) return caliper_ * caliper_ * (1 + 1e-12);
    return ties_ ? tie_limit(best_.front().squared) : best_.front().squared;
  }
  void offer(const Match& match) {
    if (caliper_ < INFINITY && !(std::sqrt(match.squared) <= caliper_)) return;
    if (static_cast<int>(best_.size()) < k_) {
      best_.push_back(match);
      std::push_heap(best_.begin(), best_.end());
      return;
    }
    if (match < best_.front()) {
      if (ties_) evicted_.push_back(best_.front());
      std::pop_heap(best_.begin(), best_.end());
      best_.back() = match;
      std::push_heap(best_.begin(), best_.end());
    } else if (ties_ && match.squared <= tie_limit(best_.front().squared)) {
      evicted_.push_back(match);
    }
  }
  // Nearest first. The collection is spent.
  std::vector<Match>& finish() {
    if (!evicted_.empty()) {
      const double limit = tie_limit(best_.front().squared);
      for (const Match& match : evicted_)
        if (match.squared <= limit) best_.push_back(match);
      evicted_.clear();
    }
    std::sort(best_.begin(), best_.end());
    return best_;
  }

 private:
  int k_;
  bool ties_;
  double caliper_;
  std::vector<Match> best_, evicted_;
};

// A row of numbers, on the stack where it is short: there is one for every query.
template <class T>
class Row {
 public:
  explicit Row(int size) {
    if (size > kShort) long_.resize(size);
    data_ = size > kShort ? long_.data() : short_;
    std::fill(data_, data_ + size, T(0));
  }
  Row(const Row&) = delete;
  Row& operator=(const Row&) = delete;
  T& operator[](int j) { return data_[j]; }
  T operator[](int j) const { return data_[j]; }
  T* data() { return data_; }
  const T* data() const { return data_; }

 private:
  static constexpr int kShort = 16;
  T short_[kShort];
  std::vector<T> long_;
  T* data_;
};

class Neighbours {
 public:
  // seekers, pool: column-major points; heights: their numbers of rows. rows: the rows of the pool that take part.
  // window: index of the limit along whose line the search keeps, or -1. boxes: search by the boxes of the tree's
  // buckets, whatever the number of dimensions.
  Neighbours(const double* seekers, Eigen::Index seeker_height, const double* pool, Eigen::Index pool_height, int p,
             const std::vector<int>& rows, const Rules& rules, int window = -1, bool boxes = false)
      : seekers_(seekers), seeker_height_(seeker_height), p_(p), rules_(&rules), window_(window), centre_(p, 0.0) {
    const Eigen::Index n = static_cast<Eigen::Index>(rows.size());
    for (int j = 0; j < p; ++j) {
      for (const int row : rows) centre_[j] += pool[j * pool_height + row];
      if (n > 0) centre_[j] /= static_cast<double>(n);
    }
    std::vector<int> order = rows;
    tree_ = (p <= kTreeDimensions || boxes) && n > 4 * kBucket;
    if (tree_) {
      while (((n - 1) >> depth_) + 1 > kBucket) ++depth_;  // halving rounds up
      split_dimension_.assign((1u << depth_) - 1, 0);
      split_value_.assign((1u << depth_) - 1, 0.0);
      live_.assign((2u << depth_) - 1, 0);
      buckets_ = Eigen::Index(1) << depth_;
      starts_.assign(buckets_ + 1, n);
      build(order, pool, pool_height, 0, 0, n, 0);
    } else {
      buckets_ = (n + kBucket - 1) / kBucket;
      if (window >= 0) {
        const double* line = rules.limits[window].pool;
        std::sort(order.begin(), order.end(),
                  [&](int a, int b) { return line[a] < line[b] || (line[a] == line[b] && a < b); });
        for (const int row : order) line_.push_back(line[row]);
      }
      for (Eigen::Index b = 0; b <= buckets_; ++b) starts_.push_back(std::min(n, b * kBucket));
    }
    fill(order, pool, pool_height);
    if (tree_ && boxes && window < 0) {
      boxes_ = std::make_unique<Boxes>();
      boxes_->build(blocks_.data(), buckets_, kBucketBlocks, p);
    }
  }

  // The nearest of the rules and the pool that are not taken, into `nearest`. guesses: lists of rows that may be near.
  // None of the k nearest is farther than the farthest of any k that the seeker may have.
  void search(int seeker, Nearest& nearest, std::initializer_list<const std::vector<int>*> guesses = {}) {
    Query query(*this, seeker);
    for (const std::vector<int>* rows : guesses) {
      if (static_cast<int>(rows->size()) < nearest.wanted()) continue;
      double farthest = 0;
      for (const int row : *rows) {
        const int place = place_of_row(row);
        const bool may = !taken_[place] && rules_->allow(seeker, row);
        const double* x = exact_.data() + static_cast<Eigen::Index>(place) * p_;
        farthest = std::max(farthest, may ? query.squared(x) : INFINITY);
      }
      nearest.narrow(farthest);
    }
    search(query, nearest);
  }

  void take(int row) {
    const int place = place_of_row(row);
    taken_[place] = 1;
    for (int j = 0; j < p_; ++j)
      blocks_.data()[(place / 8) * Eigen::Index(8) * p_ + j * 8 + place % 8] = std::numeric_limits<float>::infinity();
    if (!tree_) return;
    Eigen::Index node = buckets_ - 1 + place / kBucket;
    while (true) {
      --live_[node];
      if (node == 0) break;
      node = (node - 1) / 2;
    }
  }
  bool is_free(int row) const { return !taken_[place_of_row(row)]; }

  // Where a seeker falls, so that seekers close to each other can be served one after the other.
  double locality(int seeker) const {
    if (!tree_) return window_ >= 0 ? rules_->limits[window_].seekers[seeker] : seeker;
    Eigen::Index node = 0;
    while (node < buckets_ - 1) {
      const int j = split_dimension_[node];
      const double value = j < p_ ? seekers_[j * seeker_height_ + seeker] : rules_->limits[window_].seekers[seeker];
      node = 2 * node + (value < split_value_[node] ? 1 : 2);
    }
    return static_cast<double>(node);
  }

  // Serves a batch of seekers (at most a few hundred); without tree and window the pool passes through the cache once
  // for all of them.
  void search_batch(const int* batch, int size, std::vector<Nearest>& nearest) {
    if (tree_ || window_ >= 0) {
      for (int k = 0; k < size; ++k) search(batch[k], nearest[k]);
      return;
    }
    std::deque<Query> queries;
    for (int k = 0; k < size; ++k) queries.emplace_back(*this, batch[k]);
    const Eigen::Index all = static_cast<Eigen::Index>(buckets_) * kBucketBlocks;
    const Eigen::Index stride =
        std::max(Eigen::Index(32), Eigen::Index(65536) / (Eigen::Index(32) * p_));  // blocks: 64 kilobytes of the pool
    for (Eigen::Index first = 0; first < all; first += stride)
      for (int k = 0; k < size; ++k) scan(first, std::min(all, first + stride), queries[k], nearest[k]);
  }

 private:
  static constexpr int kBucket = 32, kBucketBlocks = 4, kTreeDimensions = 8, kChunk = 32;

  struct Query {
    Query(const Neighbours& of, int seeker_)
        : seeker(seeker_), size(of.p_), exact(of.p_), offset(of.p_), single(of.p_) {
      for (int j = 0; j < of.p_; ++j) {
        exact[j] = of.seekers_[j * of.seeker_height_ + seeker];
        single[j] = static_cast<float>(exact[j] - of.centre_[j]);
        reach = std::max(reach, std::abs(exact[j] - of.centre_[j]));
      }
      reach = std::max(reach, of.reach_);
    }
    double squared(const double* x) const {
      double sum = 0;
      for (int j = 0; j < size; ++j) sum += (x[j] - exact[j]) * (x[j] - exact[j]);
      return sum;
    }
    // The margin is worked out again only when the limit has moved.
    float limit(double squared, int p) const {
      if (squared != last_squared) {
        last_squared = squared;
        last_single = single_limit(squared, p, reach);
      }
      return last_single;
    }
    int seeker, size;
    Row<double> exact;
    mutable Row<double> offset;  // of the tree's walk
    Row<float> single;
    double reach = 0;
    mutable double last_squared = -1;
    mutable float last_single = 0;
  };

  // Splits the widest coordinate in halves. With a window its line is split first, into pieces about as wide as the
  // window, so that a search meets few of them however the line lies in space.
  void build(std::vector<int>& order, const double* pool, Eigen::Index height, Eigen::Index node, Eigen::Index begin,
             Eigen::Index end, int level) {
    live_[node] = static_cast<int>(end - begin);
    if (level == depth_) {
      starts_[node - (buckets_ - 1)] = begin;
      return;
    }
    const double* line = window_ >= 0 ? rules_->limits[window_].pool : nullptr;
    if (line != nullptr) {
      double low = INFINITY, high = -INFINITY;
      for (Eigen::Index k = begin; k < end; ++k) {
        low = std::min(low, line[order[k]]);
        high = std::max(high, line[order[k]]);
      }
      if (high - low > rules_->limits[window_].width) {
        split(order, line, p_, pool, height, node, begin, end, level);
        return;
      }
    }
    int widest = 0;
    double spread = -1;
    const Eigen::Index step = std::max(Eigen::Index(1), (end - begin) / 32);  // some of them tell
    for (int j = 0; j < p_; ++j) {
      double low = INFINITY, high = -INFINITY;
      for (Eigen::Index k = begin; k < end; k += step) {
        const double value = pool[j * height + order[k]];
        low = std::min(low, value);
        high = std::max(high, value);
      }
      if (high - low > spread) {
        spread = high - low;
        widest = j;
      }
    }
    split(order, pool + widest * height, widest, pool, height, node, begin, end, level);
  }

  void split(std::vector<int>& order, const double* x, int dimension, const double* pool, Eigen::Index height,
             Eigen::Index node, Eigen::Index begin, Eigen::Index end, int level) {
    const Eigen::Index middle = begin + (end - begin) / 2;
    keys_.resize(end - begin);  // side by side in memory; by value, then by row
    for (Eigen::Index k = begin; k < end; ++k) keys_[k - begin] = {x[order[k]], order[k]};
    std::nth_element(keys_.begin(), keys_.begin() + (middle - begin), keys_.end());
    split_dimension_[node] = dimension;
    split_value_[node] = keys_[middle - begin].first;
    for (Eigen::Index k = begin; k < end; ++k) order[k] = keys_[k - begin].second;
    build(order, pool, height, 2 * node + 1, begin, middle, level + 1);
    build(order, pool, height, 2 * node + 2, middle, end, level + 1);
  }

  void fill(const std::vector<int>& order, const double* pool, Eigen::Index height) {
    const Eigen::Index places = buckets_ * kBucket;
    row_.assign(places, -1);
    taken_.assign(places, 1);
    exact_.assign(places * p_, 0.0);
    blocks_.resize(places * p_);
    std::fill(blocks_.data(), blocks_.data() + places * p_, std::numeric_limits<float>::infinity());
    lowest_row_ = order.empty() ? 0 : *std::min_element(order.begin(), order.end());
    const int highest = order.empty() ? -1 : *std::max_element(order.begin(), order.end());
    place_.assign(highest - lowest_row_ + 1, -1);
    for (Eigen::Index b = 0; b < buckets_; ++b) {
      for (Eigen::Index k = starts_[b]; k < starts_[b + 1]; ++k) {
        const Eigen::Index place = b * kBucket + (k - starts_[b]);
        const int row = order[k];
        row_[place] = row;
        taken_[place] = 0;
        place_[row - lowest_row_] = static_cast<int>(place);
        for (int j = 0; j < p_; ++j) {
          const double x = pool[j * height + row];
          exact_[place * p_ + j] = x;
          blocks_.data()[(place / 8) * Eigen::Index(8) * p_ + j * 8 + place % 8] = static_cast<float>(x - centre_[j]);
          reach_ = std::max(reach_, std::abs(x - centre_[j]));
        }
      }
    }
  }

  int place_of_row(int row) const { return place_[row - lowest_row_]; }

  void search(const Query& query, Nearest& nearest) {
    if (boxes_) {
      boxes_->search(
          query.single.data(), [&] { return query.limit(nearest.limit(), p_); },
          [&](Eigen::Index bucket) {
            if (live_[buckets_ - 1 + bucket] == 0) return;
            scan(bucket * kBucketBlocks, (bucket + 1) * kBucketBlocks, query, nearest);
          });
      return;
    }
    if (tree_) {
      visit(0, 0.0, query.offset.data(), query, nearest);
      return;
    }
    Eigen::Index first = 0, last = buckets_ * kBucketBlocks;
    if (window_ >= 0) {
      const Rules::Limit& limit = rules_->limits[window_];
      const double at = limit.seekers[query.seeker], width = window_width(limit, query.seeker);
      first = (std::lower_bound(line_.begin(), line_.end(), at - width) - line_.begin()) / 8;
      last = (std::upper_bound(line_.begin(), line_.end(), at + width) - line_.begin() + 7) / 8;
    }
    scan(first, last, query, nearest);
  }

  // A hair wider than the limit: the rules decide on the edge.
  static double window_width(const Rules::Limit& limit, int seeker) {
    return limit.width + 1e-9 * (std::abs(limit.width) + std::abs(limit.seekers[seeker]));
  }

  void scan(Eigen::Index first, Eigen::Index last, const Query& query, Nearest& nearest) {
    int found[kChunk * 8];
    Eigen::Index chunk =
        std::isinf(nearest.limit()) ? kBucketBlocks : kChunk;  // without a limit all are measured: only a few at first
    for (Eigen::Index begin = first; begin < last;) {
      const int count = screen_(blocks_.data(), begin, std::min(last, begin + chunk), p_, query.single.data(),
                                query.limit(nearest.limit(), p_), found);
      for (int k = 0; k < count; ++k) measure(found[k], query, nearest);
      begin += chunk;
      chunk = kChunk;
    }
  }

  void measure(int place, const Query& query, Nearest& nearest) {
    if (taken_[place]) return;
    const double squared = query.squared(exact_.data() + static_cast<Eigen::Index>(place) * p_);
    if (squared > nearest.limit()) return;
    if (rules_->any() && !rules_->allow(query.seeker, row_[place])) return;
    nearest.offer({squared, row_[place]});
  }

  // nearby: squared distance from the query to the node's part of space (Arya & Mount's incremental form).
  void visit(Eigen::Index node, double nearby, double* offset, const Query& query, Nearest& nearest) {
    if (live_[node] == 0) return;
    if (node >= buckets_ - 1) {
      const Eigen::Index bucket = node - (buckets_ - 1);
      scan(bucket * kBucketBlocks, (bucket + 1) * kBucketBlocks, query, nearest);
      return;
    }
    const int j = split_dimension_[node];
    if (j == p_) {  // the window's line
      const Rules::Limit& limit = rules_->limits[window_];
      const double gap = limit.seekers[query.seeker] - split_value_[node];
      visit(2 * node + (gap < 0 ? 1 : 2), nearby, offset, query, nearest);
      if (std::abs(gap) <= window_width(limit, query.seeker))
        visit(2 * node + (gap < 0 ? 2 : 1), nearby, offset, query, nearest);
      return;
    }
    const double gap = query.exact[j] - split_value_[node];
    visit(2 * node + (gap < 0 ? 1 : 2), nearby, offset, query, nearest);
    const double beyond = nearby - offset[j] * offset[j] + gap * gap;
    if (beyond * (1 - 1e-12) > nearest.limit()) return;
    const double kept = offset[j];
    offset[j] = gap;
    visit(2 * node + (gap < 0 ? 2 : 1), beyond, offset, query, nearest);
    offset[j] = kept;
  }

  const double* seekers_;
  Eigen::Index seeker_height_;
  int p_;
  const Rules* rules_;
  int window_;
  bool tree_ = false;
  int depth_ = 0;
  Eigen::Index buckets_ = 0;
  int lowest_row_ = 0;
  double reach_ = 0;
  std::vector<double> centre_, split_value_, exact_, line_;
  std::vector<int> split_dimension_, live_, row_, place_;
  std::vector<std::pair<double, int>> keys_;  // of the node that is split
  std::vector<Eigen::Index> starts_;
  std::vector<char> taken_;
  SingleBlocks blocks_;
  std::unique_ptr<Boxes> boxes_;
  Screen screen_ = best_screen();
};
}  // namespace twin
