#pragma once
// Sensors and actuators, and the way of a value through their channels: quantity, electrical form, word.

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/core/source.h"
#include "isodyne/core/time.h"
#include "isodyne/program/ids.h"

namespace isodyne::program {

struct Linear {
  double low_from = 0, high_from = 1;  ///< two points …
  double low_to = 0, high_to = 1;      ///< … and what they become
};

/// The raw word of a channel: which whole numbers it can hold, and what happens to others.
struct Word {
  int bits = 0;  ///< 0: it was not declared, and the counts go from one end of the scale to the other
  bool is_signed = false;
  bool wraps = false;  ///< counts on from the other end; else it saturates
  double lowest = 0, highest = 0;
};

/// A curve that only rises or only falls, such as the resistance of a thermometer over its temperature: straight
/// between points at equal distances.
struct Characteristic {
  double first = 0, last = 0;  ///< quantity at both ends
  std::vector<double> signal;

  double forth(double quantity) const;  ///< beyond the ends the last piece goes on
  double back(double of_signal) const;
};

/// The way between a quantity and the word that stands for it; every step may be missing.
struct ChannelForm {
  std::optional<std::pair<double, double>> range;          ///< SI
  std::optional<Linear> to_signal;                         ///< from range to the electrical form …
  std::optional<Characteristic> curve;                     ///< … or along a curve
  std::optional<std::pair<double, double>> signal_limits;  ///< what the wire can carry at most
  std::optional<Linear> to_counts;                         ///< from a quantity to counts
  Word word;
  bool on = true;                                        ///< by its rack
  std::string range_text, electrical_text, counts_text;  ///< as written
  VarId signal = kNone, counts = kNone;                  ///< kNone: it has none
  std::int32_t signal_tap = kNone, counts_tap = kNone;

  bool electrical() const { return to_signal.has_value() || curve.has_value(); }
};

struct Sensor : ChannelForm {
  std::string name;
  VarId truth = kNone, value = kNone;
  Time period{}, offset{};
  VarId at = kNone;     ///< a gate: it samples when that rises; period is then the step of its group, at which it looks
  bool pulses = false;  ///< counts pulses between samples: to_counts is about the integral
  Time filter{};        ///< time constant; 0: none
  double noise = 0;     ///< standard deviation, SI
  std::string noise_text;  ///< as written
  std::int32_t tap = kNone;
  Span span;

  /// At the start every sensor samples, so that nothing is read that was never sampled.
  bool due(Time now) const {
    return now.count() == 0 || (now >= offset && (now - offset).count() % period.count() == 0);
  }
};

struct Actuator : ChannelForm {
  std::string name;
  VarId value = kNone;
  double start = 0;
  bool gate = false;        ///< a digital channel whose edges have instants: see Gate
  VarId line = kNone;       ///< of a gate that faults may change: what the controller gave; kNone: it is the value
  Time clock{}, latency{};  ///< of a gate: edges are rounded up to multiples of clock, if there is one, and come later
  std::optional<double> safe;  ///< what it takes when its controller is lost; nothing: it holds the last answer
  Span span;
};

}  // namespace isodyne::program
