#include <algorithm>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "command.h"
#include "isodyne/core/text.h"
#include "table.h"
#include "terminal.h"

namespace isodyne::app {

namespace {

using Json = nlohmann::ordered_json;
using model::kNone;
using model::Program;
using model::Role;

/// One kind of thing to list: a title, columns, and rows of text. JSON and tables come from the same rows.
struct Section {
  std::string name;
  std::vector<Table::Column> columns;
  std::vector<std::vector<std::string>> rows;
};

std::string start_text(const Program& p, model::VarId id) {
  for (const model::Assignment& a : p.start) {
    if (a.target != id) continue;
    const auto value = model::fold(p, a.value, [](model::VarId) { return std::nullopt; });
    return value ? p.format(id, *value) : std::string(p.sources->covered(a.span));
  }
  return "";
}

Section parts(const Program& p) {
  Section s{"parts", {{"Part"}, {"Model"}, {"Where"}, {"Description"}}, {}};
  for (const auto& part : p.parts) s.rows.push_back({part.path, part.model, p.sources->place(part.span), part.doc});
  return s;
}

Section states(const Program& p) {
  Section s{"states", {{"State"}, {"Unit"}, {"Start", Table::Align::right}, {"Limits"}, {"Description"}}, {}};
  for (const model::State& x : p.states) {
    const model::Variable& v = p.variable(x.value);
    std::string limits;
    for (const model::NodeId bound : {x.lowest, x.highest}) {
      const auto value =
          bound == kNone ? std::nullopt : model::fold(p, bound, [](model::VarId) { return std::nullopt; });
      if (bound != kNone)
        limits += (limits.empty() ? "" : " .. ") + (value ? p.format(x.value, *value) : std::string("…"));
    }
    s.rows.push_back({v.name, p.type_text(v), start_text(p, x.value), limits, v.doc});
  }
  return s;
}

Section parameters(const Program& p) {
  Section s{"parameters", {{"Parameter"}, {"Value", Table::Align::right}, {"Limits"}, {"Live"}, {"Description"}}, {}};
  for (std::size_t i = 0; i < p.variables.size(); ++i) {
    const model::Variable& v = p.variables[i];
    if (v.role != Role::param && v.role != Role::fixed_param) continue;
    const auto id = static_cast<model::VarId>(i);
    const std::string limits =
        v.limits ? fmt::format("{} .. {}", p.format(id, v.limits->first), p.format(id, v.limits->second)) : "";
    s.rows.push_back({v.name, start_text(p, id), limits, v.role == Role::param ? "yes" : "fixed", v.doc});
  }
  return s;
}

const char* role_text(Role role) {
  switch (role) {
    case Role::input:
      return "input";
    case Role::state:
      return "state";
    case Role::equation:
      return "computed";
    case Role::sampled:
      return "sampled";
    case Role::mode:
      return "mode";
    case Role::controller_output:
      return "controller";
    default:
      return nullptr;
  }
}

Section signals(const Program& p) {
  Section s{"signals", {{"Signal"}, {"Kind"}, {"Unit"}, {"Where"}, {"Description"}}, {}};
  for (const model::Variable& v : p.variables) {
    if (role_text(v.role) != nullptr)
      s.rows.push_back({v.name, role_text(v.role), p.type_text(v), p.sources->place(v.span), v.doc});
  }
  return s;
}

Section channels(const Program& p) {
  Section s{
      "channels",
      {{"Channel"}, {"Direction"}, {"Unit"}, {"Range"}, {"Counts"}, {"Every"}, {"Filter"}, {"Noise"}, {"Description"}},
      {}};
  for (const model::Sensor& x : p.sensors) {
    const model::Variable& v = p.variable(x.value);
    std::string range =
        x.range ? fmt::format("{} .. {}", p.format(x.value, x.range->first), p.format(x.value, x.range->second)) : "";
    if (!x.electrical.empty()) range += " as " + x.electrical;
    s.rows.push_back({x.name, "sensor", p.type_text(v), range,
                      x.to_counts ? fmt::format("{} .. {}", x.to_counts->low_to, x.to_counts->high_to) : "",
                      format_span(x.period), x.filter.count() > 0 ? format_span(x.filter) : "",
                      x.noise > 0 ? p.format(x.value, x.noise) : "", v.doc});
  }
  for (const model::Actuator& x : p.actuators) {
    const model::Variable& v = p.variable(x.value);
    const auto& c = x.to_counts;
    s.rows.push_back({x.name, "actuator", p.type_text(v),
                      c ? fmt::format("{} .. {}", p.format(x.value, c->low_from), p.format(x.value, c->high_from)) : "",
                      c ? fmt::format("{} .. {}", c->low_to, c->high_to) : "", "", "", "", v.doc});
  }
  return s;
}

Section controllers(const Program& p) {
  Section s{"controllers", {{"Controller"}, {"Every"}, {"Reads"}, {"Writes"}, {"Settings"}}, {}};
  const auto names = [&](const auto& list, const auto& id_of) {
    std::string text;
    for (const auto& x : list) text += (text.empty() ? "" : ", ") + p.variable(id_of(x)).name;
    return text;
  };
  for (const model::Controller& c : p.controllers) {
    std::string settings;
    for (const model::Setting& x : c.settings)
      settings += fmt::format("{}{} = library \"{}\"", settings.empty() ? "" : ", ", x.name, x.library);
    s.rows.push_back({c.name, format_span(c.period), names(c.reads, [](model::VarId id) { return id; }),
                      names(c.writes, [](const model::ControllerWrite& w) { return w.value; }), settings});
  }
  return s;
}

Section conditions(const Program& p) {
  Section s{"conditions", {{"Condition"}, {"Where"}, {"Description"}}, {}};
  for (const model::Variable& v : p.variables) {
    if (v.role == Role::condition) s.rows.push_back({v.name, p.sources->place(v.span), v.doc});
  }
  return s;
}

Section faults(const Program& p) {
  Section s{"faults", {{"Fault"}, {"On"}, {"Kind"}, {"Amount"}, {"When"}, {"Description"}}, {}};
  for (const model::Fault& f : p.faults) {
    s.rows.push_back({f.name, p.variable(p.taps[static_cast<std::size_t>(f.tap)].target).name,
                      model::fault_word(f.kind), f.amount_text, f.when_text, f.doc});
  }
  return s;
}

Section scenarios(const Program& p) {
  Section s{"scenarios", {{"Scenario"}, {"Actions", Table::Align::right}, {"Where"}, {"Description"}}, {}};
  for (const model::Scenario& x : p.scenarios)
    s.rows.push_back({x.name, std::to_string(x.steps.size()), p.sources->place(x.span), x.doc});
  return s;
}

Section requirements(const Program& p) {
  Section s{"requirements", {{"Requirement"}, {"Margin in"}, {"Source"}, {"Formula"}, {"Description"}}, {}};
  for (const model::Requirement& r : p.requirements) {
    const bool margin = r.margin != kNone || r.within;
    s.rows.push_back({r.name, margin ? r.margin_unit.text : "–", r.source, r.formula, r.doc});
  }
  return s;
}

Section figures(const Program& p) {
  Section s{"figures", {{"Figure"}, {"Panels", Table::Align::right}, {"Title"}}, {}};
  for (const model::Figure& f : p.figures) s.rows.push_back({f.name, std::to_string(f.panels.size()), f.title});
  return s;
}

using Maker = Section (*)(const Program&);
constexpr std::pair<const char*, Maker> kKinds[] = {
    {"parts", parts},           {"states", states},
    {"parameters", parameters}, {"signals", signals},
    {"channels", channels},     {"controllers", controllers},
    {"conditions", conditions}, {"faults", faults},
    {"scenarios", scenarios},   {"requirements", requirements},
    {"figures", figures},
};

Json section_json(const Section& s) {
  Json list = Json::array();
  for (const auto& row : s.rows) {
    Json j;
    for (std::size_t c = 0; c < row.size(); ++c) {
      std::string key = s.columns[c].title;
      for (char& ch : key) ch = ch == ' ' ? '_' : static_cast<char>(ch >= 'A' && ch <= 'Z' ? ch - 'A' + 'a' : ch);
      j[key] = row[c];
    }
    list.push_back(std::move(j));
  }
  return list;
}

}  // namespace

int run_list(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  std::vector<std::string> known;
  for (const auto& [name, maker] : kKinds) known.emplace_back(name);
  for (std::size_t i = 1; i < arguments.words.size(); ++i) {
    if (std::find(known.begin(), known.end(), arguments.words[i]) != known.end()) continue;
    const auto meant = closest(arguments.words[i], known);
    say_error(fmt::format("there is no kind `{}` to list{}", arguments.words[i],
                          meant ? fmt::format("; did you mean `{}`?", *meant) : "; see `isodyne help list`"));
    return kWrongInput;
  }
  const model::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  Json all;
  for (const auto& [name, maker] : kKinds) {
    const bool asked = arguments.words.size() == 1 ||
                       std::find(arguments.words.begin() + 1, arguments.words.end(), name) != arguments.words.end();
    if (!asked) continue;
    const Section section = maker(*loaded.program);
    if (arguments.has(Option::json)) {
      all[name] = section_json(section);
      continue;
    }
    Table table(section.columns);
    for (const auto& row : section.rows) table.row(row);
    const bool several = arguments.words.size() != 2;
    if (several)
      say(fmt::format("{}{}", colours_on(stdout) ? "\x1b[1m" + section.name + "\x1b[0m" : section.name,
                      table.empty() ? ": none\n" : ""));
    if (!table.empty()) put(stdout, table.text(width_of(stdout), colours_on(stdout)) + (several ? "\n" : ""));
  }
  if (arguments.has(Option::json)) say(all.dump(2, ' ', false, Json::error_handler_t::replace));
  return kHeld;
}

}  // namespace isodyne::app
