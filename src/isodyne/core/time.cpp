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

namespace {
constexpr std::int64_t kMinute = 60'000'000'000, kHour = 60 * kMinute;

/// "12 h 53 min ", and what is left of it, less than a minute; below an hour nothing is taken away.
std::string hours_of(std::int64_t& ns) {
  if (ns > -kHour && ns < kHour) return {};
  const bool negative = ns < 0;
  const std::uint64_t size = negative ? 0 - static_cast<std::uint64_t>(ns) : static_cast<std::uint64_t>(ns);
  ns = static_cast<std::int64_t>(size % kMinute);
  const std::string hours = fmt::format("{}{} h", negative ? "-" : "", size / kHour);
  const auto minutes = size % kHour / kMinute;
  return minutes == 0 && ns == 0 ? hours : fmt::format("{} {} min", hours, minutes);
}
}  // namespace

std::string format_instant(Time t) {
  std::int64_t rest = t.count();
  const std::string hours = hours_of(rest);
  if (hours.empty()) return decimal(rest, 9) + " s";
  return rest == 0 ? hours : hours + " " + decimal(rest, 9) + " s";
}

std::string format_seconds(double seconds, int decimals) {
  if (!std::isfinite(seconds)) return "–";
  const double unit = std::pow(10, decimals);
  const auto rounded = time_from_seconds(std::round(seconds * unit) / unit);
  if (!rounded) return fmt::format("{:.{}g} s", seconds, decimals + 3);
  if (std::abs(rounded->count()) < kHour) return fmt::format("{:.{}f} s", seconds, decimals);
  return format_instant(*rounded);
}

std::string format_moment(double seconds, int decimals) {
  const auto at = time_from_seconds(seconds);
  if (!at || std::abs(seconds) >= 1) return format_seconds(seconds, decimals);
  std::int64_t shown = 1'000'000'000;
  for (int i = 0; i < decimals; ++i) shown /= 10;
  return shown > 0 && at->count() % shown == 0 ? format_seconds(seconds, decimals) : format_span(*at);
}

}  // namespace isodyne
