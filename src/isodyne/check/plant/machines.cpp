// What happens at instants: state machines, sampled parts, events.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/check/plant/flatten.h"
#include "isodyne/core/text.h"

namespace isodyne::check {

void Flattener::transitions(Instance& instance) {
  for (const auto& m : instance.members.modes) machine(instance, *m.decl, m.env);
}

void Flattener::machine(Instance& instance, const lang::ModesDecl& m, const Env* env) {
  const VarId mode = own(instance, m.name.text).first;
  const auto known = mode == kNone ? machine_of_.end() : machine_of_.find(mode);
  if (known == machine_of_.end() || !declared_here(instance, m.name)) return;
  const std::size_t index = known->second;
  const bool inner = check_.program.machines[index].outer != kNone;
  set_start(mode, x_.constant(inner ? check_.program.machines[index].inactive : 0), m.first.span);
  const std::vector<std::string> labels = check_.program.choices[static_cast<std::size_t>(mode_choices_.at(&m))].labels;
  const auto number = [&](const lang::Name& name) {
    return static_cast<int>(std::find(labels.begin(), labels.end(), name.text) - labels.begin());
  };
  const ExprScope scope = scope_of(instance, env);
  const Type second{Type::Kind::real, parse_unit("s")->dimension, kNone};
  for (const lang::Transition& t : m.transitions) {
    Transition transition{number(t.from), number(t.to), kNone, t.span};
    if (t.condition) {
      transition.condition = x_.check_truth(*t.condition, scope, "the condition of a transition");
    } else if (const NodeId after = x_.check_as(*t.after, scope, second, "the time after `after`"); after != kNone) {
      // Half a nanosecond of tolerance: instants are whole nanoseconds, seconds as doubles are rounded.
      const VarId entered = check_.program.machines[index].entered;
      const NodeId since = x_.node(Op::sub, x_.variable(kTime), x_.variable(entered));
      transition.condition = x_.node(Op::ge, x_.node(Op::add, since, x_.constant(0.5e-9)), after);
    }
    if (transition.condition != kNone) check_.program.machines[index].transitions.push_back(transition);
  }
  for (const lang::ModesDecl::Body& body : m.bodies) {
    const auto at = static_cast<std::size_t>(number(body.mode));
    if (at >= check_.program.machines[index].entry.size()) continue;
    auto entry = actions(instance, body.entry, env, body.mode.span, false);
    auto exit = actions(instance, body.exit, env, body.mode.span, false);
    check_.program.machines[index].entry[at] = std::move(entry);
    check_.program.machines[index].exit[at] = std::move(exit);
    for (const lang::ModesDecl& inside : body.inside) machine(instance, inside, env);
  }
}

void Flattener::periodic_tasks(Instance& instance) {
  for (const auto& every : instance.members.periodic_tasks) {
    PeriodicTask task;
    task.span = every.decl->span;
    task.group = instance.group;
    const ExprScope scope = scope_of(instance, every.env);
    const auto period = x_.check_span(*every.decl->period, scope, "a period");
    if (period) task.period = *period;
    if (every.decl->offset) task.offset = x_.check_span(*every.decl->offset, scope, "an offset").value_or(Time{});
    if (period && task.offset >= *period && task.offset.count() > 0) {
      check_.error(Code::bad_period, every.decl->offset->span, "an offset is shorter than the period");
    }
    task.body = actions(instance, every.decl->actions, every.env, task.span, true);
    if (period) check_.program.periodic_tasks.push_back(std::move(task));
  }
}

void Flattener::events(Instance& instance) {
  for (const auto& w : instance.members.events) {
    WhenBlock block;
    block.span = w.decl->span;
    block.group = instance.group;
    block.condition = x_.check_truth(*w.decl->condition, scope_of(instance, w.env), "the condition of `when`");
    block.body = actions(instance, w.decl->actions, w.env, block.span, false);
    if (block.condition != kNone) check_.program.events.push_back(std::move(block));
  }
}

// ---- blocks of actions --------------------------------------------------------------------------------------

std::vector<Assignment> Flattener::actions(Instance& instance, const std::vector<lang::Action>& list, const Env* env,
                                           Span span, bool periodic) {
  Block block{instance, span, periodic, kNone, {}};
  x_.set_sampled(true);
  act(block, list, env);
  x_.set_sampled(false);
  return std::move(block.body);
}

void Flattener::act(Block& block, const std::vector<lang::Action>& list, const Env* env) {
  for (const lang::Action& a : list) {
    switch (a.kind) {
      case lang::Action::Kind::assign:
        assign(block, a, env);
        break;
      case lang::Action::Kind::loop:
        repeat(block.instance, a.head, env, [&](const Env* inner) { act(block, a.body, inner); });
        break;
      case lang::Action::Kind::branch:
        branch(block, a, env);
        break;
    }
  }
}

/// The condition is looked at once, before anything inside changes what it reads.
void Flattener::branch(Block& block, const lang::Action& a, const Env* env) {
  const NodeId condition = x_.check_truth(*a.value, scope_of(block.instance, env), "the condition of `if`");
  const Type truth{Type::Kind::boolean, {}, kNone};
  const VarId outer = block.guard;
  const auto part = [&](const std::vector<lang::Action>& list, VarId held, bool yes) {
    if (list.empty()) return;
    block.guard = check_.define_hidden("branch", truth);
    NodeId guard = yes ? x_.variable(held) : x_.node(Op::lnot, x_.variable(held));
    if (outer != kNone) guard = x_.node(Op::land, x_.variable(outer), guard);
    block.body.push_back({block.guard, guard, a.span});
    act(block, list, env);
    block.guard = outer;
  };
  if (condition == kNone) return;
  const VarId held = check_.define_hidden("condition", truth);
  block.body.push_back({held, condition, a.span});
  part(a.body, held, true);
  part(a.otherwise, held, false);
}

/// Two `every` blocks that assign one value would depend on a hidden order; events have a defined one, so any
/// number of them may.
void Flattener::assign(Block& block, const lang::Action& a, const Env* env) {
  const Target target = check_.resolve(block.instance, a.target, env);
  if (!target.found()) return;
  const Variable variable = check_.program.variable(target.ids.front());
  const bool state = variable.role == Role::state && !block.periodic;
  if (a.target.parts.size() > 1 || !(variable.role == Role::sampled || state)) {
    check_.error(Code::wrong_kind, a.target.span, fmt::format("`{}` cannot be assigned here", a.target.text()),
                 block.periodic ? "`every` assigns its own model's memories and outputs"
                                : "events assign their own model's states, memories and outputs");
    return;
  }
  for (const VarId id : target.ids) {
    if (state) break;
    check_.defined.try_emplace(id, block.span);
    if (!block.periodic) continue;
    const auto [first, fresh] = sampled_by_.try_emplace(id, block.span);
    if (fresh || first->second.begin == block.span.begin) continue;
    check_
        .error(Code::driven_twice, a.target.span,
               fmt::format("`{}` is assigned in two `every` blocks", a.target.text()))
        .notes.push_back({first->second, "the first is here"});
  }
  Type type = variable.type;
  type.size = target.vector ? static_cast<int>(target.ids.size()) : 0;
  const std::string name = target.vector ? a.target.text() : variable.name;
  const std::vector<NodeId> values =
      x_.check_elements(*a.value, scope_of(block.instance, env), type, fmt::format("`{}`", name));
  for (std::size_t i = 0; i < values.size(); ++i) {
    NodeId value = values[i];
    if (block.guard != kNone) value = x_.node(Op::select, x_.variable(block.guard), value, x_.variable(target.ids[i]));
    block.body.push_back({target.ids[i], value, a.span});
  }
}

}  // namespace isodyne::check
