#pragma once
// Between a physical value and the word that a controller reads or writes.
//
// A sensor: quantity → fault → filter → noise → range → counts → fault on the raw word → value as the
// controller understands it. An actuator: value → counts → value → fault. No sockets, no files here.

#include "isodyne/core/random.h"
#include "isodyne/engine/plant.h"
#include "isodyne/model/program.h"

namespace isodyne::io {

/// What a sensor channel remembers between samples; part of the run's state.
struct SensorState {
  RandomStream noise;
  double filtered = 0;
  bool started = false;
  bool saturated = false;        ///< at the last sample
  std::int64_t saturations = 0;  ///< samples that left the range
};

struct Sample {
  double value = 0;   ///< what the controller gets, SI
  double counts = 0;  ///< raw word; 0 where the channel has none
};

/// Samples one sensor. `tap` and `counts_tap` may be null. Never fails or allocates.
Sample sample(const model::Sensor& sensor, SensorState& state, double truth, double now, engine::TapState* tap,
              engine::TapState* counts_tap);

/// What the channel of an actuator makes of the controller's answer, before faults.
double actuate(const model::Actuator& actuator, double value);

}  // namespace isodyne::io
