// Names: every quantity of every part gets its variable.

#include "isodyne/check/plant/flatten.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/check/plant/groups.h"
#include "isodyne/core/text.h"

namespace isodyne::check {

namespace {
constexpr const char* kInactive = "inactive";

Type choice_type(std::int32_t choice) {
  return {Type::Kind::choice, {}, choice};
}

Role role_of(const lang::VarDecl& v, bool assigned, bool of_element) {
  if (of_element && v.is_output) return Role::network;
  switch (v.kind) {
    case lang::VarKind::param:
      return Role::param;
    case lang::VarKind::fixed_param:
      return Role::fixed_param;
    case lang::VarKind::input:
      return Role::input;
    case lang::VarKind::state:
      return Role::state;
    case lang::VarKind::memory:
      return Role::sampled;
    case lang::VarKind::output:
      return assigned ? Role::sampled : Role::equation;
    case lang::VarKind::let:
      break;
  }
  return Role::equation;
}
}  // namespace

void Flattener::declare(const lang::ModelDecl& root) {
  check_.root.decl = &root;
  Variable time;
  time.name = "time";
  time.role = Role::time;
  time.unit = *parse_unit("s");
  time.type = {Type::Kind::real, time.unit.dimension, kNone};
  time.doc = "time since the start of the run";
  check_.program.variables.push_back(std::move(time));
  check_.define_hidden("seed", {Type::Kind::real, {}, kNone});
  Place& ground = check_.places.emplace_back();
  ground.path = "ground";
  ground.kind = "electric";
  declare_members(check_.root, 0);
}

void Flattener::declare_members(Instance& instance, int depth) {
  declare_units(instance);
  declare_tables(instance);
  note_assigned(instance, *instance.decl);
  // Sizes, loops and variants may depend on fixed parameters, so those come first.
  const std::vector<lang::VarDecl>& direct = instance.decl->variables;
  for (const lang::VarDecl& v : direct) {
    if (v.kind != lang::VarKind::fixed_param) continue;
    declare_variable(instance, v, nullptr);
    first_value(instance, {&v, nullptr});
  }
  for (const lang::VarDecl& v : direct) {
    if (v.kind != lang::VarKind::fixed_param) declare_variable(instance, v, nullptr);
  }
  expand(instance, *instance.decl, nullptr, true);
  for (const auto& v : instance.members.variables) {
    const bool done = v.decl >= direct.data() && v.decl < direct.data() + direct.size();
    if (!done) declare_variable(instance, *v.decl, v.env);
  }
  for (const auto& s : instance.members.solves) declare_solve(instance, *s.decl, s.env);
  for (const auto& m : instance.members.modes) declare_machine(instance, *m.decl, kNone, 0);
  for (const auto& p : instance.members.places) declare_place(instance, *p.decl, p.env);
  for (const auto& p : instance.members.parts) declare_part(instance, p, depth);
  for (const auto& p : instance.members.parts) lie(instance, p);
  check_overrides(instance);
}

void Flattener::declare_units(Instance& instance) {
  for (const lang::UnitDecl& u : instance.decl->units) {
    if (parse_unit(u.name.text)) {
      check_.error(Code::duplicate, u.name.span, fmt::format("`{}` is a unit already", u.name.text),
                   "choose another name, such as `Q`");
      continue;
    }
    const lang::TypeRef* chosen = &u.usual;
    const UnitNames* names = nullptr;
    if (const PartValue* given = override_of(instance, u.name.text); given != nullptr && given->arg->unit) {
      chosen = &*given->arg->unit;
      names = &given->scope->units;
    }
    const auto unit = parse_unit(chosen->text, names);
    if (!unit)
      check_.error(Code::unknown_unit, chosen->span, fmt::format("`{}` is not a unit", chosen->text),
                   unit_advice(chosen->text));
    Unit own = unit ? *unit : parse_unit(u.usual.text).value_or(Unit{});  // one message for one cause
    if (names != nullptr && names->contains(chosen->text)) own.text = names->find(chosen->text)->second.text;
    if (!instance.units.emplace(u.name.text, own).second)
      check_.error(Code::duplicate, u.name.span, fmt::format("`{}` is defined twice", u.name.text));
  }
}

void Flattener::declare_tables(Instance& instance) {
  for (const lang::TableDecl& t : instance.decl->tables) {
    if (is_function_word(t.name.text) || check_.functions.contains(t.name.text))
      check_.error(Code::duplicate, t.name.span, fmt::format("`{}` is a function already", t.name.text),
                   "rename the table");
    if (!instance.tables.emplace(t.name.text, table_given(instance, t)).second)
      check_.error(Code::duplicate, t.name.span, fmt::format("`{}` is defined twice", t.name.text));
  }
}

/// Null: none, which has been reported unless the model is looked at on its own.
const lang::TableDecl* Flattener::table_given(const Instance& instance, const lang::TableDecl& wanted) {
  const PartValue* given = override_of(instance, wanted.name.text);
  if (given == nullptr || given->arg->value == nullptr) {
    if (instance.part != nullptr)
      check_.error(Code::missing, instance.part->name.span,
                   fmt::format("`{}` needs a table for `{}`", instance.part->name.text, wanted.name.text),
                   fmt::format("give it one: `{} : {}({} = …)`", instance.part->name.text, instance.decl->name.text,
                               wanted.name.text));
    return nullptr;
  }
  const lang::Expr& value = *given->arg->value;
  const bool name = value.kind == lang::ExprKind::name && value.path.parts.size() == 1 && !value.path.parts[0].index;
  const std::string text = name ? value.path.parts[0].text : "";
  const auto outer = given->scope->tables.find(text);
  const auto known = check_.table_decls.find(text);
  const bool is_outer = name && outer != given->scope->tables.end();
  if (!is_outer && (!name || known == check_.table_decls.end())) {
    std::vector<std::string> names;
    for (const auto& [n, t] : check_.table_decls) names.push_back(n);
    for (const auto& [n, t] : given->scope->tables) names.push_back(n);
    const auto meant = did_you_mean(text, names);
    check_.error(
        Code::unknown_name, value.span,
        name ? fmt::format("there is no table called `{}`", text)
             : fmt::format("`{}` is a table, so it is given the name of one", wanted.name.text),
        meant.value_or(fmt::format("write one outside of models: `table NAME({}: {}) -> {} = …`",
                                   wanted.params[0].name.text, wanted.params[0].type.text, wanted.result.text)));
    return nullptr;
  }
  const lang::TableDecl* const table = is_outer ? outer->second : known->second;
  if (table == nullptr) return nullptr;
  const auto type = [&](const lang::TypeRef& ref) {
    Unit unit;
    return check_.type_of(ref, unit);
  };
  bool same = table->params.size() == wanted.params.size() && type(table->result) == type(wanted.result);
  for (std::size_t i = 0; same && i < wanted.params.size(); ++i)
    same = type(table->params[i].type) == type(wanted.params[i].type);
  if (same) return table;
  const auto described = [&](const lang::TableDecl& t) {
    std::string all;
    for (const auto& p : t.params) all += (all.empty() ? "" : ", ") + p.type.text;
    return fmt::format("from {} to {}", all, t.result.text);
  };
  check_
      .error(Code::unit_mismatch, value.span,
             fmt::format("`{}` is a table {}, but `{}` is one {}", text, described(*table), wanted.name.text,
                         described(wanted)))
      .notes.push_back({wanted.name.span, "it is declared here"});
  return nullptr;
}

// ---- loops and variants -----------------------------------------------------------------------------------

void Flattener::expand(Instance& instance, const lang::Members& members, const Env* env, bool outside) {
  Expanded& all = instance.members;
  const auto place = [&](const auto& from, auto& to) {
    for (const auto& decl : from) to.push_back({&decl, env});
  };
  if (env != nullptr && !outside) {
    for (const lang::VarDecl& v : members.variables) {
      check_.error(Code::wrong_kind, v.name.span, "a quantity cannot be declared again and again inside `for`",
                   fmt::format("declare a vector before the loop: `{} : unit[size]`", v.name.text));
    }
    for (const lang::PlaceDecl& p : members.places) {
      check_.error(Code::wrong_kind, p.name.span, "a place cannot be declared again and again inside `for`",
                   fmt::format("declare a vector before the loop: `node {} : {}[size]`", p.name.text, p.kind.text));
    }
    for (const lang::PartDecl& p : members.parts) {
      check_.error(Code::wrong_kind, p.name.span, "a part cannot be declared again and again inside `for`",
                   fmt::format("declare an array before the loop: `part {}[size] : {}`", p.name.text, p.model.text));
    }
  } else {
    place(members.variables, all.variables);
    place(members.places, all.places);
    place(members.parts, all.parts);
  }
  place(members.equations, all.equations);
  place(members.modes, all.modes);
  place(members.periodic_tasks, all.periodic_tasks);
  place(members.events, all.events);
  place(members.solves, all.solves);
  for (const lang::VariantDecl& v : members.variants) {
    if (holds(instance, v, env)) {
      expand(instance, *v.yes, env, outside);
    } else if (v.no != nullptr) {
      expand(instance, *v.no, env, outside);
    }
  }
  for (const lang::LoopDecl& l : members.loops)
    repeat(instance, l.head, env, [&](const Env* inner) { expand(instance, *l.body, inner, false); });
}

void Flattener::repeat(Instance& instance, const lang::LoopHead& head, const Env* env,
                       const std::function<void(const Env*)>& body) {
  const auto low = check_.whole_number(*head.low, &instance, env, "the first number of a loop");
  const auto high = check_.whole_number(*head.high, &instance, env, "the last number of a loop");
  if (!low || !high) return;
  for (double i = *low; i <= *high && !check_.overflow; ++i) {
    body(&check_.environments.emplace_back(Env{env, head.variable.text, i}));
    const std::size_t made = std::max(check_.environments.size(), instance.members.equations.size());
    if (made <= Check::kMostVariables) continue;
    check_.error(Code::too_large, head.span, fmt::format("loops run more than {} times in all", Check::kMostVariables));
    check_.overflow = true;
  }
}

bool Flattener::holds(Instance& instance, const lang::VariantDecl& variant, const Env* env) {
  const NodeId node = x_.check_truth(*variant.condition, scope_of(instance, env), "the condition of a variant");
  const auto value = check_.constant(node, variant.condition->span, "the condition of a variant");
  return value.value_or(0) != 0;
}

void Flattener::note_assigned(Instance& instance, const lang::ModesDecl& modes) {
  for (const lang::ModesDecl::Body& body : modes.bodies) {
    note_assigned(instance, body.entry);
    note_assigned(instance, body.exit);
    for (const lang::ModesDecl& inside : body.inside) note_assigned(instance, inside);
  }
}

void Flattener::note_assigned(Instance& instance, const std::vector<lang::Action>& actions) {
  for (const lang::Action& a : actions) {
    if (a.kind == lang::Action::Kind::assign) instance.assigned.insert(a.target.parts[0].text);
    note_assigned(instance, a.body);
    note_assigned(instance, a.otherwise);
  }
}

void Flattener::note_assigned(Instance& instance, const lang::Members& members) {
  for (const lang::EveryDecl& e : members.periodic_tasks) note_assigned(instance, e.actions);
  for (const lang::WhenDecl& w : members.events) note_assigned(instance, w.actions);
  for (const lang::ModesDecl& m : members.modes) note_assigned(instance, m);
  for (const lang::LoopDecl& l : members.loops) note_assigned(instance, *l.body);
  for (const lang::VariantDecl& v : members.variants) {
    note_assigned(instance, *v.yes);
    if (v.no != nullptr) note_assigned(instance, *v.no);
  }
}

// ---- quantities ---------------------------------------------------------------------------------------------

Elements Flattener::own(const Instance& instance, const std::string& name) const {
  const auto vector = instance.vectors.find(name);
  if (vector != instance.vectors.end()) return vector->second;
  const auto found = instance.variables.find(name);
  return found == instance.variables.end() ? Elements{} : Elements{found->second, 0};
}

bool Flattener::declared_here(const Instance& instance, const lang::Name& name) const {
  const VarId id = own(instance, name.text).first;
  return id != kNone && check_.program.variable(id).span.begin == name.span.begin &&
         check_.program.variable(id).span.source == name.span.source;
}

void Flattener::declare_variable(Instance& instance, const lang::VarDecl& v, const Env* env) {
  Variable variable;
  variable.doc = v.doc;
  variable.role = role_of(v, instance.assigned.contains(v.name.text), instance.decl->element);
  variable.given = v.given;
  if (v.type) {
    variable.type = check_.type_of(*v.type, variable.unit, &instance, env);
    variable.gate = v.type->text == "gate";
    const bool may = variable.role == Role::input || variable.role == Role::equation || variable.role == Role::network;
    if (variable.gate && !may) {
      const bool fixed = variable.role == Role::param || variable.role == Role::fixed_param;
      check_.error(Code::wrong_kind, v.type->span,
                   fixed ? fmt::format("parameter `{}` has no edges, so it is no gate", v.name.text)
                         : fmt::format("a gate has no memory, so `{}` cannot be one", v.name.text),
                   "write `bool`, or give a gate by an equation");
      variable.gate = false;
    }
  } else if (v.kind != lang::VarKind::let) {
    check_.error(Code::missing, v.name.span, fmt::format("`{}` needs a unit", v.name.text),
                 fmt::format("write `{} : m`, `{} : 1` for a plain number, or `{} : bool`", v.name.text, v.name.text,
                             v.name.text));
  }
  if (v.is_private) instance.hidden.insert(v.name.text);
  const std::size_t before = check_.program.variables.size();
  const int size = std::max(1, variable.type.size);
  const VarId id = check_.define(instance, v.name, std::move(variable));
  if (v.kind != lang::VarKind::state || instance.decl->element || check_.program.variables.size() == before) return;
  for (int i = 0; i < size; ++i) declare_state(instance, v, id + i);
}

void Flattener::declare_state(Instance&, const lang::VarDecl& v, VarId id) {
  const Variable& x = check_.program.variable(id);
  if (x.type.valid() && x.type.kind != Type::Kind::real) {
    check_.error(Code::type_mismatch, v.type->span,
                 fmt::format("a state is a real quantity; `{}` is {}", v.name.text, describe(check_.program, x.type)),
                 "what jumps from value to value is a `memory` or `modes`");
    return;
  }
  const auto rate = divide(x.type.dimension, parse_unit("s")->dimension).value_or(Dimension{});
  State state;
  state.value = id;
  state.equation = v.name.span;
  state.derivative = check_.define_hidden(x.name + "'", {x.type.kind, rate, kNone}, si_unit(rate), x.group);
  check_.state_of[id] = check_.program.states.size();
  check_.program.states.push_back(state);
}

void Flattener::declare_machine(Instance& instance, const lang::ModesDecl& m, std::int32_t outer, int outer_mode) {
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
    if (outer != kNone) choice.labels.emplace_back(kInactive);
    check_.program.choices.push_back(std::move(choice));
  }
  const Choice& choice = check_.program.choices[static_cast<std::size_t>(known->second)];
  const auto modes = static_cast<int>(choice.labels.size()) - (outer != kNone ? 1 : 0);
  Variable mode;
  mode.role = Role::mode;
  mode.doc = m.doc;
  mode.type = choice_type(known->second);
  StateMachine machine;
  const std::size_t before = check_.program.variables.size();
  machine.mode = check_.define(instance, m.name, std::move(mode));
  if (check_.program.variables.size() == before) return;
  machine.outer = outer;
  machine.outer_mode = outer_mode;
  if (outer != kNone) machine.inactive = modes;
  const Unit second = *parse_unit("s");
  machine.entered = check_.define_hidden(instance.prefix + m.name.text + " entered",
                                         {Type::Kind::real, second.dimension, kNone}, second);
  machine.entry.resize(static_cast<std::size_t>(modes));
  machine.exit.resize(static_cast<std::size_t>(modes));
  const auto index = static_cast<std::int32_t>(check_.program.machines.size());
  machine_of_[machine.mode] = check_.program.machines.size();
  check_.program.machines.push_back(std::move(machine));
  for (const lang::ModesDecl::Body& body : m.bodies) {
    const auto& labels = check_.program.choices[static_cast<std::size_t>(mode_choices_.at(&m))].labels;
    const auto at = std::find(labels.begin(), labels.begin() + modes, body.mode.text);
    if (at == labels.begin() + modes) {
      check_.error(Code::unknown_name, body.mode.span,
                   fmt::format("`{}` has no mode `{}`", m.name.text, body.mode.text),
                   "a mode is named by the transitions that lead to it");
      continue;
    }
    const int number = static_cast<int>(at - labels.begin());
    for (const lang::ModesDecl& inside : body.inside) declare_machine(instance, inside, index, number);
  }
}

void Flattener::declare_solve(Instance& instance, const lang::SolveDecl& s, const Env* env) {
  if (!s.type) return;  // an output of this model, declared as such
  Variable variable;
  variable.doc = s.doc;
  variable.role = Role::equation;
  variable.type = check_.type_of(*s.type, variable.unit, &instance, env);
  check_.define(instance, s.name, std::move(variable));
}

// ---- parts --------------------------------------------------------------------------------------------------

const PartValue* Flattener::override_of(const Instance& instance, const std::string& name) const {
  for (const PartValue& o : instance.overrides) {
    const auto& steps = o.arg->target.parts;
    if (o.depth + 1 == steps.size() && steps[o.depth].text == name && !steps[o.depth].index) return &o;
  }
  return nullptr;
}

void Flattener::declare_part(Instance& instance, const Placed<lang::PartDecl>& placed, int depth) {
  constexpr int kMostDepth = 50;
  const lang::PartDecl& p = *placed.decl;
  const lang::ModelDecl* const model = check_.model_named(p.model);
  if (model == nullptr) {
    std::vector<std::string> known;
    for (const auto& [name, decl] : check_.models) known.push_back(name);
    const auto meant = did_you_mean(p.model.text, known);
    check_.error(Code::unknown_name, p.model.span, fmt::format("there is no model called `{}`", p.model.text),
                 meant.value_or("is the file that defines it in `use`?"));
    return;
  }
  if (std::find(nesting_.begin(), nesting_.end(), model) != nesting_.end() || depth >= kMostDepth) {
    check_.error(Code::recursion, p.model.span, fmt::format("model `{}` contains itself", p.model.text));
    return;
  }
  if (own(instance, p.name.text).first != kNone || instance.parts.contains(p.name.text) ||
      instance.arrays.contains(p.name.text)) {
    check_.error(Code::duplicate, p.name.span, fmt::format("`{}` is defined twice", p.name.text), "rename one of them");
    return;
  }
  if (p.is_private) instance.hidden.insert(p.name.text);
  if (!p.count) {
    place_part(instance, placed, p.name.text, *model, placed.env, depth);
    return;
  }
  const auto count = check_.whole_number(*p.count, &instance, placed.env, "the number of parts");
  if (!count) return;
  if (*count < 1 || *count > Check::kMostElements) {
    check_.error(Code::out_of_limits, p.count->span,
                 fmt::format("an array has 1 to {} parts, not {:.0f}", Check::kMostElements, *count));
    return;
  }
  instance.arrays[p.name.text] = static_cast<int>(*count);
  for (int i = 1; i <= static_cast<int>(*count); ++i) {
    const Env& env = check_.environments.emplace_back(Env{placed.env, "index", static_cast<double>(i)});
    place_part(instance, placed, fmt::format("{}[{}]", p.name.text, i), *model, &env, depth);
  }
}

void Flattener::place_part(Instance& instance, const Placed<lang::PartDecl>& placed, const std::string& name,
                           const lang::ModelDecl& model, const Env* env, int depth) {
  if (check_.overflow) return;
  const lang::PartDecl& p = *placed.decl;
  if (check_.program.parts.size() >= Check::kMostParts) {
    check_.error(Code::too_large, p.name.span, fmt::format("this bench has more than {} parts", Check::kMostParts),
                 "do parts contain each other many times over?");
    check_.overflow = true;
    return;
  }
  auto child = std::make_unique<Instance>();
  child->decl = &model;
  child->prefix = instance.prefix + name + ".";
  child->parent = &instance;
  child->part = &p;
  child->group = group_of(instance, p, env);
  // What comes from further outside wins, so it stands first.
  for (const PartValue& o : instance.overrides) {
    const auto& steps = o.arg->target.parts;
    if (o.depth + 1 >= steps.size()) continue;
    const lang::PathStep& step = steps[o.depth];
    const bool all = step.all && step.text == p.name.text && p.count != nullptr;
    if (all || check_.key(step, *o.scope, o.env) == name) {
      PartValue inner = o;
      ++inner.depth;
      child->overrides.push_back(inner);
    }
  }
  for (const lang::PartDecl::Arg& arg : p.args) child->overrides.push_back({&arg, 0, &instance, env});
  check_.program.parts.push_back(
      {instance.prefix + name, p.model.text, p.doc.empty() ? model.doc : p.doc, p.name.span});
  Instance& made = *(instance.parts[name] = std::move(child));
  if (model.element) check_.elements.push_back(&made);
  nesting_.push_back(&model);
  declare_members(made, depth + 1);
  nesting_.pop_back();
}

std::int32_t Flattener::core_of(const lang::Expr& number, Instance& instance, const Env* env) {
  const auto core = check_.whole_number(number, &instance, env, "the number of a core");
  if (!core) return 0;
  if (*core >= 0 && *core < kMostCores) return static_cast<std::int32_t>(*core);
  check_.error(Code::out_of_limits, number.span,
               fmt::format("a plant is stepped on cores 0 to {}, not on core {}", kMostCores - 1, *core),
               "core 0 is that of the bench");
  return 0;
}

/// The group of a part: that of what it is part of, unless it has a step, a method or a core of its own.
std::int32_t Flattener::group_of(Instance& instance, const lang::PartDecl& p, const Env* env) {
  GroupDraft wanted = check_.groups[static_cast<std::size_t>(instance.group)];
  wanted.span = p.name.span;
  if (p.step) {
    wanted.step = x_.check_span(*p.step, scope_of(instance, env), "the step of a part");
    if (wanted.step && wanted.step->count() == 0) {
      check_.error(Code::bad_period, p.step->span, "the step must be at least 1 ns");
      wanted.step.reset();
    }
  }
  if (p.method) wanted.method = method_of(check_, *p.method);
  if (p.core) wanted.core = core_of(*p.core, instance, env);
  for (std::size_t i = 0; i < check_.groups.size(); ++i) {
    const GroupDraft& known = check_.groups[i];
    if (known.step == wanted.step && known.method == wanted.method && known.core == wanted.core)
      return static_cast<std::int32_t>(i);
  }
  check_.groups.push_back(wanted);
  return static_cast<std::int32_t>(check_.groups.size() - 1);
}

/// Every value given from outside must have found what it is for.
void Flattener::check_overrides(Instance& instance) {
  std::set<std::pair<const Instance*, std::string>> given;  // from further outside it may be given again
  for (const PartValue& o : instance.overrides) {
    const lang::PathStep& step = o.arg->target.parts[o.depth];
    if (o.depth + 1 < o.arg->target.parts.size()) {
      const auto array = instance.arrays.find(step.text);
      const auto name = check_.key(step, *o.scope, o.env);
      const bool there = array != instance.arrays.end() ? step.all || (name && instance.parts.contains(*name))
                                                        : !step.index && instance.parts.contains(step.text);
      if (there) continue;
      if (array != instance.arrays.end()) {
        check_.error(Code::out_of_limits, step.span,
                     fmt::format("`{}` has {} parts; say which: `{}[1]`, or all: `{}[*]`", step.text, array->second,
                                 step.text, step.text));
        continue;
      }
      const auto meant = did_you_mean(step.text, names_in(instance));
      check_.error(Code::unknown_name, step.span,
                   fmt::format("model `{}` has no part `{}`", instance.decl->name.text, step.text), meant.value_or(""));
      continue;
    }
    if (o.arg->unit) {
      if (!instance.units.contains(step.text))
        check_.error(Code::unknown_name, step.span,
                     fmt::format("model `{}` lets no unit `{}` be chosen", instance.decl->name.text, step.text),
                     fmt::format("a value is given with `=`: `{} = …`", step.text));
      continue;
    }
    if (instance.tables.contains(step.text) && !step.index && !step.all) {
      if (!given.emplace(o.scope, step.text).second)
        check_.error(Code::duplicate, step.span, fmt::format("table `{}` is given twice", step.text));
      continue;
    }
    const VarId id = own(instance, step.text).first;
    const Role role = id == kNone ? Role::hidden : check_.program.variable(id).role;
    const bool settable = role == Role::param || role == Role::fixed_param || role == Role::state ||
                          (role == Role::sampled && !step.index);
    if (!settable || step.index || step.all) {
      std::vector<std::string> params;
      for (const lang::VarDecl& v : instance.decl->variables) {
        if (v.kind == lang::VarKind::param || v.kind == lang::VarKind::fixed_param) params.push_back(v.name.text);
      }
      const auto meant = did_you_mean(step.text, params);
      check_.error(id == kNone ? Code::unknown_name : Code::wrong_kind, step.span,
                   fmt::format("model `{}` has no parameter `{}`", instance.decl->name.text, step.text),
                   meant         ? *meant
                   : id != kNone ? fmt::format("connect an input with an equation: `{}.{} = …`",
                                               instance.part->name.text, step.text)
                                 : std::string{});
    } else if (!given.emplace(o.scope, step.text).second) {
      check_.error(Code::duplicate, step.span, fmt::format("parameter `{}` is given twice", step.text));
    }
  }
}

}  // namespace isodyne::check
