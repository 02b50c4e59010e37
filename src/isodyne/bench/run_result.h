#pragma once
// What there is to say about a run beside what was recorded of it.

#include <array>
#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "isodyne/bench/pacer.h"
#include "isodyne/bench/realtime_privileges.h"
#include "isodyne/bench/scenario_player.h"
#include "isodyne/core/step_times.h"
#include "isodyne/observe/events.h"
#include "isodyne/ports/controller_port.h"

namespace isodyne::bench {

/// What the time of an instant is spent on.
enum class RunShare { plant, channels, controllers, judge, whole, count };

/// Whether and how well real time was kept.
struct Timing {
  double speed = 1;
  RealtimePrivileges privileges;
  std::int64_t steps = 0, overruns = 0;
  StepTimes lateness, execution;  ///< of a step: from its deadline to its begin, from its begin to its end; ns
  std::vector<StepTimes> crew;    ///< per thread that steps beside the stepping thread: its share of a step; ns
  std::array<StepTimes, static_cast<std::size_t>(RunShare::count)> shares;  ///< what a step is made of
  std::vector<OverrunSeries> stretches;                                     ///< of overruns, the first kMostStretches
  static constexpr std::size_t kMostStretches = 1000;
  std::int64_t all_stretches = 0;
  std::size_t queue_room = 0, queue_most = 0;
  std::int64_t images_lost = 0, events_lost = 0;
  Time first_lost{};
};

/// What there was between the bench and a controller.
struct ControllerReport {
  std::string name, setting;
  double offline_s = 0, answering_s = 0, ready_s = 0;  ///< wall clock, before it ran
  Count exchanges;
  Count late;     ///< answers that came after they were due
  Count missed;   ///< exchanges that were not answered before the next
  StepTimes age;  ///< of the answers when they became valid, ns; only paced
  ports::Traffic traffic;
};

struct RunResult {
  observe::Ending ending = observe::Ending::completed;
  Time ended_at{};
  std::int64_t steps = 0;
  std::string explanation;           ///< why it ended early; empty when completed
  std::vector<std::string> details;  ///< values that help to see why, a line each
  std::vector<std::string> remarks;  ///< what a reader of the verdicts has to know, a line each
  struct Saturated {
    std::string channel;
    Time first{};
    std::int64_t samples = 0;
    bool pulses = false;  ///< of a gate: pulses that were too short for its clock
  };
  /// A controller that was lost while the run went on, and that no fault was to blame for.
  struct Lost {
    std::string controller, text;  ///< text: why, and when
    Time at{};
  };
  std::vector<Lost> lost;
  std::shared_ptr<Timing> timing;  ///< of a paced run
  std::vector<ControllerReport> controllers;
  std::vector<Expected> expected;                     ///< what came of each `expect` of the scenario
  std::int64_t messages_sent = 0, messages_lost = 0;  ///< between controllers
  std::vector<Saturated> saturated;                   ///< channels that could not hold what they were given
};

}  // namespace isodyne::bench
