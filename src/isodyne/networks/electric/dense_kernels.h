#pragma once
// What is added up in small dense matrices, written once for any machine: four numbers beside each other, and products
// added without being rounded before. Compiled twice: for every machine in dense.cpp, for those that do it at once in
// dense_wide.cpp. So nothing here may be a function that both would share: no templates of the standard library.
//
// The order in which a sum is made follows from the shape of its matrix alone: many rows are added up one column after
// the other, of few the columns go in two or four sums beside each other, so that none waits for the one before it.

#include "isodyne/networks/electric/dense.h"

namespace isodyne::networks::electric {

using Four = double __attribute__((vector_size(32)));
using FourTruths = long long __attribute__((vector_size(32)));

/// `Machine` gives fuse(a, b, sum): sum += a b, rounded once. All is static, and of this machine only.
template <class Machine>
struct Kernels {
  /// They lie anywhere. Not by memcpy: whole rows of them would go through the stack.
  __attribute__((always_inline)) static void load(Four& v, const double* from) {
    typedef double Unaligned __attribute__((vector_size(32), aligned(8), may_alias));
    v = *reinterpret_cast<const Unaligned*>(from);
  }
  __attribute__((always_inline)) static void store(const Four& v, double* to) {
    typedef double Unaligned __attribute__((vector_size(32), aligned(8), may_alias));
    *reinterpret_cast<Unaligned*>(to) = v;
  }

  /// So many blocks of rows go through all columns together, and so many columns beside each other.
  static constexpr std::size_t kMostFours = 8, kManyColumns = 8;
  static constexpr std::size_t chains_of(std::size_t fours) { return fours <= 3 ? 4 : fours <= 6 ? 2 : 1; }

  /// sum += kFours blocks of rows of A, times x.
  template <std::size_t kFours>
  __attribute__((always_inline)) static void sum_up(const double* a, std::size_t stride, std::size_t columns,
                                                    const double* x, Four* sum) {
    constexpr std::size_t kChains = chains_of(kFours);
    std::size_t c = 0;
    if (kChains > 1 && columns >= kManyColumns) {
      Four beside[kChains][kFours] = {};
      for (; c + kChains <= columns; c += kChains) {
#pragma GCC unroll 8
        for (std::size_t chain = 0; chain < kChains; ++chain, a += stride)
          add_column<kFours>(a, x[c + chain], chain == 0 ? sum : beside[chain]);
      }
#pragma GCC unroll 8
      for (std::size_t k = 0; k < kFours; ++k) {
        if constexpr (kChains == 2) sum[k] += beside[1][k];
        if constexpr (kChains == 4) sum[k] = (sum[k] + beside[1][k]) + (beside[2][k] + beside[3][k]);
      }
    }
    for (; c < columns; ++c, a += stride) add_column<kFours>(a, x[c], sum);
  }
  template <std::size_t kFours>
  __attribute__((always_inline)) static void add_column(const double* a, double x, Four* sum) {
    const Four factor = {x, x, x, x};
#pragma GCC unroll 8
    for (std::size_t k = 0; k < kFours; ++k) {
      Four four;
      load(four, a + 4 * k);
      Machine::fuse(four, factor, sum[k]);
    }
  }

  template <std::size_t kFours>
  __attribute__((always_inline)) static void multiply_rows(const double* a, const Columns& of, const double* x,
                                                           const double* base, double* y) {
    Four sum[kFours] = {};
    if (base != nullptr) {
#pragma GCC unroll 8
      for (std::size_t k = 0; k < kFours; ++k) load(sum[k], base + 4 * k);
    }
    sum_up<kFours>(a, of.stride, of.columns, x, sum);

#pragma GCC unroll 8
    for (std::size_t k = 0; k < kFours; ++k) store(sum[k], y + 4 * k);
  }

  template <std::size_t kFours>
  struct Number {
    static constexpr std::size_t kValue = kFours;
  };
  /// act(Number<fours>), fours 1 .. kMostFours; never 0.
  template <class Act>
  __attribute__((always_inline)) static void as_constant(std::size_t fours, const Act& act) {
    switch (fours) {
      case 1:
        return act(Number<1>{});
      case 2:
        return act(Number<2>{});
      case 3:
        return act(Number<3>{});
      case 4:
        return act(Number<4>{});
      case 5:
        return act(Number<5>{});
      case 6:
        return act(Number<6>{});
      case 7:
        return act(Number<7>{});
      default:
        return act(Number<8>{});
    }
  }
  /// act(Number<fours>, first row) until all blocks of rows have been met, as many of them together as there may be.
  template <class Act>
  __attribute__((always_inline)) static void in_pieces(std::size_t stride, const Act& act) {
    std::size_t row = 0;
    for (std::size_t left = stride / 4; left > 0;) {
      const std::size_t fours = left <= kMostFours ? left : left >= 2 * kMostFours ? kMostFours : left - left / 2;
      as_constant(
          fours, [&](auto number) __attribute__((always_inline)) { act(number, row); });
      row += 4 * fours;
      left -= fours;
    }
  }

  /// base: null, or what is added to; it may be y.
  static void multiply(const Columns& a, const double* x, const double* base, double* y) {
    in_pieces(
        a.stride, [&](auto number, std::size_t row) __attribute__((always_inline)) {
          multiply_rows<decltype(number)::kValue>(a.values + row, a, x, base == nullptr ? nullptr : base + row,
                                                  y + row);
        });
  }

  /// Of larger matrices, and of nothing, it makes none: whoever asks goes step by step.
  static constexpr std::size_t kMostMarched = 256;

  static std::size_t march(const Columns& a, const double* base, double* x, const double* low, const double* high,
                           std::size_t most) {
    if (a.stride == 0 || a.stride > kMostMarched) return 0;
    if (a.stride > 4 * kMostFours) return march_in_pieces(a, base, x, low, high, most);
    std::size_t done = 0;
    as_constant(
        a.stride / 4, [&](auto number) __attribute__((always_inline)) {
          done = march_rows<decltype(number)::kValue>(a, base, x, low, high, most);
        });
    return done;
  }
  template <std::size_t kFours>
  __attribute__((always_inline)) static std::size_t march_rows(const Columns& a, const double* base, double* x,
                                                               const double* low, const double* high,
                                                               std::size_t most) {
    // What came out is what goes in next, where it lies.
    alignas(32) double y[4 * kFours];
    const double* const values = a.values;
    const std::size_t stride = a.stride, columns = a.columns;
    for (std::size_t k = 0; k < columns; ++k) y[k] = x[k];
    std::size_t done = 0;
    for (; done < most; ++done) {
      Four sum[kFours];
      FourTruths inside = {-1, -1, -1, -1};
#pragma GCC unroll 8
      for (std::size_t k = 0; k < kFours; ++k) load(sum[k], base + 4 * k);
      sum_up<kFours>(values, stride, columns, y, sum);
#pragma GCC unroll 8
      for (std::size_t k = 0; k < kFours; ++k) look(sum[k], low + 4 * k, high + 4 * k, inside);
      if (!all_of(inside)) break;
#pragma GCC unroll 8
      for (std::size_t k = 0; k < kFours; ++k) store(sum[k], y + 4 * k);
    }
    for (std::size_t k = 0; k < columns; ++k) x[k] = y[k];
    return done;
  }
  static std::size_t march_in_pieces(const Columns& a, const double* base, double* x, const double* low,
                                     const double* high, std::size_t most) {
    alignas(32) double both[2][kMostMarched];
    double *now = both[0], *next = both[1];
    for (std::size_t k = 0; k < a.columns; ++k) now[k] = x[k];
    std::size_t done = 0;
    for (; done < most; ++done) {
      FourTruths inside = {-1, -1, -1, -1};
      in_pieces(
          a.stride, [&](auto number, std::size_t row) __attribute__((always_inline)) {
            constexpr std::size_t kFours = decltype(number)::kValue;
            Four sum[kFours];
#pragma GCC unroll 8
            for (std::size_t k = 0; k < kFours; ++k) load(sum[k], base + row + 4 * k);
            sum_up<kFours>(a.values + row, a.stride, a.columns, now, sum);
#pragma GCC unroll 8
            for (std::size_t k = 0; k < kFours; ++k) {
              look(sum[k], low + row + 4 * k, high + row + 4 * k, inside);
              store(sum[k], next + row + 4 * k);
            }
          });
      if (!all_of(inside)) break;
      double* const before = now;
      now = next;
      next = before;
    }
    for (std::size_t k = 0; k < a.columns; ++k) x[k] = now[k];
    return done;
  }
  __attribute__((always_inline)) static void look(const Four& value, const double* low, const double* high,
                                                  FourTruths& inside) {
    Four least, largest;
    load(least, low);
    load(largest, high);
    inside &= (value >= least) & (value <= largest);
  }
  __attribute__((always_inline)) static bool all_of(const FourTruths& truths) {
    return (truths[0] & truths[1] & truths[2] & truths[3]) != 0;
  }

  static bool inside(std::size_t blocks, const double* low, const double* y, const double* high) {
    FourTruths all = {-1, -1, -1, -1};
    for (std::size_t at = 0; at < 4 * blocks; at += 4) {
      Four value;
      load(value, y + at);
      look(value, low + at, high + at, all);
    }
    return all_of(all);
  }

  /// Rows of a column of A B that stay in registers. Zeros are passed over: much of what is multiplied here is.
  template <std::size_t kFours>
  __attribute__((always_inline)) static void product_rows(std::size_t stride, std::size_t inner, const double* a,
                                                          const double* b, double* c) {
    Four sum[kFours] = {};
    for (std::size_t k = 0; k < inner; ++k, a += stride) {
      if (b[k] == 0) continue;
      const Four factor = {b[k], b[k], b[k], b[k]};

#pragma GCC unroll 8
      for (std::size_t i = 0; i < kFours; ++i) {
        Four four;
        load(four, a + 4 * i);
        Machine::fuse(four, factor, sum[i]);
      }
    }

#pragma GCC unroll 8
    for (std::size_t i = 0; i < kFours; ++i) store(sum[i], c + 4 * i);
  }

  static void product(std::size_t rows, std::size_t inner, std::size_t columns, const double* a, const double* b,
                      double* c) {
    for (std::size_t column = 0; column < columns; ++column, b += inner, c += rows) {
      std::size_t at = 0;
      for (; rows - at >= 32; at += 32) product_rows<8>(rows, inner, a + at, b, c + at);
      if (rows - at >= 4) {
        as_constant((rows - at) / 4, [&](auto number) __attribute__((always_inline)) {
          product_rows<decltype(number)::kValue>(rows, inner, a + at, b, c + at);
        });
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

  static void exchange(std::size_t count, double* one, double* two) {
    for (std::size_t k = 0; k < count; ++k) {
      const double first = one[k];
      one[k] = two[k];
      two[k] = first;
    }
  }

  static bool solve(std::size_t n, std::size_t columns, double* a, double* b) {
    for (std::size_t k = 0; k < n; ++k) {
      std::size_t pivot = k;
      for (std::size_t r = k + 1; r < n; ++r) {
        if (__builtin_fabs(a[r * n + k]) > __builtin_fabs(a[pivot * n + k])) pivot = r;
      }
      const double value = a[pivot * n + k];
      if (value == 0 || !__builtin_isfinite(value)) return false;
      if (pivot != k) {
        exchange(n - k, a + k * n + k, a + pivot * n + k);
        exchange(columns, b + k * columns, b + pivot * columns);
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
};

/// One machine's way to do all of it.
struct DenseWays {
  void (*multiply)(const Columns&, const double*, const double*, double*);
  std::size_t (*march)(const Columns&, const double*, double*, const double*, const double*, std::size_t);
  bool (*inside)(std::size_t, const double*, const double*, const double*);
  void (*product)(std::size_t, std::size_t, std::size_t, const double*, const double*, double*);
  bool (*solve)(std::size_t, std::size_t, double*, double*);
};
template <class Machine>
constexpr DenseWays ways_of() {
  using K = Kernels<Machine>;
  return {K::multiply, K::march, K::inside, K::product, K::solve};
}
/// That of every machine, and that of those with wide registers; null where there can be none.
const DenseWays& plain_ways();
const DenseWays* wide_ways();

}  // namespace isodyne::networks::electric
