#include "isodyne/check/plant/taps.h"

#include <algorithm>

#include <fmt/format.h>

namespace isodyne::check {

namespace {

/// Fields and ports of frames, whatever is in them.
bool tap_on_field(Program& program, VarId target, std::int32_t tap) {
  for (Frame& f : program.frames) {
    for (FrameField& field : f.fields) {
      if (field.raw == target) return field.tap = tap, true;
    }
    for (FramePort& port : f.ports) {
      if (port.raw == target) return port.tap = tap, true;
    }
  }
  return false;
}

}  // namespace

std::int32_t tap_on(Check& check, VarId target, const lang::Path& path) {
  Program& p = check.program;
  for (std::size_t i = 0; i < p.taps.size(); ++i) {
    if (p.taps[i].target == target) return static_cast<std::int32_t>(i);
  }
  const auto index = static_cast<std::int32_t>(p.taps.size());
  Tap tap;
  tap.target = target;
  const Variable variable = p.variable(target);
  if (tap_on_field(p, target, index)) {
    p.taps.push_back(tap);
    return index;
  }
  switch (variable.role) {
    case Role::sensor:
    case Role::counts:
    case Role::signal:
      for (Sensor& s : p.sensors) {
        if (s.value == target) s.tap = index;
        if (s.signal == target) s.signal_tap = index;
        if (s.counts == target) s.counts_tap = index;
      }
      for (Actuator& a : p.actuators) {
        if (a.counts == target) a.counts_tap = index;
        if (a.signal == target) a.signal_tap = index;
      }
      break;
    case Role::actuator:
      tap.healthy = check.define_hidden(variable.name + " healthy", variable.type, variable.unit);
      break;
    case Role::equation:
    case Role::sensor_true:
      break;
    case Role::input:
    case Role::param:
      tap.healthy = check.define_hidden(variable.name + " healthy", variable.type, variable.unit);
      break;
    default:
      check.error(
          Code::wrong_kind, path.span, fmt::format("`{}` cannot be faulted", path.text()),
          variable.role == Role::state
              ? "fault what moves the state, a parameter, or the sensor that measures it"
              : "faults act on sensors, their signals and counts, actuators, fields of frames, inputs, parameters and "
                "outputs");
      return kNone;
  }
  p.taps.push_back(tap);
  return index;
}

}  // namespace isodyne::check
