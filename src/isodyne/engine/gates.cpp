#include "isodyne/engine/gates.h"

#include <algorithm>

#include "isodyne/program/program.h"

namespace isodyne::engine {

using program::Gate;
using program::kNone;
using program::Op;

namespace {

/// Room of a delay beside what one step brings: edges that are on their way.
std::size_t room_of(const Gate& late, Time step) {
  constexpr std::int64_t kMost = 4096;
  const std::int64_t steps = std::min(kMost, late.lag / step + 3);
  return static_cast<std::size_t>(steps) * (GateEdges::kMost + 1);
}

/// A gate on its way through a step.
struct Cursor {
  const GateEdges* edges = nullptr;
  int next = 0;
  bool now = false;

  Cursor(const GateEdges& e, Time from) : edges(&e), now(e.first) {
    while (next < e.count && e.at[static_cast<std::size_t>(next)] <= from) pass();
  }
  bool any(Time until) const { return next < edges->count && at() <= until; }
  Time at() const { return edges->at[static_cast<std::size_t>(next)]; }
  void pass() {
    now = !now;
    ++next;
  }
};

bool add(GateEdges& e, Time at) {
  if (e.count >= GateEdges::kMost) return false;
  e.at[static_cast<std::size_t>(e.count++)] = at;
  return true;
}

}  // namespace

Gates::Gates(const program::Plant& program)
    : program_(program),
      own_(program.groups.size()),
      wakeful_(program.groups.size(), 0),
      quicker_(program.groups.size()),
      seen_(program.groups.size()) {
  for (std::size_t maker = 0; maker < program.groups.size(); ++maker) {
    for (std::size_t reader = 0; reader < program.groups.size(); ++reader) {
      const program::Group &makes = program.groups[maker], &reads = program.groups[reader];
      if (reader != maker && reads.step <= makes.step && reads.core == makes.core) quicker_[maker].push_back(reader);
    }
  }
  for (std::size_t i = 0; i < program.gates.size(); ++i) {
    const Gate& g = program.gates[i];
    const auto index = static_cast<std::int32_t>(i);
    of_[g.id] = index;
    for (const program::VarId id : g.same) of_[id] = index;
    if (g.kind != Gate::Kind::joined) wakeful_[static_cast<std::size_t>(g.group)] = 1;
    if (g.kind != Gate::Kind::made) own_[static_cast<std::size_t>(g.group)].push_back(index);
    for (std::size_t group = 0; group < program.groups.size(); ++group) {
      const program::Group& reader = program.groups[group];
      const program::Group& maker = program.groups[static_cast<std::size_t>(g.group)];
      if (reader.core == maker.core && reader.step <= maker.step) seen_[group].push_back(index);
    }
  }
}

std::int32_t Gates::of(program::VarId id) const {
  const auto found = of_.find(id);
  return found == of_.end() ? kNone : found->second;
}

bool Gates::any_needed(std::size_t group, const std::vector<bool>& needed) const {
  const auto is = [&](program::VarId id) { return needed[static_cast<std::size_t>(id)]; };
  return std::any_of(seen_[group].begin(), seen_[group].end(), [&](std::int32_t i) {
    const Gate& g = program_.gates[static_cast<std::size_t>(i)];
    return is(g.id) || std::any_of(g.same.begin(), g.same.end(), is);
  });
}

void Gates::make_room(NetworkState& state) const {
  state.gates.assign(program_.gates.size(), {});
  state.delayed.clear();
  state.next_edge.assign(program_.groups.size(), Time::min());
  state.stirred.assign(program_.groups.size(), 0);
  for (const Gate& g : program_.gates) {
    state.delayed.emplace_back();
    const bool remembers = g.kind == Gate::Kind::delayed || g.kind == Gate::Kind::given;
    if (remembers) state.delayed.back().at.resize(room_of(g, program_.group_of(g.id).step));
  }
}

/// `operands`: per step that is a gate, what that is.
bool Gates::joined(const Gate& gate, const std::array<bool, kMostSteps>& operands,
                   std::span<const double> values) const {
  std::array<bool, kMostSteps> v{};
  const auto is = [&](std::int32_t step) { return v[static_cast<std::size_t>(step)]; };
  for (std::size_t i = 0; i < gate.steps.size(); ++i) {
    const Gate::Step& s = gate.steps[i];
    switch (s.op) {
      case Op::variable:
        v[i] = s.gate != kNone ? operands[i] : values[static_cast<std::size_t>(s.truth)] != 0;
        break;
      case Op::lnot:
        v[i] = !is(s.a);
        break;
      case Op::land:
        v[i] = is(s.a) && is(s.b);
        break;
      case Op::lor:
        v[i] = is(s.a) || is(s.b);
        break;
      case Op::select:
        v[i] = is(s.a) ? is(s.b) : is(s.c);
        break;
      default:
        v[i] = s.value;
        break;
    }
  }
  return v[gate.steps.size() - 1];
}

void Gates::start(std::span<double> values, NetworkState& state) const {
  for (std::size_t i = 0; i < program_.gates.size(); ++i) {
    const Gate& g = program_.gates[i];
    const auto now = [&](std::int32_t gate) {
      return values[static_cast<std::size_t>(program_.gates[static_cast<std::size_t>(gate)].id)] != 0;
    };
    double& value = values[static_cast<std::size_t>(g.id)];
    if (g.kind == Gate::Kind::joined) {
      std::array<bool, kMostSteps> operands{};
      for (std::size_t s = 0; s < g.steps.size(); ++s) operands[s] = g.steps[s].gate != kNone && now(g.steps[s].gate);
      value = joined(g, operands, values) ? 1 : 0;
    } else if (g.kind == Gate::Kind::delayed) {
      value = now(g.of) ? 1 : 0;
    }
    state.delayed[i].in = state.delayed[i].out = value != 0;
    state.gates[i].first = value != 0;
    for (const program::VarId id : g.same) values[static_cast<std::size_t>(id)] = value;
  }
}

bool Gates::join(std::size_t gate, Time from, Time to, std::span<const double> values, NetworkState& state) const {
  const Gate& g = program_.gates[gate];
  GateEdges& e = state.gates[gate];
  bool now = values[static_cast<std::size_t>(g.id)] != 0;
  e.first = now;
  e.count = 0;
  // Most steps have no edges.
  const auto of = [&](const Gate::Step& s) -> const GateEdges& {
    return state.gates[static_cast<std::size_t>(s.gate)];
  };
  std::array<bool, kMostSteps> operands{};
  Time last = from;
  for (;;) {
    Time next = Time::max();
    for (std::size_t s = 0; s < g.steps.size(); ++s) {
      if (g.steps[s].gate == kNone) continue;
      const Cursor c(of(g.steps[s]), last);
      operands[s] = c.now;
      if (c.any(to)) next = std::min(next, c.at());
    }
    if (last > from) {
      const bool then = joined(g, operands, values);
      if (then != now && !add(e, last)) return false;
      now = then;
    }
    if (next == Time::max()) return true;
    last = next;
  }
}

bool Gates::delay(std::size_t gate, Time from, Time to, NetworkState& state) const {
  const Gate& g = program_.gates[gate];
  GateEdges& e = state.gates[gate];
  DelayedEdges& d = state.delayed[gate];
  bool room = true;
  if (g.kind == Gate::Kind::delayed) {
    Cursor c(state.gates[static_cast<std::size_t>(g.of)], from);
    if (c.now != d.in) room = d.push(from + g.lag);  // it jumped at the instant
    for (; c.any(to); c.pass()) room = d.push(c.at() + g.lag) && room;
    d.in = c.now;
  }
  e.first = d.out;
  e.count = 0;
  while (d.due(to)) room = add(e, d.pop()) && room;
  return room;
}

/// Whether any gate may have an edge within the step.
bool Gates::stirs(std::size_t group, Time from, Time to, NetworkState& state) const {
  if (wakeful_[group] != 0) return true;
  Time& next = state.next_edge[group];
  if (next <= from) {
    next = Time::max();
    for (const std::int32_t i : seen_[group]) {
      if (static_cast<std::size_t>(program_.gates[static_cast<std::size_t>(i)].group) == group) continue;
      const Cursor c(state.gates[static_cast<std::size_t>(i)], from);
      if (c.any(Time::max())) next = std::min(next, c.at());
    }
  }
  return next <= to;
}

std::int32_t Gates::begin(std::int32_t of_group, Time from, Time to, std::span<const double> values,
                          NetworkState& state) const {
  const auto group = static_cast<std::size_t>(of_group);
  if (!stirs(group, from, to, state)) {
    if (state.stirred[group] == 0) return kNone;
    state.stirred[group] = 0;
    for (const std::int32_t i : own_[group]) state.gates[static_cast<std::size_t>(i)].count = 0;
    return kNone;
  }
  state.stirred[group] = 1;
  for (const std::size_t reader : quicker_[group]) state.next_edge[reader] = Time::min();
  for (const std::int32_t i : own_[group]) {
    const auto gate = static_cast<std::size_t>(i);
    const bool good = program_.gates[gate].kind == Gate::Kind::joined ? join(gate, from, to, values, state)
                                                                      : delay(gate, from, to, state);
    if (!good) return i;
  }
  return kNone;
}

void Gates::arrive(std::int32_t group, Time now, std::span<double> values, const NetworkState& state) const {
  if (state.stirred[static_cast<std::size_t>(group)] == 0) return;
  for (const std::int32_t i : seen_[static_cast<std::size_t>(group)]) {
    const GateEdges& e = state.gates[static_cast<std::size_t>(i)];
    if (e.count == 0) continue;
    const Gate& g = program_.gates[static_cast<std::size_t>(i)];
    const double value = Cursor(e, now).now ? 1 : 0;
    values[static_cast<std::size_t>(g.id)] = value;
    for (const program::VarId id : g.same) values[static_cast<std::size_t>(id)] = value;
  }
}

}  // namespace isodyne::engine
