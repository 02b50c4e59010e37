#include "isodyne/model/margin.h"

#include <limits>
#include <map>
#include <set>

namespace isodyne::model {

namespace {

class MarginBuilder {
 public:
  MarginBuilder(Program& program, Expressions& expressions) : program_(program), x_(expressions) {}

  Margin build(NodeId truth) {
    const NodeId node = robust(truth, false);
    if (compared_.empty() || mixed_) return {};
    return {node, unit_};
  }

 private:
  NodeId robust(NodeId id, bool negated) {
    const auto known = done_.find({id, negated});
    if (known != done_.end()) return known->second;
    const NodeId result = build_robust(id, negated);
    done_[{id, negated}] = result;
    return result;
  }

  NodeId build_robust(NodeId id, bool negated) {
    const Node n = program_.node(id);
    switch (n.op) {
      case Op::lnot:
        return robust(n.a, !negated);
      case Op::land:
      case Op::lor: {
        const bool smaller = (n.op == Op::land) != negated;
        const NodeId a = robust(n.a, negated);
        return x_.node(smaller ? Op::min : Op::max, a, robust(n.b, negated));
      }
      case Op::lt:
      case Op::le:
        return difference(n, negated ? n.a : n.b, negated ? n.b : n.a);
      case Op::gt:
      case Op::ge:
        return difference(n, negated ? n.b : n.a, negated ? n.a : n.b);
      default: {
        const double far = std::numeric_limits<double>::infinity();
        return x_.node(Op::select, id, x_.constant(negated ? -far : far), x_.constant(negated ? far : -far));
      }
    }
  }

  NodeId difference(const Node& comparison, NodeId larger, NodeId smaller) {
    if (comparison.unit != kNone) {
      const Unit& unit = program_.units[static_cast<std::size_t>(comparison.unit)];
      if (compared_.empty()) unit_ = unit;
      mixed_ = mixed_ || unit.dimension != unit_.dimension;
      compared_.insert(comparison.unit);
    }
    return x_.node(Op::sub, larger, smaller);
  }

  Program& program_;
  Expressions& x_;
  std::map<std::pair<NodeId, bool>, NodeId> done_;
  std::set<std::int32_t> compared_;
  Unit unit_;
  bool mixed_ = false;
};

}  // namespace

Margin margin_of(Program& program, Expressions& expressions, NodeId truth) {
  return MarginBuilder(program, expressions).build(truth);
}

std::vector<LimitLine> limit_lines(const Program& program, NodeId check,
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

}  // namespace isodyne::model
