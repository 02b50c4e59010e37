#include "isodyne/program/between.h"

#include <algorithm>
#include <unordered_map>
#include <unordered_set>

#include "isodyne/program/groups.h"
#include "isodyne/program/later.h"
#include "isodyne/program/nodes.h"

namespace isodyne::program {

namespace {

bool draws_lots(const Plant& p, NodeId root) {
  return any_below(p, root, [](const Node& n) { return n.op == Op::normal || n.op == Op::uniform; });
}

/// What goes on beyond its end in what it is to come to (`mod`, `atan2`) jumps where it begins anew.
bool jumps_on_the_way(const Plant& p, NodeId root) {
  return any_below(p, root, [&](const Node& n) {
    return jumps(p, n) || n.op == Op::select || n.op == Op::mod || n.op == Op::atan2;
  });
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
  /// `glides`: what goes smoothly is asked for all the same.
  void note_roots(bool glides) {
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
    note_inputs_of_networks(glides);
    for (const Gate& g : p_.gates) {
      for (const Gate::Step& step : g.steps) {
        if (step.truth != kNone) note(step.truth);
      }
    }
    for (const QuickWatch& w : p_.quick_watches) note(w.sum), note(w.good);
  }

  void note_inputs_of_networks(bool all) {
    const auto glides = gliding_between(p_);
    for (std::size_t i = 0; i < p_.networks.size(); ++i) {
      const Network& n = p_.networks[i];
      for (std::size_t k = 0; quick(n.group) && k < n.inputs.size(); ++k) {
        const bool edges = p_.variable(n.inputs[k]).gate && p_.gate_of(n.inputs[k]) != kNone;
        const bool glided = std::any_of(glides[i].begin(), glides[i].end(),
                                        [&](const Glide& g) { return static_cast<std::size_t>(g.input) == k; });
        if (!edges && (all || !glided)) note(n.inputs[k]);
      }
    }
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

/// Which quantities go on smoothly between two instants of the bench.
class Smooth {
 public:
  explicit Smooth(const Plant& program) : p_(program), moving_(moving_between(program)) {
    for (const Tap& t : p_.taps) jumping_.insert(t.target);
    const auto assigned = [&](const std::vector<Assignment>& body) {
      for (const Assignment& a : body) jumping_.insert(a.target);
    };
    for (const WhenBlock& w : p_.events) assigned(w.body);
    for (const PeriodicTask& t : p_.periodic_tasks) assigned(t.body);
    for (const StateMachine& m : p_.machines) {
      for (const auto* bodies : {&m.entry, &m.exit}) std::for_each(bodies->begin(), bodies->end(), assigned);
    }
    for (const Assignment& e : p_.equations) equation_[e.target] = e.value;
    for (const State& s : p_.states) state_[s.value] = &s;
  }

  bool moves(VarId id) const { return moving_[static_cast<std::size_t>(id)]; }
  /// `group`: the one whose steps it is looked at in.
  bool has(VarId id, std::int32_t group) const {
    std::vector<VarId> todo{id};
    std::unordered_set<VarId> met;
    while (!todo.empty()) {
      const VarId next = todo.back();
      todo.pop_back();
      if (!moves(next) || next == kTime || !met.insert(next).second) continue;
      if (jumping_.contains(next) || p_.variable(next).group != group) return false;
      if (const auto s = state_.find(next); s != state_.end()) {
        if (s->second->lowest != kNone || s->second->highest != kNone || moves(s->second->derivative)) return false;
        continue;
      }
      const auto e = equation_.find(next);
      if (e == equation_.end() || jumps_on_the_way(p_, e->second)) return false;
      for (const VarId read : p_.reads(e->second)) todo.push_back(read);
    }
    return true;
  }

 private:
  const Plant& p_;
  std::vector<bool> moving_;
  std::unordered_set<VarId> jumping_;
  std::unordered_map<VarId, NodeId> equation_;
  std::unordered_map<VarId, const State*> state_;
};

}  // namespace

std::vector<std::vector<Glide>> gliding_between(const Plant& p) {
  std::vector<std::vector<Glide>> all(p.networks.size());
  if (p.networks.empty()) return all;
  const Smooth smooth(p);
  for (std::size_t i = 0; i < all.size(); ++i) {
    const Network& n = p.networks[i];
    std::int32_t place = 0;
    for (const Network::Element& e : n.elements) {
      const std::int32_t first = place;
      place += static_cast<std::int32_t>(e.inputs.size());
      const bool source = e.inputs.size() == 2 && e.inputs[1].name == e.inputs[0].name + " later";
      const bool quick = at(p.groups, n.group).step < p.step;
      if (source && quick && smooth.moves(e.inputs[0].id) && smooth.has(e.inputs[0].id, n.group))
        all[i].push_back({first, first + 1});
    }
  }
  return all;
}

std::vector<bool> moving_between(const Plant& p) {
  const auto quick = [&](VarId id) { return p.group_of(id).step < p.step; };
  const auto edges = [&](VarId id) { return p.variable(id).gate && p.gate_of(id) != kNone; };
  std::vector<bool> moving(p.variables.size(), false);
  for (std::size_t i = 0; i < p.variables.size(); ++i) {
    const Variable& v = p.variables[i];
    // Inputs that no equation gives are set at instants of the bench.
    const bool still = is_parameter(v.role) || v.role == Role::input;
    moving[i] = edges(static_cast<VarId>(i)) || (!still && quick(static_cast<VarId>(i)));
  }
  moving[static_cast<std::size_t>(kTime)] = true;
  std::vector<bool> tapped(p.variables.size(), false);
  for (const Tap& t : p.taps) {
    tapped[static_cast<std::size_t>(t.target)] = true;
    if (quick(t.target)) moving[static_cast<std::size_t>(t.target)] = true;
  }
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

std::vector<bool> idle_between(const Plant& p) {
  const auto glides = gliding_between(p);
  if (std::all_of(glides.begin(), glides.end(), [](const auto& list) { return list.empty(); })) return {};
  Needed with(p);
  with.note_roots(true);
  std::vector<bool> idle = with.with_operands();
  const std::vector<bool> needed = needed_between(p, {});
  for (std::size_t i = 0; i < idle.size(); ++i)
    idle[i] = idle[i] && !needed[i] && p.group_of(static_cast<VarId>(i)).step < p.step;
  return idle;
}

std::vector<bool> needed_between(const Plant& p, std::span<const VarId> also) {
  Needed needed(p);
  needed.note_roots(false);
  for (const VarId id : also) needed.note(id);
  return needed.with_operands();
}

std::vector<VarId> copied_by(const Plant& p) {
  std::vector<VarId> copied(p.variables.size());
  for (std::size_t i = 0; i < copied.size(); ++i) copied[i] = static_cast<VarId>(i);
  std::vector<bool> tapped(p.variables.size(), false);
  for (const Tap& t : p.taps) tapped[static_cast<std::size_t>(t.target)] = true;
  for (const Item& item : p.order) {  // operands come first
    if (item.kind != Item::Kind::equation) continue;
    const Assignment& e = p.equations[static_cast<std::size_t>(item.index)];
    const Node& value = p.node(e.value);
    if (value.op != Op::variable || tapped[static_cast<std::size_t>(e.target)]) continue;
    if (p.variable(value.variable).group == p.variable(e.target).group)
      copied[static_cast<std::size_t>(e.target)] = copied[static_cast<std::size_t>(value.variable)];
  }
  return copied;
}

}  // namespace isodyne::program
