#pragma once
// Robustness at one instant as an int64 that orders like its double; AND is min, OR is max, NOT is complement. A minus
// zero does not hold, a plus zero does: so every key tells the truth too. Source: Fainekos and Pappas (2009) for the
// robustness, IEEE 754 for the order of doubles as whole numbers.

#include <algorithm>
#include <bit>
#include <cstdint>
#include <limits>

#include "isodyne/judge/formula.h"

namespace isodyne::judge {

/// At the end of a run: the least and the greatest key that an instant can have.
struct Range {
  std::int64_t low = 0, high = 0;
};

inline constexpr double kFar = std::numeric_limits<double>::infinity();
inline constexpr std::int64_t kMost = 0x7ff0000000000000;  // plus infinity
inline constexpr std::int64_t kLeast = ~kMost;

/// The order of doubles as whole numbers: a negative one's bits count backwards.
inline std::int64_t ordered(double distance) {
  const auto bits = std::bit_cast<std::int64_t>(distance);
  return bits ^ ((bits >> 63) & std::numeric_limits<std::int64_t>::max());
}
inline double distance_of(std::int64_t key) {
  return std::bit_cast<double>(key ^ ((key >> 63) & std::numeric_limits<std::int64_t>::max()));
}
/// What holds is at least plus zero, what does not at most minus zero. What is no number does not hold, or is far.
inline std::int64_t key_of(double distance, bool holds) {
  if (distance != distance) return holds ? kMost : kLeast;
  const std::int64_t key = ordered(distance);
  return holds ? std::max<std::int64_t>(key, 0) : std::min<std::int64_t>(key, -1);
}

/// key_of for many, without a branch.
void keys_of(const double* distances, const double* truths, std::size_t count, std::int64_t* keys);
/// The least of them and `most`; the greatest of them and `least`.
std::int64_t least_of(const std::int64_t* keys, std::size_t count, std::int64_t most);
std::int64_t greatest_of(const std::int64_t* keys, std::size_t count, std::int64_t least);

inline std::int64_t opposite(std::int64_t k) {
  return ~k;
}
inline std::int64_t least(std::int64_t a, std::int64_t b) {
  return std::min(a, b);
}
inline std::int64_t greatest(std::int64_t a, std::int64_t b) {
  return std::max(a, b);
}
inline Range opposite(const Range& r) {
  return {~r.high, ~r.low};
}
inline Range least(const Range& a, const Range& b) {
  return {std::min(a.low, b.low), std::min(a.high, b.high)};
}
inline Range greatest(const Range& a, const Range& b) {
  return {std::max(a.low, b.low), std::max(a.high, b.high)};
}
inline Range range_of(std::int64_t key) {
  return {key, key};
}
inline Value value_of(std::int64_t k) {
  const double d = distance_of(k);
  return {d, d, k >= 0, k >= 0};
}
inline Value value_of(const Range& r) {
  return {distance_of(r.low), distance_of(r.high), r.low >= 0, r.high >= 0};
}

struct Least {
  template <typename V>
  V operator()(const V& a, const V& b) const {
    return least(a, b);
  }
};
struct Greatest {
  template <typename V>
  V operator()(const V& a, const V& b) const {
    return greatest(a, b);
  }
};
}  // namespace isodyne::judge
