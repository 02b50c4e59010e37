#include "isodyne/model/implicit.h"

#include <map>
#include <unordered_set>

#include <fmt/format.h>

namespace isodyne::model {

namespace {

NodeId add_node(Program& p, Node n) {
  p.nodes.push_back(n);
  return static_cast<NodeId>(p.nodes.size() - 1);
}

NodeId operation(Program& p, Op op, NodeId a, NodeId b = kNone, NodeId c = kNone) {
  Node n;
  n.op = op;
  n.a = a;
  n.b = b;
  n.c = c;
  return add_node(p, n);
}

NodeId constant(Program& p, double value) {
  Node n;
  n.value = value;
  return add_node(p, n);
}

/// Nodes below a root in an order in which operands come before results. Numbers grow that way, except that
/// a node put in place of a variable may have a higher one: so it is found by walking, without recursion.
template <typename Next>
std::vector<NodeId> operands_first(NodeId root, Next next) {
  std::vector<NodeId> order, todo{root};
  std::unordered_set<NodeId> entered, left;
  while (!todo.empty()) {
    const NodeId id = todo.back();
    if (left.contains(id)) {
      todo.pop_back();
      continue;
    }
    if (!entered.insert(id).second) {  // back from its operands
      todo.pop_back();
      left.insert(id);
      order.push_back(id);
      continue;
    }
    for (const NodeId operand : next(id)) {
      if (operand != kNone && !entered.contains(operand)) todo.push_back(operand);
    }
  }
  return order;
}

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
      done_[id] = changed ? add_node(p_, copy) : id;
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

/// The rules of calculus. kNone stands for zero.
class Differentiator {
 public:
  Differentiator(Program& p, const std::unordered_map<VarId, NodeId>& slopes) : p_(p), slopes_(slopes) {}

  NodeId run(NodeId root) {
    const auto next = [&](NodeId id) -> std::vector<NodeId> {
      const Node& n = p_.node(id);
      return {n.a, n.b, n.c};
    };
    for (const NodeId id : operands_first(root, next)) d_[id] = rule(id);
    return d_.at(root);
  }

 private:
  NodeId d(NodeId id) const { return id == kNone ? kNone : d_.at(id); }
  NodeId number(double value) { return constant(p_, value); }
  NodeId plus(NodeId a, NodeId b) { return a == kNone ? b : b == kNone ? a : operation(p_, Op::add, a, b); }
  NodeId minus(NodeId a, NodeId b) {
    return b == kNone ? a : a == kNone ? operation(p_, Op::neg, b) : operation(p_, Op::sub, a, b);
  }
  bool is_one(NodeId id) const { return p_.node(id).op == Op::constant && p_.node(id).value == 1; }
  NodeId times(NodeId a, NodeId b) {
    if (a == kNone || b == kNone) return kNone;
    return is_one(a) ? b : is_one(b) ? a : operation(p_, Op::mul, a, b);
  }
  NodeId over(NodeId a, NodeId b) { return a == kNone ? kNone : operation(p_, Op::div, a, b); }
  NodeId choose(NodeId condition, NodeId yes, NodeId no) {
    if (yes == kNone && no == kNone) return kNone;
    return operation(p_, Op::select, condition, yes == kNone ? number(0) : yes, no == kNone ? number(0) : no);
  }
  NodeId square(NodeId a) { return operation(p_, Op::mul, a, a); }

  NodeId rule(NodeId id) {
    const Node n = p_.node(id);
    const NodeId da = d(n.a), db = d(n.b), dc = d(n.c);
    switch (n.op) {
      case Op::variable: {
        const auto known = slopes_.find(n.variable);
        return known == slopes_.end() ? kNone : known->second;
      }
      case Op::add:
        return plus(da, db);
      case Op::sub:
        return minus(da, db);
      case Op::mul:
        return plus(times(da, n.b), times(n.a, db));
      case Op::div:  // (a/b)' = (a' - (a/b) b') / b
        return da == kNone && db == kNone ? kNone : over(minus(da, times(id, db)), n.b);
      case Op::pow:
        return power(id, n, da, db);
      case Op::neg:
        return da == kNone ? kNone : operation(p_, Op::neg, da);
      case Op::select:
        return choose(n.a, db, dc);
      case Op::abs:
        return times(operation(p_, Op::sign, n.a), da);
      case Op::sqrt:
        return over(da, times(number(2), id));
      case Op::min:
        return choose(operation(p_, Op::le, n.a, n.b), da, db);
      case Op::max:
        return choose(operation(p_, Op::ge, n.a, n.b), da, db);
      case Op::clamp:
        return choose(operation(p_, Op::lt, n.a, n.b), db, choose(operation(p_, Op::gt, n.a, n.c), dc, da));
      case Op::mod:  // a - b floor(a/b)
        return da;
      case Op::exp:
        return times(id, da);
      case Op::log:
        return over(da, n.a);
      case Op::sin:
        return times(operation(p_, Op::cos, n.a), da);
      case Op::cos:
        return da == kNone ? kNone : operation(p_, Op::neg, times(operation(p_, Op::sin, n.a), da));
      case Op::tan:
        return times(operation(p_, Op::add, number(1), square(id)), da);
      case Op::asin:
        return over(da, operation(p_, Op::sqrt, operation(p_, Op::sub, number(1), square(n.a))));
      case Op::acos: {
        const NodeId positive = over(da, operation(p_, Op::sqrt, operation(p_, Op::sub, number(1), square(n.a))));
        return positive == kNone ? kNone : operation(p_, Op::neg, positive);
      }
      case Op::atan:
        return over(da, operation(p_, Op::add, number(1), square(n.a)));
      case Op::atan2:  // atan2(a, b)' = (b a' - a b') / (a^2 + b^2)
        return over(minus(times(n.b, da), times(n.a, db)), operation(p_, Op::add, square(n.a), square(n.b)));
      case Op::table1:
        return times(look_up(Op::slope1, n), da);
      case Op::table2:
        return plus(times(look_up(Op::slope2x, n), da), times(look_up(Op::slope2y, n), db));
      default:
        return kNone;  // steps and truth values: flat wherever they have a slope
    }
  }

  NodeId look_up(Op op, const Node& n) {
    Node slope = n;
    slope.op = op;
    return add_node(p_, slope);
  }

  /// (a^b)' = b a^(b-1) a' + a^b ln(a) b'
  NodeId power(NodeId id, const Node& n, NodeId da, NodeId db) {
    NodeId result = kNone;
    if (da != kNone) {
      const NodeId less = operation(p_, Op::pow, n.a, operation(p_, Op::sub, n.b, number(1)));
      result = times(operation(p_, Op::mul, n.b, less), da);
    }
    if (db != kNone) result = plus(result, times(operation(p_, Op::mul, id, operation(p_, Op::log, n.a)), db));
    return result;
  }

  Program& p_;
  const std::unordered_map<VarId, NodeId>& slopes_;
  std::map<NodeId, NodeId> d_;
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

void report_tap(Check& check, const Solve& solve, VarId inlined) {
  for (const Fault& f : check.program.faults) {
    if (f.tap == kNone || check.program.taps[static_cast<std::size_t>(f.tap)].target != inlined) continue;
    check.error(Code::wrong_kind, f.span,
                fmt::format("`{}` cannot be faulted: it is part of the equation that gives `{}`",
                            check.program.variable(inlined).name, check.program.variable(solve.x).name),
                "fault a parameter or an input of that equation instead");
  }
}

}  // namespace

NodeId derivative_of(Program& program, NodeId root, const std::unordered_map<VarId, NodeId>& slopes) {
  return Differentiator(program, slopes).run(root);
}

void prepare_solves(Check& check) {
  Program& p = check.program;
  if (p.solves.empty()) return;
  std::unordered_map<VarId, NodeId> equations;
  std::unordered_map<VarId, std::vector<VarId>> users;
  for (const Assignment& e : p.equations) {
    equations[e.target] = e.value;
    for (const VarId read : p.reads(e.value)) users[read].push_back(e.target);
  }
  for (Solve& solve : p.solves) {
    const std::unordered_set<VarId> depends = depending_on(solve.x, users);
    Inliner inliner(p, equations, depends);
    const NodeId residual = inliner.inlined(solve.residual);
    const NodeId scale = inliner.inlined(solve.scale);
    if (residual == kNone || scale == kNone) continue;  // a loop beside x: the sorting reports it
    solve.residual = residual;
    solve.scale = scale;
    solve.inlined.assign(inliner.used.begin(), inliner.used.end());
    solve.derivative = derivative_of(p, residual, {{solve.x, constant(p, 1)}});
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

}  // namespace isodyne::model
