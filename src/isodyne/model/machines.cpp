// What happens at instants: state machines, sampled parts, events.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/model/flatten.h"

namespace isodyne::model {

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
    auto entry = assignments(instance, body.entry, env, body.mode.span, false);
    auto exit = assignments(instance, body.exit, env, body.mode.span, false);
    check_.program.machines[index].entry[at] = std::move(entry);
    check_.program.machines[index].exit[at] = std::move(exit);
    for (const lang::ModesDecl& inside : body.inside) machine(instance, inside, env);
  }
}

void Flattener::samplers(Instance& instance) {
  for (const auto& every : instance.members.samplers) {
    Sampler sampler;
    sampler.span = every.decl->span;
    const ExprScope scope = scope_of(instance, every.env);
    const auto period = x_.check_span(*every.decl->period, scope, "a period");
    if (period) sampler.period = *period;
    if (every.decl->offset) sampler.offset = x_.check_span(*every.decl->offset, scope, "an offset").value_or(Time{});
    if (period && sampler.offset >= *period && sampler.offset.count() > 0) {
      check_.error(Code::bad_period, every.decl->offset->span, "an offset is shorter than the period");
    }
    sampler.body = assignments(instance, every.decl->assignments, every.env, sampler.span, true);
    if (period) check_.program.samplers.push_back(std::move(sampler));
  }
}

void Flattener::events(Instance& instance) {
  for (const auto& w : instance.members.events) {
    WhenBlock block;
    block.span = w.decl->span;
    block.condition = x_.check_truth(*w.decl->condition, scope_of(instance, w.env), "the condition of `when`");
    block.body = assignments(instance, w.decl->assignments, w.env, block.span, false);
    if (block.condition != kNone) check_.program.events.push_back(std::move(block));
  }
}

/// The body of a block. Two `every` blocks that assign one value would depend on a hidden order; events have
/// a defined one, so any number of them may.
std::vector<Assignment> Flattener::assignments(Instance& instance, const std::vector<lang::Equation>& list,
                                               const Env* env, Span block, bool sampler) {
  std::vector<Assignment> body;
  x_.set_sampled(true);
  for (const lang::Equation& a : list) {
    const Target target = check_.resolve(instance, a.target, env);
    if (!target.found()) continue;
    const Variable variable = check_.program.variable(target.ids.front());
    const bool state = variable.role == Role::state && !sampler;
    if (a.target.parts.size() > 1 || !(variable.role == Role::sampled || state)) {
      check_.error(Code::wrong_kind, a.target.span, fmt::format("`{}` cannot be assigned here", a.target.text()),
                   sampler ? "`every` assigns its own model's memories and outputs"
                           : "events assign their own model's states, memories and outputs");
      continue;
    }
    for (const VarId id : target.ids) {
      if (state) break;
      check_.defined.try_emplace(id, block);
      if (!sampler) continue;
      const auto [first, fresh] = sampled_by_.try_emplace(id, block);
      if (fresh || first->second.begin == block.begin) continue;
      check_
          .error(Code::driven_twice, a.target.span,
                 fmt::format("`{}` is assigned in two `every` blocks", a.target.text()))
          .notes.push_back({first->second, "the first is here"});
    }
    Type type = variable.type;
    type.size = target.vector ? static_cast<int>(target.ids.size()) : 0;
    const std::string name = target.vector ? a.target.text() : variable.name;
    const std::vector<NodeId> values =
        x_.check_elements(*a.value, scope_of(instance, env), type, fmt::format("`{}`", name));
    for (std::size_t i = 0; i < values.size(); ++i)
      body.push_back({target.ids[i], values[i], join(a.target.span, a.value->span)});
  }
  x_.set_sampled(false);
  return body;
}

}  // namespace isodyne::model
