#include "isodyne/model/scope.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::model {

std::vector<std::string> names_in(const Instance& instance) {
  std::vector<std::string> names;
  for (const auto& [name, id] : instance.variables) names.push_back(name);
  for (const auto& [name, part] : instance.parts) names.push_back(name);
  return names;
}

std::string describe(const Program& program, const Type& type) {
  switch (type.kind) {
    case Type::Kind::boolean:
      return "bool";
    case Type::Kind::integer:
      return "int";
    case Type::Kind::choice:
      return "choice " + program.choices[static_cast<std::size_t>(type.choice)].name;
    case Type::Kind::real:
      return isodyne::describe(type.dimension);
    case Type::Kind::invalid:
      break;
  }
  return "?";
}

VarId Check::define(Instance& owner, const lang::Name& name, Variable variable) {
  if (program.variables.size() >= kMostVariables) {
    if (!overflow) {
      error(Code::too_large, name.span, fmt::format("this bench has more than {} quantities", kMostVariables),
            "do parts contain each other many times over?");
    }
    overflow = true;
    return 0;
  }
  const auto found = owner.variables.find(name.text);
  const auto part = owner.parts.find(name.text);
  if (found != owner.variables.end() || (part != owner.parts.end() && part->second->part != nullptr)) {
    Diagnostic& d =
        error(Code::duplicate, name.span, fmt::format("`{}` is defined twice", name.text), "rename one of them");
    if (found == owner.variables.end()) {
      d.notes.push_back({part->second->part->name.span, "the first is here"});
      return 0;
    }
    d.notes.push_back({program.variable(found->second).span, "the first is here"});
    return found->second;
  }
  variable.name = owner.prefix + name.text;
  variable.span = name.span;
  program.variables.push_back(std::move(variable));
  const auto id = static_cast<VarId>(program.variables.size() - 1);
  owner.variables[name.text] = id;
  return id;
}

VarId Check::define_hidden(std::string name, Type type, Unit unit) {
  Variable v;
  v.name = std::move(name);
  v.role = Role::hidden;
  v.type = type;
  v.unit = std::move(unit);
  program.variables.push_back(std::move(v));
  return static_cast<VarId>(program.variables.size() - 1);
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

VarId Check::find(const Instance& from, const lang::Path& path) const {
  const Instance* at = &from;
  for (std::size_t i = 0; i + 1 < path.parts.size(); ++i) {
    const auto part = at->parts.find(path.parts[i].text);
    if (part == at->parts.end()) return kNone;
    at = part->second.get();
  }
  const auto found = at->variables.find(path.parts.back().text);
  return found == at->variables.end() ? kNone : found->second;
}

VarId Check::resolve(const Instance& from, const lang::Path& path) {
  const Instance* at = &from;
  std::string so_far;
  for (std::size_t i = 0; i < path.parts.size(); ++i) {
    const lang::Name& name = path.parts[i];
    const bool last = i + 1 == path.parts.size();
    if (last) {
      const auto found = at->variables.find(name.text);
      if (found != at->variables.end()) return found->second;
    }
    const auto part = at->parts.find(name.text);
    if (part == at->parts.end()) {
      const bool leaf = at->variables.contains(name.text);
      const auto meant = closest(name.text, names_in(*at));
      error(Code::unknown_name, leaf ? path.parts[i + 1].span : name.span,
            leaf ? fmt::format("`{}{}` has no parts, so `.{}` means nothing", so_far, name.text, path.parts[i + 1].text)
            : so_far.empty()
                ? fmt::format("nothing here is called `{}`", name.text)
                : fmt::format("`{}` has nothing called `{}`", so_far.substr(0, so_far.size() - 1), name.text),
            meant && !leaf ? fmt::format("did you mean `{}`?", *meant) : std::string{});
      return kNone;
    }
    at = part->second.get();
    so_far += name.text + ".";
  }
  std::string members;
  for (const auto& [name, id] : at->variables) members += (members.empty() ? "" : ", ") + so_far + name;
  error(Code::wrong_kind, path.span, fmt::format("`{}` is a part, not a quantity", path.text()),
        fmt::format("name one of its quantities: {}", members));
  return kNone;
}

Type Check::type_of(const lang::TypeRef& ref, Unit& unit) {
  unit = Unit{};
  if (ref.text == "bool") return {Type::Kind::boolean, {}, kNone};
  if (ref.text == "int") return {Type::Kind::integer, {}, kNone};
  const auto choice = choices.find(ref.text);
  if (choice != choices.end()) return {Type::Kind::choice, {}, choice->second};
  if (const auto parsed = parse_unit(ref.text)) {
    unit = *parsed;
    return {Type::Kind::real, parsed->dimension, kNone};
  }
  std::vector<std::string> known = unit_names();
  for (const auto& [text, id] : choices) known.push_back(text);
  known.insert(known.end(), {"bool", "int"});
  const auto meant = closest(ref.text, known);
  error(Code::unknown_unit, ref.span, fmt::format("`{}` is not a unit, `bool`, `int` or a choice", ref.text),
        meant ? fmt::format("did you mean `{}`?", *meant) : "units are written like `m`, `m/s^2`, `kg/(m*s)` or `1`");
  return {};
}

std::optional<double> Check::constant(NodeId node, Span span, const char* what) {
  if (node == kNone) return std::nullopt;
  int depth = 0;
  std::function<std::optional<double>(VarId)> known = [&](VarId id) -> std::optional<double> {
    const auto start = start_value.find(id);
    if (program.variable(id).role != Role::fixed_param || start == start_value.end() || depth > 100)
      return std::nullopt;
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

}  // namespace isodyne::model
