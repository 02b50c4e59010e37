#pragma once
// What the time of an instant is spent on. Where nobody wants to know it does nothing; else it looks at the clock
// between the parts of an instant (about 25 ns each, not taken off). Stepping thread only; others may read the times.

#include <array>

#include "isodyne/bench/run_result.h"
#include "isodyne/core/step_times.h"

namespace isodyne::bench {

class InstantClock {
 public:
  void measure() { on_ = true; }
  bool on() const { return on_; }

  void begin() {
    if (on_) begun_ = Stopwatch::now();
  }
  /// A part of the instant begins here.
  void part() {
    if (on_) part_ = Stopwatch::now();
  }
  /// That part is over: `sampling_ns` of it was spent in channels, which are counted with what comes next.
  void settled(std::int64_t sampling_ns) {
    if (!on_) return;
    plant_ns_ = since(part_) - sampling_ns;
    sampling_ns_ = sampling_ns;
    part_ = Stopwatch::now();
  }
  void sampled() { add(RunShare::channels, sampling_ns_); }
  /// What the part was about; `more_ns` was spent on it before.
  void add(RunShare share, std::int64_t more_ns = 0) {
    if (on_) at(share).add(more_ns + since(part_));
  }
  void end() {
    if (on_) instant_ns_ = since(begun_);
  }
  /// The step from this instant to the next, which began with part(), is over.
  void stepped() {
    if (!on_) return;
    const std::int64_t took = since(part_);
    at(RunShare::plant).add(plant_ns_ + took);
    at(RunShare::whole).add(instant_ns_ + took);
  }

  const StepTimes& times(RunShare share) const { return times_[static_cast<std::size_t>(share)]; }
  const auto& all() const { return times_; }

 private:
  static std::int64_t since(Stopwatch::time_point begin) { return (Stopwatch::now() - begin).count(); }
  StepTimes& at(RunShare share) { return times_[static_cast<std::size_t>(share)]; }

  bool on_ = false;
  Stopwatch::time_point begun_, part_;
  std::int64_t plant_ns_ = 0, sampling_ns_ = 0, instant_ns_ = 0;  ///< of the present instant
  std::array<StepTimes, static_cast<std::size_t>(RunShare::count)> times_;
};

}  // namespace isodyne::bench
