#pragma once
// Between a physical value and the word that a controller reads or writes.
//
// A sensor: quantity → fault → electrical form, within the limits of the transmitter → fault on the signal → filter →
// noise → scale → whole number → word, which saturates or wraps → fault on the word → value as the controller
// understands it. An actuator: value → scale → word → fault on the word → electrical form, within its limits → fault on
// the signal → value. No sockets, no files here.
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

/// Wrapping is what a counter is for; anything else that does not fit is to be told.
inline void note(Saturation& s, bool outside, Time now) {
  if (outside != s.now) s.now = outside;
  if (!outside) return;
  if (s.count++ == 0) s.first = now;
}

struct Sample {
  double value = 0;   ///< what comes out at the other end, SI
  double signal = 0;  ///< electrical form, SI; 0 where the channel has none
  double counts = 0;  ///< raw word; 0 where the channel has none
};

/// From a quantity to the signal on the wire, and back to the quantity that the other side takes it for.
class ElectricalForm {
 public:
  explicit ElectricalForm(const model::ChannelForm& form)
      : there_(form.electrical()),
        limited_(form.signal_limits.has_value()),
        line_(form.to_signal.value_or(model::Linear{})),
        limits_(form.signal_limits.value_or(std::pair{0.0, 0.0})),
        curve_(form.curve ? &*form.curve : nullptr) {}

  bool there() const { return there_; }
  double pass(double quantity, double now, engine::TapState* tap, double& signal, bool& outside) const;

 private:
  bool there_, limited_;
  model::Linear line_;
  std::pair<double, double> limits_;
  const model::Curve* curve_;
};

class SensorChannel {
 public:
  /// Where faults may act; each may be null.
  struct Taps {
    engine::TapState *quantity = nullptr, *signal = nullptr, *counts = nullptr;
  };

  /// The noise is that of the seed and the sensor's name.
  SensorChannel(const model::Sensor& sensor, std::uint64_t seed);

  Sample sample(double truth, Time now, const Taps& taps);
  const Saturation& saturation() const { return saturation_; }

 private:
  double filtered(double x);
  double whole(double x, Time now);

  // What is needed of the sensor at every sample, close together: there may be thousands of channels.
  bool has_counts_, has_range_, has_filter_, pulses_wanted_;
  ElectricalForm electrical_;
  model::Linear to_counts_;
  std::pair<double, double> range_;
  model::Word word_;
  double period_s_;
  double share_ = 0;     ///< of a difference that the filter follows in one sample
  double deviation_;     ///< of the noise
  double filtered_ = 0;  ///< the filter's output
  double pulses_ = 0;    ///< part of a pulse that has not been counted yet
  Time last_{};          ///< of the last sample
  bool started_ = false;
  Saturation saturation_;
  RandomStream noise_;
};

class ActuatorChannel {
 public:
  /// Where faults may act; each may be null.
  struct Taps {
    engine::TapState *signal = nullptr, *counts = nullptr;
  };

  explicit ActuatorChannel(const model::Actuator& actuator) : actuator_(&actuator), electrical_(actuator) {}

  /// What the channel makes of the controller's answer; `out` gets the word and the signal where there are any.
  double pass(double value, Time now, const Taps& taps, Sample& out);
  /// What the channel makes of a word that came in a frame. Without counts the word is the value.
  double take(double word, Time now, const Taps& taps, Sample& out);
  /// The word that stands for a value, without a fault and without a trace.
  double counts_of(double value) const;
  const Saturation& saturation() const { return saturation_; }

 private:
  double to_wire(double value, bool outside, Time now, const Taps& taps, Sample& out);

  const model::Actuator* actuator_;
  ElectricalForm electrical_;
  Saturation saturation_;
};

}  // namespace isodyne::io
