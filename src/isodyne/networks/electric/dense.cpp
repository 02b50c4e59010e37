#include "isodyne/networks/electric/dense.h"

#include <algorithm>
#include <cmath>

namespace isodyne::networks::electric {

namespace {

/// Four numbers beside each other; where a machine has only two at a time they are added up in the same order.
using Four = double __attribute__((vector_size(32)));

/// They lie anywhere. Not by memcpy: whole rows of them would go through the stack.
template <class Vector>
__attribute__((always_inline)) inline void load(Vector& v, const double* from) {
  typedef double Unaligned __attribute__((vector_size(sizeof(Vector)), aligned(8), may_alias));
  v = *reinterpret_cast<const Unaligned*>(from);
}
template <class Vector>
__attribute__((always_inline)) inline void store(const Vector& v, double* to) {
  typedef double Unaligned __attribute__((vector_size(sizeof(Vector)), aligned(8), may_alias));
  *reinterpret_cast<Unaligned*>(to) = v;
}

/// Rows `r` … `r + 4 * kFours` of A x, all sums beside each other, from what `sum` begins with.
template <std::size_t kFours>
__attribute__((always_inline)) inline void sum_up(const double* a, std::size_t stride, std::size_t columns,
                                                  const double* x, Four* sum) {
  for (std::size_t c = 0; c < columns; ++c, a += stride) {
    const Four factor = {x[c], x[c], x[c], x[c]};
    for (std::size_t k = 0; k < kFours; ++k) {
      Four four;
      load(four, a + 4 * k);
      sum[k] += four * factor;
    }
  }
}

template <std::size_t kFours>
__attribute__((always_inline)) inline void multiply_rows(const double* a, const Columns& of, const double* x,
                                                         const double* base, double* y) {
  Four sum[kFours] = {};
  for (std::size_t k = 0; base != nullptr && k < kFours; ++k) load(sum[k], base + 4 * k);
  sum_up<kFours>(a, of.stride, of.columns, x, sum);
  for (std::size_t k = 0; k < kFours; ++k) store(sum[k], y + 4 * k);
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
  // What came out is what goes in next, where it lies.
  alignas(32) double y[4 * kFours];
  const double* const values = a.values;
  const std::size_t stride = a.stride, columns = a.columns;
  for (std::size_t k = 0; k < columns; ++k) y[k] = x[k];
  std::size_t done = most;
  for (std::size_t step = 0; step < most; ++step) {
    Four sum[kFours];
    for (std::size_t k = 0; k < kFours; ++k) load(sum[k], base + 4 * k);
    sum_up<kFours>(values, stride, columns, y, sum);
    Truth inside = {-1, -1, -1, -1};
    for (std::size_t k = 0; k < kFours; ++k) {
      Four least, largest;
      load(least, low + 4 * k);
      load(largest, high + 4 * k);
      inside &= (sum[k] >= least) & (sum[k] <= largest);
    }
    if ((inside[0] & inside[1] & inside[2] & inside[3]) == 0) {
      done = step;
      break;
    }
    for (std::size_t k = 0; k < kFours; ++k) store(sum[k], y + 4 * k);
  }
  for (std::size_t k = 0; k < columns; ++k) x[k] = y[k];
  return done;
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

__attribute__((always_inline)) inline bool inside_all(std::size_t blocks, const double* low, const double* y,
                                                      const double* high) {
  using Truth = long long __attribute__((vector_size(32)));
  Truth all = {-1, -1, -1, -1};
  for (std::size_t at = 0; at < 4 * blocks; at += 4) {
    Four least, largest, value;
    load(least, low + at);
    load(largest, high + at);
    load(value, y + at);
    all &= (value >= least) & (value <= largest);
  }
  return (all[0] & all[1] & all[2] & all[3]) != 0;
}

/// Rows of a column of A B that stay in registers. Zeros are passed over: much of what is multiplied here is.
template <std::size_t kFours>
__attribute__((always_inline)) inline void product_rows(std::size_t stride, std::size_t inner, const double* a,
                                                        const double* b, double* c) {
  Four sum[kFours] = {};
  for (std::size_t k = 0; k < inner; ++k, a += stride) {
    if (b[k] == 0) continue;
    const Four factor = {b[k], b[k], b[k], b[k]};
    for (std::size_t i = 0; i < kFours; ++i) {
      Four four;
      load(four, a + 4 * i);
      sum[i] += four * factor;
    }
  }
  for (std::size_t i = 0; i < kFours; ++i) store(sum[i], c + 4 * i);
}

__attribute__((always_inline)) inline void product_all(std::size_t rows, std::size_t inner, std::size_t columns,
                                                       const double* a, const double* b, double* c) {
  for (std::size_t column = 0; column < columns; ++column, b += inner, c += rows) {
    std::size_t at = 0;
    for (; rows - at >= 32; at += 32) product_rows<8>(rows, inner, a + at, b, c + at);
    switch ((rows - at) / 4) {
      case 7:
        product_rows<7>(rows, inner, a + at, b, c + at);
        break;
      case 6:
        product_rows<6>(rows, inner, a + at, b, c + at);
        break;
      case 5:
        product_rows<5>(rows, inner, a + at, b, c + at);
        break;
      case 4:
        product_rows<4>(rows, inner, a + at, b, c + at);
        break;
      case 3:
        product_rows<3>(rows, inner, a + at, b, c + at);
        break;
      case 2:
        product_rows<2>(rows, inner, a + at, b, c + at);
        break;
      case 1:
        product_rows<1>(rows, inner, a + at, b, c + at);
        break;
      default:
        break;
    }
    // What is left is the end of a block that was made in part.
    if (rows % 4 != 0 && rows > 4) product_rows<1>(rows, inner, a + rows - 4, b, c + rows - 4);
    at = rows > 4 ? rows : rows / 4 * 4;
    for (; at < rows; ++at) {
      double sum = 0;
      for (std::size_t k = 0; k < inner; ++k) sum += a[k * rows + at] * b[k];
      c[at] = sum;
    }
  }
}

__attribute__((always_inline)) inline bool solve_all(std::size_t n, std::size_t columns, double* a, double* b) {
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

bool solve_plain(std::size_t n, std::size_t columns, double* a, double* b) {
  return solve_all(n, columns, a, b);
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
bool inside_plain(std::size_t blocks, const double* low, const double* y, const double* high) {
  return inside_all(blocks, low, y, high);
}
#ifdef __x86_64__
__attribute__((target("avx2"))) bool solve_wide(std::size_t n, std::size_t columns, double* a, double* b) {
  return solve_all(n, columns, a, b);
}
__attribute__((target("avx2"))) bool inside_wide(std::size_t blocks, const double* low, const double* y,
                                                 const double* high) {
  return inside_all(blocks, low, y, high);
}
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
const auto g_solve = __builtin_cpu_supports("avx2") ? solve_wide : solve_plain;
const auto g_inside = __builtin_cpu_supports("avx2") ? inside_wide : inside_plain;
const auto g_march = __builtin_cpu_supports("avx2") ? march_wide : march_plain;
const auto g_product = __builtin_cpu_supports("avx2") ? product_wide : product_plain;
#else
const auto g_multiply = multiply_plain;
const auto g_solve = solve_plain;
const auto g_inside = inside_plain;
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

bool inside(std::size_t blocks, const double* low, const double* y, const double* high) {
  return g_inside(blocks, low, y, high);
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
  return g_solve(n, columns, a, b);
}

}  // namespace isodyne::networks::electric
