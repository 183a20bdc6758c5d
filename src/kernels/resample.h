// Bootstrap draws. Each replicate has a random stream of its own, so that results depend neither on the order of the
// replicates nor on the number of threads.
#pragma once
#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
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
// less `fewer`; the units of a group stand together, `sizes` of them. The stream starts where the seed is scattered to:
// the steps of splitmix64 are equal, so that from neighbouring seeds themselves it would run through the same numbers,
// one place on. The high bits of a product give a place, off by less than n / 2^64 from uniform.
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
// The wild bootstrap's draws of one multiplier v per cluster: signs, or Webb's (2023) six points. Per draw (1, 2, ...),
// each from a stream of its own, left v and squares v^2, below each other; left and squares have a column per cluster.
inline Eigen::MatrixXd webb_sums(const Eigen::Ref<const Eigen::MatrixXd>& left,
                                 const Eigen::Ref<const Eigen::MatrixXd>& squares, int draws, std::uint64_t seed) {
  const double points[6] = {std::sqrt(0.5), 1.0, std::sqrt(1.5), -std::sqrt(0.5), -1.0, -std::sqrt(1.5)};
  Eigen::MatrixXd out = Eigen::MatrixXd::Zero(left.rows() + squares.rows(), draws);
  for (int k = 0; k < draws; ++k) {
    std::uint64_t state = scattered_seed(seed, "wild", static_cast<std::uint64_t>(k + 1));
    for (Eigen::Index g = 0; g < left.cols(); ++g) {
      const double v = points[((next_bits(state) >> 32) * 6) >> 32];
      out.col(k).head(left.rows()) += v * left.col(g);
      out.col(k).tail(squares.rows()) += v * v * squares.col(g);
    }
  }
  return out;
}

// With signs v^2 is 1. Eight clusters at a time: the sums of their columns with all 256 signs are worked out once, and
// every draw picks one of them.
inline Eigen::MatrixXd sign_sums(const Eigen::Ref<const Eigen::MatrixXd>& left,
                                 const Eigen::Ref<const Eigen::MatrixXd>& squares, int draws, std::uint64_t seed) {
  const Eigen::Index count = left.cols(), words = (count + 63) / 64;
  std::vector<std::uint64_t> bits(static_cast<std::size_t>(words) * draws);
  for (int k = 0; k < draws; ++k) {
    std::uint64_t state = scattered_seed(seed, "wild", static_cast<std::uint64_t>(k + 1));
    for (Eigen::Index w = 0; w < words; ++w) bits[w * draws + k] = next_bits(state);
  }
  Eigen::MatrixXd sums = Eigen::MatrixXd::Zero(left.rows(), draws), table(left.rows(), 256);
  for (Eigen::Index first = 0; first < count; first += 8) {
    const Eigen::Index own = std::min<Eigen::Index>(8, count - first);
    table.col(0) = -left.middleCols(first, own).rowwise().sum();
    for (int pattern = 1; pattern < 256; ++pattern) {
      int low = 0;  // its lowest bit turned from minus to plus
      while (!(pattern >> low & 1)) ++low;
      table.col(pattern) = table.col(pattern & (pattern - 1));
      if (low < own) table.col(pattern) += 2.0 * left.col(first + low);
    }
    const std::uint64_t* word = bits.data() + first / 64 * draws;
    for (int k = 0; k < draws; ++k) sums.col(k) += table.col(static_cast<int>(word[k] >> (first % 64) & 255));
  }
  Eigen::MatrixXd out(left.rows() + squares.rows(), draws);
  out.topRows(left.rows()) = sums;
  out.bottomRows(squares.rows()).colwise() = Eigen::VectorXd(squares.rowwise().sum());
  return out;
}
}  // namespace twin
