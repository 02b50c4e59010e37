#include "isodyne/program/between.h"

#include <algorithm>

#include "isodyne/program/groups.h"

namespace isodyne::program {

namespace {

bool draws_lots(const Plant& p, NodeId root) {
  std::vector<NodeId> todo{root};
  while (!todo.empty()) {
    const NodeId id = todo.back();
    todo.pop_back();
    if (id == kNone) continue;
    const Node& n = p.node(id);
    if (n.op == Op::normal || n.op == Op::uniform) return true;
    todo.insert(todo.end(), {n.a, n.b, n.c});
  }
  return false;
}

class Needed {
 public:
  explicit Needed(const Plant& program) : p_(program), needed_(program.variables.size(), false) {}

  void note(VarId id) { needed_[static_cast<std::size_t>(id)] = true; }
  bool has(VarId id) const { return needed_[static_cast<std::size_t>(id)]; }
  void note_reads(NodeId node) {
    if (node == kNone) return;
    for (const VarId id : p_.reads(node)) note(id);
  }
  void note_all(const std::vector<Assignment>& list) {
    for (const Assignment& a : list) note_reads(a.value);
  }

  /// What has an effect that lasts.
  void note_roots() {
    for (const Item& item : p_.order) {
      const auto i = static_cast<std::size_t>(item.index);
      if (item.kind == Item::Kind::equation || !quick(group_of(p_, item))) continue;
      for (const NodeId value : values_of(p_, item)) note_reads(value);
      if (item.kind == Item::Kind::sensor) note(p_.sensors[i].truth);
      if (item.kind == Item::Kind::delay) note_reads(p_.delays[i].input);
      if (item.kind == Item::Kind::periodic_task) note_all(p_.periodic_tasks[i].body);
    }
    for (const Tap& t : p_.taps) note(t.target);  // a fault may remember it
    for (const Sensor& sensor : p_.sensors) {
      if (sensor.at != kNone) note(sensor.at);
    }
    for (const WhenBlock& w : p_.events) {
      if (!quick(w.group)) continue;
      note_reads(w.condition);
      note_all(w.body);
    }
    for (const StateMachine& m : p_.machines) {
      if (!quick(p_.variable(m.mode).group)) continue;
      for (const Transition& t : m.transitions) note_reads(t.condition);
      for (const auto* bodies : {&m.entry, &m.exit}) {
        for (const auto& body : *bodies) note_all(body);
      }
    }
    for (const State& s : p_.states) {
      if (!quick(p_.variable(s.value).group)) continue;
      note(s.derivative);
      note_reads(s.lowest);
      note_reads(s.highest);
    }
    for (const Network& n : p_.networks) {
      if (!quick(n.group)) continue;
      for (const VarId id : n.inputs) {
        if (!p_.variable(id).gate || p_.gate_of(id) == kNone) note(id);
      }
    }
    for (const Gate& g : p_.gates) {
      for (const Gate::Step& step : g.steps) {
        if (step.truth != kNone) note(step.truth);
      }
    }
    for (const QuickWatch& w : p_.quick_watches) note(w.sum), note(w.good);
  }

  /// And what that is computed from.
  std::vector<bool> with_operands() {
    for (bool more = true; more;) {
      more = false;
      for (std::size_t place = p_.order.size(); place-- > 0;) {
        const Item& item = p_.order[place];
        if (item.kind != Item::Kind::equation) continue;
        const Assignment& e = p_.equations[static_cast<std::size_t>(item.index)];
        if (!has(e.target) || !quick(p_.variable(e.target).group)) continue;
        for (const VarId id : p_.reads(e.value)) {
          more = more || !has(id);
          note(id);
        }
      }
    }
    return needed_;
  }

 private:
  bool quick(std::int32_t group) const { return at(p_.groups, group).step < p_.step; }

  const Plant& p_;
  std::vector<bool> needed_;
};

}  // namespace

std::vector<bool> moving_between(const Plant& p) {
  const auto quick = [&](VarId id) { return p.group_of(id).step < p.step; };
  const auto edges = [&](VarId id) { return p.variable(id).gate && p.gate_of(id) != kNone; };
  std::vector<bool> moving(p.variables.size(), false);
  for (std::size_t i = 0; i < p.variables.size(); ++i) {
    const Variable& v = p.variables[i];
    const bool still = v.role == Role::param || v.role == Role::fixed_param;
    moving[i] = edges(static_cast<VarId>(i)) || (!still && quick(static_cast<VarId>(i)));
  }
  moving[static_cast<std::size_t>(kTime)] = true;
  std::vector<bool> tapped(p.variables.size(), false);
  for (const Tap& t : p.taps) tapped[static_cast<std::size_t>(t.target)] = true;
  for (const Item& item : p.order) {  // operands come first
    if (item.kind != Item::Kind::equation) continue;
    const Assignment& e = p.equations[static_cast<std::size_t>(item.index)];
    const auto target = static_cast<std::size_t>(e.target);
    if (!quick(e.target) || edges(e.target) || tapped[target] || draws_lots(p, e.value)) continue;
    const std::vector<VarId> reads = p.reads(e.value);
    moving[target] =
        std::any_of(reads.begin(), reads.end(), [&](VarId id) { return moving[static_cast<std::size_t>(id)]; });
  }
  return moving;
}

std::vector<bool> needed_between(const Plant& p, std::span<const VarId> also) {
  Needed needed(p);
  needed.note_roots();
  for (const VarId id : also) needed.note(id);
  return needed.with_operands();
}

}  // namespace isodyne::program
