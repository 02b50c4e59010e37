#include "isodyne/bench/gate_channel.h"

namespace isodyne::bench {

GateChannel::GateChannel(const program::Plant& plant, std::size_t actuator) {
  const program::Actuator& a = plant.actuators[actuator];
  clock_ = a.clock;
  latency_ = a.latency;
  value_ = plant.writable(a.value);
  gate_ = static_cast<std::size_t>(plant.gate_of(value_));
}

Time GateChannel::arrives(Time at) const {
  if (clock_.count() == 0) return at + latency_;
  const std::int64_t ticks = (at.count() + clock_.count() - 1) / clock_.count();
  return Time(ticks * clock_.count()) + latency_;
}

void GateChannel::turn(engine::DelayedEdges& line, bool to, Time at) {
  if (line.in == to) return;
  line.in = to;
  const Time when = arrives(at);
  if (line.count > 0 && line.edge(line.count - 1) == when) {
    --line.count;
    if (at > turned_) ++lost_.count, lost_.now = true;
  } else {
    line.push(when);  // it has room for all that can be on their way
  }
  turned_ = at;
}

void GateChannel::drive(engine::PlantState& state, bool on, std::span<const double> edges) {
  engine::DelayedEdges& line = state.network.delayed[gate_];
  const std::int64_t before = lost_.count;
  lost_.now = false;
  const Time begin = arrives(state.now);
  for (; line.count > 0 && line.edge(line.count - 1) >= begin; --line.count) line.in = !line.in;
  turn(line, on, state.now);
  const std::size_t count = edges.empty() ? 0 : static_cast<std::size_t>(edges[0]);
  for (std::size_t i = 1; i <= count; ++i) turn(line, !line.in, state.now + Time(static_cast<std::int64_t>(edges[i])));
  if (before == 0 && lost_.count > 0) lost_.first = state.now;
  while (line.due(state.now)) line.pop();
  state[value_] = line.out ? 1 : 0;
}

}  // namespace isodyne::bench
