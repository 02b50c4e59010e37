#include "isodyne/bench/pacer.h"

#include <algorithm>
#include <cmath>

namespace isodyne::bench {

Pacer::Pacer(Time step, double speed)
    : step_ns_(std::max<std::int64_t>(1, std::llround(static_cast<double>(step.count()) / speed))),
      speed_(speed),
      sleep_(step_ns_ * 2 / 5) {}

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
  std::int64_t now = sleep_.until_before(due);
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
