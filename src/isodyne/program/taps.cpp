#include "isodyne/program/taps.h"

#include <algorithm>

namespace isodyne::program {

std::shared_ptr<const Program> without_taps(const std::shared_ptr<const Program>& program) {
  if (program->taps.empty()) return program;
  auto bare = std::make_shared<Program>(*program);
  bare->taps.clear();
  const auto tap = [](const Item& item) { return item.kind == Item::Kind::tap; };
  bare->order.erase(std::remove_if(bare->order.begin(), bare->order.end(), tap), bare->order.end());
  for (Sensor& s : bare->sensors) s.tap = s.signal_tap = s.counts_tap = kNone;
  for (Actuator& a : bare->actuators) a.signal_tap = a.counts_tap = kNone;
  for (Frame& f : bare->frames) {
    for (FrameField& field : f.fields) field.tap = kNone;
    for (FramePort& port : f.ports) port.tap = kNone;
  }
  for (Fault& f : bare->faults) f.tap = f.other = kNone;
  for (Scenario& s : bare->scenarios) {
    for (ScenarioStep& step : s.steps) step.tap = kNone;
  }
  return bare;
}

}  // namespace isodyne::program
