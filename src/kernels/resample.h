// Bootstrap draws. Each replicate has a random stream of its own, so that results depend neither on the order of the
// replicates nor on the number of threads.
#pragma once
#include <Eigen/Dense>
#include <cstdint>
#include <numeric>
#include <string>
#include <vector>

namespace twin {
// One step of splitmix64 (Steele, Lea & Flood 2014).
inline std::uint64_t next_bits(std::uint64_t& state) {
  state += 0x9E3779B97F4A7C15ull;
  std::uint64_t bits = state;
  bits = (bits ^ (bits >> 30)) * 0xBF58476D1CE4E5B9ull;
  bits = (bits ^ (bits >> 27)) * 0x94D049BB133111EBull;
  return bits ^ (bits >> 31);
}

// Scatters a seed, a word for what it is used for and a place in that work over 64 bits: every bit of each moves about
// half of the answer's.
inline std::uint64_t scattered_seed(std::uint64_t seed, const std::string& work, std::uint64_t place) {
  std::uint64_t state = 0xCBF29CE484222325ull;  // FNV-1a of the word
  for (const char letter : work) state = (state ^ static_cast<unsigned char>(letter)) * 0x100000001B3ull;
  state ^= next_bits(seed);
  std::uint64_t mixed = next_bits(state);
  mixed ^= next_bits(place);
  return next_bits(mixed);
}

// Adds draws with replacement from a group of n.
inline void draw_group(Eigen::Index n, Eigen::Index draws, std::uint64_t& state, Eigen::Ref<Eigen::VectorXd> counts) {
  for (Eigen::Index i = 0; i < draws; ++i) {
    const std::uint64_t bits = next_bits(state);
    // the upper half of a 64 by 32 bit product, in parts: portable where there is no 128-bit integer
    const std::uint64_t size = static_cast<std::uint64_t>(n);
    const std::uint64_t low = (bits & 0xFFFFFFFFull) * size, high = (bits >> 32) * size;
    counts[static_cast<Eigen::Index>((high + (low >> 32)) >> 32)] += 1.0;
  }
}

// How often each unit is drawn in replicate `place` when of every group as many are drawn with replacement as it has,
// less `fewer`; the units of a group stand together, `sizes` of them. The stream starts where the seed is scattered to: the steps of
// splitmix64 are equal, so that from neighbouring seeds themselves it would run through the same numbers, one place on.
// The high bits of a product give a place, off by less than n / 2^64 from uniform.
inline Eigen::VectorXd draw_counts(const std::vector<Eigen::Index>& sizes, std::uint64_t seed, std::uint64_t place,
                                   Eigen::Index fewer = 0) {
  Eigen::VectorXd counts = Eigen::VectorXd::Zero(std::accumulate(sizes.begin(), sizes.end(), Eigen::Index(0)));
  std::uint64_t state = scattered_seed(seed, "bootstrap", place);
  Eigen::Index first = 0;
  for (const Eigen::Index n : sizes) {
    draw_group(n, n - fewer, state, counts.segment(first, n));
    first += n;
  }
  return counts;
}
}  // namespace twin
