#include "isodyne/io/channel.h"

#include <algorithm>
#include <cmath>

namespace isodyne::io {

using program::Linear;

SensorChannel::SensorChannel(const program::Sensor& sensor, std::uint64_t seed)
    : has_counts_(sensor.to_counts.has_value()),
      has_range_(sensor.range.has_value()),
      has_filter_(sensor.filter.count() > 0),
      pulses_wanted_(sensor.pulses),
      usual_(false),
      electrical_(sensor),
      to_counts_(sensor.to_counts.value_or(Linear{})),
      range_(sensor.range.value_or(std::pair{0.0, 0.0})),
      word_(sensor.word),
      period_s_(to_seconds(sensor.period)),
      deviation_(sensor.noise),
      noise_(seed, sensor.name) {
  filter_s_ = to_seconds(sensor.filter);
  usual_ = has_counts_ && !pulses_wanted_ && electrical_.straight();
}

void SensorChannel::take_step(Time step) {
  step_ = step;
  const double h = to_seconds(step) / filter_s_, fall = -std::expm1(-h), lag = h > 0 ? fall / h : 1;
  share_now_ = 1 - lag;
  share_before_ = lag - (1 - fall);
}

inline double ElectricalForm::pass(double x, double now, engine::TapState* tap, double& signal, bool& outside) const {
  const double meant = curve_ != nullptr ? curve_->forth(x) : forth(line_, x);
  signal = std::clamp(meant, limits_.first, limits_.second);
  if (signal != meant) outside = true;
  if (tap != nullptr) signal = engine::through_tap(*tap, signal, now);
  if (signal == meant) return x;
  return curve_ != nullptr ? curve_->back(signal) : back(line_, signal);
}

/// Along a straight line since the flow was last seen, whichever way it goes.
void SensorChannel::count_pulses(double x, Time now) {
  const double dt = to_seconds(now - last_);  // 0 at the start: nothing has passed yet
  const double a = std::abs(before_), b = std::abs(x);
  const double area = before_ * x < 0 ? (a * a + b * b) / (a + b) / 2 : (a + b) / 2;
  if (dt > 0 && std::isfinite(area)) pulses_ += std::abs(forth(to_counts_, area * dt));
  before_ = std::isfinite(x) ? x : 0;
  last_ = now;
}

double SensorChannel::complete_pulses(double x) {
  if (!std::isfinite(x) || !std::isfinite(pulses_)) {
    pulses_ = 0;
    return x;
  }
  const double complete = std::floor(pulses_);
  pulses_ -= complete;
  return complete;
}

/// What comes out of the wire, before a filter.
double SensorChannel::received(double truth, Time now, const Taps& taps, double& signal, bool& outside) const {
  const double seconds = taps.quantity != nullptr || taps.signal != nullptr ? to_seconds(now) : 0;
  const double x = taps.quantity == nullptr ? truth : engine::through_tap(*taps.quantity, truth, seconds);
  return electrical_.there() ? electrical_.pass(x, seconds, taps.signal, signal, outside) : x;
}

void SensorChannel::pass_by(double truth, Time now, const Taps& taps) {
  double signal = 0;
  bool outside = false;
  const double x = filtered(received(truth, now, taps, signal, outside), now);
  if (pulses_wanted_) count_pulses(x, now);
}

Sample SensorChannel::sample_any(double truth, Time now, const Taps& taps) {
  Sample out;
  bool outside = false;
  double x = filtered(received(truth, now, taps, out.signal, outside), now);
  if (deviation_ > 0) x += deviation_ * noise_.normal();
  if (!has_counts_) {
    out.value = x;
    if (has_range_ && !(x >= range_.first && x <= range_.second)) {
      outside = true;
      out.value = x > range_.second ? range_.second : range_.first;
    }
    note(saturation_, outside, now);
    return out;
  }
  bool beyond = false, ignored = false;
  if (pulses_wanted_) count_pulses(x, now);
  out.counts = fit_to_word(word_, pulses_wanted_ ? complete_pulses(x) : std::round(forth(to_counts_, x)), beyond);
  note(saturation_, outside || (beyond && (!word_.wraps || !std::isfinite(x))), now);
  if (taps.counts != nullptr && taps.counts->any_on)
    out.counts =
        fit_to_word(word_, std::round(engine::through_tap(*taps.counts, out.counts, to_seconds(now))), ignored);
  out.value = back(to_counts_, out.counts);
  if (pulses_wanted_) out.value /= period_s_;
  return out;
}

double ActuatorChannel::counts_of(double value) const {
  bool ignored = false;
  return actuator_->to_counts ? fit_to_word(actuator_->word, std::round(forth(*actuator_->to_counts, value)), ignored)
                              : value;
}

double ActuatorChannel::pass(double value, Time now, const Taps& taps, Sample& out) {
  if (actuator_->to_counts) return take(std::round(forth(*actuator_->to_counts, value)), now, taps, out);
  const auto& range = actuator_->range;
  if (!range || (value >= range->first && value <= range->second)) return to_wire(value, false, now, taps, out);
  return to_wire(value > range->second ? range->second : range->first, true, now, taps, out);
}

double ActuatorChannel::take(double word, Time now, const Taps& taps, Sample& out) {
  if (!actuator_->to_counts) return to_wire(word, false, now, taps, out);
  bool outside = false, ignored = false;
  out.counts = fit_to_word(actuator_->word, word, outside);
  outside = outside && (!actuator_->word.wraps || !std::isfinite(word));
  if (taps.counts != nullptr && taps.counts->any_on)
    out.counts = fit_to_word(actuator_->word,
                             std::round(engine::through_tap(*taps.counts, out.counts, to_seconds(now))), ignored);
  return to_wire(back(*actuator_->to_counts, out.counts), outside, now, taps, out);
}

double ActuatorChannel::to_wire(double value, bool outside, Time now, const Taps& taps, Sample& out) {
  if (electrical_.there()) {
    const double seconds = taps.signal != nullptr ? to_seconds(now) : 0;
    value = electrical_.pass(value, seconds, taps.signal, out.signal, outside);
  }
  note(saturation_, outside, now);
  return out.value = value;
}

}  // namespace isodyne::io
