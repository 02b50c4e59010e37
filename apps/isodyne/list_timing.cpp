// list --timing: steps, methods and periods, and what is held between groups and at networks.

#include <algorithm>
#include <map>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/program/groups.h"
#include "list_section.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;

namespace {

using program::kNone;
using program::Program;
using program::Role;

/// Steps, methods and periods.
Section groups(const Program& p) {
  Section s{"groups", {{"Step"}, {"Method"}, {"Core"}, {"States", TextTable::Align::right}, {"Parts"}}, {}};
  for (std::size_t g = 0; g < p.groups.size(); ++g) {
    std::set<std::string> own;
    for (const program::Variable& v : p.variables) {
      const std::size_t dot = v.name.rfind('.');
      if (v.group == static_cast<std::int32_t>(g) && dot != std::string::npos && v.role != Role::hidden)
        own.insert(v.name.substr(0, dot));
    }
    std::string names = p.groups[g].step == p.step && p.groups[g].core == 0 && own.empty() ? "the bench itself" : "";
    for (const program::PartInfo& part : p.parts) {
      if (own.contains(part.path)) list_on(names, part.path);
    }
    s.rows.push_back({format_span(p.groups[g].step), program::method_word(p.groups[g].method),
                      std::to_string(p.groups[g].core), std::to_string(p.groups[g].states.size()), names});
  }
  return s;
}

Section periods(const Program& p) {
  Section s{"periods", {{"What"}, {"Period"}, {"Steps", TextTable::Align::right}}, {}};
  const auto add = [&](const std::string& what, Time period, Time step) {
    s.rows.push_back({what, format_span(period), std::to_string(period / step)});
  };
  add("recording", p.record_period(), p.step);
  for (std::size_t i = 1; i < p.recorded.size(); ++i) {
    const program::RecordGroup& g = p.recorded[i];
    if (g.judged || g.signals.empty()) continue;
    std::vector<std::string> names;
    for (const program::VarId id : g.signals) names.push_back(p.variable(id).name);
    if (names.size() > 3) names.resize(3), names.push_back("…");
    if (g.edges) {
      s.rows.push_back({"recording " + listed(names), "every edge", ""});
      continue;
    }
    add("recording " + listed(names), g.period, std::min(p.step, p.group_of(g.signals.front()).step));
  }
  for (const program::Sensor& x : p.sensors) {
    if (x.at != program::kNone)
      s.rows.push_back({"sensor " + x.name, p.sampling_text(x), ""});
    else
      add("sensor " + x.name, x.period, std::min(p.step, p.group_of(x.value).step));
  }
  for (const program::Controller& c : p.controllers) add("controller " + c.name, c.period, p.step);
  for (const program::PeriodicTask& x : p.periodic_tasks)
    add("every, " + p.sources->place(x.span), x.period, p.groups[static_cast<std::size_t>(x.group)].step);
  return s;
}

/// A value that a group reads of another is held from one instant of the slower of the two to the next; between cores,
/// from one instant of the bench to the next at least.
Section borders(const Program& p) {
  Section s{"borders",
            {{"From"},
             {"To"},
             {"Held for", TextTable::Align::right},
             {"Mean delay", TextTable::Align::right},
             {"Quantities"}},
            {}};
  std::map<std::pair<std::int32_t, std::int32_t>, std::set<std::string>> crossing;
  for (const program::Item& item : p.order) {
    if (item.kind == program::Item::Kind::periodic_task || item.kind == program::Item::Kind::tap) continue;
    const std::int32_t to = program::group_of(p, item);
    for (const program::NodeId value : program::values_of(p, item)) {
      for (const program::VarId id : p.reads(value)) {
        const program::Variable& v = p.variable(id);
        const bool moves = v.role == Role::state || v.role == Role::equation || v.role == Role::network;
        if (moves && v.group != to) crossing[{v.group, to}].insert(v.name);
      }
    }
  }
  const bool several =
      std::any_of(p.groups.begin(), p.groups.end(), [](const program::Group& g) { return g.core != 0; });
  const auto name = [&](std::int32_t g) {
    const program::Group& group = p.groups[static_cast<std::size_t>(g)];
    const std::string core = several ? fmt::format(", core {}", group.core) : "";
    return fmt::format("{} {}{}", program::method_word(group.method), format_span(group.step), core);
  };
  for (const auto& [ends, names] : crossing) {
    const program::Group &from = p.groups[static_cast<std::size_t>(ends.first)],
                         &to = p.groups[static_cast<std::size_t>(ends.second)];
    Time held = std::max(from.step, to.step);
    if (from.core != to.core) held = std::max(held, p.step);
    std::string all;
    for (const std::string& n : names) list_on(all, n);
    s.rows.push_back({name(ends.first), name(ends.second), format_span(held), format_span(held / 2), all});
  }
  return s;
}

/// Networks, and what of their inputs goes on within a step, or is held over it and so half of a step late on average.
Section networks(const Program& p) {
  Section s{"networks",
            {{"Network of"},
             {"Step"},
             {"Elements", TextTable::Align::right},
             {"Nodes", TextTable::Align::right},
             {"Goes on within a step"},
             {"Held over a step"}},
            {}};
  std::set<program::VarId> computed;  // by what moves within a run: what parameters alone say is not late
  for (const program::Item& item : p.order) {
    if (item.kind != program::Item::Kind::equation) continue;
    const program::Assignment& a = p.equations[static_cast<std::size_t>(item.index)];
    for (const program::VarId read : p.reads(a.value)) {
      const Role role = p.variable(read).role;
      const bool still = role == Role::param || role == Role::fixed_param || role == Role::input;
      if (computed.contains(read) || (!still && role != Role::equation)) computed.insert(a.target);
    }
  }
  for (const program::Network& n : p.networks) {
    std::string moving, held;
    for (const program::Network::Element& e : n.elements) {
      if (e.inputs.empty()) continue;
      const program::VarId id = e.inputs.front().id;
      const program::Variable& v = p.variable(id);
      if (v.type.kind != program::Type::Kind::real) continue;
      const bool goes_on =
          std::any_of(e.inputs.begin(), e.inputs.end(), [](const auto& q) { return q.name.ends_with(" later"); });
      if (goes_on) list_on(moving, v.name);
      if (!goes_on && computed.contains(id)) list_on(held, v.name);
    }
    s.rows.push_back({n.elements.front().path, format_span(at(p.groups, n.group).step),
                      std::to_string(n.elements.size()), std::to_string(n.nodes.size()), moving, held});
  }
  return s;
}

}  // namespace

int list_timing(const Program& p, bool json) {
  Json all = Json::object();
  for (const Section& section : {groups(p), periods(p), borders(p), networks(p)}) {
    if (json) {
      all[section.name] = section_json(section);
    } else if (!section.rows.empty()) {
      say_section(section, true);
    }
  }
  if (json) say(all.dump(2, ' ', false, Json::error_handler_t::replace));
  if (!json && p.groups.size() == 1 && p.networks.empty())
    say("One group: every quantity is computed at every step, and nothing is held.");
  return kHeld;
}

}  // namespace isodyne::app
