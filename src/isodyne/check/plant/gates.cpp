#include "isodyne/check/plant/gates.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/program/elements.h"
#include "isodyne/program/nodes.h"

namespace isodyne::check {

bool gate_valued(const Program& p, NodeId root) {
  return any_below(
      p, root, [&](const Node& n) { return n.op == Op::variable && p.variable(n.variable).gate; },
      [](const Node& n) { return n.op == Op::lnot || n.op == Op::land || n.op == Op::lor || n.op == Op::select; });
}

namespace {

class GateMaking {
 public:
  explicit GateMaking(Check& check) : check_(check), p_(check.program) {
    for (std::size_t i = 0; i < p_.equations.size(); ++i) equation_of_[p_.equations[i].target] = i;
    for (std::size_t i = 0; i < p_.delays.size(); ++i) delay_of_[p_.delays[i].out] = i;
  }

  void run() {
    for (const Network& n : p_.networks) {
      if (element_kind(n.elements.front().model)->tie != Tie::none) continue;
      for (const VarId id : n.outputs)
        gate_of_[id] = add({Gate::Kind::made, id, n.group, {}, kNone, {}, kNone, {}, n.span});
    }
    for (std::size_t a = 0; a < p_.actuators.size(); ++a) {
      const Actuator& given = p_.actuators[a];
      if (!given.gate) continue;
      constexpr std::int64_t kMostSteps = 4000;  // edges on their way are kept, in engine/gates.cpp
      if ((given.latency + given.clock) / p_.step > kMostSteps)
        check_.error(Code::out_of_limits, given.span,
                     fmt::format("edges of `{}` would be on their way for more than {} steps of {}", given.name,
                                 kMostSteps, format_span(p_.step)),
                     "make its latency and its clock shorter");
      const VarId line = given.line != kNone ? given.line : given.value;
      gate_of_[line] = add({Gate::Kind::given,
                            line,
                            variable(line).group,
                            {},
                            kNone,
                            given.latency + given.clock,
                            static_cast<std::int32_t>(a),
                            {},
                            given.span});
    }
    const std::size_t count = p_.variables.size();  // more come meanwhile
    for (std::size_t i = 0; i < count; ++i) {
      if (p_.variables[i].gate) gate_of(static_cast<VarId>(i));
    }
    std::erase_if(p_.delays, [&](const Delay& d) { return p_.variable(d.out).gate; });
  }

 private:
  std::int32_t add(Gate gate) {
    p_.gates.push_back(std::move(gate));
    return static_cast<std::int32_t>(p_.gates.size() - 1);
  }
  Variable& variable(VarId id) { return p_.variables[static_cast<std::size_t>(id)]; }

  /// kNone: it changes at instants only.
  std::int32_t gate_of(VarId id) {
    if (!variable(id).gate) return kNone;
    const auto [known, fresh] = gate_of_.try_emplace(id, kNone);
    if (!fresh) return known->second;  // also where they go in a circle, which sorting reports
    const auto delay = delay_of_.find(id);
    const auto equation = equation_of_.find(id);
    const std::int32_t made = delay != delay_of_.end()         ? delayed(p_.delays[delay->second])
                              : equation != equation_of_.end() ? joined(p_.equations[equation->second].value, id,
                                                                        p_.equations[equation->second].span)
                                                               : kNone;
    gate_of_[id] = made;
    return made;
  }

  std::int32_t delayed(const Delay& d) {
    const auto lag = fold(p_, d.lag, [&](VarId id) -> std::optional<double> {
      return variable(id).role == Role::fixed_param ? check_.first_value(id) : std::nullopt;
    });
    if (!lag || time_from_seconds(*lag) != d.longest) {
      check_.error(Code::not_constant, d.span, "the lag of a gate is decided before the run",
                   "give `delay` one lag, of numbers and `fixed param`s");
      return kNone;
    }
    const std::int32_t group = variable(d.out).group;
    std::int32_t of = kNone;
    if (p_.node(d.input).op == Op::variable) {
      of = gate_of(p_.node(d.input).variable);
      if (of != kNone && !in_time(of, d.out, d.span)) return kNone;
    } else {
      const VarId whole = hidden(d.input, group, d.span);
      variable(whole).gate = true;
      of = joined(d.input, whole, d.span);
    }
    if (of == kNone) of = at_instants(d.input, group, d.span);
    return add({Gate::Kind::delayed, d.out, group, {}, of, d.longest, kNone, {}, d.span});
  }

  /// A gate without edges of its own: what is delayed may change at instants only.
  std::int32_t at_instants(NodeId value, std::int32_t group, Span span) {
    const VarId truth = hidden(value, group, span);
    Gate gate{Gate::Kind::joined, truth, group, {}, kNone, {}, kNone, {}, span};
    Gate::Step s;
    s.op = Op::variable;
    s.truth = truth;
    gate.steps.push_back(s);
    return add(std::move(gate));
  }

  /// A truth of its own for part of an expression.
  VarId hidden(NodeId value, std::int32_t group, Span span) {
    const VarId id =
        check_.define_hidden(fmt::format("gate {}", ++hidden_), {Type::Kind::boolean, {}, kNone}, {}, group);
    p_.equations.push_back({id, value, span});
    return id;
  }

  std::int32_t joined(NodeId value, VarId target, Span span) {
    if (p_.node(value).op == Op::variable) {
      const std::int32_t same = gate_of(p_.node(value).variable);
      if (same == kNone || !in_time(same, target, span)) return kNone;
      p_.gates[static_cast<std::size_t>(same)].same.push_back(target);
      return same;
    }
    Gate gate{Gate::Kind::joined, target, variable(target).group, {}, kNone, {}, kNone, {}, span};
    step_of(value, gate);
    bool any = false;
    for (const Gate::Step& s : gate.steps) {
      if (s.gate == kNone) continue;
      any = true;
      if (!in_time(s.gate, target, span)) return kNone;
    }
    if (!any) return kNone;
    if (gate.steps.size() > static_cast<std::size_t>(Gate::kMostSteps)) {
      check_.error(Code::too_large, span, fmt::format("a gate is made in at most {} operations", Gate::kMostSteps),
                   "give parts of it names of their own with `let`");
      return kNone;
    }
    return add(std::move(gate));
  }

  std::int32_t step_of(NodeId id, Gate& gate) {
    const Node n = p_.node(id);
    Gate::Step s;
    s.op = n.op;
    switch (n.op) {
      case Op::constant:
        s.value = n.value != 0;
        break;
      case Op::variable:
        s.gate = gate_of(n.variable);
        if (s.gate == kNone) s.truth = n.variable;
        break;
      case Op::lnot:
      case Op::land:
      case Op::lor:
      case Op::select:
        s.a = step_of(n.a, gate);
        if (n.b != kNone) s.b = step_of(n.b, gate);
        if (n.c != kNone) s.c = step_of(n.c, gate);
        break;
      default:
        s.op = Op::variable;
        s.truth = hidden(id, gate.group, gate.span);
        break;
    }
    gate.steps.push_back(s);
    return static_cast<std::int32_t>(gate.steps.size() - 1);
  }

  /// Edges are known for one step of the group that makes them.
  bool in_time(std::int32_t gate, VarId reader, Span span) {
    const VarId maker = at(p_.gates, gate).id;
    const Group &makes = at(p_.groups, at(p_.gates, gate).group), &takes = at(p_.groups, variable(reader).group);
    if (makes.step >= takes.step && makes.core == takes.core) return true;
    if (check_.inferred_gates.contains(reader)) {
      variable(reader).gate = false;  // nobody asked for its edges
      return false;
    }
    const auto name = [&](VarId id) {
      return variable(id).role == Role::hidden ? std::string("this") : fmt::format("`{}`", variable(id).name);
    };
    if (makes.core != takes.core) {
      check_.error(Code::bad_period, span,
                   fmt::format("the gate {} is made on core {}, and {} takes it on core {}", name(maker), makes.core,
                               name(reader), takes.core),
                   "one core for both; a `bool` gets what it is at an instant of the bench");
    } else {
      check_.error(Code::bad_period, span,
                   fmt::format("the gate {} is made every {}, and {} takes it every {}: its edges are not known so far "
                               "ahead",
                               name(maker), format_span(makes.step), name(reader), format_span(takes.step)),
                   "step what takes it as often, or make it where it is taken; a `bool` gets what it is at an instant");
    }
    return false;
  }

  Check& check_;
  Program& p_;
  std::unordered_map<VarId, std::size_t> equation_of_, delay_of_;
  std::unordered_map<VarId, std::int32_t> gate_of_;
  int hidden_ = 0;
};

}  // namespace

void define_gates(Check& check) {
  if (check.diagnostics.has_errors() || check.program.step.count() == 0) return;
  GateMaking(check).run();
}

}  // namespace isodyne::check
