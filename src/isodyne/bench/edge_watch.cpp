#include "isodyne/bench/edge_watch.h"

#include <algorithm>

#include "isodyne/engine/gates.h"
#include "isodyne/program/quick.h"

namespace isodyne::bench {

EdgeWatch::EdgeWatch(const program::Program& program, engine::PlantState& state) : state_(state) {
  constexpr std::int64_t kMostRoom = 1'000'000;
  std::int64_t room = 0;
  for (const program::VarId id : program::edge_view(program)) {
    const auto gate = static_cast<std::size_t>(program.gate_of(id));
    const Time step = program.group_of(program.gates[gate].id).step;
    gates_.push_back({id, gate, step, false});
    quick_ = quick_ || step < program.step;
    // Those within its steps, and one at each of their instants.
    room += (engine::GateEdges::kMost + 1) * (program.step / step);
  }
  seen_.resize(static_cast<std::size_t>(std::min(kMostRoom, room)));
}

void EdgeWatch::note(Watched& gate, Time at, bool to) {
  if (gate.level == to) return;
  gate.level = to;
  if (count_ == seen_.size())
    ++lost_;
  else
    seen_[count_++] = {at, gate.id, to};
}

void EdgeWatch::gather() {
  for (Watched& g : gates_) {
    if (state_.now.count() % g.step.count() != 0) continue;
    engine::Gates::each(state_.network.gates[g.gate], state_.now - g.step, state_.now,
                        [&](Time at, bool to) { note(g, at, to); });
    note(g, state_.now, state_[g.id] != 0);
  }
}

void EdgeWatch::hand_over(observe::Observer& observer) {
  if (state_.now.count() == 0) {
    for (Watched& g : gates_) g.level = state_[g.id] != 0;
    return;
  }
  gather();
  const auto end = seen_.begin() + static_cast<std::ptrdiff_t>(count_);
  std::sort(seen_.begin(), end, [](const observe::EdgeSeen& a, const observe::EdgeSeen& b) {
    return a.at != b.at ? a.at < b.at : a.gate < b.gate;
  });
  // What is at this instant is in its image.
  const auto now =
      std::lower_bound(seen_.begin(), end, state_.now, [](const observe::EdgeSeen& e, Time t) { return e.at < t; });
  if (now != seen_.begin()) observer.edges({{seen_.data(), static_cast<std::size_t>(now - seen_.begin())}});
  count_ = 0;
}

}  // namespace isodyne::bench
