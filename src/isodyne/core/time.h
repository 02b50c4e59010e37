#pragma once
// Simulated time: a 64-bit count of nanoseconds from the start of the run.
//
// Periods and instants are exact integers, so no floating-point time is ever accumulated: instant n of a
// task is offset + n * period. Seconds as a double exist only where equations need them.

#include <chrono>
#include <cstdint>
#include <optional>
#include <string>

namespace isodyne {

using Time = std::chrono::duration<std::int64_t, std::nano>;

/// The instant or span in seconds, correctly rounded.
constexpr double to_seconds(Time t) {
  return static_cast<double>(t.count()) / 1e9;
}

/// The nearest whole number of nanoseconds; nothing if `seconds` is not finite or beyond ±290 years.
std::optional<Time> time_from_seconds(double seconds);

/// "12.345 s", "20 ms", "1 µs": the span in the unit that needs the fewest zeros.
std::string format_span(Time t);

/// "131.25 s", "12 h 53 min 43.2 s": an instant with up to nanosecond digits, trailing zeros dropped; from an hour on
/// in hours and minutes.
std::string format_instant(Time t);

/// "131.250 s", "12 h 53 min 43.25 s": the same of a double, rounded to so many decimals, and with all of them below an
/// hour, for columns. Not a number: "–".
std::string format_seconds(double seconds, int decimals = 3);

/// The same where these decimals are all that there is; an instant within the first second that has more is told as it
/// is: "1.031 ms".
std::string format_moment(double seconds, int decimals = 3);

}  // namespace isodyne
