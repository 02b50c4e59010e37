#include "isodyne/present/inquiry.h"

#include <algorithm>
#include <functional>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::present {

using program::kNone;
using program::NodeId;
using program::Program;
using program::Role;
using program::VarId;

namespace {
/// "2.5 mm", "-3", "9.81 m/s^2": a number with its unit stays as it was written.
bool is_literal(const std::string& text) {
  const std::size_t digit = text.starts_with("-") ? 1 : 0;
  if (text.size() <= digit || text[digit] < '0' || text[digit] > '9') return false;
  return std::count(text.begin(), text.end(), ' ') <= 1 && text.find('\n') == std::string::npos;
}
}  // namespace

std::optional<double> start_value(const Program& p, VarId id) {
  int depth = 0;
  std::function<std::optional<double>(VarId)> known = [&](VarId wanted) -> std::optional<double> {
    const auto start = std::find_if(p.start.begin(), p.start.end(), [&](const auto& a) { return a.target == wanted; });
    if (start == p.start.end() || depth > 20) return std::nullopt;
    ++depth;
    const auto value = program::fold(p, start->value, known);
    --depth;
    return value;
  };
  return known(id);
}

std::string start_text(const Program& p, VarId id) {
  for (const program::Assignment& a : p.start) {
    if (a.target != id) continue;
    const auto value = start_value(p, id);
    const std::string written(p.sources->covered(a.span));
    return value && !is_literal(written) ? p.format(id, *value) : one_line(written);
  }
  return "";
}

std::string limits_text(const Program& p, VarId id) {
  const program::Variable& v = p.variable(id);
  if (v.limits) return fmt::format("{} .. {}", p.format(id, v.limits->first), p.format(id, v.limits->second));
  for (const program::State& s : p.states) {
    if (s.value != id || s.lowest == kNone) continue;
    std::string text;
    for (const NodeId bound : {s.lowest, s.highest}) {
      const auto value = program::fold(p, bound, [](VarId) { return std::nullopt; });
      text += (text.empty() ? "" : " .. ") + (value ? p.format(id, *value) : std::string("…"));
    }
    return text;
  }
  return "";
}

namespace {

class Inquiry {
 public:
  Inquiry(const Program& p, VarId id) : p_(p), id_(id), read_as_(id) {
    for (const program::State& s : p.states) {
      if (s.value == id) rate_ = s.derivative;
    }
  }

  Facts run() {
    const program::Variable& v = p_.variable(id_);
    const char* role = program::role_text(v.role);
    add("what", fmt::format("{}{}", role != nullptr ? role : "bookkeeping", owner()));
    add("unit", p_.type_text(v));
    add("start", start_text(p_, id_));
    add("limits", limits_text(p_, id_));
    add("says", v.doc);
    add("declared", place(v.span));
    sources();
    readers();
    return std::move(facts_);
  }

 private:
  void add(const char* heading, const std::string& text) {
    if (!text.empty()) facts_.emplace_back(heading, text);
  }

  std::string place(Span span) const { return span.known() ? p_.sources->place(span) : ""; }
  std::string written(Span span) const {
    return fmt::format("{}: {}", p_.sources->place(span), p_.sources->in_one_line(span));
  }

  std::string owner() const {
    const std::string& name = p_.variable(id_).name;
    const std::size_t dot = name.rfind('.');
    if (dot == std::string::npos) return "";
    for (const program::PartInfo& part : p_.parts) {
      if (part.path == name.substr(0, dot)) return fmt::format(" of {} ({})", part.path, part.model);
    }
    return " of " + name.substr(0, dot);
  }

  void comes_from(Span span, const std::vector<NodeId>& nodes) {
    add("given by", written(span));
    std::set<VarId> reads;
    for (const NodeId node : nodes) {
      for (const VarId id : p_.reads(node)) reads.insert(id);
    }
    std::string all;
    for (const VarId id : reads) {
      if (program::role_text(p_.variable(id).role) != nullptr) list_on(all, p_.variable(id).name);
    }
    add("reads", all);
  }

  bool assigns(const std::vector<program::Assignment>& body) {
    bool found = false;
    for (const program::Assignment& a : body) {
      if (a.target != id_) continue;
      comes_from(a.span, {a.value});
      found = true;
    }
    return found;
  }

  void sources() {
    for (const program::Assignment& e : p_.equations) {
      if (e.target == id_ || e.target == rate_) comes_from(e.span, {e.value});
    }
    for (const program::PeriodicTask& s : p_.periodic_tasks) {
      if (assigns(s.body)) add("every", format_span(s.period));
    }
    for (const program::WhenBlock& w : p_.events) {
      if (assigns(w.body)) add("when", written(w.span));
    }
    for (const program::ImplicitEquation& s : p_.solves) {
      if (s.x == id_) comes_from(s.span, {s.residual});
    }
    for (const program::Network& n : p_.networks) {
      if (std::find(n.outputs.begin(), n.outputs.end(), id_) != n.outputs.end()) add("given by", network(n));
    }
    for (const program::StateMachine& m : p_.machines) {
      for (const auto* bodies : {&m.entry, &m.exit}) {
        for (const auto& body : *bodies) assigns(body);
      }
      if (m.mode != id_) continue;
      for (const program::Transition& t : m.transitions)
        add("goes", fmt::format("{} -> {} ({})", p_.format(id_, t.from), p_.format(id_, t.to), place(t.span)));
    }
    for (const program::Sensor& s : p_.sensors) {
      if (s.value == id_) add("measures", s.name + ".true " + p_.sampling_text(s));
    }
    for (const program::Controller& c : p_.controllers) {
      if (std::find(c.drives.begin(), c.drives.end(), id_) != c.drives.end())
        add("written by", c.name + " every " + format_span(c.period));
    }
    for (const program::Fault& f : p_.faults) {
      const std::vector<std::int32_t> taps = f.taps();
      if (std::any_of(taps.begin(), taps.end(), [&](std::int32_t t) { return program::at(p_.taps, t).target == id_; }))
        add("fault", fmt::format("{}: {} {}", f.name, program::fault_word(f.kind), f.amount_text));
    }
    for (const program::Scenario& s : p_.scenarios) {
      for (const program::Scenario::Start& start : s.start) {
        if (start.target == id_)
          add("set by", fmt::format("scenario {}: {}", s.name, p_.sources->in_one_line(start.span)));
      }
      for (const program::ScenarioStep& step : s.steps) {
        if (step.target == id_)
          add("set by", fmt::format("scenario {}: {}", s.name, p_.sources->in_one_line(step.span)));
      }
    }
  }

  /// "the network of load, out and 3 more nodes, every 10 us"
  std::string network(const program::Network& n) const {
    constexpr std::size_t kMost = 3;
    std::vector<std::string> nodes(n.nodes.begin() + 1, n.nodes.end());
    const std::size_t more = nodes.size() > kMost ? nodes.size() - kMost : 0;
    nodes.resize(nodes.size() - more);
    return fmt::format("the network of {}{}, every {}", listed(nodes),
                       more > 0 ? fmt::format(" and {} more", more) : "",
                       format_span(program::at(p_.groups, n.group).step));
  }

  bool reads_it(NodeId node) const {
    const auto reads = p_.reads(node);
    return std::find(reads.begin(), reads.end(), read_as_) != reads.end();
  }

  void readers() {
    std::set<std::string> names;
    const auto note = [&](NodeId node, const std::string& who) {
      if (node != kNone && reads_it(node)) names.insert(who);
    };
    for (const program::Assignment& e : p_.equations) {
      const std::string& name = p_.variable(e.target).name;
      note(e.value, name);
    }
    for (const program::PeriodicTask& s : p_.periodic_tasks) {
      for (const program::Assignment& a : s.body) {
        if (program::role_text(p_.variable(a.target).role) != nullptr) note(a.value, p_.variable(a.target).name);
      }
    }
    for (const program::WhenBlock& w : p_.events) note(w.condition, place(w.span));
    for (const program::ImplicitEquation& s : p_.solves) note(s.residual, p_.variable(s.x).name);
    for (const program::Delay& d : p_.delays) note(d.input, "a delay in " + place(d.span));
    for (const program::StateMachine& m : p_.machines) {
      for (const program::Transition& t : m.transitions) note(t.condition, p_.variable(m.mode).name);
    }
    for (const program::Requirement& r : p_.requirements) {
      note(r.check, "requirement " + r.name);
      note(r.trigger, "requirement " + r.name);
      for (const program::FormulaNode& node : r.nodes) note(node.value, "requirement " + r.name);
    }
    for (const program::Fault& f : p_.faults) {
      for (const NodeId node : {f.condition, f.amount, f.until}) note(node, "fault " + f.name);
      if (id_ == f.begin_given || id_ == f.lasting_given) names.insert("fault " + f.name);
    }
    for (const program::Scenario& s : p_.scenarios) {
      for (const program::ScenarioStep& step : s.steps) note(step.value, "scenario " + s.name);
    }
    for (const program::Controller& c : p_.controllers) {
      if (std::find(c.knows.begin(), c.knows.end(), id_) != c.knows.end()) names.insert("controller " + c.name);
    }
    for (const program::Network& n : p_.networks) {
      if (std::find(n.inputs.begin(), n.inputs.end(), id_) != n.inputs.end()) names.insert(network(n));
    }
    for (const program::Figure& f : p_.figures) {
      for (const auto& panel : f.panels) {
        if (std::find(panel.begin(), panel.end(), id_) != panel.end()) names.insert("figure " + f.name);
      }
    }
    std::string all;
    for (const std::string& name : names) list_on(all, name);
    add("read by", all.empty() ? "nobody" : all);
  }

  const Program& p_;
  VarId id_, read_as_, rate_ = kNone;
  Facts facts_;
};

}  // namespace

Facts facts_of(const Program& program, VarId id) {
  return Inquiry(program, id).run();
}

Facts facts_of_part(const Program& p, const std::string& path) {
  Facts facts;
  const auto part =
      std::find_if(p.parts.begin(), p.parts.end(), [&](const program::PartInfo& x) { return x.path == path; });
  if (part == p.parts.end()) return facts;
  facts.emplace_back("what", "part made of " + part->model);
  if (!part->doc.empty()) facts.emplace_back("says", part->doc);
  facts.emplace_back("declared", p.sources->place(part->span));
  const std::string prefix = path + ".";
  std::string inside;
  for (const program::PartInfo& other : p.parts) {
    if (other.path.starts_with(prefix) && other.path.find('.', prefix.size()) == std::string::npos)
      list_on(inside, other.path.substr(prefix.size()) + " : " + other.model);
  }
  if (!inside.empty()) facts.emplace_back("parts", inside);
  for (const program::VarId id : p.listed) {
    const program::Variable& v = p.variable(id);
    const bool own = v.name.starts_with(prefix) && v.name.find('.', prefix.size()) == std::string::npos;
    if (!own || program::role_text(v.role) == nullptr) continue;
    facts.emplace_back(program::role_text(v.role), fmt::format("{} : {}{}{}", v.name.substr(prefix.size()),
                                                               p.type_text(v), v.doc.empty() ? "" : "  ", v.doc));
  }
  return facts;
}

}  // namespace isodyne::present
