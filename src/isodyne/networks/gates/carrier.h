#pragma once
// A period that repeats, by which modulators go: where in it they are, and when they come to a place in it.
//
// While the frequency stays, a place in the n-th period is one product away from the instant at which the frequency was
// taken over, so that nothing adds up over a long run. Edges are rounded to the nanosecond.

#include <cmath>
#include <cstdint>

#include "isodyne/core/time.h"

namespace isodyne::networks::gates {

class Carrier {
 public:
  /// Its state is three numbers; `at` periods after its valley at time 0.
  static constexpr std::size_t kNumbers = 3;

  explicit Carrier(double* state) : since_(state[0]), at_(state[1]), frequency_(state[2]) {}
  static void begin(double* state, double frequency, double phase) {
    state[0] = 0;
    state[1] = phase;
    state[2] = frequency;
  }

  /// From `now` on it goes on with another frequency, Hz.
  void take(Time now, double frequency) {
    if (frequency == frequency_) return;
    at_ = place(now);
    since_ = to_seconds(now);
    frequency_ = frequency;
  }
  /// Periods since time 0.
  double place(Time now) const { return at_ + (to_seconds(now) - since_) * frequency_; }
  /// When it comes to a place.
  Time when(double place) const {
    return Time{static_cast<std::int64_t>(std::llround((since_ + (place - at_) / frequency_) * 1e9))};
  }

 private:
  double &since_, &at_, &frequency_;
};

}  // namespace isodyne::networks::gates
