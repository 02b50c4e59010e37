#pragma once
// Between a physical value and the word that a controller reads or writes.
//
// A sensor: quantity → fault → electrical form, within the limits of the transmitter → fault on the signal → filter →
// noise → scale → whole number → word, which saturates or wraps → fault on the word → value as the controller
// understands it. An actuator: value → scale → word → fault on the word → electrical form, within its limits → fault on
// the signal → value. No sockets, no files here.
//
// Not thread-safe: a channel remembers. Sampling never fails, allocates or blocks.

#include <algorithm>
#include <cmath>
#include <limits>

#include "isodyne/core/random.h"
#include "isodyne/engine/running_plant.h"
#include "isodyne/program/program.h"

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

inline double forth(const program::Linear& l, double x) {
  return l.low_to + (x - l.low_from) * (l.high_to - l.low_to) / (l.high_from - l.low_from);
}
inline double back(const program::Linear& l, double y) {
  return l.low_from + (y - l.low_to) * (l.high_from - l.low_from) / (l.high_to - l.low_to);
}

/// The number that is in the word; `outside` if it is another one. What is no number is below every other.
inline double fit_to_word(const program::Word& w, double counts, bool& outside) {
  if (counts >= w.lowest && counts <= w.highest) return counts;
  outside = true;
  if (!std::isfinite(counts) || !w.wraps) return counts > w.highest ? w.highest : w.lowest;
  const double size = w.highest - w.lowest + 1;
  return counts - size * std::floor((counts - w.lowest) / size);
}

/// From a quantity to the signal on the wire, and back to the quantity that the other side takes it for.
class ElectricalForm {
 public:
  explicit ElectricalForm(const program::ChannelForm& form)
      : there_(form.electrical()),
        line_(form.to_signal.value_or(program::Linear{})),
        limits_(form.signal_limits.value_or(
            std::pair{-std::numeric_limits<double>::infinity(), std::numeric_limits<double>::infinity()})),
        curve_(form.curve ? &*form.curve : nullptr) {}

  bool there() const { return there_; }
  bool straight() const { return there_ && curve_ == nullptr; }
  double pass(double quantity, double now, engine::TapState* tap, double& signal, bool& outside) const;
  /// The same where the form is straight and no fault acts.
  double pass_straight(double quantity, double& signal, bool& outside) const {
    const double meant = forth(line_, quantity);
    signal = std::clamp(meant, limits_.first, limits_.second);
    if (signal == meant) return quantity;
    outside = true;
    return back(line_, signal);
  }

 private:
  bool there_;
  program::Linear line_;
  std::pair<double, double> limits_;
  const program::Characteristic* curve_;
};

class SensorChannel {
 public:
  /// Where faults may act; each may be null.
  struct Taps {
    engine::TapState *quantity = nullptr, *signal = nullptr, *counts = nullptr;
  };

  /// The noise is that of the seed and the sensor's name.
  SensorChannel(const program::Sensor& sensor, std::uint64_t seed);

  Sample sample(double truth, Time now, const Taps& taps) {
    const bool faulted = taps.quantity != nullptr || taps.signal != nullptr || taps.counts != nullptr;
    return usual_ && !faulted ? sample_usual(truth, now) : sample_any(truth, now, taps);
  }
  const Saturation& saturation() const { return saturation_; }

  /// Filters and counters of pulses see what passes between two samples: such a channel is told of it at every instant
  /// of the bench at which it does not sample.
  bool sees_between() const { return has_filter_ || pulses_wanted_; }
  void pass_by(double truth, Time now, const Taps& taps);

 private:
  double received(double truth, Time now, const Taps& taps, double& signal, bool& outside) const;
  Sample sample_any(double truth, Time now, const Taps& taps);
  /// A straight electrical form, counts, and no fault: what most channels are, for the compiler to put in place.
  Sample sample_usual(double truth, Time now) {
    Sample out;
    bool outside = false, beyond = false;
    double x = filtered(electrical_.pass_straight(truth, out.signal, outside), now);
    if (deviation_ > 0) x += deviation_ * noise_.normal();
    out.counts = fit_to_word(word_, std::round(forth(to_counts_, x)), beyond);
    note(saturation_, outside || (beyond && (!word_.wraps || !std::isfinite(x))), now);
    out.value = back(to_counts_, out.counts);
    return out;
  }
  /// First order, exact for an input that is a straight line since it was last seen:
  /// y += (1 - r) (x - y) + (r - e) (x_before - y), with e = e^(-h/tau), r = (1 - e) tau / h.
  double filtered(double x, Time now) {
    if (!has_filter_ || !std::isfinite(x)) return x;  // one odd sample must not stay in the filter for ever
    if (started_) {
      if (now - last_ != step_) take_step(now - last_);
      filtered_ += share_now_ * (x - filtered_) + share_before_ * (before_ - filtered_);
    } else {
      filtered_ = x;
    }
    started_ = true;
    before_ = x;
    last_ = now;
    return filtered_;
  }
  void take_step(Time step);
  void count_pulses(double x, Time now);
  double complete_pulses(double x);

  // What is needed of the sensor at every sample, close together: there may be thousands of channels.
  bool has_counts_, has_range_, has_filter_, pulses_wanted_, usual_, started_ = false;
  ElectricalForm electrical_;
  program::Linear to_counts_;
  std::pair<double, double> range_;
  program::Word word_;
  double period_s_;
  double filter_s_;
  Time step_{};                              ///< between the last two inputs of the filter
  double share_now_ = 0, share_before_ = 0;  ///< of the distances to the present input and the one before
  double deviation_;                         ///< of the noise
  double filtered_ = 0;                      ///< the filter's output
  double before_ = 0;                        ///< what filter or counter saw last …
  Time last_{};                              ///< … and when
  double pulses_ = 0;                        ///< not counted yet
  Saturation saturation_;
  RandomStream noise_;
};

class ActuatorChannel {
 public:
  /// Where faults may act; each may be null.
  struct Taps {
    engine::TapState *signal = nullptr, *counts = nullptr;
  };

  explicit ActuatorChannel(const program::Actuator& actuator) : actuator_(&actuator), electrical_(actuator) {}

  /// What the channel makes of the controller's answer; `out` gets the word and the signal where there are any.
  double pass(double value, Time now, const Taps& taps, Sample& out);
  /// What the channel makes of a word that came in a frame. Without counts the word is the value.
  double take(double word, Time now, const Taps& taps, Sample& out);
  /// The word that stands for a value, without a fault and without a trace.
  double counts_of(double value) const;
  const Saturation& saturation() const { return saturation_; }

 private:
  double to_wire(double value, bool outside, Time now, const Taps& taps, Sample& out);

  const program::Actuator* actuator_;
  ElectricalForm electrical_;
  Saturation saturation_;
};

}  // namespace isodyne::io
