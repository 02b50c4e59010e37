#include "isodyne/program/numbering.h"

namespace isodyne::program {

namespace {

/// For each place, the variable that comes there.
std::vector<VarId> wanted_order(const Program& p) {
  std::vector<VarId> order{kTime, kSeed};
  std::vector<bool> placed(p.variables.size(), false);
  placed[kTime] = placed[kSeed] = true;
  const auto place = [&](VarId id) {
    if (!placed[static_cast<std::size_t>(id)]) order.push_back(id);
    placed[static_cast<std::size_t>(id)] = true;
  };
  const auto state = [&](std::int32_t s) -> const State& { return p.states[static_cast<std::size_t>(s)]; };
  for (const Group& g : p.groups) {
    for (const std::int32_t s : g.states) place(state(s).value);
  }
  for (const Group& g : p.groups) {
    for (const std::int32_t s : g.states) place(state(s).derivative);
  }
  for (const bool first : {true, false}) {
    for (std::size_t i = 0; i < p.variables.size(); ++i) {
      if (may_be_no_number(p.variables[i]) == first) place(static_cast<VarId>(i));
    }
  }
  return order;
}

/// Replaces every index of a variable in a program.
class Renumbering {
 public:
  Renumbering(Program& program, std::vector<VarId> place_of) : p_(program), place_of_(std::move(place_of)) {}

  void run() {
    for (Node& n : p_.nodes) move(n.variable);
    assignments(p_.start);
    assignments(p_.equations);
    for (PeriodicTask& s : p_.periodic_tasks) assignments(s.body);
    for (WhenBlock& w : p_.events) assignments(w.body);
    for (Delay& d : p_.delays) move(d.out);
    for (ImplicitEquation& s : p_.solves) {
      move(s.x);
      list(s.inlined);
    }
    for (Tap& t : p_.taps) {
      move(t.target);
      move(t.healthy);
    }
    for (State& s : p_.states) {
      move(s.value);
      move(s.derivative);
    }
    for (StateMachine& m : p_.machines) machine(m);
    for (Network& n : p_.networks) network(n);
    for (Gate& g : p_.gates) {
      move(g.id);
      list(g.same);
      for (Gate::Step& s : g.steps) move(s.truth);
    }
    for (Edge& e : p_.edges) move(e.previous);
    for (QuickWatch& w : p_.quick_watches) {
      move(w.sum);
      move(w.good);
    }
    outside();
  }

 private:
  /// What lies around the plant: channels, controllers, faults, scenarios, requirements, figures.
  void outside() {
    for (Sensor& s : p_.sensors) {
      move(s.at);
      move(s.truth);
      move(s.value);
      move(s.counts);
      move(s.signal);
    }
    for (Actuator& a : p_.actuators) {
      move(a.value);
      move(a.line);
      move(a.counts);
      move(a.signal);
    }
    for (Frame& f : p_.frames) {
      for (FrameField& field : f.fields) {
        move(field.raw);
        move(field.of);
      }
      for (FramePort& port : f.ports) move(port.raw);
    }
    for (Controller& c : p_.controllers) {
      list(c.reads);
      list(c.knows);
      for (auto& [id, name] : c.known_as) move(id);
      for (SharedParameter& s : c.shares) move(s.id);
      list(c.drives);
      for (ControllerWrite& w : c.writes) {
        move(w.value);
        move(w.pending);
      }
    }
    for (Messages& m : p_.messages) {
      move(m.cut);
      for (Messages::Line& line : m.lines) {
        for (auto& [from, to] : line.values) {
          move(from);
          move(to);
        }
      }
    }
    for (Fault& f : p_.faults) {
      move(f.active);
      move(f.begin_given);
      move(f.lasting_given);
      list(f.gates);
      move(f.replacement.it);
      move(f.replacement.was);
      for (Replacement::Memory& m : f.replacement.memories) move(m.id);
    }
    for (Scenario& s : p_.scenarios) {
      for (Scenario::Start& start : s.start) move(start.target);
      for (ScenarioStep& step : s.steps) move(step.target);
    }
    for (NamedValues& v : p_.value_sets) assignments(v.values);
    for (Requirement& r : p_.requirements) {
      for (LimitLine& l : r.limits) move(l.variable);
    }
    for (Measure& m : p_.measures) move(m.value);
    for (RecordGroup& g : p_.recorded) list(g.signals);
    for (Figure& f : p_.figures) {
      for (std::vector<VarId>& panel : f.panels) list(panel);
    }
    for (Campaign& c : p_.campaigns) {
      for (Campaign::Vary& v : c.varied) move(v.what);
    }
    for (FailureModes& f : p_.failure_modes) list(f.noticed);
    for (Panel& panel : p_.panels) {
      for (PanelItem& item : panel.items) list(item.ids);
    }
  }

  void network(Network& n) {
    for (Network::Element& e : n.elements) {
      for (auto* quantities : {&e.parameters, &e.inputs, &e.outputs}) {
        for (Network::Quantity& q : *quantities) move(q.id);
      }
    }
    for (Network::Probe& probe : n.probes) move(probe.id);
    list(n.inputs);
    list(n.outputs);
  }
  void machine(StateMachine& m) {
    move(m.mode);
    move(m.entered);
    for (auto& body : m.entry) assignments(body);
    for (auto& body : m.exit) assignments(body);
  }
  void assignments(std::vector<Assignment>& all) {
    for (Assignment& a : all) move(a.target);
  }
  void list(std::vector<VarId>& ids) {
    for (VarId& id : ids) move(id);
  }
  void move(VarId& id) {
    if (id != kNone) id = place_of_[static_cast<std::size_t>(id)];
  }

  Program& p_;
  std::vector<VarId> place_of_;
};

}  // namespace

bool may_be_no_number(const Variable& v) {
  // Truths and labels come out of comparisons, of which check/watch.h looks at the operands.
  return v.type.numeric() && v.role != Role::fixed_param && v.role != Role::measure;
}

void number_variables(Program& program) {
  const std::vector<VarId> order = wanted_order(program);
  std::vector<VarId> place_of(order.size());
  std::vector<Variable> variables;
  variables.reserve(order.size());
  for (std::size_t i = 0; i < order.size(); ++i) {
    place_of[static_cast<std::size_t>(order[i])] = static_cast<VarId>(i);
    variables.push_back(std::move(program.variables[static_cast<std::size_t>(order[i])]));
  }
  program.variables = std::move(variables);
  program.listed = place_of;  // place_of[i] is where the i-th of the text went
  Renumbering(program, std::move(place_of)).run();
}

}  // namespace isodyne::program
