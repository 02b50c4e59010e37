#pragma once
// Between a physical value and the word that a controller reads or writes.
//
// A sensor: quantity → fault → electrical form, within the limits of the transmitter → fault on the signal → filter →
// noise → scale → whole number → word, which saturates or wraps → fault on the word → value as the controller
// understands it. An actuator: value → scale → word → fault on the word → value. No sockets, no files here.
//
// Not thread-safe: a channel remembers. Sampling never fails, allocates or blocks.

#include "isodyne/core/random.h"
#include "isodyne/engine/plant.h"
#include "isodyne/model/program.h"

namespace isodyne::io {

/// How often a channel could not hold what it was given.
struct Saturation {
  bool now = false;        ///< at the last sample
  std::int64_t count = 0;  ///< samples
  Time first{};            ///< of the first of them
};

struct Sample {
  double value = 0;   ///< what the controller gets, SI
  double signal = 0;  ///< electrical form, SI; 0 where the channel has none
  double counts = 0;  ///< raw word; 0 where the channel has none
};

class SensorChannel {
 public:
  /// Where faults may act; each may be null.
  struct Taps {
    engine::TapState *quantity = nullptr, *signal = nullptr, *counts = nullptr;
  };

  /// `sensor` outlives the channel. The noise is that of the seed and the sensor's name.
  SensorChannel(const model::Sensor& sensor, std::uint64_t seed);

  Sample sample(double truth, Time now, const Taps& taps);
  const Saturation& saturation() const { return saturation_; }

 private:
  double through_signal(double x, double now, engine::TapState* tap, Sample& out);
  double filtered(double x);
  double whole(double x);
  double into_word(double counts);

  const model::Sensor* sensor_;
  RandomStream noise_;
  double share_ = 0;     ///< of a difference that the filter follows in one sample
  double filtered_ = 0;  ///< the filter's output
  double pulses_ = 0;    ///< part of a pulse that has not been counted yet
  bool started_ = false, outside_ = false;
  Saturation saturation_;
};

class ActuatorChannel {
 public:
  explicit ActuatorChannel(const model::Actuator& actuator) : actuator_(&actuator) {}

  /// What the channel makes of the controller's answer; `counts` becomes the word where there is one.
  double pass(double value, Time now, engine::TapState* tap, double& counts);
  const Saturation& saturation() const { return saturation_; }

 private:
  const model::Actuator* actuator_;
  Saturation saturation_;
};

}  // namespace isodyne::io
