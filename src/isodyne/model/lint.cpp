#include "isodyne/model/lint.h"

#include <algorithm>
#include <unordered_set>

#include <fmt/format.h>

#include "isodyne/model/load.h"

namespace isodyne::model {

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
    for (const Tap& t : p.taps) touched_.insert(t.target);
    for (const Scenario& s : p.scenarios) {
      for (const ScenarioStep& step : s.steps) touched_.insert(step.target);
    }
  }

  void run() {
    note_use(check_.root);
    look_into(check_.root);
    frames();
  }

 private:
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
      for (const auto& e : instance.members.samplers) {
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

}  // namespace isodyne::model
