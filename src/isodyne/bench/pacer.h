#pragma once
// Keeps a run to the wall clock: absolute deadlines on the monotonic clock, which nobody can set.
//
// Waits by sleeping until shortly before the deadline (never more than 40 % of the step) and looking at the clock from
// then on.

#include <atomic>
#include <cstdint>

#include "isodyne/core/guarded_sleep.h"
#include "isodyne/core/step_times.h"
#include "isodyne/core/time.h"

namespace isodyne::bench {

/// A step that was not finished when the next was due is an overrun. A stretch is a series of them.
struct OverrunSeries {
  Time first{};  ///< instant of the first late step
  std::int64_t steps = 0;
  std::int64_t worst_ns = 0;  ///< how late the worst of them was
};

class Pacer {
 public:
  /// `speed` 0.5: the plant takes two seconds for one.
  Pacer(Time step, double speed);

  /// The wall clock stands at this instant now.
  void begin(Time instant);
  /// When an instant is due, on the monotonic clock.
  std::int64_t deadline(Time instant) const;
  std::int64_t step_ns() const { return step_ns_; }
  /// Returns when the instant is due; at once if it is past.
  void wait(Time instant);
  /// The step that began with `instant` is done. True where a stretch of overruns ended before it: see stretch().
  bool done(Time instant);
  /// A stretch that is still going on when the run ends.
  bool end();

  bool late() const { return stretch_.steps > 0; }
  const OverrunSeries& stretch() const { return told_; }
  std::int64_t steps() const { return steps_; }
  std::int64_t overruns() const { return overruns_; }
  const StepTimes& lateness() const { return lateness_; }    ///< from deadline to begin
  const StepTimes& execution() const { return execution_; }  ///< from begin to end of the work

 private:
  std::int64_t step_ns_;
  double speed_;
  std::int64_t origin_ns_ = 0;
  Time origin_{};
  GuardedSleep sleep_;
  std::int64_t begun_ns_ = 0;
  Count steps_, overruns_;
  OverrunSeries stretch_, told_;
  StepTimes lateness_, execution_;
};

}  // namespace isodyne::bench
