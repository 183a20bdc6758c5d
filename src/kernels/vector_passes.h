// The block passes of regression_block.inc, compiled for the plain processor and, on x86-64 with GCC, once more for
// AVX2 with fused multiply-add; the choice is made when the program runs. Other compilers use the plain one.
#pragma once
#include <math.h>
#include <cstddef>
#include <new>
#include <vector>

namespace twin {
namespace plain_isa {
#include "regression_block.inc"
}
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__)
#define TWIN_HAS_AVX2 1
#pragma GCC push_options
#pragma GCC target("avx2,fma")
namespace avx2_isa {
#include "regression_block.inc"
}
#pragma GCC pop_options
#endif

inline bool has_avx2() {
#ifdef TWIN_HAS_AVX2
  static const bool answer = __builtin_cpu_supports("avx2") && __builtin_cpu_supports("fma");
  return answer;
#else
  return false;
#endif
}

// Doubles aligned for vector loads.
class Workspace {
 public:
  explicit Workspace(std::size_t size)
      : memory_(static_cast<double*>(::operator new(sizeof(double) * size, std::align_val_t(64)))) {}
  ~Workspace() { ::operator delete(memory_, std::align_val_t(64)); }
  Workspace(const Workspace&) = delete;
  Workspace& operator=(const Workspace&) = delete;
  double* data() { return memory_; }

 private:
  double* memory_;
};

// Doubles of scratch for one pass over p columns.
inline std::size_t pass_size(int p) { return static_cast<std::size_t>(plain_isa::kBlock) * (2 * (p + 1) + 4); }

using plain_isa::Objective;

// See regression_pass() in regression_block.inc.
inline void run_regression_pass(Objective objective, const double* x, std::ptrdiff_t height, const int* rows,
                                std::ptrdiff_t n, int p, const double* packed, const double* centre,
                                const double* inverse_scale, const double* y, const double* weight, const double* beta,
                                double* work, double* loglik, double* gradient, double* information, double* linear,
                                double* fitted) {
#ifdef TWIN_HAS_AVX2
  if (has_avx2()) {
    avx2_isa::regression_pass(objective, x, height, rows, n, p, packed, centre, inverse_scale, y, weight, beta, work,
                              loglik, gradient, information, linear, fitted);
    return;
  }
#endif
  plain_isa::regression_pass(objective, x, height, rows, n, p, packed, centre, inverse_scale, y, weight, beta, work,
                             loglik, gradient, information, linear, fitted);
}

// See pack_rows() in regression_block.inc.
inline void run_pack(const double* x, std::ptrdiff_t height, const int* rows, std::ptrdiff_t n, int p,
                     const double* centre, const double* inverse_scale, double* packed) {
#ifdef TWIN_HAS_AVX2
  if (has_avx2()) {
    avx2_isa::pack_rows(x, height, rows, n, p, centre, inverse_scale, packed);
    return;
  }
#endif
  plain_isa::pack_rows(x, height, rows, n, p, centre, inverse_scale, packed);
}

inline void run_moment_pass(const double* x, std::ptrdiff_t n, int p, const double* centre, const double* inverse_scale,
                            const double* weight, double* work, double* gram) {
#ifdef TWIN_HAS_AVX2
  if (has_avx2()) {
    avx2_isa::moment_pass(x, n, p, centre, inverse_scale, weight, work, gram);
    return;
  }
#endif
  plain_isa::moment_pass(x, n, p, centre, inverse_scale, weight, work, gram);
}
}  // namespace twin
