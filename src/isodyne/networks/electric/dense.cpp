#include "isodyne/networks/electric/dense.h"

#include "isodyne/networks/electric/dense_kernels.h"

namespace isodyne::networks::electric {

namespace {

/// Where a machine has no such instruction the library of C makes up for it, slowly and to the bit.
struct Plain {
  __attribute__((always_inline)) static void fuse(const Four& a, const Four& b, Four& sum) {
    for (int k = 0; k < 4; ++k) sum[k] = __builtin_fma(a[k], b[k], sum[k]);
  }
};

constexpr DenseWays kPlain = ways_of<Plain>();
const DenseWays g_ways = wide_ways() != nullptr ? *wide_ways() : kPlain;

}  // namespace

const DenseWays& plain_ways() {
  return kPlain;
}

void multiply(const Columns& a, const double* x, double* y) {
  g_ways.multiply(a, x, nullptr, y);
}

void multiply_onto(const Columns& a, const double* x, double* y) {
  g_ways.multiply(a, x, y, y);
}

std::size_t march(const Columns& a, const double* base, double* x, const double* low, const double* high,
                  std::size_t most) {
  return g_ways.march(a, base, x, low, high, most);
}

bool inside(std::size_t blocks, const double* low, const double* y, const double* high) {
  return g_ways.inside(blocks, low, y, high);
}

void add_product(std::size_t rows, std::size_t columns, const double* a, const double* x, double* y) {
  for (std::size_t c = 0; c < columns; ++c) {
    const double factor = x[c];
    const double* column = a + c * rows;
    for (std::size_t r = 0; r < rows; ++r) y[r] += column[r] * factor;
  }
}

void product(std::size_t rows, std::size_t inner, std::size_t columns, const double* a, const double* b, double* c) {
  g_ways.product(rows, inner, columns, a, b, c);
}

bool solve(std::size_t n, std::size_t columns, double* a, double* b) {
  return g_ways.solve(n, columns, a, b);
}

}  // namespace isodyne::networks::electric
