#pragma once
// The digital channel of a gate: what a controller gives becomes edges at ticks of a clock, some time later.
//
// Ticks are the multiples of the clock, from time 0 on. A line that is sampled at ticks only cannot show a pulse
// between two of them: it is gone, and counted. Stepping thread only; never allocates once made.

#include <span>

#include "isodyne/engine/state.h"
#include "isodyne/io/channel.h"
#include "isodyne/program/program.h"

namespace isodyne::bench {

class GateChannel {
 public:
  /// `actuator`: place among those of the plant, and a gate.
  GateChannel(const program::Plant& plant, std::size_t actuator);

  /// An answer becomes valid: `on` from now on, and then `edges`, as answers have them (see program::kEdgeNumbers;
  /// empty: none). What an older answer had for later instants does not come any more.
  void drive(engine::PlantState& state, bool on, std::span<const double> edges);

  /// Pulses that were too short for the clock.
  const io::Saturation& saturation() const { return lost_; }

 private:
  Time arrives(Time at) const;
  void turn(engine::DelayedEdges& line, bool to, Time at);

  Time clock_{}, latency_{};
  std::size_t gate_ = 0;
  program::VarId value_ = program::kNone;
  Time turned_{};  ///< when the last edge was given, before the clock
  io::Saturation lost_;
};

}  // namespace isodyne::bench
