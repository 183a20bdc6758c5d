// Bootstrap draws. Each replicate has a random stream of its own, so that results depend neither on the order of the
// replicates nor on the number of threads.
#pragma once
#include <Eigen/Dense>
#include <cstdint>

namespace twin {
// How often each of n units is drawn in n draws with replacement. The stream is splitmix64 (Steele, Lea & Flood 2014)
// from the replicate's seed; the high bits of a product give a place, off by less than n / 2^64 from uniform.
inline Eigen::VectorXd draw_counts(Eigen::Index n, std::uint64_t seed) {
  Eigen::VectorXd counts = Eigen::VectorXd::Zero(n);
  std::uint64_t state = seed * 0x9E3779B97F4A7C15ull + 0xD1B54A32D192ED03ull;
  for (Eigen::Index i = 0; i < n; ++i) {
    state += 0x9E3779B97F4A7C15ull;
    std::uint64_t bits = state;
    bits = (bits ^ (bits >> 30)) * 0xBF58476D1CE4E5B9ull;
    bits = (bits ^ (bits >> 27)) * 0x94D049BB133111EBull;
    bits ^= bits >> 31;
    // the upper half of a 64 by 32 bit product, in parts: portable where there is no 128-bit integer
    const std::uint64_t size = static_cast<std::uint64_t>(n);
    const std::uint64_t low = (bits & 0xFFFFFFFFull) * size, high = (bits >> 32) * size;
    counts[static_cast<Eigen::Index>((high + (low >> 32)) >> 32)] += 1.0;
  }
  return counts;
}
}  // namespace twin
