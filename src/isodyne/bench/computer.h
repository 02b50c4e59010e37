#pragma once
// What this machine can do for real time, found out by trying.

#include <functional>
#include <string>
#include <vector>

#include "isodyne/bench/pacer.h"
#include "isodyne/bench/realtime_privileges.h"

namespace isodyne::bench {

/// A fact about the machine, and what to do about it where it is in the way.
struct ComputerFact {
  std::string what, is, advice;  ///< advice: empty where nothing is wrong
};

/// An empty loop with this step.
struct StepTrial {
  Time step{};
  std::int64_t steps = 0, overruns = 0;
  StepTimes lateness;
  bool held() const;
};

struct ComputerCheck {
  RealtimePrivileges privileges;
  std::vector<ComputerFact> facts;
  StepTimes sleep;                ///< how late a sleep of 1 ms ends, without looking at the clock before; ns
  std::vector<StepTrial> trials;  ///< from long to short steps, up to the first two that were not held
  std::int64_t gaps = 0;          ///< times in which a thread that only looks at the clock was stopped for over 20 us
  std::int64_t longest_gap_ns = 0;
  double watched_s = 0;

  /// The shortest step that was held, and all longer ones with it; zero: none.
  Time shortest() const;
};

/// Takes about ten times `each`. `go_on` is told the share that is done; false ends it early.
ComputerCheck check_computer(int core, Time each, const std::function<bool(double)>& go_on);

}  // namespace isodyne::bench
