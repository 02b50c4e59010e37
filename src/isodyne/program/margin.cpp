#include "isodyne/program/margin.h"

#include <cmath>
#include <limits>
#include <optional>
#include <set>

#include "isodyne/program/nodes.h"

namespace isodyne::program {

namespace {

class DistanceBuilder {
 public:
  DistanceBuilder(Plant& program, double far, Distances& done, bool shares = false)
      : p_(program), far_(far), done_(done), shares_(shares) {}

  NodeId of(NodeId id, bool negated) {
    const auto known = done_.find({id, negated});
    if (known != done_.end()) return known->second;
    const NodeId result = build(id, negated);
    done_[{id, negated}] = result;
    return result;
  }

 private:
  NodeId build(NodeId id, bool negated) {
    const Node n = p_.node(id);
    switch (n.op) {
      case Op::lnot:
        return of(n.a, !negated);
      case Op::land:
      case Op::lor: {
        const bool smaller = (n.op == Op::land) != negated;
        const NodeId a = of(n.a, negated), b = of(n.b, negated);
        return operation(p_, smaller ? Op::min : Op::max, a, b);
      }
      case Op::lt:
      case Op::le:
        return share(n, negated ? operation(p_, Op::sub, n.a, n.b) : operation(p_, Op::sub, n.b, n.a));
      case Op::gt:
      case Op::ge:
        return share(n, negated ? operation(p_, Op::sub, n.b, n.a) : operation(p_, Op::sub, n.a, n.b));
      default: {
        const NodeId yes = number(p_, negated ? -far_ : far_), no = number(p_, negated ? far_ : -far_);
        return operation(p_, Op::select, id, yes, no);
      }
    }
  }

  NodeId share(const Node& compared, NodeId distance) {
    if (!shares_) return distance;
    double size = compared.unit == kNone ? 1 : p_.units[static_cast<std::size_t>(compared.unit)].factor;
    for (const NodeId side : {compared.a, compared.b}) {
      const auto value = fold(p_, side, [](VarId) { return std::nullopt; });
      if (value && *value != 0) size = std::abs(*value);
    }
    return operation(p_, Op::div, distance, number(p_, size));
  }

  Plant& p_;
  double far_;
  Distances& done_;
  bool shares_;
};

}  // namespace

NodeId distance_of(Plant& program, NodeId truth, double far, Distances& done) {
  return DistanceBuilder(program, far, done).of(truth, false);
}

NodeId share_of_limits(Plant& program, NodeId truth) {
  Distances done;
  return DistanceBuilder(program, std::numeric_limits<double>::infinity(), done, true).of(truth, false);
}

Unit unit_of_shares() {
  Unit unit;
  unit.text = "of the limit";
  return unit;
}

Margin margin_of(Plant& program, NodeId truth) {
  Distances done;
  const NodeId node = distance_of(program, truth, std::numeric_limits<double>::infinity(), done);
  // One unit for all that is compared, or there is no margin.
  std::optional<Unit> unit;
  for (const auto& [made, distance] : done) {
    const std::int32_t compared = program.node(made.first).unit;
    if (compared == kNone || program.node(distance).op != Op::sub) continue;
    const Unit& own = program.units[static_cast<std::size_t>(compared)];
    if (unit && own.dimension != unit->dimension) return {share_of_limits(program, truth), unit_of_shares()};
    if (!unit) unit = own;
  }
  if (!unit) return {};
  return {node, *unit};
}

std::vector<LimitLine> limit_lines(const Plant& program, NodeId check,
                                   const std::function<std::optional<double>(VarId)>& known) {
  std::vector<LimitLine> lines;
  std::vector<NodeId> todo{check};
  std::set<NodeId> seen;
  while (!todo.empty()) {
    const NodeId id = todo.back();
    todo.pop_back();
    if (id == kNone || !seen.insert(id).second) continue;
    const Node& n = program.node(id);
    if (n.op == Op::land || n.op == Op::lor || n.op == Op::lnot) {
      todo.push_back(n.b);
      todo.push_back(n.a);
      continue;
    }
    if (n.op != Op::lt && n.op != Op::le && n.op != Op::gt && n.op != Op::ge) continue;
    for (const auto& [side, other] : {std::pair{n.a, n.b}, std::pair{n.b, n.a}}) {
      const auto value = fold(program, other, known);
      const Node& s = program.node(side);
      const bool absolute = s.op == Op::abs && program.node(s.a).op == Op::variable;
      if (!value || (s.op != Op::variable && !absolute)) continue;
      const VarId variable = absolute ? program.node(s.a).variable : s.variable;
      lines.push_back({variable, *value});
      if (absolute) lines.push_back({variable, -*value});
    }
  }
  return lines;
}

}  // namespace isodyne::program
