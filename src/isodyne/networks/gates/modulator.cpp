#include "isodyne/networks/gates/modulator.h"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::networks::gates {

namespace {
/// Corners of the carrier within a step, beyond which nobody could follow its edges.
constexpr int kMostCorners = 64;

bool odd(double corner) {
  return (static_cast<std::int64_t>(corner) & 1) != 0;
}
}  // namespace

std::size_t Places::operator()(const char* name) const {
  for (std::size_t i = 0; i < network_.inputs.size(); ++i) {
    for (const auto* list : {&network_.elements[0].inputs, &network_.elements[0].parameters}) {
      for (const auto& q : *list) {
        if (q.id == network_.inputs[i] && q.name == name) return i;
      }
    }
  }
  return 0;  // library text declares what its solver takes
}

Modulator::Modulator(const program::Network& network) : path_(network.elements[0].path) {
  const Places place(network);
  frequency_ = place("frequency");
  phase_ = place("phase");
  dead_time_ = place("dead_time");
  shortest_ = place("shortest");
  shape_ = place("carrier");
  update_ = place("update");
  reference_ = place("reference");
  enable_ = place("enable");
}

std::size_t Modulator::state_size() const {
  return kSize;
}

bool Modulator::fail(std::string why) {
  why_ = std::move(why);
  return false;
}

bool Modulator::sensible(std::span<const double> inputs) {
  const double f = inputs[frequency_], dead = inputs[dead_time_], shortest = inputs[shortest_];
  if (!(f > 0) || !std::isfinite(f))
    return fail(fmt::format("the frequency of `{}` is {} Hz", path_, format_number(f)));
  if (!(dead >= 0) || !(shortest >= 0)) return fail(fmt::format("`{}` has a time below 0 s", path_));
  const auto too_long = [&](const char* what, double time) {
    return fail(fmt::format("{} of {} us is over half a period of `{}`, which is {} us", what,
                            format_number(time * 1e6), path_, format_number(1e6 / f)));
  };
  if (dead > 0.5 / f) return too_long("a dead time", dead);
  if (shortest > 0.5 / f) return too_long("a shortest pulse", shortest);
  return true;
}

bool Modulator::is_number(std::span<const double> inputs) {
  return std::isfinite(inputs[reference_]) || fail(fmt::format("the reference of `{}` is no number", path_));
}

double Modulator::limited(std::span<const double> inputs) const {
  const double r = inputs[reference_], least = 2 * inputs[shortest_] * inputs[frequency_];
  return r + 1 < least ? -1 : 1 - r < least ? 1 : r;
}

namespace {

/// The carrier between two corners, and when it passes the reference.
struct Stretch {
  Time crossing{};      ///< Time::min() or max(): all of it lies on one side
  bool before = false;  ///< whether the upper switch is wanted before that
  bool at(Time t) const { return t < crossing ? before : !before; }
};

Stretch stretch_of(const Carrier& carrier, bool rising, double begin, double length, double reference) {
  Stretch s;
  s.before = rising;
  const double share = rising ? (reference + 1) / 2 : (1 - reference) / 2;
  s.crossing = share <= 0 ? Time::min() : share >= 1 ? Time::max() : carrier.when(begin + share * length);
  return s;
}

}  // namespace

bool Modulator::start(std::span<const double> inputs, std::span<double> state, std::span<double> outputs) {
  if (!sensible(inputs) || !is_number(inputs)) return false;
  const double phase = inputs[phase_] / (2 * std::numbers::pi);
  const double place = phase - std::floor(phase);
  Carrier::begin(&state[kCarrier], inputs[frequency_], place);
  const bool enabled = inputs[enable_] != 0;
  state[kReference] = limited(inputs);
  state[kEnabled] = enabled ? 1 : 0;
  // The corner that comes next, or is now, in halves of a period.
  state[kCorner] = std::ceil(2 * place - 1e-9);
  const auto shape = static_cast<Shape>(inputs[shape_]);
  const double carrier = shape == Shape::triangle ? 1 - std::abs(4 * place - 2)
                         : shape == Shape::rising ? 2 * place - 1
                                                  : 1 - 2 * place;
  const bool wanted = state[kReference] > carrier || state[kReference] >= 1;
  state[kWanted] = wanted ? 1 : 0;
  LegDriver::begin(&state[kLeg], enabled && wanted, enabled && !wanted);
  outputs[kUpper] = enabled && wanted ? 1 : 0;
  outputs[kLower] = enabled && !wanted ? 1 : 0;
  outputs[kValley] = place < 0.25 ? 1 : 0;
  outputs[kPeak] = place >= 0.5 && place < 0.75 ? 1 : 0;
  return true;
}

bool Modulator::step(const engine::NetworkStep& s) {
  const std::span<const double> inputs = s.inputs;
  if (!is_number(inputs)) return false;
  double* const state = s.state.data();
  Carrier carrier(&state[kCarrier]);
  carrier.take(s.from, inputs[frequency_]);
  const Time dead{static_cast<std::int64_t>(std::llround(inputs[dead_time_] * 1e9))};
  LegDriver leg(&state[kLeg], dead, EdgeWriter(s.made[kUpper]), EdgeWriter(s.made[kLower]));
  quarter(carrier, 0, s.from, s.to, s.made[kValley], s.outputs[kValley]);
  quarter(carrier, 1, s.from, s.to, s.made[kPeak], s.outputs[kPeak]);

  const auto shape = static_cast<Shape>(inputs[shape_]);
  const auto update = static_cast<Update>(inputs[update_]);
  const bool enabled = inputs[enable_] != 0;
  if (!enabled && state[kEnabled] != 0) leg.rest(s.from + kNanosecond);
  bool fresh = enabled && state[kEnabled] == 0;
  state[kEnabled] = enabled ? 1 : 0;
  if (update == Update::at_once) state[kReference] = limited(inputs);
  int corners = 0;
  for (Time a = s.from; a < s.to;) {
    double& corner = state[kCorner];
    while (carrier.when(corner / 2) <= a) {
      const bool valley = !odd(corner);
      if (update == Update::both || update == (valley ? Update::valley : Update::peak))
        state[kReference] = limited(inputs);
      corner += 1;
      if (++corners > kMostCorners)
        return fail(fmt::format("the carrier of `{}` is too quick for steps of {}", path_, format_span(s.to - s.from)));
    }
    const Time b = std::min(s.to, carrier.when(corner / 2));
    const bool triangle = shape == Shape::triangle, first_half = odd(corner);
    const double begin = triangle || first_half ? (corner - 1) / 2 : (corner - 2) / 2;
    const Stretch stretch = stretch_of(carrier, triangle ? first_half : shape == Shape::rising, begin,
                                       triangle ? 0.5 : 1.0, state[kReference]);
    const auto want = [&](Time at, bool upper) {
      if (upper == (state[kWanted] != 0) && !fresh) return;
      state[kWanted] = upper ? 1 : 0;
      fresh = false;
      if (enabled) leg.want(std::max(at, s.from + kNanosecond), upper);
    };
    want(a, stretch.at(a));
    // At a corner the reference may become another one: then that decides.
    const bool at_corner = b == carrier.when(corner / 2);
    if (stretch.crossing > a && (stretch.crossing < b || (stretch.crossing == b && !at_corner)))
      want(stretch.crossing, !stretch.before);
    a = b;
  }
  leg.wait(s.to);
  s.outputs[kUpper] = state[kLeg];
  s.outputs[kLower] = state[kLeg + 1];
  if (leg.full())
    return fail(fmt::format("`{}` has more than {} edges within a step of {}", path_, engine::GateEdges::kMost,
                            format_span(s.to - s.from)));
  return true;
}

std::vector<std::string> Modulator::describe(std::span<const double> state) const {
  return {fmt::format("{} compares {} with its carrier", path_, format_number(state[kReference]))};
}

}  // namespace isodyne::networks::gates
