#include "isodyne/program/quick.h"

#include <algorithm>
#include <numeric>
#include <set>

namespace isodyne::program {

namespace {

/// Quantities of quick groups that move between two instants of the bench, with the step of their group.
class Quick {
 public:
  explicit Quick(const Program& p) : p_(p), moves_(p.variables.size(), 0) {
    any_ = std::any_of(p.groups.begin(), p.groups.end(), [&](const Group& g) { return g.step < p.step; });
    if (!any_) return;
    const auto note = [&](const std::vector<Assignment>& list) {
      for (const Assignment& a : list) mark(a.target);
    };
    for (const State& s : p.states) mark(s.value);
    note(p.equations);
    for (const Delay& d : p.delays) mark(d.out);
    for (const ImplicitEquation& s : p.solves) mark(s.x);
    for (const PeriodicTask& s : p.periodic_tasks) note(s.body);
    for (const Sensor& s : p.sensors) {
      for (const VarId id : {s.value, s.signal, s.counts}) mark(id);
    }
    for (const WhenBlock& w : p.events) note(w.body);
    for (const StateMachine& m : p.machines) {
      mark(m.mode);
      for (const auto* bodies : {&m.entry, &m.exit}) {
        for (const auto& body : *bodies) note(body);
      }
    }
  }

  bool any() const { return any_; }
  bool moves(VarId id) const { return moves_[static_cast<std::size_t>(id)] != 0; }
  Time step_of(VarId id) const { return p_.group_of(id).step; }

  /// What the expressions read of it, through edges too.
  std::set<VarId> read_by(const std::vector<NodeId>& nodes) const {
    std::set<VarId> all;
    if (!any_) return all;
    for (const NodeId n : nodes) collect(n, all);
    for (const Edge& e : p_.edges) {
      if (all.erase(e.previous) > 0) collect(e.now, all);
    }
    std::erase_if(all, [&](VarId id) { return !moves(id); });
    return all;
  }

  Time every(const std::set<VarId>& read) const {
    Time step = p_.step;
    for (const VarId id : read) step = std::min(step, step_of(id));
    return step;
  }

 private:
  void mark(VarId id) {
    if (id != kNone && step_of(id) < p_.step) moves_[static_cast<std::size_t>(id)] = 1;
  }
  void collect(NodeId node, std::set<VarId>& all) const {
    if (node == kNone) return;
    for (const VarId id : p_.reads(node)) all.insert(id);
  }

  const Program& p_;
  std::vector<char> moves_;
  bool any_ = false;
};

std::vector<NodeId> nodes_of(const Requirement& r) {
  std::vector<NodeId> nodes{r.trigger, r.check, r.margin};
  for (const FormulaNode& n : r.nodes) nodes.insert(nodes.end(), {n.value, n.margin});
  return nodes;
}

std::vector<NodeId> nodes_of(const Measure& m) {
  return {m.of, m.to, m.within, m.against, m.event, m.until};
}

Time asked_every(const Program& p, const Quick& quick, const Requirement& r) {
  // About measures it is asked whenever one of them has a value.
  return r.measures.empty() ? quick.every(quick.read_by(nodes_of(r))) : p.step;
}

}  // namespace

Time seen_every(const Program& p, const std::vector<NodeId>& nodes) {
  const Quick quick(p);
  return quick.every(quick.read_by(nodes));
}

Time asked_every(const Program& p, const Requirement& r) {
  return asked_every(p, Quick(p), r);
}

Time asked_every(const Program& p, const Measure& m) {
  return seen_every(p, nodes_of(m));
}

QuickView quick_view(const Program& p) {
  QuickView view;
  const Quick quick(p);
  if (!quick.any()) return view;
  std::set<VarId> all;
  const auto look = [&](const std::set<VarId>& read, Time every) {
    if (read.empty() || every >= p.step) return;
    all.insert(read.begin(), read.end());
    view.period = Time{std::gcd(view.period.count(), every.count())};
  };
  for (const Requirement& r : p.requirements) look(quick.read_by(nodes_of(r)), asked_every(p, quick, r));
  for (const Measure& m : p.measures) {
    const auto read = quick.read_by(nodes_of(m));
    look(read, quick.every(read));
  }
  for (const RecordGroup& g : p.recorded) {
    const auto read = quick.read_by({g.when});
    look(read, quick.every(read));
    if (!g.judged && g.period < p.step) look({g.signals.begin(), g.signals.end()}, g.period);
  }
  const auto look_at = [&](const std::vector<NodeId>& nodes) {
    const auto read = quick.read_by(nodes);
    look(read, quick.every(read));
  };
  for (const Fault& f : p.faults) look_at({f.condition});
  for (const Scenario& s : p.scenarios) {
    for (const ScenarioStep& step : s.steps) {
      if (step.kind == ScenarioStep::Kind::wait || step.kind == ScenarioStep::Kind::expect)
        look_at({step.value, step.margin});
    }
    for (const Scenario::End& end : s.ends) look_at({end.when});
  }
  view.columns.assign(all.begin(), all.end());
  return view;
}

std::vector<std::size_t> quick_edges(const Program& p) {
  const Quick quick(p);
  std::vector<std::size_t> places;
  for (std::size_t i = 0; quick.any() && i < p.edges.size(); ++i) {
    if (!quick.read_by({p.edges[i].now}).empty()) places.push_back(i);
  }
  return places;
}

}  // namespace isodyne::program
