#include "isodyne/io/channel.h"

#include <algorithm>
#include <cmath>

namespace isodyne::io {

using model::Linear;
using model::Word;

namespace {

double forth(const Linear& l, double x) {
  return l.low_to + (x - l.low_from) * (l.high_to - l.low_to) / (l.high_from - l.low_from);
}
double back(const Linear& l, double y) {
  return l.low_from + (y - l.low_to) * (l.high_from - l.low_from) / (l.high_to - l.low_to);
}

/// The number that is in the word; `outside` if it is another one. What is no number is below every other.
double held(const Word& w, double counts, bool& outside) {
  if (counts >= w.lowest && counts <= w.highest) return counts;
  outside = true;
  if (!std::isfinite(counts) || !w.wraps) return counts > w.highest ? w.highest : w.lowest;
  const double size = w.highest - w.lowest + 1;
  return counts - size * std::floor((counts - w.lowest) / size);
}

/// Wrapping is what a counter is for; anything else that does not fit is to be told.
void note(Saturation& s, bool outside, Time now) {
  s.now = outside;
  if (!outside) return;
  if (s.count++ == 0) s.first = now;
}

}  // namespace

SensorChannel::SensorChannel(const model::Sensor& sensor, std::uint64_t seed)
    : sensor_(&sensor), noise_(seed, sensor.name) {
  // First order, exact for an input held between samples: y += (1 - e^(-T/tau)) (x - y).
  if (sensor.filter.count() > 0) share_ = -std::expm1(-to_seconds(sensor.period) / to_seconds(sensor.filter));
}

double SensorChannel::through_signal(double x, double now, engine::TapState* tap, Sample& out) {
  const Linear& scale = *sensor_->to_signal;
  const double meant = forth(scale, x);
  double signal = meant;
  if (sensor_->signal_limits)
    signal = std::clamp(signal, sensor_->signal_limits->first, sensor_->signal_limits->second);
  if (signal != meant) outside_ = true;
  if (tap != nullptr) signal = engine::through_tap(*tap, signal, now);
  out.signal = signal;
  return signal == meant ? x : back(scale, signal);
}

double SensorChannel::filtered(double x) {
  if (sensor_->filter.count() == 0) return x;
  filtered_ = started_ ? filtered_ + share_ * (x - filtered_) : x;
  started_ = true;
  return filtered_;
}

/// Counts as a real number becomes a whole one: the nearest, or as many pulses as are complete.
double SensorChannel::whole(double x) {
  if (!sensor_->pulses) return std::round(forth(*sensor_->to_counts, x));
  pulses_ += std::abs(forth(*sensor_->to_counts, x * to_seconds(sensor_->period)));
  if (!std::isfinite(pulses_)) pulses_ = 0;
  const double complete = std::floor(pulses_);
  pulses_ -= complete;
  return complete;
}

Sample SensorChannel::sample(double truth, Time now, const Taps& taps) {
  const double seconds = to_seconds(now);
  Sample out;
  outside_ = false;
  double x = taps.quantity == nullptr ? truth : engine::through_tap(*taps.quantity, truth, seconds);
  if (sensor_->to_signal) x = through_signal(x, seconds, taps.signal, out);
  x = filtered(x);
  if (sensor_->noise > 0) x += sensor_->noise * noise_.normal();
  if (!sensor_->to_counts) {
    out.value = x;
    if (sensor_->range && !(x >= sensor_->range->first && x <= sensor_->range->second)) {
      outside_ = true;
      out.value = x > sensor_->range->second ? sensor_->range->second : sensor_->range->first;
    }
    note(saturation_, outside_, now);
    return out;
  }
  bool beyond = false, ignored = false;
  out.counts = held(sensor_->word, whole(x), beyond);
  note(saturation_, outside_ || (beyond && (!sensor_->word.wraps || !std::isfinite(x))), now);
  if (taps.counts != nullptr && taps.counts->active)
    out.counts = held(sensor_->word, std::round(engine::through_tap(*taps.counts, out.counts, seconds)), ignored);
  out.value = back(*sensor_->to_counts, out.counts);
  if (sensor_->pulses) out.value /= to_seconds(sensor_->period);
  return out;
}

double ActuatorChannel::pass(double value, Time now, engine::TapState* tap, double& counts) {
  if (!actuator_->to_counts) return value;
  bool outside = false, ignored = false;
  counts = held(actuator_->word, std::round(forth(*actuator_->to_counts, value)), outside);
  note(saturation_, outside && (!actuator_->word.wraps || !std::isfinite(value)), now);
  if (tap != nullptr && tap->active)
    counts = held(actuator_->word, std::round(engine::through_tap(*tap, counts, to_seconds(now))), ignored);
  return back(*actuator_->to_counts, counts);
}

}  // namespace isodyne::io
