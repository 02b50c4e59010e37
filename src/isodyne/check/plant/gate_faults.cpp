#include "isodyne/check/plant/gate_faults.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/program/nodes.h"

namespace isodyne::check {

bool note_gate_fault(Check& check, Fault& fault, VarId target, VarId other, Span span) {
  const bool known = fault.kind == FaultKind::force || fault.kind == FaultKind::invert ||
                     fault.kind == FaultKind::swap || fault.kind == FaultKind::delay;
  if (!known) {
    check.error(Code::wrong_kind, span,
                fmt::format("`{}` is a gate, whose edges `{}` cannot change", check.program.variable(target).name,
                            fault_word(fault.kind)),
                "gates know `force`, `invert`, `swap` and `delay`");
    return false;
  }
  if (fault.kind == FaultKind::delay && fault.lag.count() < 1) {
    check.error(Code::out_of_limits, span, "a gate is delayed by 1 ns at least");
    return false;
  }
  fault.gates.push_back(target);
  if (other != kNone) fault.gates.push_back(other);
  return true;
}

namespace {

class GateFaults {
 public:
  explicit GateFaults(Check& check) : check_(check), p_(check.program) {}

  void run() {
    for (std::size_t i = 0; i < p_.faults.size(); ++i) {
      for (const VarId gate : p_.faults[i].gates) {
        on_[gate].push_back(static_cast<std::int32_t>(i));
        if (!healthy_.contains(gate)) healthy_[gate] = take_away(gate);
      }
    }
    for (auto& [gate, faults] : on_) {
      std::stable_sort(faults.begin(), faults.end(),
                       [&](std::int32_t a, std::int32_t b) { return p_.rank_of_fault(a) < p_.rank_of_fault(b); });
      NodeId value = reading(p_, healthy_.at(gate));
      for (const std::int32_t f : faults)
        value = operation(p_, Op::select, reading(p_, at(p_.faults, f).active), changed(at(p_.faults, f), gate, value),
                          value);
      p_.equations.push_back({gate, value, at(p_.faults, faults.front()).span});
    }
  }

 private:
  /// What gave the gate gives a hidden one from now on.
  VarId take_away(VarId gate) {
    const Variable v = p_.variable(gate);
    const VarId healthy = check_.define_hidden(v.name + " healthy", v.type, {}, v.group);
    p_.variables[static_cast<std::size_t>(healthy)].gate = true;
    if (v.role == Role::actuator) {
      for (Actuator& a : p_.actuators) {
        if (a.value == gate) a.line = healthy;
      }
    } else if (v.role == Role::network) {
      for (Network& n : p_.networks) {
        std::replace(n.outputs.begin(), n.outputs.end(), gate, healthy);
        for (Network::Element& e : n.elements) {
          for (Network::Quantity& q : e.outputs) q.id = q.id == gate ? healthy : q.id;
        }
      }
      p_.variables[static_cast<std::size_t>(gate)].role = Role::equation;
    } else {
      for (Assignment& e : p_.equations) e.target = e.target == gate ? healthy : e.target;
    }
    return healthy;
  }

  NodeId changed(const Fault& f, VarId gate, NodeId value) {
    switch (f.kind) {
      case FaultKind::force:
        return f.amount;
      case FaultKind::invert:
        return operation(p_, Op::lnot, value);
      case FaultKind::swap:
        return reading(p_, healthy_.at(f.gates[0] == gate ? f.gates[1] : f.gates[0]));
      default:
        return delayed(f, gate, value);
    }
  }

  NodeId delayed(const Fault& f, VarId gate, NodeId value) {
    const VarId group = p_.variable(gate).group;
    const VarId out = check_.define_hidden(fmt::format("{} by {}", p_.variable(gate).name, f.name),
                                           {Type::Kind::boolean, {}, kNone}, {}, group);
    p_.variables[static_cast<std::size_t>(out)].gate = true;
    Delay d;
    d.out = out;
    d.input = value;
    d.lag = number(p_, to_seconds(f.lag));
    d.longest = f.lag;
    d.held = true;
    d.span = f.span;
    p_.delays.push_back(d);
    return reading(p_, out);
  }

  Check& check_;
  Program& p_;
  std::map<VarId, std::vector<std::int32_t>> on_;
  std::map<VarId, VarId> healthy_;
};

}  // namespace

void put_gate_faults(Check& check) {
  if (check.diagnostics.has_errors()) return;
  GateFaults(check).run();
}

}  // namespace isodyne::check
