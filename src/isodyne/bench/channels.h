#pragma once
// The actuators and frames of a run: what controllers give passes their channels, with the faults on them, into the
// state. (Sensors sample in the sorted order of an instant: see sensing.h.) Stepping thread only; never allocates once
// made.

#include <optional>
#include <span>
#include <vector>

#include "isodyne/bench/gate_channel.h"
#include "isodyne/bench/run_result.h"
#include "isodyne/io/channel.h"
#include "isodyne/io/frame.h"
#include "isodyne/observe/events.h"

namespace isodyne::bench {

class Channels {
 public:
  /// All of them outlive it.
  Channels(const program::Program& program, engine::PlantState& state, observe::Observer& observer);
  /// From here on this one is told where a channel begins to be unable to hold what it is given.
  void tell(observe::Observer& observer) { observer_ = &observer; }

  /// Puts the start values of the actuators on their wires.
  void start();
  /// An answer becomes what the actuator takes. `in_frame`: the answer is the number in a field, not the value.
  void drive(std::size_t actuator, double answer, bool in_frame) {
    if (program_.actuators[actuator].on) pass(actuator, answer, in_frame);
  }
  /// The same of a gate, with the edges of the answer.
  void drive_gate(std::size_t actuator, bool on, std::span<const double> edges);
  /// The same, whether its rack has it switched on or not; what the actuator takes.
  double pass(std::size_t actuator, double answer, bool in_frame);
  /// The fields of a frame hold an answer: faults on them, and then to the actuators.
  void take_frame(std::size_t frame);
  /// Every field of a frame to a controller gets what it stands for.
  void gather_frame(std::size_t frame);

  const io::ActuatorChannel& actuator(std::size_t actuator) const { return actuators_[actuator]; }
  /// Appends those that could not hold what they were given.
  void list_saturated(std::vector<RunResult::Saturated>& list) const;

 private:
  engine::TapState* tap(std::int32_t index) {
    return index == program::kNone ? nullptr : &state_.taps[static_cast<std::size_t>(index)];
  }
  void saturates(std::int32_t channel, double value);

  const program::Program& program_;
  engine::PlantState& state_;
  observe::Observer* observer_;
  std::vector<io::ActuatorChannel> actuators_;
  std::vector<std::optional<GateChannel>> gates_;  ///< per actuator
  std::vector<io::FrameFields> frames_;
};

}  // namespace isodyne::bench
