// Each comparison or table swallows what it compares: 0/0 > 3 is false, and nothing behind it knows. So for each
// expression that somebody looks at another one is built that adds up 0 · operand over its comparisons and tables,
// along the branches that are taken. Not looked at: intermediate results that are finite again (1 / (1 / 0)).

#include "isodyne/model/watch.h"

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::model {

namespace {

class Watches {
 public:
  explicit Watches(Program& program) : p_(program) {}

  void run() {
    for (const Requirement& r : p_.requirements) requirement(r);
    for (const Measure& m : p_.measures) measure(m);
    for (std::size_t i = 0; i < p_.faults.size(); ++i) fault(static_cast<std::int32_t>(i));
    for (std::size_t i = 0; i < p_.scenarios.size(); ++i) scenario(static_cast<std::int32_t>(i));
    for (const Controller& c : p_.controllers) {
      for (const VarId id : c.reads) quantity(id, "controller `" + c.name + "`", c.span);
    }
    for (const Sensor& s : p_.sensors) {
      if (s.on) quantity(s.truth, "sensor `" + s.name + "`", s.span);
    }
    for (const Actuator& a : p_.actuators) quantity(a.value, "actuator `" + a.name + "`", a.span);
    for (const StateMachine& m : p_.machines) {
      for (const Transition& t : m.transitions)
        look(look_at(t.condition), "a transition of `" + p_.variable(m.mode).name + "`", t.span);
    }
    for (const WhenBlock& w : p_.events) {
      look(look_at(w.condition), "a `when` block", w.span);
      body(w.body, "a `when` block");
    }
    for (const Sampler& s : p_.samplers) body(s.body, "an `every` block");
    for (const Assignment& e : p_.equations)
      look(look_at(e.value), "the equation of `" + p_.variable(e.target).name + "`", e.span);
    for (const Edge& e : p_.edges) look(look_at(e.now), "`becomes active`", {});
  }

 private:
  struct Looked {
    NodeId node = kNone;     ///< kNone: nothing can go wrong
    bool by_itself = false;  ///< it may be no number although all that it reads are
  };

  NodeId node(Op op, NodeId a, NodeId b, NodeId c = kNone) {
    Node n;
    n.op = op;
    n.a = a;
    n.b = b;
    n.c = c;
    p_.nodes.push_back(n);
    return static_cast<NodeId>(p_.nodes.size() - 1);
  }
  NodeId zero() {
    if (zero_ == kNone) {
      p_.nodes.emplace_back();  // a constant: 0
      zero_ = static_cast<NodeId>(p_.nodes.size() - 1);
    }
    return zero_;
  }
  NodeId or_zero(NodeId n) { return n == kNone ? zero() : n; }

  Looked both(const Looked& a, const Looked& b) {
    const bool risky = a.by_itself || b.by_itself;
    if (a.node == kNone || b.node == kNone) return {a.node == kNone ? b.node : a.node, risky};
    return {node(Op::add, a.node, b.node), risky};
  }

  /// What makes no number out of numbers.
  bool risky(NodeId id) const {
    if (id == kNone) return false;
    const Node n = p_.node(id);
    switch (n.op) {
      case Op::div:
      case Op::pow:
      case Op::sqrt:
      case Op::log:
      case Op::exp:
      case Op::tan:
      case Op::asin:
      case Op::acos:
      case Op::mod:
        return true;
      default:
        return risky(n.a) || risky(n.b) || risky(n.c);
    }
  }

  /// An operand itself, and what is looked at on the way to it.
  Looked operand(NodeId id) {
    const Looked inside = look_at(id);
    const Node n = p_.node(id);
    if (n.op == Op::constant) return inside;
    if (n.op == Op::variable && !p_.variable(n.variable).type.numeric()) return inside;
    return both(inside, {node(Op::mul, id, zero()), risky(id)});
  }

  Looked look_at(NodeId id) {
    if (id == kNone) return {};
    const Node n = p_.node(id);
    switch (n.op) {
      case Op::constant:
      case Op::variable:
        return {};
      case Op::lt:
      case Op::le:
      case Op::gt:
      case Op::ge:
      case Op::eq:
      case Op::ne:
      case Op::table2:
      case Op::slope2x:
      case Op::slope2y:
        return both(operand(n.a), operand(n.b));
      case Op::table1:
      case Op::slope1:
        return operand(n.a);
      case Op::select:
        return choice(look_at(n.a), n.a, look_at(n.b), look_at(n.c));
      case Op::land:
        return choice(look_at(n.a), n.a, look_at(n.b), {});
      case Op::lor:
        return choice(look_at(n.a), n.a, {}, look_at(n.b));
      default:
        return both(both(look_at(n.a), look_at(n.b)), look_at(n.c));
    }
  }

  Looked choice(const Looked& of, NodeId condition, const Looked& yes, const Looked& no) {
    if (yes.node == kNone && no.node == kNone) return of;
    const Looked taken{node(Op::select, condition, or_zero(yes.node), or_zero(no.node)), yes.by_itself || no.by_itself};
    return both(of, taken);
  }

  Watch* look(const Looked& looked, std::string reader, Span span) {
    if (looked.node == kNone) return nullptr;
    Watch w;
    w.node = looked.node;
    w.by_itself = looked.by_itself;
    w.reader = std::move(reader);
    w.span = span;
    p_.watches.push_back(std::move(w));
    return &p_.watches.back();
  }

  void quantity(VarId id, std::string reader, Span span) {
    if (!p_.variable(id).type.numeric()) return;
    Node n;
    n.op = Op::variable;
    n.variable = id;
    p_.nodes.push_back(n);
    const auto read = static_cast<NodeId>(p_.nodes.size() - 1);
    look({node(Op::mul, read, zero()), false}, std::move(reader), span);
  }

  void requirement(const Requirement& r) {
    if (r.by_review) return;
    const std::string reader = "requirement `" + r.name + "`";
    if (r.nodes.empty()) {
      const Looked trigger = look_at(r.trigger), check = look_at(r.check);
      look(r.trigger == kNone || r.within ? both(trigger, check) : choice(trigger, r.trigger, check, {}), reader,
           r.span);
      return;
    }
    for (const FormulaNode& n : r.nodes)
      look(n.number && n.value != kNone ? operand(n.value) : look_at(n.value), reader, r.span);
  }

  /// Over a stretch only what is in it counts: there the measure itself has no value (judge/measurer.h).
  void measure(const Measure& m) {
    Looked all = both(look_at(m.event), look_at(m.until));
    if (m.window == Measure::Window::whole_run || m.window == Measure::Window::per) {
      for (const NodeId value : {m.of, m.to, m.within, m.against}) {
        if (value != kNone) all = both(all, operand(value));
      }
    }
    look(all, "measure `" + m.name + "`", m.span);
  }

  void fault(std::int32_t index) {
    const Fault& f = at(p_.faults, index);
    Watch* w = look(both(look_at(f.condition), look_at(f.until)), "fault `" + f.name + "`", f.span);
    if (w != nullptr) w->fault = index;
  }

  void scenario(std::int32_t index) {
    for (std::size_t i = 0; i < at(p_.scenarios, index).steps.size(); ++i) {
      const ScenarioStep& s = at(p_.scenarios, index).steps[i];
      const bool asks = s.kind == ScenarioStep::Kind::wait || s.kind == ScenarioStep::Kind::expect ||
                        (s.kind == ScenarioStep::Kind::repeat && s.whole);
      Watch* w = asks ? look(look_at(s.value), "scenario `" + at(p_.scenarios, index).name + "`", s.span) : nullptr;
      if (w == nullptr) continue;
      w->scenario = index;
      w->step = static_cast<std::int32_t>(i);
    }
    for (const Scenario::End& e : at(p_.scenarios, index).ends) {
      if (Watch* w = look(look_at(e.when), "scenario `" + at(p_.scenarios, index).name + "`", e.span))
        w->scenario = index;
    }
  }

  /// What a block has computed, which nothing computes again, is a memory like a state.
  void body(const std::vector<Assignment>& list, const char* reader) {
    for (const Assignment& a : list) quantity(a.target, reader, a.span);
  }

  Program& p_;
  NodeId zero_ = kNone;
};

}  // namespace

void add_watches(Program& program) {
  Watches(program).run();
}

}  // namespace isodyne::model
