#pragma once
// Makes expressions: appends nodes to a plant that is not finished yet.

#include <unordered_set>
#include <vector>

#include "isodyne/program/plant.h"

namespace isodyne::program {

inline NodeId add(Plant& p, const Node& n) {
  p.nodes.push_back(n);
  return static_cast<NodeId>(p.nodes.size() - 1);
}

inline NodeId operation(Plant& p, Op op, NodeId a, NodeId b = kNone, NodeId c = kNone) {
  Node n;
  n.op = op;
  n.a = a;
  n.b = b;
  n.c = c;
  return add(p, n);
}

inline NodeId number(Plant& p, double value) {
  Node n;
  n.value = value;
  return add(p, n);
}

inline NodeId reading(Plant& p, VarId id) {
  Node n;
  n.op = Op::variable;
  n.variable = id;
  return add(p, n);
}

/// Whether there is such a node at a root or below it, as far as `through` says of a node that its operands count.
/// Each is met once: paths to what is shared can be more than anybody could walk.
template <typename Test, typename Through>
bool any_below(const Plant& p, NodeId root, const Test& test, const Through& through) {
  std::vector<NodeId> todo{root};
  std::unordered_set<NodeId> met;
  while (!todo.empty()) {
    const NodeId id = todo.back();
    todo.pop_back();
    if (id == kNone || !met.insert(id).second) continue;
    const Node& n = p.node(id);
    if (test(n)) return true;
    if (through(n)) todo.insert(todo.end(), {n.a, n.b, n.c});
  }
  return false;
}
template <typename Test>
bool any_below(const Plant& p, NodeId root, const Test& test) {
  return any_below(p, root, test, [](const Node&) { return true; });
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

}  // namespace isodyne::program
