// Whatever lies between the operands' bounds gives a result between the result's.

#include <cmath>
#include <limits>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/random.h"
#include "isodyne/program/interval.h"

using namespace isodyne;
using program::Op;

namespace {

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

double number(RandomStream& random) {
  const double special[] = {0.0, -0.0, 1, -1, 0.5, 1e-310, 1e300, -1e300, std::numeric_limits<double>::infinity()};
  if (random.uniform() < 0.3) return special[static_cast<int>(random.uniform() * 9)];
  return std::floor(random.uniform() * 40 - 20) / 4;
}

program::Interval interval(RandomStream& random) {
  if (random.uniform() < 0.05) return {};
  const double a = number(random), b = random.uniform() < 0.3 ? a : number(random);
  return {std::min(a, b), std::max(a, b)};
}

/// Something in it; of the unknown, anything.
double within(RandomStream& random, const program::Interval& i) {
  if (i.unknown()) return random.uniform() < 0.3 ? kNone : number(random);
  const double which = random.uniform();
  if (which < 0.3) return i.low;
  if (which < 0.6) return i.high;
  const double v = i.low + random.uniform() * (i.high - i.low);
  return v >= i.low && v <= i.high ? v : i.low;
}

}  // namespace

TEST_CASE("Every operation over intervals holds what it gives for numbers within them") {
  RandomStream random(20261129, "intervals");
  std::size_t known = 0, all = 0;
  for (int o = 0; o <= static_cast<int>(Op::atan2); ++o) {
    const auto op = static_cast<Op>(o);
    if (op == Op::constant || op == Op::variable || (op >= Op::normal && op <= Op::slope2y)) continue;
    for (int k = 0; k < 3000; ++k) {
      program::Interval in[3] = {interval(random), interval(random), interval(random)};
      for (int i = program::arity(op); i < 3; ++i) in[i] = {0, 0};
      const program::Interval out = program::over(op, in[0], in[1], in[2]);
      ++all;
      if (out.unknown()) continue;
      ++known;
      for (int s = 0; s < 20; ++s) {
        const double a = within(random, in[0]), b = within(random, in[1]), c = within(random, in[2]);
        const double v = program::apply(op, a, b, c);
        if (v >= out.low && v <= out.high) continue;
        FAIL(fmt::format("operation {}: {} {} {} gives {}, not within {} .. {}", o, a, b, c, v, out.low, out.high));
      }
    }
  }
  CHECK(known > all / 4);
}

TEST_CASE("What is known of intervals is as much as can be known") {
  const auto over = [](Op op, program::Interval a, program::Interval b = {0, 0}, program::Interval c = {0, 0}) {
    const program::Interval i = program::over(op, a, b, c);
    return std::pair{i.low, i.high};
  };
  CHECK(over(Op::sub, {1, 2}, {0.5, 4}) == std::pair{-3.0, 1.5});
  CHECK(over(Op::mul, {-2, 3}, {-1, 5}) == std::pair{-10.0, 15.0});
  CHECK(over(Op::div, {1, 2}, {4, 8}) == std::pair{0.125, 0.5});
  CHECK(over(Op::abs, {-3, 2}) == std::pair{0.0, 3.0});
  CHECK(over(Op::lt, {1, 2}, {3, 4}) == std::pair{1.0, 1.0});
  CHECK(over(Op::lt, {1, 3}, {3, 4}) == std::pair{0.0, 1.0});
  CHECK(over(Op::le, {4, 5}, {1, 3}) == std::pair{0.0, 0.0});
  CHECK(over(Op::land, {1, 1}, {0, 0}) == std::pair{0.0, 0.0});
  CHECK(over(Op::lnot, {0, 0}) == std::pair{1.0, 1.0});
  CHECK(over(Op::select, {1, 1}, {5, 6}, {7, 8}) == std::pair{5.0, 6.0});
  CHECK(over(Op::select, {0, 1}, {5, 6}, {7, 8}) == std::pair{5.0, 8.0});
  CHECK(program::over(Op::div, {1, 2}, {-1, 1}, {0, 0}).unknown());
}
