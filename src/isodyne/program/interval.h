#pragma once
// What an operation gives for operands that are only known to lie between two numbers. The bounds hold for the rounded
// results: what is computed here is rounded in the same way, and rounding keeps the order.

#include <limits>

#include "isodyne/program/ops.h"

namespace isodyne::program {

struct Interval {
  double low = std::numeric_limits<double>::quiet_NaN(), high = low;

  /// Nothing is known: it may be anything, also no number.
  bool unknown() const { return low != low; }
  bool surely() const { return low > 0 || high < 0; }        ///< true
  bool surely_not() const { return low == 0 && high == 0; }  ///< false
};

Interval over(program::Op op, const Interval& a, const Interval& b, const Interval& c);

}  // namespace isodyne::program
