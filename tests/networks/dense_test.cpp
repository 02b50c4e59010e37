// Small dense matrices: what wide registers add up against what any machine does, to the bit, and against sums in a
// longer format.

#include <cmath>
#include <random>
#include <vector>

#include <catch2/catch.hpp>

#include "isodyne/networks/electric/dense_kernels.h"

using namespace isodyne::networks::electric;

namespace {

struct Random {
  std::mt19937_64 bits{7};
  double operator()() { return static_cast<double>(static_cast<std::int64_t>(bits())) * 1e-19; }
  std::vector<double> row(std::size_t n) {
    std::vector<double> all(n);
    for (double& x : all) x = (*this)();
    return all;
  }
};

/// A matrix of random numbers, in memory of its own.
struct Owned {
  Owned(std::size_t rows, std::size_t columns, Random& random) : memory(Columns::size_of(rows, columns)) {
    of.shape(rows, columns, memory.data());
    for (std::size_t c = 0; c < columns; ++c) {
      for (std::size_t r = 0; r < rows; ++r) of.at(r, c) = random();
    }
  }
  std::vector<double> memory;
  Columns of;
};

constexpr std::size_t kShapes[][2] = {{1, 1},  {3, 2},   {4, 5},   {9, 21},  {12, 7},  {13, 1},  {16, 16}, {23, 24},
                                      {28, 3}, {32, 40}, {33, 12}, {47, 30}, {64, 64}, {70, 71}, {100, 9}, {131, 70}};

}  // namespace

TEST_CASE("Matrices come out the same to the bit on every machine, and as a longer format has them") {
  const DenseWays& plain = plain_ways();
  const DenseWays* const wide = wide_ways();
  if (wide == nullptr) WARN("this machine has no wide registers: only one way is tried");
  Random random;
  for (const auto& [rows, columns] : kShapes) {
    CAPTURE(rows, columns);
    const Owned a(rows, columns, random);
    const std::vector<double> x = random.row(columns), base = random.row(a.of.stride);
    for (const bool onto : {false, true}) {
      std::vector<double> one = base, two = base;
      plain.multiply(a.of, x.data(), onto ? one.data() : nullptr, one.data());
      if (wide != nullptr) {
        wide->multiply(a.of, x.data(), onto ? two.data() : nullptr, two.data());
        CHECK(one == two);
      }
      for (std::size_t r = 0; r < rows; ++r) {
        long double sum = onto ? base[r] : 0;
        for (std::size_t c = 0; c < columns; ++c) sum += static_cast<long double>(a.of.at(r, c)) * x[c];
        CHECK(one[r] == Approx(static_cast<double>(sum)).margin(1e-15 * static_cast<double>(columns)));
      }
    }
  }
}

TEST_CASE("Many steps at once are single steps to the bit, and end where the first one would leave its bounds") {
  const DenseWays& plain = plain_ways();
  Random random;
  for (const auto& [rows, columns] : kShapes) {
    if (columns > rows) continue;
    CAPTURE(rows, columns);
    Owned a(rows, columns, random);
    for (double& v : a.memory) v *= 1.0 / static_cast<double>(columns);
    const std::vector<double> base = random.row(a.of.stride), begin = random.row(columns);
    std::vector<double> x = begin, y(a.of.stride), low(a.of.stride, -INFINITY), high(a.of.stride, INFINITY);
    std::vector<std::vector<double>> all;
    for (int step = 0; step < 20; ++step) {
      y = base;
      multiply_onto(a.of, x.data(), y.data());
      all.push_back(y);
      std::copy_n(y.begin(), columns, x.begin());
    }
    // One bound between the two largest values of the last row: the largest is beyond it.
    const std::size_t last = rows - 1;
    std::vector<double> of_last;
    for (const auto& row : all) of_last.push_back(row[last]);
    const auto largest = static_cast<std::size_t>(std::max_element(of_last.begin(), of_last.end()) - of_last.begin());
    for (const bool bounded : {false, true}) {
      if (bounded) high[last] = std::nextafter(of_last[largest], -INFINITY);
      for (const DenseWays* const way : {&plain, wide_ways()}) {
        if (way == nullptr) continue;
        x = begin;
        const std::size_t done = way->march(a.of, base.data(), x.data(), low.data(), high.data(), 20);
        std::size_t first = 0;  // that would leave its bounds
        while (first < 20 && !(bounded && of_last[first] > high[last])) ++first;
        CHECK(done == first);
        if (done == 0) {
          CHECK(x == begin);
        } else {
          CHECK(std::equal(x.begin(), x.end(), all[done - 1].begin()));
        }
      }
    }
  }
  // What has no rows reads nothing: a circuit without states.
  for (const DenseWays* const way : {&plain, wide_ways()}) {
    if (way == nullptr) continue;
    Columns nothing;
    CHECK(way->march(nothing, nullptr, nullptr, nullptr, nullptr, 5) == 0);
    way->multiply(nothing, nullptr, nullptr, nullptr);
    CHECK(way->inside(0, nullptr, nullptr, nullptr));
  }
  // What is too large for it is left alone, not made in part.
  Owned large(300, 2, random);
  std::vector<double> x{1, 2}, none(300, 0.0);
  CHECK(plain.march(large.of, none.data(), x.data(), none.data(), none.data(), 5) == 0);
  CHECK(x == std::vector<double>{1, 2});
}

TEST_CASE("Products and solutions of matrices are the same to the bit on every machine") {
  const DenseWays* const wide = wide_ways();
  if (wide == nullptr) return;
  Random random;
  for (std::size_t n = 1; n < 40; n += n < 8 ? 1 : 5) {
    const std::size_t inner = n + 3, columns = 5;
    const std::vector<double> a = random.row(n * inner), b = random.row(inner * columns);
    std::vector<double> one(n * columns), two(n * columns);
    plain_ways().product(n, inner, columns, a.data(), b.data(), one.data());
    wide->product(n, inner, columns, a.data(), b.data(), two.data());
    CHECK(one == two);
    std::vector<double> m = random.row(n * n), again = m, right = random.row(n * columns), right_again = right;
    CHECK(plain_ways().solve(n, columns, m.data(), right.data()));
    CHECK(wide->solve(n, columns, again.data(), right_again.data()));
    CHECK(right == right_again);
    std::fill_n(m.begin(), n, 0.0);
    std::vector<double> singular(n * n, 1.0);
    CHECK(wide->solve(n, columns, singular.data(), right.data()) == (n == 1));
  }
}
