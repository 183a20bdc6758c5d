// Sets that hold a unit of every arm, begun by those who overlap with no earlier set (Savje, Higgins & Sekhon 2021).
#pragma once
#include <cstddef>
#include <vector>

namespace twin {
// nearest: n x arms by column, rows from 0: the unit of each arm that goes with a unit. order: who may begin a set, the
// first first. Returns codes from 1, 0 for units in no set.
inline std::vector<int> arm_sets(const int* nearest, std::size_t n, std::size_t arms, const std::vector<int>& order) {
  std::vector<int> set(n, 0);
  int count = 0;
  for (const int unit : order) {
    bool free = true;
    for (std::size_t j = 0; j < arms && free; ++j) free = set[nearest[unit + j * n]] == 0;
    if (!free) continue;
    ++count;
    for (std::size_t j = 0; j < arms; ++j) set[nearest[unit + j * n]] = count;
  }
  return set;
}
}  // namespace twin
