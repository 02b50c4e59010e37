#include "isodyne/bench/run_plan.h"
#include "isodyne/core/text.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/bench/door.h"
#include "isodyne/bench/fault_player.h"

namespace isodyne::bench {

const program::Setting* setting_of(const program::Controller& c, const std::string& name) {
  if (name.empty()) return c.settings.empty() ? nullptr : &c.settings.front();
  const auto found =
      std::find_if(c.settings.begin(), c.settings.end(), [&](const program::Setting& s) { return s.name == name; });
  return found == c.settings.end() ? nullptr : &*found;
}

namespace {
/// A fixed parameter is part of how the bench is put together, and what is computed has no value of its own.
std::optional<Failure> trouble_with(const program::Program& program, program::VarId id, double value) {
  using program::Role;
  const program::Variable& v = program.variable(id);
  const std::string what = fmt::format("cannot begin with another value of `{}`", v.name);
  if (v.role == Role::fixed_param)
    return Failure{what, "", "it is fixed: the bench is put together with it; change it in the text"};
  if (!program.startable(id))
    return Failure{what, "", "it is computed by the bench; states, memories, inputs and parameters are not"};
  const observe::Refusal refusal = fits(program, v, value);
  if (refusal == observe::Refusal::none) return std::nullopt;
  return Failure{fmt::format("`{}` cannot begin with {}", v.name, program.format(id, value)), "",
                 observe::refusal_text(refusal)};
}
}  // namespace

std::optional<Failure> trouble_with(const program::Program& program, const RunPlan& plan) {
  for (const auto& [id, value] : plan.overrides) {
    if (auto trouble = trouble_with(program, id, value)) return trouble;
  }
  if (plan.reference && !program.networks.empty())
    return Failure{"the reference integrates equations, and this bench has a network", "",
                   "compare it with a shorter step"};
  if (auto clash = clash_among(program, plan.faults, plan.scenario)) return clash;
  if (plan.scenario != program::kNone) {
    const program::Scenario& scenario = program.scenarios[static_cast<std::size_t>(plan.scenario)];
    if (!scenario.needs.empty())
      return Failure{fmt::format("scenario `{}` needs a value for `{}`", scenario.name, scenario.needs), "",
                     fmt::format("give the parameter a default, or do it from another scenario: do {}({} = …)",
                                 scenario.name, scenario.needs)};
  }
  for (const program::Controller& c : program.controllers) {
    if (const program::Setting* setting = setting_of(c, plan.setting)) {
      const program::PortKind& kind = program::port_kind(setting->kind);
      // It cannot wait for the plant.
      if (plan.pace || kind.pace != program::Pace::free) continue;
      return Failure{fmt::format("controller `{}` runs by its own clock under setting `{}` ({})", c.name, setting->name,
                                 kind.words),
                     "", "add --paced, so that the plant keeps to the wall clock too"};
    }
    std::string known;
    for (const program::Setting& s : c.settings) list_on(known, s.name);
    return Failure{fmt::format("controller `{}` has no setting `{}`", c.name, plan.setting), "",
                   fmt::format("it has {}", known)};
  }
  return std::nullopt;
}

}  // namespace isodyne::bench
