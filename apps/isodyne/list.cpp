#include <algorithm>
#include <functional>
#include <map>
#include <set>
#include <sstream>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/text.h"
#include "isodyne/present/inquiry.h"
#include "isodyne/program/groups.h"
#include "list_section.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;

namespace {

using program::kNone;
using program::Program;
using program::Role;

Section parts(const Program& p) {
  Section s{"parts", {{"Part"}, {"Model"}, {"Where"}, {"Description"}}, {}};
  for (const auto& part : p.parts) s.rows.push_back({part.path, part.model, p.sources->place(part.span), part.doc});
  return s;
}

Section states(const Program& p) {
  Section s{"states", {{"State"}, {"Unit"}, {"Start", TextTable::Align::right}, {"Limits"}, {"Description"}}, {}};
  for (const program::State& x : p.states) {
    const program::Variable& v = p.variable(x.value);
    s.rows.push_back(
        {v.name, p.type_text(v), present::start_text(p, x.value), present::limits_text(p, x.value), v.doc});
  }
  return s;
}

Section parameters(const Program& p) {
  Section s{
      "parameters", {{"Parameter"}, {"Value", TextTable::Align::right}, {"Limits"}, {"Live"}, {"Description"}}, {}};
  for (const program::VarId id : p.listed) {
    const program::Variable& v = p.variable(id);
    if (v.role != Role::param && v.role != Role::fixed_param) continue;
    s.rows.push_back({v.name, present::start_text(p, id), present::limits_text(p, id),
                      v.role == Role::param ? "yes" : "fixed", v.doc});
  }
  return s;
}

bool is_signal(Role role) {
  return role == Role::input || role == Role::state || role == Role::equation || role == Role::sampled ||
         role == Role::mode || role == Role::network || role == Role::controller_output;
}

Section signals(const Program& p) {
  Section s{"signals", {{"Signal"}, {"Kind"}, {"Unit"}, {"Where"}, {"Description"}}, {}};
  for (const program::VarId id : p.listed) {
    const program::Variable& v = p.variable(id);
    if (is_signal(v.role))
      s.rows.push_back({v.name, program::role_text(v.role), p.type_text(v), p.sources->place(v.span), v.doc});
  }
  return s;
}

/// What lies at each node: elements, with the terminals that do.
Section nodes(const Program& p) {
  Section s{"nodes", {{"Node"}, {"Kind"}, {"Step"}, {"At it"}}, {}};
  for (const program::Network& n : p.networks) {
    std::vector<std::string> at(n.nodes.size()), last(n.nodes.size());
    for (const auto& e : n.elements) {
      const std::set<std::int32_t> ends(e.nodes.begin(), e.nodes.end());
      for (const std::int32_t end : ends) {
        const auto node = static_cast<std::size_t>(end);
        if (last[node] != e.path) list_on(at[node], e.path);  // a fault may be several contacts
        last[node] = e.path;
      }
    }
    for (std::size_t i = 1; i < at.size(); ++i)
      s.rows.push_back({n.nodes[i], n.kind, format_span(program::at(p.groups, n.group).step), at[i]});
  }
  return s;
}

Section channels(const Program& p) {
  Section s{
      "channels",
      {{"Channel"}, {"Direction"}, {"Unit"}, {"Range"}, {"Counts"}, {"Every"}, {"Filter"}, {"Noise"}, {"Description"}},
      {}};
  const auto range = [](const program::ChannelForm& f) {
    return f.range_text + (f.electrical_text.empty() ? "" : " as " + f.electrical_text);
  };
  for (const program::Sensor& x : p.sensors) {
    const program::Variable& v = p.variable(x.value);
    s.rows.push_back({x.name, "sensor", p.type_text(v), range(x), x.counts_text,
                      x.at != program::kNone
                          ? p.sampling_text(x)
                          : format_span(x.period) + (x.offset.count() > 0 ? " + " + format_span(x.offset) : ""),
                      x.filter.count() > 0 ? format_span(x.filter) : "", x.noise_text, v.doc});
  }
  for (const program::Actuator& x : p.actuators) {
    const program::Variable& v = p.variable(x.value);
    const std::string edges =
        !x.gate ? x.counts_text
                : fmt::format("{}{}", x.clock.count() > 0 ? "clock " + format_span(x.clock) + " " : "",
                              x.latency.count() > 0 ? "latency " + format_span(x.latency) : "");
    s.rows.push_back({x.name, "actuator", x.gate ? "gate" : p.type_text(v), range(x), edges, "", "", "", v.doc});
  }
  return s;
}

Section controllers(const Program& p) {
  Section s{"controllers", {{"Controller"}, {"Every"}, {"Reads"}, {"Writes"}, {"Settings"}}, {}};
  // A frame stands for its fields, and a vector for its elements.
  const auto names = [&](const auto& list, const std::vector<program::FrameUse>& frames,
                         const std::vector<program::VectorUse>& vectors, const auto& id_of) {
    std::string text;
    auto frame = frames.begin();
    auto vector = vectors.begin();
    for (std::size_t i = 0; i < list.size();) {
      if (vector != vectors.end() && vector->first == i) {
        const std::string& first = p.variable(id_of(list[i])).name;
        list_on(text, first.substr(0, first.rfind('[')) + "[*]");
        i += (vector++)->count;
        continue;
      }
      const bool is_frame = frame != frames.end() && frame->first == i;
      const program::Frame* f = is_frame ? &p.frames[static_cast<std::size_t>((frame++)->frame)] : nullptr;
      list_on(text, (is_frame ? "frame " + f->name : p.variable(id_of(list[i])).name));
      i += is_frame ? f->fields.size() : 1;
    }
    return text;
  };
  for (const program::Controller& c : p.controllers) {
    std::string settings;
    for (const program::Setting& x : c.settings) list_on(settings, fmt::format("{} = {}", x.name, x.text));
    s.rows.push_back(
        {c.name, format_span(c.period),
         names(c.reads, c.read_frames, c.read_vectors, [](program::VarId id) { return id; }),
         names(c.writes, c.write_frames, c.write_vectors, [](const program::ControllerWrite& w) { return w.value; }),
         settings});
  }
  return s;
}

Section frames(const Program& p) {
  Section s{"frames", {{"Frame"}, {"Words", TextTable::Align::right}, {"Goes"}, {"Fields"}, {"Description"}}, {}};
  for (const program::Frame& f : p.frames) {
    std::string fields;
    for (const program::FrameField& x : f.fields) list_on(fields, x.name);
    for (const program::FramePort& x : f.ports) fields += ", port " + x.name;
    s.rows.push_back({f.name, std::to_string(f.words), f.to_controller ? "to the controller" : "from the controller",
                      fields, f.doc});
  }
  return s;
}

Section conditions(const Program& p) {
  Section s{"conditions", {{"Condition"}, {"Where"}, {"Description"}}, {}};
  for (const program::VarId id : p.listed) {
    const program::Variable& v = p.variable(id);
    if (v.role == Role::condition) s.rows.push_back({v.name, p.sources->place(v.span), v.doc});
  }
  return s;
}

Section faults(const Program& p) {
  Section s{"faults", {{"Fault"}, {"On"}, {"Kind"}, {"Amount"}, {"When"}, {"Description"}}, {}};
  for (const program::Fault& f : p.faults) {
    s.rows.push_back({f.name, program::place_of(p, f), program::fault_word(f.kind), f.amount_text, f.when_text, f.doc});
  }
  return s;
}

Section scenarios(const Program& p) {
  Section s{"scenarios", {{"Scenario"}, {"Actions", TextTable::Align::right}, {"Where"}, {"Description"}}, {}};
  for (const program::Scenario& x : p.scenarios)
    s.rows.push_back({x.name, std::to_string(x.steps.size()), p.sources->place(x.span), x.doc});
  return s;
}

Section requirements(const Program& p) {
  Section s{"requirements", {{"Requirement"}, {"Margin in"}, {"Source"}, {"Formula"}, {"Description"}}, {}};
  const bool assured = std::any_of(p.requirements.begin(), p.requirements.end(), [](const program::Requirement& r) {
    return !r.level.empty() || !r.allocated.empty();
  });
  if (assured) s.columns.insert(s.columns.begin() + 3, {{"Level"}, {"Allocated to"}});
  for (const program::Requirement& r : p.requirements) {
    const bool margin = r.has_margin();
    s.rows.push_back({r.name, margin ? r.margin_unit.text : "–", r.source, r.formula, r.doc});
    if (assured) s.rows.back().insert(s.rows.back().begin() + 3, {r.level, listed(r.allocated, "")});
  }
  return s;
}

Section measures(const Program& p) {
  Section s{"measures", {{"Measure"}, {"Unit"}, {"What"}, {"Description"}}, {}};
  for (const program::Measure& m : p.measures)
    s.rows.push_back({m.name, p.type_text(p.variable(m.value)), m.text, m.doc});
  return s;
}

Section campaigns(const Program& p) {
  Section s{"campaigns", {{"Campaign"}, {"Drawn"}, {"Factors"}}, {}};
  for (const program::Campaign& c : p.campaigns) {
    std::string factors =
        fmt::format("{}, {} of faults", counted(c.scenarios.size(), "scenario"), counted(c.fault_sets.size(), "set"));
    for (const auto& v : c.varied) list_on(factors, p.variable(v.what).name);
    s.rows.push_back(
        {c.name, c.draws > 0 ? fmt::format("{} by {}", c.draws, program::draw_word(c.draw)) : "all", factors});
  }
  return s;
}

Section failures(const Program& p) {
  Section s{"failures", {{"Failure modes"}, {"File"}, {"Rows here", TextTable::Align::right}, {"Description"}}, {}};
  for (const program::FailureModes& f : p.failure_modes)
    s.rows.push_back({f.name, f.file, std::to_string(f.rows.size()), f.doc});
  return s;
}

Section basic_events(const Program& p) {
  Section s{"events", {{"Basic event"}, {"Rate or probability"}, {"Fault"}, {"Description"}}, {}};
  for (const program::BasicEvent& e : p.basic_events) {
    const std::string often = e.rate          ? fmt::format("{} 1/h", format_number(*e.rate * 3600))
                              : e.probability ? format_number(*e.probability)
                                              : "";
    s.rows.push_back({e.name, often, e.fault == kNone ? "" : program::at(p.faults, e.fault).name, e.doc});
  }
  return s;
}

Section hazards(const Program& p) {
  Section s{"hazards", {{"Hazard"}, {"Level"}, {"Broken"}, {"Source"}, {"Description"}}, {}};
  for (const program::Hazard& h : p.hazards) {
    std::string broken;
    for (const std::int32_t r : h.broken) list_on(broken, program::at(p.requirements, r).name);
    s.rows.push_back({h.name, h.level, broken, h.source, h.doc});
  }
  return s;
}

Section panels(const Program& p) {
  Section s{"panels", {{"Panel"}, {"Things", TextTable::Align::right}, {"Title"}}, {}};
  for (const program::Panel& f : p.panels) s.rows.push_back({f.name, std::to_string(f.items.size()), f.title});
  return s;
}

Section figures(const Program& p) {
  Section s{"figures", {{"Figure"}, {"Panels", TextTable::Align::right}, {"Title"}}, {}};
  for (const program::Figure& f : p.figures) s.rows.push_back({f.name, std::to_string(f.panels.size()), f.title});
  return s;
}

Section harnesses(const check::Loaded& loaded) {
  Section s{"harnesses", {{"Harness"}, {"Takes out"}, {"Where"}, {"Description"}}, {}};
  for (const check::HarnessInfo& h : loaded.harnesses)
    s.rows.push_back({h.name, h.of, loaded.sources->place(h.span), h.doc});
  return s;
}

/// "a -> b" for each wire; one that goes nowhere is open.
template <typename Wires>
std::string wires_text(const Program& p, const Wires& wires) {
  std::vector<std::string> all;
  for (const auto& w : wires) {
    const std::string from = w.actuator == kNone ? "open" : program::at(p.actuators, w.actuator).name;
    all.push_back(fmt::format("{} -> {}", from, program::at(p.sensors, w.sensor).name));
  }
  return listed(all, "none");
}

Section cables(const Program& p) {
  Section s{"cables", {{"Cables"}, {"Wires"}, {"Where"}, {"Description"}}, {}};
  for (const program::Cables& c : p.cables)
    s.rows.push_back({c.name, wires_text(p, c.cables), p.sources->place(c.span), c.doc});
  for (const program::Wiring& w : p.wirings)
    s.rows.push_back({w.name, fmt::format("{}; of {}", wires_text(p, w.wires), program::at(p.cables, w.cables).name),
                      p.sources->place(w.span), w.doc});
  return s;
}

/// Kinds as `list` takes them, in the order in which they are shown.
struct Kind {
  const char* name;
  std::function<Section()> section;
};

std::vector<Kind> kinds_of(const check::Loaded& loaded) {
  const auto of = [&](Section (*make)(const Program&)) { return [&loaded, make] { return make(*loaded.program); }; };
  return {{"parts", of(parts)},
          {"states", of(states)},
          {"parameters", of(parameters)},
          {"signals", of(signals)},
          {"nodes", of(nodes)},
          {"channels", of(channels)},
          {"frames", of(frames)},
          {"cables", of(cables)},
          {"controllers", of(controllers)},
          {"conditions", of(conditions)},
          {"faults", of(faults)},
          {"scenarios", of(scenarios)},
          {"requirements", of(requirements)},
          {"measures", of(measures)},
          {"harnesses", [&loaded] { return harnesses(loaded); }},
          {"figures", of(figures)},
          {"panels", of(panels)},
          {"campaigns", of(campaigns)},
          {"failures", of(failures)},
          {"events", of(basic_events)},
          {"hazards", of(hazards)}};
}

/// Names as `list` takes them beside kinds: quantities, parts, and whatever else has a row of its own.
std::vector<std::string> names_of(const Program& p, const std::vector<Kind>& kinds) {
  std::vector<std::string> names;
  for (const Kind& k : kinds) {
    for (const auto& row : k.section().rows) names.push_back(row[0]);
  }
  for (const program::PartInfo& part : p.parts) names.push_back(part.path);
  for (const program::VarId id : p.listed) {
    const program::Variable& v = p.variable(id);
    if (program::role_text(v.role) != nullptr) names.push_back(v.name);
  }
  return names;
}

std::optional<present::Facts> facts_about(const Program& p, const std::vector<Kind>& kinds, const std::string& name) {
  const program::VarId id = p.find(name);
  if (id != kNone && program::role_text(p.variable(id).role) != nullptr) return present::facts_of(p, id);
  const bool part =
      std::any_of(p.parts.begin(), p.parts.end(), [&](const program::PartInfo& x) { return x.path == name; });
  if (part) return present::facts_of_part(p, name);
  for (const Kind& k : kinds) {
    const Section s = k.section();
    const auto row = std::find_if(s.rows.begin(), s.rows.end(), [&](const auto& r) { return r[0] == name; });
    if (row == s.rows.end()) continue;
    present::Facts facts{{"is", "among the " + s.name}};
    for (std::size_t c = 1; c < row->size(); ++c) {
      if (!(*row)[c].empty()) facts.emplace_back(lower_case(s.columns[c].title), (*row)[c]);
    }
    return facts;
  }
  return std::nullopt;
}

void say_facts(const std::string& name, const present::Facts& facts) {
  say(colours_on(stdout) ? "\x1b[1m" + name + "\x1b[0m" : name);
  TextTable table({{""}, {""}});
  for (const auto& [heading, text] : facts) table.row({heading, text});
  const std::size_t width = width_of(stdout);
  std::istringstream lines(table.text(width > 4 ? width - 2 : 0, colours_on(stdout)));
  for (std::string line; std::getline(lines, line);) say("  " + line);
}

Json facts_json(const std::string& name, const present::Facts& facts) {
  Json j{{"name", name}};
  for (const auto& [heading, text] : facts) j["facts"].push_back({{heading, text}});
  return j;
}

/// Parts inside each other, indented, with their models.
void say_tree(const Program& p) {
  say(p.name);
  for (const program::PartInfo& part : p.parts) {
    const auto depth = static_cast<std::size_t>(std::count(part.path.begin(), part.path.end(), '.'));
    const std::string name = part.path.substr(part.path.rfind('.') + 1);
    say(fmt::format("{}{} : {}{}{}", std::string(2 * depth + 2, ' '), name, part.model, part.doc.empty() ? "" : "  ",
                    part.doc));
  }
}

/// What was asked for beside the file, sorted into kinds and names; nothing if something is neither.
struct Asked {
  std::vector<std::string> kinds, names;
};

std::optional<Asked> asked_for(const Arguments& arguments, const Program& p, const std::vector<Kind>& kinds) {
  Asked asked;
  std::vector<std::string> known;
  for (const Kind& k : kinds) known.emplace_back(k.name);
  for (std::size_t i = 1; i < arguments.words.size(); ++i) {
    const std::string& word = arguments.words[i];
    const bool kind = std::find(known.begin(), known.end(), word) != known.end();
    if (kind || facts_about(p, kinds, word)) {
      (kind ? asked.kinds : asked.names).push_back(word);
      continue;
    }
    const std::vector<std::string> names = names_of(p, kinds);
    known.insert(known.end(), names.begin(), names.end());
    std::set<std::string> elements;
    std::copy_if(names.begin(), names.end(), std::inserter(elements, elements.end()),
                 [&](const std::string& name) { return is_element_of(name, word); });
    if (!elements.empty()) {
      say_error(fmt::format("`{0}` stands for `{0}[1]` to `{0}[{1}]`: name one of them", word, elements.size()));
      return std::nullopt;
    }
    const auto meant = did_you_mean(word, known);
    say_error(fmt::format("`{}` is neither a kind of thing nor a name in {}{}", word, p.name,
                          meant ? "; " + *meant : "; see `isodyne help list`"));
    return std::nullopt;
  }
  return asked;
}

/// The models and kinds of modules of a file: those it declares itself, and not those it uses.
std::vector<check::ModelInfo> own_models(const check::Loaded& loaded) {
  std::vector<check::ModelInfo> own;
  for (const check::ModelInfo& m : loaded.models) {
    if (m.span.source == 0) own.push_back(m);
  }
  return own;
}

present::Facts facts_of_model(const check::Loaded& loaded, const check::ModelInfo& m) {
  present::Facts facts;
  if (!m.doc.empty()) facts.emplace_back("says", m.doc);
  facts.emplace_back("declared", loaded.sources->place(m.span));
  for (const auto& i : m.items) {
    facts.emplace_back(i.kind,
                       fmt::format("{} : {}{}{}{}{}{}", i.name, i.type, i.value.empty() ? "" : " = ", i.value,
                                   i.limits.empty() ? "" : "  from ", i.limits, i.doc.empty() ? "" : "  " + i.doc));
  }
  for (const std::string& source : m.rated) facts.emplace_back("rated", source.empty() ? "yes" : source);
  return facts;
}

Json model_json(const check::ModelInfo& m) {
  Json j{{m.module ? "module" : "model", m.name}, {"description", m.doc}, {"items", Json::array()}, {"rated", m.rated}};
  for (const auto& i : m.items) {
    j["items"].push_back({{"kind", i.kind},
                          {"name", i.name},
                          {"unit", i.type},
                          {"value", i.value},
                          {"limits", i.limits},
                          {"description", i.doc}});
  }
  return j;
}

/// A file without a bench: its models, or one of them.
int list_models(const Arguments& arguments, const check::Loaded& loaded) {
  const std::vector<check::ModelInfo> models = own_models(loaded);
  if (arguments.has(Option::json)) {
    Json all{{"models", Json::array()}, {"modules", Json::array()}};
    for (const check::ModelInfo& m : models) all[m.module ? "modules" : "models"].push_back(model_json(m));
    say(all.dump(2, ' ', false, Json::error_handler_t::replace));
    return kHeld;
  }
  std::vector<std::string> names;
  for (const check::ModelInfo& m : models) names.push_back(m.name);
  for (std::size_t i = 1; i < arguments.words.size(); ++i) {
    const auto found = std::find(names.begin(), names.end(), arguments.words[i]);
    if (found == names.end()) {
      const auto meant = did_you_mean(arguments.words[i], names);
      say_error(
          fmt::format("{} has no model `{}`{}", arguments.words[0], arguments.words[i], meant ? "; " + *meant : ""));
      return kWrongInput;
    }
    say_facts(*found, facts_of_model(loaded, models[static_cast<std::size_t>(found - names.begin())]));
  }
  if (arguments.words.size() > 1) return kHeld;
  Section s{"models", {{"Model"}, {"Parameters", TextTable::Align::right}, {"Rated"}, {"Description"}}, {}};
  Section modules{"modules", {{"Module"}, {"Channels"}, {"Description"}}, {}};
  for (const check::ModelInfo& m : models) {
    if (m.module) {
      std::string channels;
      for (const auto& i : m.items)
        channels += fmt::format("{}{} {} {}", channels.empty() ? "" : "; ", i.kind, i.name, i.type);
      modules.rows.push_back({m.name, channels, m.doc});
      continue;
    }
    const auto params =
        std::count_if(m.items.begin(), m.items.end(), [](const auto& i) { return i.kind.ends_with("parameter"); });
    s.rows.push_back({m.name, std::to_string(params), m.rated.empty() ? "" : "yes", m.doc});
  }
  const bool both = !s.rows.empty() && !modules.rows.empty();
  if (!s.rows.empty() || modules.rows.empty()) say_section(s, both);
  if (!modules.rows.empty()) say_section(modules, both);
  return kHeld;
}

}  // namespace

void say_section(const Section& section, bool several) {
  TextTable table(section.columns);
  for (const auto& row : section.rows) table.row(row);
  if (several)
    say(fmt::format("{}{}", colours_on(stdout) ? "\x1b[1m" + section.name + "\x1b[0m" : section.name,
                    table.empty() ? ": none\n" : ""));
  if (!table.empty()) put(stdout, table.text(width_of(stdout), colours_on(stdout)) + (several ? "\n" : ""));
}

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

int run_list(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const check::Loaded loaded =
      load_file(file, {.rules = {}, .harness = "", .bench_needed = false, .rated = false, .lint = false});
  print_diagnostics(loaded, file);
  if (!loaded.good()) return kWrongInput;
  if (loaded.program == nullptr) return list_models(arguments, loaded);
  const Program& p = *loaded.program;
  if (arguments.has(Option::timing)) return list_timing(p, arguments.has(Option::json));
  if (arguments.has(Option::timeline)) return list_timeline(arguments, p);
  const std::vector<Kind> kinds = kinds_of(loaded);
  const auto asked = asked_for(arguments, p, kinds);
  if (!asked) return kWrongInput;
  const bool json = arguments.has(Option::json);
  Json all = Json::object();
  if (arguments.has(Option::tree) && !json) {
    say_tree(p);
    return kHeld;
  }
  for (const std::string& name : asked->names) {
    const present::Facts facts = *facts_about(p, kinds, name);
    if (json) {
      all["names"].push_back(facts_json(name, facts));
    } else {
      say_facts(name, facts);
    }
  }
  for (const auto& [kind, section_of] : kinds) {
    const bool everything = arguments.words.size() == 1;
    const bool wanted = everything || std::find(asked->kinds.begin(), asked->kinds.end(), kind) != asked->kinds.end();
    if (!wanted) continue;
    const Section section = section_of();
    if (json) {
      all[kind] = section_json(section);
    } else {
      say_section(section, everything || arguments.words.size() > 2);
    }
  }
  if (json) say(all.dump(2, ' ', false, Json::error_handler_t::replace));
  return kHeld;
}

}  // namespace isodyne::app
