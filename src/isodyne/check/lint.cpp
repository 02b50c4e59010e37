#include "isodyne/check/lint.h"
#include "isodyne/core/text.h"

#include <algorithm>
#include <unordered_map>
#include <unordered_set>

#include <fmt/format.h>

#include "isodyne/check/load.h"
#include "isodyne/program/interval.h"
#include "isodyne/program/nodes.h"

namespace isodyne::check {

namespace {

class Lint {
 public:
  Lint(Check& check, const std::vector<std::string>& relative) : check_(check), relative_(relative) {
    for (const Node& n : check.program.nodes) {
      if (n.op == Op::variable) read_.insert(n.variable);
    }
    const Program& p = check.program;
    for (const Controller& c : p.controllers) read_.insert(c.knows.begin(), c.knows.end());
    for (const Figure& f : p.figures) {
      for (const auto& panel : f.panels) read_.insert(panel.begin(), panel.end());
    }
    for (const Panel& panel : p.panels) {
      for (const PanelItem& item : panel.items) {
        read_.insert(item.ids.begin(), item.ids.end());
        touched_.insert(item.ids.begin(), item.ids.end());
      }
    }
    for (const Campaign& c : p.campaigns) {
      for (const Campaign::Vary& v : c.varied) touched_.insert(v.what);
    }
    for (const Tap& t : p.taps) touched_.insert(t.target);
    for (const Scenario& s : p.scenarios) {
      for (const ScenarioStep& step : s.steps) touched_.insert(step.target);
    }
  }

  void run() {
    note_use(check_.root);
    look_into(check_.root);
    frames();
    channels();
    for (const Requirement& r : check_.program.requirements) requirement(r);
    settled_parameters();
  }

 private:
  /// A channel that ends in nothing was forgotten somewhere.
  void channels() {
    const Program& p = check_.program;
    std::unordered_set<VarId> driven;
    for (const Controller& c : p.controllers) driven.insert(c.drives.begin(), c.drives.end());
    std::unordered_set<std::int32_t> sent, received;
    for (const Cables& c : p.cables) {
      for (const Cable& cable : c.cables) {
        received.insert(cable.sensor);
        sent.insert(cable.actuator);
      }
    }
    for (std::size_t i = 0; i < p.actuators.size(); ++i) {
      const Actuator& a = p.actuators[i];
      given_beyond_range(a);
      const bool written = driven.contains(a.value) || touched_.contains(a.value) ||
                           sent.contains(static_cast<std::int32_t>(i)) || !own_text(a.span);
      if (written) continue;
      warn(Code::unconnected, a.span,
           fmt::format("nothing writes actuator `{}`, so it stays at {}", a.name, p.format(a.value, a.start)),
           fmt::format("write `writes {}` into a controller, or set it in a scenario", a.name));
    }
    for (std::size_t i = 0; i < p.sensors.size(); ++i) {
      const Sensor& s = p.sensors[i];
      beyond_range(s);
      const bool read = read_.contains(s.value) || (s.counts != kNone && read_.contains(s.counts)) ||
                        (s.signal != kNone && read_.contains(s.signal)) ||
                        received.contains(static_cast<std::int32_t>(i)) || in_frame(s) || !own_text(s.span);
      if (read) continue;
      warn(Code::unused, s.span, fmt::format("nothing reads sensor `{}`", s.name),
           fmt::format("write `reads {}` into a controller, draw it, or judge it in a requirement", s.name));
    }
  }

  /// A constant that its channel cannot hold was meant in another unit, or for another channel.
  void beyond_range(const Sensor& s) {
    const Program& p = check_.program;
    if (!s.range || !s.on) return;
    const auto equation =
        std::find_if(p.equations.begin(), p.equations.end(), [&](const Assignment& e) { return e.target == s.truth; });
    if (equation == p.equations.end()) return;
    const auto value = fold(p, equation->value, [](VarId) { return std::nullopt; });
    if (!value || (*value >= s.range->first && *value <= s.range->second)) return;
    warn(Code::out_of_limits, s.span,
         fmt::format("sensor `{}` always gets {}, which is outside its range of {} to {}", s.name,
                     p.format(s.truth, *value), p.format(s.truth, s.range->first), p.format(s.truth, s.range->second)),
         "correct the value or the range");
  }

  /// The same of what an actuator gets from somebody else than a controller. (Where it has counts, they are checked.)
  void given_beyond_range(const Actuator& a) {
    const Program& p = check_.program;
    if (!a.range || !a.on) return;
    const auto beyond = [&](double value) { return value < a.range->first || value > a.range->second; };
    const auto say = [&](const std::string& what, Span where) {
      warn(Code::out_of_limits, where,
           fmt::format("{}, which is outside its range of {} to {}", what, p.format(a.value, a.range->first),
                       p.format(a.value, a.range->second)),
           "correct the value or the range");
    };
    std::string given;
    if (a.start != 0 && beyond(a.start))  // 0: perhaps nobody wrote it
      given = fmt::format("starts at {}", p.format(a.value, a.start));
    if (a.safe && beyond(*a.safe))
      given += fmt::format("{}has the safe value {}", given.empty() ? "" : " and ", p.format(a.value, *a.safe));
    if (!given.empty()) say(fmt::format("actuator `{}` {}", a.name, given), a.span);
    for (const Scenario& s : p.scenarios) {
      for (const ScenarioStep& step : s.steps) {
        const bool sets = step.kind == ScenarioStep::Kind::set || step.kind == ScenarioStep::Kind::ramp;
        if (!sets || step.target != a.value || step.value == kNone) continue;
        const auto value = fold(p, step.value, [](VarId) { return std::nullopt; });
        if (value && beyond(*value))
          say(fmt::format("actuator `{}` becomes {}", a.name, p.format(a.value, *value)), step.span);
      }
    }
  }

  bool in_frame(const Sensor& s) const {
    const auto& frames = check_.program.frames;
    return std::any_of(frames.begin(), frames.end(), [&](const Frame& f) {
      return std::any_of(f.fields.begin(), f.fields.end(), [&](const FrameField& field) {
        return field.of != kNone && (field.of == s.value || field.of == s.counts || field.of == s.signal);
      });
    });
  }

  /// What states that are limited cannot break is no test: 1 at every instant of every run.
  void requirement(const Requirement& r) {
    if (r.form != Requirement::Form::always || !r.nodes.empty() || r.within || !r.measures.empty() || r.by_review ||
        r.check == kNone || !own_text(r.span))
      return;
    if (!range_of(r.check).surely()) return;
    std::string why;
    for (const VarId id : check_.program.reads(r.check)) {
      const Interval limits = limits_of(id);
      if (limits.unknown() || check_.state_of.count(id) == 0) continue;
      list_on(why, fmt::format("`{}` is limited to {} .. {}", check_.program.variable(id).name,
                               check_.program.format(id, limits.low), check_.program.format(id, limits.high)));
    }
    if (why.empty()) return;  // of constants only: the condition is reported as such
    warn(Code::constant_condition, r.span, fmt::format("requirement `{}` cannot be broken: {}", r.name, why),
         "judge what would have gone beyond the limit, or take a bound within it");
  }

  /// What a state can be, where it has limits that do not move.
  Interval limits_of(VarId id) const {
    const auto state = check_.state_of.find(id);
    if (state == check_.state_of.end()) return {};
    const State& s = check_.program.states[state->second];
    if (s.lowest == kNone) return {};
    const auto known = [&](VarId read) { return check_.first_value(read); };
    const auto low = fold(check_.program, s.lowest, known), high = fold(check_.program, s.highest, known);
    return low && high ? Interval{*low, *high} : Interval{};
  }

  Interval range_of(NodeId root) const {
    if (root == kNone) return {};
    const Program& p = check_.program;
    std::unordered_map<NodeId, Interval> ranges;
    const auto known = [&](NodeId id) { return id == kNone ? Interval{} : ranges.at(id); };
    const auto operands = [&](NodeId id) -> std::vector<NodeId> { return {p.node(id).a, p.node(id).b, p.node(id).c}; };
    for (const NodeId id : operands_first(root, operands)) {
      const Node& n = p.node(id);
      ranges[id] = n.op == Op::constant   ? Interval{n.value, n.value}
                   : n.op == Op::variable ? limits_of(n.variable)
                                          : over(n.op, known(n.a), known(n.b), known(n.c));
    }
    return ranges.at(root);
  }

  /// A parameter that was computed from another one stays, whatever becomes of the other one.
  void settled_parameters() {
    const Program& p = check_.program;
    for (const Assignment& a : p.start) {
      const Role role = p.variable(a.target).role;
      if (role != Role::param || !own_text(a.span)) continue;
      for (const VarId read : p.reads(a.value)) {
        if (p.variable(read).role != Role::param || !touched_.contains(read)) continue;
        warn(Code::frozen, a.span,
             fmt::format("`{}` is computed from `{}` once, at the start; a scenario or a fault changes `{}` later, and "
                         "`{}` does not follow",
                         p.variable(a.target).name, p.variable(read).name, p.variable(read).name,
                         p.variable(a.target).name),
             "if it should follow, make it an `input` and connect it");
        break;
      }
    }
  }

  /// A frame that nobody exchanges is a forgotten line in a controller.
  void frames() {
    const Program& p = check_.program;
    std::unordered_set<std::int32_t> used;
    for (const Controller& c : p.controllers) {
      for (const FrameUse& u : c.read_frames) used.insert(u.frame);
      for (const FrameUse& u : c.write_frames) used.insert(u.frame);
    }
    for (std::size_t i = 0; i < p.frames.size(); ++i) {
      const Frame& f = p.frames[i];
      if (used.contains(static_cast<std::int32_t>(i)) || !own_text(f.span)) continue;
      warn(Code::unused, f.span, fmt::format("no controller exchanges frame `{}`", f.name),
           fmt::format("write `{} {}` into a controller", f.to_controller ? "reads" : "writes", f.name));
    }
  }

  bool own_text(Span span) const {
    return span.known() && !relative_[static_cast<std::size_t>(span.source)].starts_with(kLibraryMark);
  }

  void warn(Code code, Span span, std::string message, std::string advice) {
    check_.diagnostics.warning(code, span, std::move(message), std::move(advice));
  }

  void look_into(const Instance& instance) {
    if (instance.decl == nullptr) return;
    if (own_text(instance.decl->name.span)) {
      for (const auto& v : instance.members.variables) quantity(instance, *v.decl);
      for (const auto& e : instance.members.equations) expression(instance, *e.decl->value);
      for (const auto& v : instance.members.variables) {
        if (v.decl->value) expression(instance, *v.decl->value);
      }
      for (const auto& w : instance.members.events) {
        condition(*w.decl->condition, "this `when`");
        actions(instance, w.decl->actions);
      }
      for (const auto& m : instance.members.modes) machine(*m.decl);
      for (const auto& e : instance.members.periodic_tasks) {
        actions(instance, e.decl->actions);
      }
    }
    for (const auto& [name, part] : instance.parts) look_into(*part);
  }

  void actions(const Instance& instance, const std::vector<lang::Action>& list) {
    for (const lang::Action& a : list) {
      if (a.kind == lang::Action::Kind::branch) condition(*a.value, "this `if`");
      if (a.value) expression(instance, *a.value);
      actions(instance, a.body);
      actions(instance, a.otherwise);
    }
  }

  template <typename Set>
  bool any_of(const Instance& instance, const std::string& name, const Set& set) const {
    const auto vector = instance.vectors.find(name);
    if (vector == instance.vectors.end()) {
      const auto one = instance.variables.find(name);
      return one == instance.variables.end() || set.contains(one->second);
    }
    for (int i = 0; i < vector->second.size; ++i) {
      if (set.contains(vector->second.first + i)) return true;
    }
    return false;
  }

  /// A quantity of a model is in use if it is in any of the parts made of it.
  void note_use(const Instance& instance) {
    if (instance.decl == nullptr) return;
    for (const auto& v : instance.members.variables) {
      if (any_of(instance, v.decl->name.text, read_) || any_of(instance, v.decl->name.text, touched_))
        used_.insert(v.decl);
    }
    for (const auto& [name, part] : instance.parts) note_use(*part);
  }

  void quantity(const Instance& instance, const lang::VarDecl& v) {
    const std::string& name = v.name.text;
    const bool touched = any_of(instance, name, touched_);
    const bool used = used_.contains(&v);
    if (v.kind == lang::VarKind::param && !used) {  // a fixed one may be a size, which leaves no trace
      warn(Code::unused, v.name.span,
           fmt::format("parameter `{}` of `{}` changes nothing", name, instance.decl->name.text),
           "use it in an equation, or take it away");
    } else if (v.kind == lang::VarKind::input && instance.parent != nullptr && used && !driven(instance, name) &&
               !touched) {
      warn(Code::unconnected, instance.part->name.span,
           fmt::format("nothing is connected to input `{}{}`, so it keeps its default", instance.prefix, name),
           fmt::format("connect it: `{}{} = …`", instance.prefix, name));
    } else if (v.is_output && v.kind == lang::VarKind::output && !v.is_private && instance.parent != nullptr && !used) {
      warn(Code::unused, v.name.span, fmt::format("nothing reads output `{}` of `{}`", name, instance.decl->name.text),
           "connect it, measure it, or judge it in a requirement");
    }
  }

  bool driven(const Instance& instance, const std::string& name) const {
    const auto vector = instance.vectors.find(name);
    const VarId first = vector != instance.vectors.end() ? vector->second.first : instance.variables.at(name);
    return check_.defined.contains(first);
  }

  void machine(const lang::ModesDecl& m) {
    for (const lang::Transition& t : m.transitions) {
      if (t.condition) condition(*t.condition, "this transition");
    }
  }

  static bool has_names(const lang::Expr& e) {
    const bool looks = e.kind == lang::ExprKind::name || e.kind == lang::ExprKind::at_limit ||
                       e.kind == lang::ExprKind::becomes_active;
    return looks || std::any_of(e.args.begin(), e.args.end(), [](const auto& a) { return has_names(*a); });
  }

  void condition(const lang::Expr& e, const char* whose) {
    if (has_names(e)) return;
    warn(Code::constant_condition, e.span, fmt::format("the condition of {} is always the same", whose),
         "name the quantity that it depends on");
  }

  void expression(const Instance& instance, const lang::Expr& e) {
    if (e.kind == lang::ExprKind::conditional) condition(*e.args[0], "this `if`");
    if (e.kind == lang::ExprKind::binary && e.word == "/") divisor(instance, *e.args[1]);
    for (const lang::ExprPtr& arg : e.args) expression(instance, *arg);
  }

  void divisor(const Instance& instance, const lang::Expr& e) {
    if (e.kind == lang::ExprKind::binary && (e.word == "*" || e.word == "^")) {
      for (const lang::ExprPtr& arg : e.args) divisor(instance, *arg);
      return;
    }
    if (e.kind != lang::ExprKind::name || !e.path.plain()) return;
    const auto id = instance.variables.find(e.word);
    const auto state = id == instance.variables.end() ? check_.state_of.end() : check_.state_of.find(id->second);
    if (state == check_.state_of.end() || check_.program.states[state->second].lowest != kNone) return;
    warn(Code::may_divide_by_zero, e.span, fmt::format("state `{}` has no limits and may become zero here", e.word),
         fmt::format("limit it, `state {0} : unit = …  limited low .. high`, or divide by `max({0}, low)`", e.word));
  }

  Check& check_;
  const std::vector<std::string>& relative_;
  std::unordered_set<VarId> read_, touched_;
  std::unordered_set<const lang::VarDecl*> used_;
};

}  // namespace

void lint(Check& check, const std::vector<std::string>& relative) {
  Lint(check, relative).run();
}

}  // namespace isodyne::check
