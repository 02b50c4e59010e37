#include "isodyne/remote/values.h"

#include <charconv>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::remote {

namespace {

using Kind = program::Type::Kind;
constexpr std::size_t kMostNames = 10'000;

Failure wrong(const program::Variable& v, const std::string& what) {
  return Failure{fmt::format("`{}` {}", v.name, what), "", ""};
}

Result<double> quantity(const program::Variable& v, const std::string& text) {
  double number = 0;
  const char* const end = text.data() + text.size();
  const auto [rest, trouble] = std::from_chars(text.data(), end, number);
  if (trouble != std::errc{}) return wrong(v, fmt::format("is a number with a unit, such as \"2 {}\"", v.unit.text));
  std::string_view unit_text(rest, static_cast<std::size_t>(end - rest));
  while (!unit_text.empty() && unit_text.front() == ' ') unit_text.remove_prefix(1);
  while (!unit_text.empty() && unit_text.back() == ' ') unit_text.remove_suffix(1);
  if (unit_text.empty() && !v.unit.dimension.none())
    return wrong(v, fmt::format("needs a unit, such as \"{} {}\"", format_number(number), v.unit.text));
  const auto unit = parse_unit(unit_text.empty() ? "1" : unit_text);
  if (!unit) return wrong(v, fmt::format("cannot have the unit `{}`: {}", unit_text, unit_advice(unit_text)));
  if (unit->dimension != v.unit.dimension || unit->absolute() != v.unit.absolute())
    return wrong(v, fmt::format("is in {}, and {} is no such unit", v.unit.text, unit_text));
  return number * unit->factor + unit->offset;
}

Result<double> label(const program::Program& p, const program::Variable& v, const std::string& text) {
  const auto& labels = at(p.choices, v.type.choice).labels;
  for (std::size_t i = 0; i < labels.size(); ++i) {
    if (labels[i] == text) return static_cast<double>(i);
  }
  return wrong(v, "is one of: " + listed(labels));
}

}  // namespace

Result<double> read_value(const program::Program& p, program::VarId id, const Json& value) {
  const program::Variable& v = p.variable(id);
  const std::string text = value.is_string() ? value.get<std::string>() : "";
  switch (v.type.kind) {
    case Kind::boolean:
      if (value.is_boolean()) return value.get<bool>() ? 1.0 : 0.0;
      if (text == "true" || text == "false") return text == "true" ? 1.0 : 0.0;
      return wrong(v, "is true or false");
    case Kind::choice:
      if (value.is_string()) return label(p, v, text);
      return wrong(v, "is one of: " + listed(at(p.choices, v.type.choice).labels));
    case Kind::integer:
    case Kind::real:
    case Kind::invalid:
      break;
  }
  if (value.is_string()) return quantity(v, text);
  if (!value.is_number()) return wrong(v, "is a number");
  if (!v.unit.dimension.none())
    return wrong(v, fmt::format("needs a unit: write \"{} {}\"", value.dump(), v.unit.text));
  return value.get<double>();
}

Json value_of(const program::Program& p, program::VarId id, double value) {
  return {{"si", std::isfinite(value) ? Json(value) : Json(nullptr)}, {"read", p.format(id, value)}};
}

Result<std::vector<program::VarId>> named(const program::Program& p, const Json& names) {
  if (!names.is_array() || names.empty()) return Failure{"\"names\" is a list of names", "", ""};
  std::vector<program::VarId> all;
  std::vector<char> taken(p.variables.size(), 0);
  const auto take = [&](program::VarId id) {
    if (taken[static_cast<std::size_t>(id)] == 0) all.push_back(id);
    taken[static_cast<std::size_t>(id)] = 1;
  };
  for (const Json& name : names) {
    if (!name.is_string()) return Failure{"\"names\" is a list of names", "", ""};
    const std::string& text = *name.get_ptr<const std::string*>();
    const std::size_t before = all.size();
    for (const program::VarId id : p.listed) {
      const program::Variable& v = p.variable(id);
      if (program::role_text(v.role) != nullptr && (v.name == text || matches(text, v.name))) take(id);
    }
    if (all.size() == before) {
      std::vector<std::string> known;
      for (const program::VarId id : p.listed) known.push_back(p.variable(id).name);
      const auto meant = did_you_mean(text, known);
      return Failure{fmt::format("there is no quantity `{}`{}", text.substr(0, 200), meant ? "; " + *meant : ""), "",
                     ""};
    }
    if (all.size() > kMostNames) return Failure{fmt::format("these are more than {} quantities", kMostNames), "", ""};
  }
  return all;
}

}  // namespace isodyne::remote
