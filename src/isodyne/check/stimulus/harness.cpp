#include "isodyne/check/stimulus/harness.h"

#include <algorithm>
#include <set>

#include <fmt/format.h>

#include "isodyne/check/plant/networks.h"
#include "isodyne/core/text.h"

namespace isodyne::check {

namespace {

using lang::Expr;
using lang::Path;

template <typename List>
auto place_named(List& list, const std::string& name) {
  return std::find_if(list.begin(), list.end(), [&](const auto& x) { return x.name.text == name; });
}

template <typename List, typename Keep>
void keep_only(List& list, Keep keep) {
  list.erase(std::remove_if(list.begin(), list.end(), [&](const auto& x) { return !keep(x); }), list.end());
}

/// The first name that is gone and that an expression or a path needs; empty: there is none. What is given can be read,
/// but nobody else can set it.
class Needs {
 public:
  Needs(const std::set<std::string>& gone, const std::set<std::string>& given) : gone_(gone), given_(given) {}

  std::string of(const Path& p) const {
    return !p.parts.empty() && gone_.contains(p.parts[0].text) ? p.text() : std::string{};
  }
  std::string of(const lang::ExprPtr& e) const { return e ? of(*e) : std::string{}; }
  std::string of(const Expr& e) const {
    if (e.kind == lang::ExprKind::name) {
      if (const std::string own = of(e.path); !own.empty()) return own;
    }
    for (const lang::ExprPtr& a : e.args) {
      if (const std::string inner = of(*a); !inner.empty()) return inner;
    }
    return {};
  }
  std::string of(const std::vector<lang::ScenarioStep>& steps) const {
    for (const lang::ScenarioStep& s : steps) {
      for (const std::string& one : {to_set(s.target), of(s.value), of(s.duration)}) {
        if (!one.empty()) return one;
      }
      for (const Path& t : s.targets) {
        if (const std::string one = to_set(t); !one.empty()) return one;
      }
      for (const lang::ScenarioStep::Block& b : s.blocks) {
        if (const std::string one = of(b.steps); !one.empty()) return one;
      }
      using Kind = lang::ScenarioStep::Kind;
      const bool of_fault =
          s.kind == Kind::inject || s.kind == Kind::clear || s.kind == Kind::arm || s.kind == Kind::disarm;
      const std::string needed = of_fault                  ? s.name.text
                                 : s.kind == Kind::perform ? "scenario " + s.name.text
                                 : s.kind == Kind::load    ? "values " + s.name.text
                                                           : "";
      if (gone_.contains(needed)) return s.name.text;
    }
    return {};
  }
  /// Of what a scenario sets.
  std::string to_set(const Path& p) const {
    return p.plain() && given_.contains(p.parts[0].text) ? p.text() + ", which the harness gives" : of(p);
  }
  template <typename... All>
  std::string any(const All&... all) const {
    std::string first;
    ((first = first.empty() ? of(all) : first), ...);
    return first;
  }

 private:
  const std::set<std::string>&gone_, &given_;
};

class Harness {
 public:
  Harness(lang::Document& document, const lang::HarnessDecl& h, Diagnostics& diagnostics, LeftOut& left_out)
      : d_(document), h_(h), diagnostics_(diagnostics), left_out_(left_out), bench_(d_.benches.front()) {}

  bool run() {
    const bool part = place_named(bench_.parts, h_.of.text) != bench_.parts.end();
    const bool controller = place_named(bench_.controllers, h_.of.text) != bench_.controllers.end();
    if (!part && !controller) {
      std::vector<std::string> names;
      for (const auto& p : bench_.parts) names.push_back(p.name.text);
      for (const auto& c : bench_.controllers) names.push_back(c.name.text);
      const auto meant = did_you_mean(h_.of.text, names);
      diagnostics_.error(Code::unknown_name, h_.of.span,
                         fmt::format("the bench has no part and no controller `{}`", h_.of.text), meant.value_or(""));
      return false;
    }
    if (part && refused()) return false;
    if (controller && place_named(bench_.controllers, h_.of.text)->count) {
      diagnostics_.error(Code::wrong_kind, h_.of.span,
                         fmt::format("`{}` is an array of controllers, and a harness takes one", h_.of.text),
                         "write a bench with one of them");
      return false;
    }
    note_all();
    const std::size_t errors = diagnostics_.errors();
    part ? take_part() : take_controller();
    drop_the_rest();
    return diagnostics_.errors() == errors;
  }

 private:
  /// At the terminals of a part alone nothing would lie, and nothing would flow.
  bool refused() {
    const auto model = place_named(d_.models, place_named(bench_.parts, h_.of.text)->model.text);
    if (model == d_.models.end() || !has_terminals(*model)) return false;
    diagnostics_.error(Code::wrong_kind, h_.of.span,
                       fmt::format("`{}` has terminals, and nothing lies at them in a harness", h_.of.text),
                       "write a bench with what it is to be joined with");
    return true;
  }

  template <typename List>
  void note(const List& list) {
    for (const auto& x : list) gone_.insert(x.name.text);
  }
  void note_all() {
    note(bench_.variables);
    note(bench_.places);
    note(bench_.parts);
    note(bench_.sensors);
    note(bench_.actuators);
    note(bench_.frames);
    note(bench_.controllers);
    note(bench_.messages);
    note(bench_.modes);
    for (const lang::RackDecl& r : bench_.racks) {
      for (const lang::RackDecl::Slot& s : r.slots) {
        for (const lang::RackDecl::Channel& c : s.channels) gone_.insert(c.name.text);
      }
    }
  }
  void stays(const std::string& name) { gone_.erase(name); }

  /// What happens at the borders is given; the part keeps its own parameters.
  void take_part() {
    keep_only(bench_.parts, [&](const lang::PartDecl& p) { return p.name.text == h_.of.text; });
    stays(h_.of.text);
    keep_free_inputs();
    clear_members();
    for (const lang::HarnessDecl::Given& g : h_.given) {
      lang::Equation& e = bench_.equations.emplace_back();
      e.target = Path(h_.of);
      for (const lang::PathStep& step : g.target.parts) e.target.parts.push_back(step);
      e.target.span = g.target.span;
      e.value = lang::clone(*g.value);
    }
    // Sensors that look at nothing but the part stay.
    keep_only(bench_.sensors, [&](const lang::SensorDecl& s) { return Needs(gone_, given_).of(s.of).empty(); });
    for (const lang::SensorDecl& s : bench_.sensors) stays(s.name.text);
    bench_.actuators.clear();
    bench_.frames.clear();
    bench_.controllers.clear();
    bench_.messages.clear();
    trim_racks();
  }

  /// Its sensors measure what is given; what it writes goes nowhere.
  void take_controller() {
    keep_only(bench_.controllers, [&](const lang::ControllerDecl& c) { return c.name.text == h_.of.text; });
    const lang::ControllerDecl& c = bench_.controllers.front();
    stays(c.name.text);
    bench_.parts.clear();
    keep_free_inputs();
    clear_members();
    std::set<std::string> reads, writes;
    for (const auto& r : c.reads) reads.insert(r.path.parts.back().text);
    for (const auto& w : c.writes) writes.insert(w.name.text);
    for (const lang::FrameDecl& f : bench_.frames) {
      if (!reads.contains(f.name.text) && !writes.contains(f.name.text)) continue;
      for (const auto& field : f.fields) (reads.contains(f.name.text) ? reads : writes).insert(field.name.text);
    }
    keep_only(bench_.actuators, [&](const lang::ActuatorDecl& a) { return writes.contains(a.name.text); });
    for (const lang::ActuatorDecl& a : bench_.actuators) stays(a.name.text);
    keep_only(bench_.frames,
              [&](const lang::FrameDecl& f) { return reads.contains(f.name.text) || writes.contains(f.name.text); });
    for (const lang::FrameDecl& f : bench_.frames) stays(f.name.text);
    keep_only(bench_.sensors, [&](const lang::SensorDecl& s) { return reads.contains(s.name.text); });
    for (lang::SensorDecl& s : bench_.sensors) {
      stays(s.name.text);
      const lang::Expr* given = given_for(s.name.text);
      if (given != nullptr)
        s.of = lang::clone(*given);
      else
        missing(s.name.text);
    }
    for (const lang::HarnessDecl::Given& g : h_.given) give_input(g);
    trim_racks();
  }

  const lang::Expr* given_for(const std::string& name) const {
    for (const lang::HarnessDecl::Given& g : h_.given) {
      if (g.target.plain() && g.target.parts[0].text == name) return g.value.get();
    }
    return nullptr;
  }
  void missing(const std::string& name) {
    diagnostics_.error(
        Code::missing, h_.name.span, fmt::format("harness `{}` gives nothing for `{}`", h_.name.text, name),
        fmt::format("add `{} = …`: a constant, a formula of time, or `from \"RUN\" column \"NAME\"`", name));
  }
  /// A free input of the bench that is given follows what is given.
  void give_input(const lang::HarnessDecl::Given& g) {
    const std::string& name = g.target.parts[0].text;
    if (place_named(bench_.sensors, name) != bench_.sensors.end()) return;
    const auto input = place_named(bench_.variables, name);
    if (input == bench_.variables.end() || !g.target.plain()) {
      diagnostics_.error(Code::unknown_name, g.target.span,
                         fmt::format("`{}` reads nothing called `{}`", h_.of.text, g.target.text()));
      return;
    }
    input->kind = lang::VarKind::let;
    input->given = true;
    given_.insert(name);
    input->value = lang::clone(*g.value);
  }

  void keep_free_inputs() {
    keep_only(bench_.variables, [](const lang::VarDecl& v) {
      return v.kind == lang::VarKind::input || v.kind == lang::VarKind::param || v.kind == lang::VarKind::fixed_param;
    });
    for (const lang::VarDecl& v : bench_.variables) stays(v.name.text);
  }
  void clear_members() {
    bench_.places.clear();
    bench_.equations.clear();
    bench_.modes.clear();
    bench_.periodic_tasks.clear();
    bench_.events.clear();
    bench_.solves.clear();
    bench_.loops.clear();
    bench_.variants.clear();
    bench_.rated.clear();
  }
  /// Channels of racks whose signals are gone; a rack that makes a signal itself goes with them.
  void trim_racks() {
    for (lang::RackDecl& r : bench_.racks) {
      for (lang::RackDecl::Slot& s : r.slots)
        keep_only(s.channels, [&](const lang::RackDecl::Channel& c) { return !gone_.contains(c.name.text); });
    }
  }

  template <typename List, typename Need>
  bool drop(List& list, const char* what, Need need) {
    const std::size_t before = list.size();
    keep_only(list, [&](const auto& x) {
      const std::string needs = need(x);
      if (needs.empty()) return true;
      // Scenarios and sets of values have names of their own kind.
      const bool apart = what == std::string("scenario") || what == std::string("values");
      gone_.insert(apart ? fmt::format("{} {}", what, x.name.text) : x.name.text);
      left_out_.push_back(fmt::format("{} {} (needs {})", what, x.name.text, needs));
      return false;
    });
    return list.size() != before;
  }

  /// What speaks of what is gone goes too, and what speaks of that.
  void drop_the_rest() {
    const Needs n(gone_, given_);
    for (bool again = true; again;) {
      again = drop(d_.conditions, "condition", [&](const lang::ConditionDecl& c) { return n.of(c.value); });
      again = drop(d_.faults, "fault",
                   [&](const lang::FaultDecl& f) {
                     return n.any(f.target, f.amount, f.condition, f.until, f.other ? *f.other : Path{});
                   }) ||
              again;
      again =
          drop(d_.measures, "measure",
               [&](const lang::MeasureDecl& m) { return n.any(m.of, m.to, m.within, m.begin, m.until, m.against); }) ||
          again;
      again = drop(d_.values, "values",
                   [&](const lang::ValuesDecl& v) {
                     for (const auto& value : v.values) {
                       if (const std::string one = n.to_set(value.target); !one.empty()) return one;
                       if (const std::string one = n.of(value.value); !one.empty()) return one;
                     }
                     return std::string{};
                   }) ||
              again;
      again = drop(d_.scenarios, "scenario", [&](const lang::ScenarioDecl& s) { return n.of(s.steps); }) || again;
    }
    drop(d_.requirements, "requirement",
         [&](const lang::RequirementDecl& r) { return n.any(r.trigger, r.check, r.within); });
    drop(d_.expectations, "expectation", [&](const lang::ExpectationDecl& e) {
      std::string first = n.of(e.act);
      for (const auto& row : e.rows) {
        for (const Path& p : row.on) first = first.empty() ? n.of(p) : first;
      }
      return first;
    });
    for (lang::FigureDecl& f : d_.figures) {
      for (auto& panel : f.panels) keep_only(panel, [&](const Path& p) { return n.of(p).empty(); });
      keep_only(f.panels, [](const std::vector<Path>& panel) { return !panel.empty(); });
    }
    keep_only(d_.figures, [](const lang::FigureDecl& f) { return !f.panels.empty(); });
    for (lang::PanelDecl& p : d_.panels) {
      keep_only(p.items, [&](const lang::PanelDecl::Item& i) {
        return std::all_of(i.what.begin(), i.what.end(), [&](const Path& path) { return n.of(path).empty(); });
      });
    }
    keep_only(d_.panels, [](const lang::PanelDecl& p) { return !p.items.empty(); });
    keep_only(d_.compositions, [&](const lang::ComposeDecl& c) {
      return std::none_of(c.faults.begin(), c.faults.end(),
                          [&](const lang::Name& f) { return gone_.contains(f.text); });
    });
    d_.campaigns.clear();
    d_.failure_modes.clear();
    d_.basic_events.clear();
    d_.hazards.clear();
    d_.cables.clear();
    d_.wirings.clear();
  }

  lang::Document& d_;
  const lang::HarnessDecl& h_;
  Diagnostics& diagnostics_;
  LeftOut& left_out_;
  lang::BenchDecl& bench_;
  std::set<std::string> gone_;   ///< names of the bench that are not there any more
  std::set<std::string> given_;  ///< inputs of the bench that are computed here
};

}  // namespace

bool apply_harness(lang::Document& document, const std::string& name, Diagnostics& diagnostics, LeftOut& left_out) {
  const auto found = place_named(document.harnesses, name);
  if (found == document.harnesses.end() || document.benches.empty()) {
    std::vector<std::string> names;
    for (const lang::HarnessDecl& h : document.harnesses) names.push_back(h.name.text);
    const auto meant = did_you_mean(name, names);
    diagnostics.error(Code::unknown_name, {}, fmt::format("there is no harness `{}`", name),
                      meant           ? *meant
                      : names.empty() ? "the bench declares none"
                                      : std::string{});
    return false;
  }
  return Harness(document, *found, diagnostics, left_out).run();
}

}  // namespace isodyne::check
