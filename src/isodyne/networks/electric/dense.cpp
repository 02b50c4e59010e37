#include "isodyne/networks/electric/dense.h"

#include <algorithm>
#include <cmath>
#include <cstring>

namespace isodyne::networks::electric {

namespace {

/// Four numbers beside each other; where a machine has only two at a time they are added up in the same order.
using Four = double __attribute__((vector_size(32)));

/// Rows `r` … `r + 4 * kFours` of A x, all sums beside each other, from what `sum` begins with.
template <std::size_t kFours>
__attribute__((always_inline)) inline void sum_up(const double* a, std::size_t stride, std::size_t columns,
                                                  const double* x, Four* sum) {
  for (std::size_t c = 0; c < columns; ++c, a += stride) {
    const Four factor = {x[c], x[c], x[c], x[c]};
    for (std::size_t k = 0; k < kFours; ++k) {
      Four four;  // rows begin anywhere
      std::memcpy(&four, a + 4 * k, sizeof four);
      sum[k] += four * factor;
    }
  }
}

template <std::size_t kFours>
__attribute__((always_inline)) inline void multiply_rows(const double* a, const Columns& of, const double* x,
                                                         const double* base, double* y) {
  Four sum[kFours] = {};
  if (base != nullptr) std::memcpy(sum, base, sizeof sum);
  sum_up<kFours>(a, of.stride, of.columns, x, sum);
  std::memcpy(y, sum, sizeof sum);
}

/// base: null, or what is added to; it may be y.
__attribute__((always_inline)) inline void multiply_all(const Columns& a, const double* x, const double* base,
                                                        double* y) {
  const double* values = a.values;
  std::size_t left = a.stride;
  for (; left > 24; left -= 16) {
    multiply_rows<4>(values, a, x, base, y);
    values += 16;
    y += 16;
    if (base != nullptr) base += 16;
  }
  switch (left) {
    case 4:
      return multiply_rows<1>(values, a, x, base, y);
    case 8:
      return multiply_rows<2>(values, a, x, base, y);
    case 12:
      return multiply_rows<3>(values, a, x, base, y);
    case 16:
      return multiply_rows<4>(values, a, x, base, y);
    case 20:
      return multiply_rows<5>(values, a, x, base, y);
    case 24:
      return multiply_rows<6>(values, a, x, base, y);
    default:
      return;
  }
}

/// All of it in registers, as far as there are any: x is the first rows of what came out.
template <std::size_t kFours>
__attribute__((always_inline)) inline std::size_t march_rows(const Columns& a, const double* base, double* x,
                                                             const double* low, const double* high, std::size_t most) {
  using Truth = long long __attribute__((vector_size(32)));
  alignas(32) double y[4 * kFours];
  for (std::size_t step = 0; step < most; ++step) {
    Four sum[kFours];
    std::memcpy(sum, base, sizeof sum);
    sum_up<kFours>(a.values, a.stride, a.columns, x, sum);
    Truth inside = {-1, -1, -1, -1};
    for (std::size_t k = 0; k < kFours; ++k) {
      Four least, largest;
      std::memcpy(&least, low + 4 * k, sizeof least);
      std::memcpy(&largest, high + 4 * k, sizeof largest);
      inside &= (sum[k] >= least) & (sum[k] <= largest);
    }
    if ((inside[0] & inside[1] & inside[2] & inside[3]) == 0) return step;
    std::memcpy(y, sum, sizeof y);
    for (std::size_t k = 0; k < a.columns; ++k) x[k] = y[k];
  }
  return most;
}

__attribute__((always_inline)) inline std::size_t march_all(const Columns& a, const double* base, double* x,
                                                            const double* low, const double* high, std::size_t most) {
  switch (a.stride) {
    case 4:
      return march_rows<1>(a, base, x, low, high, most);
    case 8:
      return march_rows<2>(a, base, x, low, high, most);
    case 12:
      return march_rows<3>(a, base, x, low, high, most);
    case 16:
      return march_rows<4>(a, base, x, low, high, most);
    case 20:
      return march_rows<5>(a, base, x, low, high, most);
    case 24:
      return march_rows<6>(a, base, x, low, high, most);
    case 28:
      return march_rows<7>(a, base, x, low, high, most);
    case 32:
      return march_rows<8>(a, base, x, low, high, most);
    default:
      return 0;  // whoever asks goes step by step
  }
}

__attribute__((always_inline)) inline void product_all(std::size_t rows, std::size_t inner, std::size_t columns,
                                                       const double* a, const double* b, double* __restrict c) {
  std::fill_n(c, rows * columns, 0.0);
  for (std::size_t column = 0; column < columns; ++column, b += inner, c += rows) {
    for (std::size_t k = 0; k < inner; ++k) {
      const double factor = b[k];
      if (factor == 0) continue;
      const double* from = a + k * rows;
      for (std::size_t r = 0; r < rows; ++r) c[r] += from[r] * factor;
    }
  }
}

void product_plain(std::size_t rows, std::size_t inner, std::size_t columns, const double* a, const double* b,
                   double* c) {
  product_all(rows, inner, columns, a, b, c);
}

void multiply_plain(const Columns& a, const double* x, const double* base, double* y) {
  multiply_all(a, x, base, y);
}
std::size_t march_plain(const Columns& a, const double* base, double* x, const double* low, const double* high,
                        std::size_t most) {
  return march_all(a, base, x, low, high, most);
}
#ifdef __x86_64__
__attribute__((target("avx2"))) void multiply_wide(const Columns& a, const double* x, const double* base, double* y) {
  multiply_all(a, x, base, y);
}
__attribute__((target("avx2"))) std::size_t march_wide(const Columns& a, const double* base, double* x,
                                                       const double* low, const double* high, std::size_t most) {
  return march_all(a, base, x, low, high, most);
}
__attribute__((target("avx2"))) void product_wide(std::size_t rows, std::size_t inner, std::size_t columns,
                                                  const double* a, const double* b, double* c) {
  product_all(rows, inner, columns, a, b, c);
}
const auto g_multiply = __builtin_cpu_supports("avx2") ? multiply_wide : multiply_plain;
const auto g_march = __builtin_cpu_supports("avx2") ? march_wide : march_plain;
const auto g_product = __builtin_cpu_supports("avx2") ? product_wide : product_plain;
#else
const auto g_multiply = multiply_plain;
const auto g_march = march_plain;
const auto g_product = product_plain;
#endif

}  // namespace

void multiply(const Columns& a, const double* x, double* y) {
  g_multiply(a, x, nullptr, y);
}

void multiply_onto(const Columns& a, const double* x, double* y) {
  g_multiply(a, x, y, y);
}

std::size_t march(const Columns& a, const double* base, double* x, const double* low, const double* high,
                  std::size_t most) {
  return g_march(a, base, x, low, high, most);
}

void add_product(std::size_t rows, std::size_t columns, const double* a, const double* x, double* y) {
  for (std::size_t c = 0; c < columns; ++c) {
    const double factor = x[c];
    const double* column = a + c * rows;
    for (std::size_t r = 0; r < rows; ++r) y[r] += column[r] * factor;
  }
}

void product(std::size_t rows, std::size_t inner, std::size_t columns, const double* a, const double* b, double* c) {
  g_product(rows, inner, columns, a, b, c);
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
