#include "isodyne/networks/gates/phase_shift.h"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::networks::gates {

namespace {
constexpr int kMostHalves = 64;
/// The place in a period that begins at 0, up to 1.
double in_period(double place) {
  return place - std::ceil(place) + 1;
}
}  // namespace

PhaseShift::PhaseShift(const program::Network& network) : path_(network.elements[0].path) {
  const Places place(network);
  frequency_ = place("frequency");
  dead_time_ = place("dead_time");
  shift_ = place("shift");
  enable_ = place("enable");
}

std::size_t PhaseShift::state_size() const {
  return kSize;
}

bool PhaseShift::fail(std::string why) {
  why_ = std::move(why);
  return false;
}

bool PhaseShift::sensible(std::span<const double> inputs) {
  const double f = inputs[frequency_], dead = inputs[dead_time_];
  if (!(f > 0) || !std::isfinite(f))
    return fail(fmt::format("the frequency of `{}` is {} Hz", path_, format_number(f)));
  if (!(dead >= 0)) return fail(fmt::format("`{}` has a time below 0 s", path_));
  if (dead > 0.5 / f)
    return fail(fmt::format("a dead time of {} us is over half a period of `{}`, which is {} us",
                            format_number(dead * 1e6), path_, format_number(1e6 / f)));
  return true;
}

bool PhaseShift::is_number(std::span<const double> inputs) {
  return std::isfinite(inputs[shift_]) || fail(fmt::format("the shift of `{}` is no number", path_));
}

bool PhaseShift::start(std::span<const double> inputs, std::span<double> state, std::span<double> outputs) {
  if (!sensible(inputs) || !is_number(inputs)) return false;
  Carrier::begin(&state[kCarrier], inputs[frequency_], 0);
  const bool enabled = inputs[enable_] != 0;
  const double shift = inputs[shift_] / (2 * std::numbers::pi);
  state[kHalf] = 0;
  state[kShift] = shift;
  state[kLead] = 1;
  state[kLag] = shift == 0 || in_period(-shift) < 0.5 ? 1 : 0;
  state[kTaken] = 0;
  state[kEnabled] = enabled ? 1 : 0;
  for (std::size_t leg = 0; leg < kLegs; ++leg) {
    const bool first = (leg < 2 ? state[kLead] : state[kLag]) != 0;
    const bool upper = first == (leg % 2 == 0);
    LegDriver::begin(&state[kLegState + leg * LegDriver::kNumbers], enabled && upper, enabled && !upper);
    outputs[2 * leg] = enabled && upper ? 1 : 0;
    outputs[2 * leg + 1] = enabled && !upper ? 1 : 0;
  }
  outputs[kValley] = 1;
  return true;
}

bool PhaseShift::step(const engine::NetworkStep& s) {
  if (!is_number(s.inputs)) return false;
  double* const state = s.state.data();
  Carrier carrier(&state[kCarrier]);
  carrier.take(s.from, s.inputs[frequency_]);
  const Time dead{static_cast<std::int64_t>(std::llround(s.inputs[dead_time_] * 1e9))};
  const auto driver = [&](std::size_t leg) {
    return LegDriver(&state[kLegState + leg * LegDriver::kNumbers], dead, EdgeWriter(s.made[2 * leg]),
                     EdgeWriter(s.made[2 * leg + 1]));
  };
  LegDriver legs[kLegs] = {driver(0), driver(1), driver(2), driver(3)};
  quarter(carrier, 0, s.from, s.to, s.made[kValley], s.outputs[kValley]);

  const bool enabled = s.inputs[enable_] != 0;
  const auto bridge = [&](Number which, Time at, bool first) {
    const std::size_t leg = which == kLead ? 0 : 2;
    if (first == (state[which] != 0)) return;
    state[which] = first ? 1 : 0;
    if (!enabled) return;
    at = std::max(at, s.from + kNanosecond);
    legs[leg].want(at, first);
    legs[leg + 1].want(at, !first);
  };
  if (enabled != (state[kEnabled] != 0)) {
    state[kEnabled] = enabled ? 1 : 0;
    for (std::size_t leg = 0; leg < kLegs; ++leg) {
      const bool first = (leg < 2 ? state[kLead] : state[kLag]) != 0;
      if (enabled) {
        legs[leg].want(s.from + kNanosecond, first == (leg % 2 == 0));
      } else {
        legs[leg].rest(s.from + kNanosecond);
      }
    }
  }
  // From one place to the next: beginnings of half periods, and the two of the bridge that lags.
  int halves = 0;
  for (Time a = s.from;;) {
    double& half = state[kHalf];
    const double period = std::floor(half / 2);
    // A period takes its shift over where it begins; at an instant of the group that is the step from there on.
    if (std::fmod(half, 2) == 0 && state[kTaken] == 0 && carrier.when(period) <= a && a < s.to) {
      state[kTaken] = 1;
      state[kShift] = s.inputs[shift_] / (2 * std::numbers::pi);
      const double shift = state[kShift], rises = in_period(shift), falls = in_period(shift + 0.5);
      const bool should = falls < rises;
      // A jump of the shift across the beginning: what would be wrong for long is put right at once.
      if (should != (state[kLag] != 0) && std::min(rises, falls) > 0.25) bridge(kLag, a, should);
    }
    const double shift = state[kShift];
    Time next = Time::max();
    for (const double place : {half / 2 + 0.5, period + in_period(shift), period + in_period(shift + 0.5)}) {
      const Time t = carrier.when(place);
      if (t > a) next = std::min(next, t);
    }
    if (next > s.to) break;
    if (++halves > kMostHalves)
      return fail(fmt::format("`{}` is too quick for steps of {}", path_, format_span(s.to - s.from)));
    if (carrier.when(period + in_period(shift)) == next) bridge(kLag, next, true);
    if (carrier.when(period + in_period(shift + 0.5)) == next) bridge(kLag, next, false);
    if (carrier.when(half / 2 + 0.5) == next) {
      half += 1;
      if (std::fmod(half, 2) == 0) state[kTaken] = 0;
      bridge(kLead, next, std::fmod(half, 2) == 0);
    }
    a = next;
  }
  bool full = false;
  for (std::size_t leg = 0; leg < kLegs; ++leg) {
    legs[leg].wait(s.to);
    full = full || legs[leg].full();
    s.outputs[2 * leg] = state[kLegState + leg * LegDriver::kNumbers];
    s.outputs[2 * leg + 1] = state[kLegState + leg * LegDriver::kNumbers + 1];
  }
  if (full)
    return fail(fmt::format("`{}` has more than {} edges within a step of {}", path_, engine::GateEdges::kMost,
                            format_span(s.to - s.from)));
  return true;
}

std::vector<std::string> PhaseShift::describe(std::span<const double> state) const {
  return {fmt::format("{} shifts by {} deg", path_, format_number(state[kShift] * 360))};
}

}  // namespace isodyne::networks::gates
