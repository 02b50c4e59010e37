#include "isodyne/check/plant/implicit.h"

#include <map>
#include <unordered_set>

#include <fmt/format.h>

#include "isodyne/program/derivative.h"
#include "isodyne/program/nodes.h"

namespace isodyne::check {

namespace {

/// Puts equations into an expression.
class Inliner {
 public:
  Inliner(Program& p, const std::unordered_map<VarId, NodeId>& equations, const std::unordered_set<VarId>& depends)
      : p_(p), equations_(equations), depends_(depends) {}

  NodeId inlined(NodeId root) {
    const auto next = [&](NodeId id) -> std::vector<NodeId> {
      const Node& n = p_.node(id);
      if (replaced(n)) return {equations_.at(n.variable)};
      return {n.a, n.b, n.c};
    };
    for (const NodeId id : operands_first(root, next)) {
      if (done_.contains(id)) continue;
      const Node n = p_.node(id);
      if (replaced(n)) {
        const auto value = done_.find(equations_.at(n.variable));
        if (value == done_.end()) return kNone;  // these equations need each other without x
        done_[id] = value->second;
        used.insert(n.variable);
        continue;
      }
      Node copy = n;
      bool changed = false;
      for (NodeId* operand : {&copy.a, &copy.b, &copy.c}) {
        if (*operand == kNone) continue;
        if (!done_.contains(*operand)) return kNone;
        const NodeId now = done_.at(*operand);
        changed = changed || now != *operand;
        *operand = now;
      }
      done_[id] = changed ? add(p_, copy) : id;
    }
    const auto found = done_.find(root);
    return found == done_.end() ? kNone : found->second;
  }

  std::unordered_set<VarId> used;

 private:
  bool replaced(const Node& n) const {
    return n.op == Op::variable && depends_.contains(n.variable) && equations_.contains(n.variable);
  }

  Program& p_;
  const std::unordered_map<VarId, NodeId>& equations_;
  const std::unordered_set<VarId>& depends_;
  std::map<NodeId, NodeId> done_;
};

/// Every variable whose equation reads x, directly or through others.
std::unordered_set<VarId> depending_on(VarId x, const std::unordered_map<VarId, std::vector<VarId>>& users) {
  std::unordered_set<VarId> found{x};
  std::vector<VarId> todo{x};
  while (!todo.empty()) {
    const VarId id = todo.back();
    todo.pop_back();
    const auto used = users.find(id);
    if (used == users.end()) continue;
    for (const VarId user : used->second) {
      if (found.insert(user).second) todo.push_back(user);
    }
  }
  found.erase(x);
  return found;
}

void report_tap(Check& check, const ImplicitEquation& solve, VarId inlined) {
  for (const Fault& f : check.program.faults) {
    const std::vector<std::int32_t> taps = f.taps();
    if (std::none_of(taps.begin(), taps.end(),
                     [&](std::int32_t t) { return at(check.program.taps, t).target == inlined; }))
      continue;
    check.error(Code::wrong_kind, f.span,
                fmt::format("`{}` cannot be faulted: it is part of the equation that gives `{}`",
                            check.program.variable(inlined).name, check.program.variable(solve.x).name),
                "fault a parameter or an input of that equation instead");
  }
}

}  // namespace

void prepare_solves(Check& check) {
  Program& p = check.program;
  if (p.solves.empty()) return;
  std::unordered_map<VarId, NodeId> equations;
  std::unordered_map<VarId, std::vector<VarId>> users;
  for (const Assignment& e : p.equations) {
    equations[e.target] = e.value;
    for (const VarId read : p.reads(e.value)) users[read].push_back(e.target);
  }
  for (ImplicitEquation& solve : p.solves) {
    const std::unordered_set<VarId> depends = depending_on(solve.x, users);
    Inliner inliner(p, equations, depends);
    const NodeId residual = inliner.inlined(solve.residual);
    const NodeId scale = inliner.inlined(solve.scale);
    if (residual == kNone || scale == kNone) continue;  // a loop beside x: the sorting reports it
    solve.residual = residual;
    solve.scale = scale;
    solve.inlined.assign(inliner.used.begin(), inliner.used.end());
    solve.derivative = derivative_of(p, residual, {{solve.x, number(p, 1)}});
    if (solve.derivative == kNone) {
      check.error(Code::wrong_kind, solve.span,
                  fmt::format("the equation for `{}` does not depend on it", p.variable(solve.x).name),
                  "is this the unknown that was meant?");
    }
    for (const VarId id : inliner.used) {
      for (const Tap& tap : p.taps) {
        if (tap.target == id) report_tap(check, solve, id);
      }
    }
  }
}

}  // namespace isodyne::check
