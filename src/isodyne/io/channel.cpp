#include "isodyne/io/channel.h"

#include <algorithm>
#include <cmath>

namespace isodyne::io {

namespace {

double to_counts(const model::Linear& l, double value) {
  const double counts = l.low_to + (value - l.low_from) * (l.high_to - l.low_to) / (l.high_from - l.low_from);
  return std::round(counts);
}

double from_counts(const model::Linear& l, double counts) {
  return l.low_from + (counts - l.low_to) * (l.high_from - l.low_from) / (l.high_to - l.low_to);
}

/// First order, exact for an input held between samples: y += (1 − e^(−T/τ)) (x − y).
double filter(const model::Sensor& sensor, SensorState& state, double x) {
  if (sensor.filter.count() == 0) return x;
  if (!state.started) {
    state.filtered = x;
    state.started = true;
  } else {
    state.filtered += -std::expm1(-to_seconds(sensor.period) / to_seconds(sensor.filter)) * (x - state.filtered);
  }
  return state.filtered;
}

double saturate(SensorState& state, double x, double low, double high) {
  state.saturated = x < low || x > high;
  if (state.saturated) ++state.saturations;
  return std::clamp(x, low, high);
}

}  // namespace

Sample sample(const model::Sensor& sensor, SensorState& state, double truth, double now, engine::TapState* tap,
              engine::TapState* counts_tap) {
  double x = tap == nullptr ? truth : engine::through_tap(*tap, truth, now);
  x = filter(sensor, state, x);
  if (sensor.noise > 0) x += sensor.noise * state.noise.normal();
  if (!sensor.to_counts) return {sensor.range ? saturate(state, x, sensor.range->first, sensor.range->second) : x, 0};
  const model::Linear& scale = *sensor.to_counts;
  double counts = saturate(state, to_counts(scale, x), scale.low_to, scale.high_to);
  if (counts_tap != nullptr && counts_tap->active) {
    counts = std::clamp(std::round(engine::through_tap(*counts_tap, counts, now)), scale.low_to, scale.high_to);
  }
  return {from_counts(scale, counts), counts};
}

double actuate(const model::Actuator& actuator, double value) {
  if (!actuator.to_counts) return value;
  const model::Linear& scale = *actuator.to_counts;
  return from_counts(scale, std::clamp(to_counts(scale, value), scale.low_to, scale.high_to));
}

}  // namespace isodyne::io
