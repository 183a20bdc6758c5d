// screen_block.inc for the plain processor and, where there is one, for AVX2; chosen when the program runs. A screen in
// single precision lets through every point within the limit and a few more, which the caller measures again in
// double precision: single_limit() is the margin that makes this certain.
#pragma once
#include <cmath>
#include <cstdint>
#include <limits>
#include "vector_passes.h"

namespace twin {
namespace plain_isa {
#include "screen_block.inc"
}
#ifdef TWIN_HAS_AVX2
#pragma GCC push_options
#pragma GCC target("avx2,fma")
#define TWIN_AVX2_PASS 1
namespace avx2_isa {
#include "screen_block.inc"
}
#undef TWIN_AVX2_PASS
#pragma GCC pop_options
#endif

using Screen = int (*)(const float* blocks, std::ptrdiff_t first, std::ptrdiff_t last, int p, const float* query,
                       float limit, int* found);

inline Screen best_screen() {
#ifdef TWIN_HAS_AVX2
  if (has_avx2()) return avx2_isa::screen_blocks;
#endif
  return plain_isa::screen_blocks;
}

using BoxScreen = int (*)(const float* boxes, int p, const float* query, float limit, float* distance);

inline BoxScreen best_box_screen() {
#ifdef TWIN_HAS_AVX2
  if (has_avx2()) return avx2_isa::screen_boxes;
#endif
  return plain_isa::screen_boxes;
}

// Floats aligned for vector loads.
class SingleBlocks {
 public:
  SingleBlocks() = default;
  SingleBlocks(const SingleBlocks&) = delete;
  SingleBlocks& operator=(const SingleBlocks&) = delete;
  ~SingleBlocks() { release(); }
  void resize(std::size_t size) {
    release();
    memory_ = static_cast<float*>(::operator new(sizeof(float) * (size + 8), std::align_val_t(64)));
  }
  float* data() { return memory_; }
  const float* data() const { return memory_; }

 private:
  void release() {
    if (memory_ != nullptr) ::operator delete(memory_, std::align_val_t(64));
    memory_ = nullptr;
  }
  float* memory_ = nullptr;
};

// The limit in single precision that no point within `squared` can exceed. Rounding a coordinate moves it by at most
// u |x|, their difference by at most 2 u `reach` (the largest |x| of either side), each sum by a factor 1 + u: so the
// distance computed is at most d (1 + (p + 3) u) + 4 sqrt(p) u reach, u = 2^-24; both parts are doubled here.
inline float single_limit(double squared, int p, double reach) {
  if (!(squared < 1e37)) return std::numeric_limits<float>::infinity();
  const double u = 5.97e-8;
  const double limit = std::sqrt(squared) * (1 + 2 * (p + 3) * u) + 8 * std::sqrt(static_cast<double>(p)) * u * reach;
  return static_cast<float>(limit * limit * (1 + 4 * u));
}
}  // namespace twin
