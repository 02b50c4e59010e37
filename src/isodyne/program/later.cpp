#include "isodyne/program/later.h"

#include "isodyne/program/nodes.h"

namespace isodyne::program {

namespace {

class Later {
 public:
  Later(Plant& p, const std::unordered_map<VarId, NodeId>& later) : p_(p), later_(later) {}

  NodeId run(NodeId root) {
    const auto next = [&](NodeId id) -> std::vector<NodeId> {
      const Node& n = p_.node(id);
      return {n.a, n.b, n.c};
    };
    for (const NodeId id : operands_first(root, next)) made_[id] = rule(id);
    return made_.at(root);
  }

 private:
  NodeId of(NodeId id) const { return id == kNone ? kNone : made_.at(id); }

  NodeId rule(NodeId id) {
    const Node n = p_.node(id);
    if (n.op == Op::variable) {
      const auto known = later_.find(n.variable);
      return known == later_.end() ? id : known->second;
    }
    const NodeId a = of(n.a), b = of(n.b), c = of(n.c);
    if ((a == n.a && b == n.b && c == n.c) || jumps(p_, n)) return id;
    switch (n.op) {
      case Op::select:
        return b == n.b && c == n.c ? id : operation(p_, Op::select, n.a, b, c);
      case Op::mod:  // a - b floor(a / b), with as many whole ones as now
        return minus(a, times(b, operation(p_, Op::floor, operation(p_, Op::div, n.a, n.b))));
      case Op::atan2:  // and the angle from the one to the other, which has no end at half a turn
        return operation(p_, Op::add, id,
                         operation(p_, Op::atan2, minus(times(a, n.b), times(n.a, b)),
                                   operation(p_, Op::add, times(n.a, a), times(n.b, b))));
      default: {
        Node same = n;
        same.a = a;
        same.b = b;
        same.c = c;
        return add(p_, same);
      }
    }
  }

  NodeId minus(NodeId a, NodeId b) { return operation(p_, Op::sub, a, b); }
  NodeId times(NodeId a, NodeId b) { return operation(p_, Op::mul, a, b); }

  Plant& p_;
  const std::unordered_map<VarId, NodeId>& later_;
  std::unordered_map<NodeId, NodeId> made_;
};

}  // namespace

bool jumps(const Plant& p, const Node& n) {
  switch (n.op) {
    case Op::lt:
    case Op::le:
    case Op::gt:
    case Op::ge:
    case Op::eq:
    case Op::ne:
    case Op::land:
    case Op::lor:
    case Op::lnot:
    case Op::sign:
    case Op::floor:
    case Op::ceil:
    case Op::round:
    case Op::normal:
    case Op::uniform:
      return true;
    case Op::table1:
    case Op::table2: {
      const LookupTable& t = p.tables[static_cast<std::size_t>(n.unit)];
      return t.method == LookupTable::Method::hold || t.outside == LookupTable::Outside::repeated;
    }
    default:
      return false;
  }
}

NodeId later_of(Plant& program, NodeId root, const std::unordered_map<VarId, NodeId>& later) {
  return Later(program, later).run(root);
}

}  // namespace isodyne::program
