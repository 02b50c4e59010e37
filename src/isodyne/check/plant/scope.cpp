#include "isodyne/check/plant/scope.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::check {

std::vector<std::string> names_in(const Instance& instance) {
  std::vector<std::string> names;
  for (const auto& [name, id] : instance.variables) {
    if (name.find('[') == std::string::npos) names.push_back(name);
  }
  for (const auto& [name, elements] : instance.vectors) names.push_back(name);
  for (const auto& [name, part] : instance.parts) {
    if (name.find('[') == std::string::npos) names.push_back(name);
  }
  for (const auto& [name, count] : instance.arrays) names.push_back(name);
  return names;
}

std::string describe(const Program& program, const Type& type) {
  if (type.size > 0) {
    Type element = type;
    element.size = 0;
    return fmt::format("{} of {}", type.size, describe(program, element));
  }
  switch (type.kind) {
    case Type::Kind::boolean:
      return "bool";
    case Type::Kind::integer:
      return "int";
    case Type::Kind::choice:
      return "choice " + program.choices[static_cast<std::size_t>(type.choice)].name;
    case Type::Kind::real:
      return type.absolute ? "degC (absolute temperature)" : isodyne::describe(type.dimension);
    case Type::Kind::invalid:
      break;
  }
  return "?";
}

VarId Check::define(Instance& owner, const lang::Name& name, Variable variable) {
  const auto count = static_cast<std::size_t>(std::max(1, variable.type.size));
  if (program.variables.size() + count > kMostVariables) {
    if (!overflow) {
      error(Code::too_large, name.span, fmt::format("this bench has more than {} quantities", kMostVariables),
            "do parts contain each other many times over?");
    }
    overflow = true;
    return 0;
  }
  const auto found = owner.variables.find(name.text);
  const auto vector = owner.vectors.find(name.text);
  const auto part = owner.parts.find(name.text);
  const bool other_part = part != owner.parts.end() && part->second->part != nullptr;
  if (found != owner.variables.end() || vector != owner.vectors.end() || other_part) {
    const VarId first = found != owner.variables.end()  ? found->second
                        : vector != owner.vectors.end() ? vector->second.first
                                                        : kNone;
    error(Code::duplicate, name.span, fmt::format("`{}` is defined twice", name.text), "rename one of them")
        .notes.push_back(
            {first != kNone ? program.variable(first).span : part->second->part->name.span, "the first is here"});
    return first == kNone ? 0 : first;
  }
  const auto id = static_cast<VarId>(program.variables.size());
  variable.span = name.span;
  variable.group = owner.group;
  if (variable.type.size == 0) {
    variable.name = owner.prefix + name.text;
    program.variables.push_back(std::move(variable));
    owner.variables[name.text] = id;
    return id;
  }
  owner.vectors[name.text] = {id, variable.type.size};
  variable.type.size = 0;
  for (std::size_t i = 0; i < count; ++i) {
    const std::string element = fmt::format("{}[{}]", name.text, i + 1);
    variable.name = owner.prefix + element;
    program.variables.push_back(variable);
    owner.variables[element] = id + static_cast<VarId>(i);
  }
  return id;
}

VarId Check::define_hidden(std::string name, Type type, Unit unit, std::int32_t group) {
  Variable v;
  v.group = group;
  v.name = std::move(name);
  v.role = Role::hidden;
  v.type = type;
  v.unit = std::move(unit);
  program.variables.push_back(std::move(v));
  return static_cast<VarId>(program.variables.size() - 1);
}

std::vector<VarId> Check::resolve_start(const lang::Path& path) {
  const auto fault = path.parts.size() == 2 ? root.variables.find(path.parts[0].text) : root.variables.end();
  if (fault == root.variables.end() || program.variable(fault->second).role != Role::fault)
    return resolve(root, path).ids;
  std::vector<std::string> known;
  for (std::size_t i = 0; i < program.variables.size(); ++i) {
    const Variable& v = program.variables[i];
    if (v.role != Role::fault_setting || !v.name.starts_with(path.parts[0].text + ".")) continue;
    if (v.name == path.text()) return {static_cast<VarId>(i)};
    known.push_back(v.name);
  }
  error(Code::unknown_name, path.span,
        fmt::format("fault `{}` has no `{}` that a run can begin with", path.parts[0].text, path.parts[1].text),
        known.empty() ? "a number that is its amount, `from` and `lasting` can be one" : "it has " + listed(known));
  return {};
}

const lang::ModelDecl* Check::model_named(const lang::Name& name) const {
  const auto shadowed = shadowed_models.find(name.text);
  if (shadowed != shadowed_models.end() && program.sources->in_library(name.span)) return shadowed->second;
  const auto found = models.find(name.text);
  return found == models.end() ? nullptr : found->second;
}

void Check::demand(VarId id, Span user) {
  constexpr int kMostDepth = 200;
  if (resolving.contains(id)) {
    error(Code::algebraic_loop, user, fmt::format("the unit of `{}` depends on itself", program.variable(id).name),
          "declare it: `let name : unit = …`");
    return;
  }
  const auto found = pending.find(id);
  if (found == pending.end()) return;
  if (demand_depth >= kMostDepth) {
    error(Code::too_deep, user, fmt::format("more than {} names define each other in a chain here", kMostDepth),
          "declare the unit of some of them: `let name : unit = …`");
    return;
  }
  const std::function<void()> work = std::move(found->second);
  pending.erase(found);
  resolving.insert(id);
  ++demand_depth;
  work();
  --demand_depth;
  resolving.erase(id);
}

void Check::demand_all() {
  std::vector<VarId> waiting;
  for (const auto& [id, work] : pending) waiting.push_back(id);
  std::sort(waiting.begin(), waiting.end());
  for (const VarId id : waiting) demand(id, program.variable(id).span);
}

bool Check::knows(const Instance& from, const lang::Path& path) const {
  const Instance* at = &from;
  for (std::size_t i = 0; i + 1 < path.parts.size(); ++i) {
    const auto part = at->parts.find(path.parts[i].text);
    if (part == at->parts.end()) return at->arrays.contains(path.parts[i].text);
    at = part->second.get();
  }
  const std::string& last = path.parts.back().text;
  return at->variables.contains(last) || at->vectors.contains(last);
}

std::optional<std::string> Check::key(const lang::PathStep& step, const Instance& from, const Env* env) {
  if (!step.index) return step.text;
  const auto index = whole_number(*step.index, &from, env, "the number of an element");
  if (!index) return std::nullopt;
  return fmt::format("{}[{:.0f}]", step.text, *index);
}

/// The last step of a path names a variable, an element or a whole vector.
bool Check::take_last(const Step& step, const Instance& at, Target& target) {
  const lang::PathStep& written = step.written();
  const auto whole = at.vectors.find(written.text);
  if (whole != at.vectors.end() && !written.index) {
    for (int e = 0; e < whole->second.size; ++e) target.ids.push_back(whole->second.first + e);
    target.vector = true;
    return true;
  }
  if (written.all) return false;
  const auto one = at.variables.find(step.key);
  if (one == at.variables.end()) return false;
  target.ids.push_back(one->second);
  return true;
}

void Check::report_unknown(const Step& step, const Instance& at) {
  const lang::PathStep& written = step.written();
  const bool last = step.i + 1 == step.path.parts.size();
  const auto array = at.arrays.find(written.text);
  const auto vector = at.vectors.find(written.text);
  const int size = array != at.arrays.end() ? array->second : vector != at.vectors.end() ? vector->second.size : 0;
  if (size > 0 && written.index) {
    error(Code::out_of_limits, written.span,
          fmt::format("`{}` is not there: `{}` has {}", step.key, written.text,
                      counted(static_cast<std::size_t>(size), "element")),
          fmt::format("count from 1 to {}", size));
    return;
  }
  if (size > 0 && !written.all) {
    error(Code::wrong_kind, written.span, fmt::format("`{}` stands for {} parts", written.text, size),
          fmt::format("name one, `{0}[1]`, or all, `{0}[*]`", written.text));
    return;
  }
  const bool single = at.variables.contains(written.text) || at.parts.contains(written.text);
  if (single && (written.index || written.all)) {
    error(Code::wrong_kind, written.span, fmt::format("`{}` has no elements to choose from", written.text));
    return;
  }
  const bool leaf = !last && (at.variables.contains(step.key) || size > 0);
  if (leaf) {
    const lang::PathStep& next = step.path.parts[step.i + 1];
    error(Code::unknown_name, next.span,
          fmt::format("`{}{}` has no parts, so `.{}` means nothing", step.so_far, written.text, next.text));
    return;
  }
  const auto meant = did_you_mean(written.text, names_in(at));
  error(Code::unknown_name, written.span,
        step.so_far.empty()
            ? fmt::format("nothing here is called `{}`", written.text)
            : fmt::format("`{}` has nothing called `{}`", step.so_far.substr(0, step.so_far.size() - 1), written.text),
        meant.value_or(""));
}

Target Check::resolve(const Instance& from, const lang::Path& path, const Env* env) {
  std::vector<const Instance*> at{&from};
  bool many = false;
  std::string so_far;
  Target target;
  for (std::size_t i = 0; i < path.parts.size(); ++i) {
    const lang::PathStep& written = path.parts[i];
    const auto wanted = key(written, from, env);
    if (!wanted) return {};
    const Step step{path, i, so_far, *wanted};
    const bool last = i + 1 == path.parts.size();
    std::vector<const Instance*> next;
    for (const Instance* instance : at) {
      if (i > 0 && instance->hidden.contains(written.text)) {
        error(Code::private_name, written.span,
              fmt::format("`{}` is private to model `{}`", written.text, instance->decl->name.text),
              "use one of its outputs, or take `private` away in the model");
        return {};
      }
      if (last && take_last(step, *instance, target)) continue;
      const auto array = instance->arrays.find(written.text);
      if (written.all && array != instance->arrays.end()) {
        many = true;
        for (int e = 1; e <= array->second; ++e)
          next.push_back(instance->parts.at(fmt::format("{}[{}]", written.text, e)).get());
        continue;
      }
      const auto part = written.all ? instance->parts.end() : instance->parts.find(*wanted);
      if (part == instance->parts.end()) {
        report_unknown(step, *instance);
        return {};
      }
      next.push_back(part->second.get());
    }
    if (target.found()) {
      if (many && target.vector) {
        error(Code::wrong_kind, path.span, fmt::format("`{}` is a vector of vectors", path.text()),
              "name one element of it: there are no tables of values in the language");
        return {};
      }
      target.vector = target.vector || many;
      return target;
    }
    at = std::move(next);
    so_far += *wanted + ".";
  }
  std::string members;
  for (const auto& name : at.empty() ? std::vector<std::string>{} : names_in(*at.front())) {
    if (!at.front()->hidden.contains(name)) list_on(members, so_far + name);
  }
  error(Code::wrong_kind, path.span, fmt::format("`{}` is a part, not a quantity", path.text()),
        fmt::format("name one of its quantities: {}", members));
  return {};
}

VarId Check::resolve_one(const Instance& from, const lang::Path& path, const Env* env) {
  const Target target = resolve(from, path, env);
  if (!target.found()) return kNone;
  if (!target.vector) return target.ids.front();
  error(Code::wrong_kind, path.span, fmt::format("`{}` is a vector of {} values", path.text(), target.ids.size()),
        fmt::format("name one of them, such as `{}`", program.variable(target.ids.front()).name));
  return kNone;
}

namespace {
/// "Q/s" with the names replaced by what they stand for: "bar/s", "(m/s)/s", and "K/s" for a temperature.
std::string written_out(const std::string& text, const UnitNames& own) {
  std::string out;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find_first_of("*/^()", at), text.size());
    const auto name = own.find(text.substr(at, end - at));
    if (name == own.end()) {
      out += text.substr(at, end - at);
    } else {
      const std::string& unit = difference_unit(name->second).text;
      out += unit.find_first_of("*/^") == std::string::npos ? unit : "(" + unit + ")";
    }
    if (end < text.size()) out += text[end];
    at = end + 1;
  }
  return out;
}
}  // namespace

std::optional<Unit> Check::unit_named(const std::string& text, const Instance* instance) const {
  const UnitNames* own = instance != nullptr && !instance->units.empty() ? &instance->units : nullptr;
  auto unit = parse_unit(text, own);
  if (!unit || own == nullptr || parse_unit(text)) return unit;
  const auto named = own->find(text);
  unit->text = named != own->end() ? named->second.text : written_out(text, *own);
  return unit;
}

Type Check::type_of(const lang::TypeRef& ref, Unit& unit, const Instance* instance, const Env* env) {
  unit = Unit{};
  Type type;
  const auto choice = choices.find(ref.text);
  if (ref.text == "bool") {
    type.kind = Type::Kind::boolean;
  } else if (ref.text == "gate") {
    type.kind = Type::Kind::boolean;
    if (instance == nullptr) {
      error(Code::wrong_kind, ref.span, "a gate has edges within a step, which have no meaning here",
            "write `bool`; gates are inputs, outputs and `let`s of models and benches");
      return {};
    }
  } else if (ref.text == "int") {
    type.kind = Type::Kind::integer;
  } else if (choice != choices.end()) {
    type.kind = Type::Kind::choice;
    type.choice = choice->second;
  } else if (const auto parsed = unit_named(ref.text, instance)) {
    unit = *parsed;
    type.kind = Type::Kind::real;
    type.dimension = unit.dimension;
    type.absolute = unit.absolute();
  } else {
    std::vector<std::string> known = {"bool", "gate", "int"};
    for (const auto& [text, id] : choices) known.push_back(text);
    const auto meant = did_you_mean(ref.text, known);
    error(Code::unknown_unit, ref.span, fmt::format("`{}` is not a unit, `bool`, `int` or a choice", ref.text),
          meant.value_or(unit_advice(ref.text)));
    return {};
  }
  if (!ref.size) return type;
  const auto size = whole_number(*ref.size, instance, env, "the size of a vector");
  if (!size) return {};
  if (*size < 1 || *size > kMostElements) {
    error(Code::out_of_limits, ref.size->span,
          fmt::format("a vector has 1 to {} elements, not {:.0f}", kMostElements, *size));
    return {};
  }
  type.size = static_cast<int>(*size);
  return type;
}

std::optional<double> Check::first_value(VarId id) const {
  int depth = 0;
  std::function<std::optional<double>(VarId)> known = [&](VarId wanted) -> std::optional<double> {
    const auto start = start_value.find(wanted);
    if (start == start_value.end() || depth > 100) return std::nullopt;
    ++depth;
    const auto value = fold(program, start->second, known);
    --depth;
    return value;
  };
  return known(id);
}

std::optional<double> Check::constant(NodeId node, Span span, const char* what) {
  if (node == kNone) return std::nullopt;
  int depth = 0;
  std::function<std::optional<double>(VarId)> known = [&](VarId id) -> std::optional<double> {
    const auto start = start_value.find(id);
    if (program.variable(id).role != Role::fixed_param || depth > 100) return std::nullopt;
    decided.insert(id);
    if (start == start_value.end()) return alone ? std::optional(1.0) : std::nullopt;
    ++depth;
    const auto value = fold(program, start->second, known);
    --depth;
    return value;
  };
  const auto value = fold(program, node, known);
  if (!value) {
    error(Code::not_constant, span, fmt::format("{} must be known before the run", what),
          "use numbers and `fixed param`s only");
  } else if (!std::isfinite(*value)) {
    error(Code::not_constant, span, fmt::format("{} is not a finite number", what));
    return std::nullopt;
  }
  return value;
}

void report_unknown_word(Check& check, const lang::Name& name, const char* what,
                         const std::vector<std::string>& known) {
  std::string all;
  for (const std::string& word : known) list_on(all, word);
  const auto meant = did_you_mean(name.text, known);
  check.error(Code::unknown_name, name.span, fmt::format("there is no {} called `{}`", what, name.text),
              meant.value_or(known.empty() ? "there is none" : fmt::format("there are {}", all)));
}

}  // namespace isodyne::check
