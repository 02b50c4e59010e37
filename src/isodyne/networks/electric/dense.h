#pragma once
// Small dense matrices while a plant is stepped, in memory that somebody else owns. Each sum is added up in one order,
// however many of them a machine adds up beside each other, so that results are the same to the bit everywhere.

#include <algorithm>
#include <cstddef>

namespace isodyne::networks::electric {

/// A matrix by columns, each as long as a whole number of blocks; what is behind the last row is zero. The memory is
/// somebody else's.
struct Columns {
  static constexpr std::size_t kBlock = 4;
  std::size_t rows = 0, stride = 0, columns = 0;
  double* values = nullptr;

  static std::size_t stride_of(std::size_t r) { return (r + kBlock - 1) / kBlock * kBlock; }
  static std::size_t size_of(std::size_t r, std::size_t c) { return stride_of(r) * c; }
  /// All zero, in memory for size_of(r, c) numbers.
  void shape(std::size_t r, std::size_t c, double* memory) {
    rows = r;
    columns = c;
    stride = stride_of(r);
    values = memory;
    std::fill_n(values, stride * c, 0.0);
  }
  double& at(std::size_t r, std::size_t c) { return values[c * stride + r]; }
  double at(std::size_t r, std::size_t c) const { return values[c * stride + r]; }
};

/// y = A x; y has room for A.stride numbers.
void multiply(const Columns& a, const double* x, double* y);

/// y += A x, each sum going on from what is there.
void multiply_onto(const Columns& a, const double* x, double* y);

/// Step by step y = base + A x, of which the first a.columns are the next x, as long as low <= y <= high in all rows
/// (each a.stride numbers), and `most` times at most. Gives how often; x is then what the last of them came to. What
/// comes out is what multiply_onto() gives, to the bit. Of large matrices it makes none.
std::size_t march(const Columns& a, const double* base, double* x, const double* low, const double* high,
                  std::size_t most);

/// Whether low <= y <= high in all of so many whole blocks.
bool inside(std::size_t blocks, const double* low, const double* y, const double* high);

/// y += A x, with A of `rows` by `columns`, stored column by column.
void add_product(std::size_t rows, std::size_t columns, const double* a, const double* x, double* y);

/// C = A B, all stored column by column; A is rows by inner, B is inner by columns.
void product(std::size_t rows, std::size_t inner, std::size_t columns, const double* a, const double* b, double* c);

/// Solves A X = B in place by elimination with row exchanges; both stored row by row, `columns` right sides. False: A
/// is singular.
bool solve(std::size_t n, std::size_t columns, double* a, double* b);

}  // namespace isodyne::networks::electric
