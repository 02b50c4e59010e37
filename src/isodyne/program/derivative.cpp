#include "isodyne/program/derivative.h"

#include <map>

#include "isodyne/program/nodes.h"

namespace isodyne::program {

namespace {

/// The rules of calculus. kNone stands for zero.
class Differentiator {
 public:
  Differentiator(Plant& p, const std::unordered_map<VarId, NodeId>& slopes) : p_(p), slopes_(slopes) {}

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
    return operation(p_, Op::select, condition, yes == kNone ? number(p_, 0) : yes, no == kNone ? number(p_, 0) : no);
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
        return over(da, times(number(p_, 2), id));
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
        return times(operation(p_, Op::add, number(p_, 1), square(id)), da);
      case Op::asin:
        return over(da, operation(p_, Op::sqrt, operation(p_, Op::sub, number(p_, 1), square(n.a))));
      case Op::acos: {
        const NodeId positive = over(da, operation(p_, Op::sqrt, operation(p_, Op::sub, number(p_, 1), square(n.a))));
        return positive == kNone ? kNone : operation(p_, Op::neg, positive);
      }
      case Op::atan:
        return over(da, operation(p_, Op::add, number(p_, 1), square(n.a)));
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
    return add(p_, slope);
  }

  /// (a^b)' = b a^(b-1) a' + a^b ln(a) b'
  NodeId power(NodeId id, const Node& n, NodeId da, NodeId db) {
    NodeId result = kNone;
    if (da != kNone) {
      const NodeId less = operation(p_, Op::pow, n.a, operation(p_, Op::sub, n.b, number(p_, 1)));
      result = times(operation(p_, Op::mul, n.b, less), da);
    }
    if (db != kNone) result = plus(result, times(operation(p_, Op::mul, id, operation(p_, Op::log, n.a)), db));
    return result;
  }

  Plant& p_;
  const std::unordered_map<VarId, NodeId>& slopes_;
  std::map<NodeId, NodeId> d_;
};

}  // namespace

NodeId derivative_of(Plant& program, NodeId root, const std::unordered_map<VarId, NodeId>& slopes) {
  return Differentiator(program, slopes).run(root);
}

}  // namespace isodyne::program
