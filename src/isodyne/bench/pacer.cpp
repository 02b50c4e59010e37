#include "isodyne/bench/pacer.h"

#include <algorithm>
#include <cmath>
#include <ctime>

namespace isodyne::bench {

namespace {
constexpr std::int64_t kLeastGuard = 15'000, kFirstGuard = 60'000;
}

std::int64_t monotonic_ns() {
  timespec now{};
  clock_gettime(CLOCK_MONOTONIC, &now);
  return static_cast<std::int64_t>(now.tv_sec) * 1'000'000'000 + now.tv_nsec;
}

Pacer::Pacer(Time step, double speed)
    : step_ns_(std::max<std::int64_t>(1, std::llround(static_cast<double>(step.count()) / speed))), speed_(speed) {
  most_guard_ns_ = step_ns_ * 2 / 5;
  guard_ns_ = std::min(kFirstGuard, most_guard_ns_);
}

void Pacer::begin(Time instant) {
  origin_ = instant;
  origin_ns_ = begun_ns_ = monotonic_ns();
}

std::int64_t Pacer::deadline(Time instant) const {
  const std::int64_t since = (instant - origin_).count();
  // A whole number while the speed is that of the wall clock; else exact to the nanosecond for three months.
  return origin_ns_ + (speed_ == 1.0 ? since : std::llround(static_cast<double>(since) / speed_));
}

void Pacer::wait(Time instant) {
  const std::int64_t due = deadline(instant);
  std::int64_t now = monotonic_ns();
  if (now < due - guard_ns_) {
    const std::int64_t wake = due - guard_ns_;
    const timespec until{static_cast<time_t>(wake / 1'000'000'000), static_cast<long>(wake % 1'000'000'000)};
    while (clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &until, nullptr) != 0) {
    }
    now = monotonic_ns();
    const std::int64_t wanted = (now - wake) * 3 / 2 + kLeastGuard;
    guard_ns_ = std::min(most_guard_ns_, std::max(wanted, guard_ns_ - guard_ns_ / 4096));
  }
  while (now < due) now = monotonic_ns();
  begun_ns_ = now;
  lateness_.add(now - due);
}

bool Pacer::done(Time instant) {
  const std::int64_t now = monotonic_ns();
  execution_.add(now - begun_ns_);
  ++steps_;
  const std::int64_t late = now - (deadline(instant) + step_ns_);
  if (late <= 0) return end();
  ++overruns_;
  if (stretch_.steps == 0) stretch_.first = instant;
  ++stretch_.steps;
  stretch_.worst_ns = std::max(stretch_.worst_ns, late);
  return false;
}

bool Pacer::end() {
  if (stretch_.steps == 0) return false;
  told_ = stretch_;
  stretch_ = {};
  return true;
}

}  // namespace isodyne::bench
