#include "isodyne/bench/reasons.h"

#include <cmath>

#include <fmt/format.h>

#include "isodyne/bench/time_constants.h"
#include "isodyne/core/text.h"

namespace isodyne::bench {

using program::at;
using Trouble = engine::PlantTrouble;

Reason wait_timed_out(const program::Program& p, const engine::PlantState& state, const program::ScenarioStep& step) {
  Reason r;
  r.ending = observe::Ending::wait_timed_out;
  r.text = fmt::format("{}: `{}` did not come true within {}", p.sources->place(step.span),
                       p.sources->in_one_line(step.span), format_span(step.duration));
  for (const program::VarId id : p.reads(step.value))
    r.details.push_back(fmt::format("{} is {}", p.variable(id).name, p.format(id, state[id])));
  return r;
}

Reason no_number(NumberWatch::Story story) {
  Reason r;
  r.ending = observe::Ending::diverged;
  r.text = fmt::format("at {} {}", format_instant(story.at), story.what);
  r.details = std::move(story.details);
  return r;
}

namespace {

/// What all explanations of a plant's trouble look at.
class PlantStory {
 public:
  PlantStory(engine::RunningPlant& plant, const engine::PlantState& state, const Trouble& trouble,
             const std::vector<std::pair<program::VarId, double>>& start)
      : plant_(plant), p_(plant.program()), state_(state), trouble_(trouble), start_(start) {}

  Reason tell() {
    reason_.ending = observe::Ending::diverged;
    switch (trouble_.kind) {
      case Trouble::Kind::endless_reversal:
        reversal();
        break;
      case Trouble::Kind::endless_events:
        events();
        break;
      case Trouble::Kind::no_solution:
        no_solution();
        break;
      case Trouble::Kind::singular:
        singular();
        break;
      case Trouble::Kind::stuck:
        stuck();
        break;
      case Trouble::Kind::network:
        network();
        break;
      case Trouble::Kind::not_finite:
      case Trouble::Kind::none:
        not_finite();
        break;
    }
    return std::move(reason_);
  }

 private:
  template <typename... Words>
  void detail(fmt::format_string<Words...> text, Words&&... words) {
    reason_.details.push_back(fmt::format(text, std::forward<Words>(words)...));
  }
  std::string now() const { return format_instant(state_.now); }
  const std::string& name_of(program::VarId id) const { return p_.variable(id).name; }

  void reversal() {
    const program::StateMachine& machine = at(p_.machines, trouble_.index);
    reason_.text = fmt::format(
        "`{}` has changed its mode at each of the last {} instants, up to {}: its conditions undo each other",
        name_of(machine.mode), engine::kMostReversals, now());
    for (const program::Transition& t : machine.transitions)
      detail("{}: {} -> {}", p_.sources->place(t.span), p_.format(machine.mode, t.from), p_.format(machine.mode, t.to));
  }

  void events() {
    reason_.text = fmt::format("at {} these `when` blocks set each other off without end", now());
    for (const std::int32_t e : engine::endless(state_)) {
      const Span span = at(p_.events, e).span;
      detail("{}: {}", p_.sources->place(span), p_.sources->in_one_line(span));
    }
  }

  void no_solution() {
    const program::ImplicitEquation& s = at(p_.solves, trouble_.index);
    reason_.text = fmt::format("the equation for `{}` has no solution that could be found at {}", name_of(s.x), now());
    detail("{}: {}", p_.sources->place(s.span), p_.sources->in_one_line(s.span));
    detail("the last value tried was {}", p_.format(s.x, trouble_.last_good));
  }

  void singular() {
    const program::Group& g = at(p_.groups, trouble_.index);
    reason_.text = fmt::format("the method `{}` could not step its equations at {}: {}", method_word(g.method), now(),
                               why_singular(g));
    for (const std::int32_t s : g.states) {
      const program::VarId id = at(p_.states, s).value;
      detail("{} is {}", name_of(id), p_.format(id, state_[id]));
    }
  }

  void network() {
    if (static_cast<std::size_t>(trouble_.index) >= p_.networks.size()) {
      reason_.text = fmt::format("it cannot go on at {}: {}", now(), plant_.networks().why_not(trouble_.index));
      return;
    }
    const program::Network& n = at(p_.networks, trouble_.index);
    const std::string who = n.elements.front().nodes.empty() ? fmt::format("`{}`", n.elements.front().path)
                                                             : "the network of " + listed(first_of(n.nodes));
    reason_.text = fmt::format("{} cannot go on at {}: {}", who, now(), plant_.networks().why_not(trouble_.index));
    reason_.details = plant_.networks().describe(trouble_.index, state_.network);
  }
  static std::vector<std::string> first_of(std::vector<std::string> nodes) {
    constexpr std::size_t kMost = 3;
    if (nodes.size() > 1 && nodes.front() == "ground") nodes.erase(nodes.begin());  // which all of them have
    if (nodes.size() > kMost) nodes.resize(kMost);
    return nodes;
  }

  /// Most often not the matrix is singular, but one of its slopes is none: that of a root at zero is infinite.
  std::string why_singular(const program::Group& g) {
    const std::size_t n = g.states.size();
    std::vector<double> jacobian(n * n), df_dt(n);
    engine::PlantState looked_at = state_;
    plant_.interpreter().slopes_of(static_cast<std::size_t>(trouble_.index), looked_at, jacobian.data(), df_dt.data());
    const auto state = [&](std::size_t i) -> const program::State& { return at(p_.states, g.states[i]); };
    for (std::size_t k = 0; k < n * n; ++k) {
      if (std::isfinite(jacobian[k])) continue;
      return fmt::format("how `{}` depends on `{}` is not a finite number there ({})", name_of(state(k / n).derivative),
                         name_of(state(k % n).value), p_.sources->place(state(k / n).equation));
    }
    for (std::size_t i = 0; i < n; ++i) {
      if (std::isfinite(df_dt[i])) continue;
      return fmt::format("how `{}` depends on time is not a finite number there ({})", name_of(state(i).derivative),
                         p_.sources->place(state(i).equation));
    }
    return "their matrix is singular";
  }

  void stuck() {
    const program::State& s = at(p_.states, trouble_.index);
    reason_.text = fmt::format("the adaptive solver cannot go on after {}: `{}`, then {}, changes too fast", now(),
                               name_of(s.value), p_.format(s.value, trouble_.last_good));
    detail("its equation is in {}", p_.sources->place(s.equation));
  }

  void not_finite() {
    const program::State& s = at(p_.states, trouble_.index);
    const Time next_instant = state_.now + p_.group_of(s.value).step;
    reason_.text = fmt::format("`{}` is no longer a finite number at {}; at {} it was {}", name_of(s.value),
                               format_instant(next_instant), now(), p_.format(s.value, trouble_.last_good));
    detail("its equation is in {}", p_.sources->place(s.equation));
    say_if_stiff(s.value);
  }

  /// What an explicit method cannot follow grows without bound, whatever the plant does.
  void say_if_stiff(program::VarId state) {
    const program::Group& g = p_.group_of(state);
    if (g.method == program::Method::implicit || g.method == program::Method::exact) return;
    auto quick = quickest_part(p_, {state_.now, state_.values.data()});
    if (!quick) {  // too large for slopes by now: as it began
      engine::PlantState start = plant_.start(start_);
      plant_.solve(start);
      quick = quickest_part(p_, {start.now, start.values.data()});
    }
    if (!quick || quick->shortest * 1.5 > to_seconds(g.step)) return;
    const auto shortest = time_from_seconds(quick->shortest);
    detail(
        "it is stiff: {} has a time constant of {}, and `{}` steps {} at once; take a smaller step or `implicit`, and "
        "ask `isodyne advise`",
        quick->part, shortest ? format_span(*shortest) : std::string("less than 1 ns"), method_word(g.method),
        format_span(g.step));
  }

  engine::RunningPlant& plant_;
  const program::Plant& p_;
  const engine::PlantState& state_;
  const Trouble& trouble_;
  const std::vector<std::pair<program::VarId, double>>& start_;
  Reason reason_;
};

}  // namespace

Reason plant_trouble(engine::RunningPlant& plant, const engine::PlantState& state, const Trouble& trouble,
                     const std::vector<std::pair<program::VarId, double>>& start) {
  return PlantStory(plant, state, trouble, start).tell();
}

std::string implicit_doubt(const program::Program& p, const engine::PlantState& plant_state) {
  const auto& [share, group, state, seconds, steps] = plant_state.doubt;
  if (steps == 0) return {};
  const program::Group& g = at(p.groups, static_cast<std::int32_t>(group));
  const program::State& s = at(p.states, at(g.states, static_cast<std::int32_t>(state)));
  return fmt::format(
      "The method `implicit` may be far off in {}: worst for `{}` at {}, by {:.3g} % of its value. A step of {} is too "
      "long for what happens there: make it smaller, or ask `isodyne advise`.",
      counted(static_cast<std::size_t>(steps), "step"), p.variable(s.value).name,
      format_instant(*time_from_seconds(seconds)), 100 * share, format_span(g.step));
}

std::string without_value(const program::Program& p, const NumberWatch::Missing& missing) {
  return fmt::format(
      "`{}` is without a value from {} on, at times at least: what it is computed from gives no finite number there. "
      "Nobody reads it.",
      p.variable(missing.id).name, format_instant(missing.first));
}

std::string refused_again(const program::Program& p, const observe::CommandOutcome& first, std::int64_t of) {
  const bool known =
      first.command.target > program::kSeed && static_cast<std::size_t>(first.command.target) < p.variables.size();
  return fmt::format("{} by hand could not be made again, the first at {}{}: {}.",
                     counted(static_cast<std::size_t>(of), "change"), format_instant(first.at),
                     known ? fmt::format(", of `{}`", p.variable(first.command.target).name) : "",
                     refusal_text(first.refusal));
}

std::string without_effect(const program::Program& p, std::int32_t fault) {
  const program::Fault& f = at(p.faults, fault);
  return fmt::format("Fault {} acted and changed nothing: `{}` was what it would have been without it.", f.name,
                     place_of(p, f));
}

}  // namespace isodyne::bench
