#include "isodyne/core/time.h"

#include <cmath>

#include <fmt/format.h>

namespace isodyne {

std::optional<Time> time_from_seconds(double seconds) {
  const double ns = std::round(seconds * 1e9);
  if (!std::isfinite(ns) || std::abs(ns) > 9.2e18) return std::nullopt;
  return Time{static_cast<std::int64_t>(ns)};
}

namespace {
std::string decimal(std::int64_t count, int digits) {
  const bool negative = count < 0;
  std::uint64_t rest = negative ? 0 - static_cast<std::uint64_t>(count) : static_cast<std::uint64_t>(count);
  std::uint64_t scale = 1;
  for (int i = 0; i < digits; ++i) scale *= 10;
  std::string text = fmt::format("{}{}", negative ? "-" : "", rest / scale);
  if (rest % scale != 0) {
    std::string fraction = fmt::format("{:0{}}", rest % scale, digits);
    while (fraction.back() == '0') fraction.pop_back();
    text += "." + fraction;
  }
  return text;
}
}  // namespace

std::string format_span(Time t) {
  const std::int64_t size = t.count() < 0 ? -t.count() : t.count();
  if (size == 0) return "0 s";
  if (size < 1'000) return decimal(t.count(), 0) + " ns";
  if (size < 1'000'000) return decimal(t.count(), 3) + " µs";
  if (size < 1'000'000'000) return decimal(t.count(), 6) + " ms";
  return decimal(t.count(), 9) + " s";
}

std::string format_instant(Time t) {
  return decimal(t.count(), 9) + " s";
}

}  // namespace isodyne
