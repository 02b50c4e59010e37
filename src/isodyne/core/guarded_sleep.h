#pragma once
// Waiting for a point of the monotonic clock: asleep until shortly before it, so that the last stretch can be spent
// looking at the clock, or at whatever else is awaited.
//
// How long before is found out while it runs: a little more than sleep has lately been late, and never more than
// `most`: a thread of real-time priority that looks for nearly the whole of every period loses the processor for 50 ms
// of every second (sched_rt_runtime_us).

#include <algorithm>
#include <cstdint>
#include <ctime>

namespace isodyne {

/// The monotonic clock, ns.
inline std::int64_t monotonic_ns() {
  timespec now{};
  clock_gettime(CLOCK_MONOTONIC, &now);
  return static_cast<std::int64_t>(now.tv_sec) * 1'000'000'000 + now.tv_nsec;
}

class GuardedSleep {
 public:
  explicit GuardedSleep(std::int64_t most_ns) : guard_ns_(std::min(kFirst, most_ns)), most_ns_(most_ns) {}

  /// Returns shortly before `due`, or at once if that is past. Gives the time of its return.
  std::int64_t until_before(std::int64_t due) {
    std::int64_t now = monotonic_ns();
    const std::int64_t wake = due - guard_ns_;
    if (now >= wake) return now;
    const timespec until{static_cast<time_t>(wake / 1'000'000'000), static_cast<long>(wake % 1'000'000'000)};
    while (clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &until, nullptr) != 0) {
    }
    now = monotonic_ns();
    const std::int64_t wanted = (now - wake) * 3 / 2 + kLeast;
    guard_ns_ = std::min(most_ns_, std::max(wanted, guard_ns_ - guard_ns_ / 4096));
    return now;
  }

 private:
  static constexpr std::int64_t kLeast = 15'000, kFirst = 60'000;
  std::int64_t guard_ns_, most_ns_;
};

}  // namespace isodyne
