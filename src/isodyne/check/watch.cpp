// Each comparison or table swallows what it compares: 0/0 > 3 is false, and nothing behind it knows. So for each
// expression that somebody looks at another one is built that adds up 0 · operand over its comparisons and tables,
// along the branches that are taken. Not looked at: intermediate results that are finite again (1 / (1 / 0)).
//
// In quick groups nobody looks at every instant, so there each such sum is kept by an equation: once it is no number it
// stays so. There it costs something, so only what may become no number there is looked at: what divides by something
// that moves, what takes a root or a logarithm, and what reads such quantities.

#include "isodyne/check/watch.h"

#include <algorithm>
#include <unordered_map>
#include <vector>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/program/between.h"
#include "isodyne/program/nodes.h"
#include "isodyne/program/quick.h"

namespace isodyne::check {

using namespace program;

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
    plant();
    for (const Edge& e : p_.edges) look(look_at(e.now), "`becomes active`", {});
    if (std::none_of(p_.groups.begin(), p_.groups.end(), [&](const Group& g) { return g.step < p_.step; })) return;
    between_ = true;
    looked_.clear();  // there less is looked at
    moving_ = moving_between(p_);
    find_suspects();
    plant();
    asked_between();
  }

 private:
  void plant() {
    for (const StateMachine& m : p_.machines) {
      if (!looked_into(p_.variable(m.mode).group)) continue;
      for (const Transition& t : m.transitions)
        look(look_at(t.condition), "a transition of `" + p_.variable(m.mode).name + "`", t.span);
    }
    for (const WhenBlock& w : p_.events) {
      if (!looked_into(w.group)) continue;
      look(look_at(w.condition), "a `when` block", w.span);
      body(w.body, "a `when` block");
    }
    for (const PeriodicTask& s : p_.periodic_tasks) {
      if (looked_into(s.group)) body(s.body, "an `every` block");
    }
    for (const Network& n : p_.networks) {
      if (!looked_into(n.group)) continue;
      for (const Network::Element& e : n.elements) {
        for (const Network::Quantity& q : e.inputs) {
          if (!between_ || may_be_bad_[static_cast<std::size_t>(q.id)] != 0) quantity(q.id, "`" + e.path + "`", e.span);
        }
      }
    }
    for (std::size_t i = 0, given = p_.equations.size(); i < given; ++i) {
      const Assignment e = p_.equations[i];  // a copy: some are added
      if (looked_into(p_.variable(e.target).group))
        look(look_at(e.value), "the equation of `" + p_.variable(e.target).name + "`", e.span);
    }
  }

  /// What is asked of quick groups at their own instants, in the quickest of those that it reads.
  void asked_between() {
    const QuickParts quick(p_);
    for (std::size_t i = 0; i < p_.requirements.size(); ++i) {
      const Requirement r = p_.requirements[i];
      std::vector<NodeId> nodes{r.trigger, r.check};
      for (const FormulaNode& n : r.nodes) nodes.push_back(n.value);
      if (quick.asked_every(r) < p_.step && looked_into(quickest(nodes))) requirement(r);
    }
    for (std::size_t i = 0; i < p_.measures.size(); ++i) {
      const Measure m = p_.measures[i];
      if (quick.asked_every(m) < p_.step && looked_into(quickest({m.of, m.to, m.within, m.against, m.event, m.until})))
        measure(m);
    }
    for (std::size_t i = 0; i < p_.sensors.size(); ++i) {
      const Sensor s = p_.sensors[i];
      if (!s.on || s.period >= p_.step || !looked_into(p_.variable(s.truth).group)) continue;
      const auto equation_of = std::find_if(p_.equations.begin(), p_.equations.end(),
                                            [&](const Assignment& a) { return a.target == s.truth; });
      if (equation_of != p_.equations.end() && suspect(equation_of->value))
        quantity(s.truth, "sensor `" + s.name + "`", s.span);
    }
  }
  std::int32_t quickest(const std::vector<NodeId>& nodes) const {
    std::int32_t found = 0;
    Time least = Time::max();
    for (const NodeId n : nodes) {
      if (n == kNone) continue;
      for (const VarId id : p_.reads(n)) {
        const Variable& v = p_.variable(id);
        const Time step = at(p_.groups, v.group).step;
        if (program::is_parameter(v.role) || id == kTime || id == kSeed || step >= least) continue;
        least = step;
        found = v.group;
      }
    }
    return found;
  }

  bool looked_into(std::int32_t group) {
    group_ = group;
    return !between_ || at(p_.groups, group).step < p_.step;
  }

  struct Looked {
    NodeId node = kNone;     ///< kNone: nothing can go wrong
    bool by_itself = false;  ///< it may be no number although all that it reads are
  };

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
    return {operation(p_, Op::add, a.node, b.node), risky};
  }

  /// What makes no number out of numbers.
  static bool risky(Op op) {
    switch (op) {
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
        return false;
    }
  }
  bool risky(NodeId id) const {
    return any_below(p_, id, [](const Node& n) { return risky(n.op); });
  }

  /// Nodes that may be no number at an instant of a quick group though they are one at those of the bench.
  void find_suspects() {
    std::vector<char>& reads_bad = may_be_bad_;
    reads_bad.assign(p_.variables.size(), 0);
    const auto note = [&](const Assignment& a) {
      char& bad = reads_bad[static_cast<std::size_t>(a.target)];
      const bool more = bad == 0 && suspect_[static_cast<std::size_t>(a.value)] != 0;
      if (more) bad = 1;
      return more;
    };
    for (bool more = true; more;) {
      mark_nodes(reads_bad);
      more = false;
      const auto all = [&](const std::vector<Assignment>& list) {
        for (const Assignment& a : list) more = note(a) || more;
      };
      all(p_.equations);
      for (const Delay& d : p_.delays) all({{d.out, d.input, d.span}});
      for (const PeriodicTask& s : p_.periodic_tasks) all(s.body);
      for (const WhenBlock& w : p_.events) all(w.body);
      for (const StateMachine& m : p_.machines) {
        for (const auto& body : m.entry) all(body);
        for (const auto& body : m.exit) all(body);
      }
    }
  }

  /// Operands come before what they are operands of. What is divided by something that stays is as good as that.
  void mark_nodes(const std::vector<char>& reads_bad) {
    std::vector<char> moves(p_.nodes.size(), 0);
    suspect_.assign(p_.nodes.size(), 0);
    for (std::size_t i = 0; i < p_.nodes.size(); ++i) {
      const Node& n = p_.nodes[i];
      if (n.op == Op::variable) {
        moves[i] = !program::is_parameter(p_.variable(n.variable).role);
        suspect_[i] = reads_bad[static_cast<std::size_t>(n.variable)];
        continue;
      }
      for (const NodeId operand : {n.a, n.b, n.c}) {
        if (operand == kNone) continue;
        moves[i] = moves[i] != 0 || moves[static_cast<std::size_t>(operand)] != 0;
        suspect_[i] = suspect_[i] != 0 || suspect_[static_cast<std::size_t>(operand)] != 0;
      }
      const NodeId decides = n.op == Op::div || n.op == Op::mod ? n.b : static_cast<NodeId>(i);
      if (risky(n.op) && moves[static_cast<std::size_t>(decides)] != 0) suspect_[i] = 1;
    }
  }
  bool suspect(NodeId id) const {
    return static_cast<std::size_t>(id) < suspect_.size() && suspect_[static_cast<std::size_t>(id)] != 0;
  }

  /// An operand itself, and what is looked at on the way to it.
  Looked operand(NodeId id) {
    const Looked inside = look_at(id);
    const Node n = p_.node(id);
    if (n.op == Op::constant) return inside;
    if (n.op == Op::variable && !p_.variable(n.variable).type.numeric()) return inside;
    if (between_ && !suspect(id)) return inside;
    return both(inside, {operation(p_, Op::mul, id, zero()), risky(id)});
  }

  /// What is shared is looked at once.
  Looked look_at(NodeId id) {
    if (id == kNone) return {};
    if (const auto known = looked_.find(id); known != looked_.end()) return known->second;
    const Looked looked = look_into(id);
    looked_[id] = looked;
    return looked;
  }
  Looked look_into(NodeId id) {
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
    const Looked taken{operation(p_, Op::select, condition, or_zero(yes.node), or_zero(no.node)),
                       yes.by_itself || no.by_itself};
    return both(of, taken);
  }

  Watch* look(const Looked& looked, std::string reader, Span span) {
    if (looked.node == kNone) return nullptr;
    if (between_) {
      look_between(looked.node, std::move(reader), span);
      return nullptr;
    }
    Watch w;
    w.node = looked.node;
    w.by_itself = looked.by_itself;
    w.reader = std::move(reader);
    w.span = span;
    p_.watches.push_back(std::move(w));
    return &p_.watches.back();
  }

  /// sum = sum + what is looked at; good = if sum == 0 then time else good.
  void look_between(NodeId looked, std::string reader, Span span) {
    // What is held there is looked at where it changes.
    const std::vector<VarId> reads = p_.reads(looked);
    if (std::none_of(reads.begin(), reads.end(), [&](VarId id) { return moving_[static_cast<std::size_t>(id)]; }))
      return;
    QuickWatch w;
    w.group = group_;
    w.reader = std::move(reader);
    w.span = span;
    w.sum = hidden(fmt::format("looked at {}", p_.quick_watches.size() + 1));
    w.good = hidden(fmt::format("good until {}", p_.quick_watches.size() + 1));
    equation(w.sum, operation(p_, Op::add, variable(w.sum), looked), span);
    equation(
        w.good,
        operation(p_, Op::select, operation(p_, Op::eq, variable(w.sum), zero()), variable(kTime), variable(w.good)),
        span);
    p_.quick_watches.push_back(std::move(w));
  }

  VarId hidden(std::string name) {
    Variable v;
    v.name = std::move(name);
    v.type.kind = Type::Kind::real;
    v.group = group_;
    p_.variables.push_back(std::move(v));
    return static_cast<VarId>(p_.variables.size() - 1);
  }
  NodeId variable(VarId id) {
    Node n;
    n.op = Op::variable;
    n.variable = id;
    p_.nodes.push_back(n);
    return static_cast<NodeId>(p_.nodes.size() - 1);
  }
  void equation(VarId target, NodeId value, Span span) {
    p_.order.push_back({Item::Kind::equation, static_cast<std::int32_t>(p_.equations.size())});
    p_.equations.push_back({target, value, span});
  }

  void quantity(VarId id, std::string reader, Span span) {
    if (!p_.variable(id).type.numeric()) return;
    const NodeId read = variable(id);
    look({operation(p_, Op::mul, read, zero()), false}, std::move(reader), span);
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
    for (const Assignment& a : list) {
      if (!between_ || suspect(a.value)) quantity(a.target, reader, a.span);
    }
  }

  Program& p_;
  NodeId zero_ = kNone;
  std::unordered_map<NodeId, Looked> looked_;
  bool between_ = false;  ///< between the instants of the bench, in the steps of group_
  std::int32_t group_ = 0;
  std::vector<bool> moving_;      ///< per variable, between the instants of the bench
  std::vector<char> may_be_bad_;  ///< per variable: what is computed for it is suspect
  std::vector<char> suspect_;     ///< per node of the program as it was given
};

}  // namespace

void add_watches(Program& program) {
  Watches(program).run();
}

}  // namespace isodyne::check
