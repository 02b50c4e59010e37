#include "isodyne/model/flatten.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::model {

namespace {
Type choice_type(std::int32_t choice) {
  return {Type::Kind::choice, {}, choice};
}

/// The name under which a declaration can be found in its instance; a duplicate keeps the first.
bool assigned_by_sampler(const lang::ModelDecl& decl, const std::string& name) {
  for (const lang::EveryDecl& every : decl.samplers) {
    for (const lang::Equation& a : every.assignments) {
      if (a.target.parts.size() == 1 && a.target.parts[0].text == name) return true;
    }
  }
  return false;
}
}  // namespace

// ---- names ----------------------------------------------------------------------------------------------

void Flattener::declare(const lang::ModelDecl& root) {
  check_.root.decl = &root;
  Variable time;
  time.name = "time";
  time.role = Role::time;
  time.unit = *parse_unit("s");
  time.type = {Type::Kind::real, time.unit.dimension, kNone};
  time.doc = "time since the start of the run";
  check_.program.variables.push_back(std::move(time));
  declare_members(check_.root, 0);
}

void Flattener::declare_members(Instance& instance, int depth) {
  for (const lang::VarDecl& v : instance.decl->variables) declare_variable(instance, v);
  for (const lang::ModesDecl& m : instance.decl->modes) declare_machine(instance, m);
  for (const lang::PartDecl& p : instance.decl->parts) declare_part(instance, p, depth);
}

void Flattener::declare_variable(Instance& instance, const lang::VarDecl& v) {
  Variable variable;
  variable.doc = v.doc;
  switch (v.kind) {
    case lang::VarKind::param:
      variable.role = Role::param;
      break;
    case lang::VarKind::fixed_param:
      variable.role = Role::fixed_param;
      break;
    case lang::VarKind::input:
      variable.role = Role::input;
      break;
    case lang::VarKind::state:
      variable.role = Role::state;
      break;
    case lang::VarKind::memory:
      variable.role = Role::sampled;
      break;
    case lang::VarKind::output:
      variable.role = assigned_by_sampler(*instance.decl, v.name.text) ? Role::sampled : Role::equation;
      break;
    case lang::VarKind::let:
      variable.role = Role::equation;
      break;
  }
  if (v.type) {
    variable.type = check_.type_of(*v.type, variable.unit);
  } else if (v.kind != lang::VarKind::let) {
    check_.error(Code::missing, v.name.span, fmt::format("`{}` needs a unit", v.name.text),
                 fmt::format("write `{} : m`, `{} : 1` for a plain number, or `{} : bool`", v.name.text, v.name.text,
                             v.name.text));
  }
  const std::size_t before = check_.program.variables.size();
  const VarId id = check_.define(instance, v.name, std::move(variable));
  if (v.kind == lang::VarKind::state && check_.program.variables.size() > before) declare_state(instance, v, id);
}

void Flattener::declare_state(Instance& instance, const lang::VarDecl& v, VarId id) {
  const Variable& x = check_.program.variable(id);
  if (x.type.valid() && x.type.kind != Type::Kind::real) {
    check_.error(Code::type_mismatch, v.type->span,
                 fmt::format("a state is a real quantity; `{}` is {}", v.name.text, describe(check_.program, x.type)),
                 "what jumps from value to value is a `memory` or `modes`");
    return;
  }
  const auto rate = divide(x.type.dimension, parse_unit("s")->dimension);
  State state;
  state.value = id;
  state.equation = v.name.span;
  state.derivative =
      check_.define_hidden(instance.prefix + v.name.text + "'", {x.type.kind, rate.value_or(Dimension{}), kNone},
                           si_unit(rate.value_or(Dimension{})));
  check_.state_of[id] = check_.program.states.size();
  check_.program.states.push_back(state);
}

void Flattener::declare_machine(Instance& instance, const lang::ModesDecl& m) {
  auto [known, fresh] = mode_choices_.try_emplace(&m, static_cast<std::int32_t>(check_.program.choices.size()));
  if (fresh) {
    Choice choice;
    choice.name = instance.decl->name.text + "." + m.name.text;
    const auto add = [&](const lang::Name& label) {
      if (std::find(choice.labels.begin(), choice.labels.end(), label.text) == choice.labels.end())
        choice.labels.push_back(label.text);
    };
    add(m.first);
    for (const lang::Transition& t : m.transitions) {
      add(t.from);
      add(t.to);
    }
    check_.program.choices.push_back(std::move(choice));
  }
  Variable mode;
  mode.role = Role::mode;
  mode.doc = m.doc;
  mode.type = choice_type(known->second);
  StateMachine machine;
  machine.mode = check_.define(instance, m.name, std::move(mode));
  const Unit second = *parse_unit("s");
  machine.entered = check_.define_hidden(instance.prefix + m.name.text + " entered",
                                         {Type::Kind::real, second.dimension, kNone}, second);
  check_.program.machines.push_back(std::move(machine));
}

void Flattener::declare_part(Instance& instance, const lang::PartDecl& p, int depth) {
  constexpr int kMostDepth = 50;
  const auto model = check_.models.find(p.model.text);
  if (model == check_.models.end()) {
    std::vector<std::string> known;
    for (const auto& [name, decl] : check_.models) known.push_back(name);
    const auto meant = closest(p.model.text, known);
    check_.error(Code::unknown_name, p.model.span, fmt::format("there is no model called `{}`", p.model.text),
                 meant ? fmt::format("did you mean `{}`?", *meant) : "is the file that defines it in `use`?");
    return;
  }
  if (std::find(nesting_.begin(), nesting_.end(), model->second) != nesting_.end() || depth >= kMostDepth) {
    check_.error(Code::recursion, p.model.span, fmt::format("model `{}` contains itself", p.model.text));
    return;
  }
  if (instance.variables.contains(p.name.text) || instance.parts.contains(p.name.text)) {
    check_.error(Code::duplicate, p.name.span, fmt::format("`{}` is defined twice", p.name.text), "rename one of them");
    return;
  }
  if (check_.overflow) return;
  auto child = std::make_unique<Instance>();
  child->decl = model->second;
  child->prefix = instance.prefix + p.name.text + ".";
  child->parent = &instance;
  child->part = &p;
  check_.program.parts.push_back(
      {instance.prefix + p.name.text, p.model.text, p.doc.empty() ? model->second->doc : p.doc, p.name.span});
  Instance& placed = *(instance.parts[p.name.text] = std::move(child));
  nesting_.push_back(model->second);
  declare_members(placed, depth + 1);
  nesting_.pop_back();
}

// ---- values ---------------------------------------------------------------------------------------------

void Flattener::each(Instance& instance, Visit visit) {
  if (instance.decl == nullptr) return;
  (this->*visit)(instance);
  for (const lang::PartDecl& p : instance.decl->parts) {
    const auto part = instance.parts.find(p.name.text);
    if (part != instance.parts.end() && part->second->part == &p) each(*part->second, visit);
  }
}

void Flattener::define() {
  each(check_.root, &Flattener::queue_lets);
  each(check_.root, &Flattener::bounds);
  each(check_.root, &Flattener::part_arguments);
  each(check_.root, &Flattener::start_values);
  each(check_.root, &Flattener::equations);
  check_.demand_all();
  each(check_.root, &Flattener::transitions);
  each(check_.root, &Flattener::samplers);
}

VarId Flattener::own(const Instance& instance, const std::string& name) const {
  const auto found = instance.variables.find(name);
  return found == instance.variables.end() ? kNone : found->second;
}

bool Flattener::claim(VarId target, Span span) {
  const auto [first, fresh] = check_.defined.try_emplace(target, span);
  if (fresh) return true;
  std::string name = check_.program.variable(target).name;
  check_.error(Code::driven_twice, span, fmt::format("`{}` gets its value twice", name), "keep one of the two")
      .notes.push_back({first->second, "the first is here"});
  return false;
}

void Flattener::queue_lets(Instance& instance) {
  for (const lang::VarDecl& v : instance.decl->variables) {
    const VarId id = own(instance, v.name.text);
    if (v.kind != lang::VarKind::let || id == kNone || check_.program.variable(id).span.begin != v.name.span.begin)
      continue;
    if (!v.value) {
      check_.error(Code::missing, v.name.span, fmt::format("`let {}` has no value", v.name.text),
                   "write `let name = expression`");
      check_.defined[id] = v.name.span;
      continue;
    }
    check_.pending[id] = [this, &instance, &v, id] {
      claim(id, v.name.span);
      NodeId node = kNone;
      if (v.type) {
        node = x_.check_as(*v.value, {&instance, nullptr}, check_.program.variable(id).type,
                           fmt::format("the value of `{}`", v.name.text));
      } else {
        const Typed value = x_.check(*v.value, {&instance, nullptr});
        Variable& variable = check_.program.variables[static_cast<std::size_t>(id)];
        variable.type = value.type;
        variable.unit = value.shown;
        node = value.node;
      }
      if (node != kNone) check_.program.equations.push_back({id, node, v.value->span});
    };
  }
}

void Flattener::set_start(VarId id, NodeId value, Span span) {
  if (value == kNone || !check_.start_value.try_emplace(id, value).second) return;
  check_.program.start.push_back({id, value, span});
}

void Flattener::part_arguments(Instance& instance) {
  if (instance.part == nullptr) return;
  std::set<std::string> given;
  for (const lang::PartDecl::Arg& arg : instance.part->args) {
    const VarId id = own(instance, arg.name.text);
    const Role role = id == kNone ? Role::hidden : check_.program.variable(id).role;
    if (role != Role::param && role != Role::fixed_param) {
      std::vector<std::string> params;
      for (const lang::VarDecl& v : instance.decl->variables) {
        if (v.kind == lang::VarKind::param || v.kind == lang::VarKind::fixed_param) params.push_back(v.name.text);
      }
      const auto meant = closest(arg.name.text, params);
      check_.error(id == kNone ? Code::unknown_name : Code::wrong_kind, arg.name.span,
                   fmt::format("model `{}` has no parameter `{}`", instance.decl->name.text, arg.name.text),
                   meant         ? fmt::format("did you mean `{}`?", *meant)
                   : id != kNone ? fmt::format("connect an input with an equation: `{}.{} = …`",
                                               instance.part->name.text, arg.name.text)
                                 : std::string{});
      continue;
    }
    if (!given.insert(arg.name.text).second) {
      check_.error(Code::duplicate, arg.name.span, fmt::format("parameter `{}` is given twice", arg.name.text));
      continue;
    }
    const Variable& variable = check_.program.variable(id);
    const NodeId value = x_.check_as(*arg.value, {instance.parent, nullptr}, variable.type,
                                     fmt::format("parameter `{}`", variable.name));
    set_start(id, value == kNone ? x_.constant(0) : value, arg.value->span);
  }
}

void Flattener::start_values(Instance& instance) {
  for (const lang::VarDecl& v : instance.decl->variables) {
    const VarId id = own(instance, v.name.text);
    if (id == kNone || v.kind == lang::VarKind::let || check_.program.variable(id).span.begin != v.name.span.begin)
      continue;
    const Role role = check_.program.variable(id).role;
    const bool param = role == Role::param || role == Role::fixed_param;
    if (v.value) {
      const NodeId value = x_.check_as(*v.value, {&instance, nullptr}, check_.program.variable(id).type,
                                       fmt::format("the value of `{}`", v.name.text));
      set_start(id, value == kNone ? x_.constant(0) : value, v.value->span);
    } else if (param && !check_.start_value.contains(id) && !check_.alone) {
      const bool in_part = instance.part != nullptr;
      check_.error(Code::missing, in_part ? instance.part->name.span : v.name.span,
                   fmt::format("parameter `{}` has no value", check_.program.variable(id).name),
                   in_part ? fmt::format("give it: `{} : {}({} = …)`", instance.part->name.text,
                                         instance.decl->name.text, v.name.text)
                           : fmt::format("write `param {} : unit = value`", v.name.text));
    } else if (role == Role::state) {
      check_.error(Code::missing, v.name.span, fmt::format("state `{}` has no start value", v.name.text),
                   fmt::format("write `state {} : unit = value`", v.name.text));
    } else if (role == Role::sampled) {
      set_start(id, x_.constant(0), v.name.span);
    }
    if (param) param_bounds(instance, v, id);
  }
}

void Flattener::param_bounds(Instance& instance, const lang::VarDecl& v, VarId id) {
  if (!v.lowest || !v.highest) return;
  const Type type = check_.program.variable(id).type;
  const ExprScope scope{&instance, nullptr};
  const auto low =
      check_.constant(x_.check_as(*v.lowest, scope, type, "the smallest value"), v.lowest->span, "the smallest value");
  const auto high =
      check_.constant(x_.check_as(*v.highest, scope, type, "the largest value"), v.highest->span, "the largest value");
  if (!low || !high) return;
  check_.program.variables[static_cast<std::size_t>(id)].limits = {*low, *high};
  const auto start = check_.start_value.find(id);
  if (start == check_.start_value.end()) return;
  std::function<std::optional<double>(VarId)> known = [](VarId) { return std::nullopt; };
  const auto value = fold(check_.program, start->second, known);
  if (!value || (*value >= *low && *value <= *high)) return;
  const auto given = std::find_if(check_.program.start.begin(), check_.program.start.end(),
                                  [&](const Assignment& a) { return a.target == id; });
  check_.error(
      Code::out_of_limits, given->span,
      fmt::format("{} is outside the limits of `{}`: {} to {}", check_.program.format(id, *value),
                  check_.program.variable(id).name, check_.program.format(id, *low), check_.program.format(id, *high)));
}

void Flattener::bounds(Instance& instance) {
  for (const lang::VarDecl& v : instance.decl->variables) {
    const VarId id = own(instance, v.name.text);
    const auto state = check_.state_of.find(id);
    if (v.kind != lang::VarKind::state || !v.lowest || !v.highest || state == check_.state_of.end()) continue;
    const Type type = check_.program.variable(id).type;
    const NodeId low = x_.check_as(*v.lowest, {&instance, nullptr}, type, "the lower limit");
    const NodeId high = x_.check_as(*v.highest, {&instance, nullptr}, type, "the upper limit");
    check_.program.states[state->second].lowest = low == kNone || high == kNone ? kNone : low;
    check_.program.states[state->second].highest = low == kNone || high == kNone ? kNone : high;
  }
}

// ---- equations ------------------------------------------------------------------------------------------

void Flattener::equations(Instance& instance) {
  for (const lang::Equation& e : instance.decl->equations) equation(instance, e);
}

void Flattener::equation(Instance& instance, const lang::Equation& e) {
  const VarId target = equation_target(instance, e);
  const bool fresh = target != kNone && claim(target, e.target.span);
  if (target == kNone) {
    x_.check(*e.value, {&instance, nullptr});  // the value may have mistakes of its own
    return;
  }
  const Variable& variable = check_.program.variable(target);
  const NodeId value = x_.check_as(*e.value, {&instance, nullptr}, variable.type, fmt::format("`{}`", variable.name));
  if (!fresh || value == kNone) return;
  if (check_.program.variable(target).role == Role::input)
    check_.program.variables[static_cast<std::size_t>(target)].role = Role::equation;
  check_.program.equations.push_back({target, value, join(e.target.span, e.value->span)});
}

VarId Flattener::equation_target(Instance& instance, const lang::Equation& e) {
  const VarId id = check_.resolve(instance, e.target);
  if (id == kNone) {
    check_.lost.emplace_back(&instance, e.target.parts.front().text, e.target.parts.back().text);
    return kNone;
  }
  const std::string name = e.target.text();
  const auto refuse = [&](const std::string& why, std::string advice = {}) {
    check_.error(Code::wrong_kind, e.target.span, why, std::move(advice));
    return kNone;
  };
  const std::size_t depth = e.target.parts.size();
  const Role role = check_.program.variable(id).role;
  if (e.derivative) {
    const auto state = check_.state_of.find(id);
    if (state == check_.state_of.end())
      return refuse(fmt::format("`{}` is not a state, so it has no rate", name), "declare it with `state`");
    if (depth > 1) return refuse("the rate of a state is given inside its own model");
    check_.program.states[state->second].equation = join(e.target.span, e.value->span);
    return check_.program.states[state->second].derivative;
  }
  if (role == Role::state)
    return refuse(fmt::format("`{}` is a state", name), fmt::format("give its rate: `{}' = …`", name));
  if (depth == 1) {
    if (role == Role::equation) return id;
    if (role == Role::sampled)
      return refuse(fmt::format("`{}` is a sampled value", name), "assign it with `:=` inside `every`");
    if (role == Role::input)
      return refuse(fmt::format("`{}` is an input", name), "it gets its value from outside, or from a scenario");
    return refuse(fmt::format("`{}` cannot be given by an equation", name));
  }
  if (depth > 2)
    return refuse("only the inputs of a part directly inside can be connected",
                  "connect deeper ones in the model between");
  const bool input = role == Role::input || (role == Role::equation && check_.defined.contains(id));
  const Instance& part = *instance.parts.at(e.target.parts[0].text);
  const bool declared_input =
      part.decl != nullptr &&
      std::any_of(part.decl->variables.begin(), part.decl->variables.end(), [&](const lang::VarDecl& v) {
        return v.kind == lang::VarKind::input && v.name.text == e.target.parts[1].text;
      });
  if (!input || !declared_input)
    return refuse(fmt::format("`{}` is not an input", name), "only inputs can be connected from outside");
  return id;
}

void Flattener::transitions(Instance& instance) {
  for (const lang::ModesDecl& m : instance.decl->modes) {
    const VarId mode = own(instance, m.name.text);
    const auto machine = std::find_if(check_.program.machines.begin(), check_.program.machines.end(),
                                      [&](const StateMachine& s) { return s.mode == mode; });
    if (machine == check_.program.machines.end() || !machine->transitions.empty()) continue;
    set_start(mode, x_.constant(0), m.first.span);
    const auto& labels = check_.program.choices[static_cast<std::size_t>(mode_choices_.at(&m))].labels;
    const auto index = [&](const lang::Name& name) {
      return static_cast<int>(std::find(labels.begin(), labels.end(), name.text) - labels.begin());
    };
    for (const lang::Transition& t : m.transitions) {
      Transition transition{index(t.from), index(t.to), kNone, t.span};
      if (t.condition) {
        transition.condition = x_.check_truth(*t.condition, {&instance, nullptr}, "the condition of a transition");
      } else if (const auto after =
                     x_.check_as(*t.after, {&instance, nullptr}, {Type::Kind::real, parse_unit("s")->dimension, kNone},
                                 "the time after `after`");
                 after != kNone) {
        // Half a nanosecond of tolerance: instants are whole nanoseconds, seconds as doubles are rounded.
        const NodeId since = x_.node(Op::sub, x_.variable(0), x_.variable(machine->entered));
        transition.condition = x_.node(Op::ge, x_.node(Op::add, since, x_.constant(0.5e-9)), after);
      }
      if (transition.condition != kNone) machine->transitions.push_back(transition);
    }
  }
}

void Flattener::samplers(Instance& instance) {
  for (const lang::EveryDecl& every : instance.decl->samplers) {
    Sampler sampler;
    sampler.span = every.span;
    const auto period = x_.check_span(*every.period, {&instance, nullptr}, "a period");
    if (period) sampler.period = *period;
    for (const lang::Equation& a : every.assignments) sampled_assignment(instance, a, sampler);
    if (period) check_.program.samplers.push_back(std::move(sampler));
  }
}

void Flattener::sampled_assignment(Instance& instance, const lang::Equation& a, Sampler& sampler) {
  const VarId id = check_.resolve(instance, a.target);
  if (id == kNone) return;
  const Variable& variable = check_.program.variable(id);
  if (a.target.parts.size() > 1 || variable.role != Role::sampled) {
    check_.error(Code::wrong_kind, a.target.span, fmt::format("`{}` cannot be assigned here", a.target.text()),
                 "`every` assigns its own model's memories and outputs");
    return;
  }
  // Several assignments in one block are fine; two blocks would depend on a hidden order.
  const auto [first, fresh] = check_.defined.try_emplace(id, sampler.span);
  if (!fresh && first->second.begin != sampler.span.begin) {
    check_
        .error(Code::driven_twice, a.target.span,
               fmt::format("`{}` is assigned in two `every` blocks", a.target.text()))
        .notes.push_back({first->second, "the first is here"});
  }
  const NodeId value = x_.check_as(*a.value, {&instance, nullptr}, variable.type, fmt::format("`{}`", variable.name));
  if (value != kNone) sampler.body.push_back({id, value, join(a.target.span, a.value->span)});
}

// ---- completeness ---------------------------------------------------------------------------------------

void Flattener::check_complete() {
  each(check_.root, &Flattener::complete);
}

void Flattener::complete(Instance& instance) {
  for (const lang::VarDecl& v : instance.decl->variables) {
    const VarId id = own(instance, v.name.text);
    if (id == kNone || !check_.program.variable(id).type.valid()) continue;
    const Variable& variable = check_.program.variable(id);
    const auto state = check_.state_of.find(id);
    const VarId needs = state == check_.state_of.end() ? id : check_.program.states[state->second].derivative;
    const bool defined = check_.defined.contains(needs);
    const bool meant = std::any_of(check_.lost.begin(), check_.lost.end(), [&](const auto& lost) {
      const auto& [owner, first, last] = lost;
      return owner == instance.parent && instance.part != nullptr &&
             (first == instance.part->name.text || last == v.name.text);
    });
    if (meant) continue;
    if (variable.role == Role::input && !check_.start_value.contains(id) && !defined) {
      check_.error(Code::undriven_input, instance.part != nullptr ? instance.part->name.span : v.name.span,
                   fmt::format("nothing is connected to input `{}`", variable.name),
                   fmt::format("connect it: `{} = …`, or give the input a default in its model", variable.name));
    } else if (state != check_.state_of.end() && !defined) {
      check_.error(Code::no_equation, v.name.span, fmt::format("state `{}` has no equation", v.name.text),
                   fmt::format("give its rate: `{}' = …`", v.name.text));
    } else if (variable.role == Role::equation && !defined) {
      check_.error(Code::no_equation, v.name.span, fmt::format("`{}` has no equation", v.name.text),
                   fmt::format("write `{} = …`", v.name.text));
    }
  }
}

}  // namespace isodyne::model
