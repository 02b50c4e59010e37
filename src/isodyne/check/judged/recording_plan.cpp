#include "isodyne/check/judged/recording_plan.h"

#include <algorithm>
#include <map>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/program/quick.h"

namespace isodyne::check {

namespace {

/// Everything that can change and can be named.
std::vector<VarId> recordable(const Program& program) {
  std::set<VarId> changed;  // parameters that a scenario or a fault may change; of a live run others may
  for (const Tap& tap : program.taps) changed.insert(tap.target);
  for (const Scenario& s : program.scenarios) {
    for (const ScenarioStep& step : s.steps) changed.insert(step.target);
  }
  std::vector<VarId> ids;
  for (std::size_t i = 0; i < program.variables.size(); ++i) {  // not laid out yet: in the order of the text
    const auto id = static_cast<VarId>(i);
    const Role role = program.variable(id).role;
    const bool constant = program::is_parameter(role);
    const bool moves = !constant || changed.contains(id) || (program.live && role == Role::param);
    if (role == Role::time || role == Role::hidden || role == Role::measure || !moves) continue;
    ids.push_back(id);
  }
  return ids;
}

/// 100 ms, or the step where that is longer.
Time usual_period(Time step) {
  return step * std::max<std::int64_t>(1, std::chrono::milliseconds(100) / step);
}

class RecordingPlan {
 public:
  RecordingPlan(Check& check, Expressions& expressions, bool whole)
      : check_(check), p_(check.program), x_(expressions), whole_(whole), all_(recordable(p_)) {}

  void define(const lang::BenchDecl& bench) {
    p_.recorded.assign(1, {});
    p_.recorded.front().period = usual_period(p_.step);
    std::vector<std::int32_t> group_of(all_.size(), 0);
    Span first;
    for (const lang::RecordDecl& r : bench.records) {
      if (r.edges) {
        edges(r, group_of);
        continue;
      }
      std::int32_t group = r.every == nullptr ? kNever : 0;
      if (r.what.empty()) {
        if (first.end > 0) {
          check_
              .error(Code::duplicate, r.span, "a second statement says how everything else is recorded",
                     "name what it is about: `record motor.* every 1 ms`")
              .notes.push_back({first, "the first is here"});
          continue;
        }
        first = r.span;
      } else if (group != kNever) {
        group = static_cast<std::int32_t>(p_.recorded.size());
        p_.recorded.emplace_back();
      }
      if (group != kNever) describe(r, p_.recorded[static_cast<std::size_t>(group)]);
      for (std::size_t i = 0; i < all_.size(); ++i) {
        if (r.what.empty() ? group_of[i] == 0 : named(r, p_.variable(all_[i]).name)) group_of[i] = group;
      }
      for (const lang::Name& name : r.what) check_pattern(name);
    }
    for (std::size_t i = 0; i < all_.size(); ++i) {
      if (group_of[i] != kNever) p_.recorded[static_cast<std::size_t>(group_of[i])].signals.push_back(all_[i]);
    }
    const auto empty = [](const RecordGroup& g) { return g.signals.empty(); };
    p_.recorded.erase(std::remove_if(p_.recorded.begin() + 1, p_.recorded.end(), empty), p_.recorded.end());
    give_names();
    what_is_judged();
  }

 private:
  static constexpr std::int32_t kNever = -2;

  /// Gates at each of their edges: rows of their own, at the instants of the bench too.
  void edges(const lang::RecordDecl& r, std::vector<std::int32_t>& group_of) {
    if (r.what.empty()) {
      check_.error(Code::missing, r.span, "everything else has no edges", "name gates: `record drive.gate every edge`");
      return;
    }
    const auto group = static_cast<std::int32_t>(p_.recorded.size());
    RecordGroup& g = p_.recorded.emplace_back();
    g.period = p_.step;
    g.compressed = r.compressed;
    g.edges = true;
    for (const lang::Name& name : r.what) {
      bool any = false;
      VarId other = kNone;
      for (std::size_t i = 0; i < all_.size(); ++i) {
        if (!means(name.text, p_.variable(all_[i]).name)) continue;
        const std::int32_t gate = p_.gate_of(all_[i]);
        if (gate == kNone || at(p_.groups, at(p_.gates, gate).group).core != p_.group_of(kTime).core) {
          other = all_[i];
          continue;
        }
        group_of[i] = group;
        any = true;
      }
      if (any || (other == kNone && !whole_)) continue;
      // Gates are put together in a bench without mistakes; what is said of others would follow from those.
      if (other != kNone && p_.variable(other).gate && check_.diagnostics.has_errors()) continue;
      if (other == kNone) {
        check_pattern(name);
        continue;
      }
      check_.error(Code::wrong_kind, name.span,
                   fmt::format("`{}` has no edges of which the instants are known", p_.variable(other).name),
                   "edges are those of gates that are made, given or follow from such gates, on the core of the bench");
    }
  }

  /// Of what requirements read whatever does not have a row at every instant at which it is asked about anyway.
  void what_is_judged() {
    std::map<VarId, Time> read;  ///< how often it is asked about
    const QuickParts quick(p_);
    for (const Requirement& r : p_.requirements) {
      if (!r.measures.empty() || r.by_review) continue;  // measures are about stretches
      std::vector<NodeId> nodes{r.trigger, r.check, r.margin};
      for (const FormulaNode& n : r.nodes) nodes.insert(nodes.end(), {n.value, n.margin});
      const Time every = quick.asked_every(r);
      for (const NodeId n : nodes) {
        if (n == kNone) continue;
        for (const VarId id : p_.reads(n)) {
          const auto [known, fresh] = read.emplace(id, every);
          if (!fresh) known->second = std::min(known->second, every);
        }
      }
    }
    RecordGroup judged;
    judged.name = "judged";
    judged.period = p_.step;
    judged.judged = judged.windows = judged.compressed = true;
    judged.text = "around where each requirement was broken first and where it was worst";
    for (const RecordGroup& g : p_.recorded) {
      for (const VarId id : g.signals) {
        const auto asked = read.find(id);
        if (asked == read.end() || g.edges || (!g.windows && !g.single && g.period <= asked->second)) continue;
        judged.signals.push_back(id);
        judged.period = std::min(judged.period, asked->second);
      }
    }
    if (!judged.signals.empty()) p_.recorded.push_back(std::move(judged));
  }

  static bool named(const lang::RecordDecl& r, const std::string& name) {
    return std::any_of(r.what.begin(), r.what.end(), [&](const lang::Name& w) { return means(w.text, name); });
  }

  /// The name of a vector means all of its elements.
  static bool means(const std::string& pattern, const std::string& name) {
    const bool element = name.starts_with(pattern) && name.size() > pattern.size() && name[pattern.size()] == '[' &&
                         name.find(']') + 1 == name.size();
    return element || matches(pattern, name);
  }

  void check_pattern(const lang::Name& name) {
    std::vector<std::string> names;
    for (const VarId id : all_) {
      names.push_back(p_.variable(id).name);
      if (means(name.text, names.back())) return;
    }
    if (!whole_) return;
    const auto meant = did_you_mean(name.text, names);
    check_.error(Code::unknown_name, name.span, fmt::format("nothing that can be recorded is called `{}`", name.text),
                 meant.value_or("`*` stands for anything: `motor.*`"));
  }

  void describe(const lang::RecordDecl& r, RecordGroup& g) {
    g.period = period(r);
    g.single = r.single;
    g.compressed = r.compressed;
    g.windows = r.when != nullptr || r.broken;
    if (r.when != nullptr) g.when = x_.check_truth(*r.when, {&check_.root, nullptr}, "what the recording waits for");
    g.rises = r.rises;
    for (const lang::Name& name : r.requirements) requirement(name, g);
    if (r.before) g.before = x_.check_span(*r.before, {&check_.root, nullptr}, "the time before").value_or(Time{});
    if (r.after) g.after = x_.check_span(*r.after, {&check_.root, nullptr}, "the time after").value_or(Time{});
    if (g.windows && r.what.empty())
      check_.error(Code::missing, r.span, "everything else is recorded throughout",
                   "name what is recorded only around some instants: `record motor.* every 1 us when …`");
    if (g.before.count() / g.period.count() > kMostBefore)
      check_.error(Code::bad_period, r.before->span,
                   fmt::format("the time before is {} periods, and {} can be kept", g.before / g.period, kMostBefore));
    if (g.windows) g.text = p_.sources->in_one_line(r.around);
  }

  void requirement(const lang::Name& name, RecordGroup& g) {
    std::vector<std::string> names;
    for (std::size_t i = 0; i < p_.requirements.size(); ++i) {
      names.push_back(p_.requirements[i].name);
      if (names.back() == name.text) return g.requirements.push_back(static_cast<std::int32_t>(i));
    }
    const auto meant = did_you_mean(name.text, names);
    check_.error(Code::unknown_name, name.span, fmt::format("there is no requirement {}", name.text),
                 meant.value_or("leave it out: `when broken` is of any requirement"));
  }

  /// Between two instants of the bench there is something to be recorded of quick parts only, at their own instants.
  Time period(const lang::RecordDecl& r) {
    const lang::Expr& e = *r.every;
    const auto period = x_.check_span(e, {&check_.root, nullptr}, "the recording period");
    if (!period) return p_.step;
    const std::int64_t ns = period->count(), step = p_.step.count();
    if (ns > 0 && ns % step == 0) return *period;
    const bool divides = ns > 0 && step % ns == 0 && !r.what.empty();
    for (const VarId id : all_) {
      if (!divides || !named(r, p_.variable(id).name)) continue;
      const Time own = std::min(p_.step, p_.group_of(id).step);
      if (ns % own.count() == 0) continue;
      check_.error(Code::bad_period, e.span,
                   fmt::format("the recording period ({}) is not a whole multiple of the step of `{}` ({})",
                               format_span(*period), p_.variable(id).name, format_span(own)),
                   "only parts with a step of their own do something between two instants of the bench");
      return p_.step;
    }
    if (divides) return *period;
    check_.error(Code::bad_period, e.span,
                 fmt::format("the recording period ({}) is not a whole multiple of the step ({})", format_span(*period),
                             format_span(p_.step)),
                 fmt::format("for example {}", format_span(p_.step * std::max<std::int64_t>(1, *period / p_.step))));
    return p_.step;
  }

  /// "1ms", and "1ms_2" for a second one.
  void give_names() {
    std::set<std::string> taken;
    for (std::size_t i = 1; i < p_.recorded.size(); ++i) {
      std::string name = p_.recorded[i].edges ? "edges" : "";
      for (const char c : p_.recorded[i].edges ? std::string{} : format_span(p_.recorded[i].period)) {
        if (c == '\xc2') name += 'u';  // the micro sign
        if (c != ' ' && static_cast<unsigned char>(c) < 0x80) name += c;
      }
      const std::string base = name;
      for (int n = 2; !taken.insert(name).second; ++n) name = fmt::format("{}_{}", base, n);
      p_.recorded[i].name = name;
    }
  }

  static constexpr std::int64_t kMostBefore = 10'000'000;

  Check& check_;
  Program& p_;
  Expressions& x_;
  bool whole_;
  std::vector<VarId> all_;
};

}  // namespace

void define_recording(Check& check, Expressions& expressions, const lang::BenchDecl& bench, bool whole) {
  if (check.program.step.count() > 0) RecordingPlan(check, expressions, whole).define(bench);
}

}  // namespace isodyne::check
