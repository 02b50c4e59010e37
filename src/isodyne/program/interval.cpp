#include "isodyne/program/interval.h"

#include <algorithm>
#include <cmath>

namespace isodyne::program {

namespace {

constexpr Interval kUnknown{};

Interval truth(bool surely, bool surely_not) {
  return {surely ? 1.0 : 0.0, surely_not ? 0.0 : 1.0};
}

Interval less(const Interval& a, const Interval& b) {
  return truth(a.high < b.low, a.low >= b.high);
}
Interval at_most(const Interval& a, const Interval& b) {
  return truth(a.high <= b.low, a.low > b.high);
}
Interval equal(const Interval& a, const Interval& b) {
  return truth(a.low == a.high && b.low == b.high && a.low == b.low, a.high < b.low || b.high < a.low);
}
Interval opposite(const Interval& t) {
  return truth(t.surely_not(), t.surely());
}

/// Of an operation that is monotonic in each operand: its extremes lie at the corners. Infinite operands could make no
/// number of what lies between.
Interval corners(Op op, const Interval& a, const Interval& b) {
  if (!std::isfinite(a.low) || !std::isfinite(a.high) || !std::isfinite(b.low) || !std::isfinite(b.high))
    return kUnknown;
  const auto at = [&](double x, double y) { return program::apply(op, x, y, 0); };
  const double four[] = {at(a.low, b.low), at(a.low, b.high), at(a.high, b.low), at(a.high, b.high)};
  return {*std::min_element(four, four + 4), *std::max_element(four, four + 4)};
}
/// Of one that grows with every operand.
Interval growing(Op op, const Interval& a, const Interval& b, const Interval& c) {
  return {program::apply(op, a.low, b.low, c.low), program::apply(op, a.high, b.high, c.high)};
}

}  // namespace

Interval over(Op op, const Interval& a, const Interval& b, const Interval& c) {
  switch (op) {
    // Truths, which are numbers whatever their operands are. Comparing with the unknown is neither sure.
    case Op::lt:
      return less(a, b);
    case Op::le:
      return at_most(a, b);
    case Op::gt:
      return less(b, a);
    case Op::ge:
      return at_most(b, a);
    case Op::eq:
      return equal(a, b);
    case Op::ne:
      return opposite(equal(a, b));
    case Op::land:
      return truth(a.surely() && b.surely(), a.surely_not() || b.surely_not());
    case Op::lor:
      return truth(a.surely() || b.surely(), a.surely_not() && b.surely_not());
    case Op::lnot:
      return opposite(a);
    case Op::select:
      if (a.surely()) return b;
      if (a.surely_not()) return c;
      return b.unknown() || c.unknown() ? kUnknown : Interval{std::min(b.low, c.low), std::max(b.high, c.high)};
    default:
      break;
  }
  if (a.unknown() || b.unknown() || c.unknown()) return kUnknown;  // what is not an operand is zero
  switch (op) {
    case Op::add:
    case Op::sub:
    case Op::mul:
      return corners(op, a, b);
    case Op::div:
      return b.surely() ? corners(op, a, b) : kUnknown;
    case Op::neg:
      return {-a.high, -a.low};
    case Op::abs:
      if (a.low >= 0) return a;
      return {a.high <= 0 ? -a.high : 0, std::max(-a.low, a.high)};
    case Op::sqrt:
      return a.low >= 0 ? growing(op, a, b, c) : kUnknown;
    case Op::sign:
    case Op::min:
    case Op::max:
    case Op::clamp:
    case Op::floor:
    case Op::ceil:
    case Op::round:
      return growing(op, a, b, c);
    default:
      return kUnknown;
  }
}

}  // namespace isodyne::program
