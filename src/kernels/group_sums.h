// Sums of a number by group.
#pragma once
#include <cstddef>
#include <vector>

namespace twin {
// code: 1 to size; units of other codes are passed over. Returns `size` sums.
inline std::vector<double> group_sums(const double* v, const int* code, std::size_t n, std::size_t size) {
  std::vector<long double> total(size, 0.0L);  // as exact as R's own sums
  for (std::size_t i = 0; i < n; ++i)
    if (code[i] >= 1 && static_cast<std::size_t>(code[i]) <= size) total[code[i] - 1] += v[i];
  return {total.begin(), total.end()};
}
}  // namespace twin
