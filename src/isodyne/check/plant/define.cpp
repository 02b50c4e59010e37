// Values: start values, limits, equations; and what has none.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/check/plant/flatten.h"
#include "isodyne/check/plant/gates.h"
#include "isodyne/core/text.h"

namespace isodyne::check {

void Flattener::each(Instance& instance, Visit visit) {
  if (instance.decl == nullptr) return;
  (this->*visit)(instance);
  for (const auto& p : instance.members.parts) {
    const auto array = instance.arrays.find(p.decl->name.text);
    const int count = array == instance.arrays.end() ? 0 : array->second;
    for (int i = count == 0 ? 0 : 1; i <= count; ++i) {
      const auto part =
          instance.parts.find(count == 0 ? p.decl->name.text : fmt::format("{}[{}]", p.decl->name.text, i));
      if (part != instance.parts.end() && part->second->part == p.decl) each(*part->second, visit);
    }
  }
}

void Flattener::define() {
  each(check_.root, &Flattener::queue_lets);
  each(check_.root, &Flattener::bounds);
  each(check_.root, &Flattener::first_values);
  each(check_.root, &Flattener::equations);
  check_.demand_all();
  each(check_.root, &Flattener::solves);
  each(check_.root, &Flattener::transitions);
  each(check_.root, &Flattener::periodic_tasks);
  each(check_.root, &Flattener::events);
}

bool Flattener::claim(VarId target, Span span) {
  const auto [first, fresh] = check_.defined.try_emplace(target, span);
  if (fresh) return true;
  std::string name = check_.program.variable(target).name;
  check_.error(Code::driven_twice, span, fmt::format("`{}` gets its value twice", name), "keep one of the two")
      .notes.push_back({first->second, "the first is here"});
  return false;
}

void Flattener::set_start(VarId id, NodeId value, Span span) {
  if (value == kNone || !check_.start_value.try_emplace(id, value).second) return;
  check_.program.start.push_back({id, value, span});
}

// ---- let ------------------------------------------------------------------------------------------------

void Flattener::queue_lets(Instance& instance) {
  for (const auto& v : instance.members.variables) {
    if (v.decl->kind != lang::VarKind::let || !declared_here(instance, v.decl->name)) continue;
    const Elements ids = own(instance, v.decl->name.text);
    if (v.decl->value) {
      queue_let(instance, v, ids.first, ids.size);
      continue;
    }
    check_.error(Code::missing, v.decl->name.span, fmt::format("`let {}` has no value", v.decl->name.text),
                 "write `let name = expression`");
    for (int i = 0; i < std::max(1, ids.size); ++i) check_.defined[ids.first + i] = v.decl->name.span;
  }
}

void Flattener::queue_let(Instance& instance, const Placed<lang::VarDecl>& v, VarId first, int size) {
  check_.pending[first] = [this, &instance, v, first, size] {
    const lang::VarDecl& decl = *v.decl;
    const ExprScope scope = scope_of(instance, v.env);
    for (int i = 0; i < std::max(1, size); ++i) claim(first + i, decl.name.span);
    if (decl.type) {
      Type type = check_.program.variable(first).type;
      type.size = size;
      const std::vector<NodeId> nodes =
          x_.check_elements(*decl.value, scope, type, fmt::format("the value of `{}`", decl.name.text));
      for (std::size_t i = 0; i < nodes.size(); ++i)
        check_.program.equations.push_back({first + static_cast<VarId>(i), nodes[i], decl.value->span});
      return;
    }
    const Typed value = x_.check(*decl.value, scope);
    if (value.type.size > 0) {
      check_.error(Code::type_mismatch, decl.value->span,
                   fmt::format("`{}` is {}; a vector needs its size declared", decl.name.text,
                               describe(check_.program, value.type)),
                   fmt::format("write `let {} : {}[{}] = …`", decl.name.text, value.shown.text, value.type.size));
      return;
    }
    Variable& variable = check_.program.variables[static_cast<std::size_t>(first)];
    variable.type = value.type;
    variable.unit = value.shown;
    if (value.type.kind == Type::Kind::boolean && gate_valued(check_.program, value.node)) {
      variable.gate = true;
      check_.inferred_gates.insert(first);
    }
    if (value.node != kNone) check_.program.equations.push_back({first, value.node, decl.value->span});
  };
}

// ---- start values -----------------------------------------------------------------------------------------

void Flattener::first_values(Instance& instance) {
  for (const auto& v : instance.members.variables) {
    if (v.decl->kind != lang::VarKind::let && declared_here(instance, v.decl->name)) first_value(instance, v);
  }
}

void Flattener::first_value(Instance& instance, const Placed<lang::VarDecl>& v) {
  const lang::VarDecl& decl = *v.decl;
  const Elements ids = own(instance, decl.name.text);
  if (ids.first == kNone || check_.start_value.contains(ids.first)) return;  // fixed parameters came first
  const Variable& variable = check_.program.variable(ids.first);
  const PartValue* given = override_of(instance, decl.name.text);
  if (given != nullptr && given->arg->unit) return;  // a unit where a value belongs: reported
  const lang::Expr* value = given != nullptr ? given->arg->value.get() : decl.value.get();
  if (value != nullptr) {
    const ExprScope scope = given != nullptr ? ExprScope{given->scope, nullptr, given->env} : scope_of(instance, v.env);
    Type type = variable.type;
    type.size = ids.size;
    const std::string what = program::is_parameter(variable.role) && given != nullptr
                                 ? fmt::format("parameter `{}{}`", instance.prefix, decl.name.text)
                                 : fmt::format("the value of `{}`", decl.name.text);
    const std::vector<NodeId> nodes = x_.check_elements(*value, scope, type, what);
    for (int i = 0; i < std::max(1, ids.size); ++i)
      set_start(ids.first + i, nodes.empty() ? x_.constant(0) : nodes[static_cast<std::size_t>(i)], value->span);
  } else {
    for (int i = 0; i < std::max(1, ids.size); ++i) missing_value(instance, decl, ids.first + i);
  }
  if (program::is_parameter(variable.role)) param_bounds(instance, v);
}

void Flattener::missing_value(Instance& instance, const lang::VarDecl& v, VarId id) {
  const Role role = check_.program.variable(id).role;
  if (program::is_parameter(role) && !check_.alone) {
    const bool in_part = instance.part != nullptr;
    check_.error(Code::missing, in_part ? instance.part->name.span : v.name.span,
                 fmt::format("parameter `{}` has no value", check_.program.variable(id).name),
                 in_part ? fmt::format("give it: `{} : {}({} = …)`", instance.part->name.text, instance.decl->name.text,
                                       v.name.text)
                         : fmt::format("write `param {} : unit = value`", v.name.text));
  } else if (role == Role::state) {
    check_.error(Code::missing, v.name.span, fmt::format("state `{}` has no start value", v.name.text),
                 fmt::format("write `state {} : unit = value`", v.name.text));
  } else if (role == Role::sampled) {
    set_start(id, x_.constant(0), v.name.span);
  }
}

void Flattener::param_bounds(Instance& instance, const Placed<lang::VarDecl>& v) {
  if (!v.decl->lowest || !v.decl->highest) return;
  const Elements ids = own(instance, v.decl->name.text);
  const Type type = check_.program.variable(ids.first).type;
  const ExprScope scope = scope_of(instance, v.env);
  const auto bound = [&](const lang::Expr& e, const char* what) {
    return check_.constant(x_.check_as(e, scope, type, what), e.span, what);
  };
  const auto low = bound(*v.decl->lowest, "the smallest value");
  const auto high = bound(*v.decl->highest, "the largest value");
  if (!low || !high) return;
  for (VarId id = ids.first; id < ids.first + std::max(1, ids.size); ++id) {
    check_.program.variables[static_cast<std::size_t>(id)].limits = {*low, *high};
    const auto start = check_.start_value.find(id);
    if (start == check_.start_value.end()) continue;
    const auto value = fold(check_.program, start->second, [](VarId) { return std::nullopt; });
    if (!value || (*value >= *low && *value <= *high)) continue;
    const auto given = std::find_if(check_.program.start.begin(), check_.program.start.end(),
                                    [&](const Assignment& a) { return a.target == id; });
    check_.error(Code::out_of_limits, given->span,
                 fmt::format("{} is outside the limits of `{}`: {} to {}", check_.program.format(id, *value),
                             check_.program.variable(id).name, check_.program.format(id, *low),
                             check_.program.format(id, *high)));
  }
}

void Flattener::bounds(Instance& instance) {
  for (const auto& v : instance.members.variables) {
    const Elements ids = own(instance, v.decl->name.text);
    if (v.decl->kind != lang::VarKind::state || !v.decl->lowest || !v.decl->highest || ids.first == kNone ||
        !check_.state_of.contains(ids.first))
      continue;
    Type type = check_.program.variable(ids.first).type;
    type.size = ids.size;
    const ExprScope scope = scope_of(instance, v.env);
    const std::vector<NodeId> low = x_.check_elements(*v.decl->lowest, scope, type, "the lower limit");
    const std::vector<NodeId> high = x_.check_elements(*v.decl->highest, scope, type, "the upper limit");
    for (std::size_t i = 0; i < std::min(low.size(), high.size()); ++i) {
      State& state = check_.program.states[check_.state_of.at(ids.first + static_cast<VarId>(i))];
      state.lowest = low[i];
      state.highest = high[i];
    }
  }
}

// ---- equations ------------------------------------------------------------------------------------------

void Flattener::equations(Instance& instance) {
  for (const auto& e : instance.members.equations) equation(instance, e);
}

void Flattener::equation(Instance& instance, const Placed<lang::Equation>& e) {
  const Target target = equation_target(instance, e);
  const ExprScope scope = scope_of(instance, e.env);
  if (!target.found()) {
    x_.check(*e.decl->value, scope);  // the value may have mistakes of its own
    return;
  }
  bool fresh = true;
  for (const VarId id : target.ids) fresh = claim(id, e.decl->target.span) && fresh;
  Type type = check_.program.variable(target.ids.front()).type;
  type.size = target.vector ? static_cast<int>(target.ids.size()) : 0;
  const std::string name = target.vector ? e.decl->target.text() : check_.program.variable(target.ids.front()).name;
  const std::vector<NodeId> values = x_.check_elements(*e.decl->value, scope, type, fmt::format("`{}`", name));
  if (!fresh) return;
  for (std::size_t i = 0; i < values.size(); ++i) {
    Variable& variable = check_.program.variables[static_cast<std::size_t>(target.ids[i])];
    if (variable.role == Role::input) variable.role = Role::equation;
    check_.program.equations.push_back({target.ids[i], values[i], join(e.decl->target.span, e.decl->value->span)});
  }
}

Target Flattener::equation_target(Instance& instance, const Placed<lang::Equation>& e) {
  Target target = check_.resolve(instance, e.decl->target, e.env);
  if (!target.found()) {
    check_.lost.emplace_back(&instance, e.decl->target.parts.front().text, e.decl->target.parts.back().text);
    return {};
  }
  for (VarId& id : target.ids) {
    id = settable(instance, *e.decl, id);
    if (id == kNone) return {};
  }
  return target;
}

bool Flattener::declared_input(const Instance& part, const std::string& name) const {
  return part.decl != nullptr &&
         std::any_of(part.members.variables.begin(), part.members.variables.end(),
                     [&](const auto& v) { return v.decl->kind == lang::VarKind::input && v.decl->name.text == name; });
}

/// What an equation for `id` gives a value: the variable itself, or the rate of a state.
VarId Flattener::settable(Instance& instance, const lang::Equation& e, VarId id) {
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
      return refuse(fmt::format("`{}` is a sampled value", name), "assign it with `:=` inside `every` or `when`");
    if (role == Role::input)
      return refuse(fmt::format("`{}` is an input", name), "it gets its value from outside, or from a scenario");
    return refuse(fmt::format("`{}` cannot be given by an equation", name));
  }
  if (depth > 2)
    return refuse("only the inputs of a part directly inside can be connected",
                  "connect deeper ones in the model between");
  const bool input = role == Role::input || (role == Role::equation && check_.defined.contains(id));
  const std::string& part = e.target.parts[0].text;
  const bool array = instance.arrays.contains(part);
  const Instance& inside = *instance.parts.at(array ? part + "[1]" : part);
  if (!input || !declared_input(inside, e.target.parts[1].text))
    return refuse(fmt::format("`{}` is not an input", name), "only inputs can be connected from outside");
  return id;
}

void Flattener::solves(Instance& instance) {
  for (const auto& s : instance.members.solves) {
    const lang::SolveDecl& d = *s.decl;
    const ExprScope scope = scope_of(instance, s.env);
    const VarId x = check_.resolve_one(instance, lang::Path(d.name));
    if (x == kNone) continue;
    const Variable variable = check_.program.variable(x);
    const bool solvable = variable.role == Role::equation && variable.type.kind == Type::Kind::real;
    if (!solvable) {
      check_.error(
          Code::wrong_kind, d.name.span,
          fmt::format("`{}` cannot be solved for: it is not a real output or a quantity of its own", d.name.text),
          fmt::format("declare it here: `solve {} : unit from …`", d.name.text));
      continue;
    }
    if (!claim(x, d.span)) continue;
    // left = right as left - right = 0, so that both sides are checked like those of a subtraction.
    lang::Expr difference;
    difference.kind = lang::ExprKind::binary;
    difference.word = "-";
    difference.span = d.span;
    difference.args.push_back(lang::clone(*d.left));
    difference.args.push_back(lang::clone(*d.right));
    const Typed residual = x_.check(difference, scope);
    if (!residual.valid()) continue;
    if (residual.type.size > 0) {
      check_.error(Code::type_mismatch, d.span, "an equation to solve is about single values, not vectors");
      continue;
    }
    ImplicitEquation solve;
    solve.x = x;
    solve.span = d.span;
    solve.residual = residual.node;
    const Node sides = check_.program.node(residual.node);
    solve.scale = x_.node(Op::add, x_.node(Op::abs, sides.a), x_.node(Op::abs, sides.b));
    if (d.start) set_start(x, x_.check_as(*d.start, scope, variable.type, "the first guess"), d.start->span);
    if (d.lowest) {
      solve.lowest = x_.check_as(*d.lowest, scope, variable.type, "the lower bound");
      solve.highest = x_.check_as(*d.highest, scope, variable.type, "the upper bound");
    }
    check_.program.solves.push_back(std::move(solve));
  }
}

// ---- completeness ---------------------------------------------------------------------------------------

void Flattener::check_complete() {
  each(check_.root, &Flattener::complete);
}

void Flattener::complete(Instance& instance) {
  for (const auto& v : instance.members.variables) {
    const std::string& name = v.decl->name.text;
    const Elements ids = own(instance, name);
    if (ids.first == kNone || !check_.program.variable(ids.first).type.valid()) continue;
    const bool meant = std::any_of(check_.lost.begin(), check_.lost.end(), [&](const auto& lost) {
      const auto& [owner, first, last] = lost;
      return owner == instance.parent && instance.part != nullptr &&
             (first == instance.part->name.text || last == name);
    });
    for (VarId id = ids.first; id < ids.first + std::max(1, ids.size) && !meant; ++id) {
      const Variable& variable = check_.program.variable(id);
      const auto state = check_.state_of.find(id);
      const VarId needs = state == check_.state_of.end() ? id : check_.program.states[state->second].derivative;
      if (check_.defined.contains(needs)) continue;
      const std::string element = variable.name.substr(instance.prefix.size());
      if (variable.role == Role::input && !check_.start_value.contains(id)) {
        check_.error(Code::undriven_input, instance.part != nullptr ? instance.part->name.span : v.decl->name.span,
                     fmt::format("nothing is connected to input `{}`", variable.name),
                     fmt::format("connect it: `{} = …`, or give the input a default in its model", variable.name));
      } else if (state != check_.state_of.end()) {
        check_.error(Code::no_equation, v.decl->name.span, fmt::format("state `{}` has no equation", element),
                     fmt::format("give its rate: `{}' = …`", element));
      } else if (variable.role == Role::equation) {
        check_.error(Code::no_equation, v.decl->name.span, fmt::format("`{}` has no equation", element),
                     fmt::format("write `{} = …`", element));
      }
    }
  }
}

}  // namespace isodyne::check
