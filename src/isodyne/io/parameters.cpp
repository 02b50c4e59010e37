#include "isodyne/io/parameters.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>
#include <set>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/csv.h"
#include "isodyne/core/json.h"
#include "isodyne/core/text.h"
#include "isodyne/engine/running_plant.h"

namespace isodyne::io {

using Json = CheckedJson;

namespace {

using State = ParameterRow::State;
using program::Program;
using program::VarId;

constexpr int kMostDepth = 20;
constexpr std::size_t kMostValues = 100'000;

std::string scalar(const Json& j) {
  if (j.is_boolean()) return j.get<bool>() ? "true" : "false";
  if (j.is_number()) return format_exact(j.get<double>());
  return j.get<std::string>();
}

/// Objects within objects are paths; one with `value` is a parameter.
std::optional<Failure> collect(const Json& j, const std::string& path, const std::string& file, int depth,
                               std::vector<FileParameter>& all) {
  if (depth > kMostDepth || all.size() > kMostValues)
    return Failure{"there is more in", file, "than parameters could be"};
  const bool leaf = j.is_boolean() || j.is_number() || j.is_string();
  const auto value = j.is_object() ? j.find("value") : j.end();
  if (leaf ||
      (j.is_object() && value != j.end() && (value->is_number() || value->is_boolean() || value->is_string()))) {
    FileParameter p{path, scalar(leaf ? j : *value), "", path};
    if (!leaf) {
      const auto unit = j.find("unit");
      if (unit != j.end() && unit->is_string()) p.unit = unit->get<std::string>();
    }
    all.push_back(std::move(p));
    return std::nullopt;
  }
  if (!j.is_object()) {
    all.push_back({path, "a list", "", path});
    return std::nullopt;
  }
  for (const auto& [key, inner] : j.items()) {
    if (const auto failure = collect(inner, path.empty() ? key : path + "." + key, file, depth + 1, all))
      return failure;
  }
  return std::nullopt;
}

/// Names are compared without regard to case, and to what separates their parts: chamber.area is CHAMBER_AREA.
std::string plain(const std::string& name) {
  std::string text;
  for (const char c : name) {
    if (c >= 'A' && c <= 'Z')
      text += static_cast<char>(c - 'A' + 'a');
    else
      text += c == '.' || c == '-' || c == ' ' || c == '/' ? '_' : c;
  }
  return text;
}

class Comparison {
 public:
  explicit Comparison(const std::shared_ptr<const Program>& program)
      : p_(*program), start_(engine::RunningPlant(program).start({})) {
    for (const VarId id : p_.listed) {
      const program::Role role = p_.variable(id).role;
      if (role != program::Role::param && role != program::Role::fixed_param) continue;
      by_name_.try_emplace(plain(p_.variable(id).name), id);
      names_.push_back(p_.variable(id).name);
    }
  }

  ParameterRow row(const FileParameter& f) {
    ParameterRow r{State::equal, f.name, "", f.value + (f.unit.empty() ? "" : " " + f.unit), ""};
    const auto found = by_name_.find(plain(f.name));
    if (found == by_name_.end()) {
      r.state = State::unknown;
      const auto meant = did_you_mean(f.name, names_);
      r.remark = meant.value_or("the plant has no such parameter");
      return r;
    }
    const auto [first, fresh] = seen_.try_emplace(found->second, f.place);
    if (!fresh) {
      r.state = State::unreadable;
      r.remark = "stands there twice, also as " + first->second;
      return r;
    }
    const program::Variable& v = p_.variable(found->second);
    const double start = start_[found->second];
    r.name = v.name;
    r.plant = p_.format(found->second, start);
    const auto value = read(f, v, r);
    if (!value) {
      r.state = State::unreadable;
      return r;
    }
    const double size = std::max(std::abs(*value - v.unit.offset), std::abs(start - v.unit.offset));
    if (std::abs(*value - start) <= 1e-6 * size) return r;
    r.state = State::differs;
    if (v.type.kind == program::Type::Kind::real) {
      const Unit difference = difference_unit(v.unit);
      r.remark = fmt::format("{}{}{}", *value > start ? "+" : "", format_value(*value - start, difference),
                             start != 0 ? fmt::format(" ({:+.3g} %)", 100 * (*value - start) / std::abs(start)) : "");
    }
    return r;
  }

  void missing(std::vector<ParameterRow>& rows) const {
    std::set<VarId> told;
    for (const program::Controller& c : p_.controllers) {
      for (const program::SharedParameter& s : c.shares) {
        if (seen_.contains(s.id) || !told.insert(s.id).second) continue;
        rows.push_back({State::missing, p_.variable(s.id).name, p_.format(s.id, s.value), "",
                        fmt::format("shared with {}, and not in the file", c.name)});
      }
    }
  }

 private:
  /// The value in SI; says in `r` what is wrong or was assumed.
  std::optional<double> read(const FileParameter& f, const program::Variable& v, ParameterRow& r) const {
    using TypeKind = program::Type::Kind;
    const auto number = csv_number(f.value, true);
    if (v.type.kind == TypeKind::boolean) {
      if (f.value == "true" || f.value == "1") return 1;
      if (f.value == "false" || f.value == "0") return 0;
      r.remark = "a bool is true or false";
      return std::nullopt;
    }
    if (v.type.kind == TypeKind::choice) {
      const auto& labels = p_.choices[static_cast<std::size_t>(v.type.choice)].labels;
      const auto label = std::find(labels.begin(), labels.end(), f.value);
      if (label != labels.end()) return static_cast<double>(label - labels.begin());
      if (number && *number >= 0 && *number < static_cast<double>(labels.size())) return *number;
      r.remark = "no label of this choice";
      return std::nullopt;
    }
    if (!number) {
      r.remark = "is not a number";
      return std::nullopt;
    }
    if (v.type.kind == TypeKind::integer) return *number;
    Unit unit = v.unit;
    if (f.unit.empty()) {
      if (unit.text != "1") r.remark = "no unit: taken as " + unit.text;
    } else {
      const auto parsed = parse_unit(f.unit);
      if (!parsed) {
        r.remark = fmt::format("{} is not a unit", f.unit);
        return std::nullopt;
      }
      if (parsed->dimension != v.type.dimension || parsed->absolute() != v.type.absolute) {
        r.remark = fmt::format("{} does not fit {}", f.unit, v.unit.text);
        return std::nullopt;
      }
      unit = *parsed;
    }
    return *number * unit.factor + unit.offset;
  }

  const Program& p_;
  engine::PlantState start_;
  std::map<std::string, VarId> by_name_;
  std::vector<std::string> names_;
  std::map<VarId, std::string> seen_;
};

Result<std::vector<FileParameter>> from_csv(const std::string& text, const std::string& file) {
  const Csv csv = read_csv(text);
  const auto at = [&](int line, const std::string& what) {
    return Failure{fmt::format("{}:{}", file, line), "", what};
  };
  if (!csv.trouble.empty()) return at(csv.trouble_line, csv.trouble);
  if (csv.rows.empty()) return Failure{"there is nothing in", file, ""};
  std::map<std::string, std::size_t> column;
  for (std::size_t i = 0; i < csv.rows[0].fields.size(); ++i) column.try_emplace(plain(csv.rows[0].fields[i].text), i);
  for (const char* title : {"name", "value"}) {
    if (!column.contains(title))
      return at(csv.rows[0].line,
                fmt::format("there is no column `{}`; a parameter file has name, value and perhaps unit", title));
  }
  std::vector<FileParameter> all;
  for (std::size_t i = 1; i < csv.rows.size() && all.size() < kMostValues; ++i) {
    const CsvRow& r = csv.rows[i];
    FileParameter p{r.text(column["name"]), r.text(column["value"]),
                    column.contains("unit") ? r.text(column["unit"]) : "", fmt::format("{}:{}", file, r.line)};
    if (csv.decimal_comma() && p.value.find('.') == std::string::npos)
      std::replace(p.value.begin(), p.value.end(), ',', '.');
    all.push_back(std::move(p));
  }
  return all;
}

}  // namespace

Result<std::vector<FileParameter>> read_parameters(const std::string& text, const std::string& file) {
  const std::size_t word = text.find_first_not_of(" \t\r\n\xef\xbb\xbf");
  if (word == std::string::npos || text[word] != '{') return from_csv(text, file);
  const auto j = parse_json(std::string_view(text).substr(word));
  if (!j) return Failure{"this is not JSON, though it begins like it:", file, j.failure().text()};
  std::vector<FileParameter> all;
  if (const auto failure = collect(*j, "", file, 0, all)) return *failure;
  return all;
}

const char* parameter_word(State state) {
  switch (state) {
    case State::equal:
      return "equal";
    case State::differs:
      return "differs";
    case State::unknown:
      return "unknown";
    case State::unreadable:
      return "unreadable";
    case State::missing:
      return "missing";
  }
  return "";
}

std::vector<ParameterRow> compare(const std::shared_ptr<const Program>& program,
                                  const std::vector<FileParameter>& file) {
  Comparison comparison(program);
  std::vector<ParameterRow> rows;
  for (const FileParameter& f : file) rows.push_back(comparison.row(f));
  comparison.missing(rows);
  return rows;
}

}  // namespace isodyne::io
