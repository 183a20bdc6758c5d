// Buckets of points by the boxes that hold them, eight boxes to a group and group upon group: a query meets only the
// buckets whose boxes come within its limit, nearest first. For many dimensions, where the planes of a tree cut little.
#pragma once
#include <algorithm>
#include <cstddef>
#include <limits>
#include <memory>
#include <vector>
#include "screen.h"

namespace twin {

class Boxes {
 public:
  // blocks: as screen_blocks() takes them, bucket_blocks of them to a bucket; unused places are infinite.
  void build(const float* blocks, std::ptrdiff_t buckets, int bucket_blocks, int p) {
    p_ = p;
    screen_ = best_box_screen();
    levels_.clear();
    std::ptrdiff_t count = buckets;
    do {
      levels_.push_back(std::make_unique<Level>(count, p));
      count = (count + 7) / 8;
    } while (count > 1);
    for (std::ptrdiff_t b = 0; b < buckets; ++b) {
      for (int j = 0; j < p; ++j) {
        float low = kInfinity, high = -kInfinity;
        for (std::ptrdiff_t block = b * bucket_blocks; block < (b + 1) * bucket_blocks; ++block) {
          for (int lane = 0; lane < 8; ++lane) {
            const float x = blocks[(block * p + j) * 8 + lane];
            if (x == kInfinity) continue;
            low = std::min(low, x);
            high = std::max(high, x);
          }
        }
        levels_[0]->put(b, j, low, high);
      }
    }
    for (std::size_t level = 1; level < levels_.size(); ++level)
      for (std::ptrdiff_t b = 0; b < levels_[level - 1]->count; ++b)
        for (int j = 0; j < p; ++j)
          levels_[level]->widen(b / 8, j, levels_[level - 1]->low(b, j), levels_[level - 1]->high(b, j));
  }

  // limit(): the squared distance, in single precision, beyond which nothing is wanted; it falls while visit(bucket)
  // finds points.
  template <class Limit, class Visit>
  void search(const float* query, const Limit& limit, const Visit& visit) const {
    for (std::ptrdiff_t group = 0; group * 8 < levels_.back()->count; ++group)
      search_group(levels_.size() - 1, group, query, limit, visit);
  }

 private:
  static constexpr float kInfinity = std::numeric_limits<float>::infinity();

  struct Level {
    Level(std::ptrdiff_t count_, int p_) : count(count_), p(p_) {
      const std::size_t size = static_cast<std::size_t>((count + 7) / 8) * 16 * p;
      corners.resize(size);
      for (std::ptrdiff_t b = 0; b < (count + 7) / 8 * 8; ++b)
        for (int j = 0; j < p; ++j) put(b, j, kInfinity, -kInfinity);
    }
    std::size_t place(std::ptrdiff_t b, int j) const { return static_cast<std::size_t>((b / 8 * p + j) * 16 + b % 8); }
    float low(std::ptrdiff_t b, int j) const { return corners.data()[place(b, j)]; }
    float high(std::ptrdiff_t b, int j) const { return corners.data()[place(b, j) + 8]; }
    void put(std::ptrdiff_t b, int j, float low, float high) {
      corners.data()[place(b, j)] = low;
      corners.data()[place(b, j) + 8] = high;
    }
    void widen(std::ptrdiff_t b, int j, float to_low, float to_high) {
      put(b, j, std::min(low(b, j), to_low), std::max(high(b, j), to_high));
    }
    std::ptrdiff_t count;
    int p;
    SingleBlocks corners;  // eight boxes together: for each column their lows, then their highs
  };

  template <class Limit, class Visit>
  void search_group(std::size_t level, std::ptrdiff_t group, const float* query, const Limit& limit,
                    const Visit& visit) const {
    float distance[8];
    int inside = screen_(levels_[level]->corners.data() + group * 16 * p_, p_, query, limit(), distance);
    while (inside != 0) {
      int nearest = __builtin_ctz(inside);
      for (int rest = inside & (inside - 1); rest != 0; rest &= rest - 1) {
        const int lane = __builtin_ctz(rest);
        if (distance[lane] < distance[nearest]) nearest = lane;
      }
      inside &= ~(1 << nearest);
      if (distance[nearest] > limit()) return;  // and so are all that are left
      const std::ptrdiff_t box = group * 8 + nearest;
      if (level == 0) {
        visit(box);
      } else {
        search_group(level - 1, box, query, limit, visit);
      }
    }
  }

  int p_ = 0;
  BoxScreen screen_ = nullptr;
  std::vector<std::unique_ptr<Level>> levels_;  // the buckets first
};
}  // namespace twin
