#include "isodyne/engine/plan.h"

#include <algorithm>
#include <set>

#include "isodyne/program/between.h"
#include "isodyne/program/groups.h"

namespace isodyne::engine {

using program::kNone;
using program::Node;
using program::NodeId;

Plan::Plan(const program::Plant& p, std::int32_t own_core) : program(&p), core(own_core) {
  const auto step_here = [&](const program::Group& g) { return g.core == core ? g.step : std::max(g.step, p.step); };
  std::set<Time> steps;
  if (!p.groups.empty()) steps.insert(p.step);
  for (const program::Group& g : p.groups) steps.insert(step_here(g));
  rates.assign(steps.begin(), steps.end());
  for (const program::Group& g : p.groups) {
    GroupPlan plan;
    plan.group = &g;
    plan.here = g.core == core;
    plan.rate = static_cast<int>(std::find(rates.begin(), rates.end(), step_here(g)) - rates.begin());
    const auto index = static_cast<std::int32_t>(groups.size());
    plan.moving = program::moving_variables(p, index);
    const std::vector<bool> wanted = program::computed_between(p, index, plan.moving);
    for (std::size_t place = 0; place < wanted.size(); ++place) {
      if (wanted[place]) plan.between.push_back(static_cast<std::int32_t>(place));
    }
    groups.push_back(std::move(plan));
  }
  single = groups.size() == 1;
  idle = program::idle_between(p);
  if (!rates.empty()) instants_per_step = p.step / rates.front();
}

int Plan::rate_of(const program::Item& item) const {
  return rate_of_group(program::group_of(*program, item));
}

std::vector<std::int32_t> Plan::network_groups() const {
  std::vector<bool> has(groups.size(), false);
  for (const program::Network& n : program->networks) has[static_cast<std::size_t>(n.group)] = true;
  for (const program::Gate& gate : program->gates) {
    const program::Group& maker = program::at(program->groups, gate.group);
    for (std::size_t g = 0; g < groups.size(); ++g)
      has[g] = has[g] || (groups[g].group->step <= maker.step && groups[g].group->core == maker.core);
  }
  std::vector<std::int32_t> all;
  for (std::size_t g = groups.size(); g-- > 0;) {
    if (has[g] && groups[g].here) all.push_back(static_cast<std::int32_t>(g));
  }
  return all;
}

std::vector<std::int32_t> Plan::machines() const {
  std::vector<std::int32_t> here;
  for (std::size_t m = 0; m < program->machines.size(); ++m) {
    if (program->group_of(program->machines[m].mode).core == core) here.push_back(static_cast<std::int32_t>(m));
  }
  return here;
}

std::vector<NodeId> Plan::held_nodes(const GroupPlan& g) const {
  // 0: not seen; 1: operands pending; 2: held; 3: moves.
  std::vector<char> seen(program->nodes.size(), 0);
  std::vector<NodeId> held, todo;
  const auto is_leaf = [](const Node& n) { return n.op == program::Op::constant || n.op == program::Op::variable; };
  const auto visit = [&](NodeId root) {
    if (root == kNone) return;
    todo.push_back(root);
    while (!todo.empty()) {
      const NodeId id = todo.back();
      char& mark = seen[static_cast<std::size_t>(id)];
      const Node& n = program->node(id);
      if (mark >= 2) {
        todo.pop_back();
      } else if (is_leaf(n)) {
        mark = n.op == program::Op::variable && g.moving[static_cast<std::size_t>(n.variable)] ? 3 : 2;
        todo.pop_back();
      } else if (mark == 0) {
        mark = 1;
        for (const NodeId operand : {n.c, n.b, n.a}) {
          if (operand != kNone) todo.push_back(operand);
        }
      } else {
        bool moves = false;
        for (const NodeId operand : {n.a, n.b, n.c})
          moves = moves || (operand != kNone && seen[static_cast<std::size_t>(operand)] == 3);
        mark = moves ? 3 : 2;
        if (!moves) held.push_back(id);
        todo.pop_back();
      }
    }
  };
  for (const std::int32_t place : g.between) {
    for (const NodeId value : program::values_of(*program, program->order[static_cast<std::size_t>(place)]))
      visit(value);
  }
  for (const std::int32_t s : g.group->states) {
    visit(program->states[static_cast<std::size_t>(s)].lowest);
    visit(program->states[static_cast<std::size_t>(s)].highest);
  }
  return held;
}

void count_uses(const program::Plant& program, const std::vector<NodeId>& roots,
                const std::function<bool(NodeId)>& known, std::unordered_map<NodeId, int>& uses) {
  std::vector<NodeId> todo;
  const auto use = [&](NodeId id) {
    if (id != kNone && ++uses[id] == 1 && !known(id)) todo.push_back(id);
  };
  for (const NodeId root : roots) {
    use(root);
    while (!todo.empty()) {
      const Node& n = program.node(todo.back());
      todo.pop_back();
      for (const NodeId child : {n.a, n.b, n.c}) use(child);
    }
  }
}

std::vector<std::int32_t> cores_of(const program::Plant& program) {
  std::set<std::int32_t> cores{0};
  for (const program::Group& g : program.groups) cores.insert(g.core);
  return {cores.begin(), cores.end()};
}

std::shared_ptr<const program::Plant> on_one_core(const program::Plant& program) {
  auto made = std::make_shared<program::Plant>(program);
  for (program::Group& g : made->groups) g.core = 0;
  return made;
}

std::vector<Ring> rings_of(const program::Plant& p) {
  std::vector<Ring> rings;
  std::int64_t begin = 0;
  for (const program::Delay& d : p.delays) {
    rings.push_back({begin, d.longest / p.group_of(d.out).step + 3});
    begin += rings.back().size;
  }
  return rings;
}

}  // namespace isodyne::engine
