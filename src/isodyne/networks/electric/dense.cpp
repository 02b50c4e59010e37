#include "isodyne/networks/electric/dense.h"

#include <algorithm>
#include <cmath>

namespace isodyne::networks::electric {

namespace {

/// Two numbers beside each other, as every machine that we build for has them.
using Two = double __attribute__((vector_size(16), aligned(8)));

/// Rows `r` … `r + 2 * kPairs` of A x, all sums beside each other.
template <std::size_t kPairs>
void multiply_rows(const double* a, std::size_t stride, std::size_t columns, const double* x, double* y) {
  Two sum[kPairs] = {};
  for (std::size_t c = 0; c < columns; ++c, a += stride) {
    const Two factor = {x[c], x[c]};
    for (std::size_t k = 0; k < kPairs; ++k) sum[k] += *reinterpret_cast<const Two*>(a + 2 * k) * factor;
  }
  for (std::size_t k = 0; k < kPairs; ++k) *reinterpret_cast<Two*>(y + 2 * k) = sum[k];
}

}  // namespace

void multiply(const Columns& a, const double* x, double* y) {
  const double* values = a.values.data();
  std::size_t left = a.stride;
  for (; left > 16; left -= 16, values += 16, y += 16) multiply_rows<8>(values, a.stride, a.columns, x, y);
  switch (left) {
    case 4:
      return multiply_rows<2>(values, a.stride, a.columns, x, y);
    case 8:
      return multiply_rows<4>(values, a.stride, a.columns, x, y);
    case 12:
      return multiply_rows<6>(values, a.stride, a.columns, x, y);
    case 16:
      return multiply_rows<8>(values, a.stride, a.columns, x, y);
    default:
      return;
  }
}

void add_product(std::size_t rows, std::size_t columns, const double* a, const double* x, double* y) {
  for (std::size_t c = 0; c < columns; ++c) {
    const double factor = x[c];
    const double* column = a + c * rows;
    for (std::size_t r = 0; r < rows; ++r) y[r] += column[r] * factor;
  }
}

void product(std::size_t rows, std::size_t inner, std::size_t columns, const double* a, const double* b, double* c) {
  std::fill_n(c, rows * columns, 0.0);
  for (std::size_t column = 0; column < columns; ++column)
    add_product(rows, inner, a, b + column * inner, c + column * rows);
}

bool solve(std::size_t n, std::size_t columns, double* a, double* b) {
  for (std::size_t k = 0; k < n; ++k) {
    std::size_t pivot = k;
    for (std::size_t r = k + 1; r < n; ++r) {
      if (std::abs(a[r * n + k]) > std::abs(a[pivot * n + k])) pivot = r;
    }
    const double value = a[pivot * n + k];
    if (value == 0 || !std::isfinite(value)) return false;
    if (pivot != k) {
      std::swap_ranges(a + k * n + k, a + k * n + n, a + pivot * n + k);
      std::swap_ranges(b + k * columns, b + (k + 1) * columns, b + pivot * columns);
    }
    for (std::size_t r = k + 1; r < n; ++r) {
      const double factor = a[r * n + k] / value;
      if (factor == 0) continue;
      for (std::size_t c = k + 1; c < n; ++c) a[r * n + c] -= factor * a[k * n + c];
      for (std::size_t c = 0; c < columns; ++c) b[r * columns + c] -= factor * b[k * columns + c];
    }
  }
  for (std::size_t k = n; k-- > 0;) {
    for (std::size_t j = k + 1; j < n; ++j) {
      const double factor = a[k * n + j];
      for (std::size_t c = 0; c < columns; ++c) b[k * columns + c] -= factor * b[j * columns + c];
    }
    for (std::size_t c = 0; c < columns; ++c) b[k * columns + c] /= a[k * n + k];
  }
  return true;
}

}  // namespace isodyne::networks::electric
