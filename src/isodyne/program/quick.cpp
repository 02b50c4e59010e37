#include "isodyne/program/quick.h"

#include <algorithm>
#include <numeric>
#include <set>

namespace isodyne::program {

QuickParts::QuickParts(const Program& p) : p_(p) {
  any_ = std::any_of(p.groups.begin(), p.groups.end(), [&](const Group& g) { return g.step < p.step; });
  if (!any_) return;
  moves_.resize(p.variables.size());
  for (const State& s : p.states) mark(s.value);
  for (const Network& n : p.networks) {
    for (const VarId id : n.outputs) mark(id);
  }
  for (const Gate& g : p.gates) mark(g.id);
  mark(p.equations);
  for (const Delay& d : p.delays) mark(d.out);
  for (const ImplicitEquation& s : p.solves) mark(s.x);
  for (const PeriodicTask& s : p.periodic_tasks) mark(s.body);
  for (const Sensor& s : p.sensors) {
    for (const VarId id : {s.value, s.signal, s.counts}) mark(id);
  }
  for (const WhenBlock& w : p.events) mark(w.body);
  for (const StateMachine& m : p.machines) {
    mark(m.mode);
    for (const auto* bodies : {&m.entry, &m.exit}) {
      for (const auto& body : *bodies) mark(body);
    }
  }
}

void QuickParts::mark(VarId id) {
  if (id != kNone && p_.group_of(id).step < p_.step) moves_[static_cast<std::size_t>(id)] = 1;
}

void QuickParts::mark(const std::vector<Assignment>& list) {
  for (const Assignment& a : list) mark(a.target);
}

std::set<VarId> QuickParts::read_by(const std::vector<NodeId>& nodes) const {
  std::set<VarId> all;
  if (!any_) return all;
  const auto collect = [&](NodeId node) {
    if (node == kNone) return;
    for (const VarId id : p_.reads(node)) all.insert(id);
  };
  for (const NodeId n : nodes) collect(n);
  for (const Edge& e : p_.edges) {
    if (all.erase(e.previous) > 0) collect(e.now);
  }
  std::erase_if(all, [&](VarId id) { return !moves(id); });
  return all;
}

Time QuickParts::every(const std::set<VarId>& read) const {
  Time step = p_.step;
  for (const VarId id : read) step = std::min(step, p_.group_of(id).step);
  return step;
}

namespace {

std::vector<NodeId> nodes_of(const Requirement& r) {
  std::vector<NodeId> nodes{r.trigger, r.check, r.margin};
  for (const FormulaNode& n : r.nodes) nodes.insert(nodes.end(), {n.value, n.margin});
  return nodes;
}

std::vector<NodeId> nodes_of(const Measure& m) {
  return {m.of, m.to, m.within, m.against, m.event, m.until};
}

}  // namespace

Time QuickParts::asked_every(const Requirement& r) const {
  return r.measures.empty() ? seen_every(nodes_of(r)) : p_.step;
}

Time QuickParts::asked_every(const Measure& m) const {
  return seen_every(nodes_of(m));
}

namespace {

bool gates_alone(const Program& p, const std::vector<NodeId>& nodes) {
  if (p.gates.empty()) return false;
  const QuickParts quick(p);
  bool any = false;
  for (const NodeId node : nodes) {
    if (node == kNone) continue;
    for (const VarId id : p.reads(node)) {
      const std::int32_t gate = p.gate_of(id);
      if (gate != kNone && at(p.groups, at(p.gates, gate).group).core == p.group_of(kTime).core) {
        any = true;
        continue;
      }
      const bool edge = std::any_of(p.edges.begin(), p.edges.end(), [&](const Edge& e) { return e.previous == id; });
      if (edge || p.variable(id).type.kind == Type::Kind::real || (quick.any() && quick.moves(id))) return false;
    }
  }
  return any;
}

}  // namespace

bool asked_at_edges(const Program& p, const Requirement& r) {
  return r.measures.empty() && r.nodes.empty() && !r.by_review && gates_alone(p, {r.trigger, r.check});
}

bool asked_at_edges(const Program& p, const Measure& m) {
  const bool of_truth = m.kind == MeasureKind::duty || m.kind == MeasureKind::count || m.kind == MeasureKind::longest ||
                        m.kind == MeasureKind::shortest;
  return of_truth && gates_alone(p, {m.of});
}

std::vector<VarId> edge_view(const Program& p) {
  std::set<VarId> all;
  const auto look = [&](NodeId node) {
    if (node == kNone) return;
    for (const VarId id : p.reads(node)) {
      if (p.gate_of(id) != kNone) all.insert(id);
    }
  };
  for (const RecordGroup& g : p.recorded) {
    if (g.edges) all.insert(g.signals.begin(), g.signals.end());
  }
  for (const Requirement& r : p.requirements) {
    if (asked_at_edges(p, r)) look(r.trigger), look(r.check);
  }
  for (const Measure& m : p.measures) {
    if (asked_at_edges(p, m)) look(m.of);
  }
  return {all.begin(), all.end()};
}

QuickView quick_view(const Program& p) {
  QuickView view;
  const QuickParts quick(p);
  if (!quick.any()) return view;
  std::set<VarId> all;
  const auto look = [&](const std::set<VarId>& read, Time every) {
    if (read.empty() || every >= p.step) return;
    all.insert(read.begin(), read.end());
    view.period = Time{std::gcd(view.period.count(), every.count())};
  };
  for (const Requirement& r : p.requirements) look(quick.read_by(nodes_of(r)), quick.asked_every(r));
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
  for (const Fault& f : p.faults) look_at({f.condition, f.until});
  for (const Scenario& s : p.scenarios) {
    for (const ScenarioStep& step : s.steps) {
      if (step.kind == ScenarioStep::Kind::wait || step.kind == ScenarioStep::Kind::expect)
        look_at({step.value, step.margin});
    }
    for (const Scenario::End& end : s.ends) look_at({end.when});
  }
  std::set<VarId> watched(p.looked_at.begin(), p.looked_at.end());
  std::erase_if(watched, [&](VarId id) { return !quick.moves(id); });
  look(watched, quick.every(watched));
  view.columns.assign(all.begin(), all.end());
  for (std::size_t i = 0; i < p.edges.size(); ++i) {
    if (!quick.read_by({p.edges[i].now}).empty()) view.edges.push_back(i);
  }
  return view;
}

}  // namespace isodyne::program
